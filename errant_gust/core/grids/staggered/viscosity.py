"""Implicit viscosity that varies in space, on the faces of a staggered grid with a free surface and walls.

Variational (Batty, Bridson 2008), matrix-free: conjugate gradients, preconditioned where it is stiff by a multigrid
cycle over coarser grids of the same sort, with linear transfers and Chebyshev's polynomials over Jacobi's (Adams,
Brezina, Hu, Tuminaro 2003). Where it is not, by Jacobi alone.
"""

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.blocks import Cancel, threads
from errant_gust.core.errors import Cancelled, SolverError
from errant_gust.core.grids.slabs import each_slab
from errant_gust.core.grids.staggered.faces import Triple, Walls
from errant_gust.core.kernels import viscosity as kernels
from errant_gust.core.kernels import viscous_stress

Array = NDArray[Any]
STIFF = 3.0  # dt ν / h² from which a multigrid cycle pays
DEGREE = 5
MOST_EIGENVALUE = 3.0  # of D⁻¹ (M + K): the three components are coupled; with 2.5 the cycle is no longer positive
RATIO = 12.0
LEAST_MASS = 0.01  # of a cell: faces beside liquid; lighter ones would be singular
GOOD = 1e-3  # of what there is of momentum
BOUND = 0.05  # more is no answer
MOST = 400
COARSEST = 6
FAR = np.float32(1e6)  # cells: where there is no wall
NODES = ((True, False, False), (False, True, False), (False, False, True))


class Level:
    """One grid: coefficients, and room for a cycle."""

    def __init__(self, shape: tuple[int, int, int], threads: int) -> None:
        self.shape, self.threads = shape, threads
        padded = tuple(n + 3 for n in shape)
        self.m = np.zeros((3, *padded), np.float32)
        self.unknown = np.zeros((3, *padded), bool)
        self.fixed = np.zeros((3, *padded), np.float32)
        self.c, self.exy, self.exz, self.eyz = (np.zeros(padded, np.float32) for _ in range(4))
        self.inverse = np.zeros((3, *padded), np.float32)
        self.lo, self.hi = np.empty(padded[:2], np.int32), np.empty(padded[:2], np.int32)
        self.totals = np.zeros(padded[0])

    @property
    def matrix(self) -> tuple[Array, ...]:
        """What the kernels take of it: masses and stiffnesses of (nx, ny, nz) faces, edges and cells, the inverse
        diagonal and where rows begin and end."""
        return self.m, self.c, self.exy, self.exz, self.eyz, self.inverse, self.lo, self.hi

    @property
    def plain(self) -> tuple[Array, ...]:
        """The same without the inverse: masses, centres and edges of (nx, ny, nz)."""
        return self.m, self.c, self.exy, self.exz, self.eyz

    def set_up(self) -> None:
        """When the coefficients are known."""
        kernels.diagonal(*self.plain, self.unknown, self.inverse, self.lo, self.hi)

    def room(self) -> None:
        """Memory for a cycle."""
        self.x, self.b, self.r, self.d, self.e = (np.zeros_like(self.inverse) for _ in range(5))
        self.share = np.zeros_like(self.inverse)

    def each(self, work: Callable[[int, int], Any]) -> float:
        """Work on all inner planes, at the same time; the sum of `totals`."""
        rows = self.inverse.shape[1] - 2
        threads = self.threads if self.inverse.size > 120_000 else 1
        if threads == 1:
            work(1, rows + 1)
        else:
            each_slab(rows, lambda a, b: work(a + 1, b + 1), threads)
        return float(self.totals[1:-1].sum())

    def coarse(self) -> "Level":
        """The next grid: arithmetic means, and a quarter of the stress."""
        nx, ny, nz = ((n + 1) // 2 for n in self.shape)
        made = Level((nx, ny, nz), self.threads)

        def mean(fine: Array, nodes: tuple[bool, bool, bool], scale: float, out: Array) -> None:
            rows = out.shape[0] - 2
            work = partial(kernels.coarsened, fine, *nodes, np.float32(scale), out)
            each_slab(rows, work, self.threads if out.size > 20_000 else 1)

        mean(self.c, (False, False, False), 0.25, made.c)
        mean(self.exy, (True, True, False), 0.25, made.exy)
        mean(self.exz, (True, False, True), 0.25, made.exz)
        mean(self.eyz, (False, True, True), 0.25, made.eyz)
        for axis in range(3):
            mean(self.m[axis], NODES[axis], 1.0, made.m[axis])
            mean(self.fixed[axis], NODES[axis], 1.0, made.fixed[axis])
        np.less(made.fixed, 0.5, out=made.unknown)
        made.set_up()
        return made


@dataclass(frozen=True)
class Cut:
    """Where walls are. ways: of the middles of faces (nx+1, ny, nz) and so on, how far they are from walls in cells,
    below 0 in one; corner: the same at the corners (nx+1, ny+1, nz+1), and stick there: how much they hold, 0 … 1."""

    ways: Triple
    corner: Array
    stick: Array

    @classmethod
    def none(cls, shares: Triple) -> "Cut":
        """No walls. `shares`: the open part of every face, (nx+1, ny, nz) and so on."""
        corners = tuple(n + (a != 0) for a, n in enumerate(shares[0].shape))
        far = tuple(np.full_like(s, FAR) for s in shares)
        return cls((far[0], far[1], far[2]), np.full(corners, FAR, np.float32), np.zeros(corners, np.float32))

    @property
    def given(self) -> tuple[Any, ...]:
        """As the kernels take it."""
        return self.ways, self.corner, self.stick


class Viscosity:
    """Faces of a liquid made viscous.

    phi: level set (nx, ny, nz) in cells; tough: logarithm of ν in m²/s there, a number in every cell within a cell of
    liquid; shares: open part of every face; cut: where walls are (None: there are none); scale: dt / h² in s/m²;
    weights: how many particles there are about each face, and full: how many would be about each cell if it were (None:
    phi alone says how much liquid there is).

    Walls cut through faces: those whose middles are in one have its velocity; those beside it have as much mass as
    there is room, and stress over the way to it, so that films have the exact profile wherever in its voxel it is.
    """

    def __init__(
        self, phi: Array, tough: Array, shares: Triple, cut: Cut | None, scale: float, threads: int = 2,
        weights: list[Array] | None = None, full: Array | None = None,
    ) -> None:  # fmt: skip
        self.phi, self.shares, self.threads = phi, shares, threads
        self.iterations, self.left = 0, 0.0
        nx, ny, nz = phi.shape
        top = Level((nx, ny, nz), threads)
        stress = partial(viscous_stress.stresses, phi, tough, np.float32(scale), top.c, top.exy, top.exz, top.eyz)
        each_slab(nx, stress, threads)
        nothing = np.empty((0, 0, 0), np.float32)
        cut = cut or Cut.none(shares)
        each_slab(nx, partial(viscous_stress.sticking, *cut.given, top.exy, top.exz, top.eyz), threads)
        for axis in range(3):
            weight, many = (weights[axis], full) if weights is not None else (nothing, nothing)
            given = phi, shares[axis], *cut.given, weight, many, axis, top.c, top.exy, top.exz, top.eyz
            out = np.float32(LEAST_MASS), top.m[axis], top.unknown[axis], top.fixed[axis]
            work = partial(viscous_stress.masses, *given, *out)
            each_slab(nx, work, threads)
        top.set_up()
        self.levels = [top]
        self.stiffest = float(top.c.max()) / 2
        if self.stiffest > STIFF:
            stiff = self.stiffest
            while max(self.levels[-1].shape) > COARSEST and stiff > 1:
                self.levels.append(self.levels[-1].coarse())
                stiff /= 4
            for level in self.levels:
                level.room()
            for level, below in zip(self.levels, self.levels[1:], strict=False):
                level.each(partial(kernels.shares, below.inverse, level.inverse, level.lo, level.hi, level.share))

    def unknown(self, axis: int) -> Array:
        """Faces across an axis that viscosity gives a velocity, (nx+1, ny, nz) and so on; bool."""
        return self._own(self.levels[0].inverse[axis], axis) > 0

    @staticmethod
    def _own(padded: Array, axis: int) -> Array:
        nx, ny, nz = (n - 3 for n in padded.shape)
        shape = [nx, ny, nz]
        shape[axis] += 1
        return padded[1 : 1 + shape[0], 1 : 1 + shape[1], 1 : 1 + shape[2]]

    def _cycle(self, number: int) -> None:
        """A cycle on a level for its b, from x = 0: symmetric, so that conjugate gradients may use it."""
        level = self.levels[number]
        last = number == len(self.levels) - 1
        self._smooth(level, level.b, fresh=True, turns=2 if last else 1)
        if last:
            return
        below = self.levels[number + 1]
        level.each(partial(kernels.residual, level.x, level.b, *level.matrix, level.r, level.totals))
        work = partial(kernels.restricted, level.r, level.share, below.inverse, below.lo, below.hi, below.b)
        below.each(work)
        self._cycle(number + 1)
        level.each(partial(kernels.prolonged, below.x, below.inverse, level.share, level.lo, level.hi, level.x))
        self._smooth(level, level.b, fresh=False)

    def _smooth(self, level: Level, b: Array, *, fresh: bool, turns: int = 1) -> None:
        most, least = MOST_EIGENVALUE, MOST_EIGENVALUE / RATIO
        centre, half = 0.5 * (most + least), 0.5 * (most - least)
        for turn in range(turns):
            right = b
            if not fresh or turn:
                level.each(partial(kernels.residual, level.x, b, *level.matrix, level.r, level.totals))
                right = level.r
            scale = np.float32(1 / centre)
            new = fresh and not turn
            level.each(partial(kernels.begun, right, level.inverse, level.lo, level.hi, scale, new, level.d, level.x))
            d, e, rho = level.d, level.e, half / centre
            for _ in range(DEGREE - 1):
                after = 1 / (2 * centre / half - rho)
                alpha, beta = np.float32(after * rho), np.float32(2 * after / half)
                level.each(partial(kernels.smoothed, d, right, level.r, *level.matrix, alpha, beta, e, level.x))
                d, e, rho, right = e, d, after, level.r

    def step(
        self, faces: Triple, walls: Triple | None = None, *, tolerance: float = GOOD, cancel: Cancel | None = None
    ) -> None:
        """Faces (nx+1, ny, nz) and so on in m/s, in place; walls: velocities of what is in the way, there (None: it
        stands). SolverError if it does not end."""
        top = self.levels[0]
        x, r, d, q = (np.zeros_like(top.inverse) for _ in range(4))
        b = np.zeros_like(x)
        for axis, f in enumerate(faces):
            own = self._own(x[axis], axis)
            own[...] = f
            wall = np.float32(0) if walls is None else walls[axis]
            np.copyto(own, wall, where=self._own(top.fixed[axis], axis) > 0)
        np.multiply(top.m, x, out=b)
        measure = float(np.sqrt(top.each(partial(kernels.product, b, b, top.lo, top.hi, top.totals))))
        left = float(np.sqrt(top.each(partial(kernels.residual, x, b, *top.matrix, r, top.totals))))
        measure = max(measure, 1e-12)
        previous, self.iterations = 0.0, 0
        cycles = len(self.levels) > 1
        z = top.x if cycles else np.zeros_like(x)
        while left > tolerance * measure and self.iterations < MOST:
            if cancel is not None and cancel():
                raise Cancelled
            if cycles:
                top.b = r
                self._cycle(0)
            else:
                np.multiply(top.inverse, r, out=z)
            rz = top.each(partial(kernels.product, r, z, top.lo, top.hi, top.totals))
            beta = np.float32(rz / previous if previous else 0.0)
            top.each(partial(kernels.turned, z, beta, d, top.lo, top.hi))
            dq = top.each(partial(kernels.applied, d, *top.matrix, q, top.totals))
            if not dq > 0 or not rz > 0:
                break
            alpha = np.float32(rz / dq)
            left = float(np.sqrt(top.each(partial(kernels.stepped, x, r, d, q, alpha, top.lo, top.hi, top.totals))))
            previous, self.iterations = rz, self.iterations + 1
        self.left = left / measure
        if not self.left <= BOUND:
            raise SolverError(
                f"the viscosity could not be solved: {self.left:.2g} of the momentum remain after "
                f"{self.iterations} iterations",
                fix="a viscosity that varies less, a shorter longest way, or larger voxels",
            )
        for axis, f in enumerate(faces):
            on = self.unknown(axis)
            np.copyto(f, self._own(x[axis], axis), where=on)


def hold(faces: Triple, cut: Cut, wall: Walls) -> Triple:
    """Faces (nx+1, ny, nz) and so on, m/s, of which those in walls are such that what is between them and those in the
    open has the wall's velocity at the wall, as far as it sticks."""
    out, still = [], np.empty((0, 0, 0), np.float32)
    for axis, f in enumerate(faces):
        made = f.copy()
        to = still if wall.faces is None else wall.faces[axis]
        each_slab(f.shape[0], partial(viscous_stress.stuck, f, *cut.given, axis, to, made), threads())
        out.append(made)
    return out[0], out[1], out[2]
