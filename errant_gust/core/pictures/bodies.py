"""Colours of what glows: Planck's law seen by the eye of the CIE 1931 observer, as linear sRGB."""

from functools import cache

import numpy as np

from errant_gust.core.fields.samples import Array

COOLEST, HOTTEST, COLOURS = 600.0, 6600.0, 256
SECOND = 1.438776877e7
"""Radiation constant, nm K."""


def _bump(x: Array, at: float, below: float, above: float) -> Array:
    return np.exp(-0.5 * ((x - at) * np.where(x < at, below, above)) ** 2)


def body_colour(kelvin: float) -> Array:
    """Linear sRGB (3,) of a black body at so many kelvin, its strongest part 1. The observer's curves are the fits by
    Wyman, Sloan and Shirley (2013); colours that a screen cannot show are cut at its gamut."""
    nm = np.arange(380.0, 781.0, 5.0)
    power = (nm / 780) ** -5 * np.exp(-SECOND / kelvin * (1 / nm - 1 / 780)) / -np.expm1(-SECOND / (nm * kelvin))
    x = 1.056 * _bump(nm, 599.8, 0.0264, 0.0323) + 0.362 * _bump(nm, 442.0, 0.0624, 0.0374)
    x = x - 0.065 * _bump(nm, 501.1, 0.049, 0.0382)
    y = 0.821 * _bump(nm, 568.8, 0.0213, 0.0247) + 0.286 * _bump(nm, 530.9, 0.0613, 0.0322)
    z = 1.217 * _bump(nm, 437.0, 0.0845, 0.0278) + 0.681 * _bump(nm, 459.0, 0.0385, 0.0725)
    to_screen = np.array(
        [[3.2404542, -1.5371385, -0.4985314], [-0.969266, 1.8760108, 0.041556], [0.0556434, -0.2040259, 1.0572252]]
    )
    rgb = np.maximum(to_screen @ np.array([x @ power, y @ power, z @ power]), 0)
    return rgb / max(float(rgb.max()), 1e-30)


@cache
def _table() -> Array:
    return np.stack([body_colour(k) for k in np.linspace(COOLEST, HOTTEST, COLOURS)]).astype(np.float32)


def body_colours(kelvin: Array) -> Array:
    """Linear sRGB (…, 3) of black bodies of temperatures (…), from a table."""
    at = np.clip((kelvin - COOLEST) / (HOTTEST - COOLEST), 0, 1) * (COLOURS - 1)
    low = np.minimum(at.astype(np.int32), COLOURS - 2)
    share = (at - low)[..., None].astype(np.float32)
    table = _table()
    return np.asarray(table[low] + share * (table[low + 1] - table[low]), np.float32)
