"""What a new study may begin with: one working study for each thing that is made here, small enough to be taken in."""

from typing import Any

from errant_gust.core.study.building import lane, study

Steps = tuple[tuple[str, dict[str, Any]], ...]
SPACE = {"id": "space", "name": "Space", "bounds": {"lower": [-2.5, -2, 0], "upper": [2.5, 2, 2.5]}}
SOURCE = {"id": "source", "name": "Source", "kind": "box", "params": {"size": [0.1, 2, 1.5], "move": [-2, 0, 0.9]}}
SWIRLS = ("curl_noise", {"feature_size": 0.45, "octaves": 2, "strength": 1.2, "evolve": 0.6})
SPARKS = {"map": "mix", "first": "#4FA3C4", "last": "#FFE9B8", "size": 2.4}
HIDDEN = {"axis": 1, "share": 0.5, "hidden": True}


def _named(id: str, name: str, *steps: tuple[str, dict[str, Any]], **more: Any) -> dict[str, Any]:
    return {**lane(id, *steps), "name": name, **more}


def _box(id: str, name: str, lower: list[float], upper: list[float], voxel_size: float) -> dict[str, Any]:
    return {"id": id, "name": name, "bounds": {"lower": lower, "upper": upper}, "voxel_size": voxel_size}


def _shape(id: str, name: str, kind: str, shown: bool = True, **params: Any) -> dict[str, Any]:
    return {"id": id, "name": name, "kind": kind, "shown": shown, "params": params}


def _clock(end: int) -> dict[str, Any]:
    return {"fps": 24, "start": 1, "end": end, "slow_motion": 1.0}


def blank() -> dict[str, Any]:
    """Nothing yet."""
    return study("Untitled")


def wind() -> dict[str, Any]:
    """The first thing to prove: particles obey a field. A gusting wind with swirls in it."""
    return study(
        "Wind and particles",
        _named("wind", "Wind", ("wind", {"speed": 1.5, "gust": 0.3}), ("add", {"field": "swirls"})),
        _named("swirls", "Swirls", ("curl_noise", {"feature_size": 0.7, "strength": 0.5, "evolve": 0.5})),
        shapes=[SOURCE], regions=[SPACE], clock=_clock(96),
        flows=[
            _named(
                "particles", "Particles",
                ("emit", {"shape": "source", "where": "volume", "rate": 8000, "life": 3}),
                ("carry", {"field": "wind"}), ("trail", {}),
                kind="particles",
            )
        ],
        looks={"particles": SPARKS, "probe": {"axis": 1, "share": 0.5}},
    )  # fmt: skip


def swirls() -> dict[str, Any]:
    """Curl noise that boils, led around a ball: it has no sinks, so nothing bunches."""
    return study(
        "Swirls that boil",
        _named(
            "swirls", "Swirls", ("curl_noise", {"feature_size": 0.8, "octaves": 2, "strength": 1.0, "evolve": 0.5}),
            ("steer_around", {"shape": "ball", "reach": 0.5}),
        ),
        shapes=[
            _shape("ball", "Ball", "sphere", radius=0.55, move=[0, 0, 1.1]),
            _shape("cloud", "Cloud", "sphere", False, radius=1.0, move=[0, 0, 1.1]),
        ],
        regions=[_box("space", "Space", [-1.7, -1.7, 0], [1.7, 1.7, 2.4], 0.06)], clock=_clock(96),
        flows=[
            _named(
                "dust", "Dust",
                ("emit", {"shape": "cloud", "where": "volume", "timing": "all at once", "count": 30000, "life": 60}),
                ("carry", {"field": "swirls"}),
                kind="particles",
            )
        ],
        looks={"dust": {**SPARKS, "size": 1.8}, "probe": {**HIDDEN, "glyph": "lines"}},
    )  # fmt: skip


def smoke() -> dict[str, Any]:
    """Smoke that rises past a ball, parts on it and curls up behind."""
    return study(
        "Smoke past a shape",
        _named("turbulence", "Turbulence", SWIRLS),
        shapes=[
            _shape("vent", "Vent", "cylinder", radius=0.2, height=0.12, move=[0, 0, 0.12]),
            _shape("ball", "Ball", "sphere", radius=0.34, move=[0.12, 0, 1.15]),
        ],
        regions=[_box("room", "Room", [-1, -0.8, 0], [1, 0.8, 2.6], 0.03)], clock=_clock(84),
        flows=[
            _named(
                "smoke", "Smoke",
                ("domain", {"region": "room"}),
                ("source", {"shape": "vent", "how": "at least", "density": 0.7, "temperature": 150,
                            "velocity": [0, 0, 1.3]}),
                ("collide", {"shapes": ["ball"]}), ("rise", {"lift": 0.011}),
                ("push", {"field": "turbulence", "how": "force", "strength": 1.0}), ("curl_up", {"strength": 0.3}),
                ("cool", {"rate": 0.35}), ("thin_out", {"rate": 0.4}),
                kind="gas",
            )
        ],
        looks={"smoke": {"glow": 0, "absorb": 12}, "probe": HIDDEN},
    )  # fmt: skip


def fire() -> dict[str, Any]:
    """Fuel from a bowl that lights itself, burns into heat and soot, and is torn by swirls."""
    return study(
        "Fire",
        _named("flicker", "Flicker", ("curl_noise", {"feature_size": 0.3, "octaves": 2, "strength": 1.5,
                                                     "evolve": 1.5})),
        shapes=[
            _shape("bowl", "Bowl", "cylinder", radius=0.36, height=0.16, move=[0, 0, 0.08]),
            _shape("fuel", "Fuel", "cylinder", False, radius=0.28, height=0.1, move=[0, 0, 0.2]),
        ],
        regions=[_box("air", "Air", [-0.8, -0.8, 0], [0.8, 0.8, 2.4], 0.025)], clock=_clock(72),
        flows=[
            _named(
                "fire", "Fire",
                ("domain", {"region": "air"}),
                ("source", {"shape": "fuel", "how": "at least", "density": 0, "fuel": 1.4, "temperature": 240,
                            "velocity": [0, 0, 0.6]}),
                ("collide", {"shapes": ["bowl"]}),
                ("burn", {"ignition": 100, "rate": 4, "heat": 900, "soot": 0.35}), ("rise", {"lift": 0.012}),
                ("push", {"field": "flicker", "how": "force", "strength": 2.5}), ("curl_up", {"strength": 0.4}),
                ("cool", {"rate": 1.4}), ("thin_out", {"rate": 0.7}),
                kind="gas",
            )
        ],
        looks={"fire": {"absorb": 8, "glow": 1.6, "cold": 90, "hot": 1250, "tint": "#5C5650"}, "probe": HIDDEN},
    )  # fmt: skip


def liquid() -> dict[str, Any]:
    """Water let go against a block; its foam is the fastest of it."""
    return study(
        "Liquid",
        shapes=[
            _shape("water", "Water", "box", False, size=[0.7, 1.1, 0.8], move=[-0.7, 0, 0.45]),
            _shape("floor", "Floor", "box", size=[3.0, 2.0, 0.2], move=[0.2, 0, -0.1]),
            _shape("block", "Block", "box", size=[0.3, 0.4, 0.5], move=[0.5, 0.1, 0.25], turn=[0, 0, 24]),
        ],
        regions=[_box("tank", "Tank", [-1.15, -0.75, 0], [1.6, 0.75, 1.2], 0.03)], clock=_clock(72),
        flows=[
            _named(
                "water", "Water",
                ("domain", {"region": "tank"}), ("source", {"shape": "water", "timing": "all at once"}),
                ("gravity", {}),
                ("collide", {"shapes": ["floor", "block"]}), ("surface", {}),
                kind="liquid",
            )
        ],
        looks={"water": {"foam": 2.6, "deep": 0.3}, "probe": HIDDEN},
    )  # fmt: skip


def sand() -> dict[str, Any]:
    """A column of sand that slumps to its slope of rest, over a step."""
    return study(
        "Sand",
        shapes=[
            _shape("column", "Column", "cylinder", False, radius=0.3, height=0.7, move=[0, 0, 0.36]),
            _shape("floor", "Floor", "box", size=[2.6, 2.6, 0.2], move=[0, 0, -0.1]),
            _shape("step", "Step", "box", size=[0.4, 1.4, 0.16], move=[0.55, 0, 0.08]),
        ],
        regions=[_box("yard", "Yard", [-1, -1, 0], [1.1, 1, 0.9], 0.03)], clock=_clock(72),
        flows=[
            _named(
                "sand", "Sand",
                ("domain", {"region": "yard", "spacing": 0.013}),
                ("source", {"shape": "column", "how": "filled once"}), ("gravity", {}), ("friction", {"angle": 33}),
                ("collide", {"shapes": ["floor", "step"], "friction": 0.7}),
                kind="grains",
            )
        ],
        looks={
            "sand": {"colour": "speed", "map": "mix", "first": "#B79B6C", "last": "#F4E7C3", "blend": "lit"},
            "probe": HIDDEN,
        },
    )  # fmt: skip


def path() -> dict[str, Any]:
    """A curve that draws particles in and leads them along, around it as they go."""
    points = [[-1.6, -0.7, 0.3], [-0.7, 0.5, 0.5], [0.2, -0.4, 1.2], [1.0, 0.4, 1.6], [1.7, -0.2, 2.0]]
    return study(
        "A path to follow",
        _named(
            "along", "Along the path",
            ("spline_flow", {"curve": "path", "along": 1.4, "inward": 0.55, "around": 2.0, "reach": 0.6}),
            ("add", {"field": "stir"}),
        ),
        _named("stir", "Stir", ("curl_noise", {"feature_size": 0.4, "strength": 0.35, "evolve": 0.6})),
        shapes=[
            _shape("path", "Path", "curve", points=points, radius=0.02),
            _shape("mouth", "Mouth", "sphere", False, radius=0.3, move=points[0]),
        ],
        regions=[_box("space", "Space", [-2.1, -1.3, 0], [2.1, 1.3, 2.5], 0.06)], clock=_clock(96),
        flows=[
            _named(
                "particles", "Particles",
                ("emit", {"shape": "mouth", "where": "volume", "rate": 5000, "life": 3.2}),
                ("carry", {"field": "along"}), ("trail", {}),
                kind="particles",
            )
        ],
        looks={"particles": {**SPARKS, "last": "#FFB05A"}, "probe": HIDDEN},
    )  # fmt: skip


def growth() -> dict[str, Any]:
    """A volume that spreads over a ball in tongues, from where it was seeded."""
    return study(
        "Growth",
        _named(
            "tongues", "Tongues",
            ("noise", {"basis": "cells", "cells": "border", "feature_size": 0.25, "octaves": 1, "seed": 5}),
            ("remap", {"from_range": [-0.94, -0.7], "to_range": [1.2, 0.03], "clamp": True}),
        ),
        _named(
            "near", "Near the ball", ("distance", {"shape": "ball"}),
            ("remap", {"from_range": [0.02, 0.06], "to_range": [1, 0], "clamp": True}),
        ),
        shapes=[
            _shape("ball", "Ball", "sphere", radius=0.6, move=[0, 0, 0.7]),
            _shape("seed", "Seed", "sphere", False, radius=0.1, move=[-0.2, -0.52, 1.0]),
        ],
        regions=[{"id": "room", "name": "Room", "bounds": {"fit": ["ball"], "padding": 0.12}, "voxel_size": 0.02}],
        clock=_clock(72),
        flows=[
            _named(
                "growth", "Growth",
                ("domain", {"region": "room"}), ("seed", {"shape": "seed"}),
                ("spread", {"speed": {"field": "tongues"}, "by": "near"}), ("keep_off", {"shapes": ["ball"]}),
                ("smooth", {"rate": 0.0002}),
                kind="growth",
            )
        ],
        looks={"growth": {"tint": "#5FA08C"}, "probe": HIDDEN},
    )  # fmt: skip


BEGINNINGS = {made.__name__: made for made in (blank, wind, swirls, smoke, fire, liquid, sand, path, growth)}
"""In the order in which they are offered."""


def about(id: str) -> str:
    """What a beginning shows, in a sentence or two."""
    return (BEGINNINGS[id].__doc__ or "").strip()
