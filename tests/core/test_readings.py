"""Numbers of a field over what is looked at, and what goes through walls."""

import numpy as np
import pytest

from errant_gust.core.fields.look import Window
from errant_gust.core.fields.readings import in_box, on_plane, on_shape, reading, through, through_walls
from errant_gust.core.fields.sampling import sample
from errant_gust.core.study.building import lane
from tests.studies import plan

LOW, HIGH = np.full(3, -2.0), np.full(3, 2.0)
BALL = {"id": "ball", "kind": "sphere", "params": {"radius": 0.8, "move": [0.1, 0.2, 0.3]}}
BIG = {"id": "big", "kind": "sphere", "params": {"radius": 1.7}}
WIND = ("wind", {"speed": 2.0, "toward": 0.0})


def scene(*steps, shapes=(BALL, BIG), more=()):
    return plan(lane("a", *steps), *more, shapes=list(shapes)).at(0.0)


def test_a_wind_goes_into_a_ball_with_its_whole_speed_where_it_is_met():
    s = scene(WIND)
    made = through(s.lane("a"), s.shape("ball"), "around")
    assert made.speed == pytest.approx(2.0, rel=2e-3)
    np.testing.assert_allclose(made.at, (0.1 - 0.8, 0.2, 0.3), atol=0.05)
    # cos < -1/20 on a share of (1 - 1/20) / 2 of a sphere
    assert made.share == pytest.approx(0.475, abs=0.01)
    assert through(s.lane("a"), s.shape("ball"), "inside").at[0] == pytest.approx(0.9, abs=0.05)


def test_a_ball_that_moves_with_the_wind_is_not_gone_into():
    way = {"keys": [[0, [0, 0, 0]], [1, [2, 0, 0]]], "between": "linear"}
    moving = {"id": "ball", "kind": "sphere", "params": {"radius": 0.5, "move": way}}
    s = plan(lane("a", WIND), shapes=[moving], clock={"fps": 24, "start": 1, "end": 25}).at(0.5)
    assert through(s.lane("a"), s.shape("ball"), "around").speed < 0.01


@pytest.mark.parametrize(
    ("step", "wall", "side"),
    [
        (("steer_around", {"shape": "ball"}), "ball", "around"),
        (("steer_around", {"shape": "ball", "method": "by sliding"}), "ball", "around"),
        (("keep_inside", {"shape": "big"}), "big", "inside"),
    ],
)
def test_obstacle_steps_let_nothing_through_and_say_so(step, wall, side):
    noise = ("curl_noise", {"feature_size": 1.0})
    s = scene(noise, step)
    (made,) = through_walls(s.lane("a"))
    assert (made.shape, made.side) == (wall, side)
    assert made.speed < 1e-3
    assert through(scene(noise).lane("a"), s.shape(wall), side).speed > 0.2  # there was something to be kept off


def test_a_later_step_that_brings_it_back_is_told():
    s = scene(WIND, ("steer_around", {"shape": "ball"}), ("add", {"field": "b"}), more=[lane("b", WIND)])
    (made,) = through_walls(s.lane("a"))
    assert made.speed == pytest.approx(2.0, rel=0.01)


def test_numbers_are_those_of_the_place_that_is_looked_at():
    # the distance to the big ball: 0 on it, -1.7 … at its middle; on the small one what geometry says
    s = scene(("distance", {"shape": "big"}))
    node = s.lane("a")
    assert reading(node, LOW, HIGH).over == "box"
    on = reading(node, LOW, HIGH, over=on_shape(s.shape("big")))
    assert on.over == "surface"
    assert abs(on.low) < 2e-3
    assert abs(on.high) < 2e-3
    small = reading(node, LOW, HIGH, over=on_shape(s.shape("ball")))
    far = np.sqrt(0.1**2 + 0.2**2 + 0.3**2)
    assert small.high == pytest.approx(far + 0.8 - 1.7, abs=0.01)
    assert small.low == pytest.approx(max(0.8 - far, 0) - 1.7, abs=0.01)
    plane = reading(node, LOW, HIGH, over=on_plane(Window((-2, -2, 1.0), (4, 0, 0), (0, 4, 0))))
    assert plane.low == pytest.approx(1.0 - 1.7, abs=0.01)
    assert plane.over == "plane"


def test_the_mean_of_a_box_does_not_depend_on_the_plane():
    s = scene(("curl_noise", {}))
    node = s.lane("a")
    plane = reading(node, LOW, HIGH, over=on_plane(Window((-2, -2, 0), (4, 0, 0), (0, 4, 0))), gathers=True)
    box = reading(node, LOW, HIGH, gathers=True)
    assert plane.mean != box.mean
    assert (plane.divergence, plane.bunching) == (box.divergence, box.bunching)
    assert len(in_box(LOW, HIGH, 5).points) == 125


def test_a_scalar_has_nothing_that_goes_through_walls():
    s = scene(("distance", {"shape": "big"}))
    made = reading(s.lane("a"), LOW, HIGH, over=on_shape(s.shape("ball")), gathers=True)
    assert made.through == ()
    assert made.divergence is None


@pytest.mark.parametrize("cells", ["nearest", "second nearest", "border"])
@pytest.mark.parametrize("steps", ["curl noise", "curl of noise"])
def test_what_is_curled_reads_as_free_of_divergence_though_cells_crease(cells, steps):
    made = {"basis": "cells", "cells": cells}
    lanes = {"curl noise": [("curl_noise", made)], "curl of noise": [("noise", {**made, "makes": "vector"}), ("curl",)]}
    found = reading(scene(*lanes[steps]).lane("a"), LOW, HIGH).divergence
    assert found is not None
    assert found < 1e-4


def test_a_slope_beside_a_crease_is_that_of_its_smooth_side(monkeypatch):
    """A curl of cells jumps at their borders: differences across one are a hundred times as steep as the field is."""
    one = {"basis": "cells", "makes": "vector", "cells": "nearest", "octaves": 1, "feature_size": 1.0}
    n = scene(("noise", one), ("curl",)).lane("a")
    points = in_box(LOW, HIGH).points

    def steep():
        value, slope = sample(n, points, gradient=True)
        return float((np.abs(slope).max(axis=(1, 2)) > 30 * np.linalg.norm(value, axis=1).mean()).mean())

    kept = steep()
    monkeypatch.setattr("errant_gust.core.fields.node.CREASE", np.inf)
    assert steep() > 0.1
    assert kept < 0.015
