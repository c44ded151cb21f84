"""The product as a library: light to import, a study in code, runs as arrays; the examples run as they stand."""

import os
import subprocess
import sys

import numpy as np
import pytest

import errant_gust as gust
from tests.conftest import ROOT

BALL = {"id": "ball", "kind": "sphere", "params": {"radius": 0.5}}


def dust(end=4, speed=2.4):
    wind = gust.lane("wind", gust.step("wind", speed=speed, toward=0))
    emit = gust.step("emit", shape="ball", where="volume", timing="all at once", count=300, life=9.0)
    flow = gust.lane("dust", emit, gust.step("carry", field="wind"), kind="particles")
    return gust.new_study("Dust", fields=[wind], flows=[flow], shapes=[BALL], clock={"fps": 24, "end": end})


def test_importing_it_loads_nothing_heavy_and_its_names_are_all_there():
    code = (
        "import sys, errant_gust; "
        "assert not {'numpy', 'numba', 'django', 'pydantic'} & set(sys.modules), 'only when it is used'; "
        "names = dir(errant_gust); assert set(errant_gust.__all__) <= set(names); "
        "print([n for n in errant_gust.__all__ if not getattr(errant_gust, n).__doc__]); "
        "assert 'django' not in sys.modules, 'the core knows no server'"
    )
    said = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, cwd=ROOT, check=True)
    assert said.stdout.strip() == "[]", "every name says what it is"
    with pytest.raises(AttributeError, match="has no attribute 'nothing'"):
        _ = gust.nothing


def test_a_study_in_code_is_the_same_as_one_from_its_file(tmp_path):
    made = dust()
    path = gust.save_study(made, tmp_path / "dust.gust.json")
    again = gust.open_study(path)
    assert again.study == made.study
    places = np.random.default_rng(1).normal(size=(20, 3)).astype(np.float32)
    np.testing.assert_array_equal(gust.field(again, "wind").sample(places), gust.field(made, "wind").sample(places))
    with pytest.raises(gust.GustError, match="did you mean 'speed'"):
        gust.new_study("X", fields=[gust.lane("wind", gust.step("wind", sped=1))])


def test_a_run_is_computed_gone_on_with_and_read_as_arrays(tmp_path):
    frames = []
    one = gust.run(dust(), "dust", tmp_path / "run", last=2, progress=lambda done: frames.append(done.frame))
    assert (one.frames, frames) == ([1, 2], [1, 2])
    one = gust.run(dust(), "dust", tmp_path / "run", progress=lambda done: frames.append(done.frame))
    assert (one.frames, frames) == ([1, 2, 3, 4], [1, 2, 3, 4])
    opened = gust.open_run(tmp_path / "run")
    assert opened.flow == "dust"
    assert opened.results[0].form == "points"
    points = opened.read(4, channels=["velocity"])
    assert points.velocity == pytest.approx(np.tile([2.4, 0, 0], (300, 1)), abs=1e-5)
    lazily = opened.array(4, "position")
    assert lazily.shape == (300, 3)
    np.testing.assert_array_equal(lazily[10:20], points.position[10:20])
    assert opened.readings(4)["fastest"] == pytest.approx(2.4, rel=1e-5)
    assert opened.readings(4, ["wind"])["mean wind"] == pytest.approx(2.4, rel=1e-5)
    assert opened.study.study == dust().study
    with pytest.raises(gust.GustError, match="frame 9 is not there"):
        opened.array(9, "position")
    with pytest.raises(gust.GustError, match="is not a run"):
        gust.open_run(tmp_path)


def test_what_is_checked_and_estimated_is_what_the_application_says(tmp_path):
    made = dust()
    assert [f for f in gust.check(made) if f.level == "error"] == []
    cost = gust.estimate(made, "dust", "full")
    assert cost.seconds is None
    one = gust.run(made, "dust", tmp_path / "run", last=3)
    assert gust.estimate(made, "dust", "full", [one]).frames == 1


HOST = """
import os, threading
before = dict(os.environ)
import numba, numpy as np
flags = {k: v for k, v in vars(numba.config).items() if k.isupper()}
import errant_gust as gust
wind = gust.field(gust.open_study("harbour_gust"), "gusts")
values = wind.sample(np.random.default_rng(1).uniform(-2, 2, (4000, 3)), 0.5)
assert dict(os.environ) == before
assert {k: v for k, v in vars(numba.config).items() if k.isupper()} == flags
left = [t.name for t in threading.enumerate() if t is not threading.main_thread() and not t.daemon]
assert not [n for n in left if not n.startswith("gust")], left

@numba.njit(cache=True)
def of_the_host(x):
    return x + 1

of_the_host(1)
assert "ERRANT" not in str(of_the_host._cache.cache_path).upper(), of_the_host._cache.cache_path
np.save(os.environ["OUT"], values)
"""


def test_a_host_process_keeps_its_settings_and_gets_the_same_values(tmp_path):
    (tmp_path / "host.py").write_text(HOST)
    kept = {k: v for k, v in os.environ.items() if not k.startswith("NUMBA")}
    environment = {**kept, "PYTHONPATH": str(ROOT), "OUT": str(tmp_path / "values.npy")}
    done = subprocess.run(
        [sys.executable, tmp_path / "host.py"], env=environment, capture_output=True, text=True, timeout=240
    )
    assert done.returncode == 0, done.stderr[-2000:]
    places = np.random.default_rng(1).uniform(-2, 2, (4000, 3))
    ours = gust.field(gust.open_study("harbour_gust"), "gusts").sample(places, 0.5)
    assert np.load(tmp_path / "values.npy").tobytes() == ours.tobytes()


def test_an_older_python_is_told_in_words():
    older = "import sys; sys.version_info = (3, 10, 12, 'final', 0); import errant_gust"
    done = subprocess.run([sys.executable, "-c", older], cwd=ROOT, capture_output=True, text=True, timeout=60)
    assert done.returncode == 1
    assert done.stderr.endswith("ImportError: errant_gust needs Python 3.11 or newer, and this is 3.10\n")
