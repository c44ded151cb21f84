"""Liquid with a free surface on a staggered grid: its level set, pressure that makes it free of divergence, and
velocities that go on a little beyond it.

Ghost fluid (Enright, Nguyen, Gibou, Fedkiw 2003) on the cut-cell solver of `poisson`: faces toward the air have no
weight, and what their pressure would give stands in an extra diagonal.
"""

from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.blocks import share_out, threads
from errant_gust.core.grids.slabs import each_slab
from errant_gust.core.grids.staggered.faces import FaceGrid, Projector, Triple, Walls, kept
from errant_gust.core.grids.staggered.poisson import Poisson
from errant_gust.core.grids.transfer import by_slabs
from errant_gust.core.kernels import free_surface as kernels
from errant_gust.core.kernels import projection, transfers

Array = NDArray[Any]
SURE = 0.35
"""Share from which the velocity of a face is taken to be that of the flow; of slivers it may be anything."""
RADIUS = 0.75
"""Of the spheres around particles whose union is the liquid, in cells."""


class FreeSurface(Projector):
    """Makes velocities on the faces of a liquid free of divergence.

    shares: open part of every face; phi: level set (nx, ny, nz) in cells, below 0 in the liquid, above in a layer all
    round.
    """

    def __init__(self, shares: Triple, phi: Array, threads: int = 2) -> None:
        self.shares, self.phi = shares, phi
        self.low, self.high = np.zeros(3, bool), np.zeros(3, bool)
        weights = tuple(np.zeros_like(s) for s in shares)
        extra = np.empty_like(phi)
        each_slab(phi.shape[0], partial(kernels.weights, phi, *shares, *weights, extra), threads)
        self.solver = Poisson(*weights, threads=threads, extra=extra)
        self.closed = False

    def _solve(self, grid: FaceGrid, fixed: Array | None, **options: Any) -> Array:
        fill = partial(projection.outflows, grid.u, grid.v, grid.w, *self.shares, kept(fixed))
        p = self.solver.padded(fill, **options)
        work = partial(kernels.correct, p, self.phi, grid.u, grid.v, grid.w)
        each_slab(self.phi.shape[0], work, self.solver.threads)
        return p

    def touching(self, least: float = SURE) -> list[Array]:
        """Faces (as a mask each) beside liquid that are open by at least a share. Three arrays of the faces' shapes:
        (nx+1, ny, nz), (nx, ny+1, nz), (nx, ny, nz+1)."""
        out = []
        for axis, s in enumerate(self.shares):
            known = np.empty(s.shape, bool)
            work = partial(kernels.touching, self.phi, s, axis, np.float32(least), known)
            each_slab(s.shape[0], work, self.solver.threads)
            out.append(known)
        return out


def level_set(q: Array, start: Array, shape: tuple[int, int, int], radius: float = RADIUS) -> Array:
    """Distance in cells (nx, ny, nz) from cells' middles to the union of spheres around particles q (3, n), which are
    sorted by cell: negative inside, at most 2.25; only near particles."""
    square = np.full(shape, kernels.FAR_AWAY, np.float32)
    by_slabs(partial(transfers.nearest, q, start, square), shape[0])
    phi = np.empty(shape, np.float32)
    each_slab(shape[0], partial(kernels.level, square, np.float32(radius), phi), threads())
    return phi


def deep(phi: Array) -> Array:
    """Liquid cells whose 26 neighbours are liquid. `phi` (nx, ny, nz): distance from the surface, below 0 in liquid;
    bool."""
    out = np.empty(phi.shape, bool)
    each_slab(phi.shape[0], partial(kernels.deep, phi, out), threads())
    return out


def extrapolate(faces: Triple, known: list[Array], layers: int) -> None:
    """Faces that are not known get the mean of known ones beside them, so many layers outward, in place. `faces` and
    `known` (nx+1, ny, nz), (nx, ny+1, nz), (nx, ny, nz+1); m/s."""

    def work(first: int, last: int) -> None:
        for axis in range(first, last):
            kernels.extrapolate(faces[axis], known[axis], layers)

    share_out(work, 3, block=1)


def slide(faces: Triple, shares: Triple, corner: Array, wall: Walls) -> Triple:
    """Velocities within walls go along them: their part into the wall is the wall's. corner: distances in cells.
    `corner` (nx+1, ny+1, nz+1), `faces` and `shares` (nx+1, ny, nz) and so on; m/s."""
    moved = wall.carried if wall.faces is None else wall.faces
    along = tuple(kept(None) for _ in range(3)) if moved is None else moved
    out = []
    for axis, f in enumerate(faces):
        made = f.copy()
        args = (corner, shares[axis], np.float32(SURE), axis, *faces, *along, made)
        each_slab(f.shape[0], partial(kernels.along_walls, *args), threads())
        out.append(made)
    return out[0], out[1], out[2]
