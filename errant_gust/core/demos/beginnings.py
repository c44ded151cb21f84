"""What a new study may begin with."""

from typing import Any

BEGINNINGS: dict[str, dict[str, Any]] = {
    "blank": {"name": "Untitled"},
    "wind": {
        "name": "Wind and particles",
        "shapes": [
            {"id": "source", "name": "Source", "kind": "box", "params": {"size": [0.1, 2, 1.5], "move": [-2, 0, 0.9]}}
        ],
        "regions": [
            {"id": "space", "name": "Space", "bounds": {"lower": [-2.5, -2, 0], "upper": [2.5, 2, 2.5]}}
        ],
        "fields": [
            {"id": "wind", "name": "Wind", "steps": [{"id": "a", "op": "wind", "params": {"speed": 1.5}}]},
        ],
        "flows": [
            {
                "id": "particles", "name": "Particles", "kind": "particles",
                "steps": [
                    {"id": "a", "op": "emit", "params": {"shape": "source", "where": "volume", "rate": 8000}},
                    {"id": "b", "op": "carry", "params": {"field": "wind"}},
                ],
            }
        ],
    },
}  # fmt: skip
