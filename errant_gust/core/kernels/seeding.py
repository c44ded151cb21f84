"""Where new particles may be: not where there is liquid already, and not on each other."""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel

F0 = np.float32(0.0)
F1 = np.float32(1.0)


@inline
def hat(x):
    """A linear weight, 1 at 0 and 0 at ±1."""
    return F1 - abs(x)


@inline
def weighs(x, y, z, px, py, pz):
    """Trilinear weight of one place at another, and the square of the distance; 0 and 3 if they are not near."""
    dx, dy, dz = px - x, py - y, pz - z
    if abs(dx) < F1 and abs(dy) < F1 and abs(dz) < F1:
        return hat(dx) * hat(dy) * hat(dz), dx * dx + dy * dy + dz * dz
    return F0, np.float32(3)


@kernel
def free_places(places, q, own, start, shape, room, nearest, taken):
    """Which of the places (3, m), asked in turn, have room: true in `taken` (m).

    There is room where the particles q (3, n) that are the source's `own` (n), and the places taken before, weigh less
    than a share `room` of what all places together do, by linear weights, and no particle is nearer than `nearest`
    (all in cells). Particles are sorted by cell, with `start`. Returns how many have.
    """
    nx, ny, nz = shape
    m = places.shape[1]
    first, head = np.full(nx * ny * nz, -1, np.int32), np.full(nx * ny * nz, -1, np.int32)
    other, after = np.empty(m, np.int32), np.empty(m, np.int32)
    cell = np.full(m, -1, np.int64)
    least = nearest * nearest
    for p in range(m):
        x, y, z = places[0, p], places[1, p], places[2, p]
        if not (x >= F1 and y >= F1 and z >= F1 and x < nx - 1 and y < ny - 1 and z < nz - 1):
            continue  # what is not a number, too
        i, j, k = np.int64(x), np.int64(y), np.int64(z)
        cell[p] = (i * ny + j) * nz + k
        other[p] = first[cell[p]]
        first[cell[p]] = p
    count = 0
    for p in range(m):
        taken[p] = False
        if cell[p] < 0:
            continue
        x, y, z = places[0, p], places[1, p], places[2, p]
        weight, whole, free = F0, -F1, True
        for da in range(-1, 2):
            for db in range(-1, 2):
                row = cell[p] + (da * ny + db) * nz
                for c in range(row - 1, row + 2):
                    for s in range(start[c], start[c + 1]):
                        w, d = weighs(x, y, z, q[0, s], q[1, s], q[2, s])
                        weight += w if own[s] else F0
                        free = free and d >= least
                    s = head[c]
                    while s >= 0:
                        w, d = weighs(x, y, z, places[0, s], places[1, s], places[2, s])
                        weight += w
                        free = free and d >= least
                        s = after[s]
                    s = first[c]
                    while s >= 0:
                        w, d = weighs(x, y, z, places[0, s], places[1, s], places[2, s])
                        whole += w
                        s = other[s]
                if not free:
                    break
            if not free:
                break
        if free and weight <= room * whole:
            taken[p] = True
            count += 1
            after[p] = head[cell[p]]
            head[cell[p]] = p
    return count


@kernel
def crowded(start, most, gone):
    """Sorted particles beyond the first `most` of each cell: true in `gone` (n)."""
    for c in range(start.size - 1):
        for p in range(start[c], start[c + 1]):
            gone[p] = p - start[c] >= most
