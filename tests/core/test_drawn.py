"""Trails, flow lines, spread points, and their way into files that other readers read."""

import csv

import numpy as np
import pytest
from pxr import Usd, UsdGeom

from errant_gust.core.errors import FileError
from errant_gust.core.flows.drawing import Drawing, drawing_of
from errant_gust.core.flows.particles.trails import FlowLines, SpreadAlong, Trail
from errant_gust.core.flows.results import Lines
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.export import export_run
from errant_gust.core.runs.identity import run_identity
from tests.core.test_motion import BURST, WIND
from tests.core.test_particles import flow, rotation_lanes

CLOCK = {"fps": 10, "start": 1, "end": 12}


def made(tmp_path, *steps, fields=WIND, emit=BURST, clock=CLOCK, **more):
    """A run of a flow with these drawing steps, and the plan it is of."""
    p = flow(emit, ("carry", {"field": "v"}), *steps, fields=fields, clock=clock, **more)
    return compute(p.study, "p", tmp_path / "run", quality="full"), p


@pytest.mark.parametrize(("length", "points"), [(0.2, 3), (0.25, 4), (0.31, 5)])
def test_a_trail_is_exactly_as_long_in_time_as_asked(tmp_path, length, points):
    store, p = made(tmp_path, ("trail", {"length": length}))
    lines = drawing_of(store, p, "p", 9).lines[-1]
    assert set(lines.counts) == {points}
    first, last = lines.starts, lines.starts + lines.counts - 1
    way = np.linalg.norm(lines.points[first] - lines.points[last], axis=1)
    assert way == pytest.approx(2 * length, rel=1e-4), "at 2 m/s"
    assert lines.channels["back"][first] == pytest.approx(0)
    assert lines.channels["back"][last] == pytest.approx(length)
    assert lines.channels["speed"] == pytest.approx(2, rel=1e-4)
    now = store.read(9)
    ids = lines.channels["id"][first].astype(int)
    assert np.array_equal(lines.points[first], now["position"][np.argsort(now["id"])][np.argsort(np.argsort(ids))])


def test_trails_begin_at_birth_and_anew_after_respawn(tmp_path):
    emit = {**BURST, "timing": "rate", "rate": 200, "life": 99}
    store, p = made(tmp_path, ("trail", {"length": 0.5}), emit=emit)
    lines = drawing_of(store, p, "p", 4).lines[-1]
    age = {int(i): a for i, a in zip(*(store.read(4)[k] for k in ("id", "age")), strict=True)}
    last = lines.starts + lines.counts - 1
    for i, back in zip(lines.channels["id"][last].astype(int), lines.channels["back"][last], strict=True):
        assert back <= age[i] + 0.1 + 1e-5
    store, p = made(tmp_path / "b", ("respawn", {"farther": 0.7}), ("trail", {"length": 1.0}))
    lines = drawing_of(store, p, "p", 11).lines[-1]  # 1 s; born again every 0.35 s
    line = np.repeat(np.arange(len(lines.counts)), lines.counts)
    inner = line[1:] == line[:-1]
    assert np.linalg.norm(np.diff(lines.points, axis=0), axis=1)[inner].max() < 0.21, "no leap back to the emitter"


def test_a_trail_or_its_length_is_not_part_of_the_run(tmp_path):
    names = set()
    for steps in ((), (("trail", {}),), (("trail", {"length": 3}), ("spread_along", {}))):
        p = flow(BURST, ("carry", {"field": "v"}), *steps, fields=WIND)
        names.add(run_identity(p.study, "p", "full", p.assets))
    assert len(names) == 1
    p = flow(BURST, ("carry", {"field": "v", "amount": 2}), fields=WIND)
    assert run_identity(p.study, "p", "full", p.assets) not in names


def test_flow_lines_are_evenly_spaced_both_ways_and_stop_at_a_shape(tmp_path):
    shapes = [
        {"id": "ball", "kind": "sphere", "params": {"radius": 0.3}},
        {"id": "rock", "kind": "box", "params": {"size": [1, 9, 9], "move": [1.5, 0, 0]}},
    ]
    step = {"field": "v", "length": 2.0, "spacing": 0.1, "count": 50}
    store, p = made(tmp_path, ("flow_lines", {**step, "both": True}), shapes=shapes)
    lines = drawing_of(store, p, "p", 1).lines[-1]
    assert len(lines.counts) == 50
    assert set(lines.counts) == {41}
    inner = lines.channels["along"][1:] > 0
    assert np.linalg.norm(np.diff(lines.points, axis=0), axis=1)[inner] == pytest.approx(0.1, rel=1e-3)
    assert lines.channels["speed"] == pytest.approx(2)
    _, q = made(tmp_path / "b", ("flow_lines", {**step, "stop": "rock"}), shapes=shapes)
    stopped = drawing_of(store, q, "p", 1).lines[-1]
    assert stopped.points[:, 0].max() < 1.0
    assert stopped.points[:, 0].max() > 0.85


def test_flow_lines_in_a_vortex_stay_on_their_circles(tmp_path):
    shapes, lanes = rotation_lanes()
    store, p = made(tmp_path, ("flow_lines", {"field": "v", "length": 6, "spacing": 0.01}), fields=lanes, shapes=shapes)
    lines = drawing_of(store, p, "p", 1).lines[-1]
    radius = np.hypot(lines.points[:, 0], lines.points[:, 1])
    line = np.repeat(np.arange(len(lines.counts)), lines.counts)
    own = radius[lines.starts][line]
    big = own > 0.2
    assert np.abs(radius - own)[big].max() < 2e-3


def test_points_are_spread_by_spacing_by_count_and_at_random():
    lines = Lines(
        np.float32([[0, 0, 0], [1, 0, 0], [1, 2, 0], [5, 5, 5], [5, 5, 6]]), np.int32([3, 2]),
        {"along": np.float32([0, 1, 3, 0, 1])},
    )  # fmt: skip

    def spread(**values):
        d = Drawing(None, None, 1, None, [lines])
        SpreadAlong.build(values, "s").draw(d)
        return d.spread

    by = spread(how="spacing", spacing=0.5)
    assert by.counts.tolist() == [7, 3]
    assert by.channels["along"] == pytest.approx([0, 0.5, 1, 1.5, 2, 2.5, 3, 0, 0.5, 1], abs=1e-5)
    assert by.points[3] == pytest.approx([1, 0.5, 0], abs=1e-5)
    even = spread(how="count", count=3)
    assert even.channels["along"] == pytest.approx([0.5, 1.5, 2.5, 1 / 6, 0.5, 5 / 6], abs=1e-5)
    anywhere = spread(how="count", count=4000, random=True)
    assert anywhere.counts.tolist() == [4000, 4000]
    assert anywhere.channels["along"][:4000].mean() == pytest.approx(1.5, abs=0.06)
    assert anywhere.channels["along"][:4000].std() == pytest.approx(3 / np.sqrt(12), abs=0.05)


def test_usd_plays_particles_and_trails_frame_by_frame(tmp_path):
    emit = {**BURST, "timing": "rate", "rate": 300, "life": 99}
    store, p = made(tmp_path, ("trail", {"length": 0.3}), emit=emit)
    files = export_run(store, tmp_path / "out", format="usd", plan=p)
    assert sorted(f.suffix for f, _ in files).count(".usdc") == 12
    stage = Usd.Stage.Open(str(tmp_path / "out" / "p.usda"))
    assert (stage.GetStartTimeCode(), stage.GetEndTimeCode(), stage.GetTimeCodesPerSecond()) == (1, 12, 10)
    assert UsdGeom.GetStageMetersPerUnit(stage) == 1
    points = UsdGeom.Points(stage.GetPrimAtPath("/p/Particles"))
    curves = UsdGeom.BasisCurves(stage.GetPrimAtPath("/p/Lines"))
    for frame in (3, 7, 12):
        data, lines = store.read(frame), drawing_of(store, p, "p", frame).lines[-1]
        assert np.array_equal(np.array(points.GetPointsAttr().Get(frame)), data["position"])
        assert np.array_equal(np.array(points.GetVelocitiesAttr().Get(frame)), data["velocity"])
        assert np.array_equal(np.array(points.GetIdsAttr().Get(frame)), data["id"])
        assert len(points.GetWidthsAttr().Get(frame)) == len(data["id"])
        age = UsdGeom.PrimvarsAPI(points).GetPrimvar("age")
        assert np.array_equal(np.array(age.Get(frame)), data["age"])
        assert np.array_equal(np.array(curves.GetPointsAttr().Get(frame)), lines.points)
        assert np.array_equal(np.array(curves.GetCurveVertexCountsAttr().Get(frame)), lines.counts)


def test_npz_and_csv_hold_the_same_numbers(tmp_path):
    store, _ = made(tmp_path, ("gravity", {}))
    export_run(store, tmp_path / "n", format="npz", frames=(5, 5))
    export_run(store, tmp_path / "c", format="csv", frames=(5, 5), channels=("velocity", "id"))
    data = store.read(5)
    with np.load(tmp_path / "n" / "p.0005.npz") as z:
        assert set(z.files) == {"position", "velocity", "age", "life", "id"}, "what is internal is stripped"
        assert all(np.array_equal(z[k], data[k]) for k in z.files)
    with (tmp_path / "c" / "p.0005.csv").open() as file:
        rows = list(csv.reader(file))
    assert rows[0] == ["x", "y", "z", "vx", "vy", "vz", "id"]
    table = np.array(rows[1:], float)
    assert np.array_equal(table[:, :3].astype(np.float32), data["position"])
    assert np.array_equal(table[:, 6], data["id"])


def test_velocities_from_positions_are_exact_also_after_a_wall_and_respawn(tmp_path):
    shapes = [
        {"id": "ball", "kind": "sphere", "params": {"radius": 0.3}},
        {"id": "rock", "kind": "sphere", "params": {"radius": 0.5, "move": [1, 0, 0]}},
    ]
    store, _ = made(tmp_path, ("stay_out", {"shape": "rock"}), ("respawn", {"farther": 1.5}), shapes=shapes)
    export_run(store, tmp_path / "v", format="npz", velocity="positions")
    for frame in (6, 11):
        with np.load(tmp_path / "v" / f"p.{frame:04d}.npz") as z:
            got = z["velocity"]
        now, then = store.read(frame), store.read(frame - 1)
        before = {int(i): k for k, i in enumerate(then["id"])}
        at = np.array([before[int(i)] for i in now["id"]])
        same = now["again"] == then["again"][at]
        assert got[same] == pytest.approx((now["position"] - then["position"][at])[same] * 10, abs=1e-4)
        assert np.abs(got).max() < 4, "no leap of a particle that was born again"


def test_exports_that_make_no_sense_say_why_and_leave_nothing(tmp_path):
    store, p = made(tmp_path)
    for options, words in (
        ({"format": "ply", "what": "lines"}, "holds points, not lines"),
        ({"format": "npz", "what": "lines"}, "draws no lines"),
        ({"format": "npz", "what": "spread"}, "draws no spread"),
        ({"format": "usdx"}, "not a format"),
        ({"format": "csv", "channels": ("velocty",)}, "no channel 'velocty'"),
    ):
        with pytest.raises(FileError, match=words):
            export_run(store, tmp_path / "x", plan=p, **options)
        assert not list((tmp_path / "x").glob("*")) if (tmp_path / "x").exists() else True


def test_an_empty_frame_draws_nothing_and_is_no_error(tmp_path):
    emit = {**BURST, "begin": 0.5}
    store, p = made(tmp_path, ("trail", {}), ("flow_lines", {"field": "v"}), ("spread_along", {}), emit=emit)
    d = drawing_of(store, p, "p", 2)
    assert [len(x.counts) for x in d.lines] == [0, 0]
    assert d.spread is not None
    assert len(d.spread.points) == 0
    assert len(export_run(store, tmp_path / "u", format="usd", plan=p, frames=(1, 3))) == 6
    assert {Trail.family, FlowLines.family} == {"drawn"}
