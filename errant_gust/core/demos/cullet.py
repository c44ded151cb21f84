"""Grass of cullet: shards scattered on a heap that a lane has roughened; what grows where is said by mask shapes."""

from typing import Any

from errant_gust.core.study.building import lane


def grass_of_cullet() -> dict[str, Any]:
    """A heap of broken glass grown over with shards: kept apart, denser where a lane says, chosen by mask shapes of
    which one passes over it."""
    fields: list[tuple[str, str, list[tuple[str, dict[str, Any]]]]] = [
        ("lumps", "Lumps", [("noise", {"feature_size": 0.55, "octaves": 2, "strength": 0.3, "seed": 3})]),
        ("thick", "How thick", [
            ("noise", {"feature_size": 0.5, "octaves": 2, "range": "unit", "seed": 11}),
            ("remap", {"from_range": [0.35, 0.6], "to_range": [0.12, 1], "clamp": True}),
        ]),
        ("which", "What grows", [
            ("mask_shape", {
                "shapes": ["crest", "swath"], "fade_over": 0.2, "several": "which one", "threshold": 0.3,
                "ragged": 0.09, "feature_size": 0.22, "octaves": 2,
            }),
            ("formula", {"expression": "f + 1"}),
        ]),
        ("large", "How large", [
            ("use_field", {"field": "which"}),
            ("remap", {"from_range": [2.4, 2.6], "to_range": [0.085, 0.03], "clamp": True}),
        ]),
        ("sway", "Sway", [
            ("curl_noise", {"feature_size": 0.9, "strength": 0.55, "evolve": 0.5}),
            ("gain", {"factor": 1, "in_unit": "s/m"}),
        ]),
        ("outward", "Lean", [
            ("distance", {"shape": "heap"}),
            ("gradient", {}),
            ("add", {"field": "sway"}),
        ]),
    ]  # fmt: skip
    steps: tuple[tuple[str, dict[str, Any]], ...] = (
        ("emit", {
            "shape": "heap", "where": "surface", "timing": "all at once", "count": 14_000, "apart": 0.017,
            "weight": "thick", "life": 1000, "life_variation": 0, "preview_share": 1.0,
        }),
        ("instances", {
            "form": "shapes", "shapes": ["blade", "splinter", "bead"], "choose": "by field", "chosen_by": "which",
            "size": {"field": "large"}, "variation": 0.5, "turn": "along field", "toward": "outward", "roll": True,
        }),
    )  # fmt: skip
    hidden = {"shown": False}
    return {
        "format": "errant-gust-study",
        "version": 2,
        "name": "Grass of cullet",
        "note": "Shards scattered on a heap of broken glass: kept apart, chosen by mask shapes, one of which moves.",
        "intended": [],
        "clock": {"fps": 24, "start": 1, "end": 72, "slow_motion": 1.0},
        "shapes": [
            {
                "id": "mound", "name": "Mound", "kind": "cone", **hidden,
                "params": {"low": 1.0, "high": 0.25, "height": 0.45, "move": [0, 0, 0.225]},
            },
            {
                "id": "heap", "name": "Heap", "kind": "deformed",
                "params": {
                    "shape": "mound", "field": "lumps", "how": "along the normal", "amount": 0.14, "edges": 0.06,
                },
            },
            {
                "id": "crest", "name": "Crest", "kind": "sphere", **hidden,
                "params": {"radius": 0.3, "move": [0.1, 0.05, 0.5]},
            },
            {
                "id": "swath", "name": "Swath", "kind": "sphere", **hidden,
                "params": {
                    "radius": 0.34,
                    "move": {"keys": [[0, [-1.2, -0.5, 0.2]], [3, [1.2, -0.2, 0.2]]], "between": "linear"},
                },
            },
            {
                "id": "blade", "name": "Blade", "kind": "cone", **hidden,
                "params": {"low": 0.012, "high": 0.001, "height": 0.2, "turn": [0, 90, 0]},
            },
            {
                "id": "splinter", "name": "Splinter", "kind": "box", **hidden,
                "params": {"size": [0.16, 0.012, 0.045]},
            },
            {"id": "bead", "name": "Bead", "kind": "sphere", **hidden, "params": {"radius": 0.05}},
        ],
        "regions": [
            {"id": "yard", "name": "Yard", "bounds": {"fit": ["mound"], "padding": 0.35}, "voxel_size": 0.05},
        ],
        "fields": [{**lane(id, *steps), "name": name} for id, name, steps in fields],
        "flows": [{**lane("shards", *steps), "name": "Shards", "kind": "particles"}],
        "looks": {
            "shards": {"colour": "number", "map": "mix", "first": "#5F9C86", "last": "#D9F0DF", "size": 1.0},
            "probe": {"axis": 2, "share": 0.4, "hidden": True},
        },
    }  # fmt: skip
