"""The surface of particles: the volume they stand for, smooth, closed, with what they carry; written and read back."""

import subprocess
from pathlib import Path

import numpy as np
import pytest
import trimesh

from errant_gust.core.errors import BudgetError, FileError
from errant_gust.core.files.meshes import write_mesh
from errant_gust.core.grids.particle_surface import BAND, distance_of, particle_surface
from errant_gust.core.grids.transfer import order_by_cell
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.export import export_run
from tests.liquids import ball, liquid, once

D = 1 / 64  # spacing


def scattered(n, rng, jitter=0.34):
    """Places (3, m) in m of an n³ lattice, each moved within its cell."""
    cells = np.stack(np.meshgrid(*[np.arange(n)] * 3, indexing="ij")).reshape(3, -1) + 0.5
    return (cells + 2 * jitter * (rng.random(cells.shape) - 0.5)) * D


@pytest.fixture(scope="module")
def ball_of_points():
    q = scattered(64, np.random.default_rng(2)) - 0.5
    return np.ascontiguousarray(q[:, (q**2).sum(axis=0) < 0.4**2], np.float32)


def mesh_of(made):
    return trimesh.Trimesh(made.vertices, made.faces, process=False)


@pytest.mark.parametrize("blurs", [0, 4, 8])
def test_it_encloses_the_volume_of_the_particles_whatever_is_smoothed(ball_of_points, blurs):
    made = particle_surface(ball_of_points, D, D, blurs=blurs)
    mesh = mesh_of(made)
    assert mesh.is_watertight
    assert mesh.volume == pytest.approx(ball_of_points.shape[1] * D**3, rel=0.01)
    assert made.volume == pytest.approx(mesh.volume, rel=0.01)
    radius = np.linalg.norm(made.vertices, axis=1)
    assert radius.mean() == pytest.approx(0.4, abs=0.1 * D)
    assert radius.std() < (0.12 if blurs else 0.3) * D
    outward = (made.normals * made.vertices).sum(axis=1) / radius
    assert outward.min() > 0.8


def test_smoothing_takes_the_bumps_of_single_particles(ball_of_points):
    bent = [np.degrees(mesh_of(particle_surface(ball_of_points, D, D, blurs=n)).face_adjacency_angles).mean() for n in
            (0, 2, 4)]  # fmt: skip
    assert bent[0] > 6 > 3 > bent[1] > bent[2]
    assert bent[2] < 2.2, "of which a ball of 25 voxels has most by itself"


@pytest.mark.parametrize("layers", [1, 2, 4])
def test_sheets_hold_together(layers):
    rng = np.random.default_rng(3)
    q = scattered(40, rng, 0.3)
    q = np.ascontiguousarray(q[:, q[2] < layers * D], np.float32)
    made = particle_surface(q, D, D, blurs=4)
    mesh = mesh_of(made)
    assert mesh.body_count == 1
    assert mesh.volume > (0.5 if layers == 1 else 0.9) * q.shape[1] * D**3


def test_vertices_have_what_the_particles_around_them_have(ball_of_points):
    made = particle_surface(
        ball_of_points, D, D, values=np.stack([ball_of_points[0], np.full_like(ball_of_points[0], 7)])
    )
    off = made.values[0] - made.vertices[:, 0]
    assert np.abs(off).max() < D, "the mean of what is near lies within a spacing"
    assert made.values[1] == pytest.approx(7, abs=1e-4)


def test_thickness_is_how_far_it_is_through():
    q = scattered(32, np.random.default_rng(5))
    q = np.ascontiguousarray(q[:, q[2] < 8 * D], np.float32)
    made = particle_surface(q, D, D)
    top = (made.normals[:, 2] > 0.95) & (np.abs(made.vertices[:, :2] - 16 * D).max(axis=1) < 8 * D)
    assert np.median(made.thickness[top]) == pytest.approx(8 * D, rel=0.15)


def test_same_bits_on_any_threads(ball_of_points, monkeypatch):
    made = []
    for n in ("1", "2", "3"):
        monkeypatch.setenv("ERRANT_GUST_THREADS", n)
        made.append(particle_surface(ball_of_points, D, D, values=ball_of_points))
    for other in made[1:]:
        for name in ("vertices", "faces", "normals", "values", "thickness"):
            assert np.array_equal(getattr(made[0], name), getattr(other, name)), name


def test_nothing_and_one_particle_and_too_much(monkeypatch):
    none = particle_surface(np.zeros((3, 0), np.float32), D, D, values=np.zeros((2, 0), np.float32))
    assert none.vertices.shape == (0, 3)
    assert none.values.shape == (2, 0)
    one = mesh_of(particle_surface(np.zeros((3, 1), np.float32), D, D / 4, blurs=0))
    assert one.volume == pytest.approx(D**3, rel=0.3)
    monkeypatch.setenv("ERRANT_GUST_BUDGET_MB", "20")
    far = np.float32([[0, 5], [0, 5], [0, 5]])
    with pytest.raises(BudgetError) as error:
        particle_surface(far, D, D)
    assert error.value.fits > D


@pytest.fixture(scope="module")
def pool(tmp_path_factory):
    """A run of three frames with a surface."""
    p = liquid(
        once("blob", velocity=[1, 0, 0], viscosity=0.02, colour=[1, 0.5, 0]), ("gravity", {}), ("colour", {}),
        ("surface", {"smooth": 3}), h=0.05,
        room=((-0.5, -0.5, 0), (0.5, 0.5, 1)), shapes=[ball("blob", 0.2, (0, 0, 0.5))], end=3,
    )  # fmt: skip
    return p, compute(p.study, "w", tmp_path_factory.mktemp("pool") / "run")


@pytest.mark.parametrize("format", ["ply", "obj", "stl"])
def test_meshes_are_written_and_read_by_another_library(pool, tmp_path, format):
    p, store = pool
    export_run(store, tmp_path, what="surface", format=format, plan=p)
    read = trimesh.load(tmp_path / f"w.surface.0003.{format}", process=True)
    assert read.is_watertight
    assert read.volume == pytest.approx(store.facts(3)["volume"], rel=0.02)
    if format == "ply":
        extra = read.metadata["_ply_raw"]["vertex"]["data"]
        assert np.mean(extra["vx"]) == pytest.approx(1, abs=0.02)
        assert np.mean(extra["viscosity"]) == pytest.approx(0.02, rel=0.01)
        assert extra["thickness"].min() > 0
        colours = read.visual.vertex_colors[:, :3]
        assert colours.mean(axis=0) == pytest.approx([255, 127.5, 0], abs=1)


def test_usd_meshes_have_velocities_a_second_and_channels(pool, tmp_path):
    from pxr import Usd, UsdGeom

    p, store = pool
    export_run(store, tmp_path, what="surface", format="usd", plan=p)
    stage = Usd.Stage.Open(str(tmp_path / "w.surface.usda"))
    mesh = UsdGeom.Mesh(stage.GetPrimAtPath("/w/Mesh"))
    assert UsdGeom.GetStageMetersPerUnit(stage) == 1
    counts = []
    for frame in (1, 3):
        points = np.array(mesh.GetPointsAttr().Get(frame))
        velocity = np.array(mesh.GetVelocitiesAttr().Get(frame))
        faces = np.array(mesh.GetFaceVertexIndicesAttr().Get(frame)).reshape(-1, 3)
        assert velocity.shape == points.shape
        assert velocity[:, 0].mean() == pytest.approx(1, abs=0.02)
        assert trimesh.Trimesh(points, faces, process=False).volume == pytest.approx(
            store.facts(frame)["volume"], rel=0.02
        )
        counts.append(len(points))
    assert UsdGeom.PrimvarsAPI(mesh).GetPrimvar("thickness").Get(3)
    assert np.array(mesh.GetDisplayColorAttr().Get(3)).mean(axis=0) == pytest.approx([1, 0.5, 0], abs=0.01)
    assert mesh.GetSubdivisionSchemeAttr().Get() == "none"


@pytest.mark.parametrize("radius", [4, 8, 16])
@pytest.mark.parametrize("off", [0.0, 0.37])
def test_the_level_set_has_the_volume_and_the_place_of_the_particles(radius, off, rng):
    """Voxels of two spacings, as a liquid's: a ball of particles, anywhere among the voxels."""
    q = scattered(4 * radius + 16, rng) / D / 2
    middle = radius + 4 + off
    q = np.ascontiguousarray(q[:, ((q - middle) ** 2).sum(axis=0) < radius**2], np.float32)
    shape = (2 * radius + 9,) * 3
    order = order_by_cell(q, shape)
    d = distance_of(order.sorted(q), order.start, shape, 0.5)
    whole = 4 / 3 * np.pi * radius**3
    assert np.clip(0.5 - d, 0, 1).sum() == pytest.approx(whole, rel=0.015)
    assert (d < 0).sum() == pytest.approx(whole, rel=0.06 if radius < 8 else 0.025)
    at = np.stack(np.meshgrid(*[np.arange(n) + 0.5 for n in shape], indexing="ij"))
    true = np.sqrt(((at - middle) ** 2).sum(axis=0)) - radius
    wrong = (d - true)[np.abs(true) < 2.4]
    assert abs(wrong.mean()) < 0.14
    assert wrong.std() < 0.14, "in voxels"
    assert d.max() == BAND
    assert radius == 4 or d.min() == -BAND


READ = """
import sys, numpy as np, pyopenvdb as vdb
grids = {g.name: g for g in vdb.readAll(sys.argv[1])[0]}
d, v = grids["distance"], grids["vel"]
xyz = np.array(sys.argv[2].split(","), float).reshape(-1, 3)
at = [tuple(int(round(c)) for c in d.transform.worldToIndex(tuple(p))) for p in xyz]
far = d.getConstAccessor().getValue((-500, 0, 0))
assert d.gridClass == "level set" and far > 0 and far == d.background, (d.gridClass, far)
lower, upper = d.evalActiveVoxelBoundingBox()
a, h = np.zeros(np.array(upper) - lower + 1, np.float32), d.transform.voxelSize()[0]
d.copyToArray(a, ijk=lower)
print(sorted(grids), np.clip(0.5 - a / h, 0, 1).sum() * h**3,
      np.mean([d.getConstAccessor().getValue(i) < 0.75 * h for i in at]),
      np.mean([v.getConstAccessor().getValue(i)[0] for i in at]))
"""


def test_the_level_set_and_the_velocity_are_openvdb_that_others_read(pool, tmp_path):
    _, store = pool
    export_run(store, tmp_path, what="volume", format="vdb")
    points = store.read(3, ("position",))["position"][::37]
    words = ",".join(f"{x:.5f}" for x in points.reshape(-1))
    file = next(Path(tmp_path).glob("w.volume.0003.vdb"))
    said = subprocess.run(
        ["/usr/bin/python3", "-c", READ, str(file), words], capture_output=True, text=True, check=True
    )
    names, volume, inside, speed = said.stdout.rsplit(maxsplit=3)
    assert "distance" in names
    assert float(volume) == pytest.approx(store.facts(3)["volume"], rel=0.02)
    assert float(inside) > 0.99
    assert float(speed) == pytest.approx(1, abs=0.05)


def test_a_mesh_that_cannot_be_written_leaves_nothing(tmp_path):
    with pytest.raises(FileError, match="cannot be written"):
        write_mesh(tmp_path / "none" / "a.ply", np.zeros((3, 3), np.float32), np.int32([[0, 1, 2]]), {})
    assert not list(tmp_path.iterdir())
