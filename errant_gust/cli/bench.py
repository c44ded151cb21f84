"""The benchmark table: every row is measured now, next to its reference where it has one."""

import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np
from rich.console import Console
from rich.table import Table
from scipy import ndimage

from errant_gust.cli.bench_browser import browsing
from errant_gust.cli.bench_delivery import ROWS as OF_DELIVERIES
from errant_gust.cli.bench_gas import ROWS as ON_GAS
from errant_gust.cli.bench_grains import ROWS as ON_GRAINS
from errant_gust.cli.bench_growth import ROWS as ON_GROWTH
from errant_gust.cli.bench_liquid import ROWS as ON_LIQUID
from errant_gust.cli.bench_looks import ROWS as OF_LOOKS
from errant_gust.cli.bench_particles import ROWS as ON_PARTICLES
from errant_gust.cli.bench_pictures import ROWS as OF_PICTURES
from errant_gust.cli.bench_rows import Row, best, eight_steps, numpy_curl, study_of
from errant_gust.cli.bench_server import ROWS as ON_THE_SERVER
from errant_gust.cli.bench_shapes import ROWS as ON_SHAPES
from errant_gust.core.blocks import share_out, threads
from errant_gust.core.demos.geometry import light_tower, write_obj
from errant_gust.core.fields import look
from errant_gust.core.fields.extent import domain
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.sampling import bake, sample
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.peak import from_here, peak
from errant_gust.core.study.building import lane
from errant_gust.core.study.document import parse

Array = Any


# references ------------------------------------------------------------------------------------------------------


# rows ------------------------------------------------------------------------------------------------------------


def curl_noise() -> Row:
    plan = study_of(
        [lane("n", ("curl_noise", {"octaves": 4})), lane("e", ("curl_noise", {"octaves": 4, "evolve": 0.3}))]
    )
    node, boiling = plan.at(0.7).lane("n"), plan.at(0.7).lane("e")
    region = GridRegion((0, 0, 0), (128, 128, 128), 0.05)
    ours = best(lambda: bake(node, region))
    moving = best(lambda: bake(boiling, region))
    few = region.centres(0, 64**3)
    reference = best(lambda: numpy_curl(few, 4), 2) * region.voxels / few.shape[1]
    each = 1e6 * ours / region.voxels / 4
    again = each * moving / ours
    note = f"{each:.1f} ns a point and octave, evolving (4D) {again:.1f}; reference on 64³ points, scaled by 8"
    return Row("curl noise 128³, 4 octaves", ours, "vectorised NumPy", reference, reference / ours, "≥ 35×", note)


def sampling() -> Row:
    rng = np.random.default_rng(1)
    values = rng.normal(size=(128, 128, 128, 3)).astype(np.float32)
    grid = Grid(GridRegion((0, 0, 0), (128, 128, 128), 1 / 128), values)
    points = rng.random((2_000_000, 3)).astype(np.float32)
    out = np.empty_like(points)

    def work(a: int, b: int) -> None:
        out[a:b] = grid.sample_many(points[a:b])

    ours = best(lambda: share_out(work, len(points), block=1 << 18))
    where = np.ascontiguousarray(points.T) * 128 - 0.5
    channels = [np.ascontiguousarray(values[..., c]) for c in range(3)]
    reference = best(lambda: [ndimage.map_coordinates(c, where, order=1) for c in channels], 1)
    return Row(
        "sample vec3 at 2 M random points", ours, "SciPy map_coordinates ×3", reference, reference / ours, "≥ 20×"
    )


def looking() -> list[Row]:
    with tempfile.TemporaryDirectory() as name:
        plan = eight_steps(Path(name))
        scene = plan.at(0.5)
        window = look.swatch_window(scene)
        nodes: list[Node] = [node for _, node in scene.steps("n")]
        last = nodes[-1]
        rows = [
            Row(
                "swatches of eight steps, 48²",
                best(lambda: look.swatches(nodes, window, 48)),
                goal="≤ 30 ms",
            ),
            Row("slice 256² of that lane", best(lambda: sample(last, window.points(256, 256))), goal="≤ 40 ms"),
        ]
        low, high = domain(scene)
        seeds = np.random.default_rng(3).uniform(low, high, (400, 3))
        noise = study_of([lane("n", ("curl_noise", {"octaves": 3}))]).at(0.0).lane("n")
        for node, words in ((noise, "curl noise"), (last, "eight steps and a mesh")):
            took = best(lambda node=node: look.flow_lines(node, seeds, length=4.0, steps=200), 3)  # type: ignore[misc]
            rows.append(Row(f"400 flow lines × 200 steps, {words}", took, goal="≤ 80 ms"))
            took = best(lambda node=node: look.flow_lines(node, seeds, length=4.0, steps=48), 3)  # type: ignore[misc]
            rows.append(Row(f"400 flow lines × 48 steps, as the view asks for them, {words}", took, goal="≤ 80 ms"))
        return rows


def serving() -> list[Row]:
    with tempfile.TemporaryDirectory() as name:
        env = {**os.environ, "ERRANT_GUST_HOME": name}
        command = [sys.executable, "-m", "errant_gust.cli.main", "serve", "--port", "0", "--no-browser"]
        took = []
        for _ in range(2):
            start = time.perf_counter()
            server = subprocess.Popen(command, env=env, stdout=subprocess.PIPE, text=True)
            assert server.stdout is not None
            line = server.stdout.readline()
            took.append(1e3 * (time.perf_counter() - start))
            if _ == 0:
                server.terminate()
                server.wait()
        try:
            overhead = best(lambda: _post(line.split()[-1]), 30)
        finally:
            server.terminate()
            server.wait()
        return [
            Row("server start to ready, second", took[1], goal="≤ 5000 ms"),
            Row("API overhead (value at one point)", overhead, goal="≤ 5 ms", note="with parsing of the sent study"),
        ]


def _post(base: str) -> None:
    import urllib.request

    study = {"format": "errant-gust-study", "version": 1, "name": "b", "fields": [lane("w", ("wind", {}))]}
    body = json.dumps({"study": "x", "document": study, "lane": "w", "point": [0, 0, 0]}).encode()
    headers = {"Content-Type": "application/json", "X-Errant-Gust": "1"}
    urllib.request.urlopen(urllib.request.Request(f"{base}/api/look/value", body, headers)).read()


def solving() -> list[Row]:
    """The Poisson solver against a cosine transform pair and against algebraic multigrid on the same matrix."""
    from scipy import fft

    from errant_gust.core.grids.staggered.poisson import Poisson

    n = 128
    rng = np.random.default_rng(5)
    b = rng.normal(size=(n, n, n)).astype(np.float32)
    pair = best(lambda: fft.idctn(fft.dctn(b, type=2, workers=threads()), type=2, workers=threads()))
    plain, cut = Poisson(*_walls(n, None), threads=threads()), Poisson(*_walls(n, _ring_and_ball(n)), threads=threads())
    direct = best(lambda: plain.solve(b))
    right = np.where(cut.active, b, 0)
    ours = best(lambda: cut.solve(right, tolerance=1e-4), 3)
    rows = [
        Row("projection 128³, no obstacle", direct, "SciPy DCT pair", pair, direct / pair, "≤ 1.5× it"),
        Row(
            "projection 128³, sphere and torus", ours, "SciPy DCT pair", pair, ours / pair, "≤ 3.5× it",
            f"{cut.iterations} cycles to 1e-4",
        ),
    ]  # fmt: skip
    return [*rows, _against_algebraic(128)]


def _ring_and_ball(n: int) -> Array:
    axis = np.linspace(-2, 2, n + 1)
    x, y, z = np.meshgrid(axis, axis, axis, indexing="ij")
    ring = np.sqrt((np.sqrt((x - 0.3) ** 2 + (y + 0.2) ** 2) - 1.1) ** 2 + (z - 0.5) ** 2) - 0.25
    return np.minimum(np.sqrt(x**2 + y**2 + z**2) - 0.5, ring).astype(np.float32)


def _walls(n: int, corners: Array | None) -> list[Array]:
    """Face shares of a closed box with obstacles."""
    from errant_gust.core.grids.staggered.faces import open_shares

    shares = list(open_shares(GridRegion((-2, -2, -2), (n, n, n), 4 / n), corners))
    for axis, share in enumerate(shares):
        share[(slice(None),) * axis + (0,)] = 0
        share[(slice(None),) * axis + (-1,)] = 0
    return shares


def _against_algebraic(n: int) -> Row:
    import pyamg
    from scipy import sparse

    from errant_gust.core.grids.staggered.poisson import Poisson

    shares = _walls(n, _ring_and_ball(n))
    solver = Poisson(*shares, threads=threads())
    active = solver.active
    number = np.full(active.shape, -1)
    number[active] = np.arange(active.sum())
    rows, columns, values = [], [], []
    for axis, share in enumerate(shares):
        inner = share[(slice(None),) * axis + (slice(1, -1),)]
        low = number[(slice(None),) * axis + (slice(None, -1),)]
        high = number[(slice(None),) * axis + (slice(1, None),)]
        on = inner > 0
        for a, c, sign in ((low, high, -1), (high, low, -1), (low, low, 1), (high, high, 1)):
            rows.append(a[on])
            columns.append(c[on])
            values.append(sign * inner[on].astype(np.float64))
    size = int(active.sum())
    joined = (np.concatenate(values), (np.concatenate(rows), np.concatenate(columns)))
    matrix = sparse.csr_matrix(joined, shape=(size, size))
    b = np.where(active, np.random.default_rng(6).normal(size=active.shape), 0).astype(np.float32)
    b[active] -= b[active].mean()
    matrix = matrix + 1e-7 * sparse.identity(size)  # their cycle needs a matrix without a null space
    hierarchy = pyamg.smoothed_aggregation_solver(matrix.tocsr())
    reference = best(lambda: hierarchy.solve(b[active].astype(np.float64), tol=1e-4, accel="cg"), 1)
    ours = best(lambda: solver.solve(b, tolerance=1e-4), 3)
    return Row(
        f"projection {n}³, sphere and torus", ours, "pyamg + CG, set-up excluded", reference, reference / ours, "≥ 50×"
    )


def potential() -> Row:
    """A potential flow on 192³ voxels around an imported mesh, with the memory that it takes."""
    with tempfile.TemporaryDirectory() as name:
        write_obj(Path(name) / "light_tower.obj", *light_tower(), "bench")
        lanes = [lane("p", ("potential_flow", {"region": "r", "obstacles": ["t"]}))]
        data = {
            "format": "errant-gust-study", "version": 1, "name": "Bench", "fields": lanes,
            "shapes": [{"id": "t", "kind": "mesh", "params": {"file": "light_tower.obj"}}],
            "regions": [{"id": "r", "bounds": {"lower": [-2, -2, -0.5], "upper": [2, 2, 3.5]}, "voxel_size": 4 / 188}],
        }  # fmt: skip
        plan = Plan(parse(data), Assets(Path(name)))
        node = plan.at(0.0).lane("p")
        plan.at(0.0).shape("t").distance(np.zeros((3, 1), np.float32))
        before = from_here()
        took = best(lambda: node.step.make(node, None), 1)  # type: ignore[attr-defined]
        grew = peak() - before
        note = f"peak memory grew by {grew / 1e6:.0f} MB, {grew / 192**3:.0f} bytes a voxel"
        return Row("potential flow 192³ around a mesh", took, note=note)


def noises() -> list[Row]:
    """Every basis on 100,000 points; simplex against the opensimplex library (compiled too) on the same points."""
    import opensimplex

    points = np.random.default_rng(7).uniform(-20, 20, (200_000, 3)).astype(np.float32)
    rows = []
    opensimplex.seed(3)
    few = points[:60].astype(np.float64)
    axis = [np.ascontiguousarray(few[:, i]) for i in range(3)]
    opensimplex.noise4array(*axis, np.array([0.3]))
    library = best(lambda: opensimplex.noise4array(*axis, np.array([0.3])), 3) * len(points) / 60**3
    for basis in ("gradient", "simplex", "waves", "cells"):
        node = study_of([lane("n", ("noise", {"basis": basis, "octaves": 1, "evolve": 0.3}))]).at(1.0).lane("n")
        took = best(lambda node=node: sample(node, points), 3)  # type: ignore[misc]
        each = f"{1e6 * took / len(points):.0f} ns a point with its gradient"
        if basis == "simplex":
            rows.append(
                Row(
                    "simplex noise 4D, 200,000 points",
                    took,
                    "opensimplex, value only",
                    library,
                    library / took,
                    note=each,
                )
            )
        else:
            rows.append(Row(f"{basis} noise, evolving, 200,000 points", took, note=each))
    return rows


def paths() -> Row:
    """Closest points on a curve of 4,000 points, against a k-d tree over the same chords' ends."""
    from scipy.spatial import cKDTree

    from errant_gust.core.geometry.curves import CHORDS, CurveSet

    t = np.linspace(0, 1, 4000)[:, None]
    line = np.concatenate([np.cos(60 * t), np.sin(57 * t), 5 * t], axis=1)
    curve = CurveSet([line], smooth=True, closed=False)
    points = np.random.default_rng(8).uniform(-1.5, 5, (100_000, 3)).astype(np.float32)
    across = np.ascontiguousarray(points.T)

    def work(a: int, b: int) -> None:
        curve.nearest(np.ascontiguousarray(across[:, a:b]))

    ours = best(lambda: share_out(work, len(points)))
    tree = cKDTree(curve._chords[:, :3])
    reference = best(lambda: tree.query(points, workers=threads()), 2)
    note = f"ours is the exact closest point with tangent and curvature; the tree finds one of {len(line) * CHORDS:,}"
    return Row(
        "closest point on a 4,000-point curve, 100,000 points",
        ours,
        "SciPy k-d tree",
        reference,
        reference / ours,
        note=note,
    )


ROWS: list[tuple[str, Callable[[], Row | list[Row]]]] = [
    ("curl noise", curl_noise),
    ("sample", sampling),
    ("looking", looking),
    ("noise bases", noises),
    ("paths", paths),
    ("solving", solving),
    ("potential flow", potential),
    ("serving", serving),
]


EVERY_DAY = [*ROWS, *ON_PARTICLES, *ON_GAS, *ON_LIQUID, *ON_GRAINS, *ON_GROWTH, *ON_SHAPES]
"""Rows that need neither a browser nor servers nor gigabytes."""


def run_bench(
    *,
    as_json: bool,
    only: str,
    browser: bool = False,
    server: bool = False,
    deliveries: bool = False,
    pictures: bool = False,
) -> None:
    rows: list[Row] = browsing() if browser else []
    apart = [
        *([*ON_THE_SERVER, *OF_LOOKS] if server else []),
        *(OF_DELIVERIES if deliveries else []),
        *(OF_PICTURES if pictures else []),
    ]
    for name, work in apart or ([] if browser else EVERY_DAY):
        if only in name:
            made = work()
            rows += made if isinstance(made, list) else [made]
    if as_json:
        print(json.dumps({"threads": threads(), "rows": [asdict(row) for row in rows]}, indent=1))
        return
    table = Table("what", "ms", "reference", "ms", "ratio", "goal", title=f"{threads()} threads")
    for row in rows:
        ratio = f"{row.ratio:.3g}×" if row.ratio else ""
        reference = f"{row.reference_ms:.0f}" if row.reference_ms else ""
        table.add_row(row.name, f"{row.milliseconds:.1f}", row.reference, reference, ratio, row.goal)
    Console(width=130).print(table)
    for row in rows:
        if row.note:
            print(f"{row.name}: {row.note}")
