"""Regions: more on each side, a floor, and what they were before there were either."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from errant_gust.core.errors import StudyError
from errant_gust.core.study.document import Bounds, parse
from tests.studies import data, plan

BALL = {"id": "ball", "kind": "sphere", "params": {"radius": 0.5, "move": [1, 2, 3]}}
FLOOR = {"id": "floor", "kind": "plane", "params": {"move": [0, 0, 0.25]}}
SLAB = {"id": "slab", "kind": "box", "params": {"size": [4, 4, 0.5], "move": [0, 0, 2]}}
sides = st.tuples(*[st.floats(0, 3).map(lambda v: round(v, 3))] * 3)


def bounds_of(turn=(0, 0, 0), **bounds):
    region = {"id": "room", "bounds": {"fit": ["ball"], **bounds}, "voxel_size": 0.1, "turn": list(turn)}
    lower, upper, _ = plan(shapes=[BALL, FLOOR, SLAB], regions=[region]).at(0.0).bounds("room")
    return lower, upper


@given(st.floats(0, 2), sides, sides)
def test_each_side_gets_its_own_more_besides_the_padding(padding, below, above):
    lower, upper = bounds_of(padding=padding, more_below=list(below), more_above=list(above))
    assert lower == pytest.approx(np.array([0.5, 1.5, 2.5]) - padding - below, abs=1e-6)
    assert upper == pytest.approx(np.array([1.5, 2.5, 3.5]) + padding + above, abs=1e-6)


def test_the_floor_is_a_plane_or_the_lowest_point_of_a_shape():
    assert bounds_of(padding=0.3, floor="floor")[0][2] == pytest.approx(0.25)
    assert bounds_of(padding=0.3, floor="slab", more_below=[0, 0, 5])[0][2] == pytest.approx(1.75)
    assert bounds_of(turn=(0, 0, 30), floor="floor")[0][2] == pytest.approx(0.25), "it may be turned about z"


def test_what_cannot_be_is_said():
    with pytest.raises(StudyError, match="tilted has no floor"):
        bounds_of(turn=(10, 0, 0), floor="floor")
    with pytest.raises(StudyError, match="leaves nothing"):
        bounds_of(more_below=[-2, 0, 0])
    below = {"lower": [0, 0, -3], "upper": [1, 1, -1], "fit": []}
    with pytest.raises(StudyError, match="the floor leave nothing"):
        bounds_of(**below, floor="floor")
    with pytest.raises(StudyError, match="no_such"):
        bounds_of(floor="no_such")


def test_a_region_without_either_is_what_it_was_for_runs():
    """Frames of earlier versions are found again: unused parts are no part of what a run is of."""
    plain = Bounds(fit=["ball"], padding=0.2)
    assert plain.content() == {"fit": ["ball"], "lower": None, "upper": None, "padding": 0.2}
    assert Bounds(fit=["ball"], floor="slab").content()["floor"] == "slab"


def test_names_of_mask_shapes_are_upgraded_with_their_links():
    mask = {"id": "m", "op": "mask_shape", "params": {"shapes": ["ball"], "magnitude": 0.5, "attenuation": 0.7}}
    linked = {"id": "w", "op": "wind", "params": {"speed": {"link": "fields.near.m.attenuation", "times": 2}}}
    document = data(shapes=[BALL])
    document["fields"] = [
        {"id": "near", "name": "Near", "steps": [mask]},
        {"id": "wind", "name": "Wind", "steps": [linked]},
    ]
    study = parse(document)
    assert study.fields[0].steps[0].params == {"shapes": ["ball"], "strength": 0.5, "fade_over": 0.7}
    assert study.fields[1].steps[0].params["speed"] == {"link": "fields.near.m.fade_over", "times": 2}
    assert document["fields"][0]["steps"][0]["params"]["attenuation"] == 0.7, "what was read is left as it was"
