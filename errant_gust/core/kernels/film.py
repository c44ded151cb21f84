"""From light to what a screen shows: glare, contrast, the tone curve of the view, dark edges, bytes."""

import numpy as np

from errant_gust.core.kernels.clouds import at_
from errant_gust.core.kernels.compiler import inline, kernel
from errant_gust.core.kernels.lit import noise_at

F0, F1, HALF = np.float32(0.0), np.float32(1.0), np.float32(0.5)
GREY = np.float32(0.18)
"""What contrast leaves as it is."""
SIDE = np.float32(4.0)
"""Pixels a side of one of what glares."""


@inline
def bent(p):
    """Straight up to a half, then bent toward 1, which it never reaches."""
    u = np.float32(2.0) * max(p - HALF, F0)
    return min(p, HALF) + HALF * u / (F1 + u)


@inline
def as_screens(v):
    """Light of 0 … 1 as sRGB (IEC 61966-2-1)."""
    if v <= np.float32(0.0031308):
        return np.float32(12.92) * v
    return np.float32(1.055) * v ** np.float32(1 / 2.4) - np.float32(0.055)


@kernel
def averaged(samples, out, row0, row1):
    """Means of four samples (2 h, 2 w, 3) into rows row0 to row1 of `out` (h, w, 3)."""
    for j in range(row0, row1):
        for i in range(out.shape[1]):
            for c in range(3):
                out[j, i, c] = np.float32(0.25) * (
                    samples[2 * j, 2 * i, c]
                    + samples[2 * j, 2 * i + 1, c]
                    + samples[2 * j + 1, 2 * i, c]
                    + samples[2 * j + 1, 2 * i + 1, c]
                )


@kernel
def glaring(light, bright, out, row0, row1):
    """Of light (h, w, 3), what is brighter than a picture, at a quarter of the size: rows row0 to row1 of `out` (h / 4,
    w / 4, 3). `bright` (4): what light is times; where it begins, is all of it, and is held. By the strongest of the
    three, so that hues stay."""
    height, width, _ = light.shape
    for j in range(row0, row1):
        for i in range(out.shape[1]):
            r, g, b, n = F0, F0, F0, 0
            for y in range(4 * j, min(4 * j + 4, height)):
                for x in range(4 * i, min(4 * i + 4, width)):
                    r, g, b, n = r + light[y, x, 0], g + light[y, x, 1], b + light[y, x, 2], n + 1
            times = bright[0] / np.float32(n)
            peak = max(r, g, b) * times
            s = min(max((peak - bright[1]) / (bright[2] - bright[1]), F0), F1)
            times *= s * s * (np.float32(3.0) - np.float32(2.0) * s) * min(F1, bright[3] / max(peak, F1))
            out[j, i, 0], out[j, i, 1], out[j, i, 2] = times * r, times * g, times * b


@kernel
def spread(light, weights, down, across, out):
    """Light (h, w, 3) blurred along one axis, `down` or `across` being 1: by weights (n) around their middle one;
    borders go on outside."""
    height, width, _ = light.shape
    half = len(weights) // 2
    for j in range(height):
        for i in range(width):
            r, g, b = F0, F0, F0
            for n in range(len(weights)):
                y = min(max(j + (n - half) * down, 0), height - 1)
                x = min(max(i + (n - half) * across, 0), width - 1)
                r, g, b = (
                    r + weights[n] * light[y, x, 0],
                    g + weights[n] * light[y, x, 1],
                    b + weights[n] * light[y, x, 2],
                )
            out[j, i, 0], out[j, i, 1], out[j, i, 2] = r, g, b


@kernel
def developed(light, glare, dials, out, row0, row1):
    """Bytes (h, w, 3) of light (h, w, 3), finite and nowhere below zero, into rows row0 to row1 of `out`. `glare`
    (h / 4, w / 4, 3) is added; `dials` (5): what light is times; how much of the tone curve is of each colour by itself
    (the rest is by the strongest, which keeps the hue), below zero for no curve; the power of contrast; how much the
    corners lose; how much glares."""
    height, width, _ = light.shape
    gain, pale, power, edges, much = dials[0], dials[1], dials[2], dials[3], dials[4]
    over = np.float32(4.0) / np.float32(height * height + width * width)
    for j in range(row0, row1):
        a, down = at_((np.float32(j) + HALF) / SIDE - HALF, glare.shape[0])
        a1 = min(a + 1, glare.shape[0] - 1)
        y = np.float32(j) + HALF - HALF * np.float32(height)
        for i in range(width):
            b, across = at_((np.float32(i) + HALF) / SIDE - HALF, glare.shape[1])
            b1 = min(b + 1, glare.shape[1] - 1)
            x = np.float32(i) + HALF - HALF * np.float32(width)
            fall = F1 + edges * (x * x + y * y) * over
            times = gain / (fall * fall)
            r, g, b_ = times * light[j, i, 0], times * light[j, i, 1], times * light[j, i, 2]
            if much > F0:
                w0, w1 = (F1 - down) * (F1 - across), (F1 - down) * across
                w2, w3 = down * (F1 - across), down * across
                p, q, s, t = glare[a, b], glare[a, b1], glare[a1, b], glare[a1, b1]
                r += much * (w0 * p[0] + w1 * q[0] + w2 * s[0] + w3 * t[0])
                g += much * (w0 * p[1] + w1 * q[1] + w2 * s[1] + w3 * t[1])
                b_ += much * (w0 * p[2] + w1 * q[2] + w2 * s[2] + w3 * t[2])
            peak = max(r, g, b_, np.float32(1e-6))
            if power != F1:
                c = (peak / GREY) ** (power - F1)
                r, g, b_, peak = r * c, g * c, b_ * c, peak * c
            if pale >= F0:
                c = (F1 - pale) * bent(peak) / peak
                r, g, b_ = c * r + pale * bent(r), c * g + pale * bent(g), c * b_ + pale * bent(b_)
            # half a level of noise, so that skies have no steps
            noise = np.float32(0.9) * (noise_at(i, j) - HALF) + HALF
            for k in range(3):
                v = r if k == 0 else (g if k == 1 else b_)
                v = as_screens(min(max(v, F0), F1))
                out[j, i, k] = np.uint8(min(max(np.float32(255.0) * v + noise, F0), np.float32(255.0)))
