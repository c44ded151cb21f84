"""Colour maps as the view has them, and colours in linear light."""

import numpy as np

from errant_gust.core.fields.samples import Array

STOPS: dict[str, list[tuple[int, int, int]]] = {
    "sequential": [
        (13, 27, 62), (27, 51, 94), (52, 74, 108), (84, 98, 114), (118, 123, 116), (154, 149, 110), (193, 177, 96),
        (232, 207, 78), (255, 236, 120),
    ],
    "diverging": [
        (28, 66, 122), (78, 120, 168), (150, 178, 204), (236, 229, 216), (226, 160, 128), (205, 98, 66), (160, 48, 30),
    ],
    "heat": [
        (40, 6, 4), (110, 16, 6), (178, 38, 8), (226, 80, 14), (248, 132, 30), (255, 180, 66), (255, 220, 130),
        (255, 244, 214),
    ],
    "cyclic": [
        (201, 120, 84), (176, 148, 74), (112, 164, 110), (84, 160, 160), (104, 140, 192), (156, 124, 184),
        (194, 116, 138), (201, 120, 84),
    ],
}  # fmt: skip


def linear(srgb: Array) -> Array:
    """Linear light of what screens take (0 … 1), of any shape."""
    c = np.asarray(srgb, np.float64)
    return np.where(c <= 0.04045, c / 12.92, ((c + 0.055) / 1.055) ** 2.4).astype(np.float32)


def hexed(text: object) -> Array:
    """Linear light (3,) of a colour `#rrggbb`; grey where it is none."""
    try:
        told = str(text).lstrip("#")
        return linear(np.array([int(told[k : k + 2], 16) for k in (0, 2, 4)]) / 255)
    except ValueError:
        return linear(np.full(3, 0.7))


def coloured(values: Array, low: float | None, high: float | None, name: str, first: object, last: object) -> Array:
    """Linear light (n, 3) of numbers (n,) by a map, from `low` to `high` or over what there is; `mix` goes from `first`
    to `last`."""
    there = np.nan_to_num(np.asarray(values, np.float64))
    ends = (float(there.min(initial=np.inf)), float(there.max(initial=-np.inf))) if len(there) else (0.0, 1.0)
    a, b = ends[0] if low is None else low, ends[1] if high is None else high
    share = np.clip((there - a) / (b - a), 0, 1) if b > a else np.zeros(len(there))
    if name in STOPS:
        stops = np.array(STOPS[name], np.float64) / 255
    else:
        stops = np.array(
            [[int(str(c).lstrip("#")[k : k + 2] or "0", 16) / 255 for k in (0, 2, 4)] for c in (first, last)]
        )
    at = share * (len(stops) - 1)
    k = np.minimum(at.astype(int), len(stops) - 2)
    t = (at - k)[:, None]
    return linear(stops[k] + t * (stops[k + 1] - stops[k]))
