"""Births that keep apart: how near, how many, where a weight says, always the same."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial import cKDTree

from errant_gust.core.checks import findings
from errant_gust.core.flows.particles.flow import ParticleFlow
from errant_gust.core.flows.particles.kind import ParticleKind
from errant_gust.core.kernels.scattering import far_enough
from errant_gust.core.study.building import lane
from tests.liquids import ball, box
from tests.studies import plan

BALL = ball("ball", 0.5, (0.2, -0.1, 0.3))
HALF = lane("half", ("ramp", {"start": [0.2, 0, 0], "end": [0.2001, 0, 0]}))


def born(shapes=(BALL,), fields=(), frames=0, steps=(), **emit):
    emit = {"shape": "ball", "timing": "all at once", "count": 20_000, "preview_share": 1, "life": 1e4, **emit}
    flow = {**lane("p", ("emit", emit), *steps), "kind": ParticleKind.id}
    f = ParticleFlow(plan(*fields, flows=[flow], shapes=list(shapes)), "p")
    state = f.first()
    for n in range(1, 1 + frames):
        state = f.next(state, n)
    return state


def nearest(points):
    return cKDTree(points.T).query(points.T, k=2)[0][:, 1]


@given(st.integers(0, 2**32 - 1), st.floats(0.02, 0.5))
def test_what_is_taken_is_apart_and_what_is_not_has_a_reason(seed, radius):
    points = np.random.default_rng(seed).uniform(-1, 1, (3, 400)).astype(np.float32)
    taken = np.empty(400, bool)
    count = far_enough(points, np.float32(radius), taken)
    assert count == taken.sum()
    assert taken[0]
    kept = points[:, taken]
    if count > 1:
        assert nearest(kept).min() >= radius * (1 - 1e-5)
    if (~taken).any():
        assert cKDTree(kept.T).query(points[:, ~taken].T)[0].max() < radius * (1 + 1e-5)


@pytest.mark.parametrize("where", ["surface", "volume"])
def test_births_fill_a_shape_and_keep_apart(where):
    s = born(where=where, apart=0.06)
    d = nearest(s.position)
    assert d.min() >= 0.06 - 1e-6
    assert d.max() < 0.13, "and leave no holes"
    # darts until none finds room fill 0.603 of the densest packing on a plane (Rényi's problem), 0.52 in space
    if where == "surface":
        most = 4 * np.pi * 0.25 / (0.06**2 * np.sqrt(3) / 2)
        assert 0.53 < s.count / most < 0.63
    else:
        most = 4 / 3 * np.pi * 0.125 / (0.06**3 / np.sqrt(2))
        assert 0.4 < s.count / most < 0.8, "more than its volume, for the outermost stand on the border"
    few = born(where=where, apart=0.06, count=50)
    assert few.count == 50
    assert np.array_equal(np.sort(few.id), np.arange(50))


def test_along_a_curve_they_stand_apart():
    curve = {"id": "ball", "kind": "curve", "params": {"points": [[0, 0, 0], [1, 0, 0], [2, 0, 0]], "radius": 0.01}}
    s = born(shapes=[curve], where="line", apart=0.1, count=500)
    x = np.sort(s.position[0])
    assert np.diff(x).min() >= 0.1 - 1e-5
    assert 13 <= s.count <= 20  # Rényi 1958: 0.7476 of the places


def test_a_weight_says_where_and_does_not_keep_room():
    s = born(apart=0.05, weight="half", fields=[HALF])
    assert s.position[0].min() > 0.2 - 1e-3
    whole = born(apart=0.05)
    assert s.count == pytest.approx(whole.count / 2, rel=0.06)
    tenth = lane("tenth", ("constant", {"makes": "scalar", "value": 0.1}))
    assert born(apart=0.05, weight="tenth", fields=[tenth]).count > 0.85 * whole.count, "fewer darts, no fewer places"


def test_places_are_the_same_every_time_and_a_seed_gives_others(monkeypatch):
    first = born(apart=0.08)
    monkeypatch.setenv("ERRANT_GUST_THREADS", "1")
    again, other = born(apart=0.08), born(apart=0.08, seed=2)
    assert np.array_equal(first.position, again.position)
    assert other.position.shape != first.position.shape or not np.array_equal(first.position, other.position)


def test_what_nothing_has_room_for_is_one_and_a_rate_is_left_alone():
    assert born(apart=5.0).count == 1
    none = lane("none", ("constant", {"makes": "scalar", "value": 0}))
    assert born(apart=0.1, weight="none", fields=[none]).count == 0
    s = born(apart=0.1, timing="rate", rate=4000, frames=12)
    assert nearest(s.position).min() < 0.05


def test_a_sharp_box_is_scattered_on_all_its_sides():
    s = born(shapes=[box("ball", (-0.5, -0.5, 0), (0.5, 0.5, 0.2))], apart=0.04)
    on = [(np.abs(s.position[axis] - at) < 1e-4).sum() for axis, at in ((0, -0.5), (0, 0.5), (2, 0), (2, 0.2))]
    assert on[2] / on[0] == pytest.approx(5, rel=0.25)
    assert on[3] / on[1] == pytest.approx(5, rel=0.25)


@pytest.mark.parametrize("where", ["surface", "volume"])
def test_evened_out_they_stand_more_alike_and_no_two_are_nearer(where):
    thrown, even = (born(where=where, apart=0.06, even_out=n) for n in (0, 12))
    assert even.count == thrown.count
    before, after = nearest(thrown.position), nearest(even.position)
    assert after.min() >= 0.06 - 1e-6
    assert after.mean() > (1.08 if where == "surface" else 1.04) * before.mean()
    rng = np.random.default_rng(4)
    tried = rng.normal(size=(4000, 3))
    tried *= 0.5 / np.linalg.norm(tried, axis=1, keepdims=True)
    tried = np.float32([0.2, -0.1, 0.3]) + tried * (1 if where == "surface" else rng.random((4000, 1)) ** (1 / 3))
    holes = [np.sort(cKDTree(made.position.T).query(tried)[0])[-40:].mean() for made in (thrown, even)]
    assert holes[1] < holes[0]
    away = np.linalg.norm(even.position - np.float32([[0.2], [-0.1], [0.3]]), axis=0)
    if where == "surface":
        assert away == pytest.approx(0.5, abs=1e-4)
    else:
        assert away.max() < 0.5


def test_evened_out_none_goes_where_the_weight_refuses_it_and_meshes_keep_their_surface():
    s = born(apart=0.05, weight="half", fields=[HALF], even_out=10)
    assert s.position[0].min() > 0.2 - 1e-3
    swollen = {"id": "d", "kind": "deformed", "params": {"shape": "ball", "field": "v", "edges": 0.1}}
    v = lane("v", ("constant", {"vector": [0.5, 0, 0]}))
    s = born(shapes=[BALL, swollen], fields=[v], shape="d", apart=0.08, even_out=10)
    away = np.linalg.norm(s.position - np.float32([[0.7], [-0.1], [0.3]]), axis=0)
    assert away.max() < 0.5 + 1e-4
    assert away.min() > 0.485  # on the triangles of the ball
    assert nearest(s.position).min() >= 0.08 - 1e-6


def test_a_weight_that_is_zero_everywhere_on_the_shape_is_told():
    none = lane("none", ("ramp", {"start": [5, 0, 0], "end": [6, 0, 0]}))  # zero up to x = 5
    emit = ("emit", {"shape": "ball", "weight": "none"})
    p = plan(none, flows=[{**lane("p", emit, ("gravity", {})), "kind": "particles"}], shapes=[BALL])
    found = {f.code: f for f in findings(p)}
    assert found["nobody_born"].where == "flows.p.s0.weight"
    sound = plan(HALF, flows=[{**lane("p", ("emit", {"shape": "ball", "weight": "half"})), "kind": "particles"}],
                 shapes=[BALL])  # fmt: skip
    assert "nobody_born" not in [f.code for f in findings(sound)]
