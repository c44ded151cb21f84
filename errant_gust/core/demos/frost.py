"""Frost on glass: a volume that grows over the globe along fields, and keeps off a collar."""

from typing import Any

from errant_gust.core.study.building import lane


def frost_on_glass() -> dict[str, Any]:
    """Frost on the glass globe: from nuclei it spreads in tongues and creeps along curl noise, only near the glass; a
    collar and the glass itself it never enters, and a warm spot it leaves bare."""
    fields: list[tuple[str, str, list[tuple[str, dict[str, Any]]]]] = [
        ("on_glass", "On the glass", [
            ("distance", {"shape": "globe"}),
            ("remap", {"from_range": [0.015, 0.04], "to_range": [1, 0], "clamp": True}),
        ]),
        ("tongues", "Tongues", [
            ("noise", {"basis": "cells", "cells": "border", "feature_size": 0.2, "octaves": 1, "seed": 5}),
            ("remap", {"from_range": [-0.94, -0.7], "to_range": [0.25, 0.004], "clamp": True}),
        ]),
        ("creep", "Creeping", [
            ("curl_noise", {"feature_size": 0.3, "octaves": 2, "strength": 0.08, "seed": 11}),
            ("steer_around", {"shape": "globe", "reach": 0.1}),
        ]),
        ("warm", "Warm", [
            ("mask_shape", {"shapes": ["hand"], "fade_over": 0.12, "ragged": 0.04, "feature_size": 0.15}),
        ]),
    ]  # fmt: skip
    frost: tuple[tuple[str, dict[str, Any]], ...] = (
        ("domain", {"region": "room", "preview_voxels": 1.3}),
        ("seed", {"where": "points", "flow": "nuclei", "radius": 0.04}),
        ("spread", {"speed": {"field": "tongues"}, "by": "on_glass"}),
        ("carry", {"field": "creep", "by": "on_glass"}),
        ("smooth", {"rate": 0.00015, "what": "bumps and hollows"}),
        ("keep_off", {"shapes": ["globe", "collar"]}),
        ("stop", {"by": "warm", "level": 0.5, "soft": 0.4}),
    )
    nuclei: tuple[tuple[str, dict[str, Any]], ...] = (
        (
            "emit",
            {
                "shape": "globe",
                "where": "surface",
                "timing": "all at once",
                "count": 7,
                "apart": 0.5,
                "life": 1000,
                "life_variation": 0,
                "preview_share": 1,
                "seed": 3,
            },
        ),
    )
    return {
        "format": "errant-gust-study",
        "version": 2,
        "name": "Frost on glass",
        "note": "Frost grows over the globe along fields, keeps off a collar by every term, leaves a warm spot bare.",
        "intended": [],
        "clock": {"fps": 24, "start": 1, "end": 72, "slow_motion": 1.0},
        "shapes": [
            {
                "id": "globe", "name": "Glass globe", "kind": "mesh",
                "params": {"file": "glass_globe.obj", "move": [0, 0, 1.0], "scale": 0.8},
            },
            {
                "id": "collar", "name": "Collar", "kind": "torus",
                "params": {"ring": 0.7, "tube": 0.055, "move": [0, 0, 0.8], "turn": [14, 0, 0]},
            },
            {
                "id": "hand", "name": "Warm spot", "kind": "sphere", "shown": False,
                "params": {"radius": 0.22, "move": [0.45, -0.5, 1.25]},
            },
        ],
        "regions": [
            {"id": "room", "name": "Room", "bounds": {"fit": ["globe"], "padding": 0.12}, "voxel_size": 0.0125},
        ],
        "fields": [{**lane(id, *steps), "name": name} for id, name, steps in fields],
        "flows": [
            {**lane("frost", *frost), "name": "Frost", "kind": "growth"},
            {**lane("nuclei", *nuclei), "name": "Nuclei", "kind": "particles"},
        ],
        "looks": {"nuclei": {"shown": False}, "probe": {"axis": 1, "share": 0.5, "hidden": True}},
    }  # fmt: skip
