"""Matrix-free cut-cell Poisson solver: conjugate gradients preconditioned by a multigrid cycle.

Batty, Bertails, Bridson 2007 (variational pressure), Ng, Min, Gibou 2009 (face shares). Red-black Gauss–Seidel (2, 2)
with piecewise-constant transfers, V-cycles above and W-cycles below; without obstacles and with closed sides a cosine
transform solves it directly. Every pass over the grid is bound by memory, so what can go through it together does (see
`kernels/poisson.py`). Sums are taken plane by plane, so that the number of threads does not change them.

A closed part leaves p free by a constant, which conjugate gradients never see as long as the residual has no mean
there. In float32 it gets one, which the cycle then amplifies: it is taken off again before it counts.
"""

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.errors import Cancelled
from errant_gust.core.grids.slabs import each_slab, slabs_of, together
from errant_gust.core.kernels import poisson as kernels
from errant_gust.core.kernels.parts import label_parts, parts_without_mean

Array = NDArray[Any]
SERIAL = 26**3  # smaller levels are done by one thread
COARSEST = 5
TWICE = 2  # from this level on, a quarter of the resolution
DRIFT = 1e-3  # share of the residual that its mean may be before it is taken off
STALLED = 8  # iterations without a smaller residual after which there will be none
NONE = np.empty((0, 0, 0), np.float32)
THICK = 10  # least planes of a slab: five sweeps at once leave wedges of eight
BYTES_A_VOXEL = 108  # solver, faces and shares together at their peak, measured in tests/core/test_solver.py


class Level:
    """One grid of the hierarchy: faces, inverse diagonal, spans of cut cells, correction p and right side b."""

    def __init__(self, wx: Array, wy: Array, wz: Array, threads: int, extra: Array = NONE) -> None:
        self.shape = (wy.shape[0], wx.shape[1], wx.shape[2])
        self.wx, self.wy, self.wz, self.extra = wx, wy, wz, extra
        nx, ny, nz = self.shape
        self.dinv = np.zeros((nx + 2, ny + 2, nz + 2), np.float32)
        self.lo, self.hi = np.empty((nx, ny), np.int32), np.empty((nx, ny), np.int32)
        self.tips = np.empty((nx, ny), np.int32)
        kernels.set_up(wx, wy, wz, self.dinv, self.lo, self.hi, self.tips, extra)
        self.p, self.b = np.zeros_like(self.dinv), np.zeros_like(self.dinv)
        self.totals, self.sums = np.zeros(nx), np.zeros(nx)
        most = min(threads, nx // THICK) if nx * ny * nz > SERIAL else 1
        self.slabs = slabs_of(nx, max(1, most))

    @property
    def matrix(self) -> tuple[Array, ...]:
        """What the kernels take of it: six weights of (nx, ny, nz) cells, the inverse diagonal and where rows begin
        and end."""
        return self.wx, self.wy, self.wz, self.dinv, self.lo, self.hi, self.tips, self.extra

    def each(self, work: Callable[[int, int], Any]) -> list[Any]:
        """Work on all slabs, at the same time if there are several; results in order."""
        return together(work, self.slabs)

    def staged(self, work: Callable[[int, int, bool], Any]) -> None:
        """The same for several sweeps at once: slabs, then the wedges around the borders between them."""
        together(lambda a, b: work(a, b, True), self.slabs)
        together(lambda a, b: work(a, b, False), [(a, a) for a, _ in self.slabs[1:]])

    def coarse(self, threads: int) -> "Level":
        """The next grid: the mean of the four faces that make up each of its own."""
        wx, wy, wz = (_coarse_faces(w, axis) for axis, w in enumerate((self.wx, self.wy, self.wz)))
        return Level(wx, wy, wz, threads, _coarse_extra(self.extra))


def _clear_border(a: Array) -> None:
    for axis in range(3):
        for side in (0, -1):
            a[(slice(None),) * axis + (side,)] = 0


def _coarse_faces(w: Array, axis: int) -> Array:
    pad = [(0, n % 2) if a != axis else (0, 0) for a, n in enumerate(w.shape)]
    w = np.pad(w, pad)
    planes = [*range(0, w.shape[axis] - 1, 2), w.shape[axis] - 1]
    w = np.take(w, planes, axis=axis)
    others = [a for a in range(3) if a != axis]
    for a in others:
        even, odd = (np.take(w, range(start, w.shape[a], 2), axis=a) for start in (0, 1))
        w = 0.5 * (even + odd)
    return np.ascontiguousarray(w, np.float32)


def _coarse_extra(extra: Array) -> Array:
    """Three eighths of the sum of eight: a surface is half as far, in cells twice as large, on a quarter of faces."""
    if not extra.size:
        return extra
    pad = np.pad(extra, [(0, n % 2) for n in extra.shape])
    pairs = (pad[a::2, b::2, c::2] for a, b, c in np.ndindex(2, 2, 2))
    return np.ascontiguousarray(np.float32(0.375) * sum(pairs), np.float32)


class Poisson:
    """Solves A p = b for face shares wx (nx + 1, ny, nz), wy, wz in [0, 1].

    A share on a boundary face above 0 means p = 0 beyond it (an open side). Float32; the residual can be brought to
    about 5e-5 of the right side; ask for less by solving for the remainder again. extra (nx, ny, nz): share over
    distance, in cells, toward a surface at p = 0 within the grid.
    """

    def __init__(self, wx: Array, wy: Array, wz: Array, *, threads: int = 2, extra: Array = NONE) -> None:
        self.threads = max(1, threads)
        self.plain = not extra.size and bool(
            (wx[1:-1] == 1).all() and (wy[:, 1:-1] == 1).all() and (wz[:, :, 1:-1] == 1).all()
            and not any(w.any() for w in (wx[0], wx[-1], wy[:, 0], wy[:, -1], wz[:, :, 0], wz[:, :, -1]))
        )  # fmt: skip
        self.shape = (wy.shape[0], wx.shape[1], wx.shape[2])
        self.iterations, self._lent = 0, False
        self.start = 0.0
        """Norm of the last right side, without what a closed part cannot give or take."""
        self.active = np.ones(self.shape, bool)
        """Cells (nx, ny, nz) with an open face."""
        self.cells, self.closed, self.several = self.active.size, True, False
        """Their number; whether any connected part of them is closed all round, and is one of several."""
        if self.plain:
            return
        self.levels = [Level(wx, wy, wz, self.threads, extra)]
        while max(self.levels[-1].shape) > COARSEST:
            self.levels.append(self.levels[-1].coarse(self.threads))
        self._work = tuple(np.zeros_like(self.levels[0].p) for _ in range(3))
        self._pockets()
        self._dense()

    # null space ------------------------------------------------------------------------------------------------

    def _pockets(self) -> None:
        """Connected parts with closed sides all round: p is free by a constant in each."""
        top = self.levels[0]
        self.active = top.dinv[1:-1, 1:-1, 1:-1] > 0
        parts = np.empty(self.shape, np.int32)
        work = np.empty(parts.size, np.int32), np.empty(parts.size, np.int32), np.empty(parts.size, bool)
        count = label_parts(top.wx, top.wy, top.wz, top.dinv, top.extra, *work, parts)
        self.cells, self.closed = int(self.active.sum()), bool((parts > 0).any())
        self.several = count > 1 and self.closed
        self._parts = parts if self.several else None
        self._count = count

    def lend(self, index: int, shape: tuple[int, ...], dtype: Any = np.float32) -> Array:
        """One of five arrays (0 … 4) of the solver's memory, of a shape of at most one node more than the grid has
        cells along each axis, until the next solve; what is in it is not known. Any shape."""
        count = int(np.prod(shape))
        if self.plain:
            return np.empty(shape, dtype)
        top = self.levels[0]
        self._lent = True
        return (*self._work, top.p, top.b)[index].reshape(-1)[:count].view(dtype).reshape(shape)

    def begin(self, fill: Callable[[Array, Array, Array, int, int], None]) -> float:
        """The right side into the first level, without its mean in every closed part; its norm. `fill` writes the
        padded (nx+2, ny+2, nz+2) side."""
        top = self.levels[0]
        if self._lent:
            for a in (*self._work, top.p, top.b):
                _clear_border(a)
            self._lent = False
        top.each(partial(fill, top.b, top.dinv, top.sums))
        return self._without_mean(top.b)

    def _without_mean(self, a: Array) -> float:
        """Takes the mean in every closed part off the first level's a, whose sums of planes are known; its norm."""
        top, mean = self.levels[0], np.float32(0)
        if self._parts is not None:
            parts_without_mean(a, self._parts, self._count)
        elif self.closed:
            mean = np.float32(top.sums.sum() / max(1, self.cells))
        top.each(partial(kernels.shift, a, top.dinv, mean, top.totals))
        return float(np.sqrt(top.totals.sum()))

    def _dense(self) -> None:
        """Pseudo-inverse on the coarsest grid."""
        last = self.levels[-1]
        n = int(np.prod(last.shape))
        matrix = np.zeros((n, n))
        unit, out = np.zeros_like(last.p), np.zeros_like(last.p)
        for column, (i, j, k) in enumerate(np.ndindex(*last.shape)):
            unit[i + 1, j + 1, k + 1] = 1
            kernels.apply(unit, *last.matrix, out, 0, last.shape[0])
            matrix[:, column] = out[1:-1, 1:-1, 1:-1].ravel()
            unit[i + 1, j + 1, k + 1] = 0
        self._inverse = np.linalg.pinv(matrix, rcond=1e-6, hermitian=True).astype(np.float32)

    # cycle -----------------------------------------------------------------------------------------------------

    def _cycle(self, number: int) -> None:
        """One cycle on level `number` for its b, beginning at p = 0, the answer in its p.

        Coarse levels go through it twice, the second time for what the first left: constant transfers alone would
        need half as many cycles again on smooth right sides, and there it costs next to nothing.
        """
        self._once(number)
        level = self.levels[number]
        if TWICE <= number < len(self.levels) - 1:
            first, right = level.p.copy(), level.b
            level.b = np.zeros_like(right)
            level.each(partial(kernels.residual, first, right, *level.matrix, level.b))
            self._once(number)
            level.p += first
            level.b = right

    def _once(self, number: int) -> None:
        level = self.levels[number]
        if number == len(self.levels) - 1:
            inner = level.b[1:-1, 1:-1, 1:-1]
            p = (self._inverse @ inner.ravel()).reshape(level.shape)
            level.p[1:-1, 1:-1, 1:-1] = p
            level.totals[:], level.sums[:] = (inner * p).sum(axis=(1, 2)), p.sum(axis=(1, 2))
            return
        below = self.levels[number + 1]
        level.staged(partial(kernels.descend, level.p, level.b, *level.matrix))
        below.each(partial(kernels.restrict, level.p, level.b, *level.matrix, below.b))
        self._cycle(number + 1)
        level.staged(partial(kernels.ascend, below.p, level.p, level.b, *level.matrix, level.totals, level.sums))

    def solve(
        self,
        b: Array,
        *,
        tolerance: float = 1e-4,
        most: int = 60,
        progress: Callable[[float], None] | None = None,
        cancel: Callable[[], bool] | None = None,
    ) -> Array:
        """p (nx, ny, nz) for a right side of the same shape; stops at a residual of `tolerance` times the right
        side."""
        p = self.padded(b, tolerance=tolerance, most=most, progress=progress, cancel=cancel)
        return np.ascontiguousarray(p[1:-1, 1:-1, 1:-1])

    def padded(
        self,
        b: Array | Callable[[Array, Array, Array, int, int], None],
        *,
        tolerance: float = 1e-4,
        most: int = 60,
        progress: Callable[[float], None] | None = None,
        cancel: Callable[[], bool] | None = None,
    ) -> Array:
        """The same with one layer of zeros all round: memory of the solver, good until it is used again.

        b may be what fills the padded right side: (r, inverse diagonal, sums of planes, first, last) as in
        `kernels.poisson.load`; not where a cosine transform solves. (nx+2, ny+2, nz+2). Raises Cancelled.
        """
        if self.plain:
            assert not callable(b)
            self.start = float(np.linalg.norm(b.ravel()))
            return np.pad(self._direct(b), 1)
        top = self.levels[0]
        x, d, q = self._work
        r, z = top.b, top.p  # the residual is the right side of the cycle, which leaves its answer in p
        fill = b if callable(b) else partial(kernels.load, np.ascontiguousarray(b, np.float32))
        start = rr = self.start = self.begin(fill)
        self.iterations, previous, best, since = 0, 0.0, start, 0
        while self.iterations < most and rr > tolerance * start and since < STALLED:
            if cancel is not None and cancel():
                raise Cancelled
            self._cycle(0)
            rz, mean = float(top.totals.sum()), np.float32(0)
            if self._parts is not None:
                parts_without_mean(z, self._parts, self._count)
            elif self.closed:
                mean = np.float32(top.sums.sum() / max(1, self.cells))  # taken off on the way
            # the residual has no mean, so that its product with z is the same before and after
            beta = np.float32(rz / previous if previous else 0.0)
            top.staged(partial(kernels.turn, d, z, mean, beta, *top.matrix, q, top.totals))
            dq = float(top.totals.sum())
            if dq <= 0:
                break
            step = np.float32(rz / dq)
            top.each(partial(kernels.step_and_norm, x, r, d, q, step, self.iterations == 0, top.totals, top.sums))
            rr = float(np.sqrt(top.totals.sum()))
            if self._drifted(rr):
                rr = self._without_mean(r)
            previous, best, since = rz, min(best, rr), 0 if rr < best else since + 1
            self.iterations += 1
            if progress is not None:
                done = np.log(max(rr / start, 1e-12)) / np.log(tolerance)
                progress(float(np.clip(done, 0, 1)))
        if self.iterations == 0:  # nothing to do, or nothing that is a number: what was lent is not the answer
            x.fill(0)
        return x

    def _drifted(self, norm: float) -> bool:
        """Whether the residual got a mean that counts (in several parts: whether it may have)."""
        if self._parts is not None or not self.closed:
            return self._parts is not None
        mean = float(self.levels[0].sums.sum()) / max(1, self.cells)
        return mean * mean * self.cells > (DRIFT * norm) ** 2

    def _direct(self, b: Array) -> Array:
        """All faces open inside and closed outside: the cosine transform diagonalises A."""
        from scipy import fft

        total = fft.dctn(b, type=2, workers=self.threads)
        eigen = [(2 - 2 * np.cos(np.pi * np.arange(n) / n)).astype(np.float32) for n in self.shape]
        each_slab(self.shape[0], partial(kernels.divide, total, *eigen), self.threads)
        total[0, 0, 0] = 0
        out: Array = fft.idctn(total, type=2, workers=self.threads, overwrite_x=True)
        return out
