"""The camera that goes through viewpoints: at each on its frame, still outside of them, without a jerk between."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from errant_gust.core.errors import GustError
from errant_gust.core.study.viewpoints import MOST, camera_path, is_viewpoint

KEYS = [
    {"frame": 40, "position": [4, 0, 2], "target": [0, 0, 1], "parallel": False},
    {"frame": 1, "position": [0, -6, 1], "target": [0, 0, 1], "parallel": True},
    {"frame": 11, "position": [3, -3, 1.5], "target": [0, 0.5, 1], "parallel": True},
    {"frame": None, "position": [99, 99, 99], "target": [0, 0, 0]},
]


def places(keys, first, last):
    return np.array([k["position"] for k in camera_path(keys, first, last)])


def test_it_is_at_every_viewpoint_on_its_frame_whatever_their_order_and_still_outside():
    path = {k["frame"]: k for k in camera_path(KEYS, -20, 400)}
    for key in KEYS[:3]:
        np.testing.assert_allclose(path[key["frame"]]["position"], key["position"], atol=1e-12)
        np.testing.assert_allclose(path[key["frame"]]["target"], key["target"], atol=1e-12)
    assert path[-20]["position"] == [0, -6, 1]
    assert path[400]["position"] == [4, 0, 2]
    assert [path[n]["parallel"] for n in (-3, 5, 39, 40)] == [True, True, True, False]
    assert camera_path([], 1, 5) == camera_path(KEYS, 5, 4) == []


def test_it_moves_without_a_jerk_and_sets_off_from_rest():
    slow = [{**k, "frame": k["frame"] * 10} for k in KEYS[:3]]
    steps = np.diff(places(slow, 10, 400), axis=0)
    fastest = np.linalg.norm(steps, axis=1).max()
    assert np.linalg.norm(np.diff(steps, axis=0), axis=1).max() < 0.1 * fastest
    assert np.linalg.norm(steps[[0, -1]], axis=1).max() < 0.05 * fastest


def test_between_two_it_goes_straight_and_is_half_way_at_half_time():
    two = [KEYS[1], {**KEYS[0], "frame": 21}]
    np.testing.assert_allclose(places(two, 11, 11)[0], [2, -3, 1.5], atol=1e-12)


@given(st.lists(st.tuples(st.integers(-50, 50), st.floats(-9, 9)), min_size=1, max_size=6))
def test_any_keys_make_a_path_of_numbers_through_the_last_of_each_frame(made):
    keys = [{"frame": f, "position": [x, 0, 0], "target": [0, 0, 0]} for f, x in made]
    found = places(keys, -60, 60)
    assert np.isfinite(found).all()
    for frame, x in dict(made).items():
        assert found[frame + 60][0] == pytest.approx(x, abs=1e-9)


def test_endless_paths_and_what_is_no_viewpoint_are_refused():
    with pytest.raises(GustError, match="frames"):
        camera_path(KEYS, 0, MOST)
    good = {"name": "Side", **KEYS[0]}
    assert is_viewpoint(good)
    for bad in ({"name": 3}, {"frame": 1.5}, {"frame": "x"}, {"frame": float("inf")}, {"position": [0, 0]},
                {"target": [0, 0, float("nan")]}):  # fmt: skip
        assert not is_viewpoint({**good, **bad})
