"""Gradient noise in three dimensions plus time (Perlin, Improving Noise, 2002), with exact derivatives up to second.

Lattice gradients come from an integer hash computed in registers (no permutation table), so the loops over points
vectorise. The fourth dimension is the same for every point of a block (it is time), so the two time layers of a lattice
corner are blended into one effective gradient before the spatial interpolation: 4D costs about 1.6 times 3D.

Every kernel adds `amplitude * noise(frequency * p + offset, w)` to its outputs; the caller loops over octaves.
`stream` selects decorrelated noises that share one lattice hash.
"""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel

F1 = np.float32(1.0)
F2 = np.float32(2.0)
F6 = np.float32(6.0)
F10 = np.float32(10.0)
F15 = np.float32(15.0)
F30 = np.float32(30.0)
F60 = np.float32(60.0)
F120 = np.float32(120.0)
F180 = np.float32(180.0)
BYTE = np.float32(2.0 / 255.0)

PX = np.uint32(0x9E3779B1)
PY = np.uint32(0x85EBCA77)
PZ = np.uint32(0xC2B2AE3D)
PW = np.uint32(0x27D4EB2F)
M1 = np.uint32(0x7FEB352D)
M2 = np.uint32(0x846CA68B)
S0 = np.uint32(0)
S8 = np.uint32(8)
S15 = np.uint32(15)
S16 = np.uint32(16)
S24 = np.uint32(24)
ONE = np.uint32(1)
LOW = np.uint32(255)
STREAMS = np.array([0x00000001, 0x2C1B3C6D, 0x297A2D39], dtype=np.uint32)
K1 = np.uint32(0x2C1B3C6D)
K2 = np.uint32(0x297A2D39)


@inline
def mix(h):
    """32-bit finaliser with low bias (two multiplications, three shifts)."""
    h = np.uint32(h ^ (h >> S16))
    h = np.uint32(h * M1)
    h = np.uint32(h ^ (h >> S15))
    h = np.uint32(h * M2)
    return np.uint32(h ^ (h >> S16))


@inline
def byte(h, shift):
    """Eight bits of a hash as a number from 0 to 255."""
    return np.float32(np.int32((h >> shift) & LOW))


@inline
def branch(h, k):
    """One of the decorrelated hashes that grow out of `h`."""
    h = np.uint32(h * k)
    return np.uint32(h ^ (h >> S15))


@inline
def corner(h0, h1, k, r0, r1, e0, e1, em):
    """Effective spatial gradient and constant of a lattice corner after blending its two time layers.

    A hash gives four bytes, each a component in [-1, 1]: byte * 2/255 - 1. The factor 2/255 is already in r and e,
    the constant is folded into one subtraction (the two blending weights sum to one).
    """
    a = branch(h0, k)
    b = branch(h1, k)
    gx = r0 * byte(a, S0) + (r1 * byte(b, S0) - F1)
    gy = r0 * byte(a, S8) + (r1 * byte(b, S8) - F1)
    gz = r0 * byte(a, S16) + (r1 * byte(b, S16) - F1)
    gc = e0 * byte(a, S24) + (e1 * byte(b, S24) - em)
    return gx, gy, gz, gc


@inline
def fade(t):
    """Quintic step (Perlin 2002)."""
    return t * t * t * (t * (t * F6 - F15) + F10)


@inline
def fade1(t):
    """Its first derivative."""
    return F30 * t * t * (t * (t - F2) + F1)


@inline
def fade2(t):
    """Its second derivative."""
    return t * (t * (t * F120 - F180) + F60)


@inline
def curl_corner(h0, h1, wx, wy, wz, ux, uy, uz, dx, dy, dz, r0, r1, e0, e1, em):
    """The nine products a corner adds to the curl of three potentials (six are needed)."""
    w = wx * wy * wz
    wdx = ux * wy * wz
    wdy = wx * uy * wz
    wdz = wx * wy * uz
    ax, ay, az, ac = corner(h0, h1, ONE, r0, r1, e0, e1, em)
    bx, by, bz, bc = corner(h0, h1, K1, r0, r1, e0, e1, em)
    cx, cy, cz, cc = corner(h0, h1, K2, r0, r1, e0, e1, em)
    a = ax * dx + ay * dy + az * dz + ac
    b = bx * dx + by * dy + bz * dz + bc
    c = cx * dx + cy * dy + cz * dz + cc
    vx = (wdy * c + w * cy) - (wdz * b + w * bz)
    vy = (wdz * a + w * az) - (wdx * c + w * cx)
    vz = (wdx * b + w * bx) - (wdy * a + w * ay)
    return vx, vy, vz


@kernel
def add_curl(x, y, z, frequency, ox, oy, oz, w, seed, amplitude, out):
    """Add the curl of three gradient-noise potentials.

    x, y, z: (n,) float32 points; out: (3, n) float32. `amplitude` multiplies the curl taken with respect to lattice
    coordinates, so the caller passes potential amplitude times frequency.
    """
    fw = np.float32(np.floor(w))
    tw = np.float32(w) - fw
    iw = np.uint32(np.int32(fw))
    s = fade(tw)
    em = (F1 - s) * tw + s * (tw - F1)
    r0 = (F1 - s) * BYTE
    r1 = s * BYTE
    e0 = r0 * tw
    e1 = r1 * (tw - F1)
    g0 = np.uint32(np.uint32(iw * PW) ^ np.uint32(seed))
    g1 = np.uint32(np.uint32((iw + ONE) * PW) ^ np.uint32(seed))
    for i in range(x.size):
        px = x[i] * frequency + ox
        py = y[i] * frequency + oy
        pz = z[i] * frequency + oz
        fx = np.floor(px)
        fy = np.floor(py)
        fz = np.floor(pz)
        dx = px - fx
        dy = py - fy
        dz = pz - fz
        x0 = np.uint32(np.uint32(np.int32(fx)) * PX)
        y0 = np.uint32(np.uint32(np.int32(fy)) * PY)
        z0 = np.uint32(np.uint32(np.int32(fz)) * PZ)
        x1 = np.uint32(x0 + PX)
        y1 = np.uint32(y0 + PY)
        z1 = np.uint32(z0 + PZ)
        wx1 = fade(dx)
        wy1 = fade(dy)
        wz1 = fade(dz)
        wx0 = F1 - wx1
        wy0 = F1 - wy1
        wz0 = F1 - wz1
        ux1 = fade1(dx)
        uy1 = fade1(dy)
        uz1 = fade1(dz)
        ex = dx - F1
        ey = dy - F1
        ez = dz - F1
        h = np.uint32(x0 ^ y0 ^ z0)
        a0, b0, c0 = curl_corner(
            mix(h ^ g0), mix(h ^ g1), wx0, wy0, wz0, -ux1, -uy1, -uz1, dx, dy, dz, r0, r1, e0, e1, em
        )
        h = np.uint32(x1 ^ y0 ^ z0)
        a1, b1, c1 = curl_corner(
            mix(h ^ g0), mix(h ^ g1), wx1, wy0, wz0, ux1, -uy1, -uz1, ex, dy, dz, r0, r1, e0, e1, em
        )
        h = np.uint32(x0 ^ y1 ^ z0)
        a2, b2, c2 = curl_corner(
            mix(h ^ g0), mix(h ^ g1), wx0, wy1, wz0, -ux1, uy1, -uz1, dx, ey, dz, r0, r1, e0, e1, em
        )
        h = np.uint32(x1 ^ y1 ^ z0)
        a3, b3, c3 = curl_corner(
            mix(h ^ g0), mix(h ^ g1), wx1, wy1, wz0, ux1, uy1, -uz1, ex, ey, dz, r0, r1, e0, e1, em
        )
        h = np.uint32(x0 ^ y0 ^ z1)
        a4, b4, c4 = curl_corner(
            mix(h ^ g0), mix(h ^ g1), wx0, wy0, wz1, -ux1, -uy1, uz1, dx, dy, ez, r0, r1, e0, e1, em
        )
        h = np.uint32(x1 ^ y0 ^ z1)
        a5, b5, c5 = curl_corner(
            mix(h ^ g0), mix(h ^ g1), wx1, wy0, wz1, ux1, -uy1, uz1, ex, dy, ez, r0, r1, e0, e1, em
        )
        h = np.uint32(x0 ^ y1 ^ z1)
        a6, b6, c6 = curl_corner(
            mix(h ^ g0), mix(h ^ g1), wx0, wy1, wz1, -ux1, uy1, uz1, dx, ey, ez, r0, r1, e0, e1, em
        )
        h = np.uint32(x1 ^ y1 ^ z1)
        a7, b7, c7 = curl_corner(mix(h ^ g0), mix(h ^ g1), wx1, wy1, wz1, ux1, uy1, uz1, ex, ey, ez, r0, r1, e0, e1, em)
        out[0, i] += amplitude * (((a0 + a1) + (a2 + a3)) + ((a4 + a5) + (a6 + a7)))
        out[1, i] += amplitude * (((b0 + b1) + (b2 + b3)) + ((b4 + b5) + (b6 + b7)))
        out[2, i] += amplitude * (((c0 + c1) + (c2 + c3)) + ((c4 + c5) + (c6 + c7)))


@inline
def still_gradient(h, k):
    """A corner's gradient that does not change with time, each part from −1 to 1."""
    a = branch(h, k)
    return byte(a, S0) * BYTE - F1, byte(a, S8) * BYTE - F1, byte(a, S16) * BYTE - F1


@inline
def still_curl_corner(h, wx, wy, wz, ux, uy, uz, dx, dy, dz):
    """As `curl_corner` on a whole cell of time, where only one layer counts."""
    w = wx * wy * wz
    wdx = ux * wy * wz
    wdy = wx * uy * wz
    wdz = wx * wy * uz
    ax, ay, az = still_gradient(h, ONE)
    bx, by, bz = still_gradient(h, K1)
    cx, cy, cz = still_gradient(h, K2)
    a = ax * dx + ay * dy + az * dz
    b = bx * dx + by * dy + bz * dz
    c = cx * dx + cy * dy + cz * dz
    vx = (wdy * c + w * cy) - (wdz * b + w * bz)
    vy = (wdz * a + w * az) - (wdx * c + w * cx)
    vz = (wdx * b + w * bx) - (wdy * a + w * ay)
    return vx, vy, vz


@kernel
def add_still_curl(x, y, z, frequency, ox, oy, oz, w, seed, amplitude, out):
    """As `add_curl` where w is a whole number (noise that does not evolve): about half the work."""
    fw = np.float32(np.floor(w))
    iw = np.uint32(np.int32(fw))
    g0 = np.uint32(np.uint32(iw * PW) ^ np.uint32(seed))
    for i in range(x.size):
        px = x[i] * frequency + ox
        py = y[i] * frequency + oy
        pz = z[i] * frequency + oz
        fx = np.floor(px)
        fy = np.floor(py)
        fz = np.floor(pz)
        dx = px - fx
        dy = py - fy
        dz = pz - fz
        x0 = np.uint32(np.uint32(np.int32(fx)) * PX)
        y0 = np.uint32(np.uint32(np.int32(fy)) * PY)
        z0 = np.uint32(np.uint32(np.int32(fz)) * PZ)
        x1 = np.uint32(x0 + PX)
        y1 = np.uint32(y0 + PY)
        z1 = np.uint32(z0 + PZ)
        wx1 = fade(dx)
        wy1 = fade(dy)
        wz1 = fade(dz)
        wx0 = F1 - wx1
        wy0 = F1 - wy1
        wz0 = F1 - wz1
        ux1 = fade1(dx)
        uy1 = fade1(dy)
        uz1 = fade1(dz)
        ex = dx - F1
        ey = dy - F1
        ez = dz - F1
        h = np.uint32(x0 ^ y0 ^ z0)
        a0, b0, c0 = still_curl_corner(mix(h ^ g0), wx0, wy0, wz0, -ux1, -uy1, -uz1, dx, dy, dz)
        h = np.uint32(x1 ^ y0 ^ z0)
        a1, b1, c1 = still_curl_corner(mix(h ^ g0), wx1, wy0, wz0, ux1, -uy1, -uz1, ex, dy, dz)
        h = np.uint32(x0 ^ y1 ^ z0)
        a2, b2, c2 = still_curl_corner(mix(h ^ g0), wx0, wy1, wz0, -ux1, uy1, -uz1, dx, ey, dz)
        h = np.uint32(x1 ^ y1 ^ z0)
        a3, b3, c3 = still_curl_corner(mix(h ^ g0), wx1, wy1, wz0, ux1, uy1, -uz1, ex, ey, dz)
        h = np.uint32(x0 ^ y0 ^ z1)
        a4, b4, c4 = still_curl_corner(mix(h ^ g0), wx0, wy0, wz1, -ux1, -uy1, uz1, dx, dy, ez)
        h = np.uint32(x1 ^ y0 ^ z1)
        a5, b5, c5 = still_curl_corner(mix(h ^ g0), wx1, wy0, wz1, ux1, -uy1, uz1, ex, dy, ez)
        h = np.uint32(x0 ^ y1 ^ z1)
        a6, b6, c6 = still_curl_corner(mix(h ^ g0), wx0, wy1, wz1, -ux1, uy1, uz1, dx, ey, ez)
        h = np.uint32(x1 ^ y1 ^ z1)
        a7, b7, c7 = still_curl_corner(mix(h ^ g0), wx1, wy1, wz1, ux1, uy1, uz1, ex, ey, ez)
        out[0, i] += amplitude * (((a0 + a1) + (a2 + a3)) + ((a4 + a5) + (a6 + a7)))
        out[1, i] += amplitude * (((b0 + b1) + (b2 + b3)) + ((b4 + b5) + (b6 + b7)))
        out[2, i] += amplitude * (((c0 + c1) + (c2 + c3)) + ((c4 + c5) + (c6 + c7)))


@inline
def scalar_corner(h0, h1, k, wx, wy, wz, ux, uy, uz, dx, dy, dz, r0, r1, e0, e1, em):
    """What a corner adds to the noise and to its gradient."""
    gx, gy, gz, gc = corner(h0, h1, k, r0, r1, e0, e1, em)
    d = gx * dx + gy * dy + gz * dz + gc
    w = wx * wy * wz
    return w * d, ux * wy * wz * d + w * gx, wx * uy * wz * d + w * gy, wx * wy * uz * d + w * gz


@kernel
def add_scalar(x, y, z, frequency, ox, oy, oz, w, seed, k, amplitude, value, gradient):
    """Add gradient noise and its gradient in space.

    value: (n,) float32; gradient: (3, n) float32, per metre; k: one of STREAMS.
    """
    fw = np.float32(np.floor(w))
    tw = np.float32(w) - fw
    iw = np.uint32(np.int32(fw))
    s = fade(tw)
    em = (F1 - s) * tw + s * (tw - F1)
    r0 = (F1 - s) * BYTE
    r1 = s * BYTE
    e0 = r0 * tw
    e1 = r1 * (tw - F1)
    g0 = np.uint32(np.uint32(iw * PW) ^ np.uint32(seed))
    g1 = np.uint32(np.uint32((iw + ONE) * PW) ^ np.uint32(seed))
    for i in range(x.size):
        px = x[i] * frequency + ox
        py = y[i] * frequency + oy
        pz = z[i] * frequency + oz
        fx = np.floor(px)
        fy = np.floor(py)
        fz = np.floor(pz)
        dx = px - fx
        dy = py - fy
        dz = pz - fz
        x0 = np.uint32(np.uint32(np.int32(fx)) * PX)
        y0 = np.uint32(np.uint32(np.int32(fy)) * PY)
        z0 = np.uint32(np.uint32(np.int32(fz)) * PZ)
        x1 = np.uint32(x0 + PX)
        y1 = np.uint32(y0 + PY)
        z1 = np.uint32(z0 + PZ)
        wx1 = fade(dx)
        wy1 = fade(dy)
        wz1 = fade(dz)
        wx0 = F1 - wx1
        wy0 = F1 - wy1
        wz0 = F1 - wz1
        ux1 = fade1(dx)
        uy1 = fade1(dy)
        uz1 = fade1(dz)
        ex = dx - F1
        ey = dy - F1
        ez = dz - F1
        h = np.uint32(x0 ^ y0 ^ z0)
        v0, a0, b0, c0 = scalar_corner(
            mix(h ^ g0), mix(h ^ g1), k, wx0, wy0, wz0, -ux1, -uy1, -uz1, dx, dy, dz, r0, r1, e0, e1, em
        )
        h = np.uint32(x1 ^ y0 ^ z0)
        v1, a1, b1, c1 = scalar_corner(
            mix(h ^ g0), mix(h ^ g1), k, wx1, wy0, wz0, ux1, -uy1, -uz1, ex, dy, dz, r0, r1, e0, e1, em
        )
        h = np.uint32(x0 ^ y1 ^ z0)
        v2, a2, b2, c2 = scalar_corner(
            mix(h ^ g0), mix(h ^ g1), k, wx0, wy1, wz0, -ux1, uy1, -uz1, dx, ey, dz, r0, r1, e0, e1, em
        )
        h = np.uint32(x1 ^ y1 ^ z0)
        v3, a3, b3, c3 = scalar_corner(
            mix(h ^ g0), mix(h ^ g1), k, wx1, wy1, wz0, ux1, uy1, -uz1, ex, ey, dz, r0, r1, e0, e1, em
        )
        h = np.uint32(x0 ^ y0 ^ z1)
        v4, a4, b4, c4 = scalar_corner(
            mix(h ^ g0), mix(h ^ g1), k, wx0, wy0, wz1, -ux1, -uy1, uz1, dx, dy, ez, r0, r1, e0, e1, em
        )
        h = np.uint32(x1 ^ y0 ^ z1)
        v5, a5, b5, c5 = scalar_corner(
            mix(h ^ g0), mix(h ^ g1), k, wx1, wy0, wz1, ux1, -uy1, uz1, ex, dy, ez, r0, r1, e0, e1, em
        )
        h = np.uint32(x0 ^ y1 ^ z1)
        v6, a6, b6, c6 = scalar_corner(
            mix(h ^ g0), mix(h ^ g1), k, wx0, wy1, wz1, -ux1, uy1, uz1, dx, ey, ez, r0, r1, e0, e1, em
        )
        h = np.uint32(x1 ^ y1 ^ z1)
        v7, a7, b7, c7 = scalar_corner(
            mix(h ^ g0), mix(h ^ g1), k, wx1, wy1, wz1, ux1, uy1, uz1, ex, ey, ez, r0, r1, e0, e1, em
        )
        slope = amplitude * frequency
        value[i] += amplitude * (((v0 + v1) + (v2 + v3)) + ((v4 + v5) + (v6 + v7)))
        gradient[0, i] += slope * (((a0 + a1) + (a2 + a3)) + ((a4 + a5) + (a6 + a7)))
        gradient[1, i] += slope * (((b0 + b1) + (b2 + b3)) + ((b4 + b5) + (b6 + b7)))
        gradient[2, i] += slope * (((c0 + c1) + (c2 + c3)) + ((c4 + c5) + (c6 + c7)))


@inline
def hessian_corner(h0, h1, k, wx, wy, wz, ux, uy, uz, sx, sy, sz, dx, dy, dz, r0, r1, e0, e1, em):
    """What a corner adds to the gradient and to the six second derivatives."""
    gx, gy, gz, gc = corner(h0, h1, k, r0, r1, e0, e1, em)
    d = gx * dx + gy * dy + gz * dz + gc
    w = wx * wy * wz
    wdx = ux * wy * wz
    wdy = wx * uy * wz
    wdz = wx * wy * uz
    xx = sx * wy * wz * d + F2 * wdx * gx
    yy = wx * sy * wz * d + F2 * wdy * gy
    zz = wx * wy * sz * d + F2 * wdz * gz
    xy = ux * uy * wz * d + wdx * gy + wdy * gx
    xz = ux * wy * uz * d + wdx * gz + wdz * gx
    yz = wx * uy * uz * d + wdy * gz + wdz * gy
    return w * d, wdx * d + w * gx, wdy * d + w * gy, wdz * d + w * gz, xx, yy, zz, xy, xz, yz


@kernel
def add_hessian(x, y, z, frequency, ox, oy, oz, w, seed, k, amplitude, out):
    """Add gradient noise, its gradient and its second derivatives.

    out: (10, n) float32 rows: value; gradient x, y, z; second derivatives xx, yy, zz, xy, xz, yz.
    """
    fw = np.float32(np.floor(w))
    tw = np.float32(w) - fw
    iw = np.uint32(np.int32(fw))
    s = fade(tw)
    em = (F1 - s) * tw + s * (tw - F1)
    r0 = (F1 - s) * BYTE
    r1 = s * BYTE
    e0 = r0 * tw
    e1 = r1 * (tw - F1)
    g0 = np.uint32(np.uint32(iw * PW) ^ np.uint32(seed))
    g1 = np.uint32(np.uint32((iw + ONE) * PW) ^ np.uint32(seed))
    for i in range(x.size):
        px = x[i] * frequency + ox
        py = y[i] * frequency + oy
        pz = z[i] * frequency + oz
        fx = np.floor(px)
        fy = np.floor(py)
        fz = np.floor(pz)
        dx = px - fx
        dy = py - fy
        dz = pz - fz
        x0 = np.uint32(np.uint32(np.int32(fx)) * PX)
        y0 = np.uint32(np.uint32(np.int32(fy)) * PY)
        z0 = np.uint32(np.uint32(np.int32(fz)) * PZ)
        x1 = np.uint32(x0 + PX)
        y1 = np.uint32(y0 + PY)
        z1 = np.uint32(z0 + PZ)
        wx1 = fade(dx)
        wy1 = fade(dy)
        wz1 = fade(dz)
        wx0 = F1 - wx1
        wy0 = F1 - wy1
        wz0 = F1 - wz1
        ux1 = fade1(dx)
        uy1 = fade1(dy)
        uz1 = fade1(dz)
        sx1 = fade2(dx)
        sy1 = fade2(dy)
        sz1 = fade2(dz)
        ex = dx - F1
        ey = dy - F1
        ez = dz - F1
        h = np.uint32(x0 ^ y0 ^ z0)
        v0, a0, b0, c0, d0, o0, q0, j0, l0, m0 = hessian_corner(
            mix(h ^ g0),
            mix(h ^ g1),
            k,
            wx0,
            wy0,
            wz0,
            -ux1,
            -uy1,
            -uz1,
            -sx1,
            -sy1,
            -sz1,
            dx,
            dy,
            dz,
            r0,
            r1,
            e0,
            e1,
            em,
        )
        h = np.uint32(x1 ^ y0 ^ z0)
        v1, a1, b1, c1, d1, o1, q1, j1, l1, m1 = hessian_corner(
            mix(h ^ g0), mix(h ^ g1), k, wx1, wy0, wz0, ux1, -uy1, -uz1, sx1, -sy1, -sz1, ex, dy, dz, r0, r1, e0, e1, em
        )
        h = np.uint32(x0 ^ y1 ^ z0)
        v2, a2, b2, c2, d2, o2, q2, j2, l2, m2 = hessian_corner(
            mix(h ^ g0), mix(h ^ g1), k, wx0, wy1, wz0, -ux1, uy1, -uz1, -sx1, sy1, -sz1, dx, ey, dz, r0, r1, e0, e1, em
        )
        h = np.uint32(x1 ^ y1 ^ z0)
        v3, a3, b3, c3, d3, o3, q3, j3, l3, m3 = hessian_corner(
            mix(h ^ g0), mix(h ^ g1), k, wx1, wy1, wz0, ux1, uy1, -uz1, sx1, sy1, -sz1, ex, ey, dz, r0, r1, e0, e1, em
        )
        h = np.uint32(x0 ^ y0 ^ z1)
        v4, a4, b4, c4, d4, o4, q4, j4, l4, m4 = hessian_corner(
            mix(h ^ g0), mix(h ^ g1), k, wx0, wy0, wz1, -ux1, -uy1, uz1, -sx1, -sy1, sz1, dx, dy, ez, r0, r1, e0, e1, em
        )
        h = np.uint32(x1 ^ y0 ^ z1)
        v5, a5, b5, c5, d5, o5, q5, j5, l5, m5 = hessian_corner(
            mix(h ^ g0), mix(h ^ g1), k, wx1, wy0, wz1, ux1, -uy1, uz1, sx1, -sy1, sz1, ex, dy, ez, r0, r1, e0, e1, em
        )
        h = np.uint32(x0 ^ y1 ^ z1)
        v6, a6, b6, c6, d6, o6, q6, j6, l6, m6 = hessian_corner(
            mix(h ^ g0), mix(h ^ g1), k, wx0, wy1, wz1, -ux1, uy1, uz1, -sx1, sy1, sz1, dx, ey, ez, r0, r1, e0, e1, em
        )
        h = np.uint32(x1 ^ y1 ^ z1)
        v7, a7, b7, c7, d7, o7, q7, j7, l7, m7 = hessian_corner(
            mix(h ^ g0), mix(h ^ g1), k, wx1, wy1, wz1, ux1, uy1, uz1, sx1, sy1, sz1, ex, ey, ez, r0, r1, e0, e1, em
        )
        slope = amplitude * frequency
        bend = slope * frequency
        out[0, i] += amplitude * (((v0 + v1) + (v2 + v3)) + ((v4 + v5) + (v6 + v7)))
        out[1, i] += slope * (((a0 + a1) + (a2 + a3)) + ((a4 + a5) + (a6 + a7)))
        out[2, i] += slope * (((b0 + b1) + (b2 + b3)) + ((b4 + b5) + (b6 + b7)))
        out[3, i] += slope * (((c0 + c1) + (c2 + c3)) + ((c4 + c5) + (c6 + c7)))
        out[4, i] += bend * (((d0 + d1) + (d2 + d3)) + ((d4 + d5) + (d6 + d7)))
        out[5, i] += bend * (((o0 + o1) + (o2 + o3)) + ((o4 + o5) + (o6 + o7)))
        out[6, i] += bend * (((q0 + q1) + (q2 + q3)) + ((q4 + q5) + (q6 + q7)))
        out[7, i] += bend * (((j0 + j1) + (j2 + j3)) + ((j4 + j5) + (j6 + j7)))
        out[8, i] += bend * (((l0 + l1) + (l2 + l3)) + ((l4 + l5) + (l6 + l7)))
        out[9, i] += bend * (((m0 + m1) + (m2 + m3)) + ((m4 + m5) + (m6 + m7)))
