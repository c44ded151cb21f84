"""Deliveries: axes and units by geometry, read by the real libraries, cut off and gone on, changed and found."""

import errno
import json
import shutil
import subprocess
from pathlib import Path

import numpy as np
import pytest
import trimesh
from hypothesis import given
from hypothesis import strategies as st

from errant_gust.core.errors import Cancelled, FileError, GustError
from errant_gust.core.files import room
from errant_gust.core.files.points import write_ply
from errant_gust.core.files.room import NoRoom
from errant_gust.core.files.vdb import read_vdb, write_vdb
from errant_gust.core.flows.drawing import Instanced, Prototype
from errant_gust.core.flows.kind import kind_of
from errant_gust.core.flows.results import Channel, MeshData, Points, Volume
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.delivery.convention import TO_Y, Convention
from errant_gust.core.runs.delivery.deliver import MANIFEST, deliver
from errant_gust.core.runs.delivery.order import Options, ordered
from errant_gust.core.runs.delivery.sources import Item
from errant_gust.core.runs.delivery.verify import manifest_of, verify
from errant_gust.core.runs.export import export_run
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.shape_files import export_shape
from errant_gust.core.study.building import lane
from errant_gust.core.study.document import dump
from tests.core.test_gas import PUFF, gas
from tests.studies import plan

BALL = {"id": "ball", "kind": "sphere", "params": {"radius": 0.5}}
ABROAD = Convention("Y", "cm", True, 24.0)


def dusty(folder, count):
    """A run of points with trails, five frames."""
    emit = ("emit", {"shape": "ball", "where": "volume", "timing": "all at once", "count": count, "life": 9})
    steps = (emit, ("carry", {"field": "wind"}), ("trail", {"length": 3, "share": 1}))
    wind = lane("wind", ("constant", {"makes": "vector", "vector": [2.4, 0, 1.2]}))
    flow = {**lane("dust", *steps), "kind": "particles"}
    made = plan(wind, flows=[flow], shapes=[BALL], clock={"fps": 24, "start": 1, "end": 5})
    return compute(made.study, "dust", folder)


@pytest.fixture(scope="module")
def dust(tmp_path_factory):
    return dusty(tmp_path_factory.mktemp("dust") / "run", 500)


@pytest.fixture(scope="module")
def smoke(tmp_path_factory):
    made = gas(PUFF, ("rise", {}), h=0.1, end=4)
    return compute(made.study, "g", tmp_path_factory.mktemp("smoke") / "run")


def order(*stores, results=("",), **options):
    items = [Item(s.folder, *r.split(":")) if r else Item(s.folder) for s in stores for r in results]
    return ordered(items, Options(**options))


# conventions ------------------------------------------------------------------------------------------------------


def test_a_place_a_speed_and_a_length_are_what_they_are_abroad():
    known = {"speed": Channel("speed", "m/s"), "density": Channel("density", "1/m³"), "heat": Channel("heat", "K")}
    one = np.ones(1, np.float32)
    points = Points(
        np.float32([[1, 2, 3]]), {"velocity": np.float32([[0, 24, 48]]), "speed": 24 * one, "density": 1e6 * one,
        "heat": 300 * one, "id": np.uint32([7])}, known,
    )  # fmt: skip
    made = ABROAD.of(points)
    np.testing.assert_allclose(made.position, [[100, 300, -200]])
    np.testing.assert_allclose(made.channels["velocity"], [[0, 200, -100]], rtol=1e-6)  # cm a frame
    assert made.channels["speed"] == pytest.approx(100)
    assert made.channels["density"] == pytest.approx(1)
    assert made.channels["heat"] == 300
    assert made.channels["id"].dtype == np.uint32
    assert Convention().of(points) is points


@given(st.tuples(*[st.floats(-180, 180)] * 3), st.sampled_from(["m", "cm"]), st.integers(0, 10**6))
def test_a_volume_abroad_has_the_same_values_at_the_same_places(turn, unit, seed):
    rng = np.random.default_rng(seed)
    region = GridRegion((-0.4, 0.1, -0.2), (5, 4, 6), 0.25, turn)
    grids = {
        "density": Grid(region, rng.random((5, 4, 6)).astype(np.float32)),
        "vel": Grid(region, rng.normal(size=(5, 4, 6, 3)).astype(np.float32), unit="m/s"),
    }
    there = Convention("Y", unit, False, 24)
    made = there.of(Volume(region, grids))
    places = region.centres(0, region.voxels)
    abroad = (TO_Y @ places / there.metres).astype(np.float32)
    np.testing.assert_allclose(made.grids["density"].sample(abroad), grids["density"].sample(places), atol=2e-3)
    turned = TO_Y @ grids["vel"].sample(places) / there.metres
    np.testing.assert_allclose(made.grids["vel"].sample(abroad), turned, atol=2e-2 / there.metres)


def rotated(quaternion, v):
    w, x, y, z = quaternion
    q = np.array([x, y, z])
    return v + 2 * np.cross(q, np.cross(q, v) + w * v)


def test_instances_and_meshes_stand_abroad_as_they_stand_here():
    rng = np.random.default_rng(4)
    turns = rng.normal(size=(6, 4))
    turns = (turns / np.linalg.norm(turns, axis=1, keepdims=True)).astype(np.float32)
    shard = Prototype("shard", rng.normal(size=(5, 3)).astype(np.float32), np.int32([[0, 1, 2]]))
    here = Instanced(
        rng.normal(size=(6, 3)).astype(np.float32), turns, np.full(6, 0.2, np.float32), np.zeros(6, np.int32),
        [shard], {},
    )  # fmt: skip
    there = ABROAD.of(here)
    for n in range(6):
        ours = here.points[n] + here.sizes[n] * np.array([rotated(here.turns[n], v) for v in shard.vertices])
        theirs = there.points[n] + there.sizes[n] * np.array(
            [rotated(there.turns[n], v) for v in there.prototypes[0].vertices]
        )
        np.testing.assert_allclose(theirs, ours @ TO_Y.T * 100, atol=2e-3)
    mesh = MeshData(shard.vertices, shard.faces, {"velocity": shard.vertices}, shard.vertices)
    made = ABROAD.of(mesh)
    np.testing.assert_allclose(made.vertices, shard.vertices @ TO_Y.T * 100, rtol=1e-5)
    np.testing.assert_allclose(made.normals, shard.vertices @ TO_Y.T, rtol=1e-6)


# half floats ------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("compression", ["blosc", "zip", "none"])
def test_half_floats_are_read_by_the_real_library(tmp_path, compression):
    rng = np.random.default_rng(2)
    region = GridRegion((0, 0, 0), (20, 9, 30), 0.1)
    scalar = np.where(rng.random(region.shape) < 0.5, 0, rng.normal(size=region.shape)).astype(np.float32)
    vector = rng.normal(size=(*region.shape, 3)).astype(np.float32)
    path = tmp_path / "half.vdb"
    write_vdb(path, {"density": Grid(region, scalar), "vel": Grid(region, vector)}, compression, half=True)
    code = (
        "import json, sys, pyopenvdb as o, numpy as np\n"
        "d = np.zeros((20, 9, 30), 'f4'); o.read(sys.argv[1], 'density').copyToArray(d)\n"
        "v = np.zeros((20, 9, 30, 3), 'f4'); o.read(sys.argv[1], 'vel').copyToArray(v)\n"
        "print(json.dumps([d.ravel().tolist(), v.ravel().tolist()]))"
    )
    said = subprocess.run(["/usr/bin/python3", "-c", code, str(path)], capture_output=True, text=True, check=True)
    d, v = (np.float32(x) for x in json.loads(said.stdout))
    np.testing.assert_array_equal(d, scalar.astype(np.float16).astype(np.float32).ravel())
    np.testing.assert_array_equal(v, vector.astype(np.float16).astype(np.float32).ravel())
    whole = tmp_path / "whole.vdb"
    write_vdb(whole, {"density": Grid(region, scalar), "vel": Grid(region, vector)}, compression)
    assert path.stat().st_size < 0.67 * whole.stat().st_size
    with pytest.raises(FileError, match="'heat' is too large for half floats"):
        write_vdb(path, {"heat": Grid(region, scalar * 1e6)}, half=True)


# deliveries -------------------------------------------------------------------------------------------------------


def test_gas_for_others_is_read_by_the_real_library_where_it_should_be(smoke, tmp_path):
    made = order(smoke, up="Y", unit="cm", first=2, last=4, step=2, number=1001)
    said = deliver(made, tmp_path / "out", command="gust deliver …")
    assert [f["name"] for f in said["files"]] == [
        "g/g_volume.1001.vdb", "g/g_volume.1003.vdb", "g/g_volume.usda", "scene.usda",
    ]  # fmt: skip
    result = kind_of("gas").result()
    code = (
        "import json, sys, pyopenvdb as o\n"
        "g = o.read(sys.argv[1], 'density')\n"
        "i = g.evalActiveVoxelBoundingBox()\n"
        "print(json.dumps([g.transform.indexToWorld((0, 0, 0)), g.transform.voxelSize(), i[1]]))"
    )
    path = tmp_path / "out" / said["files"][1]["name"]
    read = subprocess.run(["/usr/bin/python3", "-c", code, str(path)], capture_output=True, text=True, check=True)
    first, size, _ = json.loads(read.stdout)
    volume = result.read(smoke, 4)
    corner = np.array(volume.region.lower) + 0.05
    other = np.array([corner[0], corner[1] + 0.1 * (volume.region.shape[1] - 1), corner[2]])
    np.testing.assert_allclose(first, 100 * TO_Y @ other, atol=1e-3)
    np.testing.assert_allclose(size, [10, 10, 10], rtol=1e-6)
    ours = read_vdb(path)["density"]
    assert float(ours.values.sum()) == pytest.approx(float(volume.grids["density"].values.sum()), rel=1e-5)
    assert verify(tmp_path / "out") == []
    assert manifest_of(tmp_path / "out")["command"] == "gust deliver …"


def test_colours_of_points_are_as_bright_in_a_file_as_they_are(tmp_path):
    colour = np.float32([[1, 0.5, 0], [0, 0.25, 1.5]])
    write_ply(tmp_path / "c.ply", {"position": np.zeros((2, 3), np.float32), "colour": colour})
    assert trimesh.load(tmp_path / "c.ply").colors[:, :3].tolist() == [[255, 128, 0], [0, 64, 255]]


@pytest.mark.parametrize(("fps", "slow"), [(24, 1.0), (30, 2.5), (48, 0.5)])
def test_in_slow_motion_velocities_are_a_second_of_the_film_that_it_is(tmp_path, fps, slow):
    """x(t + 1) − x(t) = v / timeCodesPerSecond: points and shapes, exported and delivered."""
    from pxr import Usd, UsdGeom

    emit = ("emit", {"shape": "ball", "timing": "all at once", "count": 40, "life": 99})
    wind = lane("wind", ("constant", {"makes": "vector", "vector": [2.4, 0, 1.2]}))
    flow = {**lane("dust", emit, ("carry", {"field": "wind"})), "kind": "particles"}
    path = {"keys": [[0, [0, 0, 0]], [9, [9, 0, -18]]], "between": "linear"}
    mover = {"id": "mover", "kind": "box", "params": {"move": path}}
    clock = {"fps": fps, "start": 1, "end": 4, "slow_motion": slow}
    made = plan(wind, flows=[flow], shapes=[BALL, mover], clock=clock)
    run = compute(made.study, "dust", tmp_path / "run")
    export_run(run, tmp_path / "points", format="usd")
    export_shape(made, "mover", tmp_path / "shape", format="usd")
    study = dump(made.study)
    results = [Item(run.folder, "particles", "usd"), Item(tmp_path, "mover", "usd", study=study)]
    deliver(ordered(results, Options(unit="cm")), tmp_path / "out")
    found = 0
    stages = [p for p in tmp_path.rglob("*.usda") if ".manifest" not in p.name and ".topology" not in p.name]
    for file in stages:
        stage = Usd.Stage.Open(str(file))
        for prim in stage.Traverse():
            if not prim.IsA(UsdGeom.PointBased):
                continue
            one = UsdGeom.PointBased(prim)
            way = np.array(one.GetPointsAttr().Get(3)) - np.array(one.GetPointsAttr().Get(2))
            speed = np.array(one.GetVelocitiesAttr().Get(2)) / stage.GetTimeCodesPerSecond()
            np.testing.assert_allclose(way, speed, rtol=1e-3, atol=1e-4)
            assert np.abs(way).max() > 0.01
            found += 1
    assert found >= 4


@pytest.mark.parametrize("per", ["second", "frame"])
def test_what_is_delivered_in_centimetres_says_so(smoke, tmp_path, per):
    """The unit that a file names is that of its values, in every format that names one."""
    import zarr

    v, h = ("cm/s", "cm") if per == "second" else ("cm/frame", "cm")
    for format in ("npz", "vti", "zarr", "vdb"):
        deliver(ordered([Item(smoke.folder, "", format)], Options(unit="cm", per=per, last=2)), tmp_path / format)
        file = next(p for p in sorted((tmp_path / format / "g").iterdir()) if p.suffix != ".usda")
        if format == "npz":
            with np.load(file) as z:
                assert str(z["vel.unit"]) == v
        elif format == "vti":
            assert f'Unit="{v}"'.encode() in file.read_bytes()
        elif format == "zarr":
            group = zarr.open_group(zarr.storage.ZipStore(file, mode="r"), mode="r")
            assert v in {a.attrs.get("unit") for _, a in group.arrays()} or v in json.dumps(dict(group.attrs))
        else:
            said = subprocess.run(["vdb_print", "-m", str(file)], capture_output=True, text=True, check=True).stdout
            assert f"unit: {v}" in said
            assert "unit: m/s" not in said
    assert Convention("Z", "mm").label("m²/s") == "mm²/s"
    assert Convention("Z", "cm").label("1/m³") == "1/cm³"
    assert Convention("Z", h).label("K") == "K"


def test_points_lines_and_a_stage_are_read_by_usd_with_axes_units_and_numbers(dust, tmp_path):
    from pxr import Usd, UsdGeom

    made = order(dust, results=("particles:usd", "lines:usd"), up="Y", unit="cm", per="frame", number=101)
    said = deliver(made, tmp_path / "out")
    assert len(said["files"]) == 2 * (5 + 3) + 1
    (stage_file,) = [f["name"] for f in said["files"] if f["name"].endswith("dust_particles.usda")]
    stage = Usd.Stage.Open(str(tmp_path / "out" / stage_file))
    assert UsdGeom.GetStageUpAxis(stage) == "Y"
    assert UsdGeom.GetStageMetersPerUnit(stage) == pytest.approx(0.01)
    assert stage.GetTimeCodesPerSecond() == 24
    assert (stage.GetStartTimeCode(), stage.GetEndTimeCode()) == (101, 105)
    cloud = UsdGeom.Points(stage.GetPrimAtPath("/dust/Particles"))
    here = kind_of("particles").result().read(dust, 5)
    np.testing.assert_allclose(np.array(cloud.GetPointsAttr().Get(105)), here.position @ TO_Y.T * 100, rtol=1e-4)
    speed = np.array(cloud.GetVelocitiesAttr().Get(105))
    np.testing.assert_allclose(speed, np.tile([10, 5, 0], (500, 1)), atol=1e-3)  # 2.4 and 1.2 m/s in cm a frame
    (lines_file,) = [f["name"] for f in said["files"] if f["name"].endswith("dust_lines.usda")]
    drawn = Usd.Stage.Open(str(tmp_path / "out" / lines_file))
    lines = UsdGeom.BasisCurves(drawn.GetPrimAtPath("/dust/Lines"))
    assert len(lines.GetPointsAttr().Get(105)) > 500
    assert verify(tmp_path / "out") == []


VIEWS = (
    {"name": "Quay", "position": [0, -5, 1], "target": [0, 0, 1], "parallel": False},
    {"name": "Quay", "position": [0, 0, 6], "target": [0, 0, 1], "parallel": True},
)


def test_one_stage_shows_points_lines_volumes_and_cameras(dust, smoke, tmp_path):
    from pxr import Gf, Usd, UsdGeom, UsdVol

    items = [Item(dust.folder, "particles", "usd"), Item(smoke.folder), Item(dust.folder, "lines", "usd")]
    made = ordered(items, Options(up="Y", unit="cm", last=4, number=101, cameras=VIEWS))
    deliver(made, tmp_path / "out")
    shutil.move(tmp_path / "out", tmp_path / "elsewhere")  # every path in it is one beside it
    stage = Usd.Stage.Open(str(tmp_path / "elsewhere" / "scene.usda"))
    assert (UsdGeom.GetStageUpAxis(stage), UsdGeom.GetStageMetersPerUnit(stage)) == ("Y", pytest.approx(0.01))
    assert (stage.GetStartTimeCode(), stage.GetEndTimeCode(), stage.GetTimeCodesPerSecond()) == (101, 104, 24)
    names = [p.GetName() for p in stage.GetPrimAtPath("/World").GetChildren()]
    assert names == ["dust_particles", "g_volume", "dust_lines", "Cameras"]
    here = kind_of("particles").result().read(dust, 4)
    cloud = UsdGeom.Points(stage.GetPrimAtPath("/World/dust_particles/Particles"))
    np.testing.assert_allclose(np.array(cloud.GetPointsAttr().Get(104)), here.position @ TO_Y.T * 100, rtol=1e-4)
    assert len(UsdGeom.BasisCurves(stage.GetPrimAtPath("/World/dust_lines/Lines")).GetPointsAttr().Get(103)) > 500

    volume = UsdVol.Volume(stage.GetPrimAtPath("/World/g_volume/Volume"))
    assert set(volume.GetFieldPaths()) == {"density", "temperature", "vel"}
    density = UsdVol.OpenVDBAsset(stage.GetPrimAtPath(volume.GetFieldPath("density")))
    for frame in (1, 4):
        path = density.GetFilePathAttr().Get(100 + frame).resolvedPath
        grid = read_vdb(Path(path))[density.GetFieldNameAttr().Get()]
        ours = kind_of("gas").result().read(smoke, frame)
        assert float(grid.values.sum()) == pytest.approx(float(ours.grids["density"].values.sum()), rel=1e-5)
        low, high = np.array(volume.GetExtentAttr().Get(100 + frame))
        around = ours.region.corners @ TO_Y.T * 100
        np.testing.assert_allclose([low, high], [around.min(axis=0), around.max(axis=0)], atol=1e-3)
    velocity = UsdVol.OpenVDBAsset(stage.GetPrimAtPath(volume.GetFieldPath("vel")))
    assert velocity.GetFieldDataTypeAttr().Get() == "float3"
    assert velocity.GetVectorDataRoleHintAttr().Get() == "Vector"

    def seen(name, place):
        """Where a place of ours is in the picture of a camera, from -1 to 1."""
        camera = UsdGeom.Camera(stage.GetPrimAtPath(f"/World/Cameras/{name}")).GetCamera()
        frustum = camera.frustum
        return np.array((frustum.ComputeViewMatrix() * frustum.ComputeProjectionMatrix()).Transform(
            Gf.Vec3d(*map(float, TO_Y @ np.array(place, float) * 100)))
        )[:2]  # fmt: skip

    reach = 5 * np.tan(np.radians(19))  # half the height that the view shows at the target
    np.testing.assert_allclose(seen("Quay", (0, 0, 1)), 0, atol=1e-6)
    np.testing.assert_allclose(seen("Quay", (0, 0, 1 + reach)), (0, 1), atol=1e-5)
    np.testing.assert_allclose(seen("Quay", (1.6 * reach, 0, 1)), (1, 0), atol=1e-5)
    np.testing.assert_allclose(seen("Quay_2", (0, reach, 1)), (0, 1), atol=1e-5)
    np.testing.assert_allclose(seen("Quay_2", (1.6 * reach, 0, -3)), (1, 0), atol=1e-5)
    assert verify(tmp_path / "elsewhere") == []


def test_half_floats_and_frames_in_folders_are_shown_by_the_stage_and_it_can_be_left_out(smoke, tmp_path):
    from pxr import Usd, UsdVol

    options = {"half": True, "pattern": "{frame}/{flow}_{result}.{frame}"}
    deliver(order(smoke, **options), tmp_path / "out")
    stage = Usd.Stage.Open(str(tmp_path / "out" / "scene.usda"))
    asset = UsdVol.OpenVDBAsset(stage.GetPrimAtPath("/World/g_volume/Volume/density"))
    assert asset.GetFieldDataTypeAttr().Get() == "half"
    assert Path(asset.GetFilePathAttr().Get(2).resolvedPath).parts[-2:] == ("0002", "g_volume.0002.vdb")
    said = deliver(order(smoke, stage=False, **options), tmp_path / "bare")
    assert not [f for f in said["files"] if "usd" in f["name"]]


@pytest.mark.parametrize("format", ["npz", "ply", "csv", "usd"])
def test_one_byte_that_was_changed_is_found_whatever_the_format(dust, tmp_path, format):
    said = deliver(order(dust, results=(f"particles:{format}",), last=2), tmp_path / "out")
    path = tmp_path / "out" / said["files"][0]["name"]
    whole = path.read_bytes()
    path.write_bytes(whole[:-40] + bytes([whole[-40] ^ 1]) + whole[-39:])
    (fault,) = verify(tmp_path / "out")
    assert (fault.name, fault.what) == (said["files"][0]["name"], "was changed: its sum is another")
    path.write_bytes(whole[:-1])
    assert "bytes in place of" in verify(tmp_path / "out")[0].what
    path.unlink()
    (tmp_path / "out" / "more.txt").write_text("x")
    assert [f.what for f in verify(tmp_path / "out")] == ["is missing", "was not delivered"]


def test_a_file_that_cannot_be_read_back_is_found_though_its_sum_is_right(smoke, tmp_path):
    import hashlib

    deliver(order(smoke, last=1), tmp_path / "out")
    said = json.loads((tmp_path / "out" / MANIFEST).read_text())
    path = tmp_path / "out" / said["files"][0]["name"]
    broken = path.read_bytes()[:200]
    path.write_bytes(broken)
    said["files"][0] |= {"bytes": len(broken), "sha256": hashlib.sha256(broken).hexdigest()}
    (tmp_path / "out" / MANIFEST).write_text(json.dumps(said))
    names = [f.name for f in verify(tmp_path / "out")]
    assert names == ["SHA256SUMS", MANIFEST, path.relative_to(tmp_path / "out").as_posix()]


def test_one_that_was_stopped_goes_on_with_what_it_wrote(dust, tmp_path):
    made = order(dust, results=("particles:npz",))
    calls = iter(range(100))
    with pytest.raises(Cancelled):
        deliver(made, tmp_path / "out", cancel=lambda: next(calls) >= 2)
    aside = tmp_path / ".out.delivering"
    assert not (tmp_path / "out").exists(), "nothing half-written stands under its name"
    first = sorted(aside.rglob("*.npz"))
    assert len(first) == 2
    stamps = [p.stat().st_mtime_ns for p in first]
    with (aside / ".done.jsonl").open("a") as file:
        file.write('{"name": "cut o')  # as a kill leaves it
    deliver(made, tmp_path / "out")
    there = sorted((tmp_path / "out").rglob("*.npz"))
    assert [p.stat().st_mtime_ns for p in there[:2]] == stamps
    assert len(there) == 5
    assert not aside.exists()
    assert verify(tmp_path / "out") == []
    straight = deliver(made, tmp_path / "straight")
    assert straight["files"] == manifest_of(tmp_path / "out")["files"]


def test_another_order_keeps_nothing_of_one_that_was_stopped(dust, tmp_path):
    with pytest.raises(Cancelled):
        deliver(order(dust, results=("particles:npz",)), tmp_path / "out", cancel=lambda: True)
    deliver(order(dust, results=("particles:csv",), last=1), tmp_path / "out")
    assert [p.name for p in sorted((tmp_path / "out").rglob("*.*")) if p.is_file()] == ["delivery.json",
        "dust_particles.0001.csv"]  # fmt: skip


def test_velocities_from_positions_and_chosen_channels(dust, tmp_path):
    made = ordered(
        [Item(dust.folder, "particles", "npz", ("velocity",))],
        Options(velocity="positions", per="frame", first=3, last=3),
    )
    said = deliver(made, tmp_path / "out")
    with np.load(tmp_path / "out" / said["files"][0]["name"]) as archive:
        assert sorted(archive.files) == ["position", "velocity"]
        np.testing.assert_allclose(archive["velocity"], np.tile([0.1, 0, 0.05], (500, 1)), atol=1e-5)


@pytest.mark.parametrize(
    ("options", "words"),
    [
        ({"pattern": "{flow}"}, "would make all frames one file"),
        ({"pattern": "{flwo}.{frame}"}, "did you mean 'flow'"),
        ({"pattern": "../{frame}"}, "leaves the folder"),
        ({"pattern": "/tmp/{frame}"}, "leaves the folder"),
        ({"pattern": ".{frame}"}, "hides files"),
        ({"pattern": "{frame}/x"}, "leaves the folder"),
        ({"pattern": "{frame}*"}, "characters that names do not have"),
        ({"up": "X"}, "one of: Z, Y"),
        ({"unit": "foot"}, "one of: m, dm, cm, mm"),
        ({"per": "hour"}, "one of: second, frame"),
        ({"step": 0}, "right would be 1 or more"),
        ({"padding": 0}, "0 digits"),
        ({"cameras": ({"name": "Quay", "position": [0, 1]},)}, r"cameras\[0\]: is no viewpoint"),
        ({"first": 4, "last": 9}, "frame 6 is not there; it has 1 to 5"),
        ({"first": 4, "last": 2}, "frames 4 to 2 are none"),
    ],
)
def test_what_cannot_be_meant_is_told_before_anything_is_written(dust, options, words):
    with pytest.raises(GustError, match=words):
        order(dust, **options)


def test_two_results_in_one_file_are_refused_by_name(dust, smoke, tmp_path):
    with pytest.raises(GustError, match=r"two frames|would be one file"):
        order(dust, results=("particles:usd", "lines:usd"), pattern="{flow}.{frame}")
    with pytest.raises(FileError, match="does not hold"):
        order(smoke, results=("volume:csv",))
    with pytest.raises(GustError, match="nothing is chosen"):
        ordered([], Options())


def test_a_target_that_is_there_or_has_no_room_is_refused_and_left_alone(dust, tmp_path, monkeypatch):
    made = order(dust, results=("particles:npz",))
    (tmp_path / "full").mkdir()
    (tmp_path / "full" / "work.txt").write_text("mine")
    with pytest.raises(FileError, match="is there already"):
        deliver(made, tmp_path / "full")
    assert (tmp_path / "full" / "work.txt").read_text() == "mine"
    monkeypatch.setattr("errant_gust.core.runs.delivery.deliver.free_at", lambda folder: 1000)
    with pytest.raises(NoRoom, match=r"are needed and 1 kB are free"):
        deliver(made, tmp_path / "new")
    assert not (tmp_path / "new").exists()
    monkeypatch.undo()
    monkeypatch.setattr(room, "free_at", lambda folder: 10**12)

    def full(*given):
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr("errant_gust.core.files.writing.os.fsync", full)
    with pytest.raises(NoRoom, match="No space left"):
        deliver(made, tmp_path / "new")
    assert not (tmp_path / "new").exists()


def test_a_run_that_is_deleted_meanwhile_ends_it_in_words(dust, tmp_path):
    copy = RunStore(tmp_path / "copy")
    shutil.copytree(dust.folder, copy.folder)
    made = order(copy, results=("particles:npz",))

    def gone(done, total, name):
        if done == 2:
            shutil.rmtree(copy.folder)

    with pytest.raises(FileError, match=r"is not a run|is not there"):
        deliver(made, tmp_path / "out", report=gone)
    assert not (tmp_path / "out").exists()


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda said: said.pop("files"), "is broken"),
        (lambda said: said.update(format="other"), "of another version"),
        (lambda said: said["files"][0].update(name="../x"), "the manifest was changed"),
        (lambda said: said["files"][0].update(sha256=3), "the manifest was changed"),
    ],
)
def test_a_manifest_that_was_changed_says_so(dust, tmp_path, change, words):
    deliver(order(dust, results=("particles:csv",), last=1), tmp_path / "out")
    said = json.loads((tmp_path / "out" / MANIFEST).read_text())
    change(said)
    (tmp_path / "out" / MANIFEST).write_text(json.dumps(said))
    with pytest.raises(FileError, match=words):
        verify(tmp_path / "out")
    with pytest.raises(FileError, match="is no delivery"):
        verify(tmp_path)
