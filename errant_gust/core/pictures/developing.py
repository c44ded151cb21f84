"""From light to picture: exposure, glare, the view's tone curve, and bytes as screens take them."""

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.pictures.setting import Setting


def _bent(p: Array) -> Array:
    u = 2 * np.maximum(p - np.float32(0.5), 0)
    return np.asarray(np.minimum(p, np.float32(0.5)) + np.float32(0.5) * u / (1 + u), np.float32)


def toned(light: Array, pale: float) -> Array:
    """Light (h, w, 3) as a film takes it: straight up to a half, then bent toward 1, which it never reaches; by the
    strongest of the three, which keeps the colour, and to a share of `pale` by each, which pales toward white."""
    peak = np.maximum(light.max(axis=2, keepdims=True), np.float32(1e-6))
    return np.asarray((1 - pale) * light * (_bent(peak) / peak) + pale * _bent(light), np.float32)


def glare(light: Array) -> Array:
    """What is brighter than the picture (exposed light (h, w, 3)), spread around: at a quarter of the size, 13 wide."""
    h, w, _ = light.shape
    small = _smaller(light, 4)
    peak = small.max(axis=2, keepdims=True)
    s = np.clip((peak - 0.8) / 1.2, 0, 1)
    held = small * np.minimum(1, 8 / np.maximum(peak, 1e-6)) * (s * s * (3 - 2 * s))  # by the strongest: hues stay
    weights = np.exp(-0.12 * np.arange(-6, 7) ** 2)
    weights /= weights.sum()
    for axis in (0, 1):
        pad = [(6, 6) if a == axis else (0, 0) for a in range(3)]
        wide = np.pad(held, pad, mode="edge")
        taken = [np.take(wide, range(n, n + held.shape[axis]), axis=axis) for n in range(len(weights))]
        held = np.asarray(np.tensordot(weights.astype(np.float32), np.stack(taken), 1), np.float32)
    return _larger(held, h, w)


def _smaller(light: Array, side: int) -> Array:
    h, w, _ = light.shape
    wide = np.pad(light, ((0, -h % side), (0, -w % side), (0, 0)), mode="edge")
    return np.asarray(wide.reshape(wide.shape[0] // side, side, -1, side, 3).mean(axis=(1, 3)), np.float32)


def _larger(small: Array, height: int, width: int) -> Array:
    """Four times as large, linearly."""
    out: Array = small
    for axis, size in ((0, height), (1, width)):
        at = np.clip((np.arange(size) + 0.5) / 4 - 0.5, 0, out.shape[axis] - 1)
        low = np.minimum(at.astype(int), max(out.shape[axis] - 2, 0))
        share = (at - low).reshape([-1 if a == axis else 1 for a in range(3)])
        high = np.minimum(low + 1, out.shape[axis] - 1)
        first, second = np.take(out, low, axis=axis), np.take(out, high, axis=axis)
        out = np.asarray((1 - share) * first + share * second, np.float32)
    return out


def developed(light: Array, setting: Setting) -> Array:
    """Light (h, w, 3) as a picture: uint8 of the same shape, sRGB, dithered by half a level so that skies have no
    steps."""
    exposed: Array = np.nan_to_num(light, nan=0.0, posinf=1e6, neginf=0.0) * np.float32(2**setting.exposure)
    if setting.bloom > 0:
        exposed = exposed + np.float32(setting.bloom) * glare(exposed)
    seen = np.clip(exposed, 0, 1) if setting.plain else np.clip(toned(exposed, setting.pale), 0, 1)
    srgb = np.where(seen <= 0.0031308, 12.92 * seen, 1.055 * np.maximum(seen, 1e-9) ** (1 / 2.4) - 0.055)
    y, x = np.mgrid[: light.shape[0], : light.shape[1]]
    noise = np.mod(52.9829189 * np.mod(0.06711056 * x + 0.00583715 * y, 1), 1)[..., None] - 0.5
    return np.clip(np.rint(255 * srgb + 0.9 * noise), 0, 255).astype(np.uint8)
