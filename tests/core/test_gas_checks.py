"""Checks on gas flows name what is likely wrong, and where; a sound flow has none."""

import pytest

from errant_gust.core.checks import findings
from errant_gust.core.demos.beginnings import BEGINNINGS
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.study.building import lane
from errant_gust.core.study.document import parse
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
        ((("source", {"shape": "ball", "colour": [1, 0, 0]}), ("rise", {})), "colour_not_carried", ".colour"),
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


def smoke(**source):
    made = BEGINNINGS["smoke"]()
    made["fields"].append(lane("word", ("stencil", {"height": source.pop("height", 0.4), "centre": [0, 0, 1]})))
    for step in made["flows"][0]["steps"]:
        if step["op"] == "source":
            step["params"]["by"] = "word"
    return made


def codes(made):
    return {f.code: f for f in findings(plan_of(parse(made)))}


def test_letters_that_a_preview_blurs_are_told():
    said = codes(smoke())["blurred_outline"]
    assert said.where.endswith(".by")
    assert "1.0 voxels of a preview, 2.0 of a full run" in said.what
    assert "blurred_outline" not in codes(smoke(height=4.0))


def test_voxels_that_are_keyed_under_a_flow_are_told():
    made = BEGINNINGS["smoke"]()
    region = made["regions"][0]
    region["voxel_size"] = {"keys": [[0, 0.05], [1, 0.1]]}
    assert codes(made)["voxels_are_keyed"].where == f"regions.{region['id']}.voxel_size"
    region["voxel_size"] = 0.05
    made["regions"].append({**region, "id": "alike", "voxel_size": {"link": f"regions.{region['id']}.voxel_size"}})
    assert "voxels_are_keyed" not in codes(made)
    assert plan_of(parse(made)).at(0.0).region("alike").voxel_size == 0.05
