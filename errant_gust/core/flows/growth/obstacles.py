"""Keep off: shapes that a growing volume does not enter, or does not leave."""

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows.growth.steps import GrowthStep
from errant_gust.core.flows.step import Blocks
from errant_gust.core.geometry.placed import Side
from errant_gust.core.study.parameters import ShapeIds, param


class KeepOff(GrowthStep, Blocks):
    """Shapes that the volume keeps off by every term: inside of them, and nearer than the gap, nothing spreads and
    nothing is carried, and what comes to be there by moving is taken away.

    Or shapes that it stays inside of.
    """

    id = "keep_off"
    label = "Keep off"
    family = "solid"
    yields = "shapes that it does not enter"
    mistake = "A shape over the whole seed leaves nothing to grow: keep it off the seed, or make the gap smaller."
    headline = "shapes"

    shapes: ShapeIds = param(help="What it does not enter, or stays inside of")
    side: Side = param("around", help="It stays outside of them, or inside (of any of them)")
    gap: float = param(0.0, unit="m", slider=(-0.1, 0.5), help="How far from the surface it stays")

    def blocking(self) -> list[tuple[str, Side]]:
        return [(id, self.side) for id in self.shapes]

    def within(self, scene: Scene, points: Array) -> Array:
        """How far (n,), in m, places (3, n) are inside of what it keeps off; below zero where growth may be."""
        nearest = np.min([scene.shape(id).distance(points)[0] for id in self.shapes], axis=0)
        return np.asarray((-nearest if self.side == "around" else nearest) + np.float32(self.gap), np.float32)
