"""Compiles every kernel once, so that nobody waits for a compiler later: runs a small study through all of it."""

import tempfile
from pathlib import Path

import numpy as np

from errant_gust.core import demos
from errant_gust.core.api import open_study
from errant_gust.core.checks import findings, findings_on_frame
from errant_gust.core.fields.plan import bake, sample
from errant_gust.core.geometry.mesh import make_mesh
from errant_gust.core.geometry.sdf import MeshDistance
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.runs.compute import compute


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        plan = open_study(demos.build(folder)[0])
        findings(plan)
        points = np.random.default_rng(1).uniform(-2, 2, (64, 3)).astype(np.float32)
        for part in plan.study.fields:
            for _, node in plan.at(0.5).steps(part.id):
                sample(node, points, gradient=True)
        region = GridRegion((-1, -1, 0), (8, 8, 8), 0.25)
        for lane in ("wind", "near_quay"):
            grid = Grid(region, bake(plan.at(0.5).lane(lane), region))
            grid.sample(points.T.copy())
            grid.sample_with_gradient(points.T.copy())
        store = compute(plan.study, "spray", folder / "run", quality="preview", assets=plan.assets, last=2)
        findings_on_frame(plan, "spray", 0.0, store.read(2)["position"])
        mesh = make_mesh(
            np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1.0]]), np.array([[0, 2, 1], [0, 1, 3], [1, 2, 3]]), "m"
        )
        MeshDistance(mesh, cells=16).sample(points.T.copy(), 2)
        mesh.closest(points)
        mesh.contains(points)


if __name__ == "__main__":
    main()
