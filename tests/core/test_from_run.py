"""Fields from gas runs: interpolated over time, computed when they are needed; volumes in files that others read."""

import json
import subprocess
import threading

import numpy as np
import pytest

from errant_gust.core.errors import FileError, StudyError
from errant_gust.core.fields.sampling import sample
from errant_gust.core.files.volume_files import read_volume
from errant_gust.core.flows.particles.flow import ParticleFlow
from errant_gust.core.home import home
from errant_gust.core.looking.texels import thinned
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.export import export_run
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.identity import run_identity
from errant_gust.core.runs.manifest import begin
from errant_gust.core.study.building import lane
from errant_gust.core.study.document import parse
from tests.core.test_gas import BALL, PUFF, ROCK, gas, grid_of
from tests.studies import central_differences, values


@pytest.fixture(autouse=True)
def own_home(tmp_path, monkeypatch):
    monkeypatch.setenv("ERRANT_GUST_HOME", str(tmp_path / "home"))


def riding(step=None, *, steps=(), **more):
    """A gas and lanes that sample it."""
    p = gas(PUFF, ("rise", {}), *steps, **more)
    data = p.study.model_dump(mode="json", by_alias=True)
    data["fields"] += [
        {"name": "v", "on": True, **lane("v", ("from_run", {"flow": "g", **(step or {})}))},
        {"name": "d", **lane("d", ("from_run", {"flow": "g", "kind": "scalar", **(step or {})}))},
    ]
    for f in data["fields"]:
        f.pop("on", None)
    data["flows"].append({
        **lane("riders", ("emit", {"shape": "ball", "where": "volume", "timing": "all at once", "count": 400,
                                   "preview_share": 1, "life": 99}), ("carry", {"field": "v"})),
        "name": "Riders", "kind": "particles",
    })  # fmt: skip
    return plan_of(parse(data))


def test_a_field_is_what_the_run_holds_and_between_frames_what_lies_between():
    p = riding()
    points = np.random.default_rng(1).uniform([-0.3, -0.3, 0.2], [0.3, 0.3, 0.8], (200, 3)).astype(np.float32)
    clock = p.study.clock
    on, next_, between = (values(p.at(clock.seconds(5) + k / 24).lane("v"), points) for k in (0, 1, 0.25))
    store = RunStore(home() / "runs" / run_identity(p.study, "g", "preview", p.assets))
    assert store.frames() == list(range(1, 7)), "computed only as far as was needed"
    assert on == pytest.approx(grid_of(store, 5, "vel").sample(points.T).T, abs=1e-6)
    assert between == pytest.approx(0.75 * on + 0.25 * next_, abs=1e-5)
    assert np.abs(on).max() > 0.05
    density = values(p.at(clock.seconds(5)).lane("d"), points)
    assert density == pytest.approx(grid_of(store, 5, "density").sample(points.T), abs=1e-6)
    assert values(p.at(0.2).lane("v"), points + np.float32(50)) == pytest.approx(0)


def test_the_gradient_is_that_of_the_interpolant_also_between_frames():
    p = riding()
    rng = np.random.default_rng(3)
    # inside voxels of the preview's grid, away from their borders, where the interpolant has no kink
    cells = rng.integers([-1, -1, 2], [2, 2, 5], (60, 3))
    points = ((cells + rng.uniform(0.6, 0.9, (60, 3))) * 0.2).astype(np.float32)
    for name in ("v", "d"):
        node = p.at(p.study.clock.seconds(4) + 0.4 / 24).lane(name)
        exact = sample(node, points, gradient=True)[1]
        assert exact == pytest.approx(central_differences(node, points, 2e-3), abs=2e-2 * float(np.abs(exact).max()))


def test_particles_ride_the_gas_as_their_own_equation_says():
    p = riding({"quality": "preview"})
    f = ParticleFlow(p, "riders")
    state = f.first()
    before = state.position.copy()
    for n in range(1, 12):
        state = f.next(state, n)
    up = (state.position - before)[2]
    assert up.mean() > 0.05, "it lifts them"
    store = RunStore(home() / "runs" / run_identity(p.study, "g", "preview", p.assets))
    d = grid_of(store, 12, "density").sample(state.position)
    assert np.mean(d > 0.02) > 0.9, "they stay in the smoke that they began in"


def test_an_edit_of_the_gas_gives_another_field_and_another_run_of_its_riders():
    a, b = riding(), riding(steps=(("drag", {"rate": 4}),))
    names = {run_identity(p.study, "riders", "full", p.assets) for p in (a, b)}
    assert len(names) == 2
    points = np.float32([[0, 0, 0.5]])
    assert values(a.at(0.4).lane("v"), points)[0, 2] > 1.3 * values(b.at(0.4).lane("v"), points)[0, 2]
    assert a.at(0.4).lane("v").identity() != b.at(0.4).lane("v").identity()


def test_a_run_that_somebody_else_computes_is_waited_for():
    p = riding()
    store = RunStore(home() / "runs" / begin(p.study, "g", "preview", home() / "runs", p.assets))
    held, free = threading.Event(), threading.Event()

    def somebody() -> None:
        with store.alone():
            held.set()
            free.wait(60)

    other = threading.Thread(target=somebody)
    other.start()
    held.wait(60)
    got = []
    reader = threading.Thread(
        target=lambda: got.append(values(p.at(p.study.clock.seconds(3)).lane("v"), np.float32([[0, 0, 0.5]])))
    )
    reader.start()
    reader.join(1.0)
    assert reader.is_alive(), "it waits"
    assert not store.frames()
    free.set()
    reader.join(120)
    other.join()
    assert np.isfinite(got[0]).all()
    assert store.frames() == [1, 2, 3]


def test_circles_other_flows_and_unknown_channels_say_so():
    with pytest.raises(StudyError, match="pushed by a field that is made from it"):
        values(riding(steps=(("push", {"field": "v"}),)).at(0.2).lane("v"), np.zeros((1, 3), np.float32))
    with pytest.raises(StudyError, match="'riders' has no volume: it is Particles"):
        values(riding({"flow": "riders"}).at(0).lane("v"), np.zeros((1, 3), np.float32))
    with pytest.raises(FileError, match="no channel 'densty'"):
        values(riding({"channel": "densty"}).at(0).lane("d"), np.zeros((1, 3), np.float32))


def test_volumes_are_read_back_by_the_real_library(tmp_path):
    p = gas(PUFF, ("rise", {}), ("collide", {"shapes": ["rock"]}), shapes=(BALL, ROCK), end=4)
    store = compute(p.study, "g", tmp_path / "run")
    files = export_run(store, tmp_path / "vdb", frames=(3, 4))
    assert [f.name for f, _ in files] == ["g.0003.vdb", "g.0004.vdb"]
    ours = read_volume(files[0][0])
    assert set(ours) == {"density", "temperature", "vel"}
    code = (
        "import pyopenvdb as v, sys, json;"
        "g = v.read(sys.argv[1], 'density'); w = v.read(sys.argv[1], 'vel'); a = g.getConstAccessor();"
        "h = g.transform.voxelSize()[0]; b = w.getConstAccessor();"
        "i = g.transform.worldToIndex((0.02, 0.03, 0.41)); i = [round(x) for x in i];"
        "print(json.dumps([a.getValue(i), h, list(b.getValue(i)), list(g.transform.indexToWorld(i))]))"
    )
    said = subprocess.run(
        ["/usr/bin/python3", "-c", code, str(files[0][0])], capture_output=True, text=True, check=True
    )
    value, h, velocity, place = json.loads(said.stdout)
    assert h == pytest.approx(0.1)
    at = np.float32(place)[:, None]
    assert value == pytest.approx(float(grid_of(store, 3, "density").sample(at)[0]), abs=1e-5)
    assert velocity == pytest.approx(grid_of(store, 3, "vel").sample(at)[:, 0].tolist(), abs=1e-5)
    npz = export_run(store, tmp_path / "npz", format="npz", channels=("temperature",), frames=(4, 4))
    assert set(read_volume(npz[0][0])) == {"temperature"}
    for options, words in (
        ({"format": "ply"}, "not a format"),
        ({"channels": ("fuel",)}, "no channel"),
        ({"frames": (9, 9)}, "none of"),
    ):
        with pytest.raises(FileError, match=words):
            export_run(store, tmp_path / "x", **options)
    with pytest.raises(FileError, match="is there already"):
        export_run(store, tmp_path / "vdb", frames=(3, 3))


def test_a_turned_domain_holds_the_same_motion():
    """Buoyancy goes up in the scene, whichever way the box is turned."""
    wind = lane("w", ("constant", {"vector": [1, 0, 0]}))
    push = ("push", {"field": "w", "rate": 8, "only_gas": False})
    p = gas(PUFF, push, fields=(wind,), domain={"follow": False}, h=0.12, end=12)
    data = p.study.model_dump(mode="json", by_alias=True)
    data["regions"][0]["turn"] = [0, 0, 40]
    study = parse(data)
    store = compute(study, "g", home() / "turned")
    velocity = grid_of(store, 12, "vel").values.reshape(-1, 3).mean(axis=0)
    assert velocity == pytest.approx([1, 0, 0], abs=0.06), "along the scene's axes"


def test_thinned_volumes_keep_their_mean():
    v = np.random.default_rng(2).random((20, 18, 22)).astype(np.float32)
    small, side = thinned(v, 2000)
    assert side == 2
    assert small.mean() == pytest.approx(v.mean(), rel=1e-3)
    assert thinned(v, 10**6)[0] is v
