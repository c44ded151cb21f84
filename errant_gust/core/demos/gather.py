"""Slow gather: molten glass of uneven viscosity on the bench, kept crawling by a sideways field."""

import math
from typing import Any

from errant_gust.core.study.building import lane

POUR = 2.5  # s


def ladle(turns: float = 2.0, radius: float = 0.2, height: float = 0.92) -> dict[str, Any]:
    """Where the ladle's lip is: on a circle over the bench, eight keys a turn."""
    keys = []
    count = int(8 * turns)
    for i in range(count + 1):
        angle = 2 * math.pi * turns * i / count
        keys.append([
            round(POUR * i / count, 4),
            [round(radius * math.cos(angle), 4) + 0.0, round(radius * math.sin(angle), 4) + 0.0, height],
        ])  # fmt: skip
    return {"keys": keys, "between": "smooth"}


def slow_gather() -> dict[str, Any]:
    """Glass poured from a turning ladle: a sideways, evolving curl noise breaks the edge of the puddle; without it the
    puddle is round."""
    fields: list[tuple[str, str, list[tuple[str, dict[str, Any]]]]] = [
        ("uneven", "Uneven glass", [
            ("noise", {"feature_size": 0.16, "octaves": 2, "range": "unit", "evolve": 0.8, "seed": 5}),
            ("remap", {"from_range": [0.3, 0.7], "to_range": [-3.2, 0.4], "clamp": True}),
            ("formula", {"expression": "exp(f)"}),
        ]),
        ("crawl", "Crawl", [
            ("curl_noise", {"feature_size": 0.42, "octaves": 1, "strength": 0.55, "evolve": 0.22, "seed": 3}),
        ]),
    ]  # fmt: skip

    def glass(*steps: tuple[str, dict[str, Any]]) -> tuple[tuple[str, dict[str, Any]], ...]:
        return (
            ("domain", {"region": "over_bench", "most_substeps": 48}),
            ("source", {
                "shape": "lip", "velocity": [0, 0, -0.7], "own_motion": 0.6, "viscosity": {"field": "uneven"},
                "until": POUR,
            }),
            ("gravity", {}),
            *steps,
            ("collide", {"shapes": ["bench"], "stick": 0.35, "friction": 0.15}),
            ("surface", {}),
        )  # fmt: skip

    push = ("push", {"field": "crawl", "how": "ease", "share": 0.22, "along_z": False})
    look = {
        "colour": "viscosity", "map": "mix", "first": "#FFD27A", "last": "#C2410C", "tint": "#C2571C", "deep": 0.22,
        "draw": "surface", "paint": "channel",
    }  # fmt: skip
    return {
        "format": "errant-gust-study",
        "version": 2,
        "name": "Slow gather",
        "note": "Molten glass of uneven viscosity, poured from a turning ladle; a sideways field keeps it crawling.",
        "clock": {"fps": 24, "start": 1, "end": 120, "slow_motion": 1.0},
        "shapes": [
            {
                "id": "bench", "name": "Bench", "kind": "box",
                "params": {"size": [2.4, 2.0, 0.3], "move": [0, 0, 0.15]},
            },
            {
                "id": "lip", "name": "Ladle's lip", "kind": "cylinder",
                "params": {"radius": 0.1, "height": 0.1, "move": ladle()},
            },
        ],
        "regions": [
            {
                "id": "over_bench", "name": "Over the bench",
                "bounds": {"lower": [-0.9, -0.9, 0.22], "upper": [0.9, 0.9, 1.1]}, "voxel_size": 0.02,
            }
        ],
        "fields": [{**lane(id, *steps), "name": name} for id, name, steps in fields],
        "flows": [
            {**lane("glass", *glass(push)), "name": "Glass", "kind": "liquid"},
            {**lane("still", *glass()), "name": "Without the push", "kind": "liquid"},
        ],
        "looks": {"glass": look, "still": {**look, "shown": False}, "probe": {"axis": 2, "share": 0.2, "hidden": True}},
    }  # fmt: skip
