"""Deformed: a shape whose surface a lane moves."""

from typing import Literal

from errant_gust.core.geometry.made import MadeShape
from errant_gust.core.geometry.sdf import MeshDistance
from errant_gust.core.making import lazy
from errant_gust.core.study.parameters import FieldId, ShapeId, param

AMOUNT = param(1.0, unit="×", slider=(-2, 2), help="How much of it")
SECONDS = param(
    0.5, unit="s", range=(-1e4, 1e4), slider=(0, 5), help="How long it is carried", when={"how": ["carried"]}
)
STEPS = param(
    8, range=(1, 1000), slider=(1, 64), help="Steps in which it is carried, of the fourth order; a frame has one",
    when={"how": ["carried"]},
)  # fmt: skip
WHERE = param("", optional=True, label="Only where", help="A scalar lane: where, and how much")
"""Parameters of all shapes that lanes move."""


class DeformedDistance(MeshDistance):
    """The distance to a surface that may have folds."""

    @lazy
    def margin(self) -> float:
        """None: what is too fine for the grid would make all of it thicker, by half of its volume."""
        return 0.0


class DeformedShape(MadeShape):
    """A shape whose surface is moved by a lane: along the field, along its own normal, or carried along the field for a
    time. It is a shape again, to emit from, to steer around, to collide with.

    Its edges are first made shorter than a length, so that a box can bend. A mask says where it is moved, and how much;
    at one frame it is moved once, from where its shape is then, or it is carried on from frame to frame.
    """

    id = "deformed"
    label = "Deformed"
    yields = "a shape that a lane bends, swells or carries"
    headline = "field"
    mistake = (
        "A way longer than the field's own detail folds the surface: the check counts what is folded and what lies in "
        "itself. Carried along a field without divergence it keeps its volume."
    )

    shape: ShapeId = param(help="What is deformed")
    field: FieldId = param(help="A vector lane; a scalar one along the normal")
    how: Literal["along the field", "along the normal", "carried", "carried since the first frame"] = param(
        "along the field", help="Moved once by the field's value, or carried with it as a velocity"
    )
    amount: float = AMOUNT
    seconds: float = SECONDS
    steps: int = STEPS
    by: FieldId = WHERE
    edges: float = param(
        0.05, unit="m", above=0, slider=(0.005, 0.5), label="Edges shorter than", help="Before it is moved"
    )
