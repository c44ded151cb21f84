"""Loops of grains between particles and the nodes of a grid (moving least squares material points: Hu, Fang, Ge, Qu,
Zhu, Pradhana, Jiang 2018), and how sand yields.

A grain is a row of numbers (see `ROW`): its place in cells, velocity, how that changes a cell, elastic log strain,
what it has spread by, its friction and cohesion, how tightly it is packed. Nodes have (momentum, mass) over the mass
of a grain, side by side. Weights are quadratic. Rows are sorted by cell, and planes of cells are done in slabs that are
fixed, even ones, then odd ones, so that sums are made in one order on any number of threads. A slab of four planes
stays apart from the next of its turn while no grain went farther than a cell since it was sorted.
"""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel
from errant_gust.core.kernels.fours import add_to, load, madd

F0 = np.float32(0.0)
F1 = np.float32(1.0)
F2 = np.float32(2.0)
F4 = np.float32(4.0)
HALF = np.float32(0.5)
FOUR = np.uint64(4)
THIRD = np.float32(1 / 3)

PLACE, MOVING, AFFINE, STRAIN = slice(0, 3), slice(3, 6), slice(6, 15), slice(15, 21)
SPREAD, SINE, TENSION, PACKING, PRESSURE, OUTWARD, ROW = 21, 22, 23, 24, 25, slice(26, 29), 29
"""Where in a row: place, velocity, its changes by rows (a cell), log strain (xx yy zz xy xz yz), log of what it has
spread by, sine of the friction, log strain it bears being pulled, packing, pressure over density (m²/s²), slope of the
packing outward (1/cell); and how long a row is."""
REST = np.float32(0.3)
"""The tangent of the friction of sand at rest is by so much more than that of sand that flows."""
INERTIA = np.float32(1e4)
"""One over the square of the inertial number (rate of shear times spacing by the root of pressure over density: MiDi
2004) at which half of that is gone."""
AT_EDGE = np.float32(0.3)
"""Of the slope of the packing (a cell), how much tells that room about a grain is beyond the surface."""
APART = np.float32(1.2)
"""Packing above which grains make room for one another."""


@inline
def weights(f):
    """Quadratic weights of three nodes for a place f (0.5 … 1.5) from the first."""
    a, b, c = np.float32(1.5) - f, f - F1, f - HALF
    return HALF * a * a, np.float32(0.75) - b * b, HALF * c * c


@inline
def room_about(packed):
    """Log of how much a grain that is packed so could have spread by."""
    return -np.log(packed) if packed < F1 else F0


@inline
def lode_angle(lode):
    """A third of the arc sine of −1 … 1 (Abramowitz, Stegun 1964, 4.4.45), as sine and cosine."""
    x = min(abs(lode), F1)
    tail = np.float32(1.5707288) + x * (
        np.float32(-0.2121144) + x * (np.float32(0.0742610) + x * np.float32(-0.0187293))
    )
    t = THIRD * (np.float32(1.5707963) - np.sqrt(F1 - x) * tail)
    square = t * t
    s = t * (F1 + square * (np.float32(-1 / 6) + square * np.float32(1 / 120)))
    return s if lode >= F0 else -s, np.sqrt(F1 - s * s)


@inline
def line_to(nodes, at, b, wz, v, cz):
    """What a grain gives three nodes along z, from velocity v at the first, which changes by cz."""
    add_to(nodes, at, b * wz[0], v)
    v = madd(cz, F1, v)
    add_to(nodes, at + FOUR, b * wz[1], v)
    add_to(nodes, at + FOUR + FOUR, b * wz[2], madd(cz, F1, v))


@inline
def plane_to(nodes, at, line, b, wy, wz, v, cy, cz):
    """What a grain gives nine nodes of a plane across x."""
    line_to(nodes, at, b * wy[0], wz, v, cz)
    v = madd(cy, F1, v)
    line_to(nodes, at + line, b * wy[1], wz, v, cz)
    line_to(nodes, at + line + line, b * wy[2], wz, madd(cy, F1, v), cz)


@kernel
def to_nodes(a, start, nodes, shape, dt, h, stiff, shear, sound, first, last):
    """Momenta and masses of nodes (nx ny nz 4, flat) from the sorted grains in planes first … last of cells, with the
    stress of each. stiff and shear: Lamé's λ and 2 μ over density; sound: speed of waves, m/s (for bulk viscosity)."""
    ny, nz = np.uint64(shape[1]), np.uint64(shape[2])
    line, plane = FOUR * nz, FOUR * nz * ny
    scale = F4 * dt / h
    for p in range(start[first], start[last]):
        r = a[p]
        x, y, z = r[0], r[1], r[2]
        i, j, k = np.uint64(x - HALF), np.uint64(y - HALF), np.uint64(z - HALF)
        fx, fy, fz = x - np.float32(i), y - np.float32(j), z - np.float32(k)
        xx, yy, zz, xy, xz, yz = r[15], r[16], r[17], r[18], r[19], r[20]
        iso = stiff * (xx + yy + zz)
        div = r[6] + r[10] + r[14]
        if div < F0 and iso < F0:
            iso += HALF * sound * div
        c00 = r[6] - scale * (iso + shear * xx)
        c11 = r[10] - scale * (iso + shear * yy)
        c22 = r[14] - scale * (iso + shear * zz)
        sxy, sxz, syz = scale * shear * xy, scale * shear * xz, scale * shear * yz
        cx = (c00, r[9] - sxy, r[12] - sxz, F0)
        cy = (r[7] - sxy, c11, r[13] - syz, F0)
        cz = (r[8] - sxz, r[11] - syz, c22, F0)
        v = madd(cx, -fx, madd(cy, -fy, madd(cz, -fz, (r[3], r[4], r[5], F1))))
        wx, wy, wz = weights(fx), weights(fy), weights(fz)
        at = ((i * ny + j) * nz + k) * FOUR
        plane_to(nodes, at, line, wx[0], wy, wz, v, cy, cz)
        v = madd(cx, F1, v)
        plane_to(nodes, at + plane, line, wx[1], wy, wz, v, cy, cz)
        v = madd(cx, F1, v)
        plane_to(nodes, at + plane + plane, line, wx[2], wy, wz, v, cy, cz)


@inline
def line_of(nodes, at, ox, oy, fz, b, wz, v, cx, cy, cz):
    """What three nodes along z add to a grain: to its velocity, and to how that changes along x, y, z."""
    n0, n1, n2 = load(nodes, at), load(nodes, at + FOUR), load(nodes, at + FOUR + FOUR)
    none = (F0, F0, F0, F0)
    row = madd(n0, b * wz[0], madd(n1, b * wz[1], madd(n2, b * wz[2], none)))
    rise = madd(n1, b * wz[1], madd(n2, F2 * b * wz[2], none))
    return madd(row, F1, v), madd(row, ox, cx), madd(row, oy, cy), madd(madd(row, -fz, rise), F1, cz)


@inline
def plane_of(nodes, at, line, ox, b, fy, wy, fz, wz, v, cx, cy, cz):
    """What nine nodes of a plane across x add to a grain."""
    v, cx, cy, cz = line_of(nodes, at, ox, -fy, fz, b * wy[0], wz, v, cx, cy, cz)
    v, cx, cy, cz = line_of(nodes, at + line, ox, F1 - fy, fz, b * wy[1], wz, v, cx, cy, cz)
    return line_of(nodes, at + line + line, ox, F2 - fy, fz, b * wy[2], wz, v, cx, cy, cz)


@kernel
def from_nodes(a, nodes, shape, dt, h, bulk, shear, sound, full, crowded, soft, low, high, told, block, first, last):
    """Grains first … last: velocity and its changes from nodes, which now hold velocities (and masses); carried; and
    strained, with what the sand does not bear taken off.

    bulk and shear: K and 2 μ over density; sound: speed of waves, m/s; full: mass about a grain in settled sand;
    crowded: packing above which grains lie in each other and bear nothing yet but press apart, at `soft` (m²/s²) where
    they are twice as tight; low, high (3,): between which cells
    grains are kept. `told` (blocks, 2) gets the square of the greatest speed of the block, infinite if anything is no
    number, and the tightest packing.
    """
    ny, nz = np.uint64(shape[1]), np.uint64(shape[2])
    line, plane = FOUR * nz, FOUR * nz * ny
    step = dt / h
    quickest, tightest = F0, F0
    for p in range(first, last):
        r = a[p]
        x, y, z = r[0], r[1], r[2]
        i, j, k = np.uint64(x - HALF), np.uint64(y - HALF), np.uint64(z - HALF)
        fx, fy, fz = x - np.float32(i), y - np.float32(j), z - np.float32(k)
        wx, wy, wz = weights(fx), weights(fy), weights(fz)
        at = ((i * ny + j) * nz + k) * FOUR
        v = cx = cy = cz = (F0, F0, F0, F0)
        # written out, so that fours stay in registers
        v, cx, cy, cz = plane_of(nodes, at, line, -fx, wx[0], fy, wy, fz, wz, v, cx, cy, cz)
        v, cx, cy, cz = plane_of(nodes, at + plane, line, F1 - fx, wx[1], fy, wy, fz, wz, v, cx, cy, cz)
        v, cx, cy, cz = plane_of(nodes, at + plane + plane, line, F2 - fx, wx[2], fy, wy, fz, wz, v, cx, cy, cz)
        u, v, w, m = v
        c00, c01, c02 = F4 * cx[0], F4 * cy[0], F4 * cz[0]
        c10, c11, c12 = F4 * cx[1], F4 * cy[1], F4 * cz[1]
        c20, c21, c22 = F4 * cx[2], F4 * cy[2], F4 * cz[2]
        r[3], r[4], r[5] = u, v, w
        r[6], r[7], r[8], r[9], r[10], r[11], r[12], r[13], r[14] = c00, c01, c02, c10, c11, c12, c20, c21, c22
        speed = u * u + v * v + w * w
        quickest = max(quickest, speed) if np.isfinite(speed) else np.float32(np.inf)
        x, y, z = x + step * u, y + step * v, z + step * w
        packed = m / full
        r[24] = packed
        # beside the surface less lies about a grain, however tightly: what its slope tells is not room
        gx, gy, gz = F4 / full * cx[3], F4 / full * cy[3], F4 / full * cz[3]
        slope = np.sqrt(gx * gx + gy * gy + gz * gz)
        r[26], r[27], r[28] = -gx, -gy, -gz
        within = packed + AT_EDGE * slope
        if packed > APART:  # those that lie in each other go where there is more room
            away = np.float32(0.1) * min(packed - APART, F1) * min(sound * step, F1) / max(slope, F1)
            x, y, z = x - away * gx, y - away * gy, z - away * gz
        tightest = max(tightest, packed)
        if not (low[0] <= x <= high[0] and low[1] <= y <= high[1] and low[2] <= z <= high[2]):
            x = min(max(x, low[0]), high[0])
            y = min(max(y, low[1]), high[1])
            z = min(max(z, low[2]), high[2])
        r[0], r[1], r[2] = x, y, z
        # the strain turns with the sand (Jaumann) and grows with what is deformed
        p01, p02, p12 = HALF * step * (c01 - c10), HALF * step * (c02 - c20), HALF * step * (c12 - c21)
        xx, yy, zz, xy, xz, yz = r[15], r[16], r[17], r[18], r[19], r[20]
        nxx = xx + step * c00 + F2 * (p01 * xy + p02 * xz)
        nyy = yy + step * c11 + F2 * (p12 * yz - p01 * xy)
        nzz = zz + step * c22 - F2 * (p02 * xz + p12 * yz)
        nxy = xy + HALF * step * (c01 + c10) + p01 * (yy - xx) + p02 * yz + p12 * xz
        nxz = xz + HALF * step * (c02 + c20) + p02 * (zz - xx) + p01 * yz - p12 * xy
        nyz = yz + HALF * step * (c12 + c21) + p12 * (zz - yy) - p01 * xz - p02 * xy
        # what it spread by it closes first, and that is no more than the room there is about it (volume correction:
        # Tampubolon et al. 2017)
        most, strained = r[23], nxx + nyy + nzz
        trace = strained
        if r[21] > F0:
            trace += min(r[21], room_about(within))
        if trace >= most or packed > crowded:
            tight = packed > crowded
            r[21] = F0 if tight else min(trace - most, room_about(within))
            even = -THIRD * soft / bulk * (packed - F1) if tight else THIRD * most
            r[15], r[16], r[17], r[18], r[19], r[20] = even, even, even, F0, F0, F0
            r[25] = F0
            continue
        mean = THIRD * trace
        third = THIRD * strained
        dx, dy, dz = nxx - third, nyy - third, nzz - third
        j2 = HALF * (dx * dx + dy * dy + dz * dz) + nxy * nxy + nxz * nxz + nyz * nyz
        j3 = dx * (dy * dz - nyz * nyz) - nxy * (nxy * dz - nyz * nxz) + nxz * (nxy * nyz - dy * nxz)
        root = np.sqrt(j2)
        pressure = bulk * (most - trace)
        # sand at rest holds better than sand that flows
        across = (c01 + c10) * (c01 + c10) + (c02 + c20) * (c02 + c20) + (c12 + c21) * (c12 + c21)
        pulled = (c00 - c11) * (c00 - c11) + (c11 - c22) * (c11 - c22) + (c22 - c00) * (c22 - c00)
        inertia = np.float32(0.25) * (across + pulled) / max(pressure, np.float32(1e-20))
        firm = r[22] * (F1 + REST / (F1 + INERTIA * inertia))
        sine = firm / np.sqrt(F1 - r[22] * r[22] + firm * firm)
        # Mohr and Coulomb's law by invariants: sin 3θ from the third tells how the sand is sheared
        lode = np.float32(-2.598076) * j3 / max(j2 * root, np.float32(1e-30))
        turn, along = lode_angle(lode)
        reach = along - turn * sine * np.float32(0.57735027)
        limit = pressure * sine / (shear * reach)
        keep = F1 if root <= limit else limit / root
        r[15], r[16], r[17] = mean + keep * dx, mean + keep * dy, mean + keep * dz
        r[18], r[19], r[20] = keep * nxy, keep * nxz, keep * nyz
        r[21] = F0
        r[25] = -bulk * trace
    told[first // block, 0] = quickest
    told[first // block, 1] = tightest


@kernel
def velocities(nodes, at, v, first, last):
    """Velocities (3, k) of nodes (n, 4) with indices `at` (k,), from their momenta and masses."""
    for p in range(first, last):
        n = nodes[at[p]]
        for axis in range(3):
            v[axis, p] = n[axis] / n[3]


@kernel
def put_back(nodes, at, v, most, first, last):
    """Velocities (3, k) into nodes (n, 4) with indices `at`, no faster than `most`. Returns how many would have been;
    −1 if any is no number."""
    square, many = most * most, 0
    for p in range(first, last):
        n = nodes[at[p]]
        u, w, z = v[0, p], v[1, p], v[2, p]
        speed = u * u + w * w + z * z
        if not speed <= square:
            if not np.isfinite(speed):
                return -1
            scale = most / np.sqrt(speed)
            u, w, z = scale * u, scale * w, scale * z
            many += 1
        n[0], n[1], n[2] = u, w, z
    return many


@kernel
def along_side(nodes, axis, way, hold):
    """Velocities of nodes (nx, ny, nz, 4) on or beyond a closed side across an axis, which looks to −1 or 1: none into
    it, and along it what friction leaves (Coulomb); hold: the coefficient."""
    b, c = (axis + 1) % 3, (axis + 2) % 3
    for i in range(nodes.shape[0]):
        for j in range(nodes.shape[1]):
            for k in range(nodes.shape[2]):
                n = nodes[i, j, k]
                into = -way * n[axis]
                if n[3] > F0 and into > F0:
                    speed = np.sqrt(n[b] * n[b] + n[c] * n[c])
                    left = max(F0, speed - hold * into) / max(speed, np.float32(1e-20))
                    n[axis] = F0
                    n[b] *= left
                    n[c] *= left


@kernel
def against(nodes, at, normal, moving, friction, stick, first, last):
    """Velocities of nodes (n, 4) with indices `at` (k,) that are in a wall with outward `normal` (3, k) and velocity
    `moving` (3, k): none into it, along it what friction leaves (Coulomb), and a share `stick` of none at all."""
    for p in range(first, last):
        n = nodes[at[p]]
        if n[3] <= F0:
            continue
        a, b, c = normal[0, p], normal[1, p], normal[2, p]
        u, v, w = n[0] - moving[0, p], n[1] - moving[1, p], n[2] - moving[2, p]
        into = -(u * a + v * b + w * c)
        if into > F0:
            u, v, w = u + into * a, v + into * b, w + into * c
            speed = np.sqrt(u * u + v * v + w * w)
            left = max(F0, speed - friction * into) / max(speed, np.float32(1e-20))
            u, v, w = left * u, left * v, left * w
        left = F1 - stick
        n[0], n[1], n[2] = moving[0, p] + left * u, moving[1, p] + left * v, moving[2, p] + left * w


@kernel
def fastest(a, first, last):
    """The square of the greatest speed of grains first … last, infinite if a place, a velocity or a strain is no
    number."""
    most = F0
    for p in range(first, last):
        r = a[p]
        speed = r[3] * r[3] + r[4] * r[4] + r[5] * r[5]
        others = r[0] + r[1] + r[2] + r[15] + r[16] + r[17]
        if not np.isfinite(speed + F0 * others):
            return np.float32(np.inf)
        most = max(most, speed)
    return most


@kernel
def gather(a, order, out, first, last):
    """Rows in another order, first … last."""
    for p in range(first, last):
        r, o = a[order[p]], out[p]
        for c in range(a.shape[1]):
            o[c] = r[c]


@kernel
def marked(a, cells, shape, out, first, last):
    """Which grains first … last are in one of the marked cells (flat)."""
    for p in range(first, last):
        i, j, k = np.int64(a[p, 0] + HALF), np.int64(a[p, 1] + HALF), np.int64(a[p, 2] + HALF)
        out[p] = cells[(i * shape[1] + j) * shape[2] + k]


@kernel
def places(a, out, first, last):
    """Places of grains first … last into (3, n)."""
    for p in range(first, last):
        for axis in range(3):
            out[axis, p] = a[p, axis]


@kernel
def pack(position, velocity, affine, strain, numbers, outward, turn, low, h, a, first, last):
    """Rows of grains first … last from arrays (c, n): places, velocities and slopes in the scene, `numbers` being what
    it spread by, packing and pressure over density. turn (3, 3): the domain's axes as columns; low (3,): its corner."""
    for p in range(first, last):
        r = a[p]
        for axis in range(3):
            x, v, g = F0, F0, F0
            for c in range(3):
                x += turn[c, axis] * position[c, p]
                v += turn[c, axis] * velocity[c, p]
                g += turn[c, axis] * outward[c, p]
            r[axis], r[3 + axis], r[26 + axis] = (x - low[axis]) / h, v, g * h
        for c in range(9):
            r[6 + c] = affine[c, p]
        for c in range(6):
            r[15 + c] = strain[c, p]
        r[21], r[24], r[25] = numbers[0, p], numbers[1, p], numbers[2, p]


@kernel
def unpack(a, position, velocity, affine, strain, numbers, outward, turn, low, h, first, last):
    """The arrays that `pack` takes, from rows first … last."""
    for p in range(first, last):
        r = a[p]
        for c in range(3):
            x, v, g = F0, F0, F0
            for axis in range(3):
                x += turn[c, axis] * (r[axis] * h + low[axis])
                v += turn[c, axis] * r[3 + axis]
                g += turn[c, axis] * r[26 + axis]
            position[c, p], velocity[c, p], outward[c, p] = x, v, g / h
        for c in range(9):
            affine[c, p] = r[6 + c]
        for c in range(6):
            strain[c, p] = r[15 + c]
        numbers[0, p], numbers[1, p], numbers[2, p] = r[21], r[24], r[25]


@kernel
def bare(a, out, first, last):
    """Rows that have nothing but their place, and the pressure in the place of a velocity."""
    for p in range(first, last):
        for axis in range(3):
            out[p, axis] = a[p, axis]
        out[p, 3] = a[p, 25]
