"""Sampling of face-centred velocities so that a field without discrete divergence has none anywhere.

Each component is a quadratic B-spline across its faces and linear along them: its derivative across the faces is the
linear spline of the face differences, so the divergence of the sum is the trilinear interpolant of the cells'
divergence, which is zero (the complex of splines; Buffa, Sangalli, Vázquez, Isogeometric analysis in
electromagnetics, 2010).
"""

import numpy as np

from errant_gust.core.kernels.clamped import sane
from errant_gust.core.kernels.compiler import inline, kernel

F0 = np.float32(0.0)
F1 = np.float32(1.0)
HALF = np.float32(0.5)


@inline
def clamp(i, n):
    """An index within 0 … n − 1."""
    return min(max(i, 0), n - 1)


@inline
def component(a, s, m, n, axis, slope):
    """Value and three slopes of one component at (s, m, n): s across its faces in cells, m and n along in cells."""
    size = a.shape[axis]
    b = axis + 1 if axis < 2 else 0
    c = b + 1 if b < 2 else 0
    there = sane(s, m, n)  # what is no place has values that are no numbers, and no address
    c0 = np.int64(np.floor(s + HALF)) if there else 0
    t = s - np.float32(c0)  # -0.5 … 0.5
    q0 = HALF * (HALF - t) * (HALF - t)
    q2 = HALF * (HALF + t) * (HALF + t)
    q1 = F1 - q0 - q2
    d0, d2 = t - HALF, t + HALF
    d1 = -d0 - d2
    y, z = m - HALF, n - HALF
    j, k = np.int64(np.floor(y)) if there else 0, np.int64(np.floor(z)) if there else 0
    fy, fz = y - np.float32(j), z - np.float32(k)
    i0, i1, i2 = clamp(c0 - 1, size), clamp(c0, size), clamp(c0 + 1, size)
    j0, j1 = clamp(j, a.shape[b]), clamp(j + 1, a.shape[b])
    k0, k1 = clamp(k, a.shape[c]), clamp(k + 1, a.shape[c])
    v00 = pick(a, axis, i0, j0, k0) * q0 + pick(a, axis, i1, j0, k0) * q1 + pick(a, axis, i2, j0, k0) * q2
    v01 = pick(a, axis, i0, j0, k1) * q0 + pick(a, axis, i1, j0, k1) * q1 + pick(a, axis, i2, j0, k1) * q2
    v10 = pick(a, axis, i0, j1, k0) * q0 + pick(a, axis, i1, j1, k0) * q1 + pick(a, axis, i2, j1, k0) * q2
    v11 = pick(a, axis, i0, j1, k1) * q0 + pick(a, axis, i1, j1, k1) * q1 + pick(a, axis, i2, j1, k1) * q2
    low, high = v00 + fz * (v01 - v00), v10 + fz * (v11 - v10)
    value = low + fy * (high - low)
    if not slope:
        return value, F0, F0, F0
    w00 = pick(a, axis, i0, j0, k0) * d0 + pick(a, axis, i1, j0, k0) * d1 + pick(a, axis, i2, j0, k0) * d2
    w01 = pick(a, axis, i0, j0, k1) * d0 + pick(a, axis, i1, j0, k1) * d1 + pick(a, axis, i2, j0, k1) * d2
    w10 = pick(a, axis, i0, j1, k0) * d0 + pick(a, axis, i1, j1, k0) * d1 + pick(a, axis, i2, j1, k0) * d2
    w11 = pick(a, axis, i0, j1, k1) * d0 + pick(a, axis, i1, j1, k1) * d1 + pick(a, axis, i2, j1, k1) * d2
    dl, dh = w00 + fz * (w01 - w00), w10 + fz * (w11 - w10)
    return value, dl + fy * (dh - dl), high - low, (F1 - fy) * (v01 - v00) + fy * (v11 - v10)


@inline
def pick(a, axis, i, j, k):
    """A value of faces across `axis`, by indices along that axis first."""
    if axis == 0:
        return a[i, j, k]
    if axis == 1:
        return a[k, i, j]
    return a[j, k, i]


@kernel
def sample_faces(u, v, w, x, y, z, lx, ly, lz, scale, out, gradient, slope):
    """u (nx + 1, ny, nz), v, w at points (n,); out (3, n); gradient (3, 3, n) if `slope`. lx, ly, lz: lower corner."""
    for p in range(x.size):
        sx, sy, sz = (x[p] - lx) * scale, (y[p] - ly) * scale, (z[p] - lz) * scale
        a, ax, ay, az = component(u, sx, sy, sz, 0, slope)
        b, by, bz, bx = component(v, sy, sz, sx, 1, slope)
        c, cz, cx, cy = component(w, sz, sx, sy, 2, slope)
        out[0, p], out[1, p], out[2, p] = a, b, c
        if slope:
            gradient[0, 0, p], gradient[0, 1, p], gradient[0, 2, p] = ax * scale, ay * scale, az * scale
            gradient[1, 0, p], gradient[1, 1, p], gradient[1, 2, p] = bx * scale, by * scale, bz * scale
            gradient[2, 0, p], gradient[2, 1, p], gradient[2, 2, p] = cx * scale, cy * scale, cz * scale


@kernel
def spread(a, known, other, done):
    """One sweep that gives unknown faces the mean of their known neighbours: into `other` and `done`."""
    nx, ny, nz = a.shape
    for i in range(nx):
        for j in range(ny):
            for k in range(nz):
                other[i, j, k] = a[i, j, k]
                done[i, j, k] = known[i, j, k]
                if known[i, j, k]:
                    continue
                total, count = F0, F0
                if i > 0 and known[i - 1, j, k]:
                    total, count = total + a[i - 1, j, k], count + F1
                if i < nx - 1 and known[i + 1, j, k]:
                    total, count = total + a[i + 1, j, k], count + F1
                if j > 0 and known[i, j - 1, k]:
                    total, count = total + a[i, j - 1, k], count + F1
                if j < ny - 1 and known[i, j + 1, k]:
                    total, count = total + a[i, j + 1, k], count + F1
                if k > 0 and known[i, j, k - 1]:
                    total, count = total + a[i, j, k - 1], count + F1
                if k < nz - 1 and known[i, j, k + 1]:
                    total, count = total + a[i, j, k + 1], count + F1
                if count > F0:
                    other[i, j, k] = total / count
                    done[i, j, k] = True


@kernel
def outflow(u, v, w, sx, sy, sz, out, a, b):
    """Net outflow through the open shares of the faces of every cell (nx, ny, nz), in m/s: planes [a, b)."""
    _, ny, nz = out.shape
    for i in range(a, b):
        for j in range(ny):
            for k in range(nz):
                e = sx[i + 1, j, k] * u[i + 1, j, k] - sx[i, j, k] * u[i, j, k]
                f = sy[i, j + 1, k] * v[i, j + 1, k] - sy[i, j, k] * v[i, j, k]
                out[i, j, k] = e + f + (sz[i, j, k + 1] * w[i, j, k + 1] - sz[i, j, k] * w[i, j, k])
