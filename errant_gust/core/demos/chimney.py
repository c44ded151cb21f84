"""Chimney downdraught: smoke thrown down on the quay by a gust."""

from typing import Any


def chimney_downdraught() -> dict[str, Any]:
    """Smoke that a gust throws down on the quay, where it rolls outward; a second heat channel only to be looked at."""
    return {
        "format": "errant-gust-study",
        "version": 2,
        "name": "Chimney downdraught",
        "note": "A gust throws the furnace's smoke down on the quay, where it swells and rolls outward.",
        "clock": {"fps": 24, "start": 1, "end": 84, "slow_motion": 1.0},
        "shapes": [
            {
                "id": "chimney", "name": "Chimney", "kind": "cylinder",
                "params": {"radius": 0.22, "height": 1.7, "move": [-1.1, 0, 0.85]},
            },
            {
                "id": "mouth", "name": "Chimney mouth", "kind": "sphere", "shown": False,
                "params": {"radius": 0.2, "move": [-1.1, 0, 1.86]},
            },
            {
                "id": "shed", "name": "Shed", "kind": "box",
                "params": {"size": [0.7, 1.0, 0.6], "move": [1.0, 0.45, 0.3], "turn": [0, 0, 18]},
            },
            {
                "id": "gust_place", "name": "Where the gust falls", "kind": "capsule", "shown": False,
                "params": {"radius": 0.32, "height": 1.9, "move": [-0.35, 0, 1.05], "turn": [0, 135, 0]},
            },
        ],
        "regions": [
            {
                "id": "quay", "name": "Quay", "bounds": {"lower": [-2, -1.6, 0], "upper": [2.6, 1.6, 2.6]},
                "voxel_size": 0.035,
            }
        ],
        "fields": [
            {
                "id": "gust", "name": "Gust",
                "steps": [
                    {"id": "a", "op": "constant", "params": {"vector": [2.7, 0, -2.6]}},
                    {
                        "id": "b", "op": "mask",
                        "params": {"by": "where"},
                    },
                ],
            },
            {
                "id": "where", "name": "Where it blows",
                "steps": [
                    {
                        "id": "a", "op": "mask_shape",
                        "params": {"shapes": ["gust_place"], "fade_over": 0.6, "ragged": 0.1, "feature_size": 0.5},
                    }
                ],
            },
            {
                "id": "turbulence", "name": "Turbulence",
                "steps": [
                    {
                        "id": "a", "op": "curl_noise",
                        "params": {"feature_size": 0.45, "octaves": 2, "strength": 1.3, "evolve": 0.8},
                    }
                ],
            },
        ],
        "flows": [
            {
                "id": "smoke", "name": "Smoke", "kind": "gas",
                "steps": [
                    {"id": "a", "op": "domain", "params": {"region": "quay"}},
                    {
                        "id": "b", "op": "source",
                        "params": {
                            "shape": "mouth", "how": "at least", "density": 1.4, "temperature": 60, "channel": "glow",
                            "amount": 1.0, "velocity": [0, 0, 1.2],
                        },
                    },
                    {"id": "c", "op": "collide", "params": {"shapes": ["chimney", "shed"]}},
                    {"id": "d", "op": "rise", "params": {"weight": 1.4}},
                    {"id": "e", "op": "push", "params": {"field": "gust", "how": "ease", "rate": 5, "by": "where"}},
                    {
                        "id": "f", "op": "push",
                        "params": {"field": "turbulence", "how": "force", "strength": 1.6},
                    },
                    {"id": "g", "op": "curl_up", "params": {"strength": 0.35}},
                    {"id": "h", "op": "expand", "params": {"amount": 0.5}},
                    {"id": "i", "op": "cool", "params": {"rate": 1.2}},
                    {"id": "j", "op": "thin_out", "params": {"rate": 0.25}},
                    {"id": "k", "op": "channel", "params": {"name": "glow", "rate": 2.0}},
                ],
            }
        ],
        "looks": {
            "smoke": {"colour": "smoke", "absorb": 14, "glow": 0},
            "probe": {"axis": 1, "share": 0.5, "hidden": True},
        },
    }  # fmt: skip
