"""The potential near an obstacle (see fields/steer.py), all terms of one point in registers."""

import numpy as np

from errant_gust.core.kernels.compiler import kernel

F0 = np.float32(0.0)
F1 = np.float32(1.0)
EIGHTH = np.float32(0.125)


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
