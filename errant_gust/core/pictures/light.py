"""The light of the view: a key that throws shadows, a sky and a fill; and how it is made a picture."""

from math import cos, radians, sin
from typing import Literal

from errant_gust.core.study.parameters import Parameters, param

LIGHT_ID = "view-light"
"""Under which a study keeps it among its looks: no lane can be called so."""


class LightLook(Parameters):
    """Light of the view and how it is exposed; kept in the study, never part of a run."""

    id = "light"
    label = "Light"
    yields = "light and tone of the view"

    exposure: float = param(0.0, unit="stops", range=(-12, 12), slider=(-5, 5), help="Each stop up is twice as bright")
    curve: Literal["film", "plain"] = param(
        "film", help="Film keeps colours however bright they are; plain shows light as it is and clips"
    )
    bloom: float = param(0.08, range=(0, 2), slider=(0, 0.5), help="Glare around what is brighter than the picture")
    contrast: float = param(
        1.0, range=(0.25, 4), slider=(0.5, 2), help="Above 1, what is darker than a middle grey gets darker still"
    )
    edges: float = param(0.0, range=(0, 2), slider=(0, 1), help="How much darker corners are than the middle")
    azimuth: float = param(
        -128.0, unit="°", range=(-360, 360), slider=(-180, 180), label="Key from", help="From +x (0) toward +y (90)"
    )
    height: float = param(55.0, unit="°", range=(4, 90), slider=(4, 90), label="Key height", help="Above the ground")
    key: float = param(1.0, unit="×", range=(0, 20), slider=(0, 3), label="Key", help="The light that throws shadows")
    sky: float = param(1.0, unit="×", range=(0, 20), slider=(0, 3), help="Light from above, from everywhere")
    fill: float = param(1.0, unit="×", range=(0, 20), slider=(0, 3), help="From the side that the key leaves dark")
    fog: float = param(
        0.0, unit="1/m", range=(0, 100), slider=(0, 0.5), help="Share a metre that distance takes; 0 is clear air"
    )


def toward(azimuth: float, height: float) -> tuple[float, float, float]:
    """Direction toward a light at so many degrees from +x toward +y, and above the ground."""
    a, h = radians(azimuth), radians(height)
    return cos(a) * cos(h), sin(a) * cos(h), sin(h)


KEY = toward(LightLook().azimuth, LightLook().height)
