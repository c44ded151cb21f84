"""Shapes as files: triangles a frame, with velocity where they move, a stage that plays them, level sets; read back."""

import subprocess

import numpy as np
import pytest
import trimesh
from pxr import Usd, UsdGeom

from errant_gust.core.errors import BudgetError, FileError, StudyError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.files.vdb import read_vdb
from errant_gust.core.runs.shape_files import FORMATS, export_shape, level_set
from errant_gust.core.study.building import lane, study
from errant_gust.core.study.document import parse
from tests.liquids import ball


def growing() -> Plan:
    """A surface that a lane makes of a ball which grows from 0.3 to 0.7 m in ten frames, and a plane."""
    grows = ball("ball", 0.5, (0.1, 0, 0))
    grows["params"]["radius"] = {"keys": [[0, 0.3], [1, 0.7]], "between": "linear"}
    shapes = [
        grows, {"id": "s", "kind": "field_surface", "params": {"field": "d", "region": "r"}},
        {"id": "ground", "kind": "plane", "params": {}},
    ]  # fmt: skip
    regions = [{"id": "r", "bounds": {"lower": [-1, -1, -1], "upper": [1, 1, 1]}, "voxel_size": 0.0625}]
    clock = {"fps": 10, "start": 1, "end": 11}
    return Plan(parse(study("S", lane("d", ("distance", {"shape": "ball"})), shapes=shapes, regions=regions,
                            clock=clock)))  # fmt: skip


@pytest.mark.parametrize("format", ["obj", "ply", "stl"])
def test_a_mesh_a_frame_has_the_shape_of_that_frame(tmp_path, format):
    made = export_shape(growing(), "s", tmp_path, format=format, frames=(1, 11))
    assert [p.name for p, _ in made] == [f"s.{n:04d}.{format}" for n in range(1, 12)]
    for frame, radius in ((1, 0.3), (6, 0.5), (11, 0.7)):
        mesh = trimesh.load(tmp_path / f"s.{frame:04d}.{format}")
        assert np.linalg.norm(mesh.vertices - [0.1, 0, 0], axis=1) == pytest.approx(radius, abs=0.012)
        mesh.merge_vertices()
        assert mesh.is_watertight
        assert mesh.volume == pytest.approx(4 / 3 * np.pi * radius**3, rel=0.08), "and looks outward"
    assert made[0][1] != made[1][1]


def test_velocity_is_on_the_vertices_and_a_stage_plays_the_frames(tmp_path):
    export_shape(growing(), "s", tmp_path / "npz", format="npz", frames=(6, 6))
    data = np.load(tmp_path / "npz" / "s.0006.npz")
    outward = (data["vertices"] - [0.1, 0, 0]) / np.linalg.norm(data["vertices"] - [0.1, 0, 0], axis=1)[:, None]
    assert np.median((data["velocity"] * outward).sum(axis=1)) == pytest.approx(0.4, rel=0.05)
    export_shape(growing(), "s", tmp_path / "usd", format="usd", frames=(5, 7))
    stage = Usd.Stage.Open(str(tmp_path / "usd" / "s.usda"))
    mesh = UsdGeom.Mesh(stage.GetPrimAtPath("/s/Mesh"))
    for frame, radius in ((5, 0.46), (7, 0.54)):
        points = np.array(mesh.GetPointsAttr().Get(frame))
        assert np.linalg.norm(points - [0.1, 0, 0], axis=1) == pytest.approx(radius, abs=0.012)
        faces = np.array(mesh.GetFaceVertexIndicesAttr().Get(frame))
        assert faces.max() < len(points)
        assert len(mesh.GetVelocitiesAttr().Get(frame)) == len(points)


def test_a_level_set_is_one_for_the_real_library(tmp_path):
    export_shape(growing(), "s", tmp_path, format="vdb", frames=(6, 6), voxel=0.05)
    path = tmp_path / "s.0006.vdb"
    said = subprocess.run(["vdb_print", "-l", str(path)], capture_output=True, text=True, check=True).stdout
    assert "Background value: 0.15" in said
    assert "level set" in subprocess.run(["vdb_print", "-m", str(path)], capture_output=True, text=True).stdout
    grid = read_vdb(path)["s"]
    points = grid.region.centres(0, grid.region.voxels)
    right = np.clip(np.linalg.norm(points - np.array([[0.1], [0], [0]]), axis=0) - 0.5, -0.15, 0.15)
    assert grid.values.reshape(-1) == pytest.approx(right, abs=0.01)


def test_what_cannot_be_written_is_said_and_nothing_is_lost(tmp_path, monkeypatch):
    plan = growing()
    with pytest.raises(FileError, match="not a format"):
        export_shape(plan, "s", tmp_path, format="fbz")
    with pytest.raises(StudyError, match="there is no shape 'z'"):
        export_shape(plan, "z", tmp_path / "z")
    assert not (tmp_path / "z").exists()
    with pytest.raises(StudyError, match="no end"):
        level_set(plan.at(0).shape("ground"))
    export_shape(plan, "ball", tmp_path, frames=(1, 2))
    before = (tmp_path / "ball.0002.obj").read_bytes()
    with pytest.raises(FileError, match="already"):
        export_shape(plan, "ball", tmp_path, frames=(2, 3))
    assert (tmp_path / "ball.0002.obj").read_bytes() == before
    assert not (tmp_path / "ball.0003.obj").exists()
    monkeypatch.setenv("ERRANT_GUST_BUDGET_MB", "10")
    with pytest.raises(BudgetError):
        level_set(plan.at(0).shape("ball"), 0.001)
    assert set(FORMATS) == {"obj", "ply", "stl", "usd", "npz", "vdb"}
