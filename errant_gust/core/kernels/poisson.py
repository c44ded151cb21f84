"""Loops of the cut-cell Poisson solver: A p = Σ over faces of w (p − p of the neighbour), w the open share of a face.

Arrays of cells are padded by one ghost layer, (nx + 2, ny + 2, nz + 2) float32, always zero there; faces wx (nx + 1,
ny, nz), wy, wz. Rows along z keep the span [lo, hi) of cells that are not plain (six whole faces); elsewhere the
constant stencil is used, which reads a third as much.
"""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel

F0 = np.float32(0.0)
F1 = np.float32(1.0)
F6 = np.float32(6.0)
SIXTH = np.float32(1.0 / 6.0)
HALF = np.float32(0.5)


@kernel
def set_up(wx, wy, wz, dinv, lo, hi):
    """Inverse diagonal (padded) and the span of cells in each row that are not plain."""
    nx, ny, nz = dinv.shape[0] - 2, dinv.shape[1] - 2, dinv.shape[2] - 2
    for i in range(nx):
        for j in range(ny):
            low, high = nz, 0
            for k in range(nz):
                d = wx[i, j, k] + wx[i + 1, j, k] + wy[i, j, k] + wy[i, j + 1, k] + wz[i, j, k] + wz[i, j, k + 1]
                dinv[i + 1, j + 1, k + 1] = F1 / d if d > F0 else F0
                plain = (
                    wx[i, j, k] == F1 and wx[i + 1, j, k] == F1 and wy[i, j, k] == F1 and wy[i, j + 1, k] == F1
                    and wz[i, j, k] == F1 and wz[i, j, k + 1] == F1
                )  # fmt: skip
                if not plain:
                    low, high = min(low, k), max(high, k + 1)
            lo[i, j], hi[i, j] = min(low, high), high


@inline
def neighbours(p, i, j, k, n):
    """Rows of p: before the cells, the cells themselves and after them along z; then before and after along x and y."""
    return (
        p[i + 1, j + 1, k : k + n], p[i + 1, j + 1, k + 1 : k + 1 + n], p[i + 1, j + 1, k + 2 : k + 2 + n],
        p[i, j + 1, k + 1 : k + 1 + n], p[i + 2, j + 1, k + 1 : k + 1 + n],
        p[i + 1, j, k + 1 : k + 1 + n], p[i + 1, j + 2, k + 1 : k + 1 + n],
    )  # fmt: skip


@inline
def shares_of(wx, wy, wz, i, j, k, n):
    """Rows of the six faces of n cells from (i, j, k) on."""
    return (
        wz[i, j, k : k + n], wz[i, j, k + 1 : k + 1 + n],
        wx[i, j, k : k + n], wx[i + 1, j, k : k + n],
        wy[i, j, k : k + n], wy[i, j + 1, k : k + n],
    )  # fmt: skip


@inline
def plain_relaxed(p, b, row, i, j, k, n):
    bottom, _, top, west, east, south, north = neighbours(p, i, j, k, n)
    right, out = b[i + 1, j + 1, k + 1 : k + 1 + n], row[k : k + n]
    for s in range(n):
        out[s] = (right[s] + (bottom[s] + top[s]) + (west[s] + east[s]) + (south[s] + north[s])) * SIXTH


@inline
def cut_relaxed(p, b, wx, wy, wz, dinv, row, i, j, k, n):
    bottom, _, top, west, east, south, north = neighbours(p, i, j, k, n)
    w0, w1, w2, w3, w4, w5 = shares_of(wx, wy, wz, i, j, k, n)
    right, out, inverse = b[i + 1, j + 1, k + 1 : k + 1 + n], row[k : k + n], dinv[i + 1, j + 1, k + 1 : k + 1 + n]
    for s in range(n):
        near = (w0[s] * bottom[s] + w1[s] * top[s]) + (w2[s] * west[s] + w3[s] * east[s])
        out[s] = (right[s] + near + (w4[s] * south[s] + w5[s] * north[s])) * inverse[s]


@inline
def plain_outflow(p, row, i, j, k, n):
    bottom, cell, top, west, east, south, north = neighbours(p, i, j, k, n)
    out = row[k : k + n]
    for s in range(n):
        out[s] = F6 * cell[s] - ((bottom[s] + top[s]) + (west[s] + east[s]) + (south[s] + north[s]))


@inline
def cut_outflow(p, wx, wy, wz, row, i, j, k, n):
    """A p as sums of w (centre − neighbour), which does not lose digits."""
    bottom, cell, top, west, east, south, north = neighbours(p, i, j, k, n)
    w0, w1, w2, w3, w4, w5 = shares_of(wx, wy, wz, i, j, k, n)
    out = row[k : k + n]
    for s in range(n):
        e = cell[s]
        near = (w0[s] * (e - bottom[s]) + w1[s] * (e - top[s])) + (w2[s] * (e - west[s]) + w3[s] * (e - east[s]))
        out[s] = near + (w4[s] * (e - south[s]) + w5[s] * (e - north[s]))


@inline
def outflow(p, wx, wy, wz, row, i, j, a, c, nz):
    """A row of A p, of whose cells a … c are not plain."""
    plain_outflow(p, row, i, j, 0, a)
    cut_outflow(p, wx, wy, wz, row, i, j, a, c - a)
    plain_outflow(p, row, i, j, c, nz - c)


@kernel
def relax(p, b, wx, wy, wz, dinv, lo, hi, colour, first, last):
    """Gauss–Seidel on the cells of one colour with first <= i < last.

    A row is computed whole (which vectorises) and every other cell of it is kept; neighbours are of the other colour.
    """
    ny, nz = lo.shape[1], b.shape[2] - 2
    row = np.empty(nz, np.float32)
    mask = np.empty((2, nz), np.float32)
    for k in range(nz):
        mask[0, k] = np.float32(1 - (k & 1))
        mask[1, k] = np.float32(k & 1)
    for i in range(first, last):
        for j in range(ny):
            a, c = lo[i, j], hi[i, j]
            plain_relaxed(p, b, row, i, j, 0, a)
            cut_relaxed(p, b, wx, wy, wz, dinv, row, i, j, a, c - a)
            plain_relaxed(p, b, row, i, j, c, nz - c)
            kept, on = p[i + 1, j + 1, 1 : nz + 1], mask[(i + j + colour) & 1]
            for s in range(nz):
                kept[s] += on[s] * (row[s] - kept[s])


@kernel
def residual(p, b, wx, wy, wz, dinv, lo, hi, r, first, last):
    """r = b − A p on slabs first <= i < last."""
    ny, nz = lo.shape[1], b.shape[2] - 2
    row = np.empty(nz, np.float32)
    for i in range(first, last):
        for j in range(ny):
            outflow(p, wx, wy, wz, row, i, j, lo[i, j], hi[i, j], nz)
            right, out = b[i + 1, j + 1, 1 : nz + 1], r[i + 1, j + 1, 1 : nz + 1]
            for s in range(nz):
                out[s] = right[s] - row[s]


@kernel
def apply(p, wx, wy, wz, dinv, lo, hi, q, first, last):
    """q = A p; returns p · q."""
    ny, nz = lo.shape[1], p.shape[2] - 2
    row = np.empty(nz, np.float32)
    total = 0.0
    for i in range(first, last):
        for j in range(ny):
            outflow(p, wx, wy, wz, row, i, j, lo[i, j], hi[i, j], nz)
            out, cell = q[i + 1, j + 1, 1 : nz + 1], p[i + 1, j + 1, 1 : nz + 1]
            total += kept_product(row, cell, out)
    return total


@inline
def kept_product(row, cell, out):
    """Copy a row and return its product with the cells, in sixteen float32 sums (which vectorise) added in float64."""
    part = np.zeros(16, np.float32)
    n = row.size
    whole = n // 16 * 16
    for s in range(0, whole, 16):
        for t in range(16):
            v = row[s + t]
            out[s + t] = v
            part[t] += v * cell[s + t]
    total = 0.0
    for t in range(16):
        total += part[t]
    for s in range(whole, n):
        out[s] = row[s]
        total += row[s] * cell[s]
    return total


@kernel
def step_and_norm(x, r, d, q, alpha, first, last):
    """x += α d, r −= α q; returns r · r."""
    total = 0.0
    for i in range(first + 1, last + 1):
        for j in range(1, x.shape[1] - 1):
            row = F0
            for k in range(1, x.shape[2] - 1):
                x[i, j, k] += alpha * d[i, j, k]
                e = r[i, j, k] - alpha * q[i, j, k]
                r[i, j, k] = e
                row += e * e
            total += row
    return total


@kernel
def dot(a, b, first, last):
    total = 0.0
    for i in range(first + 1, last + 1):
        for j in range(1, a.shape[1] - 1):
            row = F0
            for k in range(1, a.shape[2] - 1):
                row += a[i, j, k] * b[i, j, k]
            total += row
    return total


@kernel
def total_and_count(a, dinv, first, last):
    """Sum and number of cells with an open face."""
    total, count = 0.0, 0.0
    for i in range(first + 1, last + 1):
        for j in range(1, a.shape[1] - 1):
            row, cells = F0, F0
            for k in range(1, a.shape[2] - 1):
                on = F1 if dinv[i, j, k] > F0 else F0
                row += on * a[i, j, k]
                cells += on
            total += row
            count += cells
    return total, count


@kernel
def shift(a, dinv, by, first, last):
    """Take `by` off every cell with an open face."""
    for i in range(first + 1, last + 1):
        for j in range(1, a.shape[1] - 1):
            for k in range(1, a.shape[2] - 1):
                a[i, j, k] -= by if dinv[i, j, k] > F0 else F0


@kernel
def turn(d, z, beta, first, last):
    """d = z + β d."""
    for i in range(first + 1, last + 1):
        for j in range(1, d.shape[1] - 1):
            for k in range(1, d.shape[2] - 1):
                d[i, j, k] = z[i, j, k] + beta * d[i, j, k]


@kernel
def restrict(r, b, first, last):
    """Half the sum over the eight children: the coarse right side in units of its own faces."""
    nx, ny, nz = r.shape[0] - 2, r.shape[1] - 2, r.shape[2] - 2
    for i in range(first, last):
        for j in range(b.shape[1] - 2):
            for k in range(b.shape[2] - 2):
                s = F0
                for a in range(2):
                    if 2 * i + a < nx:
                        for c in range(2):
                            if 2 * j + c < ny:
                                s += r[2 * i + a + 1, 2 * j + c + 1, 2 * k + 1]
                                if 2 * k + 1 < nz:
                                    s += r[2 * i + a + 1, 2 * j + c + 1, 2 * k + 2]
                b[i + 1, j + 1, k + 1] = HALF * s


@kernel
def prolong(coarse, p, dinv, first, last):
    """p += the coarse value of its cell; nothing where no face is open."""
    for i in range(first, last):
        for j in range(p.shape[1] - 2):
            for k in range(p.shape[2] - 2):
                if dinv[i + 1, j + 1, k + 1] > F0:
                    p[i + 1, j + 1, k + 1] += coarse[(i >> 1) + 1, (j >> 1) + 1, (k >> 1) + 1]


@inline
def share(a, b, c):
    """Part of a triangle where a linear function with these corner values is positive."""
    positive = (1 if a > F0 else 0) + (1 if b > F0 else 0) + (1 if c > F0 else 0)
    if positive == 0:
        return F0
    if positive == 3:
        return F1
    if positive == 1:
        if b > F0:
            a, b, c = b, c, a
        elif c > F0:
            a, b, c = c, a, b
        return a / (a - b) * (a / (a - c))
    if b <= F0:
        a, b, c = b, c, a
    elif c <= F0:
        a, b, c = c, a, b
    return F1 - a / (a - b) * (a / (a - c))


@inline
def open_share(a, b, c, d):
    """Open part of a square with distances a, b, c, d at its corners in turn; slivers below 1 % count as closed."""
    s = HALF * (share(a, b, c) + share(a, c, d))
    return s if s >= np.float32(0.01) else F0


@kernel
def face_shares(corner, wx, wy, wz):
    """Open shares of all faces from distances at cell corners (nx + 1, ny + 1, nz + 1) (Ng, Min, Gibou 2009)."""
    nx, ny, nz = corner.shape[0] - 1, corner.shape[1] - 1, corner.shape[2] - 1
    for i in range(nx + 1):
        for j in range(ny + 1):
            for k in range(nz + 1):
                o = corner[i, j, k]
                if j < ny and k < nz:
                    wx[i, j, k] = open_share(o, corner[i, j + 1, k], corner[i, j + 1, k + 1], corner[i, j, k + 1])
                if i < nx and k < nz:
                    wy[i, j, k] = open_share(o, corner[i + 1, j, k], corner[i + 1, j, k + 1], corner[i, j, k + 1])
                if i < nx and j < ny:
                    wz[i, j, k] = open_share(o, corner[i + 1, j, k], corner[i + 1, j + 1, k], corner[i, j + 1, k])


@kernel
def correct(p, u, v, w, open_low, open_high):
    """Take the gradient of p off the faces; boundary faces change only where the side is open (p = 0 beyond)."""
    nx, ny, nz = p.shape[0] - 2, p.shape[1] - 2, p.shape[2] - 2
    for i in range(nx + 1):
        if (i > 0 or open_low[0]) and (i < nx or open_high[0]):
            for j in range(ny):
                for k in range(nz):
                    u[i, j, k] -= p[i + 1, j + 1, k + 1] - p[i, j + 1, k + 1]
    for i in range(nx):
        for j in range(ny + 1):
            if (j > 0 or open_low[1]) and (j < ny or open_high[1]):
                for k in range(nz):
                    v[i, j, k] -= p[i + 1, j + 1, k + 1] - p[i + 1, j, k + 1]
    for i in range(nx):
        for j in range(ny):
            for k in range(0 if open_low[2] else 1, nz + 1 if open_high[2] else nz):
                w[i, j, k] -= p[i + 1, j + 1, k + 1] - p[i + 1, j + 1, k]
