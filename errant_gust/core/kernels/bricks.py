"""Sampling a vector grid at points in any order: sorted by brick first, so that each brick is read from the cache
once."""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel
from errant_gust.core.kernels.grids import F0, N1, N2, N3, N4, N5, place

F1 = np.float32(1.0)
SHIFT = np.uint32(3)  # bricks of 8³ voxels


@inline
def brick(p, n):
    """Brick along one axis of a coordinate in voxels."""
    top = np.float32(n - 2)
    return np.uint32(min(max(p, F0), top)) >> SHIFT


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
            i, fx, wx = place((sorted_points[first + s, 0] - lx) * scale, nx, outside)
            j, fy, wy = place((sorted_points[first + s, 1] - ly) * scale, ny, outside)
            k, fz, wz = place((sorted_points[first + s, 2] - lz) * scale, nz, outside)
            base[s] = np.uint32(3) * ((np.uint32(i) * np.uint32(ny) + np.uint32(j)) * np.uint32(nz) + np.uint32(k))
            part[0, s], part[1, s], part[2, s], part[3, s] = wx * wy * wz, fx, fy, fz
        for s in range(count):
            w, fx, fy, fz = part[0, s], part[1, s], part[2, s], part[3, s]
            a = np.uint64(base[s])
            b2, c = a + sy, a + sx
            d = c + sy
            w1 = w * fx
            w0 = w - w1
            wb, wd = w0 * fy, w1 * fy
            wa, wc = w0 - wb, w1 - wd
            u0 = wa * flat[a] + wb * flat[b2] + wc * flat[c] + wd * flat[d]
            v0 = wa * flat[a + N1] + wb * flat[b2 + N1] + wc * flat[c + N1] + wd * flat[d + N1]
            w0 = wa * flat[a + N2] + wb * flat[b2 + N2] + wc * flat[c + N2] + wd * flat[d + N2]
            u1 = wa * flat[a + N3] + wb * flat[b2 + N3] + wc * flat[c + N3] + wd * flat[d + N3]
            v1 = wa * flat[a + N4] + wb * flat[b2 + N4] + wc * flat[c + N4] + wd * flat[d + N4]
            w1 = wa * flat[a + N5] + wb * flat[b2 + N5] + wc * flat[c + N5] + wd * flat[d + N5]
            q = order[first + s]
            out[q, 0] = u0 + fz * (u1 - u0)
            out[q, 1] = v0 + fz * (v1 - v0)
            out[q, 2] = w0 + fz * (w1 - w0)
