"""Velocities on the faces of cells (Harlow, Welch 1965), and making them free of divergence around obstacles (Chorin
1968; face shares as Ng, Min, Gibou 2009 take them)."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.errors import SolverError
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.grids.slabs import each_slab
from errant_gust.core.grids.staggered.poisson import Poisson
from errant_gust.core.kernels import faces as face_kernels
from errant_gust.core.kernels import projection as kernels

Array = NDArray[Any]
Triple = tuple[Array, Array, Array]
GOOD = 1e-5  # of the speed, a cell: what a field is solved to
BOUND = 1e-3  # of the speed, a cell: what may remain at most; more is no answer
MOST_SOLVES = 6


@dataclass(frozen=True)
class FaceGrid:
    """Velocity in m/s on faces: u (nx + 1, ny, nz), v (nx, ny + 1, nz), w (nx, ny, nz + 1); see `kernels/faces.py`."""

    region: GridRegion
    u: Array
    v: Array
    w: Array

    @property
    def nbytes(self) -> int:
        """Bytes of its three arrays."""
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
        """Net outflow of every cell in m/s (times the cell's side would be m²/s). (nx, ny, nz); `shares`: how far
        each face is open, 0 to 1."""
        u, v, w = (
            (f * s for f, s in zip((self.u, self.v, self.w), shares, strict=True))
            if shares
            else (self.u, self.v, self.w)
        )
        return np.asarray(np.diff(u, axis=0) + np.diff(v, axis=1) + np.diff(w, axis=2))


def face_points(region: GridRegion, axis: int, at: Array) -> Array:
    """Middles (3, m) in the scene of faces across an axis with flat indices `at` (m,)."""
    shape = list(region.shape)
    shape[axis] += 1
    i = np.stack(np.unravel_index(at, shape)).astype(np.float32)
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


@dataclass(frozen=True)
class Walls:
    """How obstacles move.

    carried: their velocities as rigid bodies on the faces, along the grid's own axes, which pass through the closed
    part of a face; faces: what closed faces move at, growing and deforming included; swelling (nx, ny, nz): what
    growing pushes into a cell, in m/s (times the square of a cell's side: a flux). None where nothing does.
    """

    carried: Triple | None = None
    faces: Triple | None = None
    swelling: Array | None = None


class Projector:
    """Makes velocities on faces free of divergence around obstacles, again and again while these stay as they are.

    shares: open part of every face. open_low, open_high: which sides of the box let flow through (pressure 0 beyond).
    own: the shares are this projector's to change: closed sides become closed in them, which saves a copy.
    """

    def __init__(
        self,
        shares: Triple,
        open_low: tuple[bool, bool, bool] = (False, False, False),
        open_high: tuple[bool, bool, bool] = (False, False, False),
        threads: int = 2,
        own: bool = False,
    ) -> None:
        self.shares, self.low, self.high = shares, np.array(open_low), np.array(open_high)
        inner: list[Array] = []
        for axis, s in enumerate(shares):
            s = s if own else s.copy()
            for side in closed_sides(axis, open_low, open_high):
                s[side] = 0
            inner.append(s)
        self.solver = Poisson(*inner, threads=threads)
        self.closed = not any(open_low) and not any(open_high)

    @property
    def active(self) -> Array:
        """Cells (nx, ny, nz) that any flow can enter or leave."""
        return self.solver.active

    def fixed(self, walls: Walls, sources: Array | None) -> Array | None:
        """What the open faces have to make up for in every cell: moving walls and wanted net outflow, in m/s. (nx,
        ny, nz)."""
        if walls.carried is None:
            return None if sources is None else -sources
        fixed = np.zeros(self.solver.shape, np.float32) if sources is None else -sources
        for axis, (s, f) in enumerate(zip(self.shares, walls.carried, strict=True)):
            fixed += np.diff((1 - s) * f, axis=axis)
        return fixed if walls.swelling is None else fixed - walls.swelling

    def error(self, grid: FaceGrid, fixed: Array | None = None) -> Array:
        """What every cell still gives too much, (nx, ny, nz) in m/s, with what is `fixed`."""
        out = grid.divergence(self.shares)
        return np.asarray(out if fixed is None else out + fixed, np.float32)

    def step(
        self, grid: FaceGrid, fixed: Array | None = None, *, good: float = BOUND, measure: float = 0.0,
        total: Array | None = None, **options: Any,
    ) -> None:  # fmt: skip
        """Projects `grid` in place until what remains in a cell (root mean square) is at most `good` of what it is
        measured by: the speed that there is, or what there was to do, or `measure` (m/s), whatever is most.

        One float32 solve ends near 5e-5 of what there was to do, in long boxes at 1e-2; each further one goes on
        from there. SolverError if more than BOUND remains when that no longer helps. `fixed` (nx, ny, nz) in m/s;
        what the pressure was in all solves together is added to `total` (nx, ny, nz), in m/s a voxel.
        Raises SolverError for what is no answer.
        """
        self.iterations, solves, left = 0, 0, np.inf
        while True:
            p = self._solve(grid, fixed, **options)
            if total is not None:
                total += p[1:-1, 1:-1, 1:-1]
            self.iterations += self.solver.iterations
            solves, before, left = solves + 1, left, self.remaining(grid, fixed)
            if solves == 1:
                measure = max(measure, self.speed, self.solver.start / float(np.sqrt(max(1, self.solver.cells))))
            if left <= good * measure or solves == MOST_SOLVES or (solves > 1 and not left < 0.5 * before):
                break
        self.left = left / (measure or 1.0)
        if not left <= BOUND * measure:
            raise SolverError(
                f"the flow could not be made free of divergence: {left:.3g} m/s a voxel remain of {measure:.3g} m/s",
                fix="a region less long and thin for its voxels, or without gaps of a voxel between obstacles",
            )

    def _solve(self, grid: FaceGrid, fixed: Array | None, **options: Any) -> Array:
        solver = self.solver
        if solver.plain:
            p = solver.padded(-self.error(grid, fixed), **options)
        else:
            p = solver.padded(partial(kernels.outflows, grid.u, grid.v, grid.w, *self.shares, kept(fixed)), **options)
        self.take_off(p, grid)
        return p

    def take_off(self, padded: Array, grid: FaceGrid) -> None:
        """Takes the gradient of a pressure (nx + 2, ny + 2, nz + 2), in m/s a voxel, off the faces in place."""
        work = partial(kernels.correct, padded, grid.u, grid.v, grid.w, self.low, self.high)
        each_slab(self.solver.shape[0], work, self.solver.threads)

    def remaining(self, grid: FaceGrid, fixed: Array | None = None) -> float:
        """Root mean square over the cells of what is still to be made up for, in m/s; what a closed part cannot give
        or take (its mean) does not count. Sets `speed`, that of the faces, also root mean square. `fixed` (nx, ny,
        nz) in m/s."""
        count = max(1, int(self.solver.cells))
        totals = np.zeros((4, self.solver.shape[0]))
        work = partial(kernels.remains, grid.u, grid.v, grid.w, *self.shares, kept(fixed), self.solver.active, *totals)
        each_slab(self.solver.shape[0], work, self.solver.threads)
        squares, sums, speeds, faces = totals.sum(axis=1)
        self.speed = float(np.sqrt(speeds / max(1.0, faces)))
        if self.solver.several:
            fill = partial(kernels.outflows, grid.u, grid.v, grid.w, *self.shares, kept(fixed))
            return self.solver.begin(fill) / float(np.sqrt(count))
        if self.solver.closed:
            squares -= sums * sums / count
        return float(np.sqrt(max(0.0, squares) / count))

    def seal(self, grid: FaceGrid, walls: Walls) -> None:
        """Give closed faces the velocity of the wall in them."""
        for axis, (f, share) in enumerate(zip((grid.u, grid.v, grid.w), self.shares, strict=True)):
            work = partial(kernels.seal, f, share, kept(None if walls.faces is None else walls.faces[axis]))
            each_slab(f.shape[0], work, self.solver.threads)


def kept(a: Array | None) -> Array:
    """An array for a kernel: an empty one stands for none. (nx, ny, nz) float32, or (0, 0, 0)."""
    return np.empty((0, 0, 0), np.float32) if a is None else np.ascontiguousarray(a, np.float32)


def closed_sides(axis: int, low: Any, high: Any) -> list[tuple[slice | int, ...]]:
    """Where in the faces across an axis the closed ones of both sides of a box are."""
    return [(slice(None),) * axis + (side,) for side, opened in ((0, low[axis]), (-1, high[axis])) if not opened]


def project(
    grid: FaceGrid,
    shares: Triple,
    *,
    walls: Walls | None = None,
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
    sides. SolverError if what remains is too much to be called an answer. Shares (nx+1, ny, nz) and so on, 0 to 1.
    """
    result = FaceGrid(grid.region, grid.u.copy(), grid.v.copy(), grid.w.copy())
    projector = Projector(shares, open_low, open_high, threads)
    fixed = projector.fixed(walls or Walls(), sources)
    if projector.closed:
        _balance(result, shares, 0.0 if fixed is None else float(fixed.sum(dtype=np.float64)))

    def report(part: float) -> None:
        if progress is not None:
            progress(0.9 * part)

    before = projector.remaining(result, fixed)
    measure = max(projector.speed, before)
    projector.step(
        result, fixed, good=GOOD, measure=measure, tolerance=tolerance, progress=report, cancel=cancel
    )  # fmt: skip
    return Solved(result, shares, projector.iterations, before / (measure or 1.0), projector.left)


def _balance(grid: FaceGrid, shares: Triple, fixed: float) -> None:
    """Closed all round: what flows in must flow out, so the surplus is taken off the outermost faces evenly."""
    surplus = float(grid.divergence(shares).sum(dtype=np.float64) + fixed)
    sides = []
    for axis, (f, s) in enumerate(zip((grid.u, grid.v, grid.w), shares, strict=True)):
        for side, sign in ((0, -1), (-1, 1)):
            at = (slice(None),) * axis + (side,)
            sides.append((f, s, at, sign))
    area = sum(float(s[at].sum(dtype=np.float64)) for _, s, at, _ in sides)
    if area > 0:
        for f, s, at, sign in sides:
            f[at] -= np.float32(sign * surplus / area) * (s[at] > 0)


def spread_into_walls(
    grid: FaceGrid,
    shares: Triple,
    *,
    layers: int = 3,
    least: float = 0.35,
    known: list[list[tuple[slice | int, ...]]] | None = None,
    own: bool = False,
) -> FaceGrid:
    """Faces that are mostly closed get their neighbours' velocity, so that sampling near a wall sees the flow beside
    it.

    known: for each axis, where faces count as open whatever their share. own: change the grid's own arrays.
    """
    out = []
    for axis, (f, s) in enumerate(zip((grid.u, grid.v, grid.w), shares, strict=True)):
        sure = s >= least
        for side in known[axis] if known else []:
            sure[side] = True
        box = _box_of(~sure, layers + 1)
        if box is None:
            out.append(f)
            continue
        whole = f if own else f.copy()
        whole[box] = _spread(f[box], sure[box].copy(), layers)
        out.append(whole)
    return FaceGrid(grid.region, *out)


def into_unknown(a: Array, unknown: Array, walls: Array, *, layers: int = 4) -> None:
    """Cells (nx, ny, nz) that are not known, in and around walls, get the mean of neighbours that are, so many layers
    of them, in place. Both masks (nx, ny, nz) bool."""
    box = _box_of(walls, layers + 1)
    if box is None or not unknown[box].any():
        return
    a[box] = _spread(a[box], ~unknown[box], layers)


def _spread(a: Array, sure: Array, layers: int) -> Array:
    """What is sure, and so many layers around it of the means of neighbours; nothing beyond. `sure` is used up."""
    a = a.copy()
    a[~sure] = 0
    other, done = np.empty_like(a), np.empty_like(sure)
    for _ in range(layers):
        face_kernels.spread(a, sure, other, done)
        a, other, sure, done = other, a, done, sure
    return a


def _box_of(where: Array, margin: int) -> tuple[slice, slice, slice] | None:
    """The box that holds all that is true, and so many more all round; None if nothing is."""
    found = []
    for axis in range(3):
        line = np.flatnonzero(where.any(axis=tuple(a for a in range(3) if a != axis)))
        if not len(line):
            return None
        found.append(slice(max(0, int(line[0]) - margin), int(line[-1]) + 1 + margin))
    return found[0], found[1], found[2]
