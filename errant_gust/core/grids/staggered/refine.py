"""Face velocities on a finer grid that are as free of divergence as the coarse ones."""

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.grids.staggered.faces import Triple
from errant_gust.core.kernels.refine import refined

Array = NDArray[Any]
Weights = tuple[Array, Array]
Each = Callable[[int, Callable[[int, int], None]], None]
"""Runs a piece of work [a, b) of so many rows on all threads."""


def across(n: int, times: int) -> Weights:
    """For fine faces 0 … n·times: the quadratic spline through coarse faces (see `kernels/faces.py`)."""
    s = np.arange(n * times + 1) / times
    middle = np.floor(s + 0.5).astype(int)
    t = s - middle
    low, high = 0.5 * (0.5 - t) ** 2, 0.5 * (0.5 + t) ** 2
    return middle - 1, np.stack([low, 1 - low - high, high], 1).astype(np.float32)


def along(n: int, times: int) -> Weights:
    """For fine cells: the mean over each of the linear spline through the middles of coarse cells, so that flux
    through a fine face is that of the field."""
    left = np.arange(n * times) / times
    right = left + 1 / times
    cell = np.floor((left + right) / 2).astype(int)
    a, b = left - cell, right - cell  # within the cell, 0 … 1; the spline has its corner at 0.5
    first = np.clip(0.5 - a, 0, None) ** 2 / 2 - np.clip(0.5 - b, 0, None) ** 2 / 2  # ∫ (0.5 − x) below the corner
    last = np.clip(b - 0.5, 0, None) ** 2 / 2 - np.clip(a - 0.5, 0, None) ** 2 / 2
    w0, w2 = first * times, last * times
    return cell - 1, np.stack([w0, 1 - w0 - w2, w2], 1).astype(np.float32)


def nodes(n: int, times: int) -> Weights:
    """For fine nodes 0 … n·times: the linear spline through the middles of coarse cells."""
    s = np.arange(n * times + 1) / times - 0.5
    first = np.floor(s).astype(int)
    t = s - first
    return first, np.stack([1 - t, t, np.zeros_like(t)], 1).astype(np.float32)


def finer(coarse: Array, weights: tuple[Weights, Weights, Weights], each: Each) -> Array:
    """A coarse array on the finer grid that the weights describe. (nx, ny, nz) at the middles of coarse cells to
    those of fine ones, by quadratic weights."""
    (i, wi), (j, wj), (k, wk) = weights
    out = np.empty((len(i), len(j), len(k)), np.float32)
    each(len(i), lambda a, b: refined(coarse, i, wi, j, wj, k, wk, out, a, b))
    return out


def finer_faces(faces: Triple, times: int, each: Each) -> Triple:
    """u, v, w on a grid whose cells are `times` smaller: every fine cell lets out its share of what its coarse cell
    lets out, so none if those are free of divergence (exactly, but for rounding and the outermost half cell)."""
    shape = [f.shape[axis] - 1 for axis, f in enumerate(faces)]
    made = []
    for axis, f in enumerate(faces):
        x, y, z = ((across if a == axis else along)(shape[a], times) for a in range(3))
        made.append(finer(f, (x, y, z), each))
    return made[0], made[1], made[2]
