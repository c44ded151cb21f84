"""Curves that lanes move: along a field, carried, masked; followed again by a flow; what is refused."""

import numpy as np
import pytest

from errant_gust.core.errors import BudgetError, StudyError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.sampling import sample
from errant_gust.core.flows.particles.flow import ParticleFlow
from errant_gust.core.study.building import lane, study
from errant_gust.core.study.document import parse
from tests.liquids import ball
from tests.studies import plan

LINE = {
    "id": "line",
    "kind": "curve",
    "params": {"points": [[-1, 0, 0], [1, 0, 0]], "form": "straight", "radius": 0.02},
}
BOW = lane("bow", ("constant", {"vector": [0, 0, 0]}), ("formula", {"expression": "0, 0, 1 - x*x"}))
WIND = lane("wind", ("constant", {"vector": [0, 0.5, 0]}))


def bent(**params):
    return {"id": "c", "kind": "deformed_curve", "params": {"curve": "line", "field": "bow", **params}}


def made(*fields, shapes=(LINE,), **params):
    fields = (BOW, WIND, *fields)
    return Plan(parse(study("C", *fields, shapes=[*shapes, bent(**params)])))


def points_of(shape, n=50):
    return shape.kind.curves(shape.geometry).along(0, n)[0]


def test_it_is_where_the_field_puts_it_and_a_tube_around_that():
    shape = made(spacing=0.05, radius=0.1).at(0).shape("c")
    p = points_of(shape)
    assert p[:, 2] == pytest.approx(1 - p[:, 0] ** 2, abs=2e-3)
    assert np.ptp(p[:, 0]) == pytest.approx(2, abs=1e-5)
    d, g, _ = shape.distance(np.float32([[0, 0], [0.3, 0], [1, 1.4]]), 1)
    assert d == pytest.approx([0.2, 0.3], abs=5e-3)
    assert np.linalg.norm(g, axis=0) == pytest.approx(1, abs=1e-3)
    lower, upper = shape.box
    assert lower == pytest.approx([-1.1, -0.1, -0.1], abs=0.02)
    assert upper == pytest.approx([1.1, 0.1, 1.1], abs=0.02)


def test_carried_it_goes_so_far_and_from_frame_to_frame_farther():
    shape = made(field="wind", how="carried", seconds=0.4).at(0).shape("c")
    assert points_of(shape)[:, 1] == pytest.approx(0.2, abs=1e-5)
    p = made(field="wind", how="carried since the first frame")
    for time in (0.0, 0.5):
        assert points_of(p.at(time).shape("c"))[:, 1] == pytest.approx(0.5 * time, abs=1e-5)
    assert p.at(0.5).shape("c").moves


def test_a_mask_says_where_and_taken_away_leaves_nothing_behind():
    half = lane("half", ("ramp", {"start": [0, 0, 0], "end": [0.001, 0, 0]}))
    p = points_of(made(half, field="wind", how="along the field", by="half").at(0).shape("c"))
    assert np.abs(p[p[:, 0] < -0.1][:, 1]).max() < 1e-6
    assert p[p[:, 0] > 0.1][:, 1] == pytest.approx(0.5, abs=1e-3)
    whole = points_of(made(field="wind").at(0).shape("c"))
    assert whole[:, 1] == pytest.approx(0.5, abs=1e-6)


def test_a_flow_follows_it_and_particles_are_born_along_it():
    along = lane("along", ("spline_flow", {"curve": "c", "along": 1, "inward": 0, "around": 0, "reach": 1}))
    smooth = {**LINE, "params": {**LINE["params"], "form": "smooth"}}
    p = plan(BOW, WIND, along, shapes=[smooth, bent(spacing=0.05)],
             flows=[{**lane("p", ("emit", {"shape": "c", "where": "line", "timing": "all at once", "count": 200,
                                           "preview_share": 1, "life": 9})), "kind": "particles"}])  # fmt: skip
    at = np.float32([[-0.5, 0, 0.75], [0, 0, 1], [0.5, 0, 0.75]])
    v = sample(p.at(0).lane("along"), at)[0]
    right = np.array([[1, 0, 1.0], [1, 0, 0], [1, 0, -1.0]])
    right /= np.linalg.norm(right, axis=1, keepdims=True)
    assert v == pytest.approx(right, abs=0.01)
    x, y, z = ParticleFlow(p, "p").first().position
    assert z == pytest.approx(1 - x * x, abs=2e-3)
    assert np.abs(y).max() < 1e-5


def test_one_may_be_made_of_another():
    twice = {"id": "d", "kind": "deformed_curve", "params": {"curve": "c", "field": "wind"}}
    p = points_of(made(shapes=(LINE, twice)).at(0).shape("d"))
    assert p[:, 1] == pytest.approx(0.5, abs=1e-5)
    assert p[:, 2] == pytest.approx(1 - p[:, 0] ** 2, abs=0.02)


def test_what_cannot_be_is_refused_with_its_place():
    round_one = ball("line", 0.5, (0, 0, 0))
    with pytest.raises(StudyError, match="not a curve") as error:
        points_of(made(shapes=(round_one,)).at(0).shape("c"))
    assert error.value.where == "shapes.c.curve"
    with pytest.raises(BudgetError) as error:
        points_of(made(spacing=1e-6).at(0).shape("c"))
    assert "at least" in error.value.fix
    scalar = lane("s", ("constant", {"makes": "scalar", "value": 1}))
    with pytest.raises(StudyError, match="a vector is needed"):
        points_of(made(scalar, field="s").at(0).shape("c"))
    with pytest.raises(StudyError, match="made from"):
        points_of(made(curve="c").at(0).shape("c"))
