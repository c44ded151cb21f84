"""Collide: what stands in the way of liquid, or holds it in."""

from typing import Literal

from errant_gust.core.flows.liquid.steps import LiquidStep
from errant_gust.core.flows.step import Blocks
from errant_gust.core.geometry.placed import Side
from errant_gust.core.study.parameters import ShapeIds, param


class Collide(LiquidStep, Blocks):
    """Shapes that liquid flows around, or is held in; moving ones carry it along. Their surface is cut through the
    voxels, not stepped.

    Viscous liquid sticks as much as `stick` says: at 0 it slides, at 1 what touches moves with the shape. Friction
    takes speed along the surface from whatever touches, thin liquid too.
    """

    id = "collide"
    label = "Collide"
    family = "solid"
    yields = "shapes in the way"
    mistake = (
        "A wall thinner than a voxel lets liquid through. Honey on a floor that does not stick slides away as one "
        "piece: give the floor some."
    )
    headline = "shapes"

    shapes: ShapeIds = param(help="What stands in the way, or holds the liquid in")
    side: Literal["around", "inside"] = param(
        "around", help="Liquid stays outside of them, or is kept inside (of any of them)"
    )
    stick: float = param(0.0, range=(0, 1), help="How viscous liquid sticks: 0 slides, 1 holds")
    friction: float = param(
        0.0, range=(0, 1), help="Share of the speed along the surface that a touch of a 24th of a second takes"
    )

    def blocking(self) -> list[tuple[str, Side]]:
        return [(id, self.side) for id in self.shapes]
