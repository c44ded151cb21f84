"""Compiles every kernel once, so that nobody waits for a compiler later: runs small studies through all of them."""

import hashlib
import os
import subprocess
import sys
import tempfile
from collections.abc import Iterable
from pathlib import Path

import numpy as np

from errant_gust.core import demos
from errant_gust.core.api import open_study
from errant_gust.core.checks import findings, findings_on_frame
from errant_gust.core.errors import GustError
from errant_gust.core.fields.extent import domain
from errant_gust.core.fields.look import flow_lines, swatch_window
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.readings import reading
from errant_gust.core.fields.sampling import bake, sample
from errant_gust.core.files.volume_files import write_npz
from errant_gust.core.flows.drawing import drawing_of
from errant_gust.core.flows.gas.kind import GasKind
from errant_gust.core.flows.growth.kind import GrowthKind
from errant_gust.core.flows.kind import kind_of
from errant_gust.core.flows.liquid.kind import LiquidKind
from errant_gust.core.flows.particles.kind import ParticleKind
from errant_gust.core.geometry.mesh import make_mesh
from errant_gust.core.geometry.sdf import MeshDistance
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.kernels.compiler import kernels_folder, target
from errant_gust.core.kernels.gas import lit
from errant_gust.core.kernels.rays import what_is_met
from errant_gust.core.pictures.camera import Camera, View
from errant_gust.core.pictures.cloud import Cloud
from errant_gust.core.pictures.mesh import Mesh, tree_of
from errant_gust.core.pictures.render import Balls, Staged, Streaks, render
from errant_gust.core.pictures.setting import SMOKE
from errant_gust.core.runs.compute import compute
from errant_gust.core.study.building import lane, study
from errant_gust.core.study.document import parse


def other_steps(folder: Path) -> Plan:
    """A study of what the demos do not use and kernels are needed for."""
    region = GridRegion((-1, -1, -1), (8, 8, 8), 0.25)
    write_npz(folder / "wave.npz", {"wave": Grid(region, np.ones(region.shape, np.float32))})
    cells = [("noise", {"basis": "cells", "cells": "border", "evolve": 0.1})]
    fields = [
        lane("simplex", ("noise", {"basis": "simplex"})),
        lane("cells", *cells),
        lane("waves", ("noise", {"basis": "waves"})),
        lane("text", ("stencil", {"text": "A"})),
        lane("file", ("from_grid", {"file": "wave.npz", "interpolation": "cubic"})),
        lane("linear", ("from_grid", {"file": "wave.npz"})),
        lane("around", ("potential_flow", {"region": "room", "obstacles": ["ball"]})),
        lane("vector", ("noise", {"makes": "vector"}), ("divergence_free", {"region": "room", "sides": "closed"})),
        lane("past", ("noise", {"makes": "vector"}), ("divergence_free", {"region": "room", "obstacles": ["ball"]})),
        lane("baked", ("curl_noise", {}), ("bake", {"region": "turned"})),
        lane("parted", ("curl_noise", {}), ("steer_around", {"shape": "ball"}), ("steer_around", {"shape": "post"})),
        lane("slope", ("noise", {}), ("gradient", {})),
    ]
    shapes = [
        {"id": "ball", "kind": "sphere", "params": {}},
        {"id": "post", "kind": "sphere", "params": {"radius": 0.3, "move": [0.9, 0, 0]}},
    ]
    box = {"lower": [-1] * 3, "upper": [1] * 3}
    regions = [
        {"id": "room", "bounds": box, "voxel_size": 0.125},
        {"id": "turned", "bounds": box, "voxel_size": 0.25, "turn": [0, 0, 30]},
    ]
    return Plan(parse(study("Warm", *fields, shapes=shapes, regions=regions)), Assets(folder))


def sprayed(folder: Path) -> Plan:
    """A study of points that keep apart, and of gas that comes from them in a closed room."""
    shapes = [{"id": "ball", "kind": "sphere", "params": {"radius": 0.4}}]
    regions = [{"id": "room", "bounds": {"lower": [-1] * 3, "upper": [1] * 3}, "voxel_size": 0.1}]
    points = lane(
        "p",
        ("emit", {"shape": "ball", "timing": "all at once", "count": 300, "apart": 0.05}),
        ("carry", {"field": "swirl"}),
    )
    closed = dict.fromkeys(("west", "east", "south", "north", "below", "above"), False)
    gas = lane(
        "w", ("domain", {"region": "room", "follow": False, **closed}),
        ("source", {"where": ParticleKind.id, "flow": "p", "radius": 0.2}), ("rise", {}),
    )  # fmt: skip
    flows = [{**points, "kind": ParticleKind.id}, {**gas, "kind": GasKind.id}]
    return Plan(parse(study("Warm", lane("swirl", ("curl_noise", {})), shapes=shapes, regions=regions, flows=flows)),
                Assets(folder))  # fmt: skip


def poured(folder: Path) -> Plan:
    """A study of liquid with all that kernels are needed for."""
    steps = [
        ("domain", {"region": "room", "flip": 0.5}),
        ("source", {"shape": "ball", "until": 0.1, "viscosity": 1, "velocity": [0, 0, -1]}),
        ("gravity", {}),
        ("push", {"field": "swirl"}),
        ("surface_tension", {"tension": 0.01}),
        ("collide", {"shapes": ["floor"], "stick": 1, "friction": 0.1}),
        ("colour", {}),
        ("surface", {}),
    ]
    box = {"lower": [-1] * 3, "upper": [1] * 3}
    shapes = [
        {"id": "ball", "kind": "sphere", "params": {"radius": 0.5}},
        {"id": "floor", "kind": "box", "params": {"size": [4, 4, 0.4], "move": [0, 0, -0.9]}},
    ]
    return Plan(
        parse(
            study(
                "Warm", lane("swirl", ("curl_noise", {})), shapes=shapes,
                regions=[{"id": "room", "bounds": box, "voxel_size": 0.1}],
                flows=[{**lane("w", *steps), "kind": LiquidKind.id}],
            )
        ),
        Assets(folder),
    )  # fmt: skip


def grown(folder: Path, *, only_carried: bool = False) -> Plan:
    """A study of growth with all that kernels are needed for, or with the rest of them: one that is only carried."""
    moved = [] if only_carried else [("spread", {}), ("carry", {"field": "swirl"}), ("smooth", {})]
    steps = [
        ("domain", {"region": "room", "hold": True}),
        ("seed", {"shape": "ball"}),
        ("carry", {"field": "swirl", "only": "both ways"}),
        *moved,
    ]
    regions = [{"id": "room", "bounds": {"lower": [-1] * 3, "upper": [1] * 3}, "voxel_size": 0.1}]
    shapes = [{"id": "ball", "kind": "sphere", "params": {"radius": 0.4}}]
    flows = [{**lane("w", *steps), "kind": GrowthKind.id}]
    fields = lane("swirl", ("curl_noise", {"strength": 0.2}))
    return Plan(parse(study("Warm", fields, shapes=shapes, regions=regions, flows=flows)), Assets(folder))


def pictured() -> None:
    """A picture of all that kernels are needed for, and what a ray meets."""
    corners = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1.0]], np.float32)
    faces = np.array([[0, 2, 1], [0, 1, 3], [1, 2, 3]], np.int32)
    mesh = Mesh(corners, faces, np.ones((4, 3), np.float32))
    wet = Mesh(corners + np.float32(0.3), faces, mesh.colours)
    thick = np.ones((4, 4, 4), np.float32)
    cloud = Cloud(np.zeros(3), np.eye(3), 0.2, thick, 900 * thick, np.full(3, 0.8), None, 1, 200, 1200, 1, 0.3)
    box = np.full(3, -0.2), np.full(3, 1.2)
    balls = Balls(corners, np.full(4, 0.1, np.float32), mesh.colours)
    streaks = Streaks(corners, corners + np.float32(0.1), mesh.colours, 2.0, True)
    for staged in (Staged(box, 0.0, [mesh], balls, [cloud], [streaks], wet), Staged(box, 0.0, [mesh], balls)):
        render(staged, Camera.around(box, View(), (32, 20)), SMOKE, (32, 20))
    far, which = np.zeros(4, np.float32), np.zeros(4, np.int32)
    stack = np.empty(64, np.int32)
    what_is_met(tree_of(mesh.corners[0]), corners, corners, np.float32(9), stack, far, which)


def marker() -> Path:
    """The file that says that all kernels of these sources are compiled, for the vectors that this process uses."""
    print_ = hashlib.sha256(Path(__file__).read_bytes() + target().encode()).hexdigest()
    return kernels_folder() / f"complete-{print_[:16]}"


def mark() -> None:
    """Say that all is compiled, and how many kernels that were."""
    marker().write_text(str(sum(1 for _ in kernels_folder().glob("*.nbi"))))


def ensure() -> None:
    """Compile what this machine has not compiled of these sources yet, with a line that says so: in as many processes
    as there are parts and cores. Raises GustError where one of them fails."""
    if marker().is_file():
        return
    print("Compiling kernels (once; some minutes) …", file=sys.stderr, flush=True)
    codes = [process.wait() for process in begun()]
    if any(codes):
        raise GustError("kernels could not be compiled", fix="see what is said above")
    mark()


def begun() -> list["subprocess.Popen[bytes]"]:
    """Processes that compile everything, as many as there are parts and cores; they end with this one."""
    parts = list(PARTS) if len(os.sched_getaffinity(0)) > 1 else ["all"]
    return [
        subprocess.Popen([sys.executable, "-m", "errant_gust.cli.warm", part], stdin=subprocess.PIPE) for part in parts
    ]


def share() -> float:
    """How much of it is compiled, about: from 0 to 1, or more."""
    return sum(1 for _ in kernels_folder().glob("*.nbi")) / KERNELS


def compile_all(parts: Iterable[str]) -> None:
    """Run small studies through every kernel of some PARTS."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        plans = [open_study(path) for path in demos.build(folder)]
        for part in parts:
            PARTS[part](folder, plans)


def _fields_and_gas(folder: Path, plans: list[Plan]) -> None:
    points = np.random.default_rng(1).uniform(-2, 2, (64, 3)).astype(np.float32)
    for plan in [*plans, other_steps(folder)]:
        findings(plan)
        scene = plan.at(0.5)
        for part in plan.study.fields:
            for _, node in scene.steps(part.id):
                sample(node, points, gradient=True)
    scene = plans[0].at(0.5)
    last = scene.lane("wind")
    reading(last, *domain(scene), side=6, gathers=True)
    flow_lines(last, points[:8], length=1.0, steps=4, both=True)
    sample(last, swatch_window(scene).points(16, 16))
    region = GridRegion((-1, -1, 0), (8, 8, 8), 0.25)
    for id in ("wind", "near_quay"):
        grid = Grid(region, bake(scene.lane(id), region))
        grid.sample(points.T.copy())
        grid.sample_many(points)
        grid.sample_with_gradient(points.T.copy())
    mesh = make_mesh(
        np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1.0]]), np.array([[0, 2, 1], [0, 1, 3], [1, 2, 3]]), "m"
    )
    MeshDistance(mesh, cells=16).sample(points.T.copy(), 2)
    mesh.closest(points)
    mesh.contains(points)
    smoke = next(p for p in plans if any(f.id == "smoke" for f in p.study.flows))
    gas = compute(smoke.study, "smoke", folder / "smoke", quality="preview", assets=smoke.assets, last=2)
    volume = kind_of(smoke.study.find("flows", "smoke", "").kind).result(form="volume").read(gas, 2)
    density = volume.grids["density"].values
    for toward in (-1.0, 1.0):
        lit(density, *(np.float32(v) for v in (0.1, 0.2, toward)), np.float32(1), np.empty_like(density))
    pictured()
    compute(sprayed(folder).study, "w", folder / "sprayed", last=3)
    wisps = open_study(folder / "kiln_wisps.gust.json")
    compute(wisps.study, "fine", folder / "fine", quality="preview", assets=wisps.assets, last=2)


def _liquid_grains_and_growth(folder: Path, plans: list[Plan]) -> None:
    thick = poured(folder)
    drawing_of(compute(thick.study, "w", folder / "poured", last=3), thick, "w", 3)
    sand = open_study(folder / "silica_runnel.gust.json")
    compute(sand.study, "silica", folder / "sand", quality="preview", assets=sand.assets, last=3)
    frost = compute(grown(folder).study, "w", folder / "grown", last=3)
    GrowthKind().result(form="mesh").read(frost, 3)
    compute(grown(folder, only_carried=True).study, "w", folder / "carried", last=3)
    store = compute(plans[0].study, "spray", folder / "run", quality="preview", assets=plans[0].assets, last=2)
    findings_on_frame(plans[0], "spray", store, 2)


KERNELS = 160
"""How many there are: for a progress that is told before they are."""
PARTS = {"fields": _fields_and_gas, "flows": _liquid_grains_and_growth}
"""What is compiled by processes of their own: they share few kernels."""
