"""Fields and shapes of a study in deliveries: where they are, on every frame, in others' axes and units."""

import json
import pickle
import subprocess

import numpy as np
import pytest
from pxr import Usd, UsdGeom

import errant_gust
from errant_gust.core.api import field
from errant_gust.core.errors import BudgetError, FileError, GustError, StudyError
from errant_gust.core.files.vdb_read import read_vdb
from errant_gust.core.geometry.mesh import read_mesh
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.delivery.deliver import deliver
from errant_gust.core.runs.delivery.hands import TAKEN, shares_of, write_share
from errant_gust.core.runs.delivery.order import Options, again, ordered
from errant_gust.core.runs.delivery.sources import items_of, offers_of
from errant_gust.core.runs.delivery.verify import manifest_of, verify
from errant_gust.core.study.document import dump, parse
from errant_gust.core.study.viewpoints import camera_path
from tests.core.test_gas import PUFF, gas
from tests.studies import lane, plan

ROOM = {"id": "room", "bounds": {"lower": [-1, -1, 0], "upper": [1, 1, 1]}, "voxel_size": 0.25}
GOES = {"keys": [[0, [0, 0, 0]], [1, [2.4, 0, 0]]]}


@pytest.fixture
def yard():
    """A still wind, eddies that change, a ball that goes along x at 2.4 m/s on average, a floor without end."""
    still = lane("still", ("constant", {"makes": "vector", "vector": [2.4, 0.6, 1.2]}))
    eddies = lane("eddies", ("curl_noise", {"feature_size": 0.5, "evolve": 1.0}))
    height = lane("height", ("constant", {"makes": "scalar", "value": 3.0}))
    bent = lane("bent", ("curl_noise", {"size": 1}))
    ball = {"id": "ball", "kind": "sphere", "params": {"radius": 0.5, "move": GOES}}
    post = {"id": "post", "kind": "box", "params": {"size": [1, 1, 1]}}
    floor = {"id": "floor", "kind": "plane", "params": {}}
    return plan(
        still, eddies, height, bent, shapes=[ball, post, floor], regions=[ROOM], clock={"fps": 24, "start": 1, "end": 5}
    )


def given(made, *results, **options):
    return ordered(items_of([made], [(r.partition(":")[0], r.partition(":")[2]) for r in results]), Options(**options))


def test_a_study_tells_what_it_has_to_give(yard):
    told = {o.id: (o.sort, o.holds, o.regions, o.still) for o in offers_of(yard)}
    assert told == {
        "still": ("field", "vector", ("room",), True),
        "eddies": ("field", "vector", ("room",), False),
        "height": ("field", "scalar", ("room",), True),
        "ball": ("shape", "", (), False),
        "post": ("shape", "", (), True),
        "floor": ("shape", "", (), True),
    }


def test_what_cannot_be_built_hides_nothing_else(yard):
    data = dump(yard.study)
    data["shapes"].append({"id": "gone", "kind": "mesh", "params": {"file": "gone.obj"}})
    data["shapes"].append({"id": "odd", "kind": "deformed", "params": {"shape": "gone", "field": "still"}})
    data["fields"].append({**lane("near", ("distance", {"shape": "gone"})), "name": "Near"})
    data["fields"].append({**lane("round", ("use_field", {"field": "round"})), "name": "Round"})
    told = [o.id for o in offers_of(plan_of(parse(data)))]
    assert {"still", "eddies", "height", "ball", "post", "floor"} <= set(told)
    assert "round" not in told


def test_fields_are_where_they_are_on_every_frame_and_still_ones_once(yard, tmp_path):
    made = deliver(given(yard, "eddies@room:vdb", "still@room:vdb", "height@room:npz"), tmp_path / "out")
    frames = [f"eddies/eddies_room.{n:04d}.vdb" for n in range(1, 6)]
    names = [f["name"] for f in made["files"] if not f["name"].endswith(".usda")]
    assert names == [*frames, "still/still_room.0001.vdb", "height/height_room.0001.npz"]
    assert verify(tmp_path / "out") == []
    eddies = field(yard, "eddies")
    for n, name in enumerate(frames):
        grid = read_vdb(tmp_path / "out" / name)["eddies"]
        assert grid.region.lower == (-1, -1, 0)
        places = yard.at(0).region("room").centres(0, 256).T
        expected = eddies.sample(places, time=n / 24)
        np.testing.assert_allclose(grid.values[:8, :8, :4].reshape(-1, 3), expected, rtol=1e-6, atol=1e-7)
        assert not grid.values[:, :, 4:].any(), "blocks are filled up with nothing"
    first, last = (read_vdb(tmp_path / "out" / frames[i])["eddies"].values for i in (0, -1))
    assert np.abs(first - last).max() > 0.01 * np.abs(first).max()
    with np.load(tmp_path / "out" / "height" / "height_room.0001.npz") as stored:
        np.testing.assert_array_equal(stored["height"], np.full((8, 8, 4), 3.0, np.float32))


ACTIVE = (
    "import json, sys, pyopenvdb as o, numpy as np\n"
    "g = o.read(sys.argv[1], 'eddies'); low, high = g.evalActiveVoxelBoundingBox()\n"
    "a = np.zeros([8, 8, 4, 3], 'f4'); g.copyToArray(a, ijk=low)\n"
    "print(json.dumps([low, high, g.activeVoxelCount(), a.reshape(-1).tolist()]))"
)


def test_the_real_library_finds_the_voxels_of_the_region_and_no_others(yard, tmp_path):
    deliver(given(yard, "eddies@room:vdb", first=3, last=3), tmp_path / "out")
    file = tmp_path / "out" / "eddies" / "eddies_room.0003.vdb"
    said = subprocess.run(["/usr/bin/python3", "-c", ACTIVE, str(file)], capture_output=True, text=True, check=True)
    low, high, count, values = json.loads(said.stdout)
    assert np.subtract(high, low).tolist() == [7, 7, 3]
    assert count == 256
    places = yard.at(0).region("room").centres(0, 256).T
    np.testing.assert_allclose(
        np.reshape(values, (-1, 3)), field(yard, "eddies").sample(places, time=2 / 24), atol=1e-6
    )


def test_a_notebook_hands_over_a_field_of_a_study(yard, tmp_path):
    only = errant_gust.Options(first=2, last=3)
    said = errant_gust.deliver([yard], tmp_path / "out", results=[("eddies@room", "npz")], options=only)
    assert [f["name"] for f in said["files"]] == [f"eddies/eddies_room.{n:04d}.npz" for n in (2, 3)]
    assert errant_gust.verify(tmp_path / "out") == []


def test_a_wind_for_others_is_turned_and_counted_in_their_units(yard, tmp_path):
    deliver(given(yard, "still@room:vdb", up="Y", unit="cm", per="frame", number=101), tmp_path / "out")
    grid = read_vdb(tmp_path / "out" / "still" / "still_room.0101.vdb")["still"]
    np.testing.assert_allclose(grid.values[:, :4].reshape(-1, 3), np.tile([10.0, 5.0, -2.5], (256, 1)), rtol=1e-6)
    assert not grid.values[:, 4:].any()
    np.testing.assert_allclose(grid.region.lower, [-100, 0, -100])
    assert grid.region.voxel_size == pytest.approx(25)


def test_shapes_go_with_their_velocity_and_as_level_sets(yard, tmp_path):
    deliver(given(yard, "ball:ply", "ball:vdb", "post:obj", first=1, last=5, step=2), tmp_path / "out")
    where = [yard.at((n - 1) / 24).shape("ball").kind.move[0] for n in (1, 3, 5)]
    assert where[0] == 0
    assert where[2] > where[1] > 0
    for x, n in zip(where, (1, 3, 5), strict=True):
        mesh = read_mesh(tmp_path / "out" / "ball" / f"ball_shape.{n:04d}.ply")
        np.testing.assert_allclose(0.5 * (mesh.lower + mesh.upper), [x, 0, 0], atol=1e-3)
        ball = read_vdb(tmp_path / "out" / "ball" / f"ball_shape.{n:04d}.vdb")["ball"]
        places = ball.region.centres(0, ball.region.voxels).T - [x, 0, 0]
        exact = np.linalg.norm(places, axis=1) - 0.5
        near = np.abs(exact) < 2 * ball.region.voxel_size
        np.testing.assert_allclose(ball.values.reshape(-1)[near], exact[near], atol=1e-4)
    assert [p.name for p in (tmp_path / "out" / "post").iterdir()] == ["post_shape.0001.obj"]
    head = (tmp_path / "out" / "ball" / "ball_shape.0003.ply").read_bytes()[:600]
    assert b"velocity" in head or b"vx" in head


def test_one_stage_shows_gas_its_wind_and_its_obstacle(tmp_path):
    smoke = gas(PUFF, ("rise", {}), h=0.1, end=3)
    run = compute(smoke.study, "g", tmp_path / "run")
    study = json.loads(json.dumps(dump(smoke.study)))
    study["fields"].append({**lane("wind", ("constant", {"makes": "vector", "vector": [1, 0, 0]})), "name": "Wind"})
    study["shapes"].append({"id": "bob", "kind": "sphere", "params": {"radius": 0.2, "move": GOES}})
    made = plan_of(parse(study))
    region = made.study.regions[0].id
    items = items_of([run.folder, made], [("volume", "vdb"), (f"wind@{region}", "vdb"), ("bob", "usd")])
    deliver(ordered(items, Options(first=1, last=3)), tmp_path / "out")
    stage = Usd.Stage.Open(str(tmp_path / "out" / "scene.usda"))
    volumes = [p.GetPath().pathString for p in stage.Traverse() if p.GetTypeName() == "Volume"]
    assert len(volumes) == 2
    (ball,) = (p for p in stage.Traverse() if p.IsA(UsdGeom.Mesh))
    for frame in (1, 2, 3):
        points = np.array(UsdGeom.Mesh(ball).GetPointsAttr().Get(frame))
        x = made.at((frame - 1) / 24).shape("bob").kind.move[0]
        assert 0.5 * (points[:, 0].min() + points[:, 0].max()) == pytest.approx(x, abs=1e-3)


def test_the_camera_of_the_stage_goes_through_viewpoints_that_are_tied_to_frames(yard, tmp_path):
    views = (
        {"name": "Side", "position": [0, -6, 1], "target": [0, 0, 1], "frame": 1},
        {"name": "Goes", "position": [4, -2, 2], "target": [0, 0, 1], "frame": 5},
    )
    order = given(yard, "ball:usd", up="Y", unit="cm", number=101, cameras=views)
    deliver(order, tmp_path / "out")
    stage = Usd.Stage.Open(str(tmp_path / "out" / "scene.usda"))
    names = [p.GetName() for p in stage.GetPrimAtPath("/World/Cameras").GetChildren()]
    assert names == ["Side", "Goes", "Goes_2"], "those that stand, and the one that goes"
    camera = UsdGeom.Camera(stage.GetPrimAtPath("/World/Cameras/Goes_2"))
    for n, key in enumerate(camera_path(views, 1, 5)):
        seen = camera.ComputeLocalToWorldTransform(101 + n)
        x, y, z = key["position"]
        np.testing.assert_allclose(seen.ExtractTranslation(), [100 * x, 100 * z, -100 * y], atol=1e-3)
        toward = np.array(seen.TransformDir((0, 0, -1)))
        wanted = np.subtract(key["target"], key["position"])[[0, 2, 1]] * [1, 1, -1]
        np.testing.assert_allclose(toward, wanted / np.linalg.norm(wanted), atol=1e-6)
    assert camera.GetVerticalApertureAttr().GetTimeSamples() == [101.0]


def test_another_process_makes_the_same_bytes_and_so_does_the_manifest(yard, tmp_path):
    order = given(yard, "eddies@room:vdb", "ball:usd")
    made = deliver(order, tmp_path / "out")
    sums = {f["name"]: f["sha256"] for f in made["files"]}
    aside = tmp_path / "aside"
    aside.mkdir()
    (aside / TAKEN).write_text("mine")
    shares = pickle.loads(pickle.dumps(shares_of(order, order.files, aside, "mine")))
    told = [(file.name, said) for share in shares for file, said in zip(share.files, write_share(share), strict=True)]
    assert {name: said["sha256"] for name, said in told} == {f.name: sums[f.name] for f in order.files}
    twice = deliver(ordered(*again(manifest_of(tmp_path / "out"), [tmp_path])), tmp_path / "again")
    assert {f["name"]: f["sha256"] for f in twice["files"]} == sums
    (origin,) = made["runs"].values()
    assert (origin["flow"], origin["quality"]) == ("eddies, ball", "study")
    assert origin["study"]["fields"][1]["id"] == "eddies"


@pytest.mark.parametrize(
    ("result", "kind", "words"),
    [
        ("eddies@hall:vdb", StudyError, "no run or study offers 'eddies@hall'; did you mean 'eddies@room'?"),
        ("floor:vdb", StudyError, "shapes.floor: has no end, so it is no level set"),
        ("bent@room:vdb", StudyError, "fields.bent.s0.size: Curl noise has no parameter 'size'"),
        ("eddies@room:ply", FileError, "'ply' does not hold eddies on room; one of: vdb, vti, npz, zarr"),
        ("ball:csv", FileError, "'csv' does not hold the shape ball"),
    ],
)
def test_what_the_study_has_not_is_said(yard, result, kind, words):
    with pytest.raises(kind, match=words.replace("?", r"\?")):
        given(yard, result)


def test_nothing_named_frames_beyond_channels_and_too_large_a_region_are_refused(yard):
    with pytest.raises(StudyError, match="nothing of the study is named"):
        items_of([yard], [])
    with pytest.raises(FileError, match="eddies, study: frame 6 is not there; it has 1 to 5"):
        given(yard, "eddies@room", last=9)
    (item,) = items_of([yard], [("eddies@room", "")])
    with pytest.raises(FileError, match="has no channels to choose from"):
        ordered([item.__class__(item.run, item.result, channels=("x",), study=item.study)], Options())
    huge = {**dump(yard.study), "regions": [{**ROOM, "voxel_size": 0.0001}]}
    with pytest.raises(BudgetError):
        ordered([item.__class__(item.run, item.result, study=huge)], Options())
    with pytest.raises(GustError, match="is not among the folders"):
        again({"items": [{"run": "x", "result": "", "format": "", "channels": []}], "runs": {}, "options": {}}, [])
