"""A level set that is only carried: where every voxel was when that began, and what the distances were there.

The way back is followed once a step and put together with the one that is known (the characteristic mapping method of
Mercier, Yin and Nave 2020): distances are looked up where they were, so that no step makes them duller.
"""

import numpy as np

from errant_gust.core.kernels.clamped import within
from errant_gust.core.kernels.compiler import inline, kernel
from errant_gust.core.kernels.level_set import BF, F0, F1, HALF, ROW, TWO

LOST = np.float32(1e6)
"""Voxels: the way of a voxel of which it is not known where it was."""
KNOWN = np.float32(1e5)
VAST = np.float32(1e4)
NEARLY = np.float32(6.9)
SIXTH = np.float32(1 / 6)
ENOUGH = np.float32(0.1)
"""The share of the eight voxels around a place, at least, of which the way is known, for it to be known there."""


@inline
def cell_of(i, e, low, top):
    """The cell that lies `e` voxels from voxel i, of low … top."""
    return min(max(i + np.int64(within(np.floor(e), -VAST, VAST)), low), top)


@inline
def cubic(t):
    """Weights of a cubic through four voxels, at t from the second (Lagrange)."""
    t = within(t, -F1, TWO)
    a, b, c, d = t + F1, t, t - F1, t - TWO
    return -b * c * d * SIXTH, a * c * d * HALF, -a * b * d * HALF, a * b * c * SIXTH


@inline
def of_four(w, n):
    """One of four."""
    return w[0] if n == 0 else (w[1] if n == 1 else (w[2] if n == 2 else w[3]))


@inline
def blown(wind, shape, i, j, k, e, f, g):
    """A velocity at (e, f, g) voxels from a voxel, linear between voxels."""
    a, b, c = cell_of(i, e, 0, shape[0] - 2), cell_of(j, f, 0, shape[1] - 2), cell_of(k, g, 0, shape[2] - 2)
    e, f, g = within(e - (a - i), F0, F1), within(f - (b - j), F0, F1), within(g - (c - k), F0, F1)
    u, v, w = F0, F0, F0
    for m in range(4):
        s = (e if m & 1 else F1 - e) * (f if m & 2 else F1 - f)
        at = ((a + (m & 1)) * shape[1] + b + (m >> 1)) * shape[2] + c
        p, q = s * (F1 - g), s * g
        u += p * wind[at, 0] + q * wind[at + 1, 0]
        v += p * wind[at, 1] + q * wind[at + 1, 1]
        w += p * wind[at, 2] + q * wind[at + 1, 2]
    return u, v, w


@inline
def cubic_at(values, shape, i, j, k, e, f, g):
    """A grid at (e, f, g) voxels from a voxel, cubic between voxels."""
    a, b, c = cell_of(i, e, 1, shape[0] - 3), cell_of(j, f, 1, shape[1] - 3), cell_of(k, g, 1, shape[2] - 3)
    x, y, z = cubic(e - (a - i)), cubic(f - (b - j)), cubic(g - (c - k))
    total = F0
    for m in range(4):
        s = of_four(x, m)
        for n in range(4):
            at = ((a - 1 + m) * shape[1] + b - 1 + n) * shape[2] + c - 1
            line = z[0] * values[at] + z[1] * values[at + 1] + z[2] * values[at + 2] + z[3] * values[at + 3]
            total += s * of_four(y, n) * line
    return total


@inline
def linear_at(values, shape, i, j, k, e, f, g):
    """A grid at (e, f, g) voxels from a voxel, linear between voxels."""
    a, b, c = cell_of(i, e, 0, shape[0] - 2), cell_of(j, f, 0, shape[1] - 2), cell_of(k, g, 0, shape[2] - 2)
    e, f, g = within(e - (a - i), F0, F1), within(f - (b - j), F0, F1), within(g - (c - k), F0, F1)
    total = F0
    for m in range(4):
        at = ((a + (m & 1)) * shape[1] + b + (m >> 1)) * shape[2] + c
        s = (e if m & 1 else F1 - e) * (f if m & 2 else F1 - f)
        total += s * ((F1 - g) * values[at] + g * values[at + 1])
    return total


@inline
def smooth_way_at(way, shape, i, j, k, e, f, g):
    """The way at (e, f, g) voxels from a voxel, cubic between voxels; LOST (the first of three) where it is not known
    of all."""
    a, b, c = cell_of(i, e, 1, shape[0] - 3), cell_of(j, f, 1, shape[1] - 3), cell_of(k, g, 1, shape[2] - 3)
    x, y, z = cubic(e - (a - i)), cubic(f - (b - j)), cubic(g - (c - k))
    u, v, w, worst = F0, F0, F0, F0
    for m in range(4):
        s = of_four(x, m)
        for n in range(4):
            t = s * of_four(y, n)
            at = ((a - 1 + m) * shape[1] + b - 1 + n) * shape[2] + c - 1
            for o in range(4):
                share = t * of_four(z, o)
                worst = max(worst, way[at + o, 0])
                u += share * way[at + o, 0]
                v += share * way[at + o, 1]
                w += share * way[at + o, 2]
    return (u if worst < KNOWN else LOST), v, w


@inline
def way_at(way, shape, i, j, k, e, f, g):
    """The way at (e, f, g) voxels from a voxel, linear between those voxels of which it is known; else LOST."""
    a, b, c = cell_of(i, e, 0, shape[0] - 2), cell_of(j, f, 0, shape[1] - 2), cell_of(k, g, 0, shape[2] - 2)
    e, f, g = within(e - (a - i), F0, F1), within(f - (b - j), F0, F1), within(g - (c - k), F0, F1)
    u, v, w, known = F0, F0, F0, F0
    for m in range(8):
        at = ((a + (m & 1)) * shape[1] + b + (m >> 1 & 1)) * shape[2] + c + (m >> 2)
        t = (e if m & 1 else F1 - e) * (f if m & 2 else F1 - f) * (g if m & 4 else F1 - g)
        if way[at, 0] < KNOWN:
            u, v, w, known = u + t * way[at, 0], v + t * way[at, 1], w + t * way[at, 2], known + t
    by = F1 / max(known, ENOUGH)
    return (u * by if known >= ENOUGH else LOST), v * by, w * by


@kernel
def blowing(rows, flow, free, wind, first, last):
    """A flow (3, n) times what share of it is left (n,), at the voxels of rows, into wind (n, 3)."""
    for n in range(first, last):
        for c in range(ROW * rows[n], ROW * rows[n] + ROW):
            wind[c, 0], wind[c, 1], wind[c, 2] = flow[0, c] * free[c], flow[1, c] * free[c], flow[2, c] * free[c]


@kernel
def carried(rows, shape, wind, dt, way, grid, base, offset, base_shape, out, out_way, first, last):
    """Rows of a window after `dt` seconds in a wind (n, 3; voxels a second, at voxels of the window): distances into
    out (8 numbers a row), and ways into out_way (8 a row, 3; voxels).

    way (n, 3): from each voxel to where it was when its carrying began, before this step. base: distances then, in a
    window of base_shape whose first voxel is `offset` (3, voxels) in this one. grid: distances now: what is far from
    the surface in them is so still, and is carried by itself where its way is lost. The way back in this step:
    Runge–Kutta of fourth order.
    """
    x, y = shape[1] * (shape[2] // ROW), shape[2] // ROW
    half = HALF * dt
    for n in range(first, last):
        row = rows[n]
        i, j = row // x, row // y % shape[1]
        for c in range(ROW):
            k, at = ROW * (row % y) + c, ROW * n + c
            a0, a1, a2 = blown(wind, shape, i, j, k, F0, F0, F0)
            b0, b1, b2 = blown(wind, shape, i, j, k, -half * a0, -half * a1, -half * a2)
            c0, c1, c2 = blown(wind, shape, i, j, k, -half * b0, -half * b1, -half * b2)
            d0, d1, d2 = blown(wind, shape, i, j, k, -dt * c0, -dt * c1, -dt * c2)
            e = -dt * SIXTH * (a0 + TWO * (b0 + c0) + d0)
            f = -dt * SIXTH * (a1 + TWO * (b1 + c1) + d1)
            g = -dt * SIXTH * (a2 + TWO * (b2 + c2) + d2)
            value = linear_at(grid, shape, i, j, k, e, f, g)
            far = abs(value) >= NEARLY  # what comes from there is looked up when it comes nearer
            u, v, w = LOST, F0, F0
            if not far:
                u, v, w = smooth_way_at(way, shape, i, j, k, e, f, g)
            if u >= KNOWN:
                u, v, w = way_at(way, shape, i, j, k, e, f, g)
            if u < KNOWN:
                u, v, w = u + e, v + f, w + g
                out_way[at, 0], out_way[at, 1], out_way[at, 2] = u, v, w
                if not far:
                    p, q, r = i - offset[0], j - offset[1], k - offset[2]
                    there = F0 <= p + u <= base_shape[0] - 1 and F0 <= q + v <= base_shape[1] - 1
                    there = there and F0 <= r + w <= base_shape[2] - 1
                    value = cubic_at(base, base_shape, p, q, r, u, v, w) if there else BF
            else:
                out_way[at, 0], out_way[at, 1], out_way[at, 2] = LOST, F0, F0
            out[at] = within(value, -BF, BF)


@kernel
def lost_near(grid, way, rows, reach, first, last):
    """How many voxels of rows are nearer to the surface than `reach` voxels, and their way is lost."""
    found = 0
    for n in range(first, last):
        for c in range(ROW * rows[n], ROW * rows[n] + ROW):
            found += 1 if abs(grid[c]) < reach and way[c, 0] >= KNOWN else 0
    return found
