"""Steps that move what is simulated, as far as kinds of flow share them: their parameters and what these mean. A kind
adds how it is done to what it is made of."""

from typing import Any, ClassVar, Literal

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.study.parameters import FieldId, Parameters, Vec3, param

SHARE_TIME = 1 / 24
"""A share is what is reached within this time in seconds, whatever the frame rate."""


def reached(share: Any, seconds: float) -> Any:
    """What of a share is reached within so many seconds."""
    return 1 - (1 - np.clip(np.asarray(share, np.float64), 0, 1 - 1e-6)) ** (seconds / SHARE_TIME)


class Falling(Parameters):
    """Gravity."""

    label: ClassVar[str] = "Gravity"
    yields: ClassVar[str] = "a constant acceleration"
    headline: ClassVar[str] = "acceleration"
    formula: ClassVar[str] = "dv/dt = g"

    acceleration: Vec3 = param((0, 0, -9.81), unit="m/s²", help="Metres a second squared")


class Pushing(Parameters):
    """A vector lane pushes: eased toward the field's velocity, or as a force; only along the axes that are chosen, and
    only where a scalar lane says."""

    label: ClassVar[str] = "Push"
    yields: ClassVar[str] = "motion by a field"
    headline: ClassVar[str] = "field"
    formula: ClassVar[str] = "dv/dt = k (u(x, t) − v),  k = −24 ln(1 − share)   or   dv/dt = strength · f"
    wants: ClassVar[dict[str, Literal["scalar", "vector"]]] = {"field": "vector", "by": "scalar"}

    field: FieldId = param(help="A vector lane")
    how: Literal["ease", "force"] = param("ease", help="Toward the field's velocity, or by it as an acceleration")
    share: float = param(
        0.2, range=(0, 1), varies=True, help="Reached within a 24th of a second: 0 not at all, 1 wholly",
        when={"how": ["ease"]},
    )  # fmt: skip
    amount: float = param(
        1.0, unit="×", slider=(-5, 5), varies=True, label="Times", help="The field's velocity is taken so many times",
        when={"how": ["ease"]},
    )  # fmt: skip
    strength: float = param(
        1.0, unit="×", slider=(-5, 5), varies=True, help="Times the field, in m/s²", when={"how": ["force"]}
    )
    by: FieldId = param("", optional=True, label="Only where", help="A scalar lane: where, and how much")
    along_x: bool = param(True, label="Along x", help="Whether it acts along this axis", group="Axes")
    along_y: bool = param(True, label="Along y", help="Whether it acts along this axis", group="Axes")
    along_z: bool = param(True, label="Along z", help="Whether it acts along this axis", group="Axes")

    @property
    def axes(self) -> Array:
        """Which axes of the scene it acts along (3,)."""
        return np.array([self.along_x, self.along_y, self.along_z])


class Dragging(Parameters):
    """Takes speed at a rate, everywhere or where a scalar lane says."""

    label: ClassVar[str] = "Drag"
    headline: ClassVar[str] = "rate"
    formula: ClassVar[str] = "v' = v e^(−rate dt)"
    wants: ClassVar[dict[str, Literal["scalar", "vector"]]] = {"by": "scalar"}

    rate: float = param(
        0.5, unit="1/s", range=(0, 1e4), slider=(0, 10), varies=True, help="Share of speed lost a second"
    )
    by: FieldId = param("", optional=True, label="Only where", help="A scalar lane: where, and how much")


class Limiting(Parameters):
    """Nothing is faster than the limit, whatever pushes it."""

    label: ClassVar[str] = "Speed limit"
    yields: ClassVar[str] = "a bound on speed"
    headline: ClassVar[str] = "most"
    formula: ClassVar[str] = "v' = v · min(1, most / |v|)"

    most: float = param(8.0, unit="m/s", above=0, slider=(0.1, 20), varies=True, help="Largest speed")


class Waning(Parameters):
    """Takes away: where a scalar lane says, a share a second; or what is older than a time."""

    label: ClassVar[str] = "Thin out"
    headline: ClassVar[str] = "rate"
    wants: ClassVar[dict[str, Literal["scalar", "vector"]]] = {"by": "scalar"}

    by: FieldId = param("", optional=True, label="Where", help="A scalar lane: 1 drains, 0 does not")
    rate: float = param(
        2.0, unit="1/s", range=(0, 1e4), slider=(0, 20), varies=True, help="Share that goes a second, times the lane"
    )
    oldest: float = param(
        0.0, unit="s", range=(0, 1e5), slider=(0, 20), label="Older than", help="Goes too; 0: none for its age"
    )


class Holding(Parameters):
    """A scalar field decides who stays: above the level it moves, below it keeps still (or the other way)."""

    label: ClassVar[str] = "Hold"
    headline: ClassVar[str] = "by"
    formula: ClassVar[str] = "v' = v · s((f − level) / soft)"
    wants: ClassVar[dict[str, Literal["scalar", "vector"]]] = {"by": "scalar"}

    by: FieldId = param(help="A scalar lane")
    level: float = param(0.5, slider=(-1, 1), help="Value at which it changes")
    soft: float = param(
        0.0, range=(0, 1e6), slider=(0, 1), label="Soft edge", help="Over which it changes; 0 is at once"
    )
    moves: Literal["above", "below"] = param("above", help="On which side of the level they move")

    def share_left(self, values: Array) -> Array:
        """The share of its speed that is left where the field has these values. Both (n,)."""
        over = (values - np.float32(self.level)) * np.float32(1 if self.moves == "above" else -1)
        return np.clip(over / np.float32(self.soft) + 0.5, 0, 1) if self.soft else (over > 0).astype(np.float32)
