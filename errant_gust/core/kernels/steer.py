"""The potential near obstacles (see fields/steer.py), all terms of one point in registers."""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel

F0 = np.float32(0.0)
F1 = np.float32(1.0)
EIGHTH = np.float32(0.125)
HALF = np.float32(0.5)
TINY = np.float32(1e-6)


@kernel
def steer(psi, dpsi, d, g, h, push, dpush, reach, value, gradient):
    """ψ' = β(α ψ + (1 − α)(g (g·ψ) + push)) and its gradient.

    psi, g, push, value: (3, n); dpsi, dpush, gradient: (3, 3, n); h: (6, n) second derivatives of d.
    """
    inverse = F1 / reach
    hh = np.empty((3, 3), np.float32)
    for q in range(d.size):
        r = min(max(d[q] * inverse, F0), F1)
        r2 = r * r
        a = r * (np.float32(15) + r2 * (np.float32(-10) + np.float32(3) * r2)) * EIGHTH
        da = F0
        if d[q] >= F0 and r < F1:
            da = (np.float32(15) + r2 * (np.float32(-30) + np.float32(15) * r2)) * EIGHTH * inverse
        depth = min(max(-d[q] * inverse, F0), F1)
        fade = F1 - depth * depth * (np.float32(3) - np.float32(2) * depth)
        dfade = np.float32(6) * depth * (F1 - depth) * inverse
        rest = F1 - a
        hh[0, 0], hh[1, 1], hh[2, 2] = h[0, q], h[1, q], h[2, q]
        hh[0, 1] = hh[1, 0] = h[3, q]
        hh[0, 2] = hh[2, 0] = h[4, q]
        hh[1, 2] = hh[2, 1] = h[5, q]
        along = g[0, q] * psi[0, q] + g[1, q] * psi[1, q] + g[2, q] * psi[2, q]
        for i in range(3):
            value[i, q] = a * psi[i, q] + rest * (g[i, q] * along + push[i, q])
        for j in range(3):
            dalong = F0
            for k in range(3):
                dalong += hh[k, j] * psi[k, q] + g[k, q] * dpsi[k, j, q]
            daj = da * g[j, q]
            dfj = dfade * g[j, q]
            for i in range(3):
                t = a * dpsi[i, j, q] + (psi[i, q] - g[i, q] * along - push[i, q]) * daj
                t += rest * (hh[i, j] * along + g[i, q] * dalong + dpush[i, j, q])
                gradient[i, j, q] = fade * t + value[i, q] * dfj
        for i in range(3):
            value[i, q] *= fade


@inline
def ramp(s):
    """The ramp of Bridson, Houriham, Nordenstam 2007 at s in units of its length, and its slope."""
    r = min(max(s, F0), F1)
    r2 = r * r
    a = r * (np.float32(15) + r2 * (np.float32(-10) + np.float32(3) * r2)) * EIGHTH
    da = (np.float32(15) + r2 * (np.float32(-30) + np.float32(15) * r2)) * EIGHTH
    return a, da if F0 <= s < F1 else F0


@kernel
def steer_several(psi, dpsi, d, g, h, push, dpush, reach, value, gradient):
    """ψ' = F β (ψ + Σᵢ cᵢ (gᵢ (gᵢ·ψ) + pushᵢ − ψ)) around several bodies, and its gradient.

    cᵢ = (1 − αᵢ) Πⱼ (1 − (1 − αⱼ) dᵢ / (dᵢ + dⱼ)) is 1 on body i and 0 on every other, so that on each only the part
    along its normal is left, which pushes nothing through. Where two bodies come nearer to each other than half a reach
    F fades to 0, since the potential cannot be along two normals; β fades it inside.

    psi, value: (3, n); dpsi, gradient: (3, 3, n); of every body d (m, n), g (m, 3, n), h (m, 6, n), push (m, 3, n),
    dpush (m, 3, 3, n), reach (m,).
    """
    m = reach.size
    s, a, c, to = (
        np.empty(m, np.float32),
        np.empty((m, 2), np.float32),
        np.empty(m, np.float32),
        np.empty(3, np.float32),
    )
    dc, hh, slope = np.empty((m, 3), np.float32), np.empty((3, 3), np.float32), np.empty((3, 3), np.float32)
    df = np.empty(3, np.float32)
    for q in range(d.shape[1]):
        f = F1
        df[:] = F0
        for i in range(m):
            s[i] = max(d[i, q], F0)
            a[i, 0], da = ramp(d[i, q] / reach[i])
            a[i, 1] = da / reach[i]
            depth = min(max(-d[i, q] / reach[i], F0), F1)
            fade = F1 - depth * depth * (np.float32(3) - np.float32(2) * depth)
            dfade = np.float32(6) * depth * (F1 - depth) / reach[i]
            for k in range(3):
                df[k] = df[k] * fade + f * dfade * g[i, k, q]
            f *= fade
        for i in range(m):
            for j in range(i):
                length = HALF * min(reach[i], reach[j])
                b, db = ramp((s[i] + s[j]) / length)
                for k in range(3):
                    both = (g[i, k, q] if s[i] > F0 else F0) + (g[j, k, q] if s[j] > F0 else F0)
                    df[k] = df[k] * b + f * db / length * both
                f *= b
        for i in range(m):
            c[i] = F1 - a[i, 0]
            for k in range(3):
                dc[i, k] = -a[i, 1] * g[i, k, q]
            for j in range(m):
                whole = s[i] + s[j]
                if j == i or whole <= TINY:
                    continue
                part = s[i] / whole
                term = F1 - (F1 - a[j, 0]) * part
                for k in range(3):
                    gi, gj = g[i, k, q] if s[i] > F0 else F0, g[j, k, q] if s[j] > F0 else F0
                    dpart = (gi * s[j] - s[i] * gj) / (whole * whole)
                    dterm = a[j, 1] * g[j, k, q] * part - (F1 - a[j, 0]) * dpart
                    dc[i, k] = dc[i, k] * term + c[i] * dterm
                c[i] *= term
        for k in range(3):
            value[k, q] = psi[k, q]
            for j in range(3):
                slope[k, j] = dpsi[k, j, q]
        for i in range(m):
            hh[0, 0], hh[1, 1], hh[2, 2] = h[i, 0, q], h[i, 1, q], h[i, 2, q]
            hh[0, 1] = hh[1, 0] = h[i, 3, q]
            hh[0, 2] = hh[2, 0] = h[i, 4, q]
            hh[1, 2] = hh[2, 1] = h[i, 5, q]
            along = g[i, 0, q] * psi[0, q] + g[i, 1, q] * psi[1, q] + g[i, 2, q] * psi[2, q]
            for k in range(3):
                to[k] = g[i, k, q] * along + push[i, k, q] - psi[k, q]
                value[k, q] += c[i] * to[k]
            for j in range(3):
                dalong = F0
                for k in range(3):
                    dalong += hh[k, j] * psi[k, q] + g[i, k, q] * dpsi[k, j, q]
                for k in range(3):
                    dto = hh[k, j] * along + g[i, k, q] * dalong + dpush[i, k, j, q] - dpsi[k, j, q]
                    slope[k, j] += c[i] * dto + to[k] * dc[i, j]
        for k in range(3):
            for j in range(3):
                gradient[k, j, q] = f * slope[k, j] + value[k, q] * df[j]
        for k in range(3):
            value[k, q] *= f
