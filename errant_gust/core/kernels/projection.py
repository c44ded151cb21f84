"""Loops around the pressure solve: open shares of faces, what is to be made up for, and taking the gradient off."""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel
from errant_gust.core.kernels.poisson import added, opened

F0 = np.float32(0.0)
F1 = np.float32(1.0)
HALF = np.float32(0.5)


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
def outflows(u, v, w, sx, sy, sz, fixed, r, dinv, totals, first, last):
    """What is to be made up for: −(net outflow through the open shares of the faces + fixed) into the padded r, zero
    where no face is open; fixed (nx, ny, nz) may be empty. The sum of every plane into `totals`."""
    _, ny, nz = u.shape
    sums = np.empty(nz, np.float32)
    for i in range(first, last):
        sums[:] = F0
        for j in range(ny):
            to, inverse = r[i + 1, j + 1, 1 : nz + 1], dinv[i + 1, j + 1, 1 : nz + 1]
            for s in range(nz):
                e = sx[i, j, s] * u[i, j, s] - sx[i + 1, j, s] * u[i + 1, j, s]
                f = sy[i, j, s] * v[i, j, s] - sy[i, j + 1, s] * v[i, j + 1, s]
                to[s] = e + f + (sz[i, j, s] * w[i, j, s] - sz[i, j, s + 1] * w[i, j, s + 1])
            if fixed.size:
                for s in range(nz):
                    to[s] -= fixed[i, j, s]
            opened(to, inverse, sums)
        totals[i] = added(sums)


@kernel
def remains(u, v, w, sx, sy, sz, fixed, active, squares, sums, speeds, faces, first, last):
    """What is to be made up for (see `outflows`) in active cells: its square and itself, summed over every plane; and
    over the lower faces of the cells the square of the velocity by open share, and the shares."""
    _, ny, nz = u.shape
    squared, itself = np.empty(nz, np.float32), np.empty(nz, np.float32)
    fast, wide, row = np.empty(nz, np.float32), np.empty(nz, np.float32), np.empty(nz, np.float32)
    for i in range(first, last):
        squared[:], itself[:], fast[:], wide[:] = F0, F0, F0, F0
        for j in range(ny):
            ua, ub, xa, xb = u[i, j], u[i + 1, j], sx[i, j], sx[i + 1, j]
            va, vb, ya, yb = v[i, j], v[i, j + 1], sy[i, j], sy[i, j + 1]
            for s in range(nz):
                row[s] = (xa[s] * ua[s] - xb[s] * ub[s]) + (ya[s] * va[s] - yb[s] * vb[s])
            below, above, za, zb = w[i, j, :nz], w[i, j, 1 : nz + 1], sz[i, j, :nz], sz[i, j, 1 : nz + 1]
            for s in range(nz):
                row[s] += za[s] * below[s] - zb[s] * above[s]
            if fixed.size:
                made = fixed[i, j]
                for s in range(nz):
                    row[s] -= made[s]
            on = active[i, j]
            for s in range(nz):
                g = row[s] * np.float32(on[s])
                squared[s] += g * g
                itself[s] += g
            for s in range(nz):
                fast[s] += xa[s] * ua[s] * ua[s] + ya[s] * va[s] * va[s] + za[s] * below[s] * below[s]
                wide[s] += xa[s] + ya[s] + za[s]
        squares[i], sums[i], speeds[i], faces[i] = added(squared), added(itself), added(fast), added(wide)


@inline
def corrected(f, high, low):
    """A row of faces less the difference of the pressures on both sides."""
    for s in range(f.size):
        f[s] -= high[s] - low[s]


@kernel
def correct(p, u, v, w, open_low, open_high, a, b):
    """Take the gradient of p off the faces of planes a … b; boundary faces change only where the side is open (p = 0
    beyond). The last plane of u goes with the last cells."""
    nx, ny, nz = p.shape[0] - 2, p.shape[1] - 2, p.shape[2] - 2
    for i in range(a, b + 1 if b == nx else b):
        if (i > 0 or open_low[0]) and (i < nx or open_high[0]):
            for j in range(ny):
                corrected(u[i, j], p[i + 1, j + 1, 1 : nz + 1], p[i, j + 1, 1 : nz + 1])
    for i in range(a, b):
        for j in range(ny + 1):
            if (j > 0 or open_low[1]) and (j < ny or open_high[1]):
                corrected(v[i, j], p[i + 1, j + 1, 1 : nz + 1], p[i + 1, j, 1 : nz + 1])
    low, high = 0 if open_low[2] else 1, nz + 1 if open_high[2] else nz
    for i in range(a, b):
        for j in range(ny):
            corrected(w[i, j, low:high], p[i + 1, j + 1, low + 1 : high + 1], p[i + 1, j + 1, low:high])


@kernel
def seal(f, share, wall, a, b):
    """Closed faces of planes a … b get the wall's velocity (or zero, if `wall` is empty)."""
    for i in range(a, b):
        for j in range(f.shape[1]):
            for k in range(f.shape[2]):
                to = wall[i, j, k] if wall.size else F0
                f[i, j, k] = f[i, j, k] if share[i, j, k] > F0 else to
