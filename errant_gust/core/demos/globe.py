"""Globe skin: swirls that cling to a breathing globe."""

from typing import Any


def globe_skin() -> dict[str, Any]:
    """Swirls on a blown-glass globe that breathes; mask shapes decide where they are strong, weak, or absent."""
    return {
        "format": "errant-gust-study",
        "version": 2,
        "name": "Globe skin",
        "note": "Swirls that cling to a glass globe that breathes; mask shapes decide where they are strong or weak.",
        "intended": ["bunching flows.beads.b.field"],  # it is drawn to where it belongs
        "clock": {"fps": 24, "start": 1, "end": 96, "slow_motion": 1.0},
        "shapes": [
            {
                "id": "globe", "name": "Glass globe", "kind": "mesh",
                "params": {
                    "file": "glass_globe.obj", "move": [0, 0, 1],
                    "scale": {"keys": [[0, 1.0], [1.0, 1.05], [2.0, 1.0], [3.0, 1.05], [4.0, 1.0]]},
                },
            },
            {
                "id": "crown", "name": "Crown", "kind": "sphere", "shown": False,
                "params": {"radius": 0.6, "move": [0.2, -0.1, 1.75]},
            },
            {
                "id": "belt", "name": "Belt", "kind": "torus", "shown": False,
                "params": {"ring": 0.85, "tube": 0.2, "move": [0, 0, 0.75], "turn": [12, 0, 0]},
            },
            {
                "id": "ring", "name": "Ring", "kind": "torus", "shown": False,
                "params": {"ring": 0.1, "tube": 0.025, "turn": [0, 90, 0]},
            },
            {
                "id": "thorn", "name": "Thorn", "kind": "cone", "shown": False,
                "params": {"low": 0.035, "high": 0.002, "height": 0.14, "turn": [0, 90, 0]},
            },
        ],
        "regions": [
            {
                "id": "room", "name": "Room", "bounds": {"fit": ["globe"], "padding": 0.35}, "voxel_size": 0.05,
                "follow": True,
            }
        ],
        "fields": [
            {
                "id": "where", "name": "Which shape",
                "steps": [
                    {
                        "id": "a", "op": "mask_shape",
                        "params": {
                            "shapes": ["crown", "belt"], "fade_over": 0.25, "several": "which one", "threshold": 0.3,
                            "ragged": 0.06, "feature_size": 0.25, "octaves": 2,
                        },
                    },
                ],
            },
            {
                "id": "strength", "name": "Strength",
                "steps": [
                    {
                        "id": "a", "op": "mask_shape",
                        "params": {"shapes": ["crown", "belt"], "fade_over": 0.5, "several": "strongest wins"},
                    },
                    {"id": "b", "op": "remap", "params": {"from_range": [0, 1], "to_range": [0.25, 1.0]}},
                ],
            },
            {
                "id": "skin", "name": "Skin",
                "steps": [{"id": "a", "op": "distance", "params": {"shape": "globe"}}],
            },
            {
                "id": "outward", "name": "Outward",
                "steps": [
                    {"id": "a", "op": "distance", "params": {"shape": "globe"}},
                    {"id": "b", "op": "gradient", "params": {}},
                ],
            },
            {
                "id": "hold", "name": "Hold on the skin",
                "steps": [
                    {"id": "a", "op": "distance", "params": {"shape": "globe"}},
                    {"id": "b", "op": "gradient", "params": {"strength": -1}},
                    {"id": "c", "op": "multiply", "params": {"field": "skin"}},
                    {"id": "d", "op": "gain", "params": {"factor": 6, "in_unit": "1/s"}},
                ],
            },
            {
                "id": "swirl", "name": "Swirl",
                "steps": [
                    {
                        "id": "a", "op": "surface_swirl",
                        "params": {
                            "shape": "globe", "feature_size": 0.45, "octaves": 2, "evolve": 0.35, "speed": 0.55,
                            "nearest": 24, "reach": 0.3,
                        },
                    },
                    {"id": "b", "op": "multiply", "params": {"field": "strength"}},
                    {"id": "c", "op": "add", "params": {"field": "hold"}},
                ],
            },
        ],
        "flows": [
            {
                "id": "beads", "name": "Beads", "kind": "particles",
                "steps": [
                    {
                        "id": "a", "op": "emit",
                        "params": {
                            "shape": "globe", "where": "surface", "rate": 9000, "life": 2.6, "life_variation": 0.4,
                            "preview_share": 0.5,
                        },
                    },
                    {"id": "b", "op": "carry", "params": {"field": "swirl"}},
                ],
            },
            {
                "id": "threads", "name": "Threads", "kind": "particles",
                "steps": [
                    {
                        "id": "a", "op": "emit",
                        "params": {
                            "shape": "globe", "where": "surface", "timing": "all at once", "count": 260, "life": 1000,
                            "life_variation": 0, "preview_share": 1.0, "seed": 4,
                        },
                    },
                    {
                        "id": "b", "op": "flow_lines",
                        "params": {"field": "swirl", "count": 260, "length": 0.7, "spacing": 0.02, "both": True},
                    },
                    {"id": "c", "op": "spread_along", "params": {"spacing": 0.09}},
                ],
            },
            {
                "id": "charms", "name": "Charms", "kind": "particles",
                "steps": [
                    {
                        "id": "a", "op": "emit",
                        "params": {
                            "shape": "globe", "where": "surface", "timing": "all at once", "count": 1600, "life": 1000,
                            "life_variation": 0, "preview_share": 1.0, "seed": 9,
                        },
                    },
                    {
                        "id": "b", "op": "instances",
                        "params": {
                            "form": "shapes", "shapes": ["ring", "thorn"], "choose": "by field", "chosen_by": "where",
                            "size": 0.13, "turn": "along field", "toward": "outward", "roll": True,
                        },
                    },
                ],
            },
        ],
        "looks": {
            "beads": {"colour": "speed", "size": 1.1, "blend": "additive"},
            "threads": {"colour": "speed", "size": 2.0, "blend": "opaque", "map": "mix", "first": "#3A6EA5",
                "last": "#FFE9A8",
                "low": 0, "high": 0.6},
            "charms": {"colour": "number", "map": "mix", "first": "#7FB8C9", "last": "#F2C14E", "size": 2.0},
            "probe": {"axis": 2, "share": 0.12},
        },
    }  # fmt: skip
