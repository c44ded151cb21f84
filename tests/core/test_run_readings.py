"""Readings of runs against known answers: bunching, leaks, means of lanes; pictures from other sides."""

import numpy as np
import pytest

from errant_gust.core.flows.kind import kind_of
from errant_gust.core.pictures.camera import FRONT, Camera, View
from errant_gust.core.pictures.stage import Stage
from errant_gust.core.pictures.taking import picture as taken
from errant_gust.core.runs.compute import compute
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
    light = picture.astype(float).max(axis=2)
    rows, columns = np.nonzero(light - np.median(light, axis=1, keepdims=True) > 60)
    return (columns.min() + columns.max()) / 2, (rows.min() + rows.max()) / 2


@pytest.mark.parametrize(
    ("view", "right", "up"),
    [
        (FRONT, (1, 0, 0), (0, 0, 1)),
        (View(0, 0), (0, 1, 0), (0, 0, 1)),  # from +x: y to the right
        (View(180, 0), (0, -1, 0), (0, 0, 1)),
        (View(90, 0), (-1, 0, 0), (0, 0, 1)),
        (View(-90, 90), (1, 0, 0), (0, 1, 0)),  # from above: y up
    ],
)
def test_a_picture_is_seen_from_the_side_that_is_asked_for(tmp_path, view, right, up):
    """A place stands on the picture where a pinhole throws it."""
    store = compute(dust(lane("wind", ("wind", {}))).study, "dust", tmp_path / "run", last=1)
    at = np.array([1.0, 0.5, 1.0])
    place = (at + np.random.default_rng(1).normal(0, 0.02, (3000, 3))).astype(np.float32)
    kept = {n: a[:3000] for n, a in store.read(1).items()}
    store.write(2, {**kept, "position": place, "velocity": np.zeros_like(place)}, {**store.facts(1), "count": 3000})
    box = np.full(3, -2.5), np.full(3, 2.5)
    camera = Camera.around(box, view, (160, 100))
    toward = np.cross(right, up)  # from what is seen to the eye
    off, scale = at - np.array(camera.eye), 80 / (18 / camera.lens)
    depth = -float(off @ toward)
    found = lit(taken(Stage(store), 2, (160, 100), view, box=box))
    assert found == pytest.approx((80 + scale * (off @ right) / depth, 50 - scale * (off @ up) / depth), abs=2.0)


def test_smoke_is_as_thick_from_each_side_and_stands_where_it_is(tmp_path):
    p = gas(PUFF, ("rise", {}), end=4)
    store = compute(p.study, "g", tmp_path / "run")
    sides = []
    for azimuth in (-90, 0, 45):  # about the ball that it comes from
        a = np.radians(azimuth)
        camera = Camera((6 * np.cos(a), 6 * np.sin(a), 0.4), (0, 0, 0.4), 60)
        sides.append(taken(Stage(store), 4, (120, 120), camera).astype(float))
        column, row = lit(sides[-1])
        assert column == pytest.approx(60, abs=5)
        assert row == pytest.approx(60, abs=14)
    front, right, across = sides
    assert np.abs(front - right).mean() < 2.0, "the key goes round with the eye, and so it looks the same"
    assert np.abs(front - across).mean() < 4.0
