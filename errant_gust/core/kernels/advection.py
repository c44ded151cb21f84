"""Loops over a staggered grid: tracing, MacCormack advection, forces onto faces, middles of cells."""

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
    """Velocity in the middle of a cell, from its six faces."""
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


@inline
def at_faces(fu, fv, fw, nx, ny, nz, i, j, h, x, y, z, p, q, r, at, e, f, g):
    """Velocities (e, f, g) at places h (x, y, z) from the middles of a row of cells (i, j)."""
    n = x.size
    for k in range(n):
        p[k] = np.float32(i) + HALF + h * x[k]
        q[k], r[k] = np.float32(j) + h * y[k], np.float32(k) + h * z[k]
    addresses(p, q, r, nx + 1, ny, nz, at)
    for k in range(n):
        e[k] = taken(fu, np.int64(at[k]), np.int64(ny * nz), np.int64(nz), p[k], q[k], r[k])
    for k in range(n):
        p[k], q[k] = np.float32(i) + h * x[k], np.float32(j) + HALF + h * y[k]
        r[k] = np.float32(k) + h * z[k]
    addresses(p, q, r, nx, ny + 1, nz, at)
    for k in range(n):
        f[k] = taken(fv, np.int64(at[k]), np.int64((ny + 1) * nz), np.int64(nz), p[k], q[k], r[k])
    for k in range(n):
        p[k], q[k] = np.float32(i) + h * x[k], np.float32(j) + h * y[k]
        r[k] = np.float32(k) + HALF + h * z[k]
    addresses(p, q, r, nx, ny, nz + 1, at)
    for k in range(n):
        g[k] = taken(fw, np.int64(at[k]), np.int64(ny * (nz + 1)), np.int64(nz + 1), p[k], q[k], r[k])


@kernel
def bends(u, v, w, s, bx, by, bz, a, b):
    """How much the velocity half a step back along the way differs from that at each cell's middle: into bx, by, bz.

    s: −dt / h. With it a place half a step back is known to second order (midpoint rule), and to the same order half
    a step ahead, since the two differ from the middle by as much. The middle itself is found by the mean of both
    ends' velocities (Heun): in a turn by θ squares then grow by θ⁶ / 64 a step instead of θ⁴ / 4.
    """
    nx, ny, nz = bx.shape
    h = HALF * s
    fu, fv, fw = u.reshape(-1), v.reshape(-1), w.reshape(-1)
    x, y, z = np.empty(nz, np.float32), np.empty(nz, np.float32), np.empty(nz, np.float32)
    e, f, g = np.empty(nz, np.float32), np.empty(nz, np.float32), np.empty(nz, np.float32)
    p, q, r = np.empty(nz, np.float32), np.empty(nz, np.float32), np.empty(nz, np.float32)
    at = np.empty(nz, np.int32)
    for i in range(a, b):
        for j in range(ny):
            for k in range(nz):
                x[k], y[k], z[k] = middle(u, v, w, i, j, k)
            at_faces(fu, fv, fw, nx, ny, nz, i, j, h, x, y, z, p, q, r, at, e, f, g)
            for k in range(nz):
                e[k], f[k], g[k] = HALF * (x[k] + e[k]), HALF * (y[k] + f[k]), HALF * (z[k] + g[k])
            to_x, to_y, to_z = bx[i, j], by[i, j], bz[i, j]
            at_faces(fu, fv, fw, nx, ny, nz, i, j, h, e, f, g, p, q, r, at, to_x, to_y, to_z)
            for k in range(nz):
                to_x[k] -= x[k]
                to_y[k] -= y[k]
                to_z[k] -= z[k]


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
