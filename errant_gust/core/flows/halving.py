"""What the length of a step costs: the way of a frame in so many substeps, and in twice as many."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from errant_gust.core.fields.samples import Array


@dataclass(frozen=True)
class Halved:
    """Where things stand after a frame in `substeps` steps, against twice as many, in metres: the middle one of
    `count` things (what they are is `of`) and the worst, and the middle one's `way`. Of a scheme of order p that is the
    error, but for 1 part in 2^p (Richardson 1911)."""

    substeps: int
    count: int
    of: str
    middle: float
    most: float
    way: float

    def line(self) -> str:
        """What was found, as a line of text."""
        return (
            f"{self.substeps:3} substeps: halves move the middle one of {self.count:,} {self.of} by "
            f"{1e3 * self.middle:.3g} mm and the worst by {1e3 * self.most:.3g} mm, of a way of "
            f"{1e3 * self.way:.3g} mm a frame{f' ({100 * self.share:.2g} %)' if self.way else ''}"
        )

    @property
    def share(self) -> float:
        """The middle one's error as a share of its way; 0 where nothing moves."""
        return self.middle / self.way if self.way else 0.0


class Finer:
    """Every step that a flow chooses, in `times` equal parts."""

    def __init__(self) -> None:
        self.times = 1
        self._left, self._part = 0, 0.0

    def of(self, choose: Callable[..., float], *given: Any) -> float:
        """Seconds of the next substep; what the flow would choose, of what is given, is asked for after the parts of
        the one before."""
        if not self._left:
            self._left, self._part = self.times, choose(*given) / self.times
        self._left -= 1
        return self._part


def between(substeps: int, start: Array, whole: Array, halves: Array, of: str) -> Halved | None:
    """From positions (3, n) before the frame and after it in both ways; None if nothing is left to compare."""
    if not start.shape[1]:
        return None
    apart, way = (np.sqrt(((whole - p) ** 2).sum(axis=0)) for p in (halves, start))
    return Halved(substeps, start.shape[1], of, float(np.median(apart)), float(apart.max()), float(np.median(way)))
