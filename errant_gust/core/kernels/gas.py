"""Loops of the gas solver: vorticity confinement, how much light reaches each cell, points scattered onto cells.

Faces u (nx + 1, ny, nz), v, w in m/s; cells (nx, ny, nz) or channels of cells (c, nx, ny, nz). Places are in cells:
the middle of cell (i, j, k) is (i + ½, j + ½, k + ½). All loops work on slabs [a, b) of the first axis, so that
threads share them out without touching each other's cells.
"""

import numpy as np

from errant_gust.core.kernels.advection import middle, node
from errant_gust.core.kernels.clamped import sane
from errant_gust.core.kernels.compiler import inline, kernel

F0 = np.float32(0.0)
F1 = np.float32(1.0)
HALF = np.float32(0.5)
QUARTER = np.float32(0.25)
TINY = np.float32(1e-20)
ONE = np.int64(1)


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
        if not sane(x, y, z):
            continue
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
