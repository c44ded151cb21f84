"""Sampling a vector grid at points in any order: sorted by brick first, so that each brick is read from the cache
once."""

import numpy as np

from errant_gust.core.kernels.clamped import within
from errant_gust.core.kernels.compiler import inline, kernel
from errant_gust.core.kernels.grids import F0, gather, locate

SHIFT = np.uint32(3)  # bricks of 8³ voxels


@inline
def brick(p, n):
    """Brick along one axis of a coordinate in voxels."""
    return np.uint32(within(p, F0, np.float32(n - 2))) >> SHIFT


@kernel
def sample_by_brick(grid, points, lx, ly, lz, scale, outside, out):
    """points (n, 3) and out (n, 3) float32, grid (nx, ny, nz, 3); trilinear, the same bits as `sample_vector`."""
    nx, ny, nz, _ = grid.shape
    n = points.shape[0]
    by = np.uint32((ny + 7) // 8)
    bz = np.uint32((nz + 7) // 8)
    bricks = ((nx + 7) // 8) * np.int64(by) * np.int64(bz)
    own = np.empty(n, np.uint32)
    start = np.zeros(bricks + 1, np.uint32)
    for p in range(n):
        i = brick((points[p, 0] - lx) * scale, nx)
        j = brick((points[p, 1] - ly) * scale, ny)
        k = brick((points[p, 2] - lz) * scale, nz)
        own[p] = (i * by + j) * bz + k
    for p in range(n):
        start[own[p] + 1] += np.uint32(1)
    for b in range(bricks):
        start[b + 1] += start[b]
    order = np.empty(n, np.uint32)
    sorted_points = np.empty((n, 3), np.float32)
    for p in range(n):
        b = own[p]
        at = start[b]
        start[b] = at + np.uint32(1)
        order[at] = p
        sorted_points[at, 0] = points[p, 0]
        sorted_points[at, 1] = points[p, 1]
        sorted_points[at, 2] = points[p, 2]
    flat = grid.reshape(-1)
    sy = np.uint64(3 * nz)
    sx = np.uint64(3 * nz * ny)
    size = 128
    base = np.empty(size, np.uint32)
    part = np.empty((4, size), np.float32)
    for first in range(0, n, size):
        count = min(size, n - first)
        for s in range(count):
            q = first + s
            x, y, z = sorted_points[q, 0], sorted_points[q, 1], sorted_points[q, 2]
            locate(x, y, z, lx, ly, lz, scale, outside, nx, ny, nz, base, part, s)
        for s in range(count):
            q = order[first + s]
            out[q, 0], out[q, 1], out[q, 2] = gather(flat, base, part, s, sy, sx)
