"""What the viscosity solve is of: stress on cells and edges, mass on faces, and what free surfaces and walls make of
both. Arrays are laid out as in `viscosity`, where the solve is.

Walls cut faces where they are (Batty, Bridson 2008 with the distance in the place of whole cells): a face whose middle
is in one has its velocity; the next one has stress over the share of the way that is open, and as much mass as moves
with it there.
"""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel

F0 = np.float32(0.0)
F1 = np.float32(1.0)
HALF = np.float32(0.5)
QUARTER = np.float32(0.25)
BESIDE = np.float32(2.5)
"""Cells: farther from walls than this nothing is cut by one."""
LEAST_WAY = np.float32(0.05)
"""Of the way between two faces: a wall is not felt nearer."""


@inline
def liquid(phi):
    """Share of a unit cell that is liquid, by the distance of its middle."""
    return min(max(HALF - phi, F0), F1)


@inline
def edge(p, q, r, s, a, b, c, d):
    """Viscosity of an edge by the level set and the logarithms of the viscosity in the four cells around it."""
    there = liquid(QUARTER * (p + q + r + s))
    return np.exp(QUARTER * (a + b + c + d)) * there if there > F0 else F0


@kernel
def stresses(phi, tough, scale, c, exy, exz, eyz, first, last):
    """Coefficients of cells and edges from the level set and the logarithm of the viscosity in every cell (nx, ny,
    nz), which is a number where there is liquid: planes first … last of cells (edges at their lower sides).

    Geometric means on edges: of arithmetic ones the stiff side would bind the thin one."""
    ny, nz = phi.shape[1:]
    for i in range(first, last):
        for j in range(ny):
            for k in range(nz):
                own = phi[i, j, k]
                here = tough[i, j, k]
                if own < HALF:
                    c[i + 1, j + 1, k + 1] = np.float32(2) * scale * np.exp(here) * liquid(own)
                else:
                    c[i + 1, j + 1, k + 1] = F0
                a, b, d = max(i - 1, 0), max(j - 1, 0), max(k - 1, 0)
                exy[i + 1, j + 1, k + 1] = scale * edge(
                    own, phi[a, j, k], phi[i, b, k], phi[a, b, k], here, tough[a, j, k], tough[i, b, k], tough[a, b, k]
                )
                exz[i + 1, j + 1, k + 1] = scale * edge(
                    own, phi[a, j, k], phi[i, j, d], phi[a, j, d], here, tough[a, j, k], tough[i, j, d], tough[a, j, d]
                )
                eyz[i + 1, j + 1, k + 1] = scale * edge(
                    own, phi[i, b, k], phi[i, j, d], phi[i, b, d], here, tough[i, b, k], tough[i, j, d], tough[i, b, d]
                )


@inline
def closed(share):
    """Whether a face is as good as shut."""
    return share < np.float32(0.01)


@inline
def middle(ways, axis, i, j, k):
    """How far the middle of a face across an axis is from walls, in cells, below 0 in one; of the border, beyond it."""
    way = ways[axis]
    i = min(max(i, 0), way.shape[0] - 1)
    j = min(max(j, 0), way.shape[1] - 1)
    k = min(max(k, 0), way.shape[2] - 1)
    return way[i, j, k]


@inline
def reached(a, b):
    """Of the way between two faces, one of which is in a wall, the share in the open."""
    return max(max(a, b) / max(abs(a - b), np.float32(1e-6)), LEAST_WAY)


@inline
def stick_of(corner, stick, axis, i, j, k):
    """How much the wall sticks that the middle of a face is in: mostly what is deepest in it says so."""
    i = min(max(i, 0), corner.shape[0] - (1 if axis == 0 else 2))
    j = min(max(j, 0), corner.shape[1] - (1 if axis == 1 else 2))
    k = min(max(k, 0), corner.shape[2] - (1 if axis == 2 else 2))
    total, weight = F0, np.float32(1e-12)
    for s in range(2):
        for t in range(2):
            a = i + (s if axis != 0 else 0)
            b = j + (s if axis == 0 else (t if axis == 2 else 0))
            c = k + (t if axis != 2 else 0)
            deep = max(-corner[a, b, c], F0) + np.float32(1e-6)
            total += deep * stick[a, b, c]
            weight += deep
    return total / weight


@inline
def across(ways, corner, stick, axis, i, j, k, a, b, c):
    """How many of two faces across an axis, (i, j, k) and (a, b, c), are in a wall, and what that does to the
    difference between them: as much as it sticks, over the way to it."""
    one, other = middle(ways, axis, i, j, k), middle(ways, axis, a, b, c)
    if one > F0 and other > F0:
        return 0, F1
    if one <= F0 and other <= F0:
        return 2, stick_of(corner, stick, axis, i, j, k)
    if one <= F0:
        return 1, stick_of(corner, stick, axis, i, j, k) / reached(one, other)
    return 1, stick_of(corner, stick, axis, a, b, c) / reached(one, other)


@inline
def held(one, other):
    """What walls do to the stress of an edge, by what they do to the two differences in it: those that reach into a
    wall say so before those that lie in one."""
    if one[0] == 1 and other[0] == 1:
        return max(one[1], other[1])
    if one[0] == 1:
        return one[1]
    if other[0] == 1:
        return other[1]
    return min(one[1], other[1])


@kernel
def sticking(ways, corner, stick, exy, exz, eyz, first, last):
    """Edges at walls: their stress goes over the way from a face to the wall, as far as that sticks. ways: distances to
    walls, in cells, of the middles of the faces across each axis; corner: the same, and stick: 0 … 1, at the corners of
    cells (nx + 1, ny + 1, nz + 1)."""
    ny, nz = corner.shape[1] - 1, corner.shape[2] - 1
    for i in range(first, last):
        for j in range(ny):
            for k in range(nz):
                if corner[i, j, k] > BESIDE:
                    continue
                exy[i + 1, j + 1, k + 1] *= held(
                    across(ways, corner, stick, 0, i, j, k, i, j - 1, k),
                    across(ways, corner, stick, 1, i, j, k, i - 1, j, k),
                )
                exz[i + 1, j + 1, k + 1] *= held(
                    across(ways, corner, stick, 0, i, j, k, i, j, k - 1),
                    across(ways, corner, stick, 2, i, j, k, i - 1, j, k),
                )
                eyz[i + 1, j + 1, k + 1] *= held(
                    across(ways, corner, stick, 1, i, j, k, i, j, k - 1),
                    across(ways, corner, stick, 2, i, j, k, i, j - 1, k),
                )


@inline
def room(ways, corner, stick, axis, t, i, j, k):
    """Liquid that moves with a face across an axis, along axis t in cells: to the wall where there is one, else half
    way to the next face. As far as the wall sticks it has half of that: in between velocities go evenly to the
    wall's."""
    own, wide = middle(ways, axis, i, j, k), F0
    for s in range(-1, 2, 2):
        a, b, c = i + (s if t == 0 else 0), j + (s if t == 1 else 0), k + (s if t == 2 else 0)
        next_ = middle(ways, axis, a, b, c)
        if next_ > F0:
            wide += HALF
            continue
        held_ = F1 if t == axis else stick_of(corner, stick, axis, a, b, c)
        wide += (F1 - HALF * held_) * own / max(own - next_, np.float32(1e-6))
    return wide


@kernel
def masses(
    phi, share, ways, corner, stick, weight, full, axis, c, exy, exz, eyz, least, m, unknown, fixed, first, last
):
    """Mass of the faces across an axis as a share of a cell, at least `least` where there is stress; which are
    unknowns, and which are in walls that the liquid feels (1, else 0). ways, corner, stick: as in `sticking`. weight:
    how many particles there are about the faces (or empty), and full: how many would be about cells that are full.
    """
    ny, nz = phi.shape[1:]
    di, dj, dk = (1 if axis == 0 else 0), (1 if axis == 1 else 0), (1 if axis == 2 else 0)
    for i in range(first, last):
        for j in range(ny):
            for k in range(nz):
                x, y, z = i + 1, j + 1, k + 1
                a, b, d = max(i - di, 0), max(j - dj, 0), max(k - dk, 0)
                own = liquid(HALF * (phi[i, j, k] + phi[a, b, d]))
                if weight.size and (phi[i, j, k] > -F1 or phi[a, b, d] > -F1):
                    # beside the surface there is as much as particles bring: their spheres reach beyond it
                    own = min(weight[i, j, k] / max(HALF * (full[i, j, k] + full[a, b, d]), F1), F1)
                pull = c[x, y, z] + c[x - di, y - dj, z - dk]
                if axis != 2:
                    pull += exy[x, y, z] + (exy[x, y + 1, z] if axis == 0 else exy[x + 1, y, z])
                if axis != 1:
                    pull += exz[x, y, z] + (exz[x, y, z + 1] if axis == 0 else exz[x + 1, y, z])
                if axis != 0:
                    pull += eyz[x, y, z] + (eyz[x, y, z + 1] if axis == 1 else eyz[x, y + 1, z])
                shut = closed(share[i, j, k])
                way = middle(ways, axis, i, j, k)
                if way <= BESIDE:
                    shut = shut or way <= F0
                    if not shut and own > F0:
                        for t in range(3):
                            own *= room(ways, corner, stick, axis, t, i, j, k)
                there = pull > F0 or own > F0
                unknown[x, y, z] = there and not shut
                m[x, y, z] = max(own, least) if there and not shut else F0
                fixed[x, y, z] = F1 if there and shut else F0


@kernel
def stuck(f, ways, corner, stick, axis, wall, out, first, last):
    """Faces across an axis whose middles are in walls get what makes the velocity between them and those beside them in
    the open that of the wall where it is, as far as it sticks; the others are left as they are in `out`. wall: its
    velocity on the faces, or empty where it stands."""
    moves = wall.size > 0
    for i in range(first, last):
        for j in range(f.shape[1]):
            for k in range(f.shape[2]):
                own = middle(ways, axis, i, j, k)
                if own > F0 or own < -BESIDE:
                    continue
                to = wall[i, j, k] if moves else F0
                total, many = F0, F0
                for t in range(3):
                    if t == axis:
                        continue
                    for s in range(-1, 2, 2):
                        a = i + (s if t == 0 else 0)
                        b = j + (s if t == 1 else 0)
                        d = k + (s if t == 2 else 0)
                        if a < 0 or b < 0 or d < 0 or a >= f.shape[0] or b >= f.shape[1] or d >= f.shape[2]:
                            continue
                        there = middle(ways, axis, a, b, d)
                        if there > F0:
                            way = max(there / max(there - own, np.float32(1e-6)), QUARTER)
                            total += to + (f[a, b, d] - to) * (F1 - F1 / way)
                            many += F1
                if many > F0:
                    out[i, j, k] += stick_of(corner, stick, axis, i, j, k) * (total / many - out[i, j, k])
