"""Mesh files: notched polygons, what other programs write, broken and crafted files, parsers in a child."""

import contextlib
import json
import struct
import time

import numpy as np
import pytest
import trimesh

from errant_gust.core import child
from errant_gust.core.errors import FileError
from errant_gust.core.geometry import outlines
from errant_gust.core.geometry.curve_files import read_curves
from errant_gust.core.geometry.mesh import read_mesh
from errant_gust.core.geometry.outlines import read_svg
from errant_gust.core.geometry.sdf import MeshDistance

CORNERS = [(0, 0), (2, 0), (2, 1), (1, 1), (1, 2), (0, 2)]  # an L


def prism(order=1, turn=0, bom=b"", tab=b" "):
    """An L-shaped prism of polygons, beginning at any corner."""
    corners = CORNERS[turn:] + CORNERS[:turn]
    lines = [f"v {x} {y} {z}" for z in (0, 1) for x, y in corners]
    n = len(corners)
    faces = [list(range(n, 0, -1)), list(range(n + 1, 2 * n + 1))]
    faces += [[i + 1, (i + 1) % n + 1, (i + 1) % n + n + 1, i + n + 1] for i in range(n)]
    lines += ["f " + " ".join(f"{i}/1/1" for i in face[::order]) for face in faces]
    return bom + "\n".join(lines).encode().replace(b" ", tab) + b"\n"


def saved(tmp_path, data, name="a.obj"):
    (tmp_path / name).write_bytes(data)
    return tmp_path / name


@pytest.mark.parametrize("turn", range(6))
def test_a_face_with_a_notch_gets_no_flap_over_it(tmp_path, turn):
    mesh = read_mesh(saved(tmp_path, prism(turn=turn)))
    assert mesh.watertight
    assert trimesh.Trimesh(mesh.vertices, mesh.faces).volume == pytest.approx(3)
    notch = np.array([[1.5, 1.5, 0.5], [1.2, 1.9, 0.5], [0.5, 0.5, 0.5]])
    distance, _, _ = mesh.closest(notch)
    assert distance == pytest.approx([0.5, 0.2, 0.5])
    assert mesh.contains(notch).tolist() == [False, False, True]


def test_a_quadrilateral_with_a_notch_is_parted_at_it(tmp_path):
    mesh = read_mesh(saved(tmp_path, b"v 0 0 0\nv 2 0 0\nv 0.5 0.5 0\nv 0 2 0\nf 1 2 3 4\n"))
    assert mesh.areas.sum() == pytest.approx(1.0), "a fan from corner 1 or 2 would cover the notch"


CONTINUED = prism().replace(b"/1/1", b"//1").replace(b"f 1//1 2//1", b"f \\\n1//1 2//1")


@pytest.mark.parametrize(
    "data", [prism(bom=b"\xef\xbb\xbf"), prism(tab=b"\t"), prism().replace(b"\n", b"\r\n"), CONTINUED]
)
def test_marks_tabs_and_other_line_ends_are_read(tmp_path, data):
    assert read_mesh(saved(tmp_path, data)).watertight


def test_numbers_from_the_end_are_read(tmp_path):
    data = b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf -3 -2 -1\nv 0 0 1\nf -4 -2 -1\n"
    mesh = read_mesh(saved(tmp_path, data))
    assert len(mesh.faces) == 2
    assert mesh.areas.sum() == pytest.approx(1.0)


@pytest.mark.parametrize(
    ("name", "data", "words"),
    [
        ("a.obj", b"", "the file is empty"),
        ("a.fbx", b"x", "is not a mesh format read here"),
        ("a.obj", b"v 0 0 0\nv 1 0 0\n", "there are no triangles in it"),
        ("a.obj", b"\x00\xff garbage", "there are no triangles in it"),
        ("a.obj", b"v nan 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "no triangle in it has an area"),
        ("a.ply", b"ply\nformat ascii 1.0\nelement vertex 9999999\nend_header\n", "more than a file of"),
        ("a.stl", b"solid x\nfacet", "ends in the middle"),
        ("a.glb", b"glTF\x02\x00\x00\x00\xff\xff\xff\xff", "is no binary glTF"),
        ("a.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 0 1 2\n", "line 4 names vertex 0; an OBJ counts from 1"),
        ("a.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 9\n", "line 4: a face names a vertex that is not in the file"),
        ("a.obj", b"v 0 0\nf 1 1 1\n", "line 1 is no vertex"),
        ("a.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 two 3\n", "line 4 is no face"),
        ("a.stl", b"\n<!DOCTYPE html><html>not found</html>", "web page"),
        ("a.stl", b"\0" * 80 + struct.pack("<I", 3) + b"\0" * 60, "says 3 triangles"),
        ("a.stl", b"solid a\nfacet normal 0 0 1\nouter loop\nvertex 0 0 0\n", "ends in the middle"),
        ("a.stl", b"what is this", "is no STL"),
        ("a.ply", b"ply\nformat binary_little_endian 1.0\nelement vertex 900000000\nend_header\n", "more than a file"),
        ("a.glb", b"glTF" + b"\0" * 40, "makes no sense"),
    ],
)
def test_what_cannot_be_read_is_refused_in_true_words(tmp_path, name, data, words):
    with pytest.raises(FileError, match=words) as found:
        read_mesh(saved(tmp_path, data, name))
    assert str(found.value).startswith(f"{name}: ")
    assert "\n" not in str(found.value)


def crafted_glb(scene):
    text = json.dumps(scene).encode()
    text += b" " * (-len(text) % 4)
    return b"glTF" + struct.pack("<II", 2, 20 + len(text)) + struct.pack("<I", len(text)) + b"JSON" + text


def test_a_glb_that_says_more_than_it_holds_takes_no_memory(tmp_path):
    accessor = {"componentType": 5126, "type": "VEC3", "count": 100_000_000}
    for accessors in ([accessor], [{**accessor, "bufferView": 0}]):
        data = crafted_glb({"asset": {"version": "2.0"}, "accessors": accessors, "meshes": []})
        start = time.monotonic()
        with pytest.raises(FileError, match="100,000,000 numbers"):
            read_mesh(saved(tmp_path, data, "a.glb"))
        assert time.monotonic() - start < 5


def test_sound_files_of_every_format_come_back(tmp_path):
    ball = trimesh.creation.icosphere(2)
    for name in ("a.stl", "a.ply", "a.glb", "a.obj"):
        ball.export(tmp_path / name)
        mesh = read_mesh(tmp_path / name)
        assert mesh.watertight, name
        assert len(mesh.faces) == 320
    (tmp_path / "b.stl").write_text(trimesh.exchange.stl.export_stl_ascii(ball))
    assert len(read_mesh(tmp_path / "b.stl").faces) == 320


def test_a_mesh_is_where_it_is_away_from_its_surface(rng):
    """The margin that covers it near the surface is not taken off far away: 0.2 % to 0.6 % of its size before."""
    from errant_gust.core.geometry.mesh import make_mesh

    m = trimesh.creation.icosphere(3)
    ours = make_mesh(m.vertices, m.faces, "ball")
    sdf = MeshDistance(ours)
    points = rng.uniform(-1.9, 1.9, (3, 6000)).astype(np.float32)
    true = ours.closest(points.T)[0]
    far = (true > FAR * sdf.h) & ~ours.contains(points.T)
    d, g, h = sdf.sample(points, 2)
    assert np.quantile(np.abs(d[far] - true[far]), 0.99) < 2.5e-3
    assert abs(np.mean(d[far] - true[far])) < 3e-4
    assert sdf.margin > 0.005, "else there was nothing to fade"
    step = np.float32(2e-3)  # the faded distance's derivatives are its own
    for j in range(3):
        ahead, behind = points.copy(), points.copy()
        ahead[j] += step
        behind[j] -= step
        (da, ga, _), (db, gb, _) = sdf.sample(ahead, 1), sdf.sample(behind, 1)
        assert np.quantile(np.abs((da - db) / (ahead[j] - behind[j]) - g[j]), 0.98) < 5e-3
        assert np.quantile(np.abs((ga[j] - gb[j]) / (ahead[j] - behind[j]) - h[j]), 0.95) < 0.1


FAR = 7.5


# parsers of others -----------------------------------------------------------------------------------------------


def test_a_parser_that_never_ends_or_takes_all_memory_is_stopped(tmp_path, monkeypatch):
    monkeypatch.setattr(child, "PARSERS", tmp_path)
    path = saved(tmp_path, b"x", "a.bin")
    (tmp_path / "endless.py").write_text("while True: pass\n")
    with pytest.raises(FileError, match="took more than 2 s"):
        child.parsed_apart("endless", path, "a.bin", seconds=2)
    (tmp_path / "greedy.py").write_text("import numpy as np\na = np.ones(4 << 30)\n")
    with pytest.raises(FileError, match="needs more than 3 GiB"):
        child.parsed_apart("greedy", path, "a.bin")
    (tmp_path / "broken.py").write_text("import os\nos.abort()\n")
    with pytest.raises(FileError, match="is damaged"):
        child.parsed_apart("broken", path, "a.bin")


def test_a_crafted_usd_takes_only_its_reader_down(tmp_path, rng):
    from pxr import Usd, UsdGeom

    stage = Usd.Stage.CreateNew(str(tmp_path / "a.usdc"))
    curves = UsdGeom.BasisCurves.Define(stage, "/c")
    curves.GetPointsAttr().Set([(0, 0, 0), (1, 0, 0), (2, 1, 0)])
    curves.GetCurveVertexCountsAttr().Set([3])
    stage.Save()
    assert len(read_curves(tmp_path / "a.usdc")[0]) == 3
    sound = np.frombuffer((tmp_path / "a.usdc").read_bytes(), np.uint8)
    for n in range(4):  # whatever comes of it, this process goes on
        broken = sound.copy()
        broken[rng.integers(8, len(broken), 12)] ^= 0xFF
        path = saved(tmp_path, broken.tobytes(), f"b{n}.usdc")
        with contextlib.suppress(FileError):
            assert read_curves(path)


@pytest.mark.parametrize("how", ["subLayers = [@{}@]", "", "payload"])
def test_a_usd_that_refers_to_other_files_is_refused(tmp_path, how):
    secret = tmp_path / "secret.usda"
    secret.write_text(
        '#usda 1.0\ndef BasisCurves "c" {\n point3f[] points = [(0,0,0),(1,0,0)]\n int[] curveVertexCounts = [2]\n}\n'
    )
    head = f"(\n {how.format(secret)}\n)" if how.startswith("sub") else ""
    arc = "payload" if how == "payload" else "references"
    body = "" if head else f'def "x" (\n {arc} = @{secret}@</c>\n) {{}}\n'
    path = saved(tmp_path, f"#usda 1.0\n{head}\n{body}".encode(), "a.usda")
    with pytest.raises(FileError, match="refers to another file"):
        read_curves(path)


def test_an_svg_that_refers_to_itself_over_and_over_is_stopped(tmp_path, monkeypatch):
    assert 5 < outlines.LONGEST < 60
    monkeypatch.setattr(outlines, "LONGEST", 2)
    deep = "".join(f'<g id="g{i}"><use href="#g{i - 1}"/><use href="#g{i - 1}"/></g>' for i in range(1, 26))
    svg = f'<svg xmlns="http://www.w3.org/2000/svg"><path id="g0" d="M0 0L1 1"/>{deep}</svg>'
    start = time.monotonic()
    with pytest.raises(FileError):
        read_svg(saved(tmp_path, svg.encode(), "a.svg"))
    assert time.monotonic() - start < 20
