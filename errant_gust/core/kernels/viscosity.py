"""Loops of the implicit viscosity solve (Batty, Bridson 2008): (M + K) u = M u*, where K is the whole stress, so that
a blob that turns as a rigid body feels none.

Arrays are (nx + 3, ny + 3, nz + 3) float32 with the face, cell or edge (i, j, k) at [i + 1, j + 1, k + 1] and zeros
around; vectors are (3, …). m: mass of the faces, as a share of a cell; c: twice dt ν / h² times the liquid share of
cells; exy, exz, eyz: dt ν / h² times that of edges along z, y and x. inverse: of the diagonal, 0 where a face is no
unknown. Rows along z keep the span [lo, hi) of their unknowns, and nothing else is visited. Sums are made row by row
in a fixed order, and plane by plane.
"""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel

F0 = np.float32(0.0)
F1 = np.float32(1.0)
HALF = np.float32(0.5)
QUARTER = np.float32(0.25)


# Loops run over slices from 0 on: with a first index that may be below zero they would not vectorise.


@inline
def sheared(e, a, b, f, g, out):
    """e ((a − b) + (f − g)): stress on a row of edges."""
    for k in range(out.size):
        out[k] = e[k] * ((a[k] - b[k]) + (f[k] - g[k]))


@inline
def stretched(c, a, b, out):
    """c (a − b): stress in a row of cells."""
    for k in range(out.size):
        out[k] = c[k] * (a[k] - b[k])


@inline
def balance(m, f, a, b, d, e, out):
    """m f + (a − b) + (d − e) along a row."""
    for k in range(out.size):
        out[k] = m[k] * f[k] + ((a[k] - b[k]) + (d[k] - e[k]))


@inline
def with_difference(out, a, b):
    """A row plus the difference of two."""
    for k in range(out.size):
        out[k] += a[k] - b[k]


@inline
def row_of(x, m, c, exy, exz, eyz, i, j, lo, hi, t, q):
    """(M + K) x of the unknowns' span of row (i, j) into q (3, …), from 0 on; t (8, …) is to work in."""
    u, v, w = x[0], x[1], x[2]
    n = hi - lo
    s0, s1, s2, s3 = t[0, :n], t[1, :n], t[2, :n], t[3, :n]
    qu, qv, qw = q[0, :n], q[1, :n], q[2, :n]
    u0, v0, w0 = u[i, j, lo:hi], v[i, j, lo:hi], w[i, j, lo:hi]
    cell, edge = c[i, j, lo:hi], exy[i, j, lo:hi]
    u1, v1 = u[i + 1, j, lo:hi], v[i, j + 1, lo:hi]
    stretched(c[i - 1, j, lo:hi], u0, u[i - 1, j, lo:hi], s0)
    stretched(cell, u1, u0, s1)
    sheared(edge, u0, u[i, j - 1, lo:hi], v0, v[i - 1, j, lo:hi], s2)
    sheared(exy[i, j + 1, lo:hi], u[i, j + 1, lo:hi], u0, v1, v[i - 1, j + 1, lo:hi], s3)
    balance(m[0, i, j, lo:hi], u0, s0, s1, s2, s3, qu)
    stretched(c[i, j - 1, lo:hi], v0, v[i, j - 1, lo:hi], s0)
    stretched(cell, v1, v0, s1)
    sheared(exy[i + 1, j, lo:hi], v[i + 1, j, lo:hi], v0, u1, u[i + 1, j - 1, lo:hi], s3)
    balance(m[1, i, j, lo:hi], v0, s0, s1, s2, s3, qv)
    # one more each: from the edge below the first to that above the last, and cells from one below
    up, down = slice(lo, hi + 1), slice(lo - 1, hi)
    s4, s5, s6 = t[4, : n + 1], t[5, : n + 1], t[6, : n + 1]
    sheared(exz[i, j, up], u[i, j, up], u[i, j, down], w[i, j, up], w[i - 1, j, up], s4)
    with_difference(qu, s4[:n], s4[1:])
    sheared(eyz[i, j, up], v[i, j, up], v[i, j, down], w[i, j, up], w[i, j - 1, up], s5)
    with_difference(qv, s5[:n], s5[1:])
    stretched(c[i, j, down], w[i, j, up], w[i, j, down], s6)
    sheared(exz[i + 1, j, lo:hi], w[i + 1, j, lo:hi], w0, u1, u[i + 1, j, lo - 1 : hi - 1], s2)
    sheared(eyz[i, j + 1, lo:hi], w[i, j + 1, lo:hi], w0, v1, v[i, j + 1, lo - 1 : hi - 1], s3)
    balance(m[2, i, j, lo:hi], w0, s6[:n], s6[1:], s4[:n], s2, qw)
    with_difference(qw, s5[:n], s3)


@kernel
def diagonal(m, c, exy, exz, eyz, unknown, inverse, lo, hi):
    """The inverse of the diagonal (3, …) where a face is an unknown, and the spans of rows (nx + 3, ny + 3)."""
    _, nx, ny, nz = inverse.shape
    lo[:], hi[:] = nz, 0
    for i in range(1, nx - 1):
        for j in range(1, ny - 1):
            low, high = nz, 0
            for k in range(1, nz - 1):
                a = m[0, i, j, k] + c[i, j, k] + c[i - 1, j, k] + exy[i, j, k] + exy[i, j + 1, k]
                a += exz[i, j, k] + exz[i, j, k + 1]
                b = m[1, i, j, k] + c[i, j, k] + c[i, j - 1, k] + exy[i, j, k] + exy[i + 1, j, k]
                b += eyz[i, j, k] + eyz[i, j, k + 1]
                d = m[2, i, j, k] + c[i, j, k] + c[i, j, k - 1] + exz[i, j, k] + exz[i + 1, j, k]
                d += eyz[i, j, k] + eyz[i, j + 1, k]
                any_ = False
                for s, e in enumerate((a, b, d)):
                    there = unknown[s, i, j, k] and m[s, i, j, k] > F0
                    inverse[s, i, j, k] = F1 / e if there else F0
                    any_ = any_ or there
                if any_:
                    low, high = min(low, k), max(high, k + 1)
            lo[i, j], hi[i, j] = low, high


@inline
def added(sums):
    """The sum of what the slabs found, in their order."""
    total = 0.0
    for k in range(sums.size):
        total += sums[k]
    return total


@inline
def masked(row, on, out):
    """A row where there are unknowns, else 0."""
    for k in range(out.size):
        out[k] = row[k] if on[k] > F0 else F0


@inline
def multiplied(a, b, out):
    """A row of two, number by number."""
    for k in range(out.size):
        out[k] = a[k] * b[k]


@kernel
def residual(x, b, m, c, exy, exz, eyz, inverse, lo, hi, r, totals, first, last):
    """r = b − (M + K) x where there are unknowns, and its square of every plane: padded planes first … last."""
    nz = x.shape[3]
    t, q, squares = np.zeros((8, nz), np.float32), np.zeros((3, nz), np.float32), np.empty(nz, np.float32)
    for i in range(first, last):
        totals[i] = 0.0
        for j in range(1, x.shape[2] - 1):
            low, high = lo[i, j], hi[i, j]
            if low >= high:
                continue
            row_of(x, m, c, exy, exz, eyz, i, j, low, high, t, q)
            for s in range(3):
                right, out, on, have = b[s, i, j, low:high], r[s, i, j, low:high], inverse[s, i, j, low:high], q[s]
                for k in range(out.size):
                    have[k] = right[k] - have[k]
                masked(have, on, out)
                square = squares[: out.size]
                multiplied(out, out, square)
                totals[i] += added(square)


@kernel
def begun(r, inverse, lo, hi, scale, fresh, d, x, first, last):
    """First step of Chebyshev's: d = scale D⁻¹ r, x += d (x = d if it is fresh)."""
    for i in range(first, last):
        for j in range(1, r.shape[2] - 1):
            low, high = lo[i, j], hi[i, j]
            if low >= high:
                continue
            for s in range(3):
                left, by = r[s, i, j, low:high], inverse[s, i, j, low:high]
                step, at = d[s, i, j, low:high], x[s, i, j, low:high]
                for k in range(step.size):
                    step[k] = scale * by[k] * left[k]
                if fresh:
                    at[:] = step
                else:
                    for k in range(step.size):
                        at[k] += step[k]


@kernel
def smoothed(d, b, r, m, c, exy, exz, eyz, inverse, lo, hi, alpha, beta, out, x, first, last):
    """A further step of Chebyshev's: r = b − (M + K) d where b may be r itself, out = α d + β D⁻¹ r, x += out."""
    nz = x.shape[3]
    t, q = np.zeros((8, nz), np.float32), np.zeros((3, nz), np.float32)
    for i in range(first, last):
        for j in range(1, x.shape[2] - 1):
            low, high = lo[i, j], hi[i, j]
            if low >= high:
                continue
            row_of(d, m, c, exy, exz, eyz, i, j, low, high, t, q)
            for s in range(3):
                right, left, have = b[s, i, j, low:high], r[s, i, j, low:high], q[s]
                for k in range(left.size):
                    left[k] = right[k] - have[k]
                by, step = inverse[s, i, j, low:high], d[s, i, j, low:high]
                new, at = out[s, i, j, low:high], x[s, i, j, low:high]
                for k in range(left.size):
                    have[k] = alpha * step[k] + beta * by[k] * left[k]
                masked(have, by, new)
                for k in range(left.size):
                    at[k] += new[k]


@kernel
def product(a, b, lo, hi, totals, first, last):
    """a · b of every plane."""
    sums = np.empty(a.shape[3], np.float32)
    for i in range(first, last):
        totals[i] = 0.0
        for j in range(1, a.shape[2] - 1):
            low, high = lo[i, j], hi[i, j]
            if low >= high:
                continue
            for s in range(3):
                row = sums[: high - low]
                multiplied(a[s, i, j, low:high], b[s, i, j, low:high], row)
                totals[i] += added(row)


@kernel
def turned(z, beta, d, lo, hi, first, last):
    """d = z + β d."""
    for i in range(first, last):
        for j in range(1, z.shape[2] - 1):
            low, high = lo[i, j], hi[i, j]
            if low >= high:
                continue
            for s in range(3):
                new, way = z[s, i, j, low:high], d[s, i, j, low:high]
                for k in range(way.size):
                    way[k] = new[k] + beta * way[k]


@kernel
def applied(d, m, c, exy, exz, eyz, inverse, lo, hi, q, totals, first, last):
    """q = (M + K) d where there are unknowns; d · q of every plane."""
    nz = d.shape[3]
    t, row, sums = np.zeros((8, nz), np.float32), np.zeros((3, nz), np.float32), np.empty(nz, np.float32)
    for i in range(first, last):
        totals[i] = 0.0
        for j in range(1, d.shape[2] - 1):
            low, high = lo[i, j], hi[i, j]
            if low >= high:
                continue
            row_of(d, m, c, exy, exz, eyz, i, j, low, high, t, row)
            for s in range(3):
                out, part = q[s, i, j, low:high], sums[: high - low]
                masked(row[s], inverse[s, i, j, low:high], out)
                multiplied(out, d[s, i, j, low:high], part)
                totals[i] += added(part)


@kernel
def stepped(x, r, d, q, alpha, lo, hi, totals, first, last):
    """x += α d, r −= α q; r · r of every plane."""
    squares = np.empty(x.shape[3], np.float32)
    for i in range(first, last):
        totals[i] = 0.0
        for j in range(1, x.shape[2] - 1):
            low, high = lo[i, j], hi[i, j]
            if low >= high:
                continue
            for s in range(3):
                at, left = x[s, i, j, low:high], r[s, i, j, low:high]
                way, change = d[s, i, j, low:high], q[s, i, j, low:high]
                for k in range(left.size):
                    at[k] += alpha * way[k]
                for k in range(left.size):
                    left[k] -= alpha * change[k]
                part = squares[: left.size]
                multiplied(left, left, part)
                totals[i] += added(part)


# from one grid to the next coarser one ------------------------------------------------------------------------------


@inline
def reach(node, i):
    """Of a coarse node or cell i (unpadded): the first fine one it is made from, and how many."""
    if node:
        return 2 * i - 1, 3
    return 2 * i, 2


@inline
def part(node, s):
    """Weight of the s-th of them; all together 1."""
    if node:
        return HALF if s == 1 else QUARTER
    return HALF


@kernel
def coarsened(fine, nx, ny, nz, scale, out, first, last):
    """Means of a fine array for a coarse one, times scale: along the axes of which nx, ny, nz are true, of nodes (¼ ½
    ¼), else of cells (½ ½). Coarse planes first … last, unpadded."""
    for i in range(first, last):
        i0, ni = reach(nx, i)
        for j in range(out.shape[1] - 2):
            j0, nj = reach(ny, j)
            for k in range(out.shape[2] - 2):
                k0, nk = reach(nz, k)
                total = F0
                for a in range(ni):
                    x = i0 + a + 1
                    if x < 0 or x >= fine.shape[0]:
                        continue
                    for b in range(nj):
                        y = j0 + b + 1
                        if y < 0 or y >= fine.shape[1]:
                            continue
                        w = part(nx, a) * part(ny, b)
                        for e in range(nk):
                            z = k0 + e + 1
                            if 0 <= z < fine.shape[2]:
                                total += w * part(nz, e) * fine[x, y, z]
                out[i + 1, j + 1, k + 1] = scale * total


@inline
def lower(own, i):
    """Of a fine face or cell i (unpadded) along an axis: the lower coarse one, and the weight of the upper one."""
    if own:
        return i >> 1, HALF * np.float32(i & 1)
    j = (i - 1) >> 1
    return j, QUARTER if i & 1 else np.float32(0.75)


@inline
def pulled(coarse, on, own, i, j, k, sum_only):
    """Mean of the coarse unknowns around a fine face of a component (`own`: which axis it is across), and the weight
    of those."""
    a, fx = lower(own == 0, i)
    b, fy = lower(own == 1, j)
    c, fz = lower(own == 2, k)
    total, weight = F0, F0
    for s in range(2):
        for t in range(2):
            w = (fx if s else F1 - fx) * (fy if t else F1 - fy)
            x, y = a + s + 1, b + t + 1
            if w == F0 or x < 0 or y < 0 or x >= on.shape[0] or y >= on.shape[1]:
                continue
            for e in range(2):
                z = c + e + 1
                q = w * (fz if e else F1 - fz)
                if q > F0 and 0 <= z < on.shape[2] and on[x, y, z] > F0:
                    weight += q
                    if not sum_only:
                        total += q * coarse[x, y, z]
    return total, weight


@kernel
def shares(on, inverse, lo, hi, out, first, last):
    """1 over the weight of the coarse unknowns (where `on` > 0) that reach every fine one; 0 if none does."""
    for i in range(first, last):
        for j in range(1, inverse.shape[2] - 1):
            for k in range(lo[i, j], hi[i, j]):
                for s in range(3):
                    _, weight = pulled(on[s], on[s], s, i - 1, j - 1, k - 1, True)
                    there = inverse[s, i, j, k] > F0 and weight > F0
                    out[s, i, j, k] = F1 / weight if there else F0


@kernel
def prolonged(coarse, on, share, lo, hi, x, first, last):
    """Adds the coarse correction."""
    for i in range(first, last):
        for j in range(1, x.shape[2] - 1):
            for s in range(3):
                for k in range(lo[i, j], hi[i, j]):
                    if share[s, i, j, k] > F0:
                        total, _ = pulled(coarse[s], on[s], s, i - 1, j - 1, k - 1, False)
                        x[s, i, j, k] += share[s, i, j, k] * total


@inline
def children(own, i):
    """Of a coarse face or cell along an axis: the first fine one that takes from it, and how many do."""
    if own:
        return 2 * i - 1, 3
    return 2 * i - 1, 4


@inline
def takes(own, s):
    """How much the s-th of them takes."""
    if own:
        return F1 if s == 1 else HALF
    return np.float32(0.75) if s == 1 or s == 2 else QUARTER


@kernel
def restricted(r, share, inverse, lo, hi, below, first, last):
    """The transpose of `prolonged`, an eighth of it: coarse padded planes first … last."""
    for i in range(first, last):
        for j in range(1, below.shape[2] - 1):
            for s in range(3):
                i0, ni = children(s == 0, i - 1)
                j0, nj = children(s == 1, j - 1)
                for k in range(lo[i, j], hi[i, j]):
                    if inverse[s, i, j, k] == F0:
                        below[s, i, j, k] = F0
                        continue
                    k0, nk = children(s == 2, k - 1)
                    total = F0
                    for a in range(ni):
                        x = i0 + a + 1
                        if x < 1 or x >= r.shape[1] - 1:
                            continue
                        for b in range(nj):
                            y = j0 + b + 1
                            if y < 1 or y >= r.shape[2] - 1:
                                continue
                            w = takes(s == 0, a) * takes(s == 1, b)
                            for e in range(nk):
                                z = k0 + e + 1
                                if 1 <= z < r.shape[3] - 1:
                                    total += w * takes(s == 2, e) * share[s, x, y, z] * r[s, x, y, z]
                    below[s, i, j, k] = np.float32(0.125) * total
