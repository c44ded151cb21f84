"""Loops between particles and a staggered grid.

Places are in cells of the grid (3, n) float32: cell i holds what is from i to i + 1. Faces across x stand at whole x
and half y and z, and so on; cells at halves. Weights are trilinear (affine particle in cell, Jiang et al. 2015).
Particles are sorted by cell, and planes of cells are done in slabs that are fixed: even ones, then odd ones, so that
sums are made in one order on any number of threads.
"""

import numpy as np

from errant_gust.core.kernels.clamped import cell, inner, within
from errant_gust.core.kernels.compiler import inline, kernel

F0 = np.float32(0.0)
F1 = np.float32(1.0)
HALF = np.float32(0.5)


@inline
def whole(p, n):
    """The cell that a coordinate is in, clamped to 0 … n − 1; what is not a number is in the first."""
    return cell(p, n)


@kernel
def order_by_cell(q, shape, start, order):
    """A stable counting sort: where the particles of each cell begin into start (cells + 1), and in which order they
    are into order (n)."""
    nx, ny, nz = shape
    n = q.shape[1]
    key = np.empty(n, np.int32)
    start[:] = 0
    for p in range(n):
        c = (whole(q[0, p], nx) * ny + whole(q[1, p], ny)) * nz + whole(q[2, p], nz)
        key[p] = c
        start[c + 1] += 1
    for c in range(nx * ny * nz):
        start[c + 1] += start[c]
    at = start[:-1].copy()
    for p in range(n):
        c = key[p]
        order[at[c]] = p
        at[c] += 1


@kernel
def gather(a, order, out, first, last):
    """out (c, n) = a (c, n) in another order, of particles first … last."""
    for row in range(a.shape[0]):
        for p in range(first, last):
            out[row, p] = a[row, order[p]]


@inline
def spread(sums, weights, i, j, k, fx, fy, fz, v, cx, cy, cz):
    """A particle's velocity v, which changes by (cx, cy, cz) a cell, onto eight nodes from (i, j, k) on."""
    gx, gy, gz = F1 - fx, F1 - fy, F1 - fz
    a = v - fx * cx - fy * cy - fz * cz
    for di in range(2):
        wx = fx if di else gx
        ax = a + cx if di else a
        for dj in range(2):
            wxy = wx * (fy if dj else gy)
            axy = ax + cy if dj else ax
            w0, w1 = wxy * gz, wxy * fz
            sums[i + di, j + dj, k] += w0 * axy
            sums[i + di, j + dj, k + 1] += w1 * (axy + cz)
            weights[i + di, j + dj, k] += w0
            weights[i + di, j + dj, k + 1] += w1


@inline
def share(amounts, more, i, j, k, fx, fy, fz, m):
    """One particle, and m for it, onto eight cells from (i, j, k) on."""
    gx, gy, gz = F1 - fx, F1 - fy, F1 - fz
    for di in range(2):
        wx = fx if di else gx
        for dj in range(2):
            w = wx * (fy if dj else gy)
            amounts[i + di, j + dj, k] += w * gz
            amounts[i + di, j + dj, k + 1] += w * fz
            more[i + di, j + dj, k] += w * gz * m
            more[i + di, j + dj, k + 1] += w * fz * m


@kernel
def to_faces(q, velocity, affine, value, start, su, wu, sv, wv, sw, ww, count, total, first, last):
    """Momenta and weights of faces, and of cells how many particles there are and the sum of `value`, from the
    particles in planes first … last of cells. Grids have a layer of cells without particles all round."""
    nx, ny, nz = count.shape
    for p in range(start[first * ny * nz], start[last * ny * nz]):
        x, y, z = q[0, p], q[1, p], q[2, p]
        i, j, k = inner(x, nx), inner(y, ny), inner(z, nz)
        fx, fy, fz = x - np.float32(i), y - np.float32(j), z - np.float32(k)
        hi = i - 1 if fx < HALF else i
        hj = j - 1 if fy < HALF else j
        hk = k - 1 if fz < HALF else k
        hx, hy, hz = x - HALF - np.float32(hi), y - HALF - np.float32(hj), z - HALF - np.float32(hk)
        spread(su, wu, i, hj, hk, fx, hy, hz, velocity[0, p], affine[0, p], affine[1, p], affine[2, p])
        spread(sv, wv, hi, j, hk, hx, fy, hz, velocity[1, p], affine[3, p], affine[4, p], affine[5, p])
        spread(sw, ww, hi, hj, k, hx, hy, fz, velocity[2, p], affine[6, p], affine[7, p], affine[8, p])
        share(count, total, hi, hj, hk, hx, hy, hz, value[p])


@kernel
def onto_cells(q, values, start, sums, weights, first, last):
    """Channels (c, n) of particles onto the middles of cells: sums (c, nx, ny, nz), and weights, from planes first …
    last of cells."""
    nx, ny, nz = weights.shape
    for p in range(start[first * ny * nz], start[last * ny * nz]):
        x, y, z = q[0, p] - HALF, q[1, p] - HALF, q[2, p] - HALF
        i, j, k = cell(x, nx - 1), cell(y, ny - 1), cell(z, nz - 1)
        fx, fy, fz = x - np.float32(i), y - np.float32(j), z - np.float32(k)
        for di in range(2):
            for dj in range(2):
                for dk in range(2):
                    w = (fx if di else F1 - fx) * (fy if dj else F1 - fy) * (fz if dk else F1 - fz)
                    weights[i + di, j + dj, k + dk] += w
                    for c in range(values.shape[0]):
                        sums[c, i + di, j + dj, k + dk] += w * values[c, p]


@kernel
def divide(sums, weights, known, first, last):
    """Sums by their weights on planes first … last; 0, and not known, where there is next to none."""
    for i in range(first, last):
        for j in range(sums.shape[1]):
            a, w, on = sums[i, j], weights[i, j], known[i, j]
            for k in range(a.size):
                there = w[k] > np.float32(1e-6)
                a[k] = a[k] / w[k] if there else F0
                on[k] = there


@kernel
def nearest(q, start, square, first, last):
    """The square of the distance, in cells, from the middle of every cell to the nearest particle, at most what
    `square` begins as: of particles in planes first … last, to cells at most one away from theirs."""
    nx, ny, nz = square.shape
    for p in range(start[first * ny * nz], start[last * ny * nz]):
        x, y, z = q[0, p], q[1, p], q[2, p]
        i, j, k = inner(x, nx), inner(y, ny), inner(z, nz)
        c0 = np.float32(k) - HALF - z
        c1, c2 = c0 + F1, c0 + F1 + F1
        d0, d1, d2 = c0 * c0, c1 * c1, c2 * c2
        for di in range(-1, 2):
            a = np.float32(i + di) + HALF - x
            for dj in range(-1, 2):
                b = np.float32(j + dj) + HALF - y
                s = a * a + b * b
                row = square[i + di, j + dj]
                row[k - 1] = min(row[k - 1], s + d0)
                row[k] = min(row[k], s + d1)
                row[k + 1] = min(row[k + 1], s + d2)


@inline
def corners(f, i, j, k, fx, fy, fz):
    """Value of eight nodes at a place, and its slope a cell."""
    a, b = f[i, j, k], f[i, j, k + 1]
    c, d = f[i, j + 1, k], f[i, j + 1, k + 1]
    e, g = f[i + 1, j, k], f[i + 1, j, k + 1]
    h, m = f[i + 1, j + 1, k], f[i + 1, j + 1, k + 1]
    ab, cd, eg, hm = a + fz * (b - a), c + fz * (d - c), e + fz * (g - e), h + fz * (m - h)
    low, high = ab + fy * (cd - ab), eg + fy * (hm - eg)
    near, far = (b - a) + fy * ((d - c) - (b - a)), (g - e) + fy * ((m - h) - (g - e))
    across = (cd - ab) + fx * ((hm - eg) - (cd - ab))
    return low + fx * (high - low), high - low, across, near + fx * (far - near)


@inline
def value(f, i, j, k, fx, fy, fz):
    """Value of eight nodes at a place."""
    a = f[i, j, k] + fz * (f[i, j, k + 1] - f[i, j, k])
    b = f[i, j + 1, k] + fz * (f[i, j + 1, k + 1] - f[i, j + 1, k])
    c = f[i + 1, j, k] + fz * (f[i + 1, j, k + 1] - f[i + 1, j, k])
    d = f[i + 1, j + 1, k] + fz * (f[i + 1, j + 1, k + 1] - f[i + 1, j + 1, k])
    low, high = a + fy * (b - a), c + fy * (d - c)
    return low + fx * (high - low)


@inline
def placed(x, y, z, nx, ny, nz):
    """Lower faces and halves of a place, and what is left over of each coordinate."""
    i, j, k = inner(x, nx), inner(y, ny), inner(z, nz)
    fx, fy, fz = x - np.float32(i), y - np.float32(j), z - np.float32(k)
    hi = i - 1 if fx < HALF else i
    hj = j - 1 if fy < HALF else j
    hk = k - 1 if fz < HALF else k
    return (
        i, j, k, fx, fy, fz, hi, hj, hk,
        x - HALF - np.float32(hi), y - HALF - np.float32(hj), z - HALF - np.float32(hk),
    )  # fmt: skip


@kernel
def from_faces(q, u, v, w, du, dv, dw, flip, velocity, affine, first, last):
    """Velocities of particles first … last from the faces, and how they change a cell. `flip`: the share in which the
    velocity only changes by what the faces changed by (du, dv, dw; not read at 0)."""
    nx, ny, nz = v.shape[0], u.shape[1], u.shape[2]
    for p in range(first, last):
        i, j, k, fx, fy, fz, hi, hj, hk, hx, hy, hz = placed(q[0, p], q[1, p], q[2, p], nx, ny, nz)
        a, ax, ay, az = corners(u, i, hj, hk, fx, hy, hz)
        b, bx, by, bz = corners(v, hi, j, hk, hx, fy, hz)
        c, cx, cy, cz = corners(w, hi, hj, k, hx, hy, fz)
        if flip > F0:
            a += flip * (velocity[0, p] + value(du, i, hj, hk, fx, hy, hz) - a)
            b += flip * (velocity[1, p] + value(dv, hi, j, hk, hx, fy, hz) - b)
            c += flip * (velocity[2, p] + value(dw, hi, hj, k, hx, hy, fz) - c)
        velocity[0, p], velocity[1, p], velocity[2, p] = a, b, c
        affine[0, p], affine[1, p], affine[2, p] = ax, ay, az
        affine[3, p], affine[4, p], affine[5, p] = bx, by, bz
        affine[6, p], affine[7, p], affine[8, p] = cx, cy, cz


@inline
def inside(p, n):
    """A coordinate that stays a cell away from the border of the grid; what is not a number becomes 1."""
    p = p if p > F1 else F1
    top = np.float32(n) - np.float32(1.001)
    return p if p < top else top


@inline
def moving(u, v, w, x, y, z):
    """Velocity on faces at a place."""
    nx, ny, nz = v.shape[0], u.shape[1], u.shape[2]
    i, j, k, fx, fy, fz, hi, hj, hk, hx, hy, hz = placed(x, y, z, nx, ny, nz)
    return (
        value(u, i, hj, hk, fx, hy, hz),
        value(v, hi, j, hk, hx, fy, hz),
        value(w, hi, hj, k, hx, hy, fz),
    )


@kernel
def carry(q, u, v, w, s, first, last):
    """Particles first … last carried by the faces for s (dt / h), by Ralston's third-order method (1962)."""
    nx, ny, nz = v.shape[0], u.shape[1], u.shape[2]
    for p in range(first, last):
        x, y, z = q[0, p], q[1, p], q[2, p]
        ax, ay, az = moving(u, v, w, x, y, z)
        t = HALF * s
        bx, by, bz = moving(u, v, w, inside(x + t * ax, nx), inside(y + t * ay, ny), inside(z + t * az, nz))
        t = np.float32(0.75) * s
        cx, cy, cz = moving(u, v, w, inside(x + t * bx, nx), inside(y + t * by, ny), inside(z + t * bz, nz))
        t = s / np.float32(9)
        two, three, four = np.float32(2), np.float32(3), np.float32(4)
        q[0, p] = x + t * (two * ax + three * bx + four * cx)
        q[1, p] = y + t * (two * ay + three * by + four * cy)
        q[2, p] = z + t * (two * az + three * bz + four * cz)


@kernel
def at_places(f, q, half, out, first, last):
    """A grid at places first … last: of cells if `half` (values in their middles), else of their corners."""
    nx, ny, nz = f.shape
    off = HALF if half else F0
    for p in range(first, last):
        x, y, z = q[0, p] - off, q[1, p] - off, q[2, p] - off
        x = within(x, F0, np.float32(nx - 1) - np.float32(1e-3))
        y = within(y, F0, np.float32(ny - 1) - np.float32(1e-3))
        z = within(z, F0, np.float32(nz - 1) - np.float32(1e-3))
        i, j, k = np.int64(x), np.int64(y), np.int64(z)
        out[p] = value(f, i, j, k, x - np.float32(i), y - np.float32(j), z - np.float32(k))


@kernel
def fastest(velocity, first, last):
    """Square of the greatest speed of particles first … last; NaN if any is no number."""
    most = F0
    for p in range(first, last):
        a = velocity[0, p] * velocity[0, p] + velocity[1, p] * velocity[1, p] + velocity[2, p] * velocity[2, p]
        if not a <= most:
            most = a
            if a != a:
                return a
    return most
