"""From a coarse grid to one that is finer by a whole factor, axis by axis with three weights each."""

import numpy as np

from errant_gust.core.kernels.compiler import kernel

F0 = np.float32(0.0)


@kernel
def refined(coarse, i0, wi, j0, wj, k0, wk, out, a, b):
    """out (nx, ny, nz) on [a, b): the weighted sum of three coarse values an axis, the first at i0 (nx,), with weights
    wi (nx, 3); so for j and k. Indices beyond the coarse grid are clamped."""
    mx, my, mz = coarse.shape
    _, ny, nz = out.shape
    row = np.empty(mz, np.float32)
    for i in range(a, b):
        for j in range(ny):
            row[:] = F0
            for p in range(3):
                for q in range(3):
                    weight = wi[i, p] * wj[j, q]
                    if weight != F0:
                        ii = min(max(i0[i] + p, 0), mx - 1)
                        jj = min(max(j0[j] + q, 0), my - 1)
                        for k in range(mz):
                            row[k] += weight * coarse[ii, jj, k]
            for k in range(nz):
                c = k0[k]
                out[i, j, k] = (
                    wk[k, 0] * row[min(max(c, 0), mz - 1)]
                    + wk[k, 1] * row[min(max(c + 1, 0), mz - 1)]
                    + wk[k, 2] * row[min(max(c + 2, 0), mz - 1)]
                )


@kernel
def curls(x, y, z, h, u, v, w, a, b):
    """Faces u, v, w as the circulation of potentials on the edges around them, times h: planes [a, b) of cells.

    x (nx, ny + 1, nz + 1) lies on edges along x, y and z likewise. The last plane of u goes with the last cells.
    """
    nx, ny, nz = v.shape[0], u.shape[1], u.shape[2]
    for i in range(a, b + 1 if b == nx else b):
        for j in range(ny):
            for k in range(nz):
                u[i, j, k] = h * ((z[i, j + 1, k] - z[i, j, k]) - (y[i, j, k + 1] - y[i, j, k]))
    for i in range(a, b):
        for j in range(ny + 1):
            for k in range(nz):
                v[i, j, k] = h * ((x[i, j, k + 1] - x[i, j, k]) - (z[i + 1, j, k] - z[i, j, k]))
        for j in range(ny):
            for k in range(nz + 1):
                w[i, j, k] = h * ((y[i + 1, j, k] - y[i, j, k]) - (x[i, j + 1, k] - x[i, j, k]))


@kernel
def between(x, y, share, more, out, a, b):
    """out = x + share (y − x) + more on planes [a, b)."""
    for i in range(a, b):
        for j in range(x.shape[1]):
            for k in range(x.shape[2]):
                out[i, j, k] = x[i, j, k] + share * (y[i, j, k] - x[i, j, k]) + more[i, j, k]
