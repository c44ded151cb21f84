"""Collide: what stands in the way of grains, or holds them in."""

from typing import Literal

from errant_gust.core.flows.grains.steps import GrainStep
from errant_gust.core.flows.step import Blocks
from errant_gust.core.geometry.placed import Side
from errant_gust.core.study.parameters import ShapeIds, param


class Collide(GrainStep, Blocks):
    """Shapes that grains lie on, run around, or are held in; moving ones push them.

    Friction is a coefficient: below it a block of sand stays where it lies, above the tangent of the slope. What
    sticks moves with the shape.
    """

    id = "collide"
    label = "Collide"
    family = "solid"
    yields = "shapes in the way"
    mistake = (
        "A wall thinner than two grains lets some through when it moves fast. A heap on a floor of friction 0 spreads "
        "until it is one grain thin."
    )
    headline = "shapes"

    shapes: ShapeIds = param(help="What stands in the way, or holds the grains in")
    side: Literal["around", "inside"] = param(
        "around", help="Grains stay outside of them, or are kept inside (of any of them)"
    )
    friction: float = param(
        0.6,
        range=(0, 10),
        slider=(0, 1.5),
        help="Coefficient: 0 slides, 0.6 is sand on wood, above the sand's it holds",
    )
    stick: float = param(0.0, range=(0, 1), help="Share in which what touches moves with the shape")

    def blocking(self) -> list[tuple[str, Side]]:
        return [(id, self.side) for id in self.shapes]
