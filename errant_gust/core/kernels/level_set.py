"""A level set in a narrow band: its motion along the normal and along a field, its curvature, and its distances anew
without moving it.

A grid (nx, ny, nz) is a flat array, looked at as rows of eight voxels along z; a neighbour along x or y is so many
voxels (`x`, `y`) further. Work goes over a list of rows, each with its neighbours three voxels around within the grid,
and what it makes stands in flat arrays, eight numbers a row. Values are in voxels, below zero inside, ±FAR beyond the
band.

Derivatives: WENO of fifth order (Jiang, Peng 2000), Godunov's choice of sides (Osher, Sethian 1988). Distances: the
relaxation of Russo and Smereka (2000) with where the surface cuts the lines between voxels found by quadratic ENO
(Min 2010).
"""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel
from errant_gust.core.kernels.eights import move

ROW, MANY = 8, 64
"""Voxels in a row, and voxels that are worked on at once."""
INNER, BAND, FAR = 3.0, 6.0, 7.0
"""Voxels from the surface within which it moves as it should, within which anything moves, and what is farther."""
F0, F1, HALF, TWO = np.float32(0), np.float32(1), np.float32(0.5), np.float32(2)
B0, B1, BF = np.float32(INNER), np.float32(BAND), np.float32(FAR)
DEAD = np.float32(0.2)
TINY, SLIVER, PACE = np.float32(1e-6), np.float32(1e-3), np.float32(0.45)
BOW, QUARTER = np.float32(13 / 12), np.float32(0.25)
CUT = np.float32(1 / (BAND - INNER) ** 3)
W1, W2, W3 = np.float32(0.1), np.float32(0.6), np.float32(0.3)
A1, A2, A3 = np.float32(1 / 3), np.float32(7 / 6), np.float32(11 / 6)
WIDTH = 1.5
PER = np.float32(0.5 / WIDTH)
C1, C2 = np.float32(1 / 6), np.float32(5 / 6)


@inline
def weno(a, b, c, d, e):
    """The derivative from five differences in a row, the middle one between this voxel and that on its side."""
    p, q, r = a - TWO * b + c, b - TWO * c + d, c - TWO * d + e
    u, v, w = a - TWO * TWO * b + (TWO + F1) * c, b - d, (TWO + F1) * c - TWO * TWO * d + e
    s1 = TINY + BOW * p * p + QUARTER * u * u
    s2 = TINY + BOW * q * q + QUARTER * v * v
    s3 = TINY + BOW * r * r + QUARTER * w * w
    t1, t2, t3 = s2 * s3, s1 * s3, s1 * s2
    w1, w2, w3 = W1 * t1 * t1, W2 * t2 * t2, W3 * t3 * t3
    one = A1 * a - A2 * b + A3 * c
    two = C2 * c - C1 * b + A1 * d
    three = A1 * c + C2 * d - C1 * e
    return (w1 * one + w2 * two + w3 * three) / (w1 + w2 + w3)


@inline
def smaller(a, b):
    """That of two which is nearer to zero, or zero if they differ in sign."""
    least = a if abs(a) < abs(b) else b
    return least if a * b > F0 else F0


@inline
def outward(before, after):
    """The square of a slope that a front moving outward sees (Godunov)."""
    a, b = max(before, F0), min(after, F0)
    return max(a * a, b * b)


@inline
def cut_off(value):
    """1 within the inner band, falling smoothly to 0 at its end (Peng et al. 1999)."""
    d = min(max(abs(value), B0), B1)
    left = d - B1
    return left * left * (TWO * d + B1 - (TWO + F1) * B0) * CUT


@inline
def line_up(grid, rows, n, last, x, y, s):
    """The neighbours of MANY / 8 rows from n on (the last once more where there are fewer): slots of MANY numbers,
    seven along x, seven along y, seven along z; slots 3, 10 and 17 are the rows themselves."""
    for b in range(MANY // 8):
        at = ROW * rows[min(n + b, last - 1)]
        to = 8 * b
        for m in range(7):
            move(grid, at + (m - 3) * x, s, m * MANY + to)
            move(grid, at + (m - 3) * y, s, (7 + m) * MANY + to)
            move(grid, at + (m - 3), s, (14 + m) * MANY + to)


@inline
def slopes(s, o, to):
    """From what is lined up along an axis from slot o on, derivatives from before and after, into slots `to` and the
    next."""
    for c in range(MANY):
        i = o * MANY + c
        a, b, d = s[i + MANY] - s[i], s[i + 2 * MANY] - s[i + MANY], s[i + 3 * MANY] - s[i + 2 * MANY]
        e, f = s[i + 4 * MANY] - s[i + 3 * MANY], s[i + 5 * MANY] - s[i + 4 * MANY]
        g = s[i + 6 * MANY] - s[i + 5 * MANY]
        s[to * MANY + c] = weno(a, b, d, e, f)
        s[(to + 1) * MANY + c] = weno(g, f, e, d, b)


@inline
def carried(s, o):
    """What a velocity in slots o, o + 1, o + 2 takes past, from the slopes in slots 21 to 26: into slot o."""
    for c in range(MANY):
        u, v, w = s[o * MANY + c], s[(o + 1) * MANY + c], s[(o + 2) * MANY + c]
        s[o * MANY + c] = (
            max(u, F0) * s[21 * MANY + c] + min(u, F0) * s[22 * MANY + c]
            + max(v, F0) * s[23 * MANY + c] + min(v, F0) * s[24 * MANY + c]
            + max(w, F0) * s[25 * MANY + c] + min(w, F0) * s[26 * MANY + c]
        )  # fmt: skip


@inline
def gathered(values, rows, n, last, s, o):
    """The rows of values, into slot o."""
    for b in range(MANY // 8):
        move(values, ROW * rows[min(n + b, last - 1)], s, o * MANY + 8 * b)


@inline
def given(s, o, out, n, last):
    """A slot as rows of out, as many as there are."""
    for b in range(min(MANY // 8, last - n)):
        move(s, o * MANY + 8 * b, out, ROW * (n + b))


@kernel
def rates(grid, rows, x, y, speed, flow, along, free, out, first, last):
    """How fast values change, in voxels a second, into out.

    speed: outward; flow (3, …): with it; along (3, …): with it, but only outward; all in voxels a second at every
    voxel, any of them may be empty. free: what share of all that is left.
    """
    s = np.empty(32 * MANY, np.float32)
    for n in range(first, last, MANY // 8):
        line_up(grid, rows, n, last, x, y, s)
        slopes(s, 0, 21)
        slopes(s, 7, 23)
        slopes(s, 14, 25)
        for c in range(MANY):
            s[27 * MANY + c] = F0
        if speed.size:
            gathered(speed, rows, n, last, s, 28)
            for c in range(MANY):
                a, b = s[21 * MANY + c], s[22 * MANY + c]
                d, e = s[23 * MANY + c], s[24 * MANY + c]
                g, h = s[25 * MANY + c], s[26 * MANY + c]
                f = s[28 * MANY + c]
                grows = np.sqrt(outward(a, b) + outward(d, e) + outward(g, h))
                melts = np.sqrt(outward(-a, -b) + outward(-d, -e) + outward(-g, -h))
                s[27 * MANY + c] = max(f, F0) * grows + min(f, F0) * melts
        if flow.size:
            for axis in range(3):
                gathered(flow[axis], rows, n, last, s, 28 + axis)
            carried(s, 28)
            for c in range(MANY):
                s[27 * MANY + c] += s[28 * MANY + c]
        if along.size:
            for axis in range(3):
                gathered(along[axis], rows, n, last, s, 28 + axis)
            carried(s, 28)
            for c in range(MANY):
                s[27 * MANY + c] += max(s[28 * MANY + c], F0)
        gathered(free, rows, n, last, s, 28)
        for c in range(MANY):
            s[27 * MANY + c] *= -s[28 * MANY + c] * cut_off(s[17 * MANY + c])
        given(s, 27, out, n, last)


@inline
def lined_up(grid, rows, n, last, x, y, s):
    """Rows and their six neighbours, into slots 0 to 6."""
    for b in range(MANY // 8):
        at, to = ROW * rows[min(n + b, last - 1)], 8 * b
        move(grid, at, s, to)
        move(grid, at - x, s, MANY + to)
        move(grid, at + x, s, 2 * MANY + to)
        move(grid, at - y, s, 3 * MANY + to)
        move(grid, at + y, s, 4 * MANY + to)
        move(grid, at - 1, s, 5 * MANY + to)
        move(grid, at + 1, s, 6 * MANY + to)


@kernel
def bend(grid, rows, x, y, bumps, hollows, free, out, first, last):
    """Adds what curvature does, b κ |∇φ| with central differences, in voxels a second: b is that of `bumps`
    where the surface bulges and that of `hollows` where it is hollow, in square voxels a second."""
    s = np.empty(24 * MANY, np.float32)
    for n in range(first, last, MANY // 8):
        lined_up(grid, rows, n, last, x, y, s)
        for b in range(MANY // 8):
            at, to = ROW * rows[min(n + b, last - 1)], 8 * b
            move(grid, at - x - y, s, 7 * MANY + to)
            move(grid, at - x + y, s, 8 * MANY + to)
            move(grid, at + x - y, s, 9 * MANY + to)
            move(grid, at + x + y, s, 10 * MANY + to)
            move(grid, at - x - 1, s, 11 * MANY + to)
            move(grid, at - x + 1, s, 12 * MANY + to)
            move(grid, at + x - 1, s, 13 * MANY + to)
            move(grid, at + x + 1, s, 14 * MANY + to)
            move(grid, at - y - 1, s, 15 * MANY + to)
            move(grid, at - y + 1, s, 16 * MANY + to)
            move(grid, at + y - 1, s, 17 * MANY + to)
            move(grid, at + y + 1, s, 18 * MANY + to)
        gathered(bumps, rows, n, last, s, 19)
        gathered(hollows, rows, n, last, s, 20)
        gathered(free, rows, n, last, s, 21)
        for b in range(MANY // 8):
            move(out, ROW * min(n + b, last - 1), s, 22 * MANY + 8 * b)
        for c in range(MANY):
            here = s[c]
            dx = HALF * (s[2 * MANY + c] - s[MANY + c])
            dy = HALF * (s[4 * MANY + c] - s[3 * MANY + c])
            dz = HALF * (s[6 * MANY + c] - s[5 * MANY + c])
            xx = s[2 * MANY + c] - TWO * here + s[MANY + c]
            yy = s[4 * MANY + c] - TWO * here + s[3 * MANY + c]
            zz = s[6 * MANY + c] - TWO * here + s[5 * MANY + c]
            xy = QUARTER * (s[10 * MANY + c] - s[9 * MANY + c] - s[8 * MANY + c] + s[7 * MANY + c])
            xz = QUARTER * (s[14 * MANY + c] - s[13 * MANY + c] - s[12 * MANY + c] + s[11 * MANY + c])
            yz = QUARTER * (s[18 * MANY + c] - s[17 * MANY + c] - s[16 * MANY + c] + s[15 * MANY + c])
            square = dx * dx + dy * dy + dz * dz + TINY
            k = dx * dx * (yy + zz) + dy * dy * (xx + zz) + dz * dz * (xx + yy)
            k = (k - TWO * (dx * dy * xy + dx * dz * xz + dy * dz * yz)) / square
            k = min(max(k, -TWO), TWO)  # no rounder than a voxel
            share = max(k, F0) * s[19 * MANY + c] + min(k, F0) * s[20 * MANY + c]
            s[22 * MANY + c] += s[21 * MANY + c] * cut_off(here) * share
        given(s, 22, out, n, last)


@kernel
def stage(grid, rows, rate, before, share, dt, first, last):
    """A stage of a Runge–Kutta of Shu and Osher (1988): (1 − share) before + share (now + dt rate)."""
    kept = F1 - share
    for n in range(first, last):
        at, i = ROW * rows[n], ROW * n
        for c in range(ROW):
            value = kept * before[i + c] + share * (grid[at + c] + dt * rate[i + c])
            grid[at + c] = min(max(value, -BF), BF)


@kernel
def taken(grid, rows, out, first, last):
    """The rows of a grid, by themselves."""
    for n in range(first, last):
        move(grid, ROW * rows[n], out, ROW * n)


@kernel
def put(grid, rows, values, first, last):
    """The other way."""
    for n in range(first, last):
        move(values, ROW * n, grid, ROW * rows[n])


@inline
def cut(here, there, bow):
    """How far along the line to the next voxel the surface is: the root of the parabola with that second difference."""
    half = HALF * bow
    slope = there - here - half
    root = np.sqrt(max(slope * slope - TWO * TWO * half * here, F0))
    under = -slope + (root if here > F0 else -root)
    found = TWO * here / (under if abs(under) > TINY else (TINY if here > F0 else -TINY))
    return min(max(found, SLIVER), F1)


@inline
def sides(s, o):
    """Along the axis from slot o on: adds the square of the slope to slot 21, and lets slot 22 be no more than how near
    the surface is. Slopes go to where the surface is, if that is between two voxels."""
    for q in range(MANY):
        i = o * MANY + q
        a, b, c, d, e = s[i + MANY], s[i + 2 * MANY], s[i + 3 * MANY], s[i + 4 * MANY], s[i + 5 * MANY]
        left, middle, right = a - TWO * b + c, b - TWO * c + d, c - TWO * d + e
        ml, mr = smaller(left, middle), smaller(middle, right)
        sb, sa = cut(c, b, ml), cut(c, d, mr)
        crossed, crosses = c * b < F0, c * d < F0
        before = c / sb + HALF * sb * ml if crossed else c - b + HALF * ml
        after = -c / sa - HALF * sa * mr if crosses else d - c - HALF * mr
        near = min(sb if crossed else F1, sa if crosses else F1)
        sign = F1 if c > F0 else -F1
        s[21 * MANY + q] += outward(sign * before, sign * after)
        s[22 * MANY + q] = min(s[22 * MANY + q], near)


@inline
def arrival(x, y, z):
    """The distance of a voxel from those of its nearer neighbours along each axis (Godunov; Zhao 2005)."""
    a, c = min(x, min(y, z)), max(x, max(y, z))
    b = x + y + z - a - c
    one = a + F1
    gap = a - b
    two = HALF * (a + b + np.sqrt(max(TWO - gap * gap, F0)))
    total = a + b + c
    three = (total + np.sqrt(max(total * total - (TWO + F1) * (a * a + b * b + c * c - F1), F0))) * A1
    return one if one <= b else (two if two <= c else three)


@kernel
def relaxed(grid, rows, x, y, out, first, last):
    """One step toward distances, into out; the surface stays where it is between the voxels. What was far until now
    begins with what its neighbours make it."""
    s = np.empty(24 * MANY, np.float32)
    for n in range(first, last, MANY // 8):
        line_up(grid, rows, n, last, x, y, s)
        for c in range(MANY):
            s[21 * MANY + c] = F0
            s[22 * MANY + c] = F1
        sides(s, 0)
        sides(s, 7)
        sides(s, 14)
        for c in range(MANY):
            here = s[17 * MANY + c]
            more = np.sqrt(s[21 * MANY + c]) - F1
            idle = DEAD if s[22 * MANY + c] < F1 else F0
            more = PACE * s[22 * MANY + c] * (max(more - idle, F0) + min(more + idle, F0))
            value = here - (more if here > F0 else -more)
            first = arrival(
                min(abs(s[2 * MANY + c]), abs(s[4 * MANY + c])), min(abs(s[9 * MANY + c]), abs(s[11 * MANY + c])),
                min(abs(s[16 * MANY + c]), abs(s[18 * MANY + c])),
            )  # fmt: skip
            value = value if abs(here) < BF else (first if here > F0 else -first)
            s[23 * MANY + c] = min(max(value, -BF), BF)
        given(s, 23, out, n, last)


@kernel
def near(grid, blocks, shape, reach, out, first, last):
    """Of all rows in blocks of 8³ (their flat numbers), whether any value is nearer to zero than `reach` (1), whether
    the first is (2), whether the last is (4): into out."""
    nb, nc = shape[1] // 8, shape[2] // 8
    for n in range(first, last):
        b = blocks[n]
        i, j, k = b // (nb * nc), b // nc % nb, b % nc
        for di in range(8):
            for dj in range(8):
                r = ((8 * i + di) * shape[1] + 8 * j + dj) * nc + k
                least = BF
                for c in range(ROW):
                    least = min(least, abs(grid[ROW * r + c]))
                flag = 1 if least < reach else 0
                flag += 2 if abs(grid[ROW * r]) < reach else 0
                out[r] = flag + (4 if abs(grid[ROW * r + 7]) < reach else 0)


@kernel
def beside(flags, blocks, shape, out, found, first, last):
    """Which rows of blocks have a flagged voxel, or one beside it; and which blocks have any (found)."""
    nb, nc = shape[1] // 8, shape[2] // 8
    x, y = shape[1] * nc, nc
    for n in range(first, last):
        b = blocks[n]
        i, j, k = b // (nb * nc), b // nc % nb, b % nc
        some = False
        for di in range(8):
            for dj in range(8):
                r = ((8 * i + di) * shape[1] + 8 * j + dj) * nc + k
                some |= flags[r] > 0
                around = flags[r] | flags[r - x] | flags[r + x] | flags[r - y] | flags[r + y]
                out[r] = (around > 0) | ((flags[r - 1] & 4) > 0) | ((flags[r + 1] & 2) > 0)
        found[n] = some


@kernel
def settle(grid, rows, floor, age, before, left, dt, first, last):
    """After a step of dt: nothing is inside what `floor` keeps off, and voxels reached in it are marked with less than
    zero: how long before the frame's end that was; `left` is what is left of the frame. before: values of the rows."""
    for n in range(first, last):
        at, i = ROW * rows[n], ROW * n
        for c in range(ROW):
            value, was, old = max(grid[at + c], floor[at + c]), before[i + c], age[at + c]
            grid[at + c] = value
            share = value / min(value - was, -TINY)  # of the step, since it was reached
            new = -(left + dt * min(max(share, F0), F1)) - TINY
            age[at + c] = (old if old != F0 else new) if value < F0 else F0


@kernel
def aged(age, seconds, first, last):
    """Marks of the frame become ages; what is older is so much older."""
    for n in range(first, last):
        a = age[n]
        age[n] = -a if a < F0 else (a + seconds if a > F0 else F0)


@kernel
def leave(grid, rows, kept, first, last):
    """Rows that are not kept are far from the surface."""
    for n in range(first, last):
        if not kept[rows[n]]:
            at = ROW * rows[n]
            for c in range(ROW):
                grid[at + c] = BF if grid[at + c] > F0 else -BF


@kernel
def fastest(rows, speed, flow, along, free, first, last):
    """The greatest way that values go, in voxels a second."""
    most = F0
    for n in range(first, last):
        at = ROW * rows[n]
        for c in range(at, at + ROW):
            each = F0
            if speed.size:
                each += abs(speed[c])
            if flow.size:
                each += abs(flow[0, c]) + abs(flow[1, c]) + abs(flow[2, c])
            if along.size:
                each += abs(along[0, c]) + abs(along[1, c]) + abs(along[2, c])
            most = max(most, each * free[c])
    return most


@kernel
def stiffest(rows, bumps, hollows, free, first, last):
    """The greatest coefficient of curvature, in square voxels a second."""
    most = F0
    for n in range(first, last):
        at = ROW * rows[n]
        for c in range(at, at + ROW):
            most = max(most, max(bumps[c], hollows[c]) * free[c])
    return most


@kernel
def amounts(grid, rows, x, y, speed, flow, along, free, first, last):
    """The volume that is inside, in voxels, the area of the surface, and how fast the volume should grow by speeds: by
    central differences of what share of a voxel is inside, which lose nothing (the sum over a flow without divergence
    is zero)."""
    s = np.empty(16 * MANY, np.float32)
    volume, area, gain = 0.0, 0.0, 0.0
    for n in range(first, last, MANY // 8):
        lined_up(grid, rows, n, last, x, y, s)
        for c in range(7 * MANY):
            t = min(max(HALF + s[c] * PER, F0), F1)
            s[c] = F1 - t * t * (F1 + TWO - TWO * t)
        for axis in range(3):
            o = (2 * axis + 1) * MANY
            for c in range(MANY):
                s[o + c] = HALF * (s[o + c] - s[o + MANY + c])
        for c in range(MANY):
            a, b, d = s[MANY + c], s[3 * MANY + c], s[5 * MANY + c]
            s[2 * MANY + c] = np.sqrt(a * a + b * b + d * d)
            s[7 * MANY + c] = F0
            s[8 * MANY + c] = F0
        if speed.size:
            gathered(speed, rows, n, last, s, 8)
            for c in range(MANY):
                s[7 * MANY + c] = s[8 * MANY + c] * s[2 * MANY + c]
        if flow.size:
            for axis in range(3):
                gathered(flow[axis], rows, n, last, s, 8)
                for c in range(MANY):
                    s[7 * MANY + c] += s[8 * MANY + c] * s[(2 * axis + 1) * MANY + c]
        if along.size:
            for c in range(MANY):
                s[9 * MANY + c] = F0
            for axis in range(3):
                gathered(along[axis], rows, n, last, s, 8)
                for c in range(MANY):
                    s[9 * MANY + c] += s[8 * MANY + c] * s[(2 * axis + 1) * MANY + c]
            for c in range(MANY):
                s[7 * MANY + c] += max(s[9 * MANY + c], F0)
        if free.size:
            gathered(free, rows, n, last, s, 8)
        v, w, g = F0, F0, F0
        for c in range(min(MANY, ROW * (last - n))):
            v += s[c]
            w += s[2 * MANY + c]
            g += s[8 * MANY + c] * s[7 * MANY + c]
        volume, area, gain = volume + v, area + w, gain + g
    return volume, area, gain


@kernel
def shifted(grid, rows, by, first, last):
    """Moves the surface outward by so many voxels, near it."""
    for n in range(first, last):
        at = ROW * rows[n]
        for c in range(at, at + ROW):
            grid[c] -= by * cut_off(grid[c])
