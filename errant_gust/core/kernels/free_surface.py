"""Loops of a free surface on a staggered grid: the level set of particles, the weights of the pressure solve beside
air (ghost fluid: Enright, Nguyen, Gibou, Fedkiw 2003), its gradient, and what is spread beyond the liquid.

`phi` is in cells, negative in the liquid. Grids have a layer of air all round.
"""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel

F0 = np.float32(0.0)
F1 = np.float32(1.0)
HALF = np.float32(0.5)
LEAST = np.float32(0.05)
"""Of a cell: as near to a cell's middle the surface may be, so that nothing is divided by zero."""
FAR_AWAY = np.float32(9.0)
"""Square of the distance, in cells, to a particle that is nowhere near."""


@kernel
def level(square, radius, phi, first, last):
    """Distance to the union of spheres of a radius around particles, from squares of distances to the nearest."""
    for i in range(first, last):
        for j in range(phi.shape[1]):
            a, out = square[i, j], phi[i, j]
            for k in range(out.size):
                out[k] = np.sqrt(a[k]) - radius


@kernel
def deep(phi, out, first, last):
    """Cells all of whose 26 neighbours are liquid, on planes first … last: true in `out`."""
    nx, ny, nz = phi.shape
    worst = np.empty(nz, np.float32)
    for i in range(first, last):
        for j in range(ny):
            if i == 0 or i == nx - 1 or j == 0 or j == ny - 1:
                out[i, j] = False
                continue
            worst[:] = phi[i, j]
            for a in range(i - 1, i + 2):
                for b in range(j - 1, j + 2):
                    row = phi[a, b]
                    for k in range(nz):
                        worst[k] = max(worst[k], row[k])
            to = out[i, j]
            to[0] = to[nz - 1] = False
            for k in range(1, nz - 1):
                to[k] = max(max(worst[k - 1], worst[k]), worst[k + 1]) < F0


@inline
def beyond(own, other):
    """How far, of a cell, the surface is from a liquid cell's middle toward one in the air."""
    t = own / (own - other)
    return t if t > LEAST else LEAST


@inline
def face(low, high, share, reach):
    """Weight of a face between two cells, and what it adds to the diagonal of the one that is liquid (1 / distance)
    if the other is not."""
    if low < F0 and high < F0:
        return share, F0, F0
    if low < F0:
        return F0, share / beyond(low, high), F0
    if high < F0:
        return F0, F0, share / beyond(high, low)
    return F0, F0, F0


@kernel
def weights(phi, sx, sy, sz, wx, wy, wz, extra, first, last):
    """Weights of faces between liquid cells, and of every cell the sum of share over distance toward the air: planes
    first … last of cells and of the faces below them."""
    nx, ny, nz = phi.shape
    for i in range(first, last):
        for j in range(ny):
            for k in range(nz):
                own, e = phi[i, j, k], F0
                if i > 0:
                    w, _, b = face(phi[i - 1, j, k], own, sx[i, j, k], F1)
                    wx[i, j, k] = w
                    e += b
                if j > 0:
                    w, _, b = face(phi[i, j - 1, k], own, sy[i, j, k], F1)
                    wy[i, j, k] = w
                    e += b
                if k > 0:
                    w, _, b = face(phi[i, j, k - 1], own, sz[i, j, k], F1)
                    wz[i, j, k] = w
                    e += b
                if own < F0:
                    if i < nx - 1 and phi[i + 1, j, k] >= F0:
                        e += sx[i + 1, j, k] / beyond(own, phi[i + 1, j, k])
                    if j < ny - 1 and phi[i, j + 1, k] >= F0:
                        e += sy[i, j + 1, k] / beyond(own, phi[i, j + 1, k])
                    if k < nz - 1 and phi[i, j, k + 1] >= F0:
                        e += sz[i, j, k + 1] / beyond(own, phi[i, j, k + 1])
                extra[i, j, k] = e


@inline
def slope(low, high, p, q):
    """Difference of pressure (p below, q above) over a face; 0 where both sides are air."""
    if low < F0:
        return q - p if high < F0 else -p / beyond(low, high)
    return q / beyond(high, low) if high < F0 else F0


@kernel
def correct(p, phi, u, v, w, first, last):
    """Take the gradient of the padded p off the faces that touch liquid: planes first … last of cells, and the faces
    below them."""
    ny, nz = phi.shape[1:]
    for i in range(first, last):
        for j in range(ny):
            for k in range(nz):
                own, here = phi[i, j, k], p[i + 1, j + 1, k + 1]
                if i > 0:
                    u[i, j, k] -= slope(phi[i - 1, j, k], own, p[i, j + 1, k + 1], here)
                if j > 0:
                    v[i, j, k] -= slope(phi[i, j - 1, k], own, p[i + 1, j, k + 1], here)
                if k > 0:
                    w[i, j, k] -= slope(phi[i, j, k - 1], own, p[i + 1, j + 1, k], here)


@inline
def lifted(low, high, a, b):
    """Impulse of a given pressure at the surface (a below, b above) on a face between liquid and air."""
    if low < F0 and high >= F0:
        t = beyond(low, high)
        return (a + t * (b - a)) / t
    if high < F0 and low >= F0:
        t = beyond(high, low)
        return -(b + t * (a - b)) / t
    return F0


@kernel
def tension(pressure, phi, u, v, w, first, last):
    """Take the gradient of a pressure that is given on the surface (nx, ny, nz), and 0 in the liquid, off the faces
    between liquid and air."""
    ny, nz = phi.shape[1:]
    for i in range(first, last):
        for j in range(ny):
            for k in range(nz):
                own, here = phi[i, j, k], pressure[i, j, k]
                if i > 0:
                    u[i, j, k] -= lifted(phi[i - 1, j, k], own, pressure[i - 1, j, k], here)
                if j > 0:
                    v[i, j, k] -= lifted(phi[i, j - 1, k], own, pressure[i, j - 1, k], here)
                if k > 0:
                    w[i, j, k] -= lifted(phi[i, j, k - 1], own, pressure[i, j, k - 1], here)


@kernel
def touching(phi, share, axis, least, known, first, last):
    """Faces across an axis beside liquid that are open by at least a share, planes first … last: into `known`."""
    di, dj, dk = (1 if axis == 0 else 0), (1 if axis == 1 else 0), (1 if axis == 2 else 0)
    nx, ny, nz = phi.shape
    for i in range(first, last):
        for j in range(known.shape[1]):
            for k in range(known.shape[2]):
                low = i >= di and j >= dj and k >= dk and phi[i - di, j - dj, k - dk] < F0
                high = i < nx and j < ny and k < nz and phi[i, j, k] < F0
                known[i, j, k] = (low or high) and share[i, j, k] >= least


@kernel
def extrapolate(a, known, layers):
    """Nodes that are not known get the mean of known neighbours, so many layers outward; `known` is true there then.

    Only the front is visited after the first look.
    """
    nx, ny, nz = a.shape
    size = a.size
    value, on = a.reshape(-1), known.reshape(-1)
    front, next_front = np.empty(size, np.int32), np.empty(size, np.int32)
    made = np.empty(size, np.float32)
    marked = np.zeros(size, np.bool_)
    step = np.array([ny * nz, -ny * nz, nz, -nz, 1, -1], np.int64)
    count = 0
    for i in range(1, nx - 1):
        for j in range(1, ny - 1):
            row = (i * ny + j) * nz
            for k in range(1, nz - 1):
                c = row + k
                if on[c]:
                    continue
                if (
                    on[c + ny * nz] or on[c - ny * nz] or on[c + nz] or on[c - nz] or on[c + 1] or on[c - 1]
                ):  # fmt: skip
                    front[count] = c
                    marked[c] = True
                    count += 1
    for layer in range(layers):
        for f in range(count):
            c = front[f]
            total, there = F0, F0
            for s in range(6):
                if on[c + step[s]]:
                    total += value[c + step[s]]
                    there += F1
            made[f] = total / there
        for f in range(count):
            value[front[f]] = made[f]
            on[front[f]] = True
        if layer == layers - 1:
            break
        more = 0
        for f in range(count):
            c = front[f]
            for s in range(6):
                d = c + step[s]
                if on[d] or marked[d]:
                    continue
                i, j, k = d // (ny * nz), d // nz % ny, d % nz
                if i < 1 or j < 1 or k < 1 or i > nx - 2 or j > ny - 2 or k > nz - 2:
                    continue
                marked[d] = True
                next_front[more] = d
                more += 1
        front, next_front = next_front, front
        count = more


@inline
def mean4(a, b, c, d):
    """Mean of four."""
    return np.float32(0.25) * (a + b + c + d)


@kernel
def along_walls(corner, share, least, axis, u, v, w, wall_u, wall_v, wall_w, out, first, last):
    """Velocity into walls is the wall's: of faces across an axis that are open by less than a share, into `out`.

    corner: distances to the walls, in cells, at the corners of cells. wall_u … may be empty: walls that stand.
    """
    nx, ny, nz = v.shape[0], u.shape[1], u.shape[2]
    moves = wall_u.size > 0
    for i in range(max(first, 1), min(last, nx - 1)):
        for j in range(1, ny - 1):
            for k in range(1, nz - 1):
                f = u[i, j, k] if axis == 0 else (v[i, j, k] if axis == 1 else w[i, j, k])
                out[i, j, k] = f
                if share[i, j, k] >= least:
                    continue
                # of the two cells beside the face; where it has only a side, that of one
                a, b, c = i, j, k
                if axis == 0:
                    vx = u[i, j, k]
                    vy = mean4(v[i - 1, j, k], v[i - 1, j + 1, k], v[i, j, k], v[i, j + 1, k])
                    vz = mean4(w[i - 1, j, k], w[i - 1, j, k + 1], w[i, j, k], w[i, j, k + 1])
                elif axis == 1:
                    vx = mean4(u[i, j - 1, k], u[i + 1, j - 1, k], u[i, j, k], u[i + 1, j, k])
                    vy = v[i, j, k]
                    vz = mean4(w[i, j - 1, k], w[i, j - 1, k + 1], w[i, j, k], w[i, j, k + 1])
                else:
                    vx = mean4(u[i, j, k - 1], u[i + 1, j, k - 1], u[i, j, k], u[i + 1, j, k])
                    vy = mean4(v[i, j, k - 1], v[i, j + 1, k - 1], v[i, j, k], v[i, j + 1, k])
                    vz = w[i, j, k]
                # the normal: differences of the distances around the face's middle
                if axis == 0:
                    gx = F0
                    for s in range(2):
                        for t in range(2):
                            gx += corner[a + 1, b + s, c + t] - corner[a - 1, b + s, c + t]
                    gx *= np.float32(0.125)
                    gy = HALF * (corner[a, b + 1, c] + corner[a, b + 1, c + 1] - corner[a, b, c] - corner[a, b, c + 1])
                    gz = HALF * (corner[a, b, c + 1] + corner[a, b + 1, c + 1] - corner[a, b, c] - corner[a, b + 1, c])
                elif axis == 1:
                    gy = F0
                    for s in range(2):
                        for t in range(2):
                            gy += corner[a + s, b + 1, c + t] - corner[a + s, b - 1, c + t]
                    gy *= np.float32(0.125)
                    gx = HALF * (corner[a + 1, b, c] + corner[a + 1, b, c + 1] - corner[a, b, c] - corner[a, b, c + 1])
                    gz = HALF * (corner[a, b, c + 1] + corner[a + 1, b, c + 1] - corner[a, b, c] - corner[a + 1, b, c])
                else:
                    gz = F0
                    for s in range(2):
                        for t in range(2):
                            gz += corner[a + s, b + t, c + 1] - corner[a + s, b + t, c - 1]
                    gz *= np.float32(0.125)
                    gx = HALF * (corner[a + 1, b, c] + corner[a + 1, b + 1, c] - corner[a, b, c] - corner[a, b + 1, c])
                    gy = HALF * (corner[a, b + 1, c] + corner[a + 1, b + 1, c] - corner[a, b, c] - corner[a + 1, b, c])
                size = np.sqrt(gx * gx + gy * gy + gz * gz)
                if size < np.float32(1e-4):
                    continue
                gx, gy, gz = gx / size, gy / size, gz / size
                into = vx * gx + vy * gy + vz * gz
                if moves:
                    # only the face's own component of the wall is known; the others are those of the nearest faces
                    into -= wall_u[i, j, k] * gx + wall_v[i, j, k] * gy + wall_w[i, j, k] * gz
                n = gx if axis == 0 else (gy if axis == 1 else gz)
                out[i, j, k] = f - into * n


@kernel
def to_liquid(corner, phi, first, last):
    """Liquid beside a wall fills the cells whose middles are in it, so that no air is between them."""
    for i in range(first, last):
        for j in range(phi.shape[1]):
            for k in range(phi.shape[2]):
                if phi[i, j, k] >= HALF:
                    continue
                d = F0
                for a in range(2):
                    for b in range(2):
                        d += corner[i + a, j + b, k] + corner[i + a, j + b, k + 1]
                if d < F0:
                    phi[i, j, k] = min(phi[i, j, k], -HALF)
