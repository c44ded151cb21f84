"""Builds the demo studies from the made-up scenario, Saltglass Works, with their small mesh files.

python -m errant_gust.core.demo demo/
"""

import json
import sys
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


def lathe(profile: list[tuple[float, float]], sides: int = 72) -> tuple[Array, Array]:
    """A closed surface of revolution about z from (radius, height) pairs, bottom to top; first and last on the axis."""
    angles = np.linspace(0, 2 * np.pi, sides, endpoint=False)
    rings = [np.stack([r * np.cos(angles), r * np.sin(angles), np.full(sides, z)], axis=1) for r, z in profile[1:-1]]
    vertices = np.concatenate([[[0, 0, profile[0][1]]], *rings, [[0, 0, profile[-1][1]]]])
    n, top = len(rings), len(vertices) - 1
    faces = []
    for s in range(sides):
        t = (s + 1) % sides
        faces.append((0, 1 + t, 1 + s))
        for k in range(n - 1):
            a, b, c, d = (1 + k * sides + s, 1 + k * sides + t, 1 + (k + 1) * sides + s, 1 + (k + 1) * sides + t)
            faces += [(a, b, d), (a, d, c)]
        faces.append((1 + (n - 1) * sides + s, 1 + (n - 1) * sides + t, top))
    return vertices, np.array(faces)


def write_obj(path: Path, vertices: Array, faces: Array, title: str) -> None:
    lines = [f"# {title}", *(f"v {x:.5f} {y:.5f} {z:.5f}" for x, y, z in vertices)]
    lines += [f"f {a + 1} {b + 1} {c + 1}" for a, b, c in faces]
    path.write_text("\n".join(lines) + "\n")


def light_tower() -> tuple[Array, Array]:
    """A tapering tower with a gallery and a lantern, 3 m tall, its foot at z = 0."""
    return lathe(
        [
            (0, 0), (0.62, 0), (0.62, 0.12), (0.46, 0.2), (0.4, 0.9), (0.34, 1.6), (0.3, 2.1), (0.31, 2.16),
            (0.5, 2.24), (0.5, 2.32), (0.28, 2.34), (0.28, 2.7), (0.36, 2.74), (0.3, 2.84), (0.14, 2.98), (0, 3.02),
        ]
    )  # fmt: skip


def harbour_gust() -> dict[str, Any]:
    """Wind parted by the light tower, boiling near the quay; spray that rides it."""
    return {
        "format": "errant-gust-study",
        "version": 1,
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
                    {"id": "a", "op": "mask_shape", "params": {"shapes": ["quay"], "attenuation": 1.2}},
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
                ],
            }
        ],
        "looks": {"spray": {"colour": "speed", "size": 2.0, "blend": "additive"}},
    }  # fmt: skip


DEMOS = {"harbour_gust": harbour_gust}


def build(folder: Path) -> list[Path]:
    """Write every demo study and its meshes into `folder`."""
    folder.mkdir(parents=True, exist_ok=True)
    write_obj(folder / "light_tower.obj", *light_tower(), "Light tower of Saltglass Works")
    made = []
    for name, study in DEMOS.items():
        path = folder / f"{name}.gust.json"
        path.write_text(json.dumps(study(), indent=1) + "\n")
        made.append(path)
    return made


if __name__ == "__main__":
    for path in build(Path(sys.argv[1] if len(sys.argv) > 1 else "demo")):
        print(path)
