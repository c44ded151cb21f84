"""Quench tank dye: coloured dye that sinks in still water."""

from typing import Any


def quench_tank_dye() -> dict[str, Any]:
    """Two dyes are let into still water: they sink, curl and mix, and nothing fades."""

    def let_in(id: str, shape: str, colour: list[float]) -> dict[str, Any]:
        return {
            "id": id, "op": "source",
            "params": {
                "shape": shape, "how": "at least", "density": 1, "temperature": 0, "colour": colour, "until": 2.2,
                "velocity": [0, 0, -0.25],
            },
        }  # fmt: skip

    return {
        "format": "errant-gust-study",
        "version": 2,
        "name": "Quench tank dye",
        "note": "Two dyes sink in still water: colour is carried, nothing fades.",
        "clock": {"fps": 24, "start": 1, "end": 84, "slow_motion": 1.0},
        "shapes": [
            {"id": "left", "name": "Left nozzle", "kind": "sphere",
             "params": {"radius": 0.09, "move": [-0.2, 0, 1.36]}},
            {"id": "right", "name": "Right nozzle", "kind": "sphere",
             "params": {"radius": 0.09, "move": [0.2, 0.05, 1.36]}},
            {"id": "billet", "name": "Billet", "kind": "capsule",
             "params": {"radius": 0.13, "height": 0.5, "move": [0.02, 0, 0.6], "turn": [90, 0, 0]}},
            {"id": "mouths", "name": "Below the nozzles", "kind": "box", "shown": False,
             "params": {"size": [0.8, 0.5, 0.3], "move": [0, 0, 1.15]}},
        ],
        "regions": [
            {"id": "tank", "name": "Tank", "bounds": {"lower": [-0.7, -0.55, 0], "upper": [0.7, 0.55, 1.5]},
             "voxel_size": 0.02},
        ],
        "fields": [
            {
                "id": "there", "name": "Below the nozzles",
                "steps": [
                    {"id": "a", "op": "mask_shape", "params": {"shapes": ["mouths"], "fade_over": 0.25}},
                ],
            },
            {
                "id": "stir", "name": "Stir",
                "steps": [
                    {
                        "id": "a", "op": "curl_noise",
                        "params": {"feature_size": 0.22, "octaves": 2, "strength": 1.0, "evolve": 0.7},
                    },
                    {"id": "b", "op": "mask", "params": {"by": "there"}},
                ],
            },
        ],
        "flows": [
            {
                "id": "dye", "name": "Dye", "kind": "gas",
                "steps": [
                    {
                        "id": "a", "op": "domain",
                        "params": {
                            "region": "tank", "west": False, "east": False, "south": False, "north": False,
                            "below": False, "above": True, "keep": True,
                        },
                    },
                    let_in("b", "left", [0.95, 0.32, 0.16]),
                    let_in("c", "right", [0.16, 0.5, 0.95]),
                    {"id": "d", "op": "colour", "params": {}},
                    {"id": "e", "op": "collide", "params": {"shapes": ["billet"]}},
                    {"id": "f", "op": "rise", "params": {"weight": 0.9}},
                    {"id": "g", "op": "push", "params": {"field": "stir", "how": "force", "strength": 0.45}},
                    {"id": "h", "op": "curl_up", "params": {"strength": 0.25}},
                ],
            }
        ],
        "looks": {
            "dye": {"colour": "smoke", "absorb": 26, "glow": 0, "tint": "#FFFFFF"},
            "probe": {"axis": 1, "share": 0.5, "hidden": True},
        },
    }  # fmt: skip
