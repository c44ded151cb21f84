"""Commands that take scenes in, film runs and hand both over."""

import json
import shutil

import numpy as np
import pytest
from PIL import Image

from errant_gust.core.home import home
from errant_gust.core.study.document import load
from tests.cli.test_commands import gust
from tests.core.test_scenes import obj, usd
from tests.studies import data, lane

BALL = {"id": "ball", "kind": "sphere", "params": {"radius": 0.5}}
VIEW = {"name": "Quay", "position": [0, -6, 1], "target": [0, 0, 1], "parallel": False}


def study_file(path, views=()):
    emit = ("emit", {"shape": "ball", "where": "volume", "timing": "all at once", "count": 300, "life": 9})
    flow = {**lane("dust", emit, ("carry", {"field": "wind"})), "kind": "particles"}
    made = data(
        lane("wind", ("wind", {"speed": 2})), flows=[flow], shapes=[BALL], clock={"fps": 24, "start": 1, "end": 3}
    )
    path.write_text(json.dumps({**made, "looks": {"views": list(views)}}))
    return path


def test_a_stage_is_imported_run_filmed_and_handed_over(tmp_path):
    from pxr import Usd, UsdGeom

    study = study_file(tmp_path / "dust.gust.json", [VIEW])
    new = tmp_path / "with_prop" / "dust.gust.json"
    new.parent.mkdir()
    said = gust("import", usd(tmp_path / "prop.usda", last=3), study, "--out", new).stdout
    assert "prop, frames 1 to 3" in said
    made = load(new)
    assert made.find("shapes", "prop", "").params["sequence"] is True
    assert sorted(p.name for p in new.parent.iterdir()) == ["dust.gust.json", *(f"prop.000{n}.ply" for n in (1, 2, 3))]
    assert gust("check", new, check=False).returncode == 0
    gust("run", new, "--flow", "dust", "--out", tmp_path / "run")
    film = tmp_path / "film"
    said = gust("flipbook", tmp_path / "run", "--to", film, "--view=-60,20", "--size", "320x200").stdout
    assert "3 pictures of 320 × 200 pixels" in said
    gust("deliver", tmp_path / "run", "--result", "particles:usd", "--flipbook", film, "--to", tmp_path / "out")
    stage = Usd.Stage.Open(str(tmp_path / "out" / "scene.usda"))
    assert UsdGeom.Camera(stage.GetPrimAtPath("/World/Cameras/Quay"))
    assert (tmp_path / "out/flipbook/dust_1-3/flipbook.mp4").read_bytes() == (film / "flipbook.mp4").read_bytes()
    gust(
        "deliver", tmp_path / "run", "--result", "particles:usd", "--cameras", "lagoon_mist", "--to", tmp_path / "other"
    )
    assert not Usd.Stage.Open(str(tmp_path / "other" / "scene.usda")).GetPrimAtPath("/World/Cameras")
    gust("deliver", tmp_path / "run", "--no-stage", "--to", tmp_path / "bare")
    assert not list((tmp_path / "bare").rglob("*.usda"))
    assert "all 12 files" in gust("verify", tmp_path / "out").stdout


@pytest.mark.parametrize(
    ("given", "words"),
    [
        (["--out", "new.gust.json"], "does not say which axis is up and in which unit lengths are"),
        (["--out", "new.gust.json", "--up", "x"], "'x' is no axis"),
        (["--out", "new.gust.json", "--unit", "metre"], "'metre' is not known"),
        (["--out", "new.json"], "is no study file"),
        (["--out", "dust.gust.json"], "is there already"),
    ],
)
def test_an_import_that_cannot_be_is_refused_and_writes_nothing(tmp_path, given, words):
    study, mesh = study_file(tmp_path / "dust.gust.json"), obj(tmp_path / "crate.obj")
    before = study.read_text()
    done = gust("import", mesh, study, *given, check=False, cwd=tmp_path)
    assert done.returncode == 2
    assert words in done.stderr
    assert sorted(p.name for p in tmp_path.iterdir()) == ["crate.obj", "dust.gust.json"]
    assert study.read_text() == before


@pytest.mark.parametrize(
    ("given", "words"),
    [
        (["--frames", "2-9"], "frame 4 is not there; it has 1 to 3"),
        (["--size", "321x200"], "width: 321 pixels; an even number"),
        (["--view", "up"], "'up' is no viewpoint; degrees round and up, as -60,13"),
        (["--view", "0,91"], "'0,91' is no viewpoint"),
        (["--result", "volume"], "volume"),
    ],
)
def test_a_film_that_cannot_be_is_refused_and_leaves_nothing(tmp_path, given, words):
    gust("run", study_file(tmp_path / "dust.gust.json"), "--flow", "dust", "--out", tmp_path / "run")
    done = gust("flipbook", tmp_path / "run", "--to", tmp_path / "film", *given, check=False)
    assert (done.returncode, words in done.stderr) == (2, True)
    assert not (tmp_path / "film").exists()


def test_a_picture_of_a_run_is_taken_from_a_side_and_from_a_saved_viewpoint(tmp_path):
    gust("run", study_file(tmp_path / "dust.gust.json", [VIEW]), "--flow", "dust", "--out", tmp_path / "run")
    said = gust("picture", tmp_path / "run", "--frame", "2", "--size", "160x100", "--out", tmp_path / "a.png").stdout
    assert "frame 2" in said
    gust("picture", tmp_path / "run", "--frame", "2", "--size", "160x100", "--camera", VIEW["name"], "--out",
         tmp_path / "b.png")  # fmt: skip
    a, b = (np.asarray(Image.open(tmp_path / f"{n}.png")).astype(float) for n in "ab")
    assert a.shape == b.shape == (100, 160, 3)
    assert np.abs(a - b).mean() > 1, "from elsewhere it looks different"
    assert len(np.unique(a.reshape(-1, 3), axis=0)) > 50


@pytest.mark.parametrize(
    ("given", "words"),
    [
        (["--frame", "9"], "frame 9 is not there; it has 1 to 3"),
        (["--size", "0x100"], "0 × 100 pixels"),
        (["--size", "100000x100"], "100000 × 100 pixels"),
        (["--camera", "nan,3"], "'nan,3' is no viewpoint"),
        (["--result", "smoke"], "has no result 'smoke'"),
        (["--result", "lines"], "has no lines"),
        (["--quality", "best"], "'best' is no quality; one of draft, good, still"),
        (["--beside", "nowhere"], "is not a run"),
    ],
)
def test_a_picture_that_cannot_be_is_refused_and_leaves_nothing(tmp_path, given, words):
    gust("run", study_file(tmp_path / "dust.gust.json"), "--flow", "dust", "--out", tmp_path / "run")
    done = gust("picture", tmp_path / "run", "--out", tmp_path / "a.png", *given, check=False)
    assert (done.returncode, words in done.stderr) == (2, True), done.stderr
    assert not (tmp_path / "a.png").exists()
    (tmp_path / "b.png").write_text("mine")
    done = gust("picture", tmp_path / "run", "--out", tmp_path / "b.png", check=False)
    assert done.returncode == 2
    assert (tmp_path / "b.png").read_text() == "mine"


def test_a_study_is_pictured_by_its_runs_and_what_is_missing_is_told(tmp_path):
    study = study_file(tmp_path / "dust.gust.json")
    text = json.loads(study.read_text())
    second = {**text["flows"][0], "id": "grit"}
    wall = {"id": "wall", "kind": "mesh", "params": {"file": "wall.obj"}}
    (tmp_path / "wall.obj").write_text("v -1 1 -1\nv 1 1 -1\nv 1 1 1\nf 1 2 3\n")
    study.write_text(json.dumps({**text, "flows": [*text["flows"], second], "shapes": [*text["shapes"], wall]}))
    small = ("--size", "96x64", "--quality", "draft")
    done = gust("picture", study, *small, "--out", tmp_path / "none.png", check=False)
    assert (done.returncode, "has not run here; run it first" in done.stderr) == (2, True)
    for flow in ("dust", "grit"):
        gust("run", study, "--flow", flow, "--out", tmp_path / flow)
    identity = json.loads((tmp_path / "dust" / "manifest.json").read_text())["identity"]
    shutil.copytree(tmp_path / "dust", home() / "runs" / identity)
    told = gust("picture", study, *small, "--out", tmp_path / "one.png")
    assert "without grit, which has not run" in told.stderr
    assert "wall" not in told.stderr
    gust("picture", tmp_path / "dust", *small, "--beside", tmp_path / "grit", "--out", tmp_path / "two.png")
    gust("picture", tmp_path / "dust", *small, "--out", tmp_path / "alone.png")
    one, two, alone = (np.asarray(Image.open(tmp_path / f"{n}.png")).astype(int) for n in ("one", "two", "alone"))
    assert (one == alone).all()
    assert np.abs(two - one).max() > 20
    (tmp_path / "wall.obj").unlink()
    told = gust("picture", tmp_path / "dust", *small, "--out", tmp_path / "less.png")
    assert "without the shape wall: the file 'wall.obj' is missing" in told.stderr
    assert (np.asarray(Image.open(tmp_path / "less.png")).astype(int) != alone).any()
