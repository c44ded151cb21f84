"""Loops of the gas solver on a staggered grid: tracing, MacCormack advection, vorticity, forces on faces, shadow.

Faces u (nx + 1, ny, nz), v, w in m/s; cells (nx, ny, nz) or channels of cells (c, nx, ny, nz). Places are in cells:
the middle of cell (i, j, k) is (i + ½, j + ½, k + ½). All loops work on slabs [a, b) of the first axis, so that
threads share them out without touching each other's cells.
"""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel

F0 = np.float32(0.0)
F1 = np.float32(1.0)
HALF = np.float32(0.5)
QUARTER = np.float32(0.25)
TINY = np.float32(1e-20)
ONE = np.int64(1)


@inline
def within(p, top):
    """Clamped to 0 … top; what is not a number becomes 0, so that it never is an address."""
    p = p if p > F0 else F0
    return p if p < top else top


@inline
def node(p, n):
    """Lower node and fraction of a coordinate that is clamped to 0 … n − 1."""
    p = within(p, np.float32(n - 1))
    i = min(np.int32(p), np.int32(max(n - 2, 0)))
    return i, p - np.float32(i)


@inline
def middle(u, v, w, i, j, k):
    return (
        HALF * (u[i, j, k] + u[i + 1, j, k]),
        HALF * (v[i, j, k] + v[i, j + 1, k]),
        HALF * (w[i, j, k] + w[i, j, k + 1]),
    )


@inline
def addresses(x, y, z, nx, ny, nz, at):
    """Flat lower node of every place of a row into `at`; what is left over of each coordinate in its place."""
    tx, ty, tz = np.float32(nx - 1), np.float32(ny - 1), np.float32(nz - 1)
    lx, ly, lz = np.int32(nx - 2), np.int32(ny - 2), np.int32(nz - 2)
    for k in range(x.size):
        p, q, r = within(x[k], tx), within(y[k], ty), within(z[k], tz)
        i, j, m = min(np.int32(p), lx), min(np.int32(q), ly), min(np.int32(r), lz)
        at[k] = (i * np.int32(ny) + j) * np.int32(nz) + m
        x[k], y[k], z[k] = p - np.float32(i), q - np.float32(j), r - np.float32(m)


@inline
def taken(f, at, sx, sy, fx, fy, fz):
    """Trilinear value of a flat array from its lower node."""
    c = at + sx
    d, e = at + sy, c + sy
    p = f[at] + fz * (f[at + ONE] - f[at])
    q = f[d] + fz * (f[d + ONE] - f[d])
    r = f[c] + fz * (f[c + ONE] - f[c])
    t = f[e] + fz * (f[e + ONE] - f[e])
    low, high = p + fy * (q - p), r + fy * (t - r)
    return low + fx * (high - low)


@kernel
def bends(u, v, w, s, bx, by, bz, a, b):
    """How much the velocity half a step back along the way differs from that at each cell's middle: into bx, by, bz.

    s: −dt / h. With it a place half a step back is known to second order (midpoint rule), and to the same order half
    a step ahead, since the two differ from the middle by as much.
    """
    nx, ny, nz = bx.shape
    h = HALF * s
    fu, fv, fw = u.reshape(-1), v.reshape(-1), w.reshape(-1)
    x, y, z = np.empty(nz, np.float32), np.empty(nz, np.float32), np.empty(nz, np.float32)
    p, q, r = np.empty(nz, np.float32), np.empty(nz, np.float32), np.empty(nz, np.float32)
    at = np.empty(nz, np.int32)
    for i in range(a, b):
        for j in range(ny):
            for k in range(nz):
                x[k], y[k], z[k] = middle(u, v, w, i, j, k)
            for k in range(nz):
                p[k] = np.float32(i) + HALF + h * x[k]
                q[k], r[k] = np.float32(j) + h * y[k], np.float32(k) + h * z[k]
            addresses(p, q, r, nx + 1, ny, nz, at)
            for k in range(nz):
                bx[i, j, k] = taken(fu, np.int64(at[k]), np.int64(ny * nz), np.int64(nz), p[k], q[k], r[k]) - x[k]
            for k in range(nz):
                p[k], q[k] = np.float32(i) + h * x[k], np.float32(j) + HALF + h * y[k]
                r[k] = np.float32(k) + h * z[k]
            addresses(p, q, r, nx, ny + 1, nz, at)
            for k in range(nz):
                to = taken(fv, np.int64(at[k]), np.int64((ny + 1) * nz), np.int64(nz), p[k], q[k], r[k])
                by[i, j, k] = to - y[k]
            for k in range(nz):
                p[k], q[k] = np.float32(i) + h * x[k], np.float32(j) + h * y[k]
                r[k] = np.float32(k) + HALF + h * z[k]
            addresses(p, q, r, nx, ny, nz + 1, at)
            for k in range(nz):
                to = taken(fw, np.int64(at[k]), np.int64(ny * (nz + 1)), np.int64(nz + 1), p[k], q[k], r[k])
                bz[i, j, k] = to - z[k]


@inline
def way(u, v, w, bx, by, bz, axis, i, j, s, sign, x, y, z):
    """Places in nodes of the grid `axis` (−1 cells, 0 … 2 faces) that row (i, j) comes from (sign 1) or goes to (−1).

    The velocity on the own face is exact, the others are means of four; what it bends by is the mean of both cells.
    """
    nx, ny, nz = bx.shape
    n = x.size
    t, half = s * sign, sign * HALF
    if axis == 0:
        i0, i1 = max(i - 1, 0), min(i, nx - 1)
        for k in range(n):
            e = u[i, j, k] + half * (bx[i0, j, k] + bx[i1, j, k])
            f = QUARTER * (v[i0, j, k] + v[i0, j + 1, k] + v[i1, j, k] + v[i1, j + 1, k])
            f += half * (by[i0, j, k] + by[i1, j, k])
            g = QUARTER * (w[i0, j, k] + w[i0, j, k + 1] + w[i1, j, k] + w[i1, j, k + 1])
            g += half * (bz[i0, j, k] + bz[i1, j, k])
            x[k], y[k], z[k] = np.float32(i) + t * e, np.float32(j) + t * f, np.float32(k) + t * g
    elif axis == 1:
        j0, j1 = max(j - 1, 0), min(j, ny - 1)
        for k in range(n):
            e = QUARTER * (u[i, j0, k] + u[i + 1, j0, k] + u[i, j1, k] + u[i + 1, j1, k])
            e += half * (bx[i, j0, k] + bx[i, j1, k])
            f = v[i, j, k] + half * (by[i, j0, k] + by[i, j1, k])
            g = QUARTER * (w[i, j0, k] + w[i, j0, k + 1] + w[i, j1, k] + w[i, j1, k + 1])
            g += half * (bz[i, j0, k] + bz[i, j1, k])
            x[k], y[k], z[k] = np.float32(i) + t * e, np.float32(j) + t * f, np.float32(k) + t * g
    elif axis == 2:
        for k in range(1, n - 1):
            x[k], y[k], z[k] = across(u, v, w, bx, by, bz, i, j, k, k - 1, k, t, half)
        x[0], y[0], z[0] = across(u, v, w, bx, by, bz, i, j, 0, 0, 0, t, half)
        x[n - 1], y[n - 1], z[n - 1] = across(u, v, w, bx, by, bz, i, j, n - 1, nz - 1, nz - 1, t, half)
    else:
        for k in range(n):
            e, f, g = middle(u, v, w, i, j, k)
            x[k] = np.float32(i) + t * (e + sign * bx[i, j, k])
            y[k] = np.float32(j) + t * (f + sign * by[i, j, k])
            z[k] = np.float32(k) + t * (g + sign * bz[i, j, k])


@inline
def across(u, v, w, bx, by, bz, i, j, k, k0, k1, t, half):
    """The same for a face across z between cells k0 and k1."""
    e = QUARTER * (u[i, j, k0] + u[i + 1, j, k0] + u[i, j, k1] + u[i + 1, j, k1])
    e += half * (bx[i, j, k0] + bx[i, j, k1])
    f = QUARTER * (v[i, j, k0] + v[i, j + 1, k0] + v[i, j, k1] + v[i, j + 1, k1])
    f += half * (by[i, j, k0] + by[i, j, k1])
    g = w[i, j, k] + half * (bz[i, j, k0] + bz[i, j, k1])
    return np.float32(i) + t * e, np.float32(j) + t * f, np.float32(k) + t * g


@kernel
def advect(values, axis, u, v, w, bx, by, bz, s, outside, hat, base, a, b):
    """First half of MacCormack (Selle et al. 2008): channels (c, …) of the grid `axis` traced back into `hat`.

    s: −dt / h. outside: 0 gives zero beyond the box, 1 the nearest. base: the lower node that each came from, for
    the limiter; −1 where it came from outside. Grids have at least two nodes along each axis.
    """
    c, nx, ny, nz = values.shape
    flat, out = values.reshape(c, -1), hat.reshape(c, -1)
    sx, sy = np.int64(ny * nz), np.int64(nz)
    x, y, z = np.empty(nz, np.float32), np.empty(nz, np.float32), np.empty(nz, np.float32)
    at, beyond = np.empty(nz, np.int32), np.empty(nz, np.bool_)
    hx, hy, hz = np.float32(nx) - HALF, np.float32(ny) - HALF, np.float32(nz) - HALF
    for i in range(a, b):
        for j in range(ny):
            way(u, v, w, bx, by, bz, axis, i, j, s, F1, x, y, z)
            for k in range(nz):
                beyond[k] = (x[k] < -HALF) | (y[k] < -HALF) | (z[k] < -HALF) | (x[k] > hx) | (y[k] > hy) | (z[k] > hz)
            addresses(x, y, z, nx, ny, nz, at)
            here = (i * ny + j) * nz
            for n in range(c):
                f, g = flat[n], out[n]
                for k in range(nz):
                    g[here + k] = taken(f, np.int64(at[k]), sx, sy, x[k], y[k], z[k])
                if outside == 0:
                    for k in range(nz):
                        if beyond[k]:
                            g[here + k] = F0
            for k in range(nz):
                base[i, j, k] = np.int32(-1) if beyond[k] else at[k]


@kernel
def correct(values, hat, base, axis, u, v, w, bx, by, bz, s, result, a, b):
    """Second half: half of what going there and back changes is put right, within the values it came from."""
    c, nx, ny, nz = values.shape
    flat, there, out = values.reshape(c, -1), hat.reshape(c, -1), result.reshape(c, -1)
    sx, sy = np.int64(ny * nz), np.int64(nz)
    x, y, z = np.empty(nz, np.float32), np.empty(nz, np.float32), np.empty(nz, np.float32)
    at = np.empty(nz, np.int32)
    for i in range(a, b):
        for j in range(ny):
            way(u, v, w, bx, by, bz, axis, i, j, s, -F1, x, y, z)
            addresses(x, y, z, nx, ny, nz, at)
            here = (i * ny + j) * nz
            for n in range(c):
                f, h, o = flat[n], there[n], out[n]
                for k in range(nz):
                    back = taken(h, np.int64(at[k]), sx, sy, x[k], y[k], z[k])
                    known = h[here + k]
                    from_outside = base[i, j, k] < 0
                    p = np.int64(max(base[i, j, k], np.int32(0)))
                    q = p + sx
                    m, e = p + sy, q + sy
                    low = min(min(min(f[p], f[p + ONE]), min(f[m], f[m + ONE])),
                              min(min(f[q], f[q + ONE]), min(f[e], f[e + ONE])))  # fmt: skip
                    high = max(max(max(f[p], f[p + ONE]), max(f[m], f[m + ONE])),
                               max(max(f[q], f[q + ONE]), max(f[e], f[e + ONE])))  # fmt: skip
                    better = min(max(known + HALF * (f[here + k] - back), low), high)
                    o[here + k] = known if from_outside else better


@inline
def spin(u, v, w, scale, i0, i, i1, j0, j, j1, k0, k, k1):
    """Vorticity in 1/s at the middle of a cell, from the middles of its neighbours; scale: 1 / (2 h)."""
    _, vx0, wx0 = middle(u, v, w, i0, j, k)
    _, vx1, wx1 = middle(u, v, w, i1, j, k)
    uy0, _, wy0 = middle(u, v, w, i, j0, k)
    uy1, _, wy1 = middle(u, v, w, i, j1, k)
    uz0, vz0, _ = middle(u, v, w, i, j, k0)
    uz1, vz1, _ = middle(u, v, w, i, j, k1)
    x = scale * ((wy1 - wy0) - (vz1 - vz0))
    y = scale * ((uz1 - uz0) - (wx1 - wx0))
    z = scale * ((vx1 - vx0) - (uy1 - uy0))
    return x, y, z


@kernel
def spins(u, v, w, scale, size, a, b):
    """Size of the vorticity in 1/s at the middles; one-sided at the border. Axes have at least two cells."""
    nx, ny, nz = size.shape
    for i in range(a, b):
        i0, i1 = max(i - 1, 0), min(i + 1, nx - 1)
        for j in range(ny):
            j0, j1 = max(j - 1, 0), min(j + 1, ny - 1)
            for k in range(1, nz - 1):
                x, y, z = spin(u, v, w, scale, i0, i, i1, j0, j, j1, k - 1, k, k + 1)
                size[i, j, k] = np.sqrt(x * x + y * y + z * z)
            for k in (0, nz - 1):
                x, y, z = spin(u, v, w, scale, i0, i, i1, j0, j, j1, max(k - 1, 0), k, min(k + 1, nz - 1))
                size[i, j, k] = np.sqrt(x * x + y * y + z * z)


@inline
def confining(u, v, w, scale, size, amount, i0, i, i1, j0, j, j1, k0, k, k1):
    """amount · N × ω, with N the direction in which the vorticity grows."""
    x = size[i1, j, k] - size[i0, j, k]
    y = size[i, j1, k] - size[i, j0, k]
    z = size[i, j, k1] - size[i, j, k0]
    f = amount / np.sqrt(x * x + y * y + z * z + TINY)
    ox, oy, oz = spin(u, v, w, scale, i0, i, i1, j0, j, j1, k0, k, k1)
    return f * (y * oz - z * oy), f * (z * ox - x * oz), f * (x * oy - y * ox)


@kernel
def confine(u, v, w, scale, size, amount, each, fx, fy, fz, a, b):
    """Adds the vorticity confinement force to fx, fy, fz (Fedkiw, Stam, Jensen 2001).

    amount: strength times voxel size; each (nx, ny, nz): times this, if it is not empty. The vorticity is computed
    again rather than kept: it costs less than three arrays.
    """
    nx, ny, nz = size.shape
    row = np.empty(nz, np.float32)
    for i in range(a, b):
        i0, i1 = max(i - 1, 0), min(i + 1, nx - 1)
        for j in range(ny):
            j0, j1 = max(j - 1, 0), min(j + 1, ny - 1)
            for k in range(nz):
                row[k] = amount * each[i, j, k] if each.size else amount
            for k in range(1, nz - 1):
                x, y, z = confining(u, v, w, scale, size, row[k], i0, i, i1, j0, j, j1, k - 1, k, k + 1)
                fx[i, j, k] += x
                fy[i, j, k] += y
                fz[i, j, k] += z
            for k in (0, nz - 1):
                k0, k1 = max(k - 1, 0), min(k + 1, nz - 1)
                x, y, z = confining(u, v, w, scale, size, row[k], i0, i, i1, j0, j, j1, k0, k, k1)
                fx[i, j, k] += x
                fy[i, j, k] += y
                fz[i, j, k] += z


@inline
def forced(f, g, h, c):
    """A row of faces takes c times what the rows of cells on both sides have together."""
    for k in range(f.size):
        f[k] += c * (g[k] + h[k])


@kernel
def to_faces(force, dt, axis, f, a, b):
    """Adds dt times the mean of the two cells beside each face across `axis` to that face: slab [a, b) of faces.

    force (nx, ny, nz) is its component along the axis. At the border the one cell there is counts twice.
    """
    nx, ny, nz = force.shape
    c = dt * HALF
    for i in range(a, b):
        for j in range(f.shape[1]):
            if axis == 0:
                forced(f[i, j], force[max(i - 1, 0), j], force[min(i, nx - 1), j], c)
            elif axis == 1:
                forced(f[i, j], force[i, max(j - 1, 0)], force[i, min(j, ny - 1)], c)
            else:
                g = force[i, j]
                forced(f[i, j, 1:nz], g[: nz - 1], g[1:], c)
                f[i, j, 0] += dt * g[0]
                f[i, j, nz] += dt * g[nz - 1]


@inline
def eased(f, g, h, m, n):
    """A row of faces moves toward the targets g and h on both sides by the mean of the shares m and n."""
    for k in range(f.size):
        both = m[k] + n[k]
        want = (m[k] * g[k] + n[k] * h[k]) / max(both, TINY)
        f[k] += min(HALF * both, F1) * (want - f[k])


@kernel
def ease_faces(target, share, axis, f, a, b):
    """Moves each face across `axis` toward the mean of the targets (nx, ny, nz) beside it by the mean share."""
    nx, ny, nz = target.shape
    for i in range(a, b):
        for j in range(f.shape[1]):
            if axis == 0:
                i0, i1 = max(i - 1, 0), min(i, nx - 1)
                eased(f[i, j], target[i0, j], target[i1, j], share[i0, j], share[i1, j])
            elif axis == 1:
                j0, j1 = max(j - 1, 0), min(j, ny - 1)
                eased(f[i, j], target[i, j0], target[i, j1], share[i, j0], share[i, j1])
            else:
                g, m = target[i, j], share[i, j]
                eased(f[i, j, 1:nz], g[: nz - 1], g[1:], m[: nz - 1], m[1:])
                eased(f[i, j, :1], g[:1], g[:1], m[:1], m[:1])
                eased(f[i, j, nz:], g[nz - 1 :], g[nz - 1 :], m[nz - 1 :], m[nz - 1 :])


@kernel
def middles(u, v, w, out, a, b):
    """Velocity (nx, ny, nz, 3) at the middles of cells."""
    _, ny, nz, _ = out.shape
    for i in range(a, b):
        for j in range(ny):
            for k in range(nz):
                x, y, z = middle(u, v, w, i, j, k)
                out[i, j, k, 0], out[i, j, k, 1], out[i, j, k, 2] = x, y, z


@kernel
def fastest(u, v, w, a, b):
    """Largest sum of component speeds over cells of a slab (a bound of the speed)."""
    most = F0
    for i in range(a, b):
        for j in range(u.shape[1]):
            for k in range(u.shape[2]):
                x = max(abs(u[i, j, k]), abs(u[i + 1, j, k]))
                y = max(abs(v[i, j, k]), abs(v[i, j + 1, k]))
                z = max(abs(w[i, j, k]), abs(w[i, j, k + 1]))
                s = x * x + y * y + z * z
                most = max(most, s) if s == s else np.float32(np.inf)
    return most


@kernel
def lit(density, dx, dy, dz, absorb, out):
    """How much light reaches each cell (0 … 1) from far away along (dx, dy, dz), which points to the light.

    One sweep away from the light along the axis that it comes most along: each cell takes the transmittance of the
    place one layer nearer to the light, bilinear, dimmed by that place's density. absorb: per density and layer.
    """
    nx, ny, nz = density.shape
    ax, ay, az = abs(dx), abs(dy), abs(dz)
    if az >= ax and az >= ay:
        axis, n, sx, sy = 2, nz, dx / az, dy / az
        up = dz > F0
        n0, n1 = nx, ny
    elif ay >= ax:
        axis, n, sx, sy = 1, ny, dx / ay, dz / ay
        up = dy > F0
        n0, n1 = nx, nz
    else:
        axis, n, sx, sy = 0, nx, dy / ax, dz / ax
        up = dx > F0
        n0, n1 = ny, nz
    through, light = np.ones((n0, n1), np.float32), np.ones((n0, n1), np.float32)
    for layer in range(n):
        here = n - 1 - layer if up else layer
        for p in range(n0):
            for q in range(n1):
                x, y = np.float32(p) + sx, np.float32(q) + sy
                outside = x < -HALF or y < -HALF or x > np.float32(n0) - HALF or y > np.float32(n1) - HALF
                i, f = node(x, n0)
                j, g = node(y, n1)
                ii, jj = min(i + 1, n0 - 1), min(j + 1, n1 - 1)
                low = through[i, j] + g * (through[i, jj] - through[i, j])
                high = through[ii, j] + g * (through[ii, jj] - through[ii, j])
                light[p, q] = F1 if outside else low + f * (high - low)
        for p in range(n0):
            for q in range(n1):
                if axis == 2:
                    d = density[p, q, here]
                    out[p, q, here] = light[p, q]
                elif axis == 1:
                    d = density[p, here, q]
                    out[p, here, q] = light[p, q]
                else:
                    d = density[here, p, q]
                    out[here, p, q] = light[p, q]
                through[p, q] = light[p, q] * np.exp(-absorb * max(d, F0))


@kernel
def scattered(at, velocity, radius, share, weight, sums):
    """Balls of `radius` cells around places at (3, n) in cells of the box: how much of each cell they cover (the most
    of any, 0 to 1, a cell soft), and their velocities summed with that as weight."""
    nx, ny, nz = share.shape
    reach = radius + F1
    for p in range(at.shape[1]):
        x, y, z = at[0, p], at[1, p], at[2, p]
        i0, i1 = max(np.int64(np.floor(x - reach)), 0), min(np.int64(np.ceil(x + reach)), nx)
        j0, j1 = max(np.int64(np.floor(y - reach)), 0), min(np.int64(np.ceil(y + reach)), ny)
        k0, k1 = max(np.int64(np.floor(z - reach)), 0), min(np.int64(np.ceil(z + reach)), nz)
        for i in range(i0, i1):
            for j in range(j0, j1):
                for k in range(k0, k1):
                    dx, dy, dz = np.float32(i) + HALF - x, np.float32(j) + HALF - y, np.float32(k) + HALF - z
                    s = min(max(HALF + radius - np.sqrt(dx * dx + dy * dy + dz * dz), F0), F1)
                    if s > F0:
                        share[i, j, k] = max(share[i, j, k], s)
                        weight[i, j, k] += s
                        sums[0, i, j, k] += s * velocity[0, p]
                        sums[1, i, j, k] += s * velocity[1, p]
                        sums[2, i, j, k] += s * velocity[2, p]
