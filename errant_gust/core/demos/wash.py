"""Quay wash: water thrown along the mole against the light tower; its foam flies on as particles."""

from typing import Any

from errant_gust.core.study.building import lane


def quay_wash() -> dict[str, Any]:
    """A sea comes over the mole, splits at the light tower and throws foam, which flies on with drag of its own."""
    fields: list[tuple[str, str, list[tuple[str, dict[str, Any]]]]] = [
        ("gusts", "Gusts", [
            ("wind", {"speed": 2.2, "toward": 12, "gust": 0.3, "period": 1.7}),
            ("add", {"field": "eddies"}),
        ]),
        ("eddies", "Eddies", [("curl_noise", {"feature_size": 0.7, "octaves": 2, "strength": 0.9, "evolve": 0.6})]),
    ]  # fmt: skip
    water: tuple[tuple[str, dict[str, Any]], ...] = (
        ("domain", {
            "region": "mole_top", "preview_voxels": 1.6, "flip": 0.9, "west": True, "east": True, "south": True,
            "north": True, "most_substeps": 48,
        }),
        ("source", {
            "shape": "sea", "velocity": [3.6, 0, 1.1], "until": 0.75,
        }),
        ("gravity", {}),
        ("collide", {"shapes": ["tower"], "friction": 0.05}),
        ("speed_limit", {"most": 9}),
        ("foam_points", {"what": "stretched", "over": [12, 45], "share": 0.5}),
        ("surface", {"smooth": 3}),
    )  # fmt: skip
    spray: tuple[tuple[str, dict[str, Any]], ...] = (
        ("emit", {
            "where": "particles", "flow": "wash:foam", "rate": 9000, "life": 1.1, "life_variation": 0.4,
            "inherit": 1.0, "preview_share": 0.5,
        }),
        ("gravity", {}),
        ("ease", {"field": "gusts", "how": "rate", "rate": 1.1}),
        ("stay_out", {"shape": "tower"}),
        ("stay_out", {"shape": "mole"}),
    )  # fmt: skip
    return {
        "format": "errant-gust-study",
        "version": 2,
        "name": "Quay wash",
        "note": "A sea comes over the mole and splits at the light tower; its foam flies on as particles.",
        # the sea runs off the mole at all four sides
        "intended": [f"leaves flows.wash.s0.{side}" for side in ("west", "east", "south", "north")],
        "clock": {"fps": 24, "start": 1, "end": 72, "slow_motion": 1.0},
        "shapes": [
            {"id": "tower", "name": "Light tower", "kind": "mesh", "params": {"file": "light_tower.obj"}},
            {
                "id": "mole", "name": "Harbour mole", "kind": "box",
                "params": {"size": [6.4, 3.4, 0.5], "move": [0.3, 0.0, -0.26]},
            },
            {
                "id": "sea", "name": "Sea", "kind": "box", "shown": False,
                "params": {"size": [0.35, 2.2, 0.7], "move": [-2.1, 0.0, 0.36]},
            },
        ],
        "regions": [
            {
                "id": "mole_top", "name": "On the mole",
                "bounds": {"lower": [-2.4, -1.5, 0], "upper": [2.6, 1.5, 2.6]}, "voxel_size": 0.05,
            }
        ],
        "fields": [{**lane(id, *steps), "name": name} for id, name, steps in fields],
        "flows": [
            {**lane("wash", *water), "name": "Wash", "kind": "liquid"},
            {**lane("spray", *spray), "name": "Spray", "kind": "particles"},
        ],
        "looks": {
            "wash": {"colour": "speed", "tint": "#1F6E80", "deep": 0.3, "size": 1.6},
            "spray": {"colour": "speed", "map": "mix", "first": "#9FB7CC", "last": "#FFFFFF", "size": 1.5},
            "probe": {"axis": 1, "share": 0.5, "hidden": True},
        },
    }  # fmt: skip
