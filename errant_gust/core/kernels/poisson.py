"""Loops of the cut-cell Poisson solver: A p = Σ over faces of w (p − p of the neighbour), w the open share of a face.

Arrays of cells are padded by one ghost layer, (nx + 2, ny + 2, nz + 2) float32, always zero there; faces wx (nx + 1,
ny, nz), wy, wz. Rows along z keep the span [lo, hi) of cells that are not plain; elsewhere the weights are not read. A
plain cell has whole faces, but those toward the ghosts may be closed: zeros beyond add nothing, so that only the
diagonal differs. `tips` (nx, ny) chooses its row: 1 if the first cell of the row is closed, 2 if the last is, 4 for
each of the four long sides that is. `extra` (nx, ny, nz) adds to the diagonal what surfaces at p = 0 within the grid
do (A p = … + extra p); it is empty where there are none.
"""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel

F0 = np.float32(0.0)
F1 = np.float32(1.0)
F6 = np.float32(6.0)
HALF = np.float32(0.5)


@kernel
def set_up(wx, wy, wz, dinv, lo, hi, tips, extra):
    """Inverse diagonal (padded), the span of cells in each row that are not plain, and its closed sides."""
    nx, ny, nz = dinv.shape[0] - 2, dinv.shape[1] - 2, dinv.shape[2] - 2
    for i in range(nx):
        for j in range(ny):
            west, east = whole(wx[i, j, 0], i == 0), whole(wx[i + 1, j, 0], i == nx - 1)
            south, north = whole(wy[i, j, 0], j == 0), whole(wy[i, j + 1, 0], j == ny - 1)
            bottom, top = whole(wz[i, j, 0], True), whole(wz[i, j, nz], True)
            low, high = nz, 0
            for k in range(nz):
                d = wx[i, j, k] + wx[i + 1, j, k] + wy[i, j, k] + wy[i, j + 1, k] + wz[i, j, k] + wz[i, j, k + 1]
                more = extra[i, j, k] if extra.size else F0
                d += more
                dinv[i + 1, j + 1, k + 1] = F1 / d if d > F0 else F0
                plain = (
                    wx[i, j, k] == west and wx[i + 1, j, k] == east and wy[i, j, k] == south
                    and wy[i, j + 1, k] == north and wz[i, j, k] == (bottom if k == 0 else F1)
                    and wz[i, j, k + 1] == (top if k == nz - 1 else F1) and d > F0 and more == F0
                )  # fmt: skip
                if not plain:
                    low, high = min(low, k), max(high, k + 1)
            lo[i, j], hi[i, j] = min(low, high), high
            sides = np.int32(F1 * 4 - (west + east + south + north))
            tips[i, j] = 4 * sides + (1 if bottom == F0 else 0) + (2 if top == F0 else 0)


@inline
def whole(share, ghost):
    """The share that a face of a plain cell has: 1, or 0 if it is closed toward a ghost."""
    return F0 if ghost and share == F0 else F1


@inline
def diagonals(nz):
    """Numbers of faces of the cells of a plain row, for all values of `tips`; at least 1."""
    made = np.empty((20, nz), np.float32)
    for t in range(20):
        made[t, :] = F6 - np.float32(t // 4)
        made[t, 0] -= np.float32(t & 1)
        made[t, nz - 1] -= np.float32((t & 2) // 2)
        for k in range(nz):
            made[t, k] = max(made[t, k], F1)
    return made


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
def plain_relaxed(p, b, inverse, row, i, j, k, n):
    """A row of cells without walls, relaxed into `row` (Gauss and Seidel, red and black)."""
    bottom, _, top, west, east, south, north = neighbours(p, i, j, k, n)
    right, out, by = b[i + 1, j + 1, k + 1 : k + 1 + n], row[k : k + n], inverse[k : k + n]
    for s in range(n):
        out[s] = (right[s] + (bottom[s] + top[s]) + (west[s] + east[s]) + (south[s] + north[s])) * by[s]


@inline
def cut_relaxed(p, b, wx, wy, wz, dinv, row, i, j, k, n):
    """The same of cells whose faces are open in part."""
    bottom, _, top, west, east, south, north = neighbours(p, i, j, k, n)
    w0, w1, w2, w3, w4, w5 = shares_of(wx, wy, wz, i, j, k, n)
    right, out, inverse = b[i + 1, j + 1, k + 1 : k + 1 + n], row[k : k + n], dinv[i + 1, j + 1, k + 1 : k + 1 + n]
    for s in range(n):
        near = (w0[s] * bottom[s] + w1[s] * top[s]) + (w2[s] * west[s] + w3[s] * east[s])
        out[s] = (right[s] + near + (w4[s] * south[s] + w5[s] * north[s])) * inverse[s]


@inline
def plain_outflow(p, diagonal, row, i, j, k, n):
    """A row of the matrix times p, of cells without walls."""
    bottom, cell, top, west, east, south, north = neighbours(p, i, j, k, n)
    out, by = row[k : k + n], diagonal[k : k + n]
    for s in range(n):
        out[s] = by[s] * cell[s] - ((bottom[s] + top[s]) + (west[s] + east[s]) + (south[s] + north[s]))


@inline
def cut_outflow(p, wx, wy, wz, extra, row, i, j, k, n):
    """A p as sums of w (centre − neighbour), which does not lose digits."""
    bottom, cell, top, west, east, south, north = neighbours(p, i, j, k, n)
    w0, w1, w2, w3, w4, w5 = shares_of(wx, wy, wz, i, j, k, n)
    out = row[k : k + n]
    for s in range(n):
        e = cell[s]
        near = (w0[s] * (e - bottom[s]) + w1[s] * (e - top[s])) + (w2[s] * (e - west[s]) + w3[s] * (e - east[s]))
        out[s] = near + (w4[s] * (e - south[s]) + w5[s] * (e - north[s]))
    if extra.size:
        more = extra[i, j, k : k + n]
        for s in range(n):
            out[s] += more[s] * cell[s]


@inline
def outflow(p, wx, wy, wz, extra, diagonal, row, i, j, a, c):
    """A row of A p, of whose cells a … c are not plain."""
    nz = row.size
    if a > 0:
        plain_outflow(p, diagonal, row, i, j, 0, a)
    if c > a:
        cut_outflow(p, wx, wy, wz, extra, row, i, j, a, c - a)
    if c < nz:
        plain_outflow(p, diagonal, row, i, j, c, nz - c)


@inline
def relaxed(p, b, wx, wy, wz, dinv, lo, hi, tips, extra, inverse, colour, i, row, mask):
    """Gauss–Seidel on the cells of one colour of plane i, whose neighbours are all of the other colour.

    A row is computed whole (which vectorises) and every other cell of it is kept.
    """
    ny, nz = lo.shape[1], row.size
    for j in range(ny):
        a, c = lo[i, j], hi[i, j]
        if a > 0:
            plain_relaxed(p, b, inverse[tips[i, j]], row, i, j, 0, a)
        if c > a:
            cut_relaxed(p, b, wx, wy, wz, dinv, row, i, j, a, c - a)
        if c < nz:
            plain_relaxed(p, b, inverse[tips[i, j]], row, i, j, c, nz - c)
        kept, on = p[i + 1, j + 1, 1 : nz + 1], mask[(i + j + colour) & 1]
        for s in range(nz):
            kept[s] += on[s] * (row[s] - kept[s])


@inline
def begun(p, b, dinv, lo, hi, tips, extra, inverse, colour, i, mask):
    """The same, where p is still zero everywhere: nothing of it need be read."""
    ny, nz = lo.shape[1], b.shape[2] - 2
    for j in range(ny):
        a, c = lo[i, j], hi[i, j]
        on, by = mask[(i + j + colour) & 1], inverse[tips[i, j]]
        right, out = b[i + 1, j + 1, 1 : nz + 1], p[i + 1, j + 1, 1 : nz + 1]
        for s in range(nz):
            out[s] = on[s] * right[s] * by[s]
        if c > a:
            cut = dinv[i + 1, j + 1, 1 : nz + 1]
            for s in range(a, c):
                out[s] = on[s] * right[s] * cut[s]


@inline
def prolonged(coarse, p, dinv, lo, hi, i):
    """Adds its coarse cell's value to every cell of plane i; nothing where no face is open."""
    ny, nz = lo.shape[1], p.shape[2] - 2
    for j in range(ny):
        above, cell = coarse[(i >> 1) + 1, (j >> 1) + 1], p[i + 1, j + 1, 1 : nz + 1]
        for k in range(nz // 2):
            e = above[k + 1]
            cell[2 * k] += e
            cell[2 * k + 1] += e
        if nz & 1:
            cell[nz - 1] += above[nz // 2 + 1]
        if hi[i, j] > lo[i, j]:
            inverse = dinv[i + 1, j + 1, 1 : nz + 1]
            for s in range(lo[i, j], hi[i, j]):
                cell[s] = cell[s] if inverse[s] > F0 else F0


@inline
def colours(nz):
    """Ones on every other cell of a row, for both ways to begin."""
    mask = np.empty((2, nz), np.float32)
    for k in range(nz):
        mask[0, k] = np.float32(1 - (k & 1))
        mask[1, k] = np.float32(k & 1)
    return mask


# Several sweeps go through a grid at once, each a plane behind the one before, so that planes are still in the cache
# when the next sweep comes to them: memory is read once for all sweeps instead of once for each. Where slabs of two
# threads meet, sweep s stops s planes before the border and the wedge that is left is done afterwards (`whole` false).
# The order in which cells are relaxed does not change what comes out: cells of one colour do not touch.


@inline
def border(first, last, nx, stage, whole):
    """Planes [a, b) that a stage does in a slab, or in the wedge around a border that lies at `first`."""
    if not whole:
        return first - stage, first + stage
    return first + (stage if first > 0 else 0), last - (stage if last < nx else 0)


@kernel
def descend(p, b, wx, wy, wz, dinv, lo, hi, tips, extra, first, last, whole):
    """Two sweeps from p = 0, cells of either colour in turn."""
    nx, nz = lo.shape[0], b.shape[2] - 2
    row, mask, inverse = np.empty(nz, np.float32), colours(nz), F1 / diagonals(nz)
    for t in range(first - 3, last + 7):
        for stage in range(4):
            i = t - stage
            a, c = border(first, last, nx, stage, whole)
            if a <= i < c:
                if stage == 0:
                    begun(p, b, dinv, lo, hi, tips, extra, inverse, 0, i, mask)
                else:
                    relaxed(p, b, wx, wy, wz, dinv, lo, hi, tips, extra, inverse, stage & 1, i, row, mask)


@kernel
def ascend(coarse, p, b, wx, wy, wz, dinv, lo, hi, tips, extra, totals, sums, first, last, whole):
    """The coarse correction, then two sweeps in the opposite order, so that the cycle is symmetric; b · p of every
    plane into `totals` and the sum of p into `sums`."""
    nx, nz = lo.shape[0], b.shape[2] - 2
    row, mask, inverse = np.empty(nz, np.float32), colours(nz), F1 / diagonals(nz)
    products, rows = np.empty(nz, np.float32), np.empty(nz, np.float32)
    for t in range(first - 4, last + 9):
        for stage in range(5):
            i = t - stage
            a, c = border(first, last, nx, stage, whole)
            if a <= i < c:
                if stage == 0:
                    prolonged(coarse, p, dinv, lo, hi, i)
                else:
                    relaxed(p, b, wx, wy, wz, dinv, lo, hi, tips, extra, inverse, stage & 1, i, row, mask)
                if stage == 4:
                    totals[i], sums[i] = product_and_sum(b, p, i, products, rows)


@kernel
def restrict(p, b, wx, wy, wz, dinv, lo, hi, tips, extra, below, first, last):
    """Half the sum of b − A p over the eight children of the coarse cells of planes first <= i < last: the coarse right
    side in units of its own faces."""
    nx, ny, nz = lo.shape[0], lo.shape[1], b.shape[2] - 2
    row, left, diagonal = np.empty(nz, np.float32), np.empty(nz + 1, np.float32), diagonals(nz)
    for i in range(first, last):
        for j in range(below.shape[1] - 2):
            left[:] = F0
            for ii in range(2 * i, min(2 * i + 2, nx)):
                for jj in range(2 * j, min(2 * j + 2, ny)):
                    outflow(p, wx, wy, wz, extra, diagonal[tips[ii, jj]], row, ii, jj, lo[ii, jj], hi[ii, jj])
                    right = b[ii + 1, jj + 1, 1 : nz + 1]
                    for s in range(nz):
                        left[s] += right[s] - row[s]
            for k in range(below.shape[2] - 2):
                below[i + 1, j + 1, k + 1] = HALF * (left[2 * k] + left[2 * k + 1])


@kernel
def apply(p, wx, wy, wz, dinv, lo, hi, tips, extra, q, first, last):
    """q = A p on planes first <= i < last."""
    nz = p.shape[2] - 2
    diagonal = diagonals(nz)
    for i in range(first, last):
        for j in range(lo.shape[1]):
            outflow(p, wx, wy, wz, extra, diagonal[tips[i, j]], q[i + 1, j + 1, 1 : nz + 1], i, j, lo[i, j], hi[i, j])


# Scalar products add up row on row in a row of float32 sums, which vectorises, and that row in float64, for every plane
# by itself: so what comes out does not depend on how planes are shared out.


@inline
def added(sums):
    """The sum of what the slabs found, in their order."""
    total = 0.0
    for s in range(sums.size):
        total += sums[s]
    return total


@inline
def product_and_sum(a, b, i, products, sums):
    """a · b over plane i, and the sum of b; the last two are rows to work in."""
    nz = sums.size
    products[:], sums[:] = F0, F0
    for j in range(a.shape[1] - 2):
        x, y = a[i + 1, j + 1, 1 : nz + 1], b[i + 1, j + 1, 1 : nz + 1]
        for s in range(nz):
            products[s] += x[s] * y[s]
            sums[s] += y[s]
    return added(products), added(sums)


@kernel
def residual(p, b, wx, wy, wz, dinv, lo, hi, tips, extra, r, first, last):
    """r = b − A p on planes first <= i < last."""
    nz = p.shape[2] - 2
    row, diagonal = np.empty(nz, np.float32), diagonals(nz)
    for i in range(first, last):
        for j in range(lo.shape[1]):
            outflow(p, wx, wy, wz, extra, diagonal[tips[i, j]], row, i, j, lo[i, j], hi[i, j])
            right, out = b[i + 1, j + 1, 1 : nz + 1], r[i + 1, j + 1, 1 : nz + 1]
            for s in range(nz):
                out[s] = right[s] - row[s]


@kernel
def turn(d, z, mean, beta, wx, wy, wz, dinv, lo, hi, tips, extra, q, totals, first, last, whole):
    """d = z − mean + β d where a face is open (d is not read if β is 0), q = A d; d · q of every plane into
    `totals`."""
    nx, ny, nz = lo.shape[0], lo.shape[1], d.shape[2] - 2
    diagonal, products = diagonals(nz), np.empty(nz, np.float32)
    for t in range(first - 1, last + 3):
        a, c = border(first, last, nx, 0, whole)
        if a <= t < c:
            for j in range(ny):
                now, new, inverse = d[t + 1, j + 1, 1 : nz + 1], z[t + 1, j + 1, 1 : nz + 1], dinv[t + 1, j + 1]
                if beta == F0:
                    for s in range(nz):
                        now[s] = new[s] - mean
                else:
                    for s in range(nz):
                        now[s] = new[s] - mean + beta * now[s]
                for s in range(lo[t, j], hi[t, j]):
                    if inverse[s + 1] == F0:
                        now[s] = F0
        i = t - 1
        a, c = border(first, last, nx, 1, whole)
        if a <= i < c:
            products[:] = F0
            for j in range(ny):
                out, way = q[i + 1, j + 1, 1 : nz + 1], d[i + 1, j + 1, 1 : nz + 1]
                outflow(d, wx, wy, wz, extra, diagonal[tips[i, j]], out, i, j, lo[i, j], hi[i, j])
                for s in range(nz):
                    products[s] += out[s] * way[s]
            totals[i] = added(products)


@kernel
def step_and_norm(x, r, d, q, alpha, new, totals, sums, first, last):
    """x += α d (or x = α d, if it is new), r −= α q; r · r of every plane into `totals`, the sum of r into `sums`."""
    nz = x.shape[2] - 2
    squares, rows = np.empty(nz, np.float32), np.empty(nz, np.float32)
    for i in range(first, last):
        squares[:], rows[:] = F0, F0
        for j in range(x.shape[1] - 2):
            place, way = x[i + 1, j + 1, 1 : nz + 1], d[i + 1, j + 1, 1 : nz + 1]
            left, change = r[i + 1, j + 1, 1 : nz + 1], q[i + 1, j + 1, 1 : nz + 1]
            if new:
                for s in range(nz):
                    place[s] = alpha * way[s]
            else:
                for s in range(nz):
                    place[s] += alpha * way[s]
            for s in range(nz):
                e = left[s] - alpha * change[s]
                left[s] = e
                squares[s] += e * e
                rows[s] += e
        totals[i], sums[i] = added(squares), added(rows)


@inline
def opened(row, inverse, sums):
    """Zero where no face is open; the rest is added to `sums`."""
    for s in range(row.size):
        e = row[s] if inverse[s] > F0 else F0
        row[s] = e
        sums[s] += e


@kernel
def load(b, r, dinv, totals, first, last):
    """A right side (nx, ny, nz) into the padded r, zero where no face is open; the sum of every plane into `totals`."""
    nz = b.shape[2]
    sums = np.empty(nz, np.float32)
    for i in range(first, last):
        sums[:] = F0
        for j in range(b.shape[1]):
            came, to, inverse = b[i, j], r[i + 1, j + 1, 1 : nz + 1], dinv[i + 1, j + 1, 1 : nz + 1]
            for s in range(nz):
                to[s] = came[s]
            opened(to, inverse, sums)
        totals[i] = added(sums)


@kernel
def shift(a, dinv, by, totals, first, last):
    """Take `by` off every cell with an open face; a · a of every plane into `totals`."""
    nz = a.shape[2] - 2
    squares = np.empty(nz, np.float32)
    for i in range(first, last):
        squares[:] = F0
        for j in range(a.shape[1] - 2):
            row, inverse = a[i + 1, j + 1, 1 : nz + 1], dinv[i + 1, j + 1, 1 : nz + 1]
            for s in range(nz):
                e = row[s] - (by if inverse[s] > F0 else F0)
                row[s] = e
                squares[s] += e * e
        totals[i] = added(squares)


@kernel
def divide(a, x, y, z, first, last):
    """Divide by the sum of a number of each row, column and layer; what has the sum zero becomes zero."""
    for i in range(first, last):
        for j in range(a.shape[1]):
            e = x[i] + y[j]
            for k in range(a.shape[2]):
                d = e + z[k]
                a[i, j, k] = a[i, j, k] / d if d > F0 else F0
