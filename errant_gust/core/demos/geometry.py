"""Made-up geometry of Saltglass Works."""

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


def lathe(profile: list[tuple[float, float]], sides: int = 72) -> tuple[Array, Array]:
    """A closed surface of revolution about z from (radius, height) pairs, bottom to top; first and last on the axis.
    Vertices (n, 3) in m and triangles (m, 3)."""
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
    """Write vertices (n, 3) in m and triangles (m, 3) as OBJ with five decimals and a title."""
    lines = [f"# {title}", *(f"v {x:.5f} {y:.5f} {z:.5f}" for x, y, z in vertices)]
    lines += [f"f {a + 1} {b + 1} {c + 1}" for a, b, c in faces]
    path.write_text("\n".join(lines) + "\n")


def light_tower() -> tuple[Array, Array]:
    """A tapering tower with a gallery and a lantern, 3 m tall, its foot at z = 0. Vertices (n, 3) and triangles (m,
    3)."""
    return lathe(
        [
            (0, 0), (0.62, 0), (0.62, 0.12), (0.46, 0.2), (0.4, 0.9), (0.34, 1.6), (0.3, 2.1), (0.31, 2.16),
            (0.5, 2.24), (0.5, 2.32), (0.28, 2.34), (0.28, 2.7), (0.36, 2.74), (0.3, 2.84), (0.14, 2.98), (0, 3.02),
        ]
    )  # fmt: skip


def glass_globe() -> tuple[Array, Array]:
    """A blown-glass globe with slight waves, radius about 0.8 m around the origin. Vertices (n, 3) and triangles (m,
    3)."""
    heights = np.linspace(0, np.pi, 41)
    profile = []
    for a in heights:
        r = 0.8 + 0.025 * np.sin(6 * a) + 0.012 * np.sin(11 * a + 0.7)
        profile.append((max(0.0, r * np.sin(a)), -r * np.cos(a)))
    profile[0], profile[-1] = (0, profile[0][1]), (0, profile[-1][1])
    vertices, faces = lathe(profile, 64)
    turn = np.arctan2(vertices[:, 1], vertices[:, 0])
    bulge = 1 + 0.015 * np.sin(5 * turn) * np.clip(np.hypot(vertices[:, 0], vertices[:, 1]) / 0.8, 0, 1)
    return vertices * np.stack([bulge, bulge, np.ones_like(bulge)], axis=1), faces
