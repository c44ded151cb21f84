"""What every kind of flow has to do, whatever it computes: a new kind is in here by being there.

Each is tried on a lane with everything: what its lanes begin with, and every step of the kind that can stand with them.
"""

import contextlib
import functools
import json
import subprocess
import sys
from typing import Any

import numpy as np
import pytest
import trimesh
import zarr
from pxr import Usd, UsdGeom

import errant_gust.core.api  # noqa: F401  (all kinds)
from errant_gust.core.checks import findings, findings_on_frame
from errant_gust.core.errors import GustError
from errant_gust.core.files.volume_files import read_volume
from errant_gust.core.flows.drawing import drawing_of
from errant_gust.core.flows.kind import KINDS, kind_of, open_flow
from errant_gust.core.listing import catalogue
from errant_gust.core.pictures.stage import Stage
from errant_gust.core.pictures.taking import picture as taken
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.export import export_run, formats_of
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.identity import run_identity
from errant_gust.core.study.building import lane
from errant_gust.core.study.document import parse
from tests.interrupted import has_the_same_bits, survives_a_full_disk, survives_a_kill
from tests.studies import data

LAST = 8
FLOW = "w"
SHAPES = [
    {"id": "ball", "kind": "sphere", "params": {"radius": 0.3, "move": [0, 0, 0.9]}},
    {"id": "rock", "kind": "sphere", "params": {"radius": 0.2, "move": [0.1, 0, 0.3]}},
]
ROOM = {"id": "room", "bounds": {"lower": [-0.6, -0.6, 0], "upper": [0.6, 0.6, 1.4]}, "voxel_size": 0.06}
FIELDS = (
    lane("swirl", ("curl_noise", {"feature_size": 0.5, "strength": 0.5, "evolve": 0.5})),
    lane("slope", ("ramp", {"start": [-0.6, 0, 0], "end": [0.6, 0, 0]})),
)
NAMED = (
    {"shape": "ball", "shapes": ["rock"], "region": "room", "field": "swirl"},
    {"shape": "ball", "shapes": ["rock"], "region": "room", "field": "slope"},
)
"""What a parameter that has to name something names: a lane that is a vector, or one that is a scalar."""
every_kind = pytest.mark.parametrize("kind", sorted(KINDS))


def study(kind: str, steps: Any, **clock: Any) -> Any:
    flow = {**lane(FLOW, *steps), "kind": kind}
    clock = {"fps": 24, "start": 1, "end": LAST, **clock}
    return parse(data(*FIELDS, shapes=SHAPES, regions=[ROOM], flows=[flow], clock=clock))


@functools.cache
def entries(kind: str) -> dict[str, Any]:
    return {s["id"]: s for s in catalogue()["steps"] if s["lane"] == kind}


def step(kind: str, op: str, given: Any, named: Any) -> tuple[str, dict[str, Any]]:
    """A step with what it has to name."""
    params = entries(kind)[op]["params"]
    return op, {**{p["name"]: named[p["type"]] for p in params if p["required"] and p["type"] in named}, **given}


@functools.cache
def begun(kind: str) -> tuple[Any, ...]:
    """Steps of a new lane."""
    return tuple(step(kind, op, given, NAMED[0]) for op, given in KINDS[kind].begins_with)


@functools.cache
def everything(kind: str) -> tuple[Any, ...]:
    """Those, and every step that can be opened with them."""
    steps = begun(kind)
    for op in entries(kind):
        for named in NAMED if op not in [s[0] for s in steps] else ():
            tried = (*steps, step(kind, op, {}, named))
            try:
                open_flow(plan_of(study(kind, tried)), FLOW).first()
            except GustError:
                continue
            steps = tried
            break
    return steps


def whole(kind: str, **clock: Any) -> Any:
    return study(kind, everything(kind), **clock)


@pytest.fixture(scope="module")
def runs(tmp_path_factory):
    """A run of everything, by kind, computed once."""
    folder = tmp_path_factory.mktemp("runs")

    @functools.cache
    def of(kind: str) -> RunStore:
        return compute(whole(kind), FLOW, folder / kind)

    return of


def stepped(made: Any, seconds: float) -> Any:
    """The state after so many seconds of the simulation."""
    flow = open_flow(plan_of(made), FLOW)
    state = flow.first()
    for frame in range(1, 1 + round(seconds * made.clock.fps * made.clock.slow_motion)):
        state = flow.next(state, frame)
    return state


@every_kind
def test_most_of_its_steps_stand_in_the_lane_that_is_tried(kind):
    """Else the rest of this file would be of little use: at most two may need what this study does not have."""
    assert len(everything(kind)) >= len(entries(kind)) - 2
    state = stepped(whole(kind), LAST / 24)
    assert state.count > 500


@every_kind
def test_same_bits_on_any_threads_and_after_a_stop(kind, tmp_path, monkeypatch):
    has_the_same_bits(whole(kind), FLOW, tmp_path, monkeypatch)


@every_kind
def test_a_run_killed_within_a_frame_goes_on_in_another_process_to_the_same_bits(kind, tmp_path):
    survives_a_kill(whole(kind), FLOW, tmp_path / "run")


@every_kind
def test_a_full_disk_stops_a_run_and_keeps_its_frames(kind, tmp_path, monkeypatch):
    survives_a_full_disk(whole(kind), FLOW, tmp_path / "run", monkeypatch)


WITHOUT_END = (("gain", {"factor": 1e30}), ("gain", {"factor": 1e30}))
NO_NUMBERS = {
    "without end": WITHOUT_END,
    "no number": (*WITHOUT_END, ("subtract", {"field": "endless"})),
    "no number somewhere": (("subtract", {"field": "endless"}), ("mask", {"by": "far"})),
}


@every_kind
@pytest.mark.parametrize("how", NO_NUMBERS)
def test_a_field_that_is_no_number_ends_a_run_in_words_and_reaches_no_frame(kind, how, tmp_path):
    made = whole(kind)
    for field in made.fields:
        field.steps.extend(parse(data(lane("x", *NO_NUMBERS[how]))).fields[0].steps)
    one = ("constant", {"makes": "vector", "vector": [1, 1, 1]})
    far = lane("far", ("ramp", {"start": [0, 0, 0.9], "end": [0, 0, 1.0]}))
    more = parse(data(lane("endless", one, *WITHOUT_END), far))
    made.fields.extend(more.fields)
    store = RunStore(tmp_path / "run")
    with contextlib.suppress(GustError):
        compute(made, FLOW, store.folder)
    for frame in store.frames():
        for name, a in store.read(frame).items():
            assert a.dtype.kind != "f" or np.isfinite(a).all(), (frame, name)


@every_kind
@pytest.mark.parametrize(("fps", "slow"), [(12, 1), (48, 1), (24, 2)])
def test_frames_a_second_and_slow_motion_change_little(kind, fps, slow):
    """What a new lane brings within a third of a second, and where it is by then."""

    def told(**clock: Any) -> tuple[float, Any]:
        made = study(kind, begun(kind), **{"end": 40, **clock})
        state = stepped(made, 1 / 3)
        arrays = state.channels()
        if "position" in arrays:
            places = arrays["position"].reshape(-1, 3) if arrays["position"].shape[-1] == 3 else arrays["position"].T
            return float(len(places)), places.mean(axis=0)
        grids = [a for name, a in arrays.items() if a.ndim == 3 and name in ("density", "distance")]
        window = state.window
        amount = grids[0] if "density" in arrays else (grids[0] < 0).astype(float)
        middles = window.centres(0, window.voxels).T
        weight = amount.reshape(-1) / amount.sum()
        return float(amount.sum()), weight @ middles

    (much, where), (few, there) = told(), told(fps=fps, slow_motion=slow)
    assert few == pytest.approx(much, rel=0.12)
    assert there == pytest.approx(where, abs=0.05)


@every_kind
def test_looks_and_drawing_are_no_part_of_a_run_and_everything_else_is(kind):
    made = whole(kind)
    named = run_identity(made, FLOW, "full", None)
    drawn = [s for s in everything(kind) if entries(kind)[s[0]]["kind"] != "drawn"]
    assert run_identity(study(kind, drawn), FLOW, "full", None) == named
    for n, (op, _) in enumerate(drawn):
        if n >= len(begun(kind)):
            assert run_identity(study(kind, drawn[:n] + drawn[n + 1 :]), FLOW, "full", None) != named, op


@every_kind
def test_every_result_leaves_in_every_format_and_is_read_back(kind, runs, tmp_path):
    store, plan = runs(kind), plan_of(whole(kind))
    tried = 0
    for result, formats in formats_of(kind_of(kind)):
        found = result.of(drawing_of(store, plan, FLOW, LAST)) if result.from_study else result.read(store, LAST)
        if found is None:  # no step of the kind draws it here
            continue
        for format in formats:
            to = tmp_path / f"{result.name}.{format}"
            made = export_run(store, to, what=result.name, format=format, frames=(LAST, LAST), plan=plan)
            assert all(path.stat().st_size for path, _ in made)
            read_back(made[0][0], format, result.form, found)
            tried += 1
    assert tried >= 4


def held(path: Any, found: Any) -> None:
    """A packed Zarr group holds every grid."""
    group = zarr.open_group(zarr.storage.ZipStore(path, mode="r"), mode="r")
    for name, grid in found.grids.items():
        np.testing.assert_array_equal(np.asarray(group[name]).reshape(grid.values.shape), grid.values, name)


def read_back(path: Any, format: str, form: str, found: Any) -> None:
    """A file holds as much as there is, by other readers than ours where there are any."""
    if format == "zarr":
        held(path, found)
    elif form == "volume":
        if format == "vdb":
            said = subprocess.run(["vdb_print", "-l", path], capture_output=True, text=True, check=True).stdout
            assert all(name.partition(".")[0] in said for name in found.grids), said
        grids = read_volume(path)
        assert set(grids) >= {name for name in found.grids if name != "vel"}, format
        for name, grid in grids.items():
            assert np.isfinite(grid.values).all(), (format, name)
            if name in found.grids:
                most = found.grids[name].values.max()
                assert grid.values.max() == pytest.approx(most, rel=2e-3, abs=1e-6), (format, name)
    elif format == "usd":
        stage = Usd.Stage.Open(str(path))
        stage.SetInterpolationType(Usd.InterpolationTypeHeld)
        sizes = [
            len(UsdGeom.PointBased(p).GetPointsAttr().Get(LAST) or ())
            for p in stage.Traverse()
            if p.IsA(UsdGeom.PointBased)
        ]
        instancers = [p for p in stage.Traverse() if p.IsA(UsdGeom.PointInstancer)]
        assert size_of(found) in sizes or instancers, sizes
    elif format == "npz":
        with np.load(path) as arrays:
            assert size_of(found) in {len(a) for a in arrays.values() if a.ndim}
            assert all(np.isfinite(a).all() for a in arrays.values() if a.dtype.kind == "f")
    elif format == "csv":
        assert len(path.read_text().splitlines()) == 1 + size_of(found)
    elif size_of(found):
        read = trimesh.load(path, process=False)
        assert len(read.vertices) == (3 * len(found.faces) if format == "stl" else size_of(found))
        assert np.isfinite(read.vertices).all()


def size_of(found: Any) -> int:
    """How many points or corners there are."""
    return len(next(getattr(found, name) for name in ("vertices", "points", "position") if hasattr(found, name)))


@every_kind
def test_a_frame_has_a_picture_and_what_is_said_of_it_is_in_the_study(kind, runs):
    store, plan = runs(kind), plan_of(whole(kind))
    picture = taken(Stage(store, plan.assets), LAST, (160, 100))
    assert picture.shape == (100, 160, 3)
    assert len(np.unique(picture.reshape(-1, 3), axis=0)) > 20, "something is to be seen"
    for finding in [*findings(plan), *findings_on_frame(plan, FLOW, store, LAST)]:
        part, _, rest = finding.where.partition(".")
        assert part in ("shapes", "regions", "fields", "flows", "clock", "looks"), finding
        assert rest.split(".")[0] in json.dumps(data(*FIELDS)) + "room ball rock" + FLOW, finding
        assert finding.what


@pytest.mark.slow("another process loads everything; that of the kill does too")
def test_a_run_is_what_another_process_computes(tmp_path, runs):
    """Every kind in one process that knows nothing of this one."""
    from errant_gust.core.study.document import dump

    for kind in sorted(KINDS):
        (tmp_path / f"{kind}.json").write_text(json.dumps(dump(whole(kind))))
    code = (
        "import sys, json, pathlib\n"
        "from errant_gust.core.runs.compute import compute\n"
        "from errant_gust.core.study.document import parse\n"
        "for path in pathlib.Path(sys.argv[1]).glob('*.json'):\n"
        f"    compute(parse(json.loads(path.read_text())), '{FLOW}', path.with_suffix(''))\n"
    )
    subprocess.run([sys.executable, "-c", code, str(tmp_path)], check=True, timeout=300)
    for kind in sorted(KINDS):
        here, there = runs(kind).read(LAST), RunStore(tmp_path / kind).read(LAST)
        for name, values in here.items():
            np.testing.assert_array_equal(there[name], values, f"{kind} {name}")
