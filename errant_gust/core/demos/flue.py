"""Flue embers: a draught through a bent flue of changing width."""

from typing import Any


def flue_embers() -> dict[str, Any]:
    """Embers ride a flue: they spread where it is wide, hurry where it is narrow, and drift off above its mouth."""
    return {
        "format": "errant-gust-study",
        "version": 2,
        "name": "Flue embers",
        "note": "A draught in a bent flue: embers spread where it is wide and hurry where it is narrow.",
        "intended": ["bunching flows.embers.b.field"],  # it is drawn to where it belongs
        "clock": {"fps": 24, "start": 1, "end": 144, "slow_motion": 1.0},
        "shapes": [
            {
                "id": "flue", "name": "Flue", "kind": "curve",
                "params": {
                    "points": [
                        [0, 0, 0.2], [0, 0, 1.2], [0.45, 0, 1.95], [1.3, 0.1, 2.3], [1.8, 0.2, 3.0], [1.8, 0.2, 4.2],
                    ],
                    "radius": 0.36,
                    "widths": [[0, 1.35], [0.22, 0.75], [0.48, 1.3], [0.74, 0.62], [1, 1.05]],
                },
            },
            {
                "id": "plume", "name": "Plume path", "kind": "curve", "shown": False,
                "params": {
                    "points": [[1.8, 0.2, 4.0], [1.9, 0.2, 4.7], [2.4, 0.3, 5.3], [3.4, 0.3, 5.6], [4.6, 0.2, 5.7]],
                    "radius": 0.1,
                },
            },
            {
                "id": "hall", "name": "Furnace hall", "kind": "box",
                "params": {"size": [2.4, 1.8, 0.4], "move": [0, 0, -0.22]},
            },
            {
                "id": "grate", "name": "Grate", "kind": "cylinder",
                "params": {"radius": 0.34, "height": 0.08, "move": [0, 0, 0.3]},
            },
        ],
        "regions": [
            {"id": "air", "name": "Air", "bounds": {"fit": ["flue", "plume"], "padding": 0.5}, "voxel_size": 0.1}
        ],
        "fields": [
            {
                "id": "in_flue", "name": "In the flue",
                "steps": [
                    {"id": "a", "op": "distance", "params": {"shape": "flue"}},
                    {"id": "b", "op": "remap", "params": {"from_range": [-0.16, 0], "to_range": [1, 0]}},
                ],
            },
            {
                "id": "flicker", "name": "Flicker",
                "steps": [
                    {
                        "id": "a", "op": "curl_noise",
                        "params": {"feature_size": 0.28, "octaves": 2, "evolve": 1.2, "strength": 0.55},
                    },
                    {"id": "b", "op": "mask", "params": {"by": "in_flue"}},
                ],
            },
            {
                "id": "above", "name": "Above the mouth",
                "steps": [{"id": "a", "op": "ramp", "params": {"start": [0, 0, 4.1], "end": [0, 0, 4.5]}}],
            },
            {
                "id": "drift", "name": "Drift",
                "steps": [
                    {
                        "id": "a", "op": "spline_flow",
                        "params": {
                            "curve": "plume", "along": 1.1, "inward": 0.1, "around": 0.7, "reach": 1.3,
                            "ends": "run on",
                            "width": [[0, 0.6], [1, 1.4]], "with_tube": False,
                        },
                    },
                ],
            },
            {
                "id": "draught", "name": "Draught",
                "steps": [
                    {"id": "a", "op": "bore_flow", "params": {"curve": "flue", "flux": 0.42, "spin": 1.6}},
                    {"id": "b", "op": "add", "params": {"field": "flicker"}},
                    {"id": "c", "op": "replace", "params": {"field": "drift", "where": "above"}},
                ],
            },
        ],
        "flows": [
            {
                "id": "embers", "name": "Embers", "kind": "particles",
                "steps": [
                    {
                        "id": "a", "op": "emit",
                        "params": {
                            "shape": "grate", "where": "volume", "rate": 5000, "life": 6.5, "life_variation": 0.25,
                            "preview_share": 0.4,
                        },
                    },
                    {"id": "b", "op": "carry", "params": {"field": "draught", "substeps": 3}},
                ],
            }
        ],
        "looks": {
            "embers": {"colour": "speed", "size": 2.2, "blend": "additive", "map": "heat"},
            "probe": {"axis": 1, "share": 0.48},
        },
    }  # fmt: skip
