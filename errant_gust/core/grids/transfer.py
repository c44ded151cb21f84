"""Between points and grids. Sums are made in an order that no thread decides: the same bits on any number."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.blocks import share_out, threads
from errant_gust.core.grids.slabs import each_slab
from errant_gust.core.kernels import transfers as kernels

Array = NDArray[Any]
Triple = tuple[Array, Array, Array]
MANY = 16_384  # particles that one thread does at a time


def onto_nodes(q: Array, weight: Any, shape: tuple[int, int, int]) -> Array:
    """Weights (n,) of points (3, n), whose coordinates count nodes, shared trilinearly among the eight nodes around
    each: sums (nx, ny, nz) float32. What lies beyond the nodes is left out."""
    base = np.floor(q).astype(np.int64)
    part = q - base
    total = np.zeros(int(np.prod(shape)))
    for bits in np.ndindex(2, 2, 2):
        w = np.asarray(weight, np.float64).copy()
        cell = base + np.array(bits)[:, None]
        for a, bit in enumerate(bits):
            w = w * (part[a] if bit else 1 - part[a])
        inside = np.logical_and.reduce([(cell[a] >= 0) & (cell[a] < shape[a]) for a in range(3)])
        flat = np.ravel_multi_index(tuple(cell[:, inside]), shape)
        total += np.bincount(flat, w[inside], minlength=total.size)
    return total.reshape(shape).astype(np.float32)


# between particles and faces ------------------------------------------------------------------------------------------

SLAB = 4
"""Planes of cells that one thread does at a time: always the same, so that sums are."""


def by_slabs(work: Callable[[int, int], None], planes: int, slab: int = SLAB) -> None:
    """work(first, last) of slabs of planes that reach half a slab over, at most: even ones at the same time, then odd
    ones."""
    slabs = [(a, min(a + slab, planes)) for a in range(0, planes, slab)]
    for turn in (slabs[0::2], slabs[1::2]):

        def some(first: int, last: int, turn: list[tuple[int, int]] = turn) -> None:
            for a, b in turn[first:last]:
                work(a, b)

        share_out(some, len(turn), block=1)


@dataclass(frozen=True)
class Order:
    """Particles sorted by cell: in which order (n,), and where each cell's begin (cells + 1,)."""

    order: Array
    start: Array

    def sorted(self, a: Array) -> Array:
        """An array (c, n) or (n,) in this order."""
        rows = np.ascontiguousarray(a).reshape(int(np.prod(a.shape[:-1])), a.shape[-1])
        out = np.empty_like(rows)
        share_out(partial(kernels.gather, rows, self.order, out), a.shape[-1], block=MANY)
        return out.reshape(a.shape)


def order_by_cell(q: Array, shape: tuple[int, int, int]) -> Order:
    """How particles at q (3, n), in cells of a grid, are sorted by cell; those of one cell stay in their order."""
    start = np.empty(int(np.prod(shape)) + 1, np.int32)
    order = np.empty(q.shape[1], np.int32)
    kernels.order_by_cell(q, shape, start, order)
    return Order(order, start)


@dataclass(frozen=True)
class OnFaces:
    """What particles give a grid: velocities on faces and where these are known, how many particles there are about
    each cell and each face (linear weights) and the mean of a value of theirs."""

    faces: tuple[Array, Array, Array]
    known: list[Array]
    count: Array
    value: Array
    weights: list[Array]


def to_faces(q: Array, velocity: Array, affine: Array, value: Array, start: Array, shape: Any) -> OnFaces:
    """Velocities (3, n), which change by affine (9, n) a cell, of sorted particles at q (3, n) onto the faces (affine
    particle in cell: Jiang, Schroeder, Selle, Teran, Stomakhin 2015)."""
    nx, ny, nz = shape
    sizes = ((nx + 1, ny, nz), (nx, ny + 1, nz), (nx, ny, nz + 1))
    sums, weights = ([np.zeros(s, np.float32) for s in sizes] for _ in range(2))
    count, total = np.zeros(shape, np.float32), np.zeros(shape, np.float32)
    pairs = [a for pair in zip(sums, weights, strict=True) for a in pair]
    by_slabs(partial(kernels.to_faces, q, velocity, affine, value, start, *pairs, count, total), nx)
    known = []
    for s, w in zip(sums, weights, strict=True):
        known.append(np.empty(s.shape, bool))
        each_slab(s.shape[0], partial(kernels.divide, s, w, known[-1]), threads())
    there = np.empty(shape, bool)
    each_slab(nx, partial(kernels.divide, total, count, there), threads())
    return OnFaces((sums[0], sums[1], sums[2]), known, count, total, weights)


def from_faces(q: Array, faces: Triple, velocity: Array, affine: Array, before: Triple | None, flip: float) -> None:
    """Velocities and their changes of particles from the faces, in place. `flip`: the share in which a particle only
    changes by what the faces changed by since `before` (Brackbill, Ruppel 1986). `q` (3, n) in cells, `faces` (nx+1,
    ny, nz) and so on in m/s, `velocity` (3, n) in m/s, `affine` (3, 3, n) in 1/s (Jiang, Schroeder, Selle, Teran,
    Stomakhin 2015)."""
    change = faces if before is None else tuple(a - b for a, b in zip(faces, before, strict=True))
    amount = np.float32(0 if before is None else flip)
    work = partial(kernels.from_faces, q, *faces, *change, amount, velocity, affine)
    share_out(work, q.shape[1], block=MANY)


def carry(q: Array, faces: Triple, step: float) -> None:
    """Particles at q (3, n) in cells, carried by the faces for step (dt / h), in place."""
    share_out(partial(kernels.carry, q, *faces, np.float32(step)), q.shape[1], block=MANY)


def onto_cells(q: Array, values: Array, start: Array, shape: tuple[int, int, int]) -> tuple[Array, Array]:
    """Means (c, nx, ny, nz) of channels (c, n) of sorted particles about the cells, and the weights."""
    sums, weights = np.zeros((len(values), *shape), np.float32), np.zeros(shape, np.float32)
    by_slabs(partial(kernels.onto_cells, q, values, start, sums, weights), shape[0])
    np.divide(sums, weights, out=sums, where=weights > 1e-6)
    return sums, weights


def at_places(f: Array, q: Array, *, middles: bool) -> Array:
    """A grid at places q (3, n) in cells (n,): values in the middles of cells, or at their corners."""
    out = np.empty(q.shape[1], np.float32)
    share_out(partial(kernels.at_places, f, q, middles, out), q.shape[1], block=MANY)
    return out


def fastest(velocity: Array) -> float:
    """Greatest speed of velocities (3, n); infinite if one is no number."""
    most: list[float] = []

    def work(first: int, last: int) -> None:
        most.append(float(kernels.fastest(velocity, first, last)))

    share_out(work, velocity.shape[1], block=MANY)
    found = max(most, default=0.0) if not any(np.isnan(most)) else np.inf
    return float(np.sqrt(found))
