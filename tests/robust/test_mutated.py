"""Sound files of every sort that is read, changed at random: each is read, or refused in words, and nothing else."""

import json
import os
import random
import zlib

import numpy as np
import pytest
import trimesh
from PIL import Image
from pxr import Usd, UsdGeom

from errant_gust.core.errors import GustError
from errant_gust.core.files.points import write_ply
from errant_gust.core.files.vdb import write_vdb
from errant_gust.core.files.volume_files import READERS, write_npz, write_vti
from errant_gust.core.geometry import curve_files, outlines
from errant_gust.core.geometry.mesh_files import read_triangles
from errant_gust.core.geometry.scene_files import read_scene
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.study import document
from tests.studies import data, lane

TIMES = int(os.environ.get("GUST_MUTATIONS", "1"))
"""How many times as many as usual."""
WAY = "v 0 0 0\nv 1 0 0\nv 1 1 2\nl 1 2 3\nl -1 -3\n"
SVG = '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 9 9"><path d="M0 0 C 1 0 2 1 3 3 L 1 5 Z"/></svg>'


def grids():
    region = GridRegion((-1, -1, -1), (9, 8, 7), 0.25)
    values = np.random.default_rng(1).random(region.shape).astype(np.float32)
    return {"density": Grid(region, values), "heat": Grid(region, np.where(values > 0.5, values, 0).astype(np.float32))}


def stage(path):
    made = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(made, UsdGeom.Tokens.z)
    mesh = UsdGeom.Mesh.Define(made, "/Prop")
    points = mesh.CreatePointsAttr()
    for frame in (1, 2):
        points.Set([(0, 0, 0), (frame, 0, 0), (0, frame, 0), (0, 0, 1)], frame)
    mesh.CreateFaceVertexCountsAttr([3, 3])
    mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 0, 2, 3])
    curve = UsdGeom.BasisCurves.Define(made, "/Way")
    curve.CreatePointsAttr([(0, 0, 0), (0, 1, 0), (0, 2, 1)])
    curve.CreateCurveVertexCountsAttr([3])
    made.GetRootLayer().Save()


def ball(path):
    trimesh.creation.icosphere(1, 0.5).export(path)


def picture(path):
    pixels = np.random.default_rng(2).integers(0, 255, (24, 32, 3), np.uint8)
    Image.fromarray(pixels).save(path)


def cloud(path):
    made = trimesh.creation.icosphere(1, 0.5)
    write_ply(path, {"position": np.asarray(made.vertices, np.float32)}, np.asarray(made.faces))


STUDY = data(
    lane("a", ("noise", {"octaves": 2}), ("gain", {"factor": {"keys": [[0, 1], [1, 2]]}})),
    flows=[{**lane("p", ("emit", {"shape": "ball"}), ("carry", {"field": "a"})), "kind": "particles"}],
)  # fmt: skip
meshes = lambda path: read_triangles(path, path.name, path.suffix)  # noqa: E731
volumes = lambda path: READERS[path.suffix](path)  # noqa: E731
# a sound file, who reads it, and how often it is changed: a parser in a process of its own takes most of a second
SORTS = {
    "ball.obj": (ball, meshes, 60), "way.obj": (WAY, curve_files.read_curves, 60),
    "ball.stl": (ball, meshes, 6), "cloud.ply": (cloud, meshes, 6), "ball.glb": (ball, meshes, 6),
    "prop.usda": (stage, lambda p: read_scene(p, 24.0), 6), "prop.usdc": (stage, lambda p: read_scene(p, 24.0), 8),
    "way.svg": (SVG, curve_files.read_curves, 6), "letter.svg": (SVG, outlines.read_svg, 6),
    "picture.png": (picture, outlines.read_brightness, 60), "picture.jpg": (picture, outlines.read_brightness, 60),
    "smoke.npz": (lambda p: write_npz(p, grids()), volumes, 60),
    "smoke.vti": (lambda p: write_vti(p, grids()), volumes, 60),
    "smoke.vdb": (lambda p: write_vdb(p, grids()), volumes, 60),
    "study.json": (json.dumps(STUDY), lambda p: document.parse(json.loads(p.read_bytes())), 120),
}  # fmt: skip


def changed(content, rng):
    """Bytes with something wrong."""
    found = bytearray(content)
    for _ in range(rng.choice([1, 1, 2, 8])):
        if not found:
            break
        at, how = rng.randrange(len(found)), rng.randrange(7)
        if how == 0:
            found[at] ^= 1 << rng.randrange(8)
        elif how == 1:
            del found[at:]
        elif how == 2:
            found[at : at + rng.choice([1, 4, 64])] = b""
        elif how == 3:
            found[at:at] = found[: rng.choice([1, 8, 256])]
        elif how == 4:
            found[at : at + 8] = rng.choice([b"\xff" * 8, bytes(8), b"\x7f" + b"\xff" * 7])
        elif how == 5:  # another number where there is one
            digits = [i for i, c in enumerate(found) if c in b"0123456789"]
            if digits:
                i = rng.choice(digits)
                found[i : i + 1] = rng.choice([b"-1", b"1e999", b"nan", b"4294967297", b"99999999999999999999", b""])
        else:
            found[at : at + 1] = bytes([rng.randrange(256)])
    return bytes(found)


@pytest.mark.parametrize("name", SORTS)
def test_a_changed_file_is_read_or_refused_in_words(tmp_path, name):
    made, read, times = SORTS[name]
    sound = tmp_path / name
    sound.write_text(made) if isinstance(made, str) else made(sound)
    content = sound.read_bytes()
    assert read(sound) is not None, "the sound one is read"
    rng = random.Random(zlib.crc32(name.encode()))
    refused = 0
    for n in range(times * TIMES):
        path = tmp_path / f"{n}_{name}"
        path.write_bytes(changed(content, rng))
        try:
            read(path)
        except GustError:
            refused += 1
        except (json.JSONDecodeError, UnicodeDecodeError):  # who reads text says so, before there is a document
            assert name == "study.json"
            refused += 1
        path.unlink()
    assert refused, "something of it was not readable"
    assert [p.name for p in tmp_path.iterdir()] == [name], "nothing else was written"
