"""Matrix-free cut-cell Poisson solver: conjugate gradients preconditioned by a multigrid cycle.

Batty, Bertails, Bridson 2007 (variational pressure), Ng, Min, Gibou 2009 (face shares). Red-black Gauss–Seidel V(2, 2)
with piecewise-constant transfers; without obstacles and with closed sides a cosine transform solves it directly.
"""

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import fft, ndimage

from errant_gust.core.errors import Cancelled
from errant_gust.core.grids.slabs import slabs_of, solver_pool
from errant_gust.core.kernels import poisson as kernels

Array = NDArray[Any]
SERIAL = 26**3  # smaller levels are done by one thread
COARSEST = 5
BYTES_A_VOXEL = 108  # solver, faces and shares together at their peak, measured in tests/core/test_solver.py


class Level:
    """One grid of the hierarchy: faces, inverse diagonal, spans of cut cells, and vectors."""

    def __init__(self, wx: Array, wy: Array, wz: Array, threads: int) -> None:
        self.shape = (wy.shape[0], wx.shape[1], wx.shape[2])
        self.wx, self.wy, self.wz = wx, wy, wz
        nx, ny, nz = self.shape
        self.dinv = np.zeros((nx + 2, ny + 2, nz + 2), np.float32)
        self.lo, self.hi = np.empty((nx, ny), np.int32), np.empty((nx, ny), np.int32)
        kernels.set_up(wx, wy, wz, self.dinv, self.lo, self.hi)
        self.p, self.b, self.r = (np.zeros_like(self.dinv) for _ in range(3))
        self.slabs = slabs_of(nx, threads if nx * ny * nz > SERIAL else 1)

    @property
    def matrix(self) -> tuple[Array, ...]:
        return self.wx, self.wy, self.wz, self.dinv, self.lo, self.hi

    def each(self, work: Callable[[int, int], Any]) -> list[Any]:
        """Work on all slabs, at the same time if there are several; results in order."""
        if len(self.slabs) == 1:
            return [work(*self.slabs[0])]
        rest = [solver_pool().submit(work, a, b) for a, b in self.slabs[1:]]
        first = work(*self.slabs[0])
        return [first, *(future.result() for future in rest)]

    def coarse(self, threads: int) -> "Level":
        """The next grid: the mean of the four faces that make up each of its own."""
        wx, wy, wz = (_coarse_faces(w, axis) for axis, w in enumerate((self.wx, self.wy, self.wz)))
        return Level(wx, wy, wz, threads)


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


class Poisson:
    """Solves A p = b for face shares wx (nx + 1, ny, nz), wy, wz in [0, 1].

    A share on a boundary face above 0 means p = 0 beyond it (an open side). Float32; the residual can be brought to
    about 5e-5 of the right side; ask for less by solving for the remainder again.
    """

    def __init__(self, wx: Array, wy: Array, wz: Array, *, threads: int = 2) -> None:
        self.threads = max(1, threads)
        self.plain = bool(
            (wx[1:-1] == 1).all() and (wy[:, 1:-1] == 1).all() and (wz[:, :, 1:-1] == 1).all()
            and not any(w.any() for w in (wx[0], wx[-1], wy[:, 0], wy[:, -1], wz[:, :, 0], wz[:, :, -1]))
        )  # fmt: skip
        self.shape = (wy.shape[0], wx.shape[1], wx.shape[2])
        self.iterations = 0
        if self.plain:
            return
        self.levels = [Level(wx, wy, wz, self.threads)]
        while max(self.levels[-1].shape) > COARSEST:
            self.levels.append(self.levels[-1].coarse(self.threads))
        self._work = tuple(np.zeros_like(self.levels[0].p) for _ in range(4))
        self._pockets()
        self._dense()

    # null space ------------------------------------------------------------------------------------------------

    def _pockets(self) -> None:
        """Connected parts with closed sides all round: p is free by a constant in each."""
        top = self.levels[0]
        active = top.dinv[1:-1, 1:-1, 1:-1] > 0
        parts, count = ndimage.label(active)
        open_parts = set()
        for w, axis in ((top.wx, 0), (top.wy, 1), (top.wz, 2)):
            for side in (0, -1):
                face = np.take(w, side, axis=axis) > 0
                if face.any():
                    open_parts |= set(np.unique(np.take(parts, side, axis=axis)[face]).tolist())
        self._closed = [i for i in range(1, count + 1) if i not in open_parts]
        self._active = active
        self._parts = parts if count > 1 else None
        self._open = bool(open_parts)

    def _remove_mean(self, a: Array) -> None:
        inner = a[1:-1, 1:-1, 1:-1]
        if self._parts is None:
            if self._closed:
                top = self.levels[0]
                sums = top.each(lambda b, c: kernels.total_and_count(a, top.dinv, b, c))
                mean = np.float32(sum(s for s, _ in sums) / max(1.0, sum(n for _, n in sums)))
                top.each(lambda b, c: kernels.shift(a, top.dinv, mean, b, c))
            return
        for i in self._closed:
            where = self._parts == i
            inner[where] -= np.float32(inner[where].mean(dtype=np.float64))

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
        """One V-cycle on level `number` for its b, beginning at p = 0, the answer in its p."""
        level = self.levels[number]
        level.p.fill(0)
        if number == len(self.levels) - 1:
            inner = level.b[1:-1, 1:-1, 1:-1]
            level.p[1:-1, 1:-1, 1:-1] = (self._inverse @ inner.ravel()).reshape(level.shape)
            return
        for colour in (0, 1, 0, 1):
            level.each(lambda a, b, c=colour: kernels.relax(level.p, level.b, *level.matrix, c, a, b))  # type: ignore[misc]
        level.each(lambda a, b: kernels.residual(level.p, level.b, *level.matrix, level.r, a, b))
        below = self.levels[number + 1]
        below.each(lambda a, b: kernels.restrict(level.r, below.b, a, b))
        self._cycle(number + 1)
        level.each(lambda a, b: kernels.prolong(below.p, level.p, level.dinv, a, b))
        for colour in (1, 0, 1, 0):
            level.each(lambda a, b, c=colour: kernels.relax(level.p, level.b, *level.matrix, c, a, b))  # type: ignore[misc]

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
        if self.plain:
            return self._direct(b)
        top = self.levels[0]
        x, d, q, r = self._work
        x.fill(0)
        d.fill(0)
        r[1:-1, 1:-1, 1:-1] = b
        r[top.dinv == 0] = 0
        self._remove_mean(r)
        start = rr = float(np.sqrt(sum(top.each(lambda a, c: kernels.dot(r, r, a, c)))))
        self.iterations = 0
        if start == 0:
            return x[1:-1, 1:-1, 1:-1]
        previous = 0.0
        while self.iterations < most and rr > tolerance * start:
            if cancel is not None and cancel():
                raise Cancelled
            np.copyto(top.b, r)
            self._cycle(0)
            self._remove_mean(top.p)
            rz = float(sum(top.each(lambda a, c: kernels.dot(r, top.p, a, c))))
            beta = np.float32(rz / previous if previous else 0.0)
            top.each(lambda a, c, k=beta: kernels.turn(d, top.p, k, a, c))  # type: ignore[misc]
            dq = float(sum(top.each(lambda a, c: kernels.apply(d, *top.matrix, q, a, c))))
            if dq <= 0:
                break
            alpha = np.float32(rz / dq)
            rr = float(np.sqrt(sum(top.each(lambda a, c, k=alpha: kernels.step_and_norm(x, r, d, q, k, a, c)))))  # type: ignore[misc]
            previous = rz
            self.iterations += 1
            if progress is not None:
                done = np.log(max(rr / start, 1e-12)) / np.log(tolerance)
                progress(float(np.clip(done, 0, 1)))
        return np.ascontiguousarray(x[1:-1, 1:-1, 1:-1])

    def _direct(self, b: Array) -> Array:
        """All faces open inside and closed outside: the cosine transform diagonalises A."""
        total = fft.dctn(b - np.float32(b.mean(dtype=np.float64)), type=2, workers=self.threads)
        eigen = [(2 - 2 * np.cos(np.pi * np.arange(n) / n)).astype(np.float32) for n in self.shape]
        scale = eigen[0][:, None, None] + eigen[1][None, :, None] + eigen[2][None, None, :]
        scale[0, 0, 0] = 1
        total /= scale
        total[0, 0, 0] = 0
        out: Array = fft.idctn(total, type=2, workers=self.threads)
        return out
