"""Velocities on the faces of cells, and making them free of divergence around obstacles."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.grids.poisson import Poisson
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.kernels import faces as face_kernels
from errant_gust.core.kernels import poisson as kernels

Array = NDArray[Any]
Triple = tuple[Array, Array, Array]


@dataclass(frozen=True)
class FaceGrid:
    """Velocity in m/s on faces: u (nx + 1, ny, nz), v (nx, ny + 1, nz), w (nx, ny, nz + 1); see `kernels/faces.py`."""

    region: GridRegion
    u: Array
    v: Array
    w: Array

    @property
    def nbytes(self) -> int:
        return self.u.nbytes + self.v.nbytes + self.w.nbytes

    def sample(self, points: Array, gradient: bool = False) -> tuple[Array, Array | None]:
        """points (3, n) float32 -> value (3, n) and, if asked, gradient (3, 3, n), in the scene's axes."""
        points, n = self.region.to_own(points), points.shape[1]
        out = np.empty((3, n), np.float32)
        slope = np.empty((3, 3, n if gradient else 1), np.float32)
        low, scale = self.region.lower, np.float32(1 / self.region.voxel_size)
        face_kernels.sample_faces(
            self.u, self.v, self.w, *points, *(np.float32(v) for v in low), scale, out, slope, gradient
        )
        if self.region.is_turned:
            r = self.region.axes.astype(np.float32)
            out = r @ out
            slope = np.einsum("ia,abn,jb->ijn", r, slope, r).astype(np.float32)
        return out, slope if gradient else None

    def divergence(self, shares: Triple | None = None) -> Array:
        """Net outflow of every cell in m/s (times the cell's side would be m²/s)."""
        u, v, w = (
            (f * s for f, s in zip((self.u, self.v, self.w), shares, strict=True))
            if shares
            else (self.u, self.v, self.w)
        )
        return np.asarray(np.diff(u, axis=0) + np.diff(v, axis=1) + np.diff(w, axis=2))


def face_points(region: GridRegion, axis: int, start: int, stop: int) -> Array:
    """Middles (3, m) in the scene of faces across an axis with flat indices start..stop."""
    shape = list(region.shape)
    shape[axis] += 1
    i = np.stack(np.unravel_index(np.arange(start, stop), shape)).astype(np.float32)
    i += np.float32(0.5)
    i[axis] -= np.float32(0.5)
    return region.to_scene(i * np.float32(region.voxel_size) + np.array(region.lower, np.float32)[:, None])


def open_shares(region: GridRegion, corners: Array | None) -> Triple:
    """Open part of every face from distances at the cells' corners (nx + 1, ny + 1, nz + 1); all open without any."""
    nx, ny, nz = region.shape
    shares = tuple(np.ones(s, np.float32) for s in ((nx + 1, ny, nz), (nx, ny + 1, nz), (nx, ny, nz + 1)))
    if corners is not None:
        kernels.face_shares(np.ascontiguousarray(corners, np.float32), *shares)
    return shares  # type: ignore[return-value]


@dataclass(frozen=True)
class Solved:
    """A projection's result: the velocity, the shares it is free of divergence with, and how well."""

    grid: FaceGrid
    shares: Triple
    iterations: int
    before: float
    after: float


def project(
    grid: FaceGrid,
    shares: Triple,
    *,
    wall: Triple | None = None,
    sources: Array | None = None,
    open_low: tuple[bool, bool, bool] = (False, False, False),
    open_high: tuple[bool, bool, bool] = (False, False, False),
    tolerance: float = 1e-4,
    threads: int = 2,
    progress: Callable[[float], None] | None = None,
    cancel: Callable[[], bool] | None = None,
) -> Solved:
    """Make the flux through the open faces free of divergence, or equal to `sources` (net outflow of a cell in m/s).

    Closed sides keep the velocity that comes in; through a closed whole the net flux is taken out evenly over the
    sides. wall: velocities of moving obstacles on the faces, which pass through their closed part. Projects twice,
    since one float32 solve ends near 5e-5.
    """
    u, v, w = grid.u.copy(), grid.v.copy(), grid.w.copy()
    result = FaceGrid(grid.region, u, v, w)
    inner: list[Array] = []
    for axis, s in enumerate(shares):
        s = s.copy()
        for side, opened in ((0, open_low[axis]), (-1, open_high[axis])):
            if not opened:
                s[(slice(None),) * axis + (side,)] = 0
        inner.append(s)
    solver = Poisson(*inner, threads=threads)
    fixed = np.zeros(grid.region.shape, np.float32) if sources is None else -sources
    if wall is not None:
        closed = [(1 - s) * f for s, f in zip(shares, wall, strict=True)]
        fixed = fixed + np.diff(closed[0], axis=0) + np.diff(closed[1], axis=1) + np.diff(closed[2], axis=2)
    if not any(open_low) and not any(open_high):
        _balance(result, shares, fixed)
    speed = (
        float(
            np.sqrt(
                np.mean(u.astype(np.float64) ** 2)
                + np.mean(v.astype(np.float64) ** 2)
                + np.mean(w.astype(np.float64) ** 2)
            )
        )
        or 1.0
    )

    def error() -> Array:
        return np.asarray(result.divergence(shares) + fixed, np.float32)

    first = error()
    active = np.ones(grid.region.shape, bool) if solver.plain else solver._active
    before = float(np.sqrt(np.mean(first[active].astype(np.float64) ** 2))) / speed if active.any() else 0.0
    iterations = 0
    for attempt in range(2):

        def report(part: float, a: int = attempt) -> None:
            if progress is not None:
                progress(0.5 * (a + part))

        p = solver.solve(-error(), tolerance=tolerance, progress=report, cancel=cancel)
        iterations += solver.iterations
        padded = np.zeros([n + 2 for n in p.shape], np.float32)
        padded[1:-1, 1:-1, 1:-1] = p
        kernels.correct(padded, u, v, w, np.array(open_low), np.array(open_high))
    last = error()
    after = float(np.sqrt(np.mean(last[active].astype(np.float64) ** 2))) / speed if active.any() else 0.0
    return Solved(result, shares, iterations, before, after)


def _balance(grid: FaceGrid, shares: Triple, fixed: Array) -> None:
    """Closed all round: what flows in must flow out, so the surplus is taken off the outermost faces evenly."""
    surplus = float(grid.divergence(shares).sum(dtype=np.float64) + fixed.sum(dtype=np.float64))
    sides = []
    for axis, (f, s) in enumerate(zip((grid.u, grid.v, grid.w), shares, strict=True)):
        for side, sign in ((0, -1), (-1, 1)):
            at = (slice(None),) * axis + (side,)
            sides.append((f, s, at, sign))
    area = sum(float(s[at].sum(dtype=np.float64)) for _, s, at, _ in sides)
    if area > 0:
        for f, s, at, sign in sides:
            f[at] -= np.float32(sign * surplus / area) * (s[at] > 0)


def spread_into_walls(grid: FaceGrid, shares: Triple, *, layers: int = 3, least: float = 0.35) -> FaceGrid:
    """Faces that are mostly closed get their neighbours' velocity, so that sampling near a wall sees the flow beside
    it."""
    out = []
    for f, s in zip((grid.u, grid.v, grid.w), shares, strict=True):
        a, known = f.copy(), s >= least
        if known.all():
            out.append(a)
            continue
        a[~known] = 0
        other, done = np.empty_like(a), np.empty_like(known)
        for _ in range(layers):
            face_kernels.spread(a, known, other, done)
            a, other, known, done = other, a, done, known
        out.append(a.copy())
    return FaceGrid(grid.region, *out)
