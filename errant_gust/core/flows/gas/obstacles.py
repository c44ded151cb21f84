"""Collide: what stands in the way of gas, or holds it in."""

from typing import Literal

from errant_gust.core.flows.gas.steps import GasStep
from errant_gust.core.flows.step import Blocks
from errant_gust.core.geometry.placed import Side
from errant_gust.core.study.parameters import ShapeIds, param


class Collide(GasStep, Blocks):
    """Shapes that gas flows around; moving ones push it along. Their surface is cut through the voxels, not stepped."""

    id = "collide"
    label = "Collide"
    family = "solid"
    yields = "shapes in the way"
    mistake = (
        "A plate thinner than a voxel leaks. A floor that is a plane may lie inside the domain; what is below it then "
        "costs memory and does nothing."
    )
    headline = "shapes"

    shapes: ShapeIds = param(help="What stands in the way, or holds the gas in")
    side: Literal["around", "inside"] = param(
        "around", help="Gas stays outside of them, or is kept inside (of any of them)"
    )

    def blocking(self) -> list[tuple[str, Side]]:
        return [(id, self.side) for id in self.shapes]
