"""What lights a picture and what is around: colours as in the view, strengths by what is looked at."""

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.kernels import lit
from errant_gust.core.pictures.light import LIGHT_ID, LightLook, toward
from errant_gust.core.study.document import Study

COLOURS = {
    "key": (1.0, 0.93, 0.8), "sky": (0.36, 0.46, 0.66), "low": (0.05, 0.07, 0.11), "fill": (0.42, 0.5, 0.68),
}  # fmt: skip
"""Of lights, in linear light: what throws shadows, what comes from above and from below, and from the dark side."""
IN_VIEW = {"key": 0.95, "sky": 0.62, "low": 0.62, "fill": 0.24}
"""How strong they usually are in the view."""
KEY, SKY, LOW, FILL = (strength * np.array(COLOURS[name]) for name, strength in {**IN_VIEW, "sky": 0.81}.items())
"""As pictures have them: their sky is brighter upward, where the view's goes evenly from below to above."""
PALE = 0.15


def _upward(count: int) -> Array:
    """Unit directions (n, 3) about z, as many as light from there counts (Malley's method, on a golden spiral)."""
    n = np.arange(count)
    out, turn = (n + 0.5) / count, n * np.pi * (3 - 5**0.5)
    return np.stack([np.sqrt(out) * np.cos(turn), np.sqrt(out) * np.sin(turn), np.sqrt(1 - out)], -1).astype(np.float32)


UPWARD = _upward(1024)
AS_SAID = ("exposure", "bloom", "fog", "contrast", "edges")
"""What a study says of its light that is taken as it is; strengths are times those of what is looked at."""


@dataclass(frozen=True)
class Setting:
    """Strengths of key, sky and fill, times those of the view; where the key comes from (degrees round from where the
    camera stands, and up); exposure in stops; how bright the ground is; colours above and at the horizon in linear
    light; how much brightness glares; how much of the tone curve is of each colour by itself, and whether there is
    none; the share a metre that fog takes; the power of contrast; and how much the corners of the picture lose."""

    key: float
    sky: float
    fill: float
    turn: float
    height: float
    exposure: float
    ground: float
    above: tuple[float, float, float]
    horizon: tuple[float, float, float]
    bloom: float = 0.08
    pale: float = PALE
    plain: bool = False
    fog: float = 0.0
    contrast: float = 1.0
    edges: float = 0.0

    def numbers(self, azimuth: float, floor: float | None) -> Array:
        """As kernels take it, (29 + 99,): its facts, and the light from all around that comes to surfaces that
        look down … up; `azimuth`: where the camera stands, in degrees; `floor`: height of the ground in
        m, None without."""
        key = toward(azimuth + self.turn, self.height)
        fill = toward(azimuth + self.turn + 155, 18)
        facts = np.concatenate(
            [
                key, self.key * KEY, self.sky * SKY, self.sky * LOW, fill, self.fill * FILL,
                [self.ground, floor or 0.0, 0.0 if floor is None else 1.0, 0.021], self.above, self.horizon, [self.fog],
            ]
        ).astype(np.float32)  # fmt: skip
        around = np.empty((lit.TURNS, 3), np.float32)
        lit.all_around(facts, UPWARD, around)
        return np.concatenate([facts, around.ravel()])


SMOKE = Setting(2.6, 0.45, 0.7, 150, 38, 0.2, 0.08, (0.005, 0.008, 0.014), (0.026, 0.034, 0.047))
FIRE = Setting(0.3, 0.22, 0.22, -150, 40, 0.0, 0.16, (0.004, 0.006, 0.011), (0.016, 0.021, 0.03), 0.12, 0.4)
WATER = Setting(2.2, 1.5, 0.8, 140, 34, -0.1, 0.07, (0.05, 0.09, 0.16), (0.30, 0.36, 0.42))
GRAINS = Setting(2.3, 0.9, 0.9, 105, 38, 0.1, 0.115, (0.010, 0.013, 0.02), (0.055, 0.06, 0.07))
SPARKS = Setting(0.22, 0.22, 0.3, -150, 40, 0.0, 0.16, (0.003, 0.0045, 0.009), (0.012, 0.015, 0.023), 0.12, 0.4)
SURFACE = Setting(1.9, 1.0, 1.6, -150, 44, -0.15, 0.11, (0.006, 0.010, 0.018), (0.04, 0.052, 0.07))

FIRST = (FIRE, WATER, SMOKE, GRAINS, SPARKS, SURFACE)
"""Whose light all is seen in where several kinds of things are in one picture."""


def lit_by(study: Study, usual: Setting, azimuth: float) -> Setting:
    """A setting with what a study says of its light; `azimuth`: where the camera stands, in degrees."""
    said: dict[str, Any] = study.looks.get(LIGHT_ID) or {}
    if not said:
        return usual
    first = LightLook()
    known = {name: said[name] for name in said if name in LightLook.model_fields}
    look = first.model_copy(update=known)
    times = {name: getattr(usual, name) * getattr(look, name) for name in ("key", "sky", "fill") if name in known}
    made = replace(usual, **times)
    if "azimuth" in known or "height" in known:
        made = replace(made, turn=look.azimuth - azimuth, height=look.height)
    made = replace(made, **{name: getattr(look, name) for name in AS_SAID if name in known})
    return replace(made, plain=look.curve == "plain")
