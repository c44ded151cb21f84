"""Harbour gust: wind around the light tower."""

from typing import Any


def harbour_gust() -> dict[str, Any]:
    """Wind parted by the light tower, boiling near the quay; spray that rides it."""
    return {
        "format": "errant-gust-study",
        "version": 2,
        "name": "Harbour gust",
        "note": "Wind with gusts, parted by the light tower; curl noise that boils near the quay; spray that rides it.",
        "clock": {"fps": 24, "start": 1, "end": 120, "slow_motion": 1.0},
        "shapes": [
            {"id": "tower", "name": "Light tower", "kind": "mesh", "params": {"file": "light_tower.obj"}},
            {
                "id": "mole", "name": "Harbour mole", "kind": "box",
                "params": {"size": [7.2, 3.4, 0.5], "move": [0.4, 0.0, -0.26]},
            },
            {
                "id": "quay", "name": "Quay air", "kind": "box", "shown": False,
                "params": {"size": [5.0, 3.4, 2.2], "move": [0.6, 0.0, 1.1]},
            },
            {
                "id": "jetty", "name": "Jetty edge", "kind": "box",
                "params": {"size": [0.08, 2.6, 1.7], "move": [-2.3, 0.0, 1.05]},
            },
        ],
        "regions": [
            {"id": "quay", "name": "Quay", "bounds": {"fit": ["tower", "jetty"], "padding": 0.9}, "voxel_size": 0.1}
        ],
        "fields": [
            {
                "id": "near_quay", "name": "Near quay",
                "steps": [
                    {"id": "a", "op": "mask_shape", "params": {"shapes": ["quay"], "fade_over": 1.2}},
                    {"id": "b", "op": "remap", "params": {"from_range": [0, 1], "to_range": [0.15, 1.0]}},
                ],
            },
            {
                "id": "gusts", "name": "Gusts",
                "steps": [
                    {
                        "id": "a", "op": "curl_noise",
                        "params": {"feature_size": 1.3, "roughness": 0.45, "evolve": 0.35, "strength": 0.75},
                    },
                    {"id": "b", "op": "mask", "params": {"by": "near_quay"}},
                ],
            },
            {
                "id": "wind", "name": "Wind",
                "steps": [
                    {"id": "a", "op": "wind", "params": {"speed": 1.2, "toward": 4, "gust": 0.18, "period": 2.6}},
                    {"id": "b", "op": "add", "params": {"field": "gusts"}},
                    {
                        "id": "c", "op": "steer_around",
                        "params": {"shape": "tower", "reach": {"link": "regions.quay.voxel_size", "times": 6}},
                    },
                    {"id": "d", "op": "limit", "params": {"most": 6.0, "soft": 0.3}, "on": False},
                ],
            },
        ],
        "flows": [
            {
                "id": "spray", "name": "Spray", "kind": "particles",
                "steps": [
                    {
                        "id": "a", "op": "emit",
                        "params": {
                            "shape": "jetty", "where": "volume", "rate": 16000, "life": 3.6, "life_variation": 0.3,
                            "preview_share": 0.5,
                        },
                    },
                    {"id": "b", "op": "carry", "params": {"field": "wind", "integrator": "midpoint", "substeps": 2}},
                    {"id": "c", "op": "speed_limit", "params": {"most": 6.0}},
                    {"id": "d", "op": "trail", "params": {"length": 0.25, "share": 0.06}},
                ],
            }
        ],
        "looks": {"spray": {"colour": "speed", "size": 2.0, "blend": "additive"}},
    }  # fmt: skip
