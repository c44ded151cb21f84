"""A smooth surface around particles: a distance field from weighted means of their places (Zhu, Bridson 2005), its
blur, and what vertices on it have of the particles near them."""

import numpy as np

from errant_gust.core.kernels.clamped import sane
from errant_gust.core.kernels.compiler import inline, kernel

F0, F1, HALF = np.float32(0), np.float32(1), np.float32(0.5)
FAINT = np.float32(1e-9)


@inline
def weight(s):
    """(1 − s)³ of a square of a distance, as a share of the square of the reach; 0 beyond."""
    left = max(F1 - s, F0)
    return left * left * left


@kernel
def means(q, start, reach, sums, first, last):
    """Adds, for particles in planes first … last, sorted by cell, to every cell whose middle is within `reach` cells:
    the weight, and the weighted way from the middle to the particle (4, nx, ny, nz)."""
    nx, ny, nz = sums.shape[1], sums.shape[2], sums.shape[3]
    away = int(np.ceil(reach))
    per = F1 / (reach * reach)
    for p in range(start[first * ny * nz], start[last * ny * nz]):
        x, y, z = q[0, p], q[1, p], q[2, p]
        if not sane(x, y, z):
            continue
        i, j, k = np.int64(x), np.int64(y), np.int64(z)
        k0, k1 = max(k - away, 0), min(k + away + 1, nz)
        n = k1 - k0
        for ci in range(max(i - away, 0), min(i + away + 1, nx)):
            a = x - HALF - np.float32(ci)
            for cj in range(max(j - away, 0), min(j + away + 1, ny)):
                b = y - HALF - np.float32(cj)
                s = a * a + b * b
                if s * per >= F1:
                    continue
                total, along_x = sums[0, ci, cj, k0:k1], sums[1, ci, cj, k0:k1]
                along_y, along_z = sums[2, ci, cj, k0:k1], sums[3, ci, cj, k0:k1]
                base = z - HALF - np.float32(k0)
                for m in range(n):
                    c = base - np.float32(m)
                    w = weight((s + c * c) * per)
                    total[m] += w
                    along_x[m] += w * a
                    along_y[m] += w * b
                    along_z[m] += w * c


@kernel
def distances(sums, radius, far, phi, first, last):
    """How far the middles of cells are from the mean place of what is near, less the radius; `far` where nothing is."""
    for i in range(first, last):
        for j in range(phi.shape[1]):
            w, x, y, z, out = sums[0, i, j], sums[1, i, j], sums[2, i, j], sums[3, i, j], phi[i, j]
            for k in range(out.size):
                each = F1 / max(w[k], FAINT)
                a, b, c = x[k] * each, y[k] * each, z[k] * each
                d = np.sqrt(a * a + b * b + c * c) - radius
                out[k] = min(d, far) if w[k] > FAINT else far


@kernel
def blurred(f, axis, out, first, last):
    """Weights ¼ ½ ¼ along an axis, on planes first … last; the ends stay as they are."""
    nx, ny, nz = f.shape
    half, quarter = HALF, np.float32(0.25)
    for i in range(first, last):
        if axis == 0 and (i == 0 or i == nx - 1):
            out[i] = f[i]
            continue
        for j in range(ny):
            b, to = f[i, j], out[i, j]
            if axis == 0:
                a, c = f[i - 1, j], f[i + 1, j]
                for k in range(to.size):
                    to[k] = half * b[k] + quarter * (a[k] + c[k])
            elif axis == 1:
                a, c = f[i, max(j - 1, 0)], f[i, min(j + 1, ny - 1)]
                for k in range(to.size):
                    to[k] = half * b[k] + quarter * (a[k] + c[k])
            else:
                to[0], to[nz - 1] = b[0], b[nz - 1]
                a, c, mid, row = b[0 : nz - 2], b[2:nz], b[1 : nz - 1], to[1 : nz - 1]
                for k in range(row.size):
                    row[k] = half * mid[k] + quarter * (a[k] + c[k])


@kernel
def shares(phi, level, steep, first, last):
    """Volume, in cells, below a level on planes first … last: a cell that the level cuts counts as a share."""
    total = 0.0
    for i in range(first, last):
        for j in range(phi.shape[1]):
            row, part = phi[i, j], F0
            for k in range(row.size):
                part += min(max(HALF - steep * (row[k] - level), F0), F1)
            total += part
    return total


@kernel
def beside(phi, level, band, out, first, last):
    """Distance in cells from middles of cells to where phi crosses a level, of those that have it toward a neighbour
    (planar within the cell: 1/d² is the sum of 1/gap² over the axes); `band` elsewhere. Without a sign."""
    nx, ny, nz = phi.shape
    for i in range(first, last):
        for j in range(ny):
            for k in range(nz):
                here = phi[i, j, k] - level
                total = F0
                for axis in range(3):
                    most = F0
                    for side in range(2):
                        a, b, c = i, j, k
                        by = 2 * side - 1
                        if axis == 0:
                            a = min(max(i + by, 0), nx - 1)
                        elif axis == 1:
                            b = min(max(j + by, 0), ny - 1)
                        else:
                            c = min(max(k + by, 0), nz - 1)
                        other = phi[a, b, c] - level
                        if (here < F0) != (other < F0):
                            gap = max(abs(here) / max(abs(here) + abs(other), FAINT), np.float32(1e-3))
                            most = max(most, F1 / (gap * gap))
                    total += most
                out[i, j, k] = min(F1 / np.sqrt(total), band) if total > F0 else band


@kernel
def spread(distance, fixed, band):
    """Fast sweeping for |grad d| = 1 (Zhao 2005) on cells of size 1, eight directions: lowers `distance` (nx, ny, nz)
    where it is below `band` and not fixed."""
    nx, ny, nz = distance.shape
    two, three = np.float32(2), np.float32(3)
    for direction in range(8):
        for a in range(1, nx - 1):
            i = a if direction & 1 == 0 else nx - 1 - a
            for b in range(1, ny - 1):
                j = b if direction & 2 == 0 else ny - 1 - b
                for c in range(1, nz - 1):
                    k = c if direction & 4 == 0 else nz - 1 - c
                    x = min(distance[i - 1, j, k], distance[i + 1, j, k])
                    y = min(distance[i, j - 1, k], distance[i, j + 1, k])
                    z = min(distance[i, j, k - 1], distance[i, j, k + 1])
                    p = min(x, y, z)
                    if fixed[i, j, k] or p + F1 >= band + F1:
                        continue
                    r = max(x, y, z)
                    q = x + y + z - p - r
                    d = p + F1
                    if d > q:
                        d = HALF * (p + q + np.sqrt(max(F0, two - (p - q) * (p - q))))
                        if d > r:
                            s = p + q + r
                            d = (s + np.sqrt(max(F0, s * s - three * (p * p + q * q + r * r - F1)))) / three
                    distance[i, j, k] = min(distance[i, j, k], d)


@kernel
def onto_vertices(places, q, start, shape, reach, values, out, first, last):
    """Weighted means of values (c, n) of sorted particles within `reach` cells of places (3, m), first … last; where
    there is none the nearest within two cells more."""
    nx, ny, nz = shape
    wide = reach + np.float32(2)
    away = int(np.ceil(wide))
    per = F1 / (reach * reach)
    count = values.shape[0]
    for v in range(first, last):
        x, y, z = places[0, v], places[1, v], places[2, v]
        total, best, nearest = F0, wide * wide, -1
        for c in range(count):
            out[c, v] = F0
        if not sane(x, y, z):
            continue
        i, j, k = np.int64(x), np.int64(y), np.int64(z)
        k0, k1 = min(max(k - away, 0), nz - 1), min(max(k + away, 0), nz - 1)
        for ci in range(max(i - away, 0), min(i + away + 1, nx)):
            for cj in range(max(j - away, 0), min(j + away + 1, ny)):
                row = (ci * ny + cj) * nz
                for p in range(start[row + k0], start[row + k1 + 1]):
                    a, b, e = q[0, p] - x, q[1, p] - y, q[2, p] - z
                    s = a * a + b * b + e * e
                    if s < best:
                        best, nearest = s, p
                    w = weight(s * per)
                    if w > F0:
                        total += w
                        for c in range(count):
                            out[c, v] += w * values[c, p]
        for c in range(count):
            if total > FAINT:
                out[c, v] /= total
            elif nearest >= 0:
                out[c, v] = values[c, nearest]


@kernel
def thicknesses(phi, places, inward, step, most, out, first, last):
    """How far, in cells, it is through what is below 0 from places (3, m) along unit vectors, first … last."""
    nx, ny, nz = phi.shape
    for v in range(first, last):
        way = F1
        while way < most:
            x = places[0, v] + way * inward[0, v]
            y = places[1, v] + way * inward[1, v]
            z = places[2, v] + way * inward[2, v]
            if not sane(x, y, z):
                break
            i, j, k = np.int64(x), np.int64(y), np.int64(z)
            if i < 0 or j < 0 or k < 0 or i >= nx or j >= ny or k >= nz or phi[i, j, k] > F0:
                break
            way += step
        out[v] = way
