"""Solved fields beside walls: nothing goes in, and there are no sinks from half a voxel on."""

import numpy as np
import pytest

from errant_gust.core.fields.sampling import sample
from tests.studies import node

MIDDLE = np.array([0.013, 0.021, -0.017])
BALL = [{"id": "ball", "kind": "sphere", "params": {"radius": 0.5, "move": MIDDLE.tolist()}}]
STEPS = {
    "potential flow": [("potential_flow", {"region": "room", "obstacles": ["ball"], "stream": [1, 0, 0]})],
    "divergence free": [("curl_noise", {"octaves": 1}), ("divergence_free", {"region": "room", "obstacles": ["ball"]})],
}


def around_ball(steps, voxels, time=0.0, shapes=BALL):
    regions = [{"id": "room", "bounds": {"lower": [-1.2] * 3, "upper": [1.2] * 3}, "voxel_size": 0.5 / voxels}]
    return node(*steps, shapes=shapes, regions=regions, time=time)


def ways(rng, count=6000):
    way = rng.normal(size=(count, 3))
    return way / np.linalg.norm(way, axis=1, keepdims=True)


@pytest.mark.parametrize("steps", STEPS.values(), ids=STEPS)
@pytest.mark.parametrize("voxels", [5, 10])
def test_nothing_points_into_an_obstacle(steps, voxels, rng):
    n, way = around_ball(steps, voxels), ways(rng)
    v = sample(n, MIDDLE + 0.5 * way)[0]
    speed = np.sqrt((v**2).sum(axis=1).mean())
    assert np.quantile(np.abs((v * way).sum(axis=1)), 0.99) < 1e-3 * speed


@pytest.mark.parametrize("steps", STEPS.values(), ids=STEPS)
@pytest.mark.parametrize("voxels", [5, 10])
@pytest.mark.parametrize("away", [0.5, 0.7, 1.0, 2.0])
def test_there_are_no_sinks_from_half_a_voxel_on(steps, voxels, away, rng):
    h = 0.5 / voxels
    n, way = around_ball(steps, voxels), ways(rng)
    v, slope = sample(n, MIDDLE + way * (0.5 + (away + 0.01) * h), gradient=True)
    speed = np.sqrt((v**2).sum(axis=1).mean())
    assert np.abs(np.trace(slope, axis1=1, axis2=2)).max() * h < 2e-3 * speed


def test_the_stream_past_a_ball_is_the_analytic_one_down_to_its_surface(rng):
    """1.5 U at the equator; the region's sides squeeze it by 4 %, which a voxel away is all of the error."""
    n, way = around_ball(STEPS["potential flow"], 10), ways(rng)
    for away, most in ((0.0, 0.03), (0.25, 0.03), (0.5, 0.04), (1.0, 0.045)):
        r = 0.5 + away * 0.05
        v = sample(n, MIDDLE + way * r)[0]
        s = 0.5**3 / 2 / r**3
        exact = np.array([1, 0, 0]) * (1 + s) - 3 * s * way[:, :1] * way
        assert np.sqrt(((v - exact) ** 2).sum(axis=1).mean()) < most, away


def test_a_moving_ball_carries_along_what_touches_it(rng):
    ends = [(MIDDLE + np.array([x, 0, 0])).tolist() for x in (-0.5, 0.5)]
    path = {"keys": [[0, ends[0]], [1, ends[1]]], "between": "linear"}
    moving = [{"id": "ball", "kind": "sphere", "params": {"radius": 0.5, "move": path}}]
    steps = [("potential_flow", {"region": "room", "obstacles": ["ball"], "stream": [0, 0, 0]})]
    n, way = around_ball(steps, 10, time=0.5, shapes=moving), ways(rng)
    v = sample(n, MIDDLE + 0.5 * way)[0]
    assert (v * way).sum(axis=1) == pytest.approx(way[:, 0], abs=0.01)
    beside = sample(n, MIDDLE + 0.5 * np.array([[0, 1, 0], [0, 0, 1]]))[0]
    assert beside[:, 0] == pytest.approx(-0.5, abs=0.06), "what it pushes away flows back past its sides"
    _, slope = sample(n, MIDDLE + 0.53 * way, gradient=True)
    assert np.abs(np.trace(slope, axis1=1, axis2=2)).max() * 0.05 < 0.02


def test_the_exact_gradient_beside_a_wall_is_that_of_the_values(rng):
    n = around_ball(STEPS["potential flow"], 10)
    points = (MIDDLE + ways(rng, 800) * rng.uniform(0.505, 0.6, (800, 1))).astype(np.float32)
    _, slope = sample(n, points, gradient=True)
    for axis in range(3):
        step = np.zeros(3, np.float32)
        step[axis] = 2e-4
        change = (sample(n, points + step)[0] - sample(n, points - step)[0]).astype(float) / 4e-4
        assert np.quantile(np.abs(change - slope[:, :, axis]), 0.97) < 0.08
