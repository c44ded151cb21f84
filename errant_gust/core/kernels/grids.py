"""Sampling of regular grids: trilinear with its gradient, and cubic B-spline with first and second derivatives.

Grids are (nx, ny, nz) or (nx, ny, nz, 3) float32; points are (3, n) float32 in units of voxels, 0 at the first node.
Outside: 0 zero, 1 clamp, 2 repeat.
"""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel

F0 = np.float32(0.0)
F1 = np.float32(1.0)
HALF = np.float32(0.5)
SIXTH = np.float32(1.0 / 6.0)


@inline
def place(p, n, outside):
    """Lower node, fraction and weight (0 where the field ends) of one coordinate."""
    weight = F1
    if outside == 2:
        p = p - np.floor(p / np.float32(n)) * np.float32(n)
    else:
        top = np.float32(n - 1)
        if outside == 0 and (p < -HALF or p > top + HALF):
            weight = F0
        p = min(max(p, F0), top)
    i = np.int64(p)
    if outside == 2:
        i = i % n
        j = (i + 1) % n
    else:
        i = min(i, max(n - 2, 0))
        j = min(i + 1, n - 1)
    return i, j, p - np.float32(i), weight


@kernel
def sample_scalar(grid, x, y, z, outside, out):
    nx, ny, nz = grid.shape
    for q in range(x.size):
        i0, i1, fx, wx = place(x[q], nx, outside)
        j0, j1, fy, wy = place(y[q], ny, outside)
        k0, k1, fz, wz = place(z[q], nz, outside)
        a = grid[i0, j0, k0] + fz * (grid[i0, j0, k1] - grid[i0, j0, k0])
        b = grid[i0, j1, k0] + fz * (grid[i0, j1, k1] - grid[i0, j1, k0])
        c = grid[i1, j0, k0] + fz * (grid[i1, j0, k1] - grid[i1, j0, k0])
        d = grid[i1, j1, k0] + fz * (grid[i1, j1, k1] - grid[i1, j1, k0])
        e = a + fy * (b - a)
        f = c + fy * (d - c)
        out[q] = wx * wy * wz * (e + fx * (f - e))


@kernel
def sample_vector(grid, x, y, z, outside, out):
    """The flat index of the lower corner serves all three channels of the eight corners."""
    nx, ny, nz, _ = grid.shape
    flat = grid.reshape(-1)
    for q in range(x.size):
        i0, i1, fx, wx = place(x[q], nx, outside)
        j0, j1, fy, wy = place(y[q], ny, outside)
        k0, k1, fz, wz = place(z[q], nz, outside)
        ra = (i0 * ny + j0) * nz
        rb = (i0 * ny + j1) * nz
        rc = (i1 * ny + j0) * nz
        rd = (i1 * ny + j1) * nz
        w = wx * wy * wz
        w1 = w * fx
        w0 = w - w1
        wa, wb = w0 * (F1 - fy), w0 * fy
        wc, wd = w1 * (F1 - fy), w1 * fy
        g = F1 - fz
        for c in range(3):
            o0 = 3 * k0 + c
            o1 = 3 * k1 + c
            lower = wa * flat[3 * ra + o0] + wb * flat[3 * rb + o0] + wc * flat[3 * rc + o0] + wd * flat[3 * rd + o0]
            upper = wa * flat[3 * ra + o1] + wb * flat[3 * rb + o1] + wc * flat[3 * rc + o1] + wd * flat[3 * rd + o1]
            out[c, q] = g * lower + fz * upper


@kernel
def sample_gradient(grid, x, y, z, scale, outside, value, gradient):
    """Trilinear value of one channel and the exact derivative of the interpolant; scale: voxels per metre."""
    nx, ny, nz = grid.shape
    for q in range(x.size):
        i0, i1, fx, wx = place(x[q], nx, outside)
        j0, j1, fy, wy = place(y[q], ny, outside)
        k0, k1, fz, wz = place(z[q], nz, outside)
        w = wx * wy * wz
        v000, v001 = grid[i0, j0, k0], grid[i0, j0, k1]
        v010, v011 = grid[i0, j1, k0], grid[i0, j1, k1]
        v100, v101 = grid[i1, j0, k0], grid[i1, j0, k1]
        v110, v111 = grid[i1, j1, k0], grid[i1, j1, k1]
        a, b = v000 + fz * (v001 - v000), v010 + fz * (v011 - v010)
        c, d = v100 + fz * (v101 - v100), v110 + fz * (v111 - v110)
        e, f = a + fy * (b - a), c + fy * (d - c)
        value[q] = w * (e + fx * (f - e))
        inside_x = F1 if outside == 2 or (x[q] >= F0 and x[q] <= np.float32(nx - 1)) else F0
        inside_y = F1 if outside == 2 or (y[q] >= F0 and y[q] <= np.float32(ny - 1)) else F0
        inside_z = F1 if outside == 2 or (z[q] >= F0 and z[q] <= np.float32(nz - 1)) else F0
        s = w * scale
        gx, gy = F1 - fx, F1 - fy
        gradient[0, q] = inside_x * s * (f - e)
        gradient[1, q] = inside_y * s * (gx * (b - a) + fx * (d - c))
        gradient[2, q] = (
            inside_z
            * s
            * (gx * (gy * (v001 - v000) + fy * (v011 - v010)) + fx * (gy * (v101 - v100) + fy * (v111 - v110)))
        )


@inline
def weights(t):
    """Cubic B-spline weights of the four nodes around a fraction t in [0, 1)."""
    u = F1 - t
    t2 = t * t
    t3 = t2 * t
    a = u * u * u * SIXTH
    d = t3 * SIXTH
    b = np.float32(2.0 / 3.0) - t2 + HALF * t3
    return a, b, F1 - a - b - d, d


@inline
def weights1(t):
    u = F1 - t
    return -HALF * u * u, HALF * (np.float32(3.0) * t * t) - np.float32(2.0) * t, HALF * (
        F1 + np.float32(2.0) * t - np.float32(3.0) * t * t
    ), HALF * t * t


@inline
def weights2(t):
    return F1 - t, np.float32(3.0) * t - np.float32(2.0), F1 - np.float32(3.0) * t, t


@kernel
def spline(coefficients, x, y, z, out):
    """Cubic B-spline of prefiltered coefficients: out rows are value, x, y, z, xx, yy, zz, xy, xz, yz (per voxel).

    Points must lie at least one node inside the grid (Unser, Splines, 1999).
    """
    nx, ny, nz = coefficients.shape
    wx = np.empty((3, 4), np.float32)
    wy = np.empty((3, 4), np.float32)
    wz = np.empty((3, 4), np.float32)
    acc = np.empty(10, np.float32)
    for q in range(x.size):
        i = min(max(np.int64(np.floor(x[q])), 1), nx - 3)
        j = min(max(np.int64(np.floor(y[q])), 1), ny - 3)
        k = min(max(np.int64(np.floor(z[q])), 1), nz - 3)
        fx, fy, fz = x[q] - np.float32(i), y[q] - np.float32(j), z[q] - np.float32(k)
        wx[0, 0], wx[0, 1], wx[0, 2], wx[0, 3] = weights(fx)
        wx[1, 0], wx[1, 1], wx[1, 2], wx[1, 3] = weights1(fx)
        wx[2, 0], wx[2, 1], wx[2, 2], wx[2, 3] = weights2(fx)
        wy[0, 0], wy[0, 1], wy[0, 2], wy[0, 3] = weights(fy)
        wy[1, 0], wy[1, 1], wy[1, 2], wy[1, 3] = weights1(fy)
        wy[2, 0], wy[2, 1], wy[2, 2], wy[2, 3] = weights2(fy)
        wz[0, 0], wz[0, 1], wz[0, 2], wz[0, 3] = weights(fz)
        wz[1, 0], wz[1, 1], wz[1, 2], wz[1, 3] = weights1(fz)
        wz[2, 0], wz[2, 1], wz[2, 2], wz[2, 3] = weights2(fz)
        acc[:] = F0
        for a in range(4):
            s0 = s1 = s2 = t0 = t1 = u0 = F0
            for b in range(4):
                row = coefficients[i - 1 + a, j - 1 + b]
                c0, c1, c2, c3 = row[k - 1], row[k], row[k + 1], row[k + 2]
                r0 = wz[0, 0] * c0 + wz[0, 1] * c1 + wz[0, 2] * c2 + wz[0, 3] * c3
                r1 = wz[1, 0] * c0 + wz[1, 1] * c1 + wz[1, 2] * c2 + wz[1, 3] * c3
                r2 = wz[2, 0] * c0 + wz[2, 1] * c1 + wz[2, 2] * c2 + wz[2, 3] * c3
                s0 += wy[0, b] * r0
                s1 += wy[0, b] * r1
                s2 += wy[0, b] * r2
                t0 += wy[1, b] * r0
                t1 += wy[1, b] * r1
                u0 += wy[2, b] * r0
            acc[0] += wx[0, a] * s0
            acc[1] += wx[1, a] * s0
            acc[2] += wx[0, a] * t0
            acc[3] += wx[0, a] * s1
            acc[4] += wx[2, a] * s0
            acc[5] += wx[0, a] * u0
            acc[6] += wx[0, a] * s2
            acc[7] += wx[1, a] * t0
            acc[8] += wx[1, a] * s1
            acc[9] += wx[0, a] * t1
        for c in range(10):
            out[c, q] = acc[c]
