"""Benchmark rows of shapes that fields make: a surface on 128³ voxels, a million vertices moved."""

import time
from collections.abc import Callable
from typing import Any

import numpy as np
import trimesh
from scipy.ndimage import map_coordinates
from skimage.measure import marching_cubes

from errant_gust.cli.bench_rows import Row, best
from errant_gust.core.fields.deformed import normals
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.sampling import bake, sample
from errant_gust.core.fields.surfaced import make_surface, nodes_of
from errant_gust.core.flows.particles.flow import ParticleFlow
from errant_gust.core.flows.particles.kind import ParticleKind
from errant_gust.core.study.building import lane, study
from errant_gust.core.study.document import parse

Array = Any
N = 128


def lumpy() -> Plan:
    """A ball's distance with noise on it, in a box of 128³ voxels."""
    fields = [
        lane("lumps", ("noise", {"feature_size": 0.5, "strength": 0.6})),
        lane("d", ("distance", {"shape": "ball"}), ("add", {"field": "lumps"}), ("bake", {"region": "r"})),
        lane("v", ("curl_noise", {"feature_size": 0.7}), ("bake", {"region": "r"})),
    ]
    shapes = [
        {"id": "ball", "kind": "sphere", "params": {"radius": 0.6}},
        {"id": "s", "kind": "field_surface", "params": {"field": "d", "region": "r"}},
    ]
    regions = [{"id": "r", "bounds": {"lower": [-1, -1, -1], "upper": [1, 1, 1]}, "voxel_size": 2 / N}]
    return Plan(parse(study("Bench", *fields, shapes=shapes, regions=regions)))


def surface() -> Row:
    scene = lumpy().at(0.0)
    node, box = scene.lane("d"), nodes_of(scene.region("r"))
    values = bake(node, box)
    shape = scene.shape("s").kind
    took = best(lambda: make_surface(node, box, shape, "shapes.s"), 3)  # type: ignore[arg-type]
    made = make_surface(node, box, shape, "shapes.s")  # type: ignore[arg-type]
    begun = time.perf_counter()
    made.distance.sample(np.zeros((3, 1), np.float32))
    steer = time.perf_counter() - begun
    reference = best(lambda: marching_cubes(values, 0.0), 3)
    note = (
        f"{len(made.drawn):,} triangles, from a baked lane; the distance to them, to steer by, takes {steer:.1f} s more"
    )
    return Row(f"surface of a field, {N}³", took, "scikit-image, triangles only", reference, reference / took, "", note)


def moved() -> Row:
    scene = lumpy().at(0.0)
    u, v = np.meshgrid(np.linspace(0, 2 * np.pi, 1000), np.linspace(0.01, np.pi - 0.01, 1000), indexing="ij")
    vertices = 0.8 * np.stack([np.cos(u) * np.sin(v), np.sin(u) * np.sin(v), np.cos(v)], axis=-1)
    vertices = vertices.reshape(-1, 3).astype(np.float32)
    i = (np.arange(999)[:, None] * 1000 + np.arange(999)).ravel()
    faces = np.concatenate([np.stack([i, i + 1, i + 1001], 1), np.stack([i, i + 1001, i + 1000], 1)]).astype(np.int32)
    node = scene.lane("v")
    node.prepare()
    grid = node.step.grid(node)  # type: ignore[attr-defined]

    def ours() -> None:
        made = vertices + np.float32(0.1) * sample(node, vertices)[0]
        normals(made, faces)

    def numpy() -> None:
        at = (vertices.T + 1) * (N / 2) - 0.5
        moved_ones = vertices + 0.1 * np.stack([map_coordinates(grid.values[..., c], at, order=1) for c in range(3)], 1)
        corners = moved_ones[faces]
        across = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        total = np.zeros_like(moved_ones)
        for corner in range(3):
            np.add.at(total, faces[:, corner], across)
        total /= np.linalg.norm(total, axis=1)[:, None] + 1e-30

    ours()
    begun = time.perf_counter()
    numpy()
    reference = 1e3 * (time.perf_counter() - begun)
    took = best(ours, 3)
    note = "a million vertices moved by a baked lane, with normals anew; reference: SciPy and NumPy"
    return Row("a million vertices deformed", took, "SciPy, NumPy", reference, reference / took, "", note)


def scattered() -> Row:
    """100,000 places on a ball, kept apart, by weight."""
    radius, count = 1.0, 100_000
    apart = 0.75 * radius * float(np.sqrt(4 * np.pi / (count * np.sqrt(3) / 2)))
    half = lane("half", ("ramp", {"start": [-1, 0, 0], "end": [1, 0, 0]}))
    emit = {"shape": "ball", "timing": "all at once", "count": count, "apart": apart, "weight": "half",
            "preview_share": 1, "life": 1e4}  # fmt: skip
    ball = {"id": "ball", "kind": "sphere", "params": {"radius": radius}}
    flows = [{**lane("p", ("emit", emit)), "kind": ParticleKind.id}]
    flow = ParticleFlow(Plan(parse(study("Bench", half, shapes=[ball], flows=flows))), "p")
    took = best(flow.first, 2)
    made = flow.first()
    mesh = trimesh.creation.icosphere(subdivisions=5, radius=radius)
    begun = time.perf_counter()
    points, _ = trimesh.sample.sample_surface_even(mesh, count, apart, seed=1)
    reference = 1e3 * (time.perf_counter() - begun)
    note = f"{made.count:,} found room, {1e3 * apart:.1f} mm apart, by weight; of trimesh, without: {len(points):,}"
    return Row("scatter of 100 k, apart", took, "trimesh, one throw, no weight", reference, reference / took, "", note)


ROWS: list[tuple[str, Callable[[], Row | list[Row]]]] = [
    ("shapes by fields: surface", surface),
    ("shapes by fields: moved", moved),
    ("shapes by fields: scattered", scattered),
]
