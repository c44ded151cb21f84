"""Readings of runs against known answers: bunching, leaks, means of lanes; pictures from other sides."""

import numpy as np
import pytest

from errant_gust.core.flows.kind import kind_of
from errant_gust.core.looking.thumbnail import FRONT, SEA, View, thumbnail
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.run_readings import CELLS, bunching, readings_of, units_of, walls_of
from errant_gust.core.study.building import lane
from tests.core.test_gas import PUFF, gas
from tests.studies import plan

POINTS = kind_of("particles").result()
BALL = {"id": "ball", "kind": "sphere", "params": {"radius": 0.5}}
ROCK = {"id": "rock", "kind": "box", "params": {"size": [4, 4, 4], "move": [2, 0, 0]}}


def dust(*fields, carry="wind", shapes=(BALL, ROCK)):
    """4,000 points in a ball about the origin."""
    emit = ("emit", {"shape": "ball", "where": "volume", "timing": "all at once", "count": 4000, "life": 9})
    flow = {**lane("dust", emit, ("carry", {"field": carry})), "kind": "particles"}
    return plan(*fields, flows=[flow], shapes=list(shapes), clock={"fps": 24, "start": 1, "end": 3})


def test_even_points_are_bunched_once_and_points_in_an_eighth_of_the_box_eight_times(rng):
    even = rng.uniform(0, 1, (400_000, 3))
    weights = np.ones(len(even))
    assert bunching(even, weights) == pytest.approx(1 + CELLS**3 / len(even), rel=0.01)
    some = np.concatenate([0.5 * even, [[1.0, 1, 1]]])
    assert bunching(some, np.append(weights, 1e-9)) == pytest.approx(8, rel=0.02)
    assert bunching(even[:1], weights[:1]) == 1
    heavy = np.where((even < 0.5).all(axis=1), 8.0, 1.0)  # an eighth of the room that holds 8/15 of all
    assert bunching(even, heavy) == pytest.approx(8 * (8 / 15) ** 2 + (8 / 7) * (7 / 15) ** 2, rel=0.02)


def test_half_of_what_is_born_across_a_wall_leaks_and_the_mean_of_a_lane_is_told(tmp_path):
    wind = lane("wind", ("wind", {"speed": 0.25, "toward": 90}))
    led = lane("led", ("wind", {"speed": 0.25, "toward": 90}), ("steer_around", {"shape": "rock", "reach": 0.1}))
    distance = lane("where", ("distance", {"shape": "ball"}))
    free = dust(wind, distance)
    store = compute(free.study, "dust", tmp_path / "free")
    told = readings_of(store, 3, POINTS, free, "dust", ("wind", "where"))
    assert told["leaks"] == 0, "nothing stands in its way"
    assert told["mean wind"] == pytest.approx(0.25, rel=1e-4)
    assert told["mean where"] == pytest.approx(-0.5 / 4, rel=0.05), (
        "of a ball: a quarter of its radius from its surface"
    )
    assert units_of(POINTS, free, ("wind", "where"))["mean where"] == "m"
    assert readings_of(store, 3, POINTS, free, "dust", ("none",)).keys() == readings_of(store, 3, POINTS).keys()

    led_around = dust(wind, led, carry="led")
    assert walls_of(led_around.at(0.0), "dust") == {"rock": "around"}
    store = compute(led_around.study, "dust", tmp_path / "led")
    assert readings_of(store, 3, POINTS, led_around, "dust")["leaks"] == pytest.approx(50, abs=3)


def test_gas_leaks_nothing_around_what_it_collides_with(tmp_path):
    rock = {"id": "rock", "kind": "sphere", "params": {"radius": 0.3, "move": [0.1, 0, 0.9]}}
    ball = {"id": "ball", "kind": "sphere", "params": {"radius": 0.25, "move": [0, 0, 0.4]}}
    p = gas(PUFF, ("rise", {}), ("collide", {"shapes": ["rock"]}), shapes=(ball, rock), end=12)
    store = compute(p.study, "g", tmp_path / "run")
    told = readings_of(store, 12, kind_of("gas").result(), p, "g")
    assert walls_of(p.at(0.0), "g") == {"rock": "around"}
    assert told["leaks"] == 0
    assert told["bunching"] > 1
    kept = gas(PUFF, ("rise", {}), ("collide", {"shapes": ["ball"], "side": "inside"}), shapes=(ball, rock), end=6)
    store = compute(kept.study, "g", tmp_path / "kept")
    assert readings_of(store, 6, kind_of("gas").result(), kept, "g")["leaks"] < 1
    assert readings_of(store, 6, kind_of("gas").result(), p, "g")["leaks"] == 0


def lit(picture):
    rows, columns = np.nonzero(np.abs(picture.astype(float) - 255 * SEA).max(axis=2) > 20)
    return (columns.min() + columns.max()) / 2, (rows.min() + rows.max()) / 2


@pytest.mark.parametrize(
    ("view", "column", "row"),
    [
        (FRONT, 80 + 20, 50 - 20),  # x to the right, z up
        (View(0, 0), 80 + 10, 50 - 20),  # from +x: y to the right
        (View(180, 0), 80 - 10, 50 - 20),
        (View(90, 0), 80 - 20, 50 - 20),
        (View(-90, 90), 80 + 20, 50 - 10),  # from above: y up
    ],
)
def test_a_picture_is_seen_from_the_side_that_is_asked_for(tmp_path, view, column, row):
    store = RunStore(tmp_path / "run")
    store.create({"identity": "x"})
    place = np.float32([[1.0, 0.5, 1.0]]) + np.random.default_rng(1).normal(0, 0.05, (3000, 3)).astype(np.float32)
    arrays = {"position": place, "velocity": np.ones_like(place), "age": place[:, 0], "life": place[:, 0]}
    store.write(1, {**arrays, "id": np.arange(3000, dtype=np.uint32)}, {"count": 3000})
    half = 0.92 * 100 / 20 / 2  # so that a metre is 20 pixels
    box = np.full(3, -half), np.full(3, half)
    found = lit(thumbnail(store, 1, POINTS, (160, 100), box, view))
    assert found == pytest.approx((column, row), abs=3.5)


def test_smoke_is_as_thick_from_each_side_and_stands_where_it_is(tmp_path):
    p = gas(PUFF, ("rise", {}), end=4)
    store = compute(p.study, "g", tmp_path / "run")
    result = kind_of("gas").result()
    box = np.array([-1.0, -1, -0.6]), np.array([1.0, 1, 1.4])  # the ball that it comes from is in the middle
    sides = [thumbnail(store, 4, result, (120, 120), box, View(a, 0)).astype(float) for a in (-90, 0, 45)]
    for picture in sides:
        column, row = lit(picture)
        assert column == pytest.approx(60, abs=4)
        assert row == pytest.approx(60, abs=12)
    front, right, across = (np.abs(s - 255 * SEA).sum() for s in sides)
    assert front == pytest.approx(right, rel=0.02)
    assert 2 * across == pytest.approx(front, rel=0.05), "the box is wider by the root of two from there"
