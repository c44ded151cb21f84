"""Bench flash: fuel that a sweep through a stencil lights."""

from typing import Any


def bench_flash() -> dict[str, Any]:
    """Fuel over the annealing bench, lit by a soft-edged sweep: it flares, rolls up and leaves soot."""
    return {
        "format": "errant-gust-study",
        "version": 2,
        "name": "Bench flash",
        "note": "Fuel along the bench is lit by a sweep; it flares, rolls up and leaves soot.",
        "clock": {"fps": 24, "start": 1, "end": 60, "slow_motion": 1.0},
        "shapes": [
            {
                "id": "bench", "name": "Bench", "kind": "box",
                "params": {"size": [2.6, 0.8, 0.3], "move": [0, 0, 0.15]},
            },
            {
                "id": "tray", "name": "Tray", "kind": "box", "shown": False,
                "params": {"size": [2.2, 0.45, 0.14], "move": [0, 0, 0.38]},
            },
            {
                "id": "spark", "name": "Spark", "kind": "sphere",
                "params": {"radius": 0.13, "move": {"keys": [[0, [-1.1, 0, 0.42]], [1.2, [1.1, 0, 0.42]]]}},
            },
        ],
        "regions": [
            {
                "id": "hall", "name": "Hall", "bounds": {"lower": [-1.7, -1.1, 0], "upper": [1.7, 1.1, 3.0]},
                "voxel_size": 0.03,
            }
        ],
        "fields": [
            {
                "id": "patches", "name": "Patches",
                "steps": [
                    {
                        "id": "a", "op": "noise",
                        "params": {"feature_size": 0.25, "octaves": 2, "range": "unit", "evolve": 0.4},
                    },
                    {"id": "b", "op": "remap", "params": {"from_range": [0.35, 0.65], "to_range": [0, 1]}},
                ],
            },
            {
                "id": "turbulence", "name": "Turbulence",
                "steps": [
                    {
                        "id": "a", "op": "curl_noise",
                        "params": {"feature_size": 0.4, "octaves": 2, "strength": 1.6, "evolve": 1.2},
                    }
                ],
            },
        ],
        "flows": [
            {
                "id": "fire", "name": "Fire", "kind": "gas",
                "steps": [
                    {"id": "a", "op": "domain", "params": {"region": "hall"}},
                    {
                        "id": "b", "op": "source",
                        "params": {
                            "shape": "tray", "how": "add", "density": 0, "temperature": 0, "fuel": 3.2, "by": "patches",
                            "until": 1.6,
                        },
                    },
                    {
                        "id": "c", "op": "source",
                        "params": {
                            "shape": "spark", "how": "at least", "density": 0, "temperature": 700, "until": 1.3,
                        },
                    },
                    {"id": "d", "op": "collide", "params": {"shapes": ["bench"]}},
                    {
                        "id": "e", "op": "burn",
                        "params": {"ignition": 140, "rate": 5, "heat": 950, "soot": 0.55, "expansion": 1.5},
                    },
                    {"id": "f", "op": "rise", "params": {"lift": 0.012}},
                    {"id": "g", "op": "push", "params": {"field": "turbulence", "how": "force", "strength": 2.5}},
                    {"id": "h", "op": "curl_up", "params": {"strength": 0.5}},
                    {"id": "i", "op": "cool", "params": {"rate": 1.6}},
                    {"id": "j", "op": "thin_out", "params": {"rate": 0.45}},
                ],
            }
        ],
        "looks": {
            "fire": {"colour": "smoke", "absorb": 9, "glow": 1.2, "cold": 70, "hot": 1250, "tint": "#6B655F"},
            "probe": {"axis": 1, "share": 0.5, "hidden": True},
        },
    }  # fmt: skip
