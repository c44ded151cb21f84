"""Checks on gas flows name what is likely wrong, and where; a sound flow has none."""

import pytest

from errant_gust.core.checks import findings
from errant_gust.core.study.building import lane
from tests.core.test_gas import PUFF, gas


@pytest.mark.parametrize(
    ("steps", "code", "where"),
    [
        ((("source", {"shape": "ball", "where": "shell", "thickness": 0.05}), ("rise", {})), "thin_source", ".shape"),
        ((PUFF,), "hot_but_still", "flows.g"),
        ((PUFF, ("rise", {}), ("burn", {})), "no_fuel", "flows.g"),
        ((PUFF, ("rise", {}), ("channel", {})), "empty_channel", ".name"),
        ((("source", {"shape": "ball", "temperature": -400}), ("rise", {})), "below_absolute_zero", ".temperature"),
        ((("rise", {}),), "cannot_be_built", "flows.g"),
    ],
)
def test_what_is_likely_wrong_is_found_in_its_place(steps, code, where):
    found = {f.code: f for f in findings(gas(*steps))}
    assert code in found
    assert where in found[code].where


def test_a_sound_flow_has_no_findings():
    source = ("source", {**PUFF[1], "fuel": 1, "channel": "glow"})
    found = findings(gas(source, ("rise", {}), ("burn", {}), ("channel", {})))
    assert not [f for f in found if f.where.startswith("flows.")]


def test_amounts_by_fields_copies_and_sources_without_a_shape_are_no_trouble():
    ramp = lane("ramp", ("ramp", {"start": [0, 0, 0], "end": [0, 0, 2]}))
    source = ("source", {
        "where": "everywhere", "by": "ramp", "temperature": {"field": "ramp"}, "fuel": {"field": "ramp"}})  # fmt: skip
    copy = ("channel", {"name": "glow", "copies": "temperature"})
    found = findings(gas(source, ("rise", {}), ("burn", {}), copy, fields=(ramp,)))
    assert not [f for f in found if f.where.startswith("flows.")]
