"""Kiln wisps: fire in drifting balls, from remapped noise behind a positive mask, and a finer copy of it."""

from typing import Any

from errant_gust.core.study.building import lane


def kiln_wisps() -> dict[str, Any]:
    """Wisps of fire that leave the kiln's mouth in balls: noise sets how hot and how thick, a mask breaks it up."""
    noise = {"feature_size": 0.3, "octaves": 2, "range": "unit"}
    fields: list[tuple[str, str, list[tuple[str, dict[str, Any]]]]] = [
        ("islands", "Islands", [
            ("noise", {**noise, "octaves": 1, "feature_size": 0.42, "evolve": 0.9, "drift": [0, 0, 0.4], "seed": 4}),
            ("threshold", {"level": 0.56, "soft": 0.04}),
        ]),
        ("heat", "How hot", [
            ("noise", {**noise, "evolve": 0.7, "seed": 2}),
            ("remap", {"from_range": [0.3, 0.7], "to_range": [420, 1150], "clamp": True}),
        ]),
        ("thickness", "How thick", [
            ("noise", {**noise, "evolve": 0.7, "seed": 3}),
            ("remap", {"from_range": [0.3, 0.7], "to_range": [0.25, 1.3], "clamp": True}),
        ]),
        ("upward", "Upward", [("constant", {"vector": [0.35, 0, 0.55]})]),
        ("draught", "Draught", [
            ("curl_noise", {"feature_size": 0.5, "octaves": 2, "strength": 0.7, "evolve": 0.6}),
            ("add", {"field": "upward"}),
        ]),
    ]  # fmt: skip
    wisps: list[tuple[str, dict[str, Any]]] = [
        ("domain", {"region": "air"}),
        ("source", {
            "shape": "mouth", "how": "at least", "density": {"field": "thickness"}, "temperature": {"field": "heat"},
            "by": "islands", "velocity": [0, 0, 0.5],
        }),
        ("collide", {"shapes": ["kiln"]}),
        ("rise", {"lift": 0.0022}),
        ("push", {"field": "draught", "how": "ease", "rate": 1.6}),
        ("curl_up", {"strength": 0.35}),
        ("cool", {"rate": 0.75}),
        ("thin_out", {"how": "amount", "amount": 0.3}),
        ("formula", {"channel": "ember", "expression": "max(temperature - 250, 0) / 700", "clamp": "between"}),
    ]  # fmt: skip
    return {
        "format": "errant-gust-study",
        "version": 2,
        "name": "Kiln wisps",
        "note": "Remapped noise sets how hot and how thick the fire is, a mask breaks it into balls that drift.",
        "clock": {"fps": 24, "start": 1, "end": 72, "slow_motion": 1.0},
        "shapes": [
            {
                "id": "kiln", "name": "Kiln", "kind": "box",
                "params": {"size": [1.3, 0.7, 0.34], "move": [0, 0, 0.17]},
            },
            {
                "id": "mouth", "name": "Kiln mouth", "kind": "box", "shown": False,
                "params": {"size": [1.0, 0.34, 0.3], "move": [0, 0, 0.5]},
            },
        ],
        "regions": [
            {
                "id": "air", "name": "Air over the kiln",
                "bounds": {"lower": [-0.9, -0.75, 0], "upper": [1.3, 0.75, 2.4]}, "voxel_size": 0.024,
            }
        ],
        "fields": [{**lane(id, *steps), "name": name} for id, name, steps in fields],
        "flows": [
            {**lane("wisps", *wisps), "name": "Wisps", "kind": "gas"},
            {
                **lane("fine", ("detail", {"flow": "wisps", "finer": "2", "strength": 1.2})),
                "name": "Fine wisps", "kind": "gas",
            },
        ],
        "looks": {
            "wisps": {"shown": False, "colour": "smoke", "absorb": 6, "glow": 2.2, "cold": 90, "hot": 1250},
            "fine": {"colour": "smoke", "absorb": 6, "glow": 2.2, "cold": 90, "hot": 1250, "tint": "#8E8880"},
            "probe": {"axis": 1, "share": 0.5, "hidden": True},
        },
    }  # fmt: skip
