"""Scenes of others: moving meshes, curves and cameras come in where they are, in metres with z up, on their frames."""

import base64
import json
import math
import struct

import numpy as np
import pytest
from pxr import Gf, Usd, UsdGeom, Vt

from errant_gust.core.errors import FileError, GustError
from errant_gust.core.files.scenes import Kept, keep_scene, put_in
from errant_gust.core.files.usd_scene import Camera, write_scene
from errant_gust.core.geometry.mesh import read_mesh
from errant_gust.core.geometry.scene_files import meshes_of, read_scene, sequence_strangers, views_of
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.looking.upright import upright
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.study.document import parse
from tests.studies import data

CORNERS = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [0, 0, 1], [1, 0, 1], [1, 1, 1], [0, 1, 1]], float)
QUADS = [[0, 3, 2, 1], [4, 5, 6, 7], [0, 1, 5, 4], [2, 3, 7, 6], [1, 2, 6, 5], [0, 4, 7, 3]]  # seen from outside
WALL = np.array([[0, 0, 0], [2, 0, 0], [2, 0.5, 0], [0.5, 0.5, 0], [0.5, 2, 0], [0, 2, 0]], float)  # an L


def usd(path, *, up="Y", metres=0.01, fps=24.0, last=13, build=None):
    """A box that goes along x by 100 units in twelve frames under a parent that is turned."""
    stage = Usd.Stage.CreateNew(str(path))
    if up:
        UsdGeom.SetStageUpAxis(stage, up)
    if metres:
        UsdGeom.SetStageMetersPerUnit(stage, metres)
    stage.SetTimeCodesPerSecond(fps)
    stage.SetStartTimeCode(1)
    stage.SetEndTimeCode(last)
    parent = UsdGeom.Xform.Define(stage, "/prop")
    parent.AddRotateYOp().Set(90.0)
    box = UsdGeom.Mesh.Define(stage, "/prop/box")
    move = box.AddTranslateOp()
    move.Set(Gf.Vec3d(0, 0, 0), 1)
    move.Set(Gf.Vec3d(100, 0, 0), last)
    box.CreatePointsAttr(Vt.Vec3fArray.FromNumpy((CORNERS * 50).astype(np.float32)))
    box.CreateFaceVertexCountsAttr([4] * 6)
    box.CreateFaceVertexIndicesAttr([i for q in QUADS for i in q])
    if build:
        build(stage)
    stage.GetRootLayer().Save()
    return path


def volume(vertices, faces):
    a, b, c = (vertices[faces[:, i]].astype(np.float64) for i in range(3))
    return float((a * np.cross(b, c)).sum() / 6)


def test_a_box_of_usd_moves_on_its_frames_in_metres_with_z_up(tmp_path):
    scene = read_scene(usd(tmp_path / "prop.usda"), 24)
    assert (scene.up, scene.metres, scene.frames) == ("Y", 0.01, tuple(range(1, 14)))
    assert scene.notes == ()
    for frame, vertices, faces in meshes_of(scene, "Y", 0.01):
        way = (frame - 1) / 12  # along the parent's x, which is −z in the file, which is +y here
        ours = np.stack([CORNERS[:, 2], CORNERS[:, 0] + way * 2, CORNERS[:, 1]], axis=1) * 0.5
        np.testing.assert_allclose(vertices, ours, atol=1e-6)
        assert volume(vertices, faces) == pytest.approx(0.125), "its faces still look outward"


def test_other_rates_are_sampled_on_the_frames_of_the_study(tmp_path):
    scene = read_scene(usd(tmp_path / "prop.usdc", fps=12), 24)
    assert scene.frames == tuple(range(2, 27)), "time code 1 of twelve a second is frame 2 of twenty-four"
    assert scene.notes == ("counts 12 frames a second; sampled at 24",)
    starts = [float(v[:, 1].min()) for _, v, _ in meshes_of(scene, "Y", 0.01)]
    np.testing.assert_allclose(np.diff(starts), 1 / 24, atol=1e-6)


def test_mirrored_left_handed_notched_and_hidden_meshes_curves_and_cameras(tmp_path):
    def build(stage):
        wall = UsdGeom.Mesh.Define(stage, "/wall")
        wall.AddScaleOp().Set(Gf.Vec3f(-1, 1, 1))
        wall.CreateOrientationAttr("leftHanded")
        wall.CreatePointsAttr(Vt.Vec3fArray.FromNumpy((WALL * 100).astype(np.float32)))
        wall.CreateFaceVertexCountsAttr([6])
        wall.CreateFaceVertexIndicesAttr(list(range(6)))
        hidden = UsdGeom.Sphere.Define(stage, "/hidden")
        hidden.MakeInvisible()
        UsdGeom.Points.Define(stage, "/dust")
        path = UsdGeom.BasisCurves.Define(stage, "/path")
        path.AddTranslateOp().Set(Gf.Vec3d(0, 100, 0))
        path.CreatePointsAttr([(0, 0, 0), (100, 0, 0), (0, 0, 50), (0, 0, 150), (0, 50, 150)])
        path.CreateCurveVertexCountsAttr([2, 3])
        camera = UsdGeom.Camera.Define(stage, "/shot")
        camera.AddTranslateOp().Set(Gf.Vec3d(0, 150, 500))
        camera.CreateFocusDistanceAttr(400)

    scene = read_scene(usd(tmp_path / "prop.usda", last=2, build=build), 24)
    vertices, faces = scene.mesh(0)
    wall = faces[(faces >= 8).all(axis=1)]
    assert len(wall) == 4
    a, b, c = (vertices[wall[:, i]] for i in range(3))
    area = 0.5 * np.cross(b - a, c - a)
    assert float(area[:, 2].sum()) == pytest.approx(-1.75e4), "left-handed: it looks to -z, mirrored in x as well"
    assert float(np.abs(area[:, 2]).sum()) == pytest.approx(1.75e4), "the notch is left open"
    assert scene.notes == ("Points: not read",)
    kept = keep_scene(scene, tmp_path / "assets")
    assert [s["kind"] for s in kept.shapes] == ["mesh", "curve"]
    assert kept.views == [{"name": "shot", "position": [0, -5, 1.5], "target": [0, -1, 1.5], "parallel": False}]
    study = data(clock={"fps": 24, "start": 1, "end": 4})
    ids = put_in(study, kept)
    plan = plan_of(parse(study), Assets(tmp_path / "assets"))
    curve = plan.at(0.0).shape(ids[1])
    middle, half, _ = curve.frame
    np.testing.assert_allclose(middle + half - np.array(middle - half), np.array([1, 1.5, 0.5]) + 0.5, atol=1e-3)
    assert study["looks"]["views"] == kept.views


def test_it_is_a_shape_of_the_study_that_moves(tmp_path):
    scene = read_scene(usd(tmp_path / "prop.usda"), 24)
    kept = keep_scene(scene, tmp_path / "assets")
    assert kept.files == [f"prop.{n:04d}.ply" for n in range(1, 14)]
    study = data(clock={"fps": 24, "start": 1, "end": 20})
    (id,) = put_in(study, kept)
    plan = plan_of(parse(study), Assets(tmp_path / "assets"))
    for frame, low in ((1, 0.0), (7, 0.5), (13, 1.0), (20, 1.0)):
        box = plan.at((frame - 1) / 24).shape(id).box
        np.testing.assert_allclose(box[0], [0, low, 0], atol=2e-3)
        np.testing.assert_allclose(box[1], [0.5, low + 0.5, 0.5], atol=2e-3)
    again = keep_scene(scene, tmp_path / "assets")
    assert again.files[0] == "prop_v2.0001.ply", "nothing is written over"


def test_what_a_file_does_not_say_is_asked_and_nothing_is_written(tmp_path):
    scene = read_scene(usd(tmp_path / "prop.usda", up="", metres=0), 24)
    assert (scene.up, scene.metres) == ("", 0.0)
    with pytest.raises(GustError, match="which axis is up and in which unit lengths are; say Z or Y; say m, cm"):
        keep_scene(scene, tmp_path / "assets")
    with pytest.raises(GustError, match="does not say in which unit lengths are; say m"):
        keep_scene(scene, tmp_path / "assets", up="Z")
    assert not (tmp_path / "assets").exists()
    kept = keep_scene(scene, tmp_path / "assets", up="Z", metres=0.001)
    mesh = read_mesh(tmp_path / "assets" / kept.files[0])
    np.testing.assert_allclose(mesh.upper - mesh.lower, [0.05, 0.05, 0.05], atol=1e-6)


def test_our_own_stage_comes_back_with_its_cameras(tmp_path):
    from errant_gust.core.files.usd import Setting

    cameras = [Camera("Quay", (100, 150, 500), (100, 150, 0)), Camera("Above", (0, 900, 0), (0, 0, 0), True)]
    write_scene(tmp_path / "scene.usda", {}, cameras, (1, 4), 24, Setting("Y", 0.01))
    made = views_of(read_scene(tmp_path / "scene.usda", 24), "Y", 0.01)
    assert made[0] == {"name": "Quay", "position": [1, -5, 1.5], "target": [1, 0, 1.5], "parallel": False}
    np.testing.assert_allclose([made[1]["position"], made[1]["target"]], [[0, 0, 9], [0, 0, 0]], atol=1e-4)
    assert made[1]["parallel"]


# glTF ------------------------------------------------------------------------------------------------------------


def gltf(path, nodes, *, animations=(), skins=(), targets=(), joints=None, cameras=()):
    """A box as .glb, with accessors that are added as they are named."""
    binary, views, accessors = b"", [], []

    def add(values, kind, component, dtype):
        nonlocal binary
        raw = np.ascontiguousarray(values, dtype).tobytes()
        views.append({"buffer": 0, "byteOffset": len(binary), "byteLength": len(raw)})
        accessors.append({"bufferView": len(views) - 1, "componentType": component, "count": len(values), "type": kind})
        binary += raw + b"\0" * (-len(raw) % 4)
        return len(accessors) - 1

    faces = [t for a, b, c, d in QUADS for t in ((a, b, c), (a, c, d))]
    part = {"attributes": {"POSITION": add(CORNERS, "VEC3", 5126, np.float32)},
            "indices": add(np.ravel(faces), "SCALAR", 5123, np.uint16)}  # fmt: skip
    if targets:
        part["targets"] = [{"POSITION": add(t, "VEC3", 5126, np.float32)} for t in targets]
    if joints is not None:
        part["attributes"]["JOINTS_0"] = add(joints[0], "VEC4", 5121, np.uint8)
        part["attributes"]["WEIGHTS_0"] = add(joints[1], "VEC4", 5126, np.float32)
    said = {"asset": {"version": "2.0"}, "nodes": nodes, "meshes": [{"primitives": [part]}], "cameras": list(cameras)}
    said["skins"] = [
        {**s, "inverseBindMatrices": add(s["inverseBindMatrices"], "MAT4", 5126, np.float32)} for s in skins
    ]
    made = {"channels": [], "samplers": []}
    for node, name, times, values, how in animations:
        kind = {"translation": "VEC3", "rotation": "VEC4", "scale": "VEC3", "weights": "SCALAR"}[name]
        made["samplers"].append({"input": add(times, "SCALAR", 5126, np.float32), "interpolation": how,
                                 "output": add(values, kind, 5126, np.float32)})  # fmt: skip
        made["channels"].append({"sampler": len(made["samplers"]) - 1, "target": {"node": node, "path": name}})
    said |= {"animations": [made] if animations else [], "accessors": accessors, "bufferViews": views}
    if path.suffix == ".gltf":
        uri = "data:application/octet-stream;base64," + base64.b64encode(binary).decode()
        path.write_text(json.dumps({**said, "buffers": [{"byteLength": len(binary), "uri": uri}]}))
        return path
    text = json.dumps({**said, "buffers": [{"byteLength": len(binary)}]}).encode()
    text += b" " * (-len(text) % 4)
    head = struct.pack("<4sII", b"glTF", 2, 28 + len(text) + len(binary))
    path.write_bytes(
        head + struct.pack("<I4s", len(text), b"JSON") + text + struct.pack("<I4s", len(binary), b"BIN\0") + binary
    )
    return path


HALF = math.sqrt(0.5)


@pytest.mark.parametrize("ending", ["glb", "gltf"])
def test_nodes_of_gltf_move_turn_and_grow_by_their_keys(tmp_path, ending):
    nodes = [{"children": [1], "translation": [0, 0, 2]}, {"mesh": 0}]
    moves = [
        (0, "translation", [0, 0.5], [[0, 0, 2], [6, 0, 2]], "LINEAR"),
        (1, "rotation", [0, 0.5], [[0, 0, 0, 1], [0, HALF, 0, HALF]], "LINEAR"),  # a quarter about y
        (1, "scale", [0, 0.25], [[1, 1, 1], [2, 2, 2]], "STEP"),
    ]
    scene = read_scene(gltf(tmp_path / f"prop.{ending}", nodes, animations=moves), 24, first=101)
    assert (scene.up, scene.metres, scene.frames) == ("Y", 1.0, tuple(range(101, 114)))
    for n in (0, 3, 6, 12):
        t = n / 24
        angle, size = math.pi * t, 2 if t >= 0.25 else 1
        c, s = math.cos(angle), math.sin(angle)
        turned = CORNERS * size @ np.array([[c, 0, s], [0, 1, 0], [-s, 0, c]]).T
        np.testing.assert_allclose(scene.mesh(n)[0] - [12 * t, 0, 2], turned, atol=1e-5)


def test_cubic_keys_morph_targets_and_skins_of_gltf(tmp_path):
    cubic = [[[0, 0, 0], [0, 0, 0], [8, 0, 0]], [[8, 0, 0], [2, 0, 0], [0, 0, 0]]]  # slopes in, value, out
    scene = read_scene(
        gltf(tmp_path / "cubic.glb", [{"mesh": 0}],
             animations=[(0, "translation", [0, 0.5], np.reshape(cubic, (-1, 3)), "CUBICSPLINE")]), 24
    )  # fmt: skip
    xs = [float(scene.mesh(n)[0][0, 0]) for n in range(13)]
    s = np.arange(13) / 12
    hermite = (s**3 - 2 * s**2 + s) * 0.5 * 8 + (3 * s**2 - 2 * s**3) * 2 + (s**3 - s**2) * 0.5 * 8
    np.testing.assert_allclose(xs, hermite, atol=1e-5)

    up = np.zeros((8, 3))
    up[4:] = [0, 0, 3]
    morph = gltf(tmp_path / "morph.glb", [{"mesh": 0}], targets=[up],
                 animations=[(0, "weights", [0, 1], [0, 1], "LINEAR")])  # fmt: skip
    scene = read_scene(morph, 24)
    np.testing.assert_allclose(scene.mesh(12)[0], CORNERS + 0.5 * up, atol=1e-6)

    # the upper corners follow a bone that turns by a quarter about x at the height of one
    bones = [{"mesh": 0, "skin": 0, "translation": [9, 9, 9]}, {"children": [2]}, {"translation": [0, 0, 1]}]
    bind = [np.eye(4), np.eye(4)]
    bind[1][2, 3] = -1
    which = [[0, 0, 0, 0]] * 4 + [[1, 0, 0, 0]] * 4
    skin = {"joints": [1, 2], "inverseBindMatrices": [b.T.ravel() for b in bind]}
    turn = [(2, "rotation", [0, 0.25], [[0, 0, 0, 1], [HALF, 0, 0, HALF]], "LINEAR")]
    scene = read_scene(
        gltf(tmp_path / "skin.glb", bones, skins=[skin], joints=(which, [[1, 0, 0, 0]] * 8), animations=turn), 24
    )
    np.testing.assert_allclose(scene.mesh(0)[0], CORNERS, atol=1e-6)
    bent = CORNERS.copy()
    bent[4:] = np.stack([CORNERS[4:, 0], np.zeros(4), 1 + CORNERS[4:, 1]], axis=1)
    np.testing.assert_allclose(scene.mesh(6)[0], bent, atol=1e-6)


def test_cameras_of_gltf_look_where_they_look(tmp_path):
    nodes = [{"mesh": 0}, {"camera": 0, "name": "Shot", "translation": [0.5, 0.5, 6]}]
    path = gltf(tmp_path / "prop.glb", nodes, cameras=[{"type": "perspective", "perspective": {}}])
    (view,) = views_of(read_scene(path, 24), "Y", 1.0)
    np.testing.assert_allclose(view["position"], [0.5, -6, 0.5], atol=1e-5)
    np.testing.assert_allclose(view["target"], [0.5, -0.5, 0.5], atol=1e-5)


# sequences, and what cannot be read ---------------------------------------------------------------------------------


def obj(path, x=0.0):
    path.write_text("".join(f"v {a + x} {b} {c}\n" for a, b, c in CORNERS)
                    + "".join("f " + " ".join(str(i + 1) for i in q) + "\n" for q in QUADS))  # fmt: skip
    return path


def test_a_sequence_says_what_is_missing_and_what_is_there_twice(tmp_path):
    for name in ("drop.0003.obj", "drop.0004.obj", "drop.0007.obj", "drop.4.obj", "drop.x.obj", "other.0005.obj"):
        obj(tmp_path / name, float(name.split(".")[1]) if name[5].isdigit() and "drop" in name else 0)
    scene = read_scene(tmp_path / "drop.0004.obj", 24)
    assert scene.frames == (3, 4, 7)
    assert scene.notes == (
        "frame 4 is there twice, drop.0004.obj and drop.4.obj: the first is taken",
        "2 frames are missing (5, 6): the one before each is held",
    )
    assert (scene.up, scene.metres) == ("", 0.0)
    assert sequence_strangers(["drop.0003.obj", "drop.4.obj", "drop.x.obj", "drop.5.ply", "up.5.obj"]) == [
        "drop.x.obj", "drop.5.ply", "up.5.obj",
    ]  # fmt: skip
    assert sequence_strangers(["prop.0001.usda", "prop.0002.usda"]) == ["prop.0002.usda"], "a stage is whole"
    kept = keep_scene(scene, tmp_path / "assets", up="Z", metres=1.0)
    assert kept.files == ["drop.0003.ply", "drop.0004.ply", "drop.0007.ply"]
    assert read_mesh(tmp_path / "assets" / "drop.0007.ply").lower[0] == pytest.approx(7)


def test_viewpoints_of_one_name_can_be_told_apart(tmp_path):
    looks = [
        {"name": name, "position": [n, 0, 0], "target": [0, 0, 0]} for n, name in enumerate(["Side", "Side", "Top"])
    ]
    study = {"looks": {"views": [{"name": "Side 2", "position": [9, 0, 0], "target": [0, 0, 0]}]}}
    put_in(study, Kept(views=looks))
    assert [v["name"] for v in study["looks"]["views"]] == ["Side 2", "Side", "Side 3", "Top"]
    assert [v["position"][0] for v in study["looks"]["views"]] == [9, 0, 1, 2]


@pytest.mark.parametrize(
    ("name", "make", "words"),
    [
        ("a.fbx", lambda p: p.write_bytes(b"x"), "is no scene format read here"),
        ("a.usda", lambda p: p.write_text("#usda 1.0\n( subLayers = [@../secret.usda@] )\n"), "refers to another file"),
        ("a.usda", lambda p: p.write_text("#usda 1.0\n"), "holds no mesh, curve or camera"),
        ("a.usdc", lambda p: p.write_bytes(b"PXR-USDC" + b"\xff" * 200), "cannot be read|its reader failed"),
        ("a.glb", lambda p: p.write_bytes(b"glTF" + b"\0" * 40), "cannot be read"),
        ("a.gltf", lambda p: p.write_text('{"buffers": [{"uri": "../../etc/passwd"}]}'), "refers to another file"),
        ("a.gltf", lambda p: p.write_text('{"nodes": [{"children": [0]}]}'), "is its own parent"),
        ("a.obj", lambda p: p.write_text("v 0 0 0\n"), "no triangles"),
    ],
)
def test_what_cannot_be_read_is_refused_in_words(tmp_path, name, make, words):
    make(tmp_path / name)
    with pytest.raises(FileError, match=words):
        read_scene(tmp_path / name, 24)


def test_accessors_and_frames_without_end_are_refused(tmp_path):
    good = gltf(tmp_path / "a.gltf", [{"mesh": 0}])
    said = json.loads(good.read_text())
    said["accessors"][0]["count"] = 10**9
    good.write_text(json.dumps(said))
    with pytest.raises(FileError, match="says more numbers than it holds"):
        read_scene(good, 24)
    long = gltf(tmp_path / "b.glb", [{"mesh": 0}],
                animations=[(0, "translation", [0, 1e6], [[0, 0, 0], [1, 0, 0]], "LINEAR")])  # fmt: skip
    with pytest.raises(FileError, match="at most 2,000 are read"):
        read_scene(long, 24)

    def build(stage):
        layer = stage.GetRootLayer()
        layer.GetAttributeAtPath("/prop/box.faceVertexIndices").default = Vt.IntArray([0, 1, 99] * 8)

    with pytest.raises(FileError, match="/prop/box has faces that its points do not fit"):
        read_scene(usd(tmp_path / "c.usda", build=build), 24)


def test_the_two_pictures_show_a_tall_thing_standing_and_lying():
    tall = CORNERS * [0.4, 0.4, 3]
    faces = np.array([t for a, b, c, d in QUADS for t in ((a, b, c), (a, c, d))])

    def height(picture):
        rows = np.nonzero((picture[..., 0] > 70).sum(axis=1) > 2)[0]  # stone is bright, the ground is blue
        columns = np.nonzero((picture[..., 0] > 70).sum(axis=0) > 2)[0]
        return (rows.max() - rows.min()) / (columns.max() - columns.min())

    standing, lying = (height(upright(tall, faces, up)) for up in ("Z", "Y"))
    assert standing > 2.5
    assert lying < 1.2
