"""A solved flow beside walls: what its faces are in them, so that nothing bends or leaks where it is sampled.

The solver knows the flow through whole faces well (see docs/verification.md) and through cut ones only on their mean.
So faces that are not whole are made anew from the flow a little farther out: along the wall it goes on as it changes
there, across it the speed falls to that of the wall with the square of the distance. Then the cells that such faces
touch are made free of divergence again by changing nothing else, and what is left of a speed through the surface is
taken out within half a voxel of it, where the distance is exact.
"""

import numpy as np

from errant_gust.core.blocks import BLOCK, Cancel, share_out
from errant_gust.core.fields.samples import Array, Samples
from errant_gust.core.geometry.placed import PlacedShape
from errant_gust.core.geometry.primitives import PAIRS
from errant_gust.core.grids.staggered.faces import FaceGrid, Triple, face_points, spread_into_walls

WHOLE = 0.999
NEAR, FAR = 1.0, 2.0  # voxels from the wall at which the flow is looked at
DEPTH = 3.0  # voxels into the wall that faces are made anew
SEEN = 2.0  # voxels into the wall whose divergence is seen where the flow is
TOLERANCE, MOST = 1e-5, 400
Sided = list[tuple[PlacedShape, float]]
"""Shapes with 1, and vessels with −1: the sign of the distance where the flow is."""


def extended(
    grid: FaceGrid, shares: Triple, walls: Sided, wanted: Array | None = None, cancel: Cancel | None = None
) -> FaceGrid:  # fmt: skip
    """The flow with the faces in and at walls made anew; wanted: net outflow of the cells (nx, ny, nz) in m/s."""
    first = spread_into_walls(grid, shares)
    made = FaceGrid(grid.region, *(f.copy() for f in (first.u, first.v, first.w)))
    for axis, (f, s) in enumerate(zip((made.u, made.v, made.w), shares, strict=True)):
        at = np.flatnonzero(s < WHOLE)
        values = f.reshape(-1)

        def work(a: int, b: int, at: Array = at, values: Array = values, axis: int = axis) -> None:
            part = at[a:b]
            known, found = _from_outside(first, face_points(grid.region, axis, part), walls, axis)
            values[part[known]] = found

        share_out(work, len(at), block=BLOCK, cancel=cancel)
    return _closed_up(made, shares, walls, wanted, cancel)


def _from_outside(grid: FaceGrid, points: Array, walls: Sided, axis: int) -> tuple[Array, Array]:
    """Which of the points (3, n) are near enough to a wall, and the component across the faces there."""
    h = np.float32(grid.region.voxel_size)
    d, normal, of = _nearest(points, walls, 1)
    assert normal is not None
    velocity = np.zeros_like(points)
    for (shape, _), here in zip(walls, of, strict=True):
        if shape.moves and here.any():
            velocity[:, here] = shape.surface_velocity(np.ascontiguousarray(points[:, here]))
    d = d / h
    ways = [np.ascontiguousarray(points + (k - d) * h * normal) for k in (NEAR, FAR)]
    clear = (d > -DEPTH) & (d < NEAR)
    for way, k in zip(ways, (NEAR, FAR), strict=True):
        for shape, side in walls:  # in a narrow gap there is no farther out
            clear &= side * shape.distance(way)[0] > (k - 1) * h
    points_in = np.stack([grid.region.to_own(way) for way in ways])
    low, high = (np.array(c, np.float32)[:, None] for c in (grid.region.lower, grid.region.upper))
    clear &= ((points_in >= low) & (points_in <= high)).all(axis=(0, 1))
    at = np.flatnonzero(clear)
    d, normal, velocity = d[at], normal[:, at], velocity[:, at]
    a, b = (grid.sample(np.ascontiguousarray(way[:, at]))[0] - velocity for way in ways)
    across_a, across_b = (a * normal).sum(axis=0), (b * normal).sum(axis=0)
    along_a, along_b = a - across_a * normal, b - across_b * normal
    along = along_a + (d - NEAR) / (FAR - NEAR) * (along_b - along_a)
    # c d + e d² through both, zero on the wall
    e = (across_b / FAR - across_a / NEAR) / (FAR - NEAR)
    c = across_a / NEAR - e * NEAR
    # inside walls it goes on straight: a parabola would turn back
    across = np.where(d > 0, (c + e * d) * d, c * d)
    v = along + across * normal + velocity
    return at, (grid.region.axes[:, axis].astype(np.float32) @ v).astype(np.float32)


def _closed_up(grid: FaceGrid, shares: Triple, walls: Sided, wanted: Array | None, cancel: Cancel | None) -> FaceGrid:
    """No divergence (or what is wanted, in m/s) in the cells at walls, by the least change of the faces that are not
    whole; grid's own arrays are changed.

    Cells deeper than SEEN voxels are seen by no point where the flow is and may have any: there p = 0. So the system
    is a thin shell, and conjugate gradients with its diagonal need few steps.
    """
    from scipy import sparse
    from scipy.sparse.linalg import cg

    loose = [s < WHOLE for s in shares]
    touched = np.zeros(grid.region.shape, bool)
    for axis, where in enumerate(loose):
        size = where.shape[axis]
        touched |= where.take(range(size - 1), axis) | where.take(range(1, size), axis)
    found = np.flatnonzero(touched)
    number = np.full(grid.region.shape, -1, np.int64)
    flat = number.reshape(-1)
    shallow = np.empty(len(found), bool)

    def work(a: int, b: int) -> None:
        d, _, _ = _nearest(grid.region.centres_at(found[a:b]), walls, 0)
        shallow[a:b] = d > -SEEN * grid.region.voxel_size

    share_out(work, len(found), block=BLOCK, cancel=cancel)
    shell = found[shallow]
    if not len(shell):
        return grid
    flat[shell] = np.arange(len(shell))
    left = sum(np.diff(f, axis=axis) for axis, f in enumerate((grid.u, grid.v, grid.w)))
    if wanted is not None:
        left = left - wanted
    right = -np.asarray(left, np.float64).reshape(-1)[shell]
    diagonal, ends = np.zeros(len(shell)), []
    sides: list[tuple[Array, Array, Array]] = []
    for axis, where in enumerate(loose):
        faces = np.flatnonzero(where)
        index = list(np.unravel_index(faces, where.shape))
        pair = []
        for back in (1, 0):
            cell = [i - back * (a == axis) for a, i in enumerate(index)]
            there = (cell[axis] >= 0) & (cell[axis] < number.shape[axis])
            cell[axis] = np.clip(cell[axis], 0, number.shape[axis] - 1)
            pair.append(np.where(there, number[tuple(cell)], -1))
        low, high = pair
        for end in pair:
            np.add.at(diagonal, end[end >= 0], 1.0)
        both = (low >= 0) & (high >= 0)
        ends.append((low[both], high[both]))
        sides.append((faces, low, high))
    rows = np.concatenate([np.concatenate(e) for e in ends] + [np.arange(len(shell))])
    columns = np.concatenate([np.concatenate(e[::-1]) for e in ends] + [np.arange(len(shell))])
    values = np.concatenate([-np.ones(len(rows) - len(shell)), diagonal])
    matrix = sparse.csr_matrix((values, (rows, columns)), shape=(len(shell),) * 2)
    inverse = sparse.diags(1 / np.maximum(diagonal, 1e-12))
    p, _ = cg(matrix, right, rtol=TOLERANCE, maxiter=MOST, M=inverse)
    before, after = np.linalg.norm(right), np.linalg.norm(right - matrix @ p)
    if not after < before:  # nothing to gain: what was made stands
        return grid
    p = np.append(p, 0.0)  # of the index −1: beyond
    for f, (faces, low, high) in zip((grid.u, grid.v, grid.w), sides, strict=True):
        f.reshape(-1)[faces] -= (p[high] - p[low]).astype(np.float32)
    return grid


def _nearest(points: Array, walls: Sided, order: int) -> tuple[Array, Array | None, list[Array]]:
    """Distance (n,) to the nearest wall, positive where the flow is; from order 1 its gradient (3, n); and for every
    wall which points (n,) it is the nearest of."""
    n = points.shape[1]
    d, normal = np.full(n, np.inf, np.float32), np.zeros((3, n), np.float32) if order else None
    which = np.full(n, -1)
    for i, (shape, side) in enumerate(walls):
        own, slope, _ = shape.distance(points, order)
        nearer = side * own < d
        d = np.where(nearer, np.float32(side) * own, d)
        which[nearer] = i
        if normal is not None and slope is not None:
            normal = np.where(nearer, np.float32(side) * slope, normal)
    return d, normal, [which == i for i in range(len(walls))]


def kept_out(made: Samples, points: Array, walls: Sided, reach: float) -> Samples:
    """The flow at points (3, n) with the speed through every wall taken out: all of it on the wall and behind it, none
    beyond the reach."""
    for shape, side in walls:
        near = shape.near(points, reach) if side > 0 else np.ones(points.shape[1], bool)
        at = np.flatnonzero(near)
        if not len(at):
            continue
        own = np.ascontiguousarray(points[:, at])
        value = np.ascontiguousarray(made.value[:, at])
        slope = None if made.gradient is None else np.ascontiguousarray(made.gradient[:, :, at])
        part = tangential(Samples(value, slope), own, shape, side, reach)
        whole = made.value.copy()
        whole[:, at] = part.value
        gradient = made.gradient
        if gradient is not None:
            gradient = gradient.copy()
            gradient[:, :, at] = part.slope
        made = Samples(whole, gradient)
    return made


def ramp(d: Array, reach: float) -> tuple[Array, Array]:
    """α and its slope along d (Bridson, Houriham, Nordenstam 2007): 0 inside, 1 beyond the reach. `d` (n,) and
    `reach` in m; α (n,) without a unit, its slope (n,) in 1/m."""
    r = np.clip(d / np.float32(reach), 0, 1)
    r2 = r * r
    alpha = r * (15 + r2 * (-10 + 3 * r2)) * np.float32(0.125)
    slope = (15 + r2 * (-30 + 15 * r2)) * np.float32(0.125 / reach)
    return alpha, np.where((d < 0) | (r >= 1), np.float32(0), slope)


def tangential(f: Samples, points: Array, shape: PlacedShape, side: float, reach: float) -> Samples:
    """f less 1 − α(d / reach) of its speed along the normal, against the shape's own. `points` (3, n) in m; `reach`
    in m."""
    d, g, h6 = shape.distance(points, 2 if f.gradient is not None else 1)
    assert g is not None
    alpha, da = ramp(np.float32(side) * d, reach)
    da = np.float32(side) * da
    rest = 1 - alpha
    v = f.value - shape.surface_velocity(points) if shape.moves else f.value
    along = (g * v).sum(axis=0)
    value = f.value - rest * along * g
    if f.gradient is None:
        return Samples(value)
    assert h6 is not None
    h = np.empty((3, 3, points.shape[1]), np.float32)
    for row, (i, j) in enumerate(PAIRS):
        h[i, j] = h[j, i] = h6[row]
    dalong = np.einsum("kjn,kn->jn", h, v) + np.einsum("kn,kjn->jn", g, f.gradient)
    change = -da * along * g
    return Samples(value, f.gradient - g[:, None] * (change + rest * dalong)[None, :] - rest * along * h)
