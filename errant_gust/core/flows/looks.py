"""How results are drawn: one class a form, drawn in the inspector by the same rows as the parameters of steps.

A look is kept in the study under `looks.<flow>` and is never part of a run.
"""

from typing import Annotated, Literal

from errant_gust.core.study.parameters import Parameters, param

Colour = Annotated[str, "colour"]
"""`#rrggbb`"""
ChannelName = Annotated[str, "channel"]
"""A channel of the result, or a number that follows from some."""
Map = Literal["sequential", "heat", "diverging", "cyclic", "mix"]
OF_SMOKE = {"colour": ["smoke"]}
OF_CHANNEL = {"colour": ["!smoke"]}

LIT = {"blend": ["lit"]}


class PointsLook(Parameters):
    """Points, each a disc of so many pixels, coloured by a channel."""

    id = "points"
    label = "Points"
    yields = "points in colours"

    shown: bool = param(True, help="Whether the flow is drawn")
    colour: ChannelName = param("speed", label="Colour by", help="A channel")
    map: Map = param("sequential", label="Colours", help="From the least to the most")
    first: Colour = param("#0F1B2D", label="First colour", help="At the least", when={"map": ["mix"]})
    last: Colour = param("#FFEC78", label="Last colour", help="At the most", when={"map": ["mix"]})
    low: float | None = param(None, label="Range from", help="Empty fits the frame")
    high: float | None = param(None, label="Range to", help="Empty fits the frame")
    blend: Literal["additive", "opaque", "lit"] = param(
        "additive", label="Blending", help="Glowing, flat, or grains that the sun lights"
    )
    size: float = param(
        2.8, unit="px", above=0, range=(None, 40), slider=(0.5, 12), help="Of a point", when={"blend": ["!lit"]}
    )
    grain: float = param(
        1.3, unit="×", above=0, range=(None, 20), slider=(0.2, 4), label="Grain size", when=LIT,
        help="Times how far apart they stand",
    )  # fmt: skip
    shadow: bool = param(True, label="Shadow", help="On the floor below the lowest of them", when=LIT)


class VolumeLook(Parameters):
    """Smoke that takes light, with heat that glows in it; or one channel by a map."""

    id = "volume"
    label = "Volume"
    yields = "smoke and heat, or one channel"

    shown: bool = param(True, help="Whether the flow is drawn")
    colour: ChannelName = param("smoke", label="Shows", help="Smoke and heat, or one channel")
    absorb: float = param(
        12.0, unit="1/m", above=0, slider=(0.5, 60), label="Absorption",
        help="How much of the light density 1 takes in a metre",
    )  # fmt: skip
    tint: Colour = param("#D5DAE0", label="Smoke colour", help="Where it is lit", when=OF_SMOKE)
    glow: float = param(
        1.0, unit="×", range=(0, None), slider=(0, 5), label="Emission", help="How bright", when=OF_SMOKE
    )
    cold: float = param(
        200.0,
        unit="K",
        slider=(0, 2000),
        label="Emits from",
        help="Where heat begins to be seen, dull red",
        when=OF_SMOKE,
    )
    hot: float = param(
        1200.0, unit="K", slider=(0, 4000), label="Emits to", help="Where it is as bright as it gets", when=OF_SMOKE
    )
    warm: float = param(
        1.5, unit="×", above=0, range=(None, 20), slider=(0.5, 4), label="Colour temperature",
        help="Of heat, times its temperature: 1 is a black body as hot as the gas, more is yellower", when=OF_SMOKE,
    )  # fmt: skip
    onward: float = param(
        0.35, range=(-0.9, 0.9), slider=(-0.9, 0.9), label="Scattering",
        help="0 to all sides alike; toward 1 onward, as smoke before a light; below 0 back", when=OF_SMOKE,
    )  # fmt: skip
    map: Map = param("sequential", label="Colours", help="From the least to the most, of one channel", when=OF_CHANNEL)
    first: Colour = param("#0F1B2D", label="First colour", help="At the least", when={"map": ["mix"]} | OF_CHANNEL)
    last: Colour = param("#FFEC78", label="Last colour", help="At the most", when={"map": ["mix"]} | OF_CHANNEL)
    low: float | None = param(None, label="Range from", help="Empty begins at 0", when=OF_CHANNEL)
    high: float | None = param(None, label="Range to", help="Empty fits the frame", when=OF_CHANNEL)


WET = {"paint": ["wet"]}
CHANNEL = {"paint": ["channel"]}


class MeshLook(Parameters):
    """A surface: wet, clear where it is thin; or coloured by a channel."""

    id = "mesh"
    label = "Mesh"
    yields = "a surface"

    shown: bool = param(True, help="Whether the flow is drawn")
    draw: Literal["surface", "points", "both"] = param(
        "surface", label="Drawn as", help="Where there is a surface: it, the points, or both"
    )
    paint: Literal["wet", "channel"] = param("wet", label="Surface", help="Wet and clear, or coloured by the channel")
    tint: Colour = param("#4E93AD", label="Surface colour", help="Where it is thick", when=WET)
    deep: float = param(
        0.25, unit="m", above=0, slider=(0.01, 2), label="Full colour at", help="How thick it is there", when=WET
    )
    foam: float | None = param(
        None, unit="m/s", label="Foam from", when=WET,
        help="Speed from which on points are seen as foam; empty shows none. Colour by has to be speed",
    )  # fmt: skip
    opacity: float = param(1.0, range=(0, 1), help="1 is as clear as it is thin, 0 is not seen")


LOOKS: dict[str, type[Parameters]] = {cls.id: cls for cls in (PointsLook, VolumeLook, MeshLook)}
