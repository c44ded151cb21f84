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


class Projector:
    """Makes velocities on faces free of divergence around obstacles, again and again while these stay as they are.

    shares: open part of every face. open_low, open_high: which sides of the box let flow through (pressure 0 beyond).
    """

    def __init__(
        self,
        shares: Triple,
        open_low: tuple[bool, bool, bool] = (False, False, False),
        open_high: tuple[bool, bool, bool] = (False, False, False),
        threads: int = 2,
    ) -> None:
        self.shares, self.low, self.high = shares, np.array(open_low), np.array(open_high)
        inner: list[Array] = []
        for axis, s in enumerate(shares):
            s = s.copy()
            for side, opened in ((0, open_low[axis]), (-1, open_high[axis])):
                if not opened:
                    s[(slice(None),) * axis + (side,)] = 0
            inner.append(s)
        self.solver = Poisson(*inner, threads=threads)
        self.closed = not any(open_low) and not any(open_high)

    @property
    def active(self) -> Array:
        """Cells (nx, ny, nz) that any flow can enter or leave."""
        return np.ones(self.solver.shape, bool) if self.solver.plain else self.solver._active

    def fixed(self, wall: Triple | None, sources: Array | None) -> Array:
        """What the open faces have to make up for in every cell: moving walls and wanted net outflow, in m/s."""
        fixed = np.zeros(self.solver.shape, np.float32) if sources is None else -sources
        if wall is not None:
            closed = [(1 - s) * f for s, f in zip(self.shares, wall, strict=True)]
            fixed = fixed + np.diff(closed[0], axis=0) + np.diff(closed[1], axis=1) + np.diff(closed[2], axis=2)
        return fixed

    def error(self, grid: FaceGrid, fixed: Array) -> Array:
        return np.asarray(grid.divergence(self.shares) + fixed, np.float32)

    def step(self, grid: FaceGrid, fixed: Array, **options: Any) -> None:
        """One projection of `grid` in place. One float32 solve ends near 5e-5; a second goes on from there."""
        p = self.solver.padded(-self.error(grid, fixed), **options)
        kernels.correct(p, grid.u, grid.v, grid.w, self.low, self.high)


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
    sides. wall: velocities of moving obstacles on the faces, which pass through their closed part. Projects twice.
    """
    result = FaceGrid(grid.region, grid.u.copy(), grid.v.copy(), grid.w.copy())
    projector = Projector(shares, open_low, open_high, threads)
    fixed = projector.fixed(wall, sources)
    if projector.closed:
        _balance(result, shares, fixed)
    squares = [np.mean(f.astype(np.float64) ** 2) for f in (result.u, result.v, result.w)]
    speed = float(np.sqrt(sum(squares))) or 1.0
    active = projector.active

    def error() -> float:
        left = projector.error(result, fixed)[active].astype(np.float64)
        return float(np.sqrt(np.mean(left**2))) / speed if left.size else 0.0

    before, iterations = error(), 0
    for attempt in range(2):

        def report(part: float, a: int = attempt) -> None:
            if progress is not None:
                progress(0.5 * (a + part))

        projector.step(result, fixed, tolerance=tolerance, progress=report, cancel=cancel)
        iterations += projector.solver.iterations
    return Solved(result, shares, iterations, before, error())


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
        known = s >= least
        box = _box_of(~known, layers + 1)
        if box is None:
            out.append(f)
            continue
        whole = f.copy()
        a, known = np.ascontiguousarray(f[box]), np.ascontiguousarray(known[box])
        a[~known] = 0
        other, done = np.empty_like(a), np.empty_like(known)
        for _ in range(layers):
            face_kernels.spread(a, known, other, done)
            a, other, known, done = other, a, done, known
        whole[box] = a
        out.append(whole)
    return FaceGrid(grid.region, *out)


def _box_of(where: Array, margin: int) -> tuple[slice, slice, slice] | None:
    """The box that holds all that is true, and so many more all round; None if nothing is."""
    found = []
    for axis in range(3):
        line = np.flatnonzero(where.any(axis=tuple(a for a in range(3) if a != axis)))
        if not len(line):
            return None
        found.append(slice(max(0, int(line[0]) - margin), int(line[-1]) + 1 + margin))
    return found[0], found[1], found[2]
