"""Blown bubbles: a distance made lumpy by noise is a shape again, which emits and is steered around."""

from typing import Any

from errant_gust.core.study.building import lane


def blown_bubbles() -> dict[str, Any]:
    """Glass that is being blown: noise on the distance from a globe, smoothed; sparks leave its surface and go round
    it."""
    fields: list[tuple[str, str, list[tuple[str, dict[str, Any]]]]] = [
        ("up", "Up", [("wind", {"speed": 0.4, "climb": 75})]),
        ("lumps", "Lumps", [
            ("noise", {"feature_size": 0.55, "octaves": 1, "strength": 0.75, "evolve": 0.3, "seed": 7}),
        ]),
        ("skin", "Lumpy distance", [
            ("distance", {"shape": "globe"}),
            ("add", {"field": "lumps"}),
            ("smooth", {"region": "bench", "width": 0.07}),
        ]),
        ("draught", "Draught round it", [
            ("curl_noise", {"feature_size": 0.7, "strength": 0.55, "evolve": 0.35, "octaves": 2}),
            ("add", {"field": "up"}),
            ("steer_around", {"shape": "bubbles", "reach": 0.3}),
        ]),
    ]  # fmt: skip
    steps: tuple[tuple[str, dict[str, Any]], ...] = (
        ("emit", {"shape": "bubbles", "where": "surface", "rate": 5000, "life": 1.3, "preview_share": 0.5}),
        ("carry", {"field": "draught"}),
        ("stay_out", {"shape": "bubbles", "gap": 0.005}),
        ("trail", {"length": 0.22}),
    )
    return {
        "format": "errant-gust-study",
        "version": 2,
        "name": "Blown bubbles",
        "note": "Noise on a distance, smoothed, is a shape again: it emits, and what it emits is steered around it.",
        "intended": [],
        "clock": {"fps": 24, "start": 1, "end": 72, "slow_motion": 1.0},
        "shapes": [
            {
                "id": "globe", "name": "Glass globe", "kind": "mesh", "shown": False,
                "params": {"file": "glass_globe.obj", "move": [0, 0, 1.1], "scale": 0.8},
            },
            {
                "id": "bubbles", "name": "Bubbles", "kind": "field_surface",
                "params": {"field": "skin", "region": "bench", "smooth": 0.5},
            },
        ],
        "regions": [
            {"id": "bench", "name": "Bench", "bounds": {"fit": ["globe"], "padding": 0.6}, "voxel_size": 0.05},
        ],
        "fields": [{**lane(id, *steps), "name": name} for id, name, steps in fields],
        "flows": [{**lane("sparks", *steps), "name": "Sparks", "kind": "particles"}],
        "looks": {
            "sparks": {
                "colour": "age", "map": "mix", "first": "#FFC65C", "last": "#A5321F", "size": 1.4, "blend": "opaque",
            },
            "probe": {"axis": 1, "share": 0.5, "hidden": True},
        },
    }  # fmt: skip
