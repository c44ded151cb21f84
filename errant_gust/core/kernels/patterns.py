"""Other noise bases beside gradient noise: simplex (4D), cells, waves. Same calling convention as `noise.add_scalar`.

Every kernel adds `amplitude * basis(frequency * p + offset, w)` to value (n,) and its gradient per metre to gradient
(3, n). All bases lie in [-1, 1]; their measured bounds and slopes are in `fields/noise.py`.
"""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel
from errant_gust.core.kernels.noise import BYTE, F1, F2, LOW, PW, PX, PY, PZ, S0, S8, S16, S24, branch, byte, mix

F0 = np.float32(0.0)
HALF = np.float32(0.5)
QUARTER = np.float32(0.25)
SKEW4 = np.float32((np.sqrt(5.0) - 1.0) / 4.0)
UNSKEW4 = np.float32((5.0 - np.sqrt(5.0)) / 20.0)
SIMPLEX_SCALE = np.float32(52.0)
TWO_PI = np.float32(2.0 * np.pi)
UNIT = np.float32(1.0 / 4294967296.0)
WAVES = 6
_golden = (1 + np.sqrt(5.0)) / 2
_axes = [(0, 1, _golden), (0, -1, _golden), (1, _golden, 0), (-1, _golden, 0), (_golden, 0, 1), (_golden, 0, -1)]
AXES = (np.array(_axes) / np.sqrt(1 + _golden**2)).astype(np.float32)
TEN = np.uint32(1023)
TEN_BITS = np.uint32(10)
TWENTY_BITS = np.uint32(20)
CELL_UNIT = np.float32(1.0 / 1024.0)
PACE = np.float32(1.0 / 255.0)
_five = np.stack(np.meshgrid(*[np.arange(-2, 3)] * 3, indexing="ij"), axis=-1).reshape(-1, 3)
_five = _five[np.lexsort(((_five**2).sum(axis=1), np.abs(_five).max(axis=1)))]
SHIFT = _five.astype(np.float32)
"""The 27 cells around a point, the nearest first, then the shell around them."""
NEAREST_CELLS = 27
ALL_CELLS = 125
CELL_BOUND = (np.float32(1.25), np.float32(1.45), np.float32(1.25), np.float32(1.0))
"""Largest values of F1, F2, F2 − F1 and id that occur, in cells (measured, tests/core/test_noise.py)."""


@inline
def unit(h):
    """A hash as a number from 0 to 1."""
    return np.float32(h) * UNIT


@inline
def lattice(i, j, k):
    """Hash of a lattice corner; integers may be negative."""
    a = np.uint32(np.uint32(np.int32(i)) * PX) ^ np.uint32(np.uint32(np.int32(j)) * PY)
    return np.uint32(a ^ np.uint32(np.uint32(np.int32(k)) * PZ))


@kernel
def add_simplex(x, y, z, frequency, ox, oy, oz, w, seed, k, amplitude, value, gradient):
    """Simplex noise in four dimensions, the fourth being the same for all points (Gustavson, Simplex noise, 2005).

    The kernel radius is √0.5, for which value and gradient are continuous.
    """
    rank = np.empty(4, np.int32)
    d = np.empty(4, np.float32)
    q = np.empty(4, np.float32)
    base = np.empty(4, np.int32)
    slope = amplitude * frequency * SIMPLEX_SCALE
    for p in range(x.size):
        q[0] = x[p] * frequency + ox
        q[1] = y[p] * frequency + oy
        q[2] = z[p] * frequency + oz
        q[3] = np.float32(w)
        s = (q[0] + q[1] + q[2] + q[3]) * SKEW4
        total = 0
        for a in range(4):
            base[a] = np.int32(np.floor(q[a] + s))
            total += base[a]
        t = np.float32(total) * UNSKEW4
        for a in range(4):
            q[a] = q[a] - (np.float32(base[a]) - t)
            rank[a] = 0
        for a in range(3):
            for b in range(a + 1, 4):
                if q[a] > q[b]:
                    rank[a] += 1
                else:
                    rank[b] += 1
        n = F0
        gx = F0
        gy = F0
        gz = F0
        for c in range(5):
            shift = np.float32(c) * UNSKEW4
            r2 = F0
            for a in range(4):
                step = F1 if rank[a] >= 4 - c else F0
                d[a] = q[a] - step + shift
                r2 += d[a] * d[a]
            m = HALF - r2
            if m <= F0:
                continue
            i = base[0] + (1 if rank[0] >= 4 - c else 0)
            j = base[1] + (1 if rank[1] >= 4 - c else 0)
            m3 = base[2] + (1 if rank[2] >= 4 - c else 0)
            o = base[3] + (1 if rank[3] >= 4 - c else 0)
            h = lattice(i, j, m3) ^ np.uint32(np.uint32(np.int32(o)) * PW) ^ np.uint32(seed)
            h = branch(mix(np.uint32(h)), k)
            ax = byte(h, S0) * BYTE - F1
            ay = byte(h, S8) * BYTE - F1
            az = byte(h, S16) * BYTE - F1
            aw = byte(h, S24) * BYTE - F1
            dot = ax * d[0] + ay * d[1] + az * d[2] + aw * d[3]
            m2 = m * m
            m4 = m2 * m2
            fall = np.float32(-8.0) * m2 * m * dot
            n += m4 * dot
            gx += m4 * ax + fall * d[0]
            gy += m4 * ay + fall * d[1]
            gz += m4 * az + fall * d[2]
        value[p] += amplitude * SIMPLEX_SCALE * n
        gradient[0, p] += slope * gx
        gradient[1, p] += slope * gy
        gradient[2, p] += slope * gz


@inline
def wander(h, shift, w):
    """A place in [0, 1) from ten bits of a hash; it moves to and fro at its own pace, evenly spread at any time."""
    a = np.float32(np.int32((h >> shift) & TEN))
    t = (a + HALF) * CELL_UNIT * F2 + w * (HALF + np.float32(np.int32((h >> S8) & LOW)) * PACE)
    t = t - F2 * np.floor(t * HALF)
    return F1 - np.abs(t - F1)


@kernel
def add_cells(x, y, z, frequency, ox, oy, oz, w, seed, k, amplitude, value, gradient, kind):
    """Distance to wandering cell points (Worley, A cellular texture basis function, 1996), scaled to [-1, 1].

    kind: 0 nearest (F1), 1 second nearest (F2), 2 border (F2 − F1), 3 a number for each cell. The search is exact:
    beyond the 27 cells around a point, others are visited while they could hold a nearer one.
    """
    bound = CELL_BOUND[0]
    if kind == 1:
        bound = CELL_BOUND[1]
    elif kind == 2:
        bound = CELL_BOUND[2]
    elif kind == 3:
        bound = CELL_BOUND[3]
    scale = amplitude * F2 / bound
    fw = np.float32(w)
    own = np.uint32(np.uint32(seed) * np.uint32(k))
    only_nearest = (kind == 0) | (kind == 3)
    for p in range(x.size):
        qx = x[p] * frequency + ox
        qy = y[p] * frequency + oy
        qz = z[p] * frequency + oz
        bx, by, bz = np.floor(qx), np.floor(qy), np.floor(qz)
        fx, fy, fz = qx - bx, qy - by, qz - bz
        near = np.float32(1e9)
        second = np.float32(1e9)
        nx = ny = nz = mx = my = mz = F0
        cell = np.uint32(0)
        inner = min(min(min(fx, F1 - fx), min(fy, F1 - fy)), min(fz, F1 - fz)) + F1
        last = NEAREST_CELLS
        o = 0
        while o < last:
            sx, sy, sz = SHIFT[o, 0], SHIFT[o, 1], SHIFT[o, 2]
            o += 1
            if o == NEAREST_CELLS and (near if only_nearest else second) > inner * inner:
                last = ALL_CELLS
            ex = max(max(sx - fx, fx - sx - F1), F0)
            ey = max(max(sy - fy, fy - sy - F1), F0)
            ez = max(max(sz - fz, fz - sz - F1), F0)
            if ex * ex + ey * ey + ez * ez >= (near if only_nearest else second):
                continue
            h = mix(np.uint32(lattice(bx + sx, by + sy, bz + sz) ^ own))
            dx = fx - sx - wander(h, S0, fw)
            dy = fy - sy - wander(h, TEN_BITS, fw)
            dz = fz - sz - wander(h, TWENTY_BITS, fw)
            r = dx * dx + dy * dy + dz * dz
            if r < near:
                second, mx, my, mz = near, nx, ny, nz
                near, nx, ny, nz = r, dx, dy, dz
                cell = h
            elif r < second:
                second, mx, my, mz = r, dx, dy, dz
        f1 = np.sqrt(near)
        f2 = np.sqrt(second)
        i1 = F1 / max(f1, np.float32(1e-6))
        i2 = F1 / max(f2, np.float32(1e-6))
        if kind == 3:
            value[p] += amplitude * (F2 * unit(mix(np.uint32(cell ^ PW))) - F1)
            continue
        if kind == 0:
            v, gx, gy, gz = f1, nx * i1, ny * i1, nz * i1
        elif kind == 1:
            v, gx, gy, gz = f2, mx * i2, my * i2, mz * i2
        else:
            v = f2 - f1
            gx, gy, gz = mx * i2 - nx * i1, my * i2 - ny * i1, mz * i2 - nz * i1
        value[p] += scale * v - amplitude
        gradient[0, p] += scale * frequency * gx
        gradient[1, p] += scale * frequency * gy
        gradient[2, p] += scale * frequency * gz


@inline
def sine(t):
    """The sine of t turns, within 2e-7: Taylor's series to the eleventh power on a quarter turn, without branches."""
    u = t - np.floor(t + HALF)
    x = TWO_PI * np.copysign(QUARTER - np.abs(np.abs(u) - QUARTER), u)
    q = x * x
    r = np.float32(-2.5052108e-8) * q + np.float32(2.7557319e-6)
    r = r * q - np.float32(1.9841270e-4)
    r = r * q + np.float32(8.3333333e-3)
    r = r * q - np.float32(1.6666667e-1)
    return x + x * q * r


@inline
def draw(h, number):
    """One of many numbers in [0, 1) that grow out of a hash."""
    return unit(mix(np.uint32(h ^ np.uint32(np.uint32(number + 1) * PX))))


@inline
def aimed(h, first, dx, dy, dz, phase):
    """Directions and phases (in turns) of six waves from `first` on: the axes of an icosahedron, turned at random
    (Shoemake, Uniform random rotations, 1992). No set of so few is more even: the squares of their parts along any line
    add up to 2."""
    a, b, c = draw(h, 0), TWO_PI * draw(h, 1), TWO_PI * draw(h, 2)
    r, s = np.sqrt(F1 - a), np.sqrt(a)
    qx, qy, qz, qw = r * np.sin(b), r * np.cos(b), s * np.sin(c), s * np.cos(c)
    for j in range(WAVES):
        x, y, z = AXES[j, 0], AXES[j, 1], AXES[j, 2]
        tx, ty, tz = F2 * (qy * z - qz * y), F2 * (qz * x - qx * z), F2 * (qx * y - qy * x)
        dx[first + j] = x + qw * tx + (qy * tz - qz * ty)
        dy[first + j] = y + qw * ty + (qz * tx - qx * tz)
        dz[first + j] = z + qw * tz + (qx * ty - qy * tx)
        phase[first + j] = draw(h, 3 + j)


@kernel
def add_waves(x, y, z, frequency, ox, oy, oz, w, seed, k, amplitude, value, gradient):
    """Six plane sine waves of one length in even directions, and as w goes on six others that take their place.

    Each stands still and only swells and fades, so that the pattern boils in place; the two sets are blended so that
    the mean square does not change. Of an amplitude of 1, the six alone reach 1/√2, two sets halfway 1.
    """
    dx, dy, dz = np.empty(2 * WAVES, np.float32), np.empty(2 * WAVES, np.float32), np.empty(2 * WAVES, np.float32)
    phase, size = np.empty(2 * WAVES, np.float32), np.empty(2 * WAVES, np.float32)
    layer = np.floor(w)
    t = np.float32(w - layer)
    s = t * t * t * (t * (t * np.float32(6.0) - np.float32(15.0)) + np.float32(10.0))
    whole = np.sqrt(F2 * (s * s + (F1 - s) * (F1 - s))) * np.float32(WAVES)
    own = mix(np.uint32(mix(np.uint32(np.uint32(seed) + PY)) ^ np.uint32(k)))
    for set in range(2):
        h = mix(np.uint32(own + np.uint32(np.uint32(np.int32(layer) + set) * PW)))
        aimed(h, set * WAVES, dx, dy, dz, phase)
        size[set * WAVES : (set + 1) * WAVES] = amplitude * (s if set else F1 - s) / whole
    count = WAVES if s == F0 else 2 * WAVES
    for j in range(count):
        a, b, c = dx[j], dy[j], dz[j]
        start = np.float32(ox * a + oy * b + oz * c + phase[j])
        high = size[j]
        slope = high * TWO_PI * frequency
        kx, ky, kz = a * frequency, b * frequency, c * frequency
        for p in range(x.size):
            t = x[p] * kx + y[p] * ky + z[p] * kz + start
            value[p] += high * sine(t)
            g = slope * sine(t + QUARTER)
            gradient[0, p] += g * a
            gradient[1, p] += g * b
            gradient[2, p] += g * c
