"""Numbers of light and colour, for whoever else draws: the view takes them from here (`python -m
errant_gust.server.shown`, in the build of the interface)."""

from typing import Any

import numpy as np

from errant_gust.core.pictures import bodies, cloud, colours, developing, setting


def shown() -> dict[str, Any]:
    """Colours of lights and how strong they usually are in the view; the tone curve and its glare; maps of colours, as
    screens take them (0 … 255); how bright heat is; colours of black bodies, in linear light."""
    kelvins = np.linspace(bodies.COOLEST, bodies.HOTTEST, bodies.COLOURS)
    return {
        "light": {name: [*colour] for name, colour in setting.COLOURS.items()},
        "strength": setting.IN_VIEW,
        "curve": {"pale": setting.PALE},
        "glare": {
            "reach": developing.REACH, "fall": developing.FALL, "least": developing.LEAST, "full": developing.FULL,
            "most": developing.MOST,
        },
        "fire": {"air": cloud.AIR, "power": cloud.POWER, "steep": cloud.STEEP},
        "maps": {name: [[*stop] for stop in stops] for name, stops in colours.STOPS.items()},
        "bodies": {
            "coolest": bodies.COOLEST, "hottest": bodies.HOTTEST,
            "colours": np.round(bodies.body_colours(kelvins), 6).astype(float).tolist(),
        },
    }  # fmt: skip
