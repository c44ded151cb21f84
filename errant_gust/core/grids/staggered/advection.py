"""What velocities on faces carry along: channels in cells and the velocities themselves, by MacCormack with one trace
for all."""

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.blocks import threads
from errant_gust.core.grids.slabs import each_slab
from errant_gust.core.grids.staggered.faces import Triple
from errant_gust.core.kernels import advection as kernels

Array = NDArray[Any]
Lend = Callable[[int, tuple[int, ...], Any], Array]
"""Memory for an array of an index, shape and type; see `Poisson.lend`."""


def new_memory(index: int, shape: tuple[int, ...], dtype: Any = np.float32) -> Array:
    """Memory that nobody else uses, of any shape and type, with anything in it."""
    return np.empty(shape, dtype)


@dataclass(frozen=True)
class Trace:
    """Velocities on faces for a step (−dt / h), how they bend, and memory to work in."""

    faces: Triple
    step: np.float32
    bend: Triple
    lend: Lend


def trace(faces: Triple, dt: float, voxel_size: float, lend: Lend) -> Trace:
    """Where everything comes from that velocities (m/s) on the faces carry for dt seconds."""
    step = np.float32(-dt / voxel_size)
    cells = (faces[1].shape[0], faces[0].shape[1], faces[0].shape[2])
    bx, by, bz = (lend(axis, cells, np.float32) for axis in range(3))
    each_slab(cells[0], partial(kernels.bends, *faces, step, bx, by, bz), threads())
    return Trace(faces, step, (bx, by, bz), lend)


def carried(path: Trace, values: Array, axis: int, outside: int) -> Array:
    """Arrays (c, …) on cells (axis −1) or on faces across an axis, carried along a path (Selle, Fedkiw, Kim, Liu,
    Rossignac 2008). `outside`: 0 is nothing beyond the window, 1 what is at its border. Both of the shape (c, nx,
    ny, nz), one more along the axis for faces; the channels' own unit."""
    hat = path.lend(3, values.shape, np.float32) if len(values) == 1 else np.empty_like(values)
    base, out = path.lend(4, values.shape[1:], np.int32), np.empty_like(values)
    way, rows = (*path.faces, *path.bend, path.step), values.shape[1]
    each_slab(rows, lambda a, b: kernels.advect(values, axis, *way, outside, hat, base, a, b), threads())
    each_slab(rows, lambda a, b: kernels.correct(values, hat, base, axis, *way, out, a, b), threads())
    return out


def fastest(faces: Triple) -> float:
    """A bound of the speed in m/s; infinite if it is no number."""
    u, v, w = faces
    most = each_slab(v.shape[0], lambda a, b: kernels.fastest(u, v, w, a, b), threads())
    found = math.sqrt(max(most))
    return found if math.isfinite(found) else math.inf
