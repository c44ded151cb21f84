"""Units: derivatives divide by metres, products multiply, sums want the same; checks name the step and the factor."""

import subprocess

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from errant_gust.core.checks import findings
from errant_gust.core.fields.extent import domain
from errant_gust.core.fields.look import unit_of
from errant_gust.core.fields.readings import reading
from errant_gust.core.fields.sampling import sample
from errant_gust.core.fields.units import SPEED, over, parse_unit, times, unit_text
from errant_gust.core.files.vdb import write_vdb
from errant_gust.core.files.volume_files import write_npz, write_vti
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion
from tests.core.test_particles import flow
from tests.studies import lane, node, plan

exponents = st.tuples(*[st.integers(-4, 4)] * 4)


@given(exponents)
def test_every_unit_is_read_as_it_is_written(unit):
    assert parse_unit(unit_text(unit)) == unit


@given(exponents, exponents)
def test_products_and_quotients_undo_each_other(a, b):
    assert over(times(a, b), b) == a
    assert times(a, None) is None


@pytest.mark.parametrize(
    ("steps", "unit"),
    [
        ([("distance", {"shape": "ball"})], "m"),
        ([("distance", {"shape": "ball"}), ("gradient", {})], ""),
        ([("distance", {"shape": "ball"}), ("gradient", {}), ("divergence", {})], "1/m"),
        ([("wind", {})], "m/s"),
        ([("curl_noise", {}), ("curl", {})], "1/s"),
        ([("curl_noise", {}), ("curl", {}), ("magnitude", {})], "1/s"),
        ([("wind", {}), ("divergence", {})], "1/s"),
        ([("wind", {}), ("unit_length", {})], ""),
        ([("wind", {}), ("multiply", {"field": "far"})], "m²/s"),
        ([("wind", {}), ("dot", {"field": "gusts"})], "m²/s²"),
        ([("wind", {}), ("gain", {"in_unit": "1/m"})], "1/s"),
        ([("distance", {"shape": "ball"}), ("gain", {"in_unit": "1/s"})], "m/s"),
        ([("distance", {"shape": "ball"}), ("remap", {})], ""),
        ([("noise", {}), ("add", {"field": "far"})], "m"),
        ([("use_field", {"field": "far"}), ("offset", {})], "m"),
        ([("mask_shape", {"shapes": ["ball"]})], ""),
    ],
)  # fmt: skip
def test_every_step_carries_its_unit_on(steps, unit):
    others = (lane("far", ("distance", {"shape": "ball"})), lane("gusts", ("curl_noise", {})))
    n = node(*steps, others=others)
    assert unit_of(n) == unit
    assert reading(n, *domain(n.scene), side=6).unit == unit


def of(found, code):
    return [f for f in found if f.code == code]


def test_metres_added_to_metres_a_second_are_told_with_the_factor_that_mends_it():
    far = lane("far", ("distance", {"shape": "ball"}), ("gradient", {}))
    p = plan(far, lane("w", ("wind", {}), ("add", {"field": "far"})))
    (found,) = of(findings(p), "units_differ")
    assert found.where == "fields.w.s1.field" or found.where.startswith("fields.w.")
    assert found.what == "'far' is a pure number, and what comes in is in m/s"
    assert "a factor in m/s" in found.why
    appended = found.fix["append"]
    assert (appended["lane"], appended["step"]["params"]) == ("far", {"factor": 1.0, "in_unit": "m/s"})
    data = p.study.model_dump(mode="json")
    next(f for f in data["fields"] if f["id"] == "far")["steps"].append(appended["step"])
    from errant_gust.core.runs.carried import plan_of
    from errant_gust.core.study.document import parse

    mended = plan_of(parse(data))
    assert not of(findings(mended), "units_differ")
    points = np.random.default_rng(1).uniform(-1, 1, (50, 3))
    before, after = (sample(q.at(0).lane("w"), points)[0] for q in (p, mended))
    assert np.array_equal(before, after), "units are told; no value depends on them"


def test_a_carry_by_what_is_no_speed_is_told_and_may_be_meant():
    inward = (lane("v", ("distance", {"shape": "ball"}), ("gradient", {}), ("flip", {})),)
    p = flow({}, ("carry", {"field": "v"}), fields=inward)
    (found,) = of(findings(p), "no_speed")
    assert found.what == "'v' is a pure number, which is no speed"
    assert found.fix["append"]["step"]["params"]["in_unit"] == "m/s"
    meant = flow({}, ("carry", {"field": "v"}), fields=inward, intended=[found.key])
    assert not of(findings(meant), "no_speed")


def test_gathering_is_told_by_how_far_particles_gather_not_by_divergence():
    """The curl of cells has edges, and an inward pull is wanted: the first is silent, the second may be meant."""
    cells = (lane("v", ("curl_noise", {"basis": "cells", "octaves": 1})),)
    assert not of(findings(flow({}, ("carry", {"field": "v"}), fields=cells)), "bunching")
    pull = (lane("v", ("radial", {"strength": -1})),)
    (found,) = of(findings(flow({}, ("carry", {"field": "v"}), fields=pull)), "bunching")
    assert "gather" in found.what
    assert "-fold after" in found.what
    meant = flow({}, ("carry", {"field": "v"}), fields=pull, intended=[found.key])
    assert not of(findings(meant), "bunching")


def test_files_say_the_unit(tmp_path):
    region = GridRegion((0, 0, 0), (4, 4, 4), 0.5)
    grids = {"v": Grid(region, np.ones((4, 4, 4, 3), np.float32), unit="m/s")}
    write_npz(tmp_path / "a.npz", grids)
    with np.load(tmp_path / "a.npz") as z:
        assert str(z["v.unit"]) == "m/s"
    write_vti(tmp_path / "a.vti", grids)
    assert b'Unit="m/s"' in (tmp_path / "a.vti").read_bytes()
    write_vdb(tmp_path / "a.vdb", grids)
    said = subprocess.run(
        ["vdb_print", "-m", str(tmp_path / "a.vdb")], capture_output=True, text=True, check=True
    ).stdout
    assert "unit: m/s" in said
    assert parse_unit("m/s") == SPEED


def test_a_unit_that_is_none_is_refused_in_words():
    with pytest.raises(Exception, match="'miles' is no unit; right would be"):
        node(("wind", {}), ("gain", {"in_unit": "miles"}))
