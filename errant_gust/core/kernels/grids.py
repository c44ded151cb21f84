"""Sampling of regular grids: trilinear with its gradient, and cubic B-spline with first and second derivatives.

Grids are (nx, ny, nz) or (nx, ny, nz, 3) float32 with at least two nodes along each axis. Outside: 0 zero, 1 clamp.
"""

import numpy as np

from errant_gust.core.kernels.clamped import within
from errant_gust.core.kernels.compiler import inline, kernel

F0 = np.float32(0.0)
F1 = np.float32(1.0)
N1 = np.uint64(1)
N2 = np.uint64(2)
N3 = np.uint64(3)
N4 = np.uint64(4)
N5 = np.uint64(5)
HALF = np.float32(0.5)
SIXTH = np.float32(1.0 / 6.0)


@inline
def place(p, n, outside):
    """Lower node, fraction and weight (0 where the field ends) of one coordinate in voxels; n is at least 2."""
    top = np.float32(n - 1)
    beyond = (p < -HALF) | (p > top + HALF)
    weight = F0 if (outside == 0) & beyond else F1
    q = within(p, F0, top)
    i = min(np.int32(q), np.int32(n - 2))
    left = q - np.float32(i)
    return i, left if p == p else p, weight  # what is not a number stays none, and is no address


@kernel
def sample_scalar(grid, x, y, z, lx, ly, lz, scale, outside, out):
    """Trilinear; lx, ly, lz: place of the first node in metres, scale: voxels a metre."""
    nx, ny, nz = grid.shape
    for q in range(x.size):
        i, fx, wx = place((x[q] - lx) * scale, nx, outside)
        j, fy, wy = place((y[q] - ly) * scale, ny, outside)
        k, fz, wz = place((z[q] - lz) * scale, nz, outside)
        a = grid[i, j, k] + fz * (grid[i, j, k + 1] - grid[i, j, k])
        b = grid[i, j + 1, k] + fz * (grid[i, j + 1, k + 1] - grid[i, j + 1, k])
        c = grid[i + 1, j, k] + fz * (grid[i + 1, j, k + 1] - grid[i + 1, j, k])
        d = grid[i + 1, j + 1, k] + fz * (grid[i + 1, j + 1, k + 1] - grid[i + 1, j + 1, k])
        e = a + fy * (b - a)
        f = c + fy * (d - c)
        out[q] = wx * wy * wz * (e + fx * (f - e))


@inline
def locate(x, y, z, lx, ly, lz, scale, outside, nx, ny, nz, base, part, s):
    """Address of the lower voxel and the weights of one point, into slot s of a stretch."""
    i, fx, wx = place((x - lx) * scale, nx, outside)
    j, fy, wy = place((y - ly) * scale, ny, outside)
    k, fz, wz = place((z - lz) * scale, nz, outside)
    base[s] = np.uint32(3) * ((np.uint32(i) * np.uint32(ny) + np.uint32(j)) * np.uint32(nz) + np.uint32(k))
    part[0, s], part[1, s], part[2, s], part[3, s] = wx * wy * wz, fx, fy, fz


@inline
def gather(flat, base, part, s, sy, sx):
    """The trilinear vector of slot s: four runs of six numbers."""
    w, fx, fy, fz = part[0, s], part[1, s], part[2, s], part[3, s]
    a = np.uint64(base[s])
    b, c = a + sy, a + sx
    d = c + sy
    w1 = w * fx
    w0 = w - w1
    wb, wd = w0 * fy, w1 * fy
    wa, wc = w0 - wb, w1 - wd
    u0 = wa * flat[a] + wb * flat[b] + wc * flat[c] + wd * flat[d]
    v0 = wa * flat[a + N1] + wb * flat[b + N1] + wc * flat[c + N1] + wd * flat[d + N1]
    w0 = wa * flat[a + N2] + wb * flat[b + N2] + wc * flat[c + N2] + wd * flat[d + N2]
    u1 = wa * flat[a + N3] + wb * flat[b + N3] + wc * flat[c + N3] + wd * flat[d + N3]
    v1 = wa * flat[a + N4] + wb * flat[b + N4] + wc * flat[c + N4] + wd * flat[d + N4]
    w1 = wa * flat[a + N5] + wb * flat[b + N5] + wc * flat[c + N5] + wd * flat[d + N5]
    return u0 + fz * (u1 - u0), v0 + fz * (v1 - v0), w0 + fz * (w1 - w0)


@kernel
def sample_vector(grid, x, y, z, lx, ly, lz, scale, outside, out):
    """In short stretches: first addresses and weights (vectorised), then the gathers, whose misses overlap.

    The three channels of a voxel and its neighbour along z are one run of six numbers, so a point reads four runs.
    """
    nx, ny, nz, _ = grid.shape
    flat = grid.reshape(-1)
    size = 128
    base = np.empty(size, np.uint32)
    part = np.empty((4, size), np.float32)
    sy = np.uint64(3 * nz)
    sx = np.uint64(3 * nz * ny)
    for start in range(0, x.size, size):
        count = min(size, x.size - start)
        for s in range(count):
            q = start + s
            locate(x[q], y[q], z[q], lx, ly, lz, scale, outside, nx, ny, nz, base, part, s)
        for s in range(count):
            u, v, w = gather(flat, base, part, s, sy, sx)
            out[0, start + s], out[1, start + s], out[2, start + s] = u, v, w


@kernel
def sample_gradient(grid, x, y, z, lx, ly, lz, scale, outside, value, gradient):
    """Trilinear value of one channel and the exact derivative of the interpolant, per metre."""
    nx, ny, nz = grid.shape
    for q in range(x.size):
        px, py, pz = (x[q] - lx) * scale, (y[q] - ly) * scale, (z[q] - lz) * scale
        i, fx, wx = place(px, nx, outside)
        j, fy, wy = place(py, ny, outside)
        k, fz, wz = place(pz, nz, outside)
        w = wx * wy * wz
        v000, v001 = grid[i, j, k], grid[i, j, k + 1]
        v010, v011 = grid[i, j + 1, k], grid[i, j + 1, k + 1]
        v100, v101 = grid[i + 1, j, k], grid[i + 1, j, k + 1]
        v110, v111 = grid[i + 1, j + 1, k], grid[i + 1, j + 1, k + 1]
        a, b = v000 + fz * (v001 - v000), v010 + fz * (v011 - v010)
        c, d = v100 + fz * (v101 - v100), v110 + fz * (v111 - v110)
        e, f = a + fy * (b - a), c + fy * (d - c)
        value[q] = w * (e + fx * (f - e))
        inside_x = F1 if px >= F0 and px <= np.float32(nx - 1) else F0
        inside_y = F1 if py >= F0 and py <= np.float32(ny - 1) else F0
        inside_z = F1 if pz >= F0 and pz <= np.float32(nz - 1) else F0
        s = w * scale
        gx, gy = F1 - fx, F1 - fy
        gradient[0, q] = inside_x * s * (f - e)
        gradient[1, q] = inside_y * s * (gx * (b - a) + fx * (d - c))
        gradient[2, q] = (
            inside_z
            * s
            * (gx * (gy * (v001 - v000) + fy * (v011 - v010)) + fx * (gy * (v101 - v100) + fy * (v111 - v110)))
        )


@kernel
def voxel_centres(start, ny, nz, lx, ly, lz, h, out):
    """Middles of voxels with flat indices from `start` (z fastest) into out (3, m)."""
    i = start // (ny * nz)
    rest = start - i * ny * nz
    j = rest // nz
    k = rest - j * nz
    for q in range(out.shape[1]):
        out[0, q] = lx + (i + 0.5) * h
        out[1, q] = ly + (j + 0.5) * h
        out[2, q] = lz + (k + 0.5) * h
        k += 1
        if k == nz:
            k = 0
            j += 1
            if j == ny:
                j = 0
                i += 1


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
    """First derivatives of Catmull and Rom's (1974) four weights at t."""
    u = F1 - t
    return (
        -HALF * u * u,
        HALF * (np.float32(3.0) * t * t) - np.float32(2.0) * t,
        HALF * (F1 + np.float32(2.0) * t - np.float32(3.0) * t * t),
        HALF * t * t,
    )


@inline
def weights2(t):
    """Their second derivatives."""
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
        i = np.int64(within(x[q], F1, np.float32(nx - 3)))
        j = np.int64(within(y[q], F1, np.float32(ny - 3)))
        k = np.int64(within(z[q], F1, np.float32(nz - 3)))
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
