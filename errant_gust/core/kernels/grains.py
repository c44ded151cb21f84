"""Loops of grains between particles and the nodes of a grid (moving least squares material points: Hu, Fang, Ge, Qu,
Zhu, Pradhana, Jiang 2018), and how sand yields.

A grain is a column of numbers (see `ROW`): its place in cells, velocity, how that changes a cell, elastic log strain,
what it has spread by, its friction and cohesion, how tightly it is packed. Nodes have (momentum, mass) over the mass
of a grain, side by side. Weights are quadratic. Grains are sorted by the first node of theirs, and planes of these are
done in slabs that are fixed, even ones, then odd ones, so that sums are made in one order on any number of threads. A
slab of four planes stays apart from the next of its turn while no grain went farther than a cell since it was sorted.
`MANY` grains are done at a time, in loops over all of them without branches wherever no node is asked.
"""

import numpy as np

from errant_gust.core.kernels.clamped import cell, within
from errant_gust.core.kernels.compiler import inline, kernel
from errant_gust.core.kernels.node_lines import RECORD, SUMS, WEIGHTS, give, put, take, turned

F0 = np.float32(0.0)
F1 = np.float32(1.0)
F2 = np.float32(2.0)
F4 = np.float32(4.0)
HALF = np.float32(0.5)
THIRD = np.float32(1 / 3)

PLACE, MOVING, AFFINE, STRAIN = slice(0, 3), slice(3, 6), slice(6, 15), slice(15, 21)
SPREAD, SINE, TENSION, PACKING, PRESSURE, OUTWARD, ROW = 21, 22, 23, 24, 25, slice(26, 29), 29
"""Which numbers are a grain's: place, velocity, its changes by rows (a cell), log strain (xx yy zz xy xz yz), log of
what it has spread by, sine of the friction, log strain it bears being pulled, packing, pressure over density (m²/s²),
slope of the packing outward (1/cell); and how many there are."""
REST = np.float32(0.3)
"""The tangent of the friction of sand at rest is by so much more than that of sand that flows."""
INERTIA = np.float32(1e4)
"""One over the square of the inertial number (rate of shear times spacing by the root of pressure over density: MiDi
2004) at which half of that is gone."""
AT_EDGE = np.float32(0.3)
"""Of the slope of the packing (a cell), how much tells that room about a grain is beyond the surface."""
APART = np.float32(1.2)
"""Packing above which grains make room for one another."""
MANY = 32
"""Grains done at a time."""
BESIDE = 35
"""How many numbers are made of each meanwhile: 16 that it gives or takes, 13 weights, 3 more, and its place."""


@inline
def weights(f):
    """Quadratic weights of three nodes for a place f (0.5 … 1.5) from the first."""
    a, b, c = np.float32(1.5) - f, f - F1, f - HALF
    return HALF * a * a, np.float32(0.75) - b * b, HALF * c * c


@inline
def room_about(packed):
    """Log of how much a grain that is packed so could have spread by: by the fourth root, and the series of the area
    tangent, which is right to a thousandth of itself where at least a hundredth of a full packing is."""
    root = np.sqrt(np.sqrt(min(packed, F1)))
    z = (F1 - root) / (F1 + root)
    q = z * z
    return np.float32(8) * z * (F1 + q * (THIRD + q * (np.float32(0.2) + q * (np.float32(1 / 7) + q / np.float32(9)))))


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
def room_to_work():
    """Room for the numbers of `MANY` grains, what is made of them, their records and nine lines of nodes, which begin
    where a line of the cache does, in one piece (so that loops over them need no other version); and for where the
    first nodes are."""
    own, beside, kept = ROW * MANY, BESIDE * MANY, RECORD * MANY
    some = np.zeros(own + beside + kept + SUMS + 16, np.float32)
    a = (64 - some.ctypes.data % 64) % 64 // 4
    b = a + own
    c = b + beside
    d = c + kept
    return some[a:b], some[b:c], some[c:d], some[d : d + SUMS], np.zeros(MANY, np.int64)


@inline
def copied(block, own, many):
    """The first so many numbers of a block into another."""
    for n in range(many * MANY):
        own[n] = block[n]


@inline
def placed(own, s, firsts, nx, ny, nz):
    """Weights of the nodes about `MANY` grains, as records have them, and 32 … 34 how far these are from the middle
    node; firsts (MANY,): where the first node is among the numbers of all."""
    for n in range(MANY):
        x, y, z = own[n], own[MANY + n], own[2 * MANY + n]
        i = np.int32(within(x - HALF, F0, np.float32(nx - 3)))
        j = np.int32(within(y - HALF, F0, np.float32(ny - 3)))
        k = np.int32(within(z - HALF, F0, np.float32(nz - 3)))
        fx, fy, fz = x - np.float32(i), y - np.float32(j), z - np.float32(k)
        firsts[n] = np.int64(4) * ((np.int64(i) * ny + np.int64(j)) * nz + np.int64(k))
        s[32 * MANY + n], s[33 * MANY + n], s[34 * MANY + n] = fx - F1, fy - F1, fz - F1
        u0, u1, u2 = weights(fx)
        v0, v1, v2 = weights(fy)
        w0, w1, w2 = weights(fz)
        s[16 * MANY + n], s[17 * MANY + n], s[18 * MANY + n], s[19 * MANY + n] = w0, w1, w2, F0
        s[20 * MANY + n], s[21 * MANY + n], s[22 * MANY + n] = u0 * v0, u0 * v1, u0 * v2
        s[23 * MANY + n], s[24 * MANY + n], s[25 * MANY + n] = u1 * v0, u1 * v1, u1 * v2
        s[26 * MANY + n], s[27 * MANY + n], s[28 * MANY + n] = u2 * v0, u2 * v1, u2 * v2


@inline
def stressed(own, s, scale, stiff, shear, sound):
    """What `MANY` grains give the nodes about them, as records have it."""
    for n in range(MANY):
        xx, yy, zz = own[15 * MANY + n], own[16 * MANY + n], own[17 * MANY + n]
        xy, xz, yz = own[18 * MANY + n], own[19 * MANY + n], own[20 * MANY + n]
        c00, c11, c22 = own[6 * MANY + n], own[10 * MANY + n], own[14 * MANY + n]
        iso = stiff * (xx + yy + zz)
        div = c00 + c11 + c22
        iso += HALF * sound * div if div < F0 and iso < F0 else F0
        c00 -= scale * (iso + shear * xx)
        c11 -= scale * (iso + shear * yy)
        c22 -= scale * (iso + shear * zz)
        sxy, sxz, syz = scale * shear * xy, scale * shear * xz, scale * shear * yz
        c01, c02 = own[7 * MANY + n] - sxy, own[8 * MANY + n] - sxz
        c10, c12 = own[9 * MANY + n] - sxy, own[11 * MANY + n] - syz
        c20, c21 = own[12 * MANY + n] - sxz, own[13 * MANY + n] - syz
        fx, fy, fz = s[32 * MANY + n], s[33 * MANY + n], s[34 * MANY + n]
        s[n] = own[3 * MANY + n] - fx * c00 - fy * c01 - fz * c02
        s[MANY + n] = own[4 * MANY + n] - fx * c10 - fy * c11 - fz * c12
        s[2 * MANY + n] = own[5 * MANY + n] - fx * c20 - fy * c21 - fz * c22
        s[3 * MANY + n] = F1
        s[4 * MANY + n], s[5 * MANY + n], s[6 * MANY + n], s[7 * MANY + n] = c00, c10, c20, F0
        s[8 * MANY + n], s[9 * MANY + n], s[10 * MANY + n], s[11 * MANY + n] = c01, c11, c21, F0
        s[12 * MANY + n], s[13 * MANY + n], s[14 * MANY + n], s[15 * MANY + n] = c02, c12, c22, F0


@inline
def given(nodes, s, records, sums, firsts, first, last, here, ny, nz):
    """What lanes first … last give the nodes about them; `sums` are of those from `here` on, if that is not below
    nought. Returns which they are now."""
    line, plane = 4 * nz, 4 * nz * ny
    for n in range(0, MANY, 16):
        turned(s, n, MANY, records, RECORD * n, RECORD)
        turned(s, WEIGHTS * MANY + n, MANY, records, RECORD * n + WEIGHTS, RECORD)
    for n in range(first, last):
        if firsts[n] != here:
            if here >= 0:
                put(nodes, here, line, plane, sums)
            here = firsts[n]
        give(sums, records, RECORD * n)
    return here


@kernel
def to_nodes(a, start, nodes, shape, dt, h, stiff, shear, sound, first, last):
    """Momenta and masses of nodes (nx ny nz 4, flat, and one node more) from the sorted grains whose first nodes are in
    planes first … last, with the stress of each. stiff and shear: Lamé's λ and 2 μ over density; sound: speed of
    waves, m/s (for bulk viscosity)."""
    nx, ny, nz = np.int64(shape[0]), np.int64(shape[1]), np.int64(shape[2])
    own, s, records, sums, firsts = room_to_work()
    begin, end, here = start[first], start[last], np.int64(-1)
    for b in range(begin // MANY, (end + MANY - 1) // MANY):
        copied(a[b], own, 21)
        placed(own, s, firsts, nx, ny, nz)
        stressed(own, s, F4 * dt / h, stiff, shear, sound)
        here = given(nodes, s, records, sums, firsts, max(begin - b * MANY, 0), min(end - b * MANY, MANY), here, ny, nz)
    if here >= 0:
        put(nodes, here, 4 * nz, 4 * nz * ny, sums)


@kernel
def weighed(a, start, nodes, shape, first, last):
    """As `to_nodes`, but what grains give nodes is their pressure and their mass: the first and the last of four."""
    nx, ny, nz = np.int64(shape[0]), np.int64(shape[1]), np.int64(shape[2])
    own, s, records, sums, firsts = room_to_work()
    begin, end, here = start[first], start[last], np.int64(-1)
    for b in range(begin // MANY, (end + MANY - 1) // MANY):
        copied(a[b], own, ROW)
        placed(own, s, firsts, nx, ny, nz)
        for n in range(MANY):
            s[n], s[3 * MANY + n] = own[PRESSURE * MANY + n], F1
        here = given(nodes, s, records, sums, firsts, max(begin - b * MANY, 0), min(end - b * MANY, MANY), here, ny, nz)
    if here >= 0:
        put(nodes, here, 4 * nz, 4 * nz * ny, sums)


@inline
def strained(own, s, step, bulk, shear, sound, full, crowded, soft, low, high):
    """`MANY` grains carried and strained, in place, by what they took from the nodes."""
    lowx, lowy, lowz = low[0], low[1], low[2]
    highx, highy, highz = high[0], high[1], high[2]
    shove = np.float32(0.1) * min(sound * step, F1)
    slack = -THIRD * soft / bulk
    for n in range(MANY):
        u, v, w, m = s[n], s[MANY + n], s[2 * MANY + n], s[3 * MANY + n]
        fx, fy, fz = s[32 * MANY + n], s[33 * MANY + n], s[34 * MANY + n]
        c00, c10, c20 = s[4 * MANY + n] - fx * u, s[5 * MANY + n] - fx * v, s[6 * MANY + n] - fx * w
        c01, c11, c21 = s[8 * MANY + n] - fy * u, s[9 * MANY + n] - fy * v, s[10 * MANY + n] - fy * w
        c02, c12, c22 = s[12 * MANY + n] - fz * u, s[13 * MANY + n] - fz * v, s[14 * MANY + n] - fz * w
        c00, c01, c02, c10, c11, c12 = F4 * c00, F4 * c01, F4 * c02, F4 * c10, F4 * c11, F4 * c12
        c20, c21, c22, packed = F4 * c20, F4 * c21, F4 * c22, m / full
        gx, gy, gz = s[7 * MANY + n] - fx * m, s[11 * MANY + n] - fy * m, s[15 * MANY + n] - fz * m
        # beside the surface less lies about a grain, however tightly: what its slope tells is not room
        gx, gy, gz = F4 / full * gx, F4 / full * gy, F4 / full * gz
        slope = np.sqrt(gx * gx + gy * gy + gz * gz)
        # those that lie in each other go where there is more room
        away = shove * min(max(packed - APART, F0), F1) / max(slope, F1)
        own[n] = min(max(own[n] + step * u - away * gx, lowx), highx)
        own[MANY + n] = min(max(own[MANY + n] + step * v - away * gy, lowy), highy)
        own[2 * MANY + n] = min(max(own[2 * MANY + n] + step * w - away * gz, lowz), highz)
        # the strain turns with the sand (Jaumann) and grows with what is deformed
        p01, p02, p12 = HALF * step * (c01 - c10), HALF * step * (c02 - c20), HALF * step * (c12 - c21)
        xx, yy, zz = own[15 * MANY + n], own[16 * MANY + n], own[17 * MANY + n]
        xy, xz, yz = own[18 * MANY + n], own[19 * MANY + n], own[20 * MANY + n]
        nxx = xx + step * c00 + F2 * (p01 * xy + p02 * xz)
        nyy = yy + step * c11 + F2 * (p12 * yz - p01 * xy)
        nzz = zz + step * c22 - F2 * (p02 * xz + p12 * yz)
        nxy = xy + HALF * step * (c01 + c10) + p01 * (yy - xx) + p02 * yz + p12 * xz
        nxz = xz + HALF * step * (c02 + c20) + p02 * (zz - xx) + p01 * yz - p12 * xy
        nyz = yz + HALF * step * (c12 + c21) + p12 * (zz - yy) - p01 * xz - p02 * xy
        # what it spread by it closes first, and that is no more than the room there is about it (volume correction:
        # Tampubolon et al. 2017)
        most, trace = own[23 * MANY + n], nxx + nyy + nzz
        third = THIRD * trace
        room = room_about(packed + AT_EDGE * slope)
        trace += min(own[21 * MANY + n], room)
        tight = packed > crowded
        loose = tight or trace >= most
        dx, dy, dz = nxx - third, nyy - third, nzz - third
        j2 = HALF * (dx * dx + dy * dy + dz * dz) + nxy * nxy + nxz * nxz + nyz * nyz
        j3 = dx * (dy * dz - nyz * nyz) - nxy * (nxy * dz - nyz * nxz) + nxz * (nxy * nyz - dy * nxz)
        root = np.sqrt(j2)
        pressure = bulk * (most - trace)
        # sand at rest holds better than sand that flows
        across = (c01 + c10) * (c01 + c10) + (c02 + c20) * (c02 + c20) + (c12 + c21) * (c12 + c21)
        pulled = (c00 - c11) * (c00 - c11) + (c11 - c22) * (c11 - c22) + (c22 - c00) * (c22 - c00)
        inertia = np.float32(0.25) * (across + pulled) / max(pressure, np.float32(1e-20))
        flows = own[22 * MANY + n]
        firm = flows * (F1 + REST / (F1 + INERTIA * inertia))
        sine = firm / np.sqrt(F1 - flows * flows + firm * firm)
        # Mohr and Coulomb's law by invariants: sin 3θ from the third tells how the sand is sheared
        lode = np.float32(-2.598076) * j3 / max(j2 * root, np.float32(1e-30))
        turn, along = lode_angle(lode)
        limit = pressure * sine / (shear * (along - turn * sine * np.float32(0.57735027)))
        held = F1 if root <= limit else limit / root
        keep = F0 if loose else held
        even = (slack * (packed - F1) if tight else THIRD * most) if loose else THIRD * trace
        own[15 * MANY + n], own[16 * MANY + n] = even + keep * dx, even + keep * dy
        own[17 * MANY + n] = even + keep * dz
        own[18 * MANY + n], own[19 * MANY + n], own[20 * MANY + n] = keep * nxy, keep * nxz, keep * nyz
        own[21 * MANY + n] = min(trace - most, room) if loose and not tight else F0
        own[24 * MANY + n], own[25 * MANY + n] = packed, F0 if loose else -bulk * trace
        own[26 * MANY + n], own[27 * MANY + n], own[28 * MANY + n] = -gx, -gy, -gz
        own[3 * MANY + n], own[4 * MANY + n], own[5 * MANY + n] = u, v, w
        own[6 * MANY + n], own[7 * MANY + n], own[8 * MANY + n] = c00, c01, c02
        own[9 * MANY + n], own[10 * MANY + n], own[11 * MANY + n] = c10, c11, c12
        own[12 * MANY + n], own[13 * MANY + n], own[14 * MANY + n] = c20, c21, c22
        s[n] = u * u + v * v + w * w


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
    nx, ny, nz = np.int64(shape[0]), np.int64(shape[1]), np.int64(shape[2])
    line, plane = 4 * nz, 4 * nz * ny
    own, s, records, _, firsts = room_to_work()
    quickest, tightest = F0, F0
    for b in range(first // MANY, (last + MANY - 1) // MANY):
        many = min(last - b * MANY, MANY)
        copied(a[b], own, ROW)
        placed(own, s, firsts, nx, ny, nz)
        for n in range(0, MANY, 16):
            turned(s, WEIGHTS * MANY + n, MANY, records, RECORD * n + WEIGHTS, RECORD)
        for n in range(many):
            take(nodes, firsts[n], line, plane, records, RECORD * n)
        for n in range(0, MANY, 16):
            turned(records, RECORD * n, RECORD, s, n, MANY)
        strained(own, s, dt / h, bulk, shear, sound, full, crowded, soft, low, high)
        for n in range(many):
            quickest = max(quickest, s[n]) if np.isfinite(s[n]) else np.float32(np.inf)
            tightest = max(tightest, own[PACKING * MANY + n])
        copied(own, a[b], ROW)
    told[first // block, 0] = quickest
    told[first // block, 1] = tightest


@kernel
def velocities(nodes, at, v, first, last):
    """Velocities (3, k) of nodes (n, 4) with indices `at` (k,), from their momenta and masses."""
    for p in range(first, last):
        n = nodes[at[p]]
        one = F1 / n[3]
        v[0, p], v[1, p], v[2, p] = n[0] * one, n[1] * one, n[2] * one


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
    """The square of the greatest speed of grains first … last, first being the first of a block; infinite if a place, a
    velocity or a strain is no number."""
    most = F0
    for p in range(first, last):
        r, n = a[p // MANY], p % MANY
        u, v, w = r[3 * MANY + n], r[4 * MANY + n], r[5 * MANY + n]
        others = r[n] + r[MANY + n] + r[2 * MANY + n] + r[15 * MANY + n] + r[16 * MANY + n] + r[17 * MANY + n]
        speed = u * u + v * v + w * w + F0 * others
        if not np.isfinite(speed):
            return np.float32(np.inf)
        most = max(most, speed)
    return most


@kernel
def gather(a, order, out, first, last):
    """Grains in another order, first … last, first being the first of a block."""
    flat, at = a.reshape(-1), np.zeros(MANY, np.int64)
    for begin in range(first, last, MANY):
        many = min(MANY, last - begin)
        for n in range(many):
            p = np.int64(order[begin + n])
            at[n] = p // MANY * ROW * MANY + p % MANY
        block = out[begin // MANY]
        for c in range(ROW):
            for n in range(many):
                block[c * MANY + n] = flat[at[n] + c * MANY]


@kernel
def marked(a, cells, shape, out, first, last):
    """Which grains first … last are in one of the marked cells (flat)."""
    for p in range(first, last):
        r, n = a[p // MANY], p % MANY
        i, j = cell(r[n] + HALF, shape[0]), cell(r[MANY + n] + HALF, shape[1])
        k = cell(r[2 * MANY + n] + HALF, shape[2])
        out[p] = cells[(i * shape[1] + j) * shape[2] + k]


@inline
def into_blocks(a, c, rows, order, first, last):
    """Rows of an array, in another order, become the numbers of grains first … last from c on: row by row, since each
    is far from the next."""
    for k in range(rows.shape[0]):
        row, to = rows[k], (c + k) * MANY
        for begin in range(first, last, MANY):
            block = a[begin // MANY]
            for n in range(min(MANY, last - begin)):
                block[to + n] = row[order[begin + n]]


@inline
def out_of_blocks(a, c, rows, first, last):
    """The other way."""
    for k in range(rows.shape[0]):
        row, of = rows[k], (c + k) * MANY
        whole = last // MANY * MANY
        for begin in range(first, whole, MANY):
            block = a[begin // MANY]
            for n in range(MANY):
                row[begin + n] = block[of + n]
        for p in range(max(first, whole), last):
            row[p] = a[p // MANY, of + p % MANY]


@inline
def turned_to(block, c, axes, scale, shift):
    """Vectors of a block, whose numbers begin at c, along other axes: columns of (3, 3); then scaled and shifted."""
    x, y, z = c * MANY, (c + 1) * MANY, (c + 2) * MANY
    for n in range(MANY):
        u, v, w = block[x + n], block[y + n], block[z + n]
        block[x + n] = scale * (axes[0, 0] * u + axes[1, 0] * v + axes[2, 0] * w - shift[0])
        block[y + n] = scale * (axes[0, 1] * u + axes[1, 1] * v + axes[2, 1] * w - shift[1])
        block[z + n] = scale * (axes[0, 2] * u + axes[1, 2] * v + axes[2, 2] * w - shift[2])


@kernel
def pack(position, velocity, outward, affine, strain, order, axes, low, h, a, first, last):
    """Places, velocities, slopes, affine motion and strain of grains first … last, from arrays (c, n) in another order,
    of which the first three are in the scene; first being the first of a block. axes (3, 3): the domain's as columns;
    low (3,): its corner."""
    none = np.zeros(3, np.float32)
    into_blocks(a, 0, position, order, first, last)
    into_blocks(a, 3, velocity, order, first, last)
    into_blocks(a, 6, affine, order, first, last)
    into_blocks(a, 15, strain, order, first, last)
    into_blocks(a, 26, outward, order, first, last)
    for b in range(first // MANY, (last + MANY - 1) // MANY):
        turned_to(a[b], 0, axes, F1 / h, low)
        turned_to(a[b], 3, axes, F1, none)
        turned_to(a[b], 26, axes, h, none)


@kernel
def unpack(a, position, velocity, outward, affine, strain, axes, low, h, first, last):
    """The arrays that `pack` takes, from blocks that are of no use after it; axes and low: of the scene, seen from the
    domain, in cells."""
    none = np.zeros(3, np.float32)
    for b in range(first // MANY, (last + MANY - 1) // MANY):
        turned_to(a[b], 0, axes, h, low)
        turned_to(a[b], 3, axes, F1, none)
        turned_to(a[b], 26, axes, F1 / h, none)
    out_of_blocks(a, 0, position, first, last)
    out_of_blocks(a, 3, velocity, first, last)
    out_of_blocks(a, 6, affine, first, last)
    out_of_blocks(a, 15, strain, first, last)
    out_of_blocks(a, 26, outward, first, last)
