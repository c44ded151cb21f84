"""What the length of a step costs: the way of a frame in so many substeps, and in twice as many."""

from dataclasses import dataclass

import numpy as np

from errant_gust.core.fields.samples import Array


@dataclass(frozen=True)
class Halved:
    """Where things stand after a frame in `substeps` steps, against twice as many, in metres: the middle one of
    `count` and the worst, and the middle one's `way`. Of a scheme of order p that is the error, but for 1 part in
    2^p (Richardson 1911)."""

    substeps: int
    count: int
    middle: float
    most: float
    way: float

    def line(self) -> str:
        """What was found, as a line of text."""
        return (
            f"{self.substeps:3} substeps: halves move the middle one of {self.count:,} by {1e3 * self.middle:.3g} mm "
            f"and the worst by {1e3 * self.most:.3g} mm, of a way of {1e3 * self.way:.3g} mm a frame"
        )


def between(substeps: int, start: Array, whole: Array, halves: Array) -> Halved | None:
    """From positions (3, n) before the frame and after it in both ways; None if nothing is left to compare."""
    if not start.shape[1]:
        return None
    apart, way = (np.sqrt(((whole - p) ** 2).sum(axis=0)) for p in (halves, start))
    return Halved(substeps, start.shape[1], float(np.median(apart)), float(apart.max()), float(np.median(way)))
