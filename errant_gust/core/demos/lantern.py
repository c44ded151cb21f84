"""Lantern flare: one gas that carries three sets of particles."""

from typing import Any


def lantern_flare() -> dict[str, Any]:
    """A lantern flares up: one gas run carries a main, a medium and a fine set of sparks, each with its own drag."""

    def sparks(
        id: str, name: str, rate: float, amount: float, scatter: float, life: float, seed: int
    ) -> dict[str, Any]:
        return {
            "id": id, "name": name, "kind": "particles",
            "steps": [
                {
                    "id": "a", "op": "emit",
                    "params": {
                        "shape": "wick", "where": "volume", "rate": rate, "life": life, "life_variation": 0.5,
                        "begin": 0.1, "preview_share": 0.5, "seed": seed,
                    },
                },
                {"id": "b", "op": "ease", "params": {"field": "riding", "how": "rate", "rate": amount}},
                {"id": "c", "op": "gravity", "params": {"acceleration": [0, 0, -0.5]}},
                {"id": "d", "op": "scatter_direction", "params": {"angle": scatter, "every": 0.35, "seed": seed}},
            ],
        }  # fmt: skip

    return {
        "format": "errant-gust-study",
        "version": 2,
        "name": "Lantern flare",
        "note": "One gas run carries three sets of sparks, main, medium and fine, each with its own drag.",
        "clock": {"fps": 24, "start": 1, "end": 60, "slow_motion": 1.0},
        "shapes": [
            {"id": "wick", "name": "Wick", "kind": "sphere", "shown": False,
             "params": {"radius": 0.13, "move": [0, 0, 0.45]}},
            {"id": "lamp", "name": "Lamp", "kind": "cone",
             "params": {"low": 0.3, "high": 0.16, "height": 0.3, "move": [0, 0, 0.15]}},
        ],
        "regions": [
            {"id": "air", "name": "Air", "bounds": {"lower": [-0.9, -0.9, 0], "upper": [0.9, 0.9, 2.8]},
             "voxel_size": 0.03},
        ],
        "fields": [
            {
                "id": "flicker", "name": "Flicker",
                "steps": [
                    {
                        "id": "a", "op": "curl_noise",
                        "params": {"feature_size": 0.3, "octaves": 2, "strength": 1.4, "evolve": 1.4},
                    }
                ],
            },
            {
                "id": "riding", "name": "Riding the gas",
                "steps": [{"id": "a", "op": "from_run", "params": {"flow": "flare"}}],
            },
        ],
        "flows": [
            sparks("main", "Main sparks", 1400, 30, 8, 1.6, 1),
            sparks("medium", "Medium sparks", 2600, 9, 16, 1.3, 2),
            sparks("fine", "Fine sparks", 5200, 4, 28, 0.9, 3),
            {
                "id": "flare", "name": "Flare", "kind": "gas",
                "steps": [
                    {"id": "a", "op": "domain", "params": {"region": "air"}},
                    {
                        "id": "b", "op": "source",
                        "params": {
                            "shape": "wick", "how": "at least", "density": 0.5, "fuel": 1.2, "temperature": 220,
                            "velocity": [0, 0, 1.0],
                        },
                    },
                    {"id": "c", "op": "collide", "params": {"shapes": ["lamp"]}},
                    {"id": "d", "op": "burn", "params": {"ignition": 100, "rate": 4, "heat": 700, "soot": 0.15}},
                    {"id": "e", "op": "rise", "params": {"lift": 0.012}},
                    {"id": "f", "op": "push", "params": {"field": "flicker", "how": "force", "strength": 3}},
                    {"id": "g", "op": "cool", "params": {"rate": 1.3}},
                    {"id": "h", "op": "thin_out", "params": {"rate": 0.8}},
                ],
            },
        ],
        "looks": {
            "main": {"colour": "share", "map": "mix", "first": "#FFF1C2", "last": "#E2501A", "size": 3.2},
            "medium": {"colour": "share", "map": "mix", "first": "#FFD98A", "last": "#B23210", "size": 2.2},
            "fine": {"colour": "share", "map": "mix", "first": "#FFB45E", "last": "#6E1606", "size": 1.4},
            "flare": {"colour": "smoke", "absorb": 9, "glow": 0.35, "cold": 120, "hot": 1300, "tint": "#9A948C"},
            "probe": {"axis": 1, "share": 0.5, "hidden": True},
        },
    }  # fmt: skip
