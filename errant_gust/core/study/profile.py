"""Curves of one variable drawn by a user: monotone between their points, held beyond the ends."""

from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


@lru_cache(maxsize=512)
def _pieces(points: tuple[tuple[float, float], ...]) -> tuple[Array, Array]:
    from scipy.interpolate import PchipInterpolator

    x, y = np.array(points, np.float64).T
    if len(x) == 2:
        c = np.array([[0.0], [0.0], [(y[1] - y[0]) / (x[1] - x[0])], [y[0]]])
        return x.astype(np.float32), c.astype(np.float32)
    return x.astype(np.float32), PchipInterpolator(x, y).c.astype(np.float32)


def profile(points: list[tuple[float, float]], s: Array, *, hold: bool = True) -> tuple[Array, Array, Array]:
    """Value, first and second derivative at s (n,), float32 (Fritsch, Carlson, Monotone piecewise cubic interpolation,
    1980). Beyond the ends the value is held, or goes on straight with `hold=False`."""
    x, c = _pieces(tuple((float(a), float(b)) for a, b in points))
    t = np.clip(s, x[0], x[-1])
    i = np.clip(np.searchsorted(x, t, side="right") - 1, 0, len(x) - 2)
    u = t - x[i]
    a, b, d, e = c[0][i], c[1][i], c[2][i], c[3][i]
    value = ((a * u + b) * u + d) * u + e
    slope = (3 * a * u + 2 * b) * u + d
    bend = 6 * a * u + 2 * b
    outside = (s < x[0]) | (s > x[-1])
    if hold:
        zero = np.float32(0)
        return value, np.where(outside, zero, slope), np.where(outside, zero, bend)
    return value + slope * (s - t), slope, np.where(outside, np.float32(0), bend)
