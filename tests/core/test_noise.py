"""Noise: range, mean, isotropy, evolution; curl noise: no sinks, exact gradients, stated speed."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from errant_gust.core.fields.sampling import sample
from errant_gust.core.fields.steps.noise import CELL_KINDS
from tests.studies import central_differences, lane, node, plan, values


def test_signed_noise_stays_in_its_range_and_has_no_mean(rng):
    points = rng.uniform(-300, 300, (400_000, 3))
    v = values(node(("noise", {"octaves": 1})), points)
    assert np.abs(v).max() <= 1.0
    assert np.abs(v).max() > 0.6, "the stated range would be far too wide"
    assert abs(v.mean()) < 2e-3
    unit = values(node(("noise", {"range": "unit", "octaves": 4})), points[:50_000])
    assert unit.min() >= 0
    assert unit.max() <= 1


@pytest.mark.parametrize(
    "params",
    [{"basis": "simplex"}, {"basis": "waves"}, *({"basis": "cells", "cells": c} for c in CELL_KINDS)],
    ids=str,
)
def test_every_basis_stays_in_its_stated_range(params, rng):
    points = rng.uniform(-300, 300, (200_000, 3))
    for time in (0.0, 1.7):
        v = values(node(("noise", {**params, "octaves": 1, "evolve": 0.4}), time=time), points)
        assert np.abs(v).max() <= 1.0
        assert np.ptp(v) > 1.2, "the stated range would be far too wide"


BASES = [{"basis": b} for b in ("gradient", "simplex", "waves")] + [{"basis": "cells", "cells": c} for c in CELL_KINDS]


def one(basis, time=0.0, **more):
    return node(("noise", {**basis, "octaves": 1, **more}), time=time)


@pytest.mark.parametrize("basis", BASES, ids=str)
def test_seeds_and_components_have_nothing_in_common(basis, rng):
    points = rng.uniform(-60, 60, (60_000, 3))
    seeds = np.corrcoef([values(one(basis, seed=s), points) for s in range(1, 9)])
    assert np.abs(seeds - np.eye(8)).max() < 0.03
    parts = np.corrcoef(values(one(basis, makes="vector"), points).T)
    assert np.abs(parts - np.eye(3)).max() < 0.03


@pytest.mark.parametrize("basis", BASES, ids=str)
def test_every_basis_boils_in_place_with_one_strength(basis, rng):
    """The shift that explains a small change best (Lucas, Kanade 1981) is next to nothing; the spread stays."""
    points = rng.uniform(-60, 60, (60_000, 3)).astype(np.float32)
    spread = [values(one(basis, time, evolve=1.0), points).std() for time in np.linspace(0, 1, 6)]
    assert max(spread) / min(spread) < 1.06
    if basis.get("cells") == "number":
        return
    for seed in range(1, 7):
        before = values(one(basis, 1.3, evolve=1.0, seed=seed), points)
        after, slope = sample(one(basis, 1.4, evolve=1.0, seed=seed), points, gradient=True)
        slope = slope.astype(np.float64)
        drift = np.linalg.solve(slope.T @ slope, -slope.T @ (after - before)) / 0.1
        assert np.linalg.norm(drift) < 0.06, (seed, drift)


@pytest.mark.parametrize("basis", [b for b in BASES if b.get("cells") != "number"], ids=str)
@pytest.mark.parametrize("seed", [1, 2, 9])
def test_no_basis_has_a_preferred_direction(basis, seed, rng):
    points = rng.uniform(-60, 60, (60_000, 3))
    _, slope = sample(one(basis, 1.3, evolve=0.37, seed=seed), points, gradient=True)
    ways = np.array([[1, 0, 0], [0, 1, 0], [0, 0, 1], [1, 1, 0], [1, 0, 1], [0, 1, 1], [1, 1, 1], [1, -1, 0]], float)
    ways /= np.linalg.norm(ways, axis=1, keepdims=True)
    spread = (slope @ ways.T).std(axis=0)
    assert spread.max() / spread.min() < 1.04


@pytest.mark.parametrize("basis", ["gradient", "simplex", "waves", "cells"])
def test_curl_noise_keeps_its_speed_as_it_evolves(basis, rng):
    points = rng.uniform(-60, 60, (60_000, 3))
    for time in np.linspace(0, 1, 9):
        v = values(node(("curl_noise", {"basis": basis, "octaves": 1, "evolve": 1.0}), time=time), points)
        assert np.sqrt((v.astype(np.float64) ** 2).sum(axis=1).mean()) == pytest.approx(1, rel=0.015)


def test_distances_to_cell_points_are_exact_and_a_cell_has_one_number(rng):
    """Down the slope, as far as the value says, there must be a cell point, and it must be of the same cell."""
    points = rng.uniform(-4, 4, (3000, 3)).astype(np.float32)
    n = node(("noise", {"basis": "cells", "octaves": 1}))
    v, slope = sample(n, points, gradient=True)
    distance = (v + 1) / 2 * 1.25
    nearest = points - slope * (1.25 / 2) * distance[:, None]  # down the slope lies the cell's point
    again = (values(n, nearest.astype(np.float32)) + 1) / 2 * 1.25
    assert np.abs(again).max() < 2e-3
    number = node(("noise", {"basis": "cells", "cells": "number", "octaves": 1}))
    assert np.abs(values(number, points) - values(number, nearest.astype(np.float32))).max() < 1e-6


def test_feature_size_and_strength_may_be_fields(rng):
    points = rng.uniform(-2, 2, (2000, 3)).astype(np.float32)
    two = lane("two", ("constant", {"makes": "scalar", "value": 2.0}))
    for step in ("noise", "curl_noise"):
        varying = node((step, {"feature_size": {"field": "two"}, "strength": {"field": "two"}}), others=(two,))
        plain = node((step, {"feature_size": 2.0, "strength": 2.0}))
        assert np.allclose(values(varying, points), values(plain, points), atol=3e-5)


def test_no_lattice_direction_stands_out(rng):
    points = rng.uniform(-200, 200, (200_000, 3))
    _, slope = sample(node(("noise", {"octaves": 1, "evolve": 0.37}), time=1.3), points, gradient=True)
    ways = np.array([[1, 0, 0], [0, 1, 0], [0, 0, 1], [1, 1, 0], [1, 0, 1], [0, 1, 1], [1, 1, 1]], float)
    ways /= np.linalg.norm(ways, axis=1, keepdims=True)
    spread = (slope @ ways.T).std(axis=0)
    assert spread.max() / spread.min() < 1.03


def test_evolving_boils_in_place_while_drifting_slides(rng):
    points = rng.uniform(-5, 5, (20_000, 3)).astype(np.float32)
    still = values(node(("noise", {})), points)
    slid = values(node(("noise", {"drift": [0.5, 0, 0]}), time=2.0), points + np.float32([1.0, 0, 0]))
    assert np.allclose(still, slid, atol=2e-5)
    boiled = values(node(("noise", {"evolve": 1.0}), time=2.5), points)
    shifts = [
        np.corrcoef(boiled, values(node(("noise", {})), points + np.float32([d, 0, 0])))[0, 1] for d in (-0.5, 0, 0.5)
    ]
    assert max(map(abs, shifts)) < 0.35, "an evolved pattern must not be a shifted copy"


def test_a_keyed_rate_is_integrated_so_that_it_never_jumps(rng):
    points = rng.uniform(-2, 2, (500, 3))
    keys = {"keys": [[0, 0.1], [1, 2.0]], "between": "linear"}
    fixed = values(node(("noise", {"evolve": 1.05}), time=1.0), points)
    assert np.allclose(values(node(("noise", {"evolve": keys}), time=1.0), points), fixed, atol=1e-5)


def test_curl_noise_has_no_sinks(rng):
    points = rng.uniform(-4, 4, (20_000, 3)).astype(np.float32)
    n = node(("curl_noise", {"octaves": 3, "evolve": 0.3}), time=0.7)
    speed = np.linalg.norm(values(n, points), axis=1).mean()
    found = []
    for h in (0.02, 0.01, 0.005):
        j = central_differences(n, points, h * n.feature)
        found.append(np.median(np.abs(np.trace(j, axis1=1, axis2=2))) * n.feature / speed)
    assert found[-1] < 1e-3
    assert found[0] / found[1] > 3, "differences must approach zero with the square of the step"


def test_curl_noise_exact_gradient_has_zero_trace(rng):
    points = rng.uniform(-4, 4, (5000, 3)).astype(np.float32)
    n = node(("curl_noise", {"octaves": 4, "evolve": 0.2}), time=0.4)
    v, slope = sample(n, points, gradient=True)
    trace = np.abs(np.trace(slope, axis1=1, axis2=2)).max()
    assert trace * n.feature / np.sqrt((v**2).sum(1)).mean() < 1e-5


def test_curl_noise_is_the_curl_of_its_potential(rng):
    points = rng.uniform(-3, 3, (4096, 3)).astype(np.float32)
    for evolve in (0.0, 0.4):
        n = node(("curl_noise", {"octaves": 2, "evolve": evolve}), time=1.0)
        p = n.potential(np.ascontiguousarray(points.T), None).slope
        curl = np.stack([p[2, 1] - p[1, 2], p[0, 2] - p[2, 0], p[1, 0] - p[0, 1]], axis=1)
        assert np.allclose(values(n, points), curl, atol=2e-5)


@pytest.mark.parametrize(("plane", "axis"), [("across x", 0), ("across y", 1), ("across z", 2)])
def test_in_plane_curl_noise_stays_in_its_plane(plane, axis, rng):
    v, slope = sample(node(("curl_noise", {"plane": plane})), rng.uniform(-3, 3, (2000, 3)), gradient=True)
    assert np.abs(v[:, axis]).max() == 0
    assert np.abs(np.trace(slope, axis1=1, axis2=2)).max() < 1e-4


def test_curl_across_any_normal_has_no_motion_along_it(rng):
    normal = np.array([1, 2, -0.5])
    step = ("curl_noise", {"plane": "across a normal", "normal": normal.tolist(), "basis": "simplex"})
    v = values(node(step), rng.uniform(-3, 3, (2000, 3)))
    assert np.abs(v @ normal).max() < 1e-5
    assert np.sqrt((v**2).sum(1).mean()) == pytest.approx(1, rel=0.1)


@given(octaves=st.integers(1, 6), size=st.floats(0.1, 10), strength=st.floats(0.1, 20))
def test_strength_is_the_rms_speed(octaves, size, strength):
    points = np.random.default_rng(5).uniform(-60 * size, 60 * size, (20_000, 3))
    v = values(node(("curl_noise", {"octaves": octaves, "feature_size": size, "strength": strength})), points)
    assert np.sqrt((v**2).sum(1).mean()) == pytest.approx(strength, rel=0.06)


def test_same_bits_on_one_and_two_threads_and_wherever_a_point_stands(rng, monkeypatch):
    points = rng.uniform(-3, 3, (30_011, 3)).astype(np.float32)
    n = plan(lane("lane", ("curl_noise", {"evolve": 0.2}), ("steer_around", {"shape": "pillar"}))).at(0.3).lane("lane")
    monkeypatch.setenv("ERRANT_GUST_THREADS", "1")
    one = values(n, points)
    monkeypatch.setenv("ERRANT_GUST_THREADS", "2")
    assert np.array_equal(one, values(n, points))
    assert np.array_equal(one[:137], values(n, points[:137]))
