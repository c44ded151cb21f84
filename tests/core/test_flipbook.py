"""Flipbooks: films that show what their pictures show, pictures refused in words, a run drawn without a screen."""

import io
import json
from dataclasses import replace

import av
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from errant_gust.core.errors import Cancelled, FileError, GustError
from errant_gust.core.files.movie import write_movie
from errant_gust.core.flows.kind import kind_of
from errant_gust.core.looking.filming import Shot, flip, order_of
from errant_gust.core.looking.flipbook import MANIFEST, MOVIE, Film, Flipbook, beside
from errant_gust.core.pictures.camera import FILLS, Camera, View
from errant_gust.core.pictures.stage import Stage
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.delivery.deliver import deliver
from errant_gust.core.runs.delivery.order import Options, ordered
from errant_gust.core.runs.delivery.sources import Item
from errant_gust.core.runs.delivery.verify import verify
from errant_gust.core.study.building import lane
from tests.studies import plan

BALL = {"id": "ball", "kind": "sphere", "params": {"radius": 0.5}}
FILM = Film("Dust", 1, 3, 128, 64, 24)


def png(colour=(200, 40, 90), size=(128, 64), form="PNG"):
    data = io.BytesIO()
    Image.new("RGB", size, colour).save(data, form)
    return data.getvalue()


def decoded(path):
    with av.open(str(path)) as file:
        stream = file.streams.video[0]
        return stream.codec_context.name, float(stream.average_rate), [
            f.to_ndarray(format="rgb24") for f in file.decode(video=0)
        ]  # fmt: skip


@pytest.fixture(scope="module")
def dust(tmp_path_factory):
    """Points in a wind along x, five frames."""
    emit = ("emit", {"shape": "ball", "where": "volume", "timing": "all at once", "count": 2000, "life": 9})
    wind = lane("wind", ("constant", {"makes": "vector", "vector": [24, 0, 0]}))
    flow = {**lane("dust", emit, ("carry", {"field": "wind"})), "kind": "particles"}
    made = plan(wind, flows=[flow], shapes=[BALL], clock={"fps": 24, "start": 1, "end": 5})
    return compute(made.study, "dust", tmp_path_factory.mktemp("dust") / "run")


@given(
    size=st.tuples(st.integers(64, 200), st.integers(64, 150)), count=st.integers(1, 6),
    fps=st.sampled_from([12.0, 23.976, 24.0, 25.0, 60.0]),
)  # fmt: skip
def test_a_film_has_the_pictures_that_it_was_made_of(tmp_path_factory, size, count, fps):
    path = tmp_path_factory.mktemp("film") / "film.mp4"
    x, y = np.linspace(0, 220, size[0]), np.linspace(20, 200, size[1])[:, None]
    pictures = [np.stack(np.broadcast_arrays(x + 0 * y, y + 0 * x, 30.0 * k + 0 * x + 0 * y), -1) for k in range(count)]
    pictures = [p.astype(np.uint8) for p in pictures]
    assert write_movie(path, pictures, fps) == count
    name, rate, found = decoded(path)
    assert (name, len(found)) == ("h264", count)
    assert rate == pytest.approx(fps, rel=1e-4)
    for ours, theirs in zip(pictures, found, strict=True):
        even = ours[: size[1] // 2 * 2, : size[0] // 2 * 2]
        assert theirs.shape == even.shape
        assert np.abs(theirs.astype(float) - even).mean() < 4


def test_a_film_of_nothing_or_of_pictures_of_two_sizes_is_refused_and_leaves_nothing(tmp_path):
    small, large = np.zeros((64, 64, 3), np.uint8), np.zeros((64, 80, 3), np.uint8)
    for pictures, fps, words in (([], 24, "no pictures"), ([small, large], 24, "picture 2 has another size; 64 × 64"),
                                 ([small], 0, "0 frames a second")):  # fmt: skip
        with pytest.raises(FileError, match=words):
            write_movie(tmp_path / "film.mp4", pictures, fps)
    assert list(tmp_path.iterdir()) == []


def test_pictures_are_kept_as_they_came_and_become_a_film(tmp_path):
    made = Flipbook(tmp_path / "book")
    made.begin(FILM)
    assert not made.done
    given_ = {n: png((40 * n, 90, 20)) for n in (1, 2, 3)}
    for n in (3, 1):
        made.put(n, given_[n])
    with pytest.raises(FileError, match="has no picture of frame 2"):
        made.finish()
    made.put(2, given_[2])
    seen = []
    made.finish(lambda done, total: seen.append((done, total)))
    assert seen == [(1, 3), (2, 3), (3, 3)]
    assert {n: made.picture(n).read_bytes() for n in given_} == given_
    _, _, found = decoded(tmp_path / "book" / MOVIE)
    for n, picture in enumerate(found, 1):
        assert np.abs(picture.astype(float) - (40 * n, 90, 20)).max() < 8
    assert sorted(made.files()) == sorted(p.name for p in (tmp_path / "book").iterdir())
    assert json.loads((tmp_path / "book" / MANIFEST).read_text())["format"] == "errant-gust-flipbook"
    with pytest.raises(FileError, match="is finished"):
        made.put(1, given_[1])


@pytest.mark.parametrize(
    ("frame", "data", "words"),
    [
        (4, png(), "frame 4: is not in it; 1 to 3 are"),
        (1, png(size=(64, 64)), "is 64 × 64 pixels; a PNG of 128 × 64 pixels"),
        (1, png(form="JPEG"), "is no PNG"),
        (1, png()[:60], "is no PNG"),
        (1, b"", "is no PNG"),
        (1, png(size=(20_000, 10)), "is 20000 × 10 pixels"),
    ],
)
def test_what_is_no_picture_of_the_film_is_refused_and_not_kept(tmp_path, frame, data, words):
    made = Flipbook(tmp_path / "book")
    made.begin(FILM)
    with pytest.raises(FileError, match=words):
        made.put(frame, data)
    assert not list((tmp_path / "book").glob("*.png"))


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"last": 0}, "1 to 0 are no frames"),
        ({"last": 20_000}, "are no frames"),
        ({"width": 63}, "width: 63 pixels; an even number from 64 to 4096"),
        ({"height": 8000}, "height: 8000 pixels"),
        ({"fps": 0}, "fps: 0 frames a second"),
    ],
)
def test_what_cannot_be_a_film_is_told_before_anything_is_made(tmp_path, change, words):
    with pytest.raises(GustError, match=words):
        Flipbook(tmp_path / "book").begin(Film(**{**FILM.__dict__, **change}))
    assert not (tmp_path / "book").exists()


def test_a_run_is_drawn_in_one_scale_and_moves_as_it_does(dust, tmp_path):
    result = kind_of("particles").result()
    film = Film("Dust", 1, 5, 320, 128, 24)
    made = flip(Shot([Stage(dust)], View(-90, 0), result), film, tmp_path / "front")
    middles = []
    for n in range(1, 6):
        with Image.open(made.picture(n)) as picture:
            light = np.asarray(picture.convert("L"), float)
        light = np.maximum(light - np.median(light, axis=1, keepdims=True) - 20, 0)
        middles.append(float((light.sum(axis=0) * np.arange(320)).sum() / light.sum()))
    steps = np.diff(middles)
    assert np.allclose(steps, steps.mean(), rtol=0.06), "a metre a frame to the right, in one scale"
    assert steps.mean() == pytest.approx(FILLS * 320 / 5, rel=0.12)  # five metres wide: four of way, one of ball
    with pytest.raises(FileError, match="is there already"):
        flip(Shot([Stage(dust)], View(), result), film, tmp_path / "front")


def test_one_that_is_stopped_keeps_what_it_has_and_goes_on(dust, tmp_path):
    film, shot = Film("Dust", 1, 5, 128, 64, 24), Shot([Stage(dust)], View(-90, 0))
    whole = flip(shot, film, tmp_path / "whole")
    made = Flipbook(tmp_path / "part")
    with pytest.raises(Cancelled):
        flip(shot, film, made.folder, cancel=lambda: made.folder.exists() and len(made.frames) == 2)
    assert not made.done
    assert made.frames == [1, 2]
    stamp = made.picture(2).stat().st_mtime_ns
    (made.folder / f".{made.picture(3).name}.half").write_bytes(b"what a kill left")
    for other in (replace(film, fps=12), film):
        with pytest.raises(FileError, match="holds another film"):
            flip(Shot([Stage(dust)], View(-90, 1 if other is film else 0)), other, made.folder)
    told = []
    flip(Shot.of(order_of(made), [dust.folder]), film, made.folder, report=lambda done, total: told.append(done))
    assert told == [1, 2, 3, 4, 5]
    assert made.picture(2).stat().st_mtime_ns == stamp, "not drawn again"
    assert sorted(p.name for p in made.folder.iterdir()) == sorted(whole.files())
    assert all(made.picture(n).read_bytes() == whole.picture(n).read_bytes() for n in range(1, 6))
    for left in ([], [f".{MANIFEST}"], [f".{MANIFEST}", f".{MANIFEST}.x"]):  # killed before anything was drawn
        folder = tmp_path / f"empty{len(left)}"
        folder.mkdir()
        for name in left:
            (folder / name).write_text("{")
        assert flip(shot, film, folder).done
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine" / "notes.txt").write_text("mine")
    with pytest.raises(FileError, match="is there already"):
        flip(shot, film, tmp_path / "mine")
    assert [p.name for p in (tmp_path / "mine").iterdir()] == ["notes.txt"]


def test_a_camera_for_each_frame_moves(dust, tmp_path):
    film = Film("Dust", 1, 3, 128, 64, 24)
    cameras = [Camera((0, -9.0 - n, 0), (0, 0, 0)) for n in range(3)]
    made = flip(Shot([Stage(dust)], cameras), film, tmp_path / "film")
    spread = []
    for n in (1, 2, 3):
        alone = flip(Shot([Stage(dust)], [cameras[n - 1]] * 3), film, tmp_path / f"{n}")
        assert alone.picture(n).read_bytes() == made.picture(n).read_bytes()
        spread.append(made.picture(n).read_bytes())
    assert len(set(spread)) == 3
    with pytest.raises(GustError, match="one a frame"):
        flip(Shot([Stage(dust)], cameras[:2]), film, tmp_path / "short")
    assert not (tmp_path / "short").exists()


def test_a_flipbook_goes_along_with_a_delivery_and_is_proved(dust, tmp_path):
    result = kind_of("particles").result()
    flip(Shot([Stage(dust)], View(), result), Film("Dust", 1, 2, 128, 64, 24), tmp_path / "book")
    order = ordered([Item(dust.folder, "", "npz")], Options(last=2), beside([tmp_path / "book"]))
    said = deliver(order, tmp_path / "out")
    along = [f["name"] for f in said["files"] if f["name"].startswith("flipbook/Dust_1-2/")]
    assert len(along) == 4
    assert (tmp_path / "out" / "flipbook/Dust_1-2" / MOVIE).read_bytes() == (tmp_path / "book" / MOVIE).read_bytes()
    assert verify(tmp_path / "out") == []
    film = bytearray((tmp_path / "out" / "flipbook/Dust_1-2" / MOVIE).read_bytes())
    film[-5] ^= 1
    (tmp_path / "out" / "flipbook/Dust_1-2" / MOVIE).write_bytes(film)
    assert [f.name for f in verify(tmp_path / "out")] == [f"flipbook/Dust_1-2/{MOVIE}"]
    with pytest.raises(FileError, match="is no flipbook"):
        beside([tmp_path])
    flip(Shot([Stage(dust)], View(), result), Film("Dust", 1, 2, 128, 64, 24), tmp_path / "other")
    names = [name for name, _ in beside([tmp_path / "book", tmp_path / "other"])]
    assert f"flipbook/Dust_1-2_2/{MOVIE}" in names
    assert len(set(names)) == 8
    with pytest.raises(FileError, match="is named twice"):
        beside([tmp_path / "book", tmp_path / "book"])
