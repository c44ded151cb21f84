"""Lagoon mist: the same patterns with and without curl, side by side."""

from typing import Any

BASES = (("clouds", "Clouds", "gradient"), ("cells", "Cells", "cells"), ("waves", "Waves", "waves"))
ROW = 2.0


def _noise(basis: str) -> dict[str, Any]:
    return {"basis": basis, "octaves": 1 if basis != "gradient" else 2, "feature_size": 0.9, "evolve": 0.25, "seed": 4}


def _box(id: str, name: str, size: list[float], move: list[float]) -> dict[str, Any]:
    return {"id": id, "name": name, "kind": "box", "shown": False, "params": {"size": size, "move": move}}


def lagoon_mist() -> dict[str, Any]:
    """Left, a noise as the velocity: mist gathers in lines. Right, its curl in the plane: mist swirls, stays even."""
    fields: list[dict[str, Any]] = []
    for id, name, basis in BASES:
        fields.append(
            {
                "id": f"{id}_plain", "name": f"{name}, plain",
                "steps": [
                    {"id": "a", "op": "noise", "params": {**_noise(basis), "makes": "vector", "strength": 1.1}},
                    {"id": "b", "op": "axes", "params": {"scale": [1, 1, 0]}},
                ],
            }
        )  # fmt: skip
        fields.append(
            {
                "id": f"{id}_curl", "name": f"{name}, curl",
                "steps": [
                    {"id": "a", "op": "curl_noise", "params": {**_noise(basis), "plane": "across z", "strength": 0.4}}
                ],
            }
        )  # fmt: skip
    for id, name in (("right", "Right half"), ("row2", "Second row"), ("row3", "Third row")):
        step = {"id": "a", "op": "mask_shape", "params": {"shapes": [id], "fade_over": 0.12}}
        fields.append({"id": f"in_{id}", "name": name, "steps": [step]})
    for kind in ("plain", "curl"):
        steps = [{"id": "a", "op": "use_field", "params": {"field": f"clouds_{kind}"}}]
        for i, (id, _, _) in enumerate(BASES[1:]):
            where = {"field": f"{id}_{kind}", "where": f"in_row{i + 2}"}
            steps.append({"id": "bc"[i], "op": "replace", "params": where})
        fields.append({"id": f"all_{kind}", "name": f"All {kind}", "steps": steps})
    fields.append(
        {
            "id": "lagoon", "name": "Lagoon",
            "steps": [
                {"id": "a", "op": "use_field", "params": {"field": "all_plain"}},
                {"id": "b", "op": "replace", "params": {"field": "all_curl", "where": "in_right"}},
            ],
        }
    )  # fmt: skip
    return {
        "format": "errant-gust-study",
        "version": 2,
        "name": "Lagoon mist",
        "note": "Clouds, cells and waves as velocity (left) and their curl (right): mist gathers, or swirls.",
        "clock": {"fps": 24, "start": 1, "end": 96, "slow_motion": 1.0},
        "shapes": [
            {"id": "sheet", "name": "Mist sheet", "kind": "box", "params": {"size": [7.6, 5.8, 0.02]}},
            _box("right", "Right", [4, 6, 2], [2, 0, 0]),
            _box("row2", "Row 2", [8, ROW, 2], [0, 0, 0]),
            _box("row3", "Row 3", [8, ROW, 2], [0, ROW, 0]),
        ],
        "regions": [
            {
                "id": "lagoon", "name": "Lagoon", "voxel_size": 0.1,
                "bounds": {"lower": [-4, -3, -0.5], "upper": [4, 3, 0.5]},
            }
        ],
        "fields": fields,
        "flows": [
            {
                "id": "mist", "name": "Mist", "kind": "particles",
                "steps": [
                    {
                        "id": "a", "op": "emit",
                        "params": {
                            "shape": "sheet", "where": "volume", "timing": "all at once", "count": 60000, "life": 30,
                            "preview_share": 0.5,
                        },
                    },
                    {"id": "b", "op": "carry", "params": {"field": "lagoon"}},
                ],
            }
        ],
        "looks": {"mist": {"colour": "speed", "size": 1.6, "blend": "additive"}},
    }  # fmt: skip
