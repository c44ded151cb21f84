"""The smooth surface of what particles fill, as triangles (Zhu, Bridson 2005), with what the particles carry."""

from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.blocks import share_out, threads
from errant_gust.core.errors import BudgetError
from errant_gust.core.grids.region import budget
from errant_gust.core.grids.slabs import each_slab
from errant_gust.core.grids.transfer import by_slabs, order_by_cell
from errant_gust.core.kernels import surfaces as kernels

Array = NDArray[Any]
BYTES_A_CELL = 32
REACH, RADIUS = 2.0, 1.0
"""Of the mean, and of what is around it, in spacings of the particles."""
INWARD, OUTWARD = 0.75, 0.1
"""Spacings that the surface may be moved so that it encloses the volume of the particles: where many are, their mean
lies behind the outermost, and without this it would stand out by about 0.6."""
DEEPEST = 64.0  # cells that a thickness is followed
BAND = 3.0  # cells on either side of the surface in which distances are told
MOVED = 0.25  # cells that they are moved at once


@dataclass(frozen=True)
class ParticleSurface:
    """vertices (v, 3) in the frame of the places, faces (f, 3) that look outward, normals (v, 3), values (c, v) of
    particles, thickness (v,) behind each vertex, and the volume that is enclosed, in m³."""

    vertices: Array
    faces: Array
    normals: Array
    values: Array
    thickness: Array
    volume: float


def particle_surface(
    places: Array, spacing: float, voxel: float, *, blurs: int = 4, values: Array | None = None
) -> ParticleSurface:
    """The surface of particles at places (3, n), in m, that stand `spacing` apart, on voxels of a size of its own.

    blurs: how often it is smoothed (¼ ½ ¼ along each axis). The surface is then moved, less than a spacing, so that it
    encloses the volume that the particles stand for. values (c, n) are taken onto the vertices. Raises a BudgetError
    if the voxels would need too much memory.
    """
    from skimage.measure import marching_cubes

    values = np.zeros((0, places.shape[1]), np.float32) if values is None else values
    if not places.shape[1]:
        none = np.zeros((0, 3), np.float32)
        return ParticleSurface(none, none.astype(np.int32), none, values[:, :0], none[:, 0], 0.0)
    reach = REACH * spacing / voxel
    margin = int(np.ceil(reach)) + 2 + blurs // 2
    low = np.floor(places.min(axis=1).astype(float) / voxel) - margin
    shape = tuple(int(n) for n in np.ceil(places.max(axis=1) / voxel) + margin - low)
    need, limit = float(np.prod([float(n) for n in shape])) * BYTES_A_CELL, budget()
    if need > limit:
        fits = voxel * (need / limit) ** (1 / 3) * 1.03
        raise BudgetError(
            f"{' × '.join(map(str, shape))} voxels of a surface need {need / 1e9:,.1f} GB, the budget is "
            f"{limit / 1e9:,.1f} GB", where="voxels", fix=f"voxels of {fits:.2g} m would fit", fits=fits,
        )  # fmt: skip
    q = np.ascontiguousarray(places / np.float32(voxel) - low.astype(np.float32)[:, None], np.float32)
    order = order_by_cell(q, shape)  # type: ignore[arg-type]
    q = order.sorted(q)
    phi, level, volume = _distances(q, order.start, shape, spacing / voxel, blurs)
    if phi.min() >= level:
        none = np.zeros((0, 3), np.float32)
        return ParticleSurface(none, none.astype(np.int32), none, values[:, :0], none[:, 0], 0.0)
    points, faces, inward, _ = marching_cubes(phi, level, gradient_direction="descent")
    own = np.ascontiguousarray(points.T + 0.5, np.float32)  # cells' middles are half a cell in
    taken = np.empty((len(values), own.shape[1]), np.float32)
    sort = order.sorted(np.ascontiguousarray(values, np.float32)) if len(values) else values
    onto = partial(kernels.onto_vertices, own, q, order.start, shape, np.float32(reach), sort, taken)
    share_out(onto, own.shape[1], block=4096)
    thick = np.empty(own.shape[1], np.float32)
    toward = np.ascontiguousarray(inward.T, np.float32)
    through = partial(kernels.thicknesses, phi - np.float32(level), own, toward, np.float32(0.5), np.float32(DEEPEST))
    share_out(lambda a, b: through(thick, a, b), own.shape[1], block=4096)
    return ParticleSurface(
        vertices=((own.T + low) * voxel).astype(np.float32),
        faces=np.ascontiguousarray(faces, np.int32),
        normals=np.ascontiguousarray(-inward, np.float32),
        values=taken,
        thickness=thick * np.float32(voxel),
        volume=volume * voxel**3,
    )


def distance_of(q: Array, start: Array, shape: tuple[int, int, int], spacing: float) -> Array:
    """Distance in cells (nx, ny, nz) from the middles of cells to the smooth surface around particles q (3, n), in
    cells and sorted by cell, that stand `spacing` cells apart: below zero inside, at most `BAND` either way.

    The surface is the one that is drawn (`particle_surface`), as far as cells of this size show it."""
    phi, level, _ = _distances(q, start, shape, spacing, 1)
    far = np.float32(BAND + 1)
    out = np.empty(shape, np.float32)
    each_slab(shape[0], partial(kernels.beside, phi, np.float32(level), far, out), threads())
    kernels.spread(out, out < far, far)
    np.negative(out, out=out, where=phi < level)
    target = q.shape[1] * spacing**3
    for _ in range(3):  # as distances they can be moved together, until what is enclosed is what the particles fill
        near = out[np.abs(out) < 0.5]
        if near.size:
            more = (float((0.5 - near).sum()) + float((out <= -0.5).sum()) - target) / near.size
            out += np.float32(min(max(more, -MOVED), MOVED))
    return np.clip(out, -np.float32(BAND), np.float32(BAND), out=out)


def _distances(
    q: Array, start: Array, shape: tuple[int, ...], spacing: float, blurs: int
) -> tuple[Array, float, float]:  # fmt: skip
    """Distances in cells, smoothed; the level at which they enclose the volume of the particles, as far as it may be
    moved; and the volume (cells) that is enclosed."""
    reach = REACH * spacing
    sums = np.zeros((4, *shape), np.float32)
    slab = max(4, 2 * int(np.ceil(reach)))
    by_slabs(partial(kernels.means, q, start, np.float32(reach), sums), shape[0], slab)
    phi, other = np.empty(shape, np.float32), np.empty(shape, np.float32)
    far = np.float32((REACH - RADIUS) * spacing)
    each_slab(shape[0], partial(kernels.distances, sums, np.float32(RADIUS * spacing), far, phi), threads())
    del sums
    for _ in range(blurs):
        for axis in range(3):
            each_slab(shape[0], partial(kernels.blurred, phi, axis, other), threads())
            phi, other = other, phi
    target, steep = q.shape[1] * spacing**3, np.float32(2.5 / spacing)
    low, high = -INWARD * spacing, OUTWARD * spacing
    for _ in range(14):
        level = (low + high) / 2
        low, high = (level, high) if _volume(phi, level, steep) < target else (low, level)
    return phi, (low + high) / 2, _volume(phi, (low + high) / 2, steep)


def _volume(phi: Array, level: float, steep: np.float32) -> float:
    parts = np.zeros(phi.shape[0])

    def work(first: int, last: int) -> None:
        for i in range(first, last):
            parts[i] = kernels.shares(phi, np.float32(level), steep, i, i + 1)

    share_out(work, phi.shape[0], block=8)
    return float(parts.sum())
