"""Deformed curve: a curve whose points a lane moves, and a curve again."""

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.geometry.curve_shape import Tube
from errant_gust.core.geometry.curves import CurveSet
from errant_gust.core.geometry.deformed import AMOUNT, SECONDS, STEPS, WHERE
from errant_gust.core.geometry.made import MadeShape
from errant_gust.core.geometry.shapes import Geometry, ShapeKind
from errant_gust.core.study.parameters import Curve, FieldId, ShapeId, param

Array = NDArray[np.float32]


class MadeCurve:
    """What was made: curves in the scene, and what is worth knowing in a sentence."""

    def __init__(self, curves: CurveSet, about: str) -> None:
        self.curves, self.about = curves, about
        self.flaws: dict[str, float] = {}
        self.drawn = np.zeros((0, 3), np.int32)

    @property
    def nbytes(self) -> int:
        """Memory that it takes, about."""
        return 12 * self.curves.cubic.nbytes


class DeformedCurve(Tube, MadeShape):
    """A curve whose points are moved by a lane: along the field, or carried along it for a time, or from frame to
    frame. It is a curve again, to be followed, flowed along, born on, or looked at as a tube.

    It is first given points in even steps, so that a straight line can bend.
    """

    id = "deformed_curve"
    label = "Deformed curve"
    yields = "a curve that a lane bends or carries"
    headline = "field"
    mistake = "Points farther apart than the field's detail cut it off; a way longer than it makes knots."

    curve: ShapeId = param(help="What is deformed: a curve")
    field: FieldId = param(help="A vector lane")
    how: Literal["along the field", "carried", "carried since the first frame"] = param(
        "along the field", help="Moved once by the field's value, or carried with it as a velocity"
    )
    amount: float = AMOUNT
    seconds: float = SECONDS
    steps: int = STEPS
    by: FieldId = WHERE
    spacing: float = param(0.1, unit="m", above=0, slider=(0.01, 1), label="A point every", help="Before it is moved")
    radius: float = param(0.05, unit="m", above=0, slider=(0.01, 3), help="Radius of the tube around the curve")
    widths: Curve = param(
        [(0.0, 1.0), (1.0, 1.0)], help="Radius along the curve, as a factor; 0 is its start, 1 its end"
    )

    wants = {"field": "vector", "by": "scalar"}

    @property
    def shape(self) -> str:
        """The shape that it is made of."""
        return self.curve

    def curves(self, scene: Geometry) -> CurveSet:
        assert scene.surface is not None
        made: MadeCurve = scene.surface(self, scene.frame)
        return made.curves

    def rough(self, points: Array, scene: Geometry) -> Array:
        return ShapeKind.rough(self, points, scene)
