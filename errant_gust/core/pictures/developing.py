"""From light to picture: exposure, glare, the view's tone curve, and bytes as screens take them."""

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.grids.slabs import on_all
from errant_gust.core.kernels import film
from errant_gust.core.pictures.setting import Setting

REACH, FALL = 6, 0.12
"""How far glare reaches, in pixels of its own, and how quickly it falls: exp(−fall n²)."""
LEAST, FULL, MOST = 0.8, 2.0, 8.0
"""Light that begins to glare, that glares fully, and that glares no more than that."""


def glare(light: Array, gain: float = 1.0) -> Array:
    """What of light (h, w, 3) times `gain` is brighter than the picture, spread around: at a quarter of the size
    (h / 4, w / 4, 3), 13 wide."""
    height, width = (-(-n // 4) for n in light.shape[:2])
    held, aside = np.empty((height, width, 3), np.float32), np.empty((height, width, 3), np.float32)
    bright = np.array([gain, LEAST, FULL, MOST], np.float32)
    on_all(height, lambda a, b: film.glaring(light, bright, held, a, b))
    weights = np.exp(-FALL * np.arange(-REACH, REACH + 1) ** 2)
    shares = (weights / weights.sum()).astype(np.float32)
    film.spread(held, shares, 1, 0, aside)
    film.spread(aside, shares, 0, 1, held)
    return held


def developed(light: Array, setting: Setting) -> Array:
    """Light (h, w, 3) as a picture: uint8 of the same shape, sRGB, dithered by half a level so that skies have no
    steps. Light is straight up to a half, then bent toward 1, which it never reaches; by the strongest of the three,
    which keeps the colour, and to a share of `setting.pale` by each, which pales toward white."""
    gain = np.float32(2**setting.exposure)
    whole = np.ascontiguousarray(np.nan_to_num(light, nan=0.0, posinf=1e6, neginf=0.0), np.float32)
    around = glare(whole, float(gain)) if setting.bloom > 0 else np.zeros((1, 1, 3), np.float32)
    pale = -1.0 if setting.plain else setting.pale
    dials = np.array([gain, pale, setting.contrast, setting.edges, setting.bloom], np.float32)
    out = np.empty(whole.shape, np.uint8)
    on_all(len(out), lambda a, b: film.developed(whole, around, dials, out, a, b))
    return out
