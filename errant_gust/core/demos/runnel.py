"""Silica runnel: sand drawn up along a spiral by a field that is masked with noise, while the rest slumps."""

import math
from typing import Any

from errant_gust.core.study.building import lane

TURNS, POINTS = 1.5, 25
FOOT, TOP = (0.62, 0.03), (0.16, 0.62)
"""Radius and height, in m, where the runnel begins and ends."""


def runnel() -> list[list[float]]:
    """A spiral that rises and narrows over the heap."""
    made = []
    for i in range(POINTS):
        s = i / (POINTS - 1)
        angle = 2 * math.pi * TURNS * s
        r = FOOT[0] + (TOP[0] - FOOT[0]) * s
        z = FOOT[1] + (TOP[1] - FOOT[1]) * s**1.3
        made.append([round(r * math.cos(angle), 4) + 0.0, round(r * math.sin(angle), 4) + 0.0, round(z, 4)])
    return made


def silica_runnel() -> dict[str, Any]:
    """A heap of silica by the quay: what the mask lets the path draw creeps up the spiral, what it lets go slumps."""
    fields: list[tuple[str, str, list[tuple[str, dict[str, Any]]]]] = [
        ("patches", "Patches that let go", [
            ("noise", {"feature_size": 0.26, "octaves": 2, "range": "unit", "evolve": 0.6, "seed": 4}),
            ("remap", {"from_range": [0.43, 0.49], "to_range": [0, 1], "clamp": True}),
        ]),
        ("draw", "Along the runnel", [
            ("spline_flow", {
                "curve": "runnel", "along": 0.9, "inward": 1.6, "reach": 0.17, "ends": "stop",
                "turn_in": [[0.15, 0.0], [1.0, 0.85]],
            }),
        ]),
    ]  # fmt: skip
    steps: tuple[tuple[str, dict[str, Any]], ...] = (
        ("domain", {"region": "by_the_quay", "spacing": 0.016, "preview_spacing": 2.0, "friction": 0.7}),
        ("source", {"shape": "heap", "how": "filled once"}),
        ("gravity", {}),
        ("friction", {"angle": 33}),
        ("push", {"field": "draw", "how": "ease", "share": 0.85, "by": "patches"}),
        ("speed_limit", {"most": 0.45, "soft": 0.3}),
        ("collide", {"shapes": ["floor"], "friction": 0.8}),
    )
    return {
        "format": "errant-gust-study",
        "version": 2,
        "name": "Silica runnel",
        "note": "A heap of silica: some is drawn up a spiral by a masked path field, the rest slumps; in slow motion.",
        "intended": ["slow_fall flows.silica.s5.most"],
        "clock": {"fps": 24, "start": 1, "end": 120, "slow_motion": 2.0},
        "shapes": [
            {
                "id": "floor", "name": "Quay floor", "kind": "box",
                "params": {"size": [3.2, 3.2, 0.2], "move": [0, 0, -0.1]},
            },
            {
                "id": "heap", "name": "Heap", "kind": "cylinder", "shown": False,
                "params": {"radius": 0.66, "height": 0.18, "move": [0, 0, 0.09]},
            },
            {"id": "runnel", "name": "Runnel", "kind": "curve", "params": {"points": runnel(), "radius": 0.015}},
        ],
        "regions": [
            {
                "id": "by_the_quay", "name": "By the quay",
                "bounds": {"lower": [-1.1, -1.1, 0], "upper": [1.1, 1.1, 0.85]}, "voxel_size": 0.025,
            }
        ],
        "fields": [{**lane(id, *steps), "name": name} for id, name, steps in fields],
        "flows": [{**lane("silica", *steps), "name": "Silica", "kind": "grains"}],
        "looks": {
            "silica": {"colour": "speed", "map": "mix", "first": "#B79B6C", "last": "#F4E7C3", "blend": "lit"},
            "probe": {"axis": 2, "share": 0.2, "hidden": True},
        },
    }  # fmt: skip
