"""Surfaces of fields: shapes that lanes make. Where they are, how they move, what they are for, what is refused."""

import numpy as np
import pytest

from errant_gust.core.checks import findings
from errant_gust.core.errors import BudgetError, GustError, StudyError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.sampling import sample
from errant_gust.core.flows.particles.kind import ParticleKind
from errant_gust.core.runs.compute import compute
from errant_gust.core.study.building import lane, study
from errant_gust.core.study.document import parse
from tests.liquids import ball, box

MIDDLE = np.array([0.03, 0.01, -0.02])
BALL = ball("ball", 0.5, MIDDLE.tolist())
DISTANCE = lane("d", ("distance", {"shape": "ball"}))


def surface(id="s", **params):
    return {"id": id, "kind": "field_surface", "params": {"field": "d", "region": "r", "smooth": 0, **params}}


def made(*fields, n=48, shapes=(BALL,), room=((-1, -1, -1), (1, 1, 1)), turn=(0, 0, 0), flows=(), clock=None, **params):
    """A study with the surface `s` of the lane `d` on n voxels along x."""
    regions = [{"id": "r", "bounds": {"lower": list(room[0]), "upper": list(room[1])},
                "voxel_size": (room[1][0] - room[0][0]) / n, "turn": list(turn)}]  # fmt: skip
    return Plan(parse(study("S", *(fields or (DISTANCE,)), shapes=[*shapes, surface(**params)], regions=regions,
                            flows=list(flows), **({"clock": clock} if clock else {}))))  # fmt: skip


def off(plan, reach=0.9, time=0.0):
    """Random points (3, n), their distance from the surface, its slope."""
    points = np.random.default_rng(1).uniform(-reach, reach, (3, 20_000)).astype(np.float32)
    d, slope, _ = plan.at(time).shape("s").distance(points, 1)
    return points, d, slope


def from_ball(points, radius=0.5):
    return np.linalg.norm(points - MIDDLE[:, None], axis=0) - radius


def volume(shape):
    vertices, faces = shape.surface
    a, b, c = vertices[faces].astype(float).transpose(1, 0, 2)
    return float(np.einsum("ni,ni->n", a, np.cross(b, c)).sum() / 6)


@pytest.mark.parametrize("turn", [(0, 0, 0), (20, 0, 35)])
def test_the_surface_of_a_distance_is_the_shape(turn):
    plan = made(turn=turn)
    points, d, slope = off(plan)
    right, h = from_ball(points), 2 / 48
    near = np.abs(right) < 0.15
    assert np.abs(d - right)[near].max() < 0.08 * h
    assert np.abs(np.linalg.norm(slope, axis=0) - 1)[near].max() < 0.03
    outward = (slope * (points - MIDDLE[:, None])).sum(axis=0) / np.linalg.norm(points - MIDDLE[:, None], axis=0)
    assert outward[near].min() > 0.97
    assert np.abs(d - right)[right > -0.3].max() < 0.3 * h, "the middle of the ball is a kink, which no spline has"
    shape = plan.at(0).shape("s")
    assert volume(shape) == pytest.approx(4 / 3 * np.pi * 0.5**3, rel=0.01)
    assert shape.box[0] == pytest.approx(MIDDLE - 0.5, abs=0.2 * h)
    assert shape.box[1] == pytest.approx(MIDDLE + 0.5, abs=0.2 * h)


def test_level_side_and_a_corner():
    points, d, _ = off(made(level=0.2))
    assert np.abs(d - from_ball(points, 0.7))[np.abs(from_ball(points, 0.7)) < 0.1].max() < 0.01
    cube = made(shapes=[{**box("ball", (-0.4, -0.4, -0.4), (0.4, 0.4, 0.4))}])
    points, d, _ = off(cube)
    corner = np.abs(points)
    right = np.where((corner < 0.4).all(axis=0), (corner - 0.4).max(axis=0),
                     np.linalg.norm(np.maximum(corner - 0.4, 0), axis=0))  # fmt: skip
    assert np.abs(d - right)[np.abs(right) < 0.1].max() < 0.8 * 2 / 48, "an edge is as sharp as the voxels"
    mask = lane("d", ("mask_shape", {"shapes": ["ball"], "fade_over": 0.4}))
    above = made(mask, level=0.5, inside="above").at(0).shape("s")
    assert above.distance(MIDDLE.astype(np.float32)[:, None])[0][0] < -0.5
    assert above.distance(np.float32([[0.9], [0.9], [0.9]]))[0][0] > 0.5
    below = made(mask, level=0.5, inside="below").at(0).shape("s")
    assert below.distance(MIDDLE.astype(np.float32)[:, None])[0][0] > 0.5


def test_what_the_region_cuts_is_closed_flat_or_left_open():
    low = ((-1, -1, 0), (1, 1, 1))
    closed, opened = (made(room=low, ends=ends).at(0).shape("s") for ends in ("closed", "open"))
    d = closed.distance(np.float32([[0, 0, 0], [0, 0, 0], [0.2, -0.1, -0.5]]))[0]
    assert d[0] < -0.1
    assert d[1:] == pytest.approx([0.1, 0.5], abs=0.01), "it ends at the region"
    ends = [float(s.surface[0][s.surface[1]][..., 2].min()) for s in (closed, opened)]
    assert ends == pytest.approx([0, 0], abs=1e-3)
    flat = [float((s.surface[0][s.surface[1]][..., 2] < 1e-3).all(axis=1).mean()) for s in (closed, opened)]
    assert flat[0] > 0.1
    assert flat[1] == 0
    assert opened.distance(np.float32([[0], [0], [0.2]]))[0][0] < -0.1, "inside stays inside"
    told = [f for f in findings(made(room=low)) if f.code == "cut_by_region"]
    assert [f.where for f in told] == ["shapes.s.region"]
    assert not [f for f in findings(made()) if f.code == "cut_by_region"]


def test_a_lane_that_moves_makes_it_anew_on_every_frame_and_gives_it_speed():
    grows = {**BALL, "params": {**BALL["params"], "radius": {"keys": [[0, 0.3], [1, 0.7]], "between": "linear"}}}
    plan = made(shapes=[grows], clock={"fps": 10, "start": 1, "end": 11})
    for time in (0.0, 0.5, 1.0):
        points, d, _ = off(plan, time=time)
        right = from_ball(points, 0.3 + 0.4 * time)
        assert np.abs(d - right)[np.abs(right) < 0.1].max() < 0.01
    shape = plan.at(0.5).shape("s")
    assert shape.moves
    on = shape.surface[0][::50].T
    outward = shape.distance(np.ascontiguousarray(on), 1)[1]
    speed = (shape.surface_velocity(np.ascontiguousarray(on)) * outward).sum(axis=0)
    assert np.median(speed) == pytest.approx(0.4, rel=0.05)
    assert not made().at(0.5).shape("s").moves


ROUGH = lane(
    "d", ("distance", {"shape": "ball"}),
    ("add", {"field": "noise"}), ("smooth", {"region": "r", "width": 0.05}),
)  # fmt: skip
NOISE = lane("noise", ("noise", {"feature_size": 0.4, "strength": 0.3}))


def test_a_roughened_distance_emits_from_its_surface_and_is_steered_around(tmp_path):
    """The chain of the job: shape, distance, noise, smooth, surface; particles come out of it, wind goes round it."""
    wind = lane("wind", ("wind", {"speed": 1}), ("steer_around", {"shape": "s", "reach": 0.4}))
    emit = lane("p", ("emit", {"shape": "s", "rate": 2000, "where": "surface"}), ("carry", {"field": "wind"}))
    flow = {**emit, "kind": ParticleKind.id}
    plan = made(ROUGH, NOISE, wind, flows=[flow], clock={"fps": 24, "start": 1, "end": 6})
    shape = plan.at(0).shape("s")
    on = np.ascontiguousarray(shape.surface[0][::20])
    right = from_ball(on.T.astype(float))
    assert right.std() > 0.015, "it is rough"
    v = sample(plan.at(0).lane("wind"), on)[0]
    outward = shape.distance(np.ascontiguousarray(on.T), 1)[1]
    into = np.abs((v.T * outward).sum(axis=0))
    assert np.percentile(into, 95) < 0.08
    assert np.linalg.norm(v, axis=1).mean() > 0.5
    store = compute(plan.study, "p", tmp_path / "run", quality="full")
    born = store.read(6)
    assert len(born["age"]) > 200
    fresh = born["position"][born["age"] < 1e-3]
    assert np.abs(shape.distance(np.ascontiguousarray(fresh.T))[0]).max(initial=0) < 0.02
    d = shape.distance(np.ascontiguousarray(born["position"].T))[0]
    assert (d > -0.03).mean() > 0.99, "nothing goes into it"


def test_runs_depend_on_the_lane_that_makes_the_shape():
    emit = {**lane("p", ("emit", {"shape": "s"}), ("carry", {"field": "wind"})), "kind": ParticleKind.id}
    wind = lane("wind", ("wind", {}))

    def identity(*fields, **more):
        return made(*fields, wind, flows=[emit], **more).at(0).flow_identity("p")

    same = identity(DISTANCE)
    assert identity(DISTANCE) == same
    assert identity(lane("d", ("distance", {"shape": "ball"}), ("gain", {"factor": 2}))) != same
    assert identity(DISTANCE, level=0.1) != same
    assert identity(DISTANCE, n=40) != same
    assert identity(DISTANCE, lane("other", ("wind", {}))) == same


@pytest.mark.parametrize(
    ("fields", "more", "path"),
    [
        ((lane("d", ("distance", {"shape": "s"})),), {}, "s → d → s"),
        ((lane("d", ("distance", {"shape": "ball"}), ("add", {"field": "e"})), lane("e", ("distance", {"shape": "s"}))),
         {}, "s → d → e → s"),
    ],
)  # fmt: skip
def test_a_circle_is_refused_with_its_path(fields, more, path):
    plan = made(*fields, **more)
    with pytest.raises(StudyError, match="made from what is made from the surface") as error:
        plan.at(0).shape("s").distance(np.zeros((3, 1), np.float32))
    assert path in str(error.value)
    assert any(path in e.what for e in plan.problems())


def test_a_region_fitted_to_its_own_surface_is_a_circle_too():
    data = study("S", DISTANCE, shapes=[BALL, surface()],
                 regions=[{"id": "r", "bounds": {"fit": ["s"]}, "voxel_size": 0.1}])  # fmt: skip
    plan = Plan(parse(data))
    with pytest.raises(StudyError, match="s → r → s"):
        _ = plan.at(0).shape("s").box
    with pytest.raises(StudyError, match="s → r → s"):
        plan.at(0).region("r")


@pytest.mark.parametrize(
    ("fields", "more", "words"),
    [
        ((DISTANCE,), {"level": 9}, "goes"),
        ((lane("d", ("wind", {})),), {}, "a scalar is needed"),
        ((DISTANCE,), {"field": "none"}, "there is no field 'none'"),
        ((DISTANCE,), {"region": "none"}, "there is no region 'none'"),
        ((DISTANCE,), {"smooth": -1}, "smooth"),
    ],
)
def test_what_makes_no_surface_is_said_with_its_place(fields, more, words):
    with pytest.raises(GustError) as error:
        made(*fields, **more).at(0).shape("s").distance(np.zeros((3, 1), np.float32))
    said = str(error.value)
    assert words in said or ("from" in said and "nowhere" in said)
    assert error.value.where
    if "level" in more:
        assert "from -0.47" in said, "it says the range"


def test_too_many_voxels_are_refused_before_they_are_made(monkeypatch):
    monkeypatch.setenv("ERRANT_GUST_BUDGET_MB", "20")
    with pytest.raises(BudgetError, match="would fit"):
        made(n=200).at(0).shape("s").distance(np.zeros((3, 1), np.float32))
