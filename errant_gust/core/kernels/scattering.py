"""Places no two of which are near each other."""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel


@inline
def hashed(i, j, k, mask):
    """A slot of a table for a cell."""
    return (i * np.int64(73856093) ^ j * np.int64(19349663) ^ k * np.int64(83492791)) & mask


@kernel
def far_enough(points, radius, taken):
    """Which of the points (3, n), asked in turn, are no nearer than `radius` to any that was taken before: true in
    `taken` (n). Returns how many. Cells of that size are kept in a table of slots, so that only what is near is asked
    (dart throwing: Cook 1986)."""
    n = points.shape[1]
    size = np.int64(16)
    while size < 2 * n:
        size *= 2
    mask = size - 1
    head, after = np.full(size, -1, np.int32), np.full(n, -1, np.int32)
    least, count = radius * radius, 0
    for p in range(n):
        x, y, z = points[0, p], points[1, p], points[2, p]
        i, j, k = np.int64(np.floor(x / radius)), np.int64(np.floor(y / radius)), np.int64(np.floor(z / radius))
        free = True
        for a in range(27):
            s = head[hashed(i + a // 9 - 1, j + a // 3 % 3 - 1, k + a % 3 - 1, mask)]
            while s >= 0 and free:
                dx, dy, dz = points[0, s] - x, points[1, s] - y, points[2, s] - z
                free = dx * dx + dy * dy + dz * dz >= least
                s = after[s]
            if not free:
                break
        taken[p] = free
        if free:
            slot = hashed(i, j, k, mask)
            after[p] = head[slot]
            head[slot] = p
            count += 1
    return count
