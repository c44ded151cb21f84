"""Gradient noise without its gradient, where only the value is wanted (see `kernels/noise.py`)."""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel
from errant_gust.core.kernels.noise import BYTE, F1, ONE, PW, PX, PY, PZ, corner, fade, mix


@inline
def value_corner(h0, h1, k, weight, dx, dy, dz, r0, r1, e0, e1, em):
    """What a corner adds to the noise."""
    gx, gy, gz, gc = corner(h0, h1, k, r0, r1, e0, e1, em)
    return weight * (gx * dx + gy * dy + gz * dz + gc)


@kernel
def add_value(x, y, z, frequency, ox, oy, oz, w, seed, k, amplitude, value):
    """Add gradient noise, for half of what `add_scalar` costs; value: (n,) float32."""
    fw = np.float32(np.floor(w))
    tw = np.float32(w) - fw
    iw = np.uint32(np.int32(fw))
    s = fade(tw)
    em = (F1 - s) * tw + s * (tw - F1)
    r0, r1 = (F1 - s) * BYTE, s * BYTE
    e0, e1 = r0 * tw, r1 * (tw - F1)
    g0 = np.uint32(np.uint32(iw * PW) ^ np.uint32(seed))
    g1 = np.uint32(np.uint32((iw + ONE) * PW) ^ np.uint32(seed))
    for i in range(x.size):
        px, py, pz = x[i] * frequency + ox, y[i] * frequency + oy, z[i] * frequency + oz
        fx, fy, fz = np.floor(px), np.floor(py), np.floor(pz)
        dx, dy, dz = px - fx, py - fy, pz - fz
        x0 = np.uint32(np.uint32(np.int32(fx)) * PX)
        y0 = np.uint32(np.uint32(np.int32(fy)) * PY)
        z0 = np.uint32(np.uint32(np.int32(fz)) * PZ)
        x1, y1, z1 = np.uint32(x0 + PX), np.uint32(y0 + PY), np.uint32(z0 + PZ)
        wx, wy, wz = fade(dx), fade(dy), fade(dz)
        vx, vy, vz = F1 - wx, F1 - wy, F1 - wz
        ex, ey, ez = dx - F1, dy - F1, dz - F1
        h = np.uint32(x0 ^ y0 ^ z0)
        total = value_corner(mix(h ^ g0), mix(h ^ g1), k, vx * vy * vz, dx, dy, dz, r0, r1, e0, e1, em)
        h = np.uint32(x1 ^ y0 ^ z0)
        total += value_corner(mix(h ^ g0), mix(h ^ g1), k, wx * vy * vz, ex, dy, dz, r0, r1, e0, e1, em)
        h = np.uint32(x0 ^ y1 ^ z0)
        total += value_corner(mix(h ^ g0), mix(h ^ g1), k, vx * wy * vz, dx, ey, dz, r0, r1, e0, e1, em)
        h = np.uint32(x1 ^ y1 ^ z0)
        total += value_corner(mix(h ^ g0), mix(h ^ g1), k, wx * wy * vz, ex, ey, dz, r0, r1, e0, e1, em)
        h = np.uint32(x0 ^ y0 ^ z1)
        total += value_corner(mix(h ^ g0), mix(h ^ g1), k, vx * vy * wz, dx, dy, ez, r0, r1, e0, e1, em)
        h = np.uint32(x1 ^ y0 ^ z1)
        total += value_corner(mix(h ^ g0), mix(h ^ g1), k, wx * vy * wz, ex, dy, ez, r0, r1, e0, e1, em)
        h = np.uint32(x0 ^ y1 ^ z1)
        total += value_corner(mix(h ^ g0), mix(h ^ g1), k, vx * wy * wz, dx, ey, ez, r0, r1, e0, e1, em)
        h = np.uint32(x1 ^ y1 ^ z1)
        total += value_corner(mix(h ^ g0), mix(h ^ g1), k, wx * wy * wz, ex, ey, ez, r0, r1, e0, e1, em)
        value[i] += amplitude * total
