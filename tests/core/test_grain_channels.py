"""What grains carry besides, and sand that a field holds still."""

import numpy as np
import pytest

from errant_gust.core.errors import GustError
from errant_gust.core.study.building import lane
from tests.grainy import G, grains, run
from tests.liquids import ball

ROOM = ((-1, -1, 0), (1, 1, 1))
BLOB, OTHER = ball("blob", 0.2, (0, 0, 0.5)), ball("other", 0.15, (0.5, 0, 0.5))
FALLS = ("gravity", {})
HALVES = lane("halves", ("ramp", {"start": [0, 0, 0], "end": [1e-5, 0, 0]}))
"""1 where x is above zero, 0 below."""


def made(*steps, frames=6, **more):
    return run(grains(*steps, **{"spacing": 0.04, "room": ROOM, "shapes": [BLOB, OTHER], "fields": [HALVES], **more}),
               frames)[1]  # fmt: skip


def test_a_channel_of_its_source_a_field_at_birth_and_a_formula():
    s = made(
        ("source", {"shape": "blob", "channel": "heat", "amount": 2}), ("source", {"shape": "other"}), FALLS,
        ("channel", {"name": "heat"}), ("channel", {"name": "side", "what": "field at birth", "field": "halves"}),
        ("channel", {"name": "fall", "what": "formula", "expression": "heat * speed + f + t", "field": "halves"}),
    )  # fmt: skip
    near = s.position[0] < 0.25
    assert (s.more["heat"][near] == 2).all()
    assert (s.more["heat"][~near] == 0).all()
    assert np.array_equal(s.more["side"] > 0.5, s.position[0] > 0)
    speed = np.linalg.norm(s.velocity, axis=0)
    right = s.more["heat"] * speed + (s.position[0] > 0) + 0.1
    assert s.more["fall"] == pytest.approx(right, abs=2e-3)
    assert set(s.channels()) >= {"heat", "side", "fall"}


def test_a_channel_fades_with_time_at_any_frame_rate():
    found = []
    for fps in (24, 60):
        s = made(
            ("source", {"shape": "blob", "channel": "heat", "amount": 2}), ("channel", {"name": "heat", "fades": 3}),
            fps=fps, frames=fps // 2,
        )  # fmt: skip
        found.append(s.more["heat"])
        assert s.more["heat"] == pytest.approx(2 * np.exp(-1.5), rel=1e-3)
    assert found[0].size == found[1].size


def test_a_formula_knows_what_weighs_on_a_grain_and_its_age():
    s = made(
        ("source", {"shape": "blob"}), FALLS,
        ("channel", {"name": "tight", "what": "formula", "expression": "packing + age"}),
        ("channel", {"name": "deep", "what": "formula", "expression": "pressure"}), frames=30,
    )  # fmt: skip
    assert np.allclose(s.more["tight"], s.packing + s.age, atol=1e-5)
    assert np.array_equal(s.more["deep"], s.pressure)
    assert s.pressure.max() > 100


def test_hold_keeps_sand_where_a_field_says_and_lets_it_go_when_the_field_does():
    both = ("source", {"shape": "blob"}), ("source", {"shape": "other"})
    right = lane("right", ("ramp", {"start": [0.27, 0, 0], "end": [0.28, 0, 0]}))  # between the two
    holds = ("hold", {"by": "right", "moves": "above"})
    first, s = made(*both, frames=0), made(*both, FALLS, holds, fields=[right])
    before, after = (x.position[:, np.argsort(x.id)] for x in (first, s))
    held = before[0] < 0.25
    assert np.abs(after - before)[:, held].max() < 3e-3  # a node of the last ones is beyond the border
    assert np.median(np.abs(after - before)[:, held]) < 1e-6
    assert (before - after)[2, ~held].mean() == pytest.approx(G * 0.1**2 / 2, rel=0.01)
    half = made(("source", {"shape": "blob"}), ("push", {"field": "up", "how": "force"}),
                ("hold", {"by": "even", "level": 0, "soft": 4}), frames=1,
                fields=[lane("up", ("constant", {"vector": [0, 0, 1]})),
                        lane("even", ("constant", {"makes": "scalar", "value": 1}))])  # fmt: skip
    assert 0 < half.velocity[2].max() < 0.75 / 60 + 1e-4, "a soft edge leaves three quarters of a push"


@pytest.mark.parametrize(
    ("step", "words", "where"),
    [
        ({"name": "position"}, "cannot be the name", "name"),
        ({"name": "Heat"}, "cannot be the name", "name"),
        ({"name": "speed"}, "cannot be the name", "name"),
        ({"what": "field at birth"}, "no field is chosen", "field"),
        ({"what": "formula", "expression": "f + 1"}, "none is chosen", "field"),
        ({"what": "formula", "expression": "sped"}, "sped", "expression"),
        ({"what": "formula", "expression": "[1, 2"}, "", "expression"),
    ],
)
def test_a_channel_that_cannot_be_is_said_with_its_place(step, words, where):
    with pytest.raises(GustError) as error:
        made(("source", {"shape": "blob"}), ("channel", step))
    assert words in str(error.value)
    assert str(error.value.where).endswith(where)


def test_a_source_names_only_channels_that_can_be():
    with pytest.raises(GustError, match="cannot be the name"):
        made(("source", {"shape": "blob", "channel": "packing"}))
