"""What somebody stumbled over once, as a user meets it: numbers of what is looked at, lanes as shapes, half steps."""

import re

import pytest
from playwright.sync_api import expect

from tests.browser.test_hands import BALL, ROOM, SOURCE, flow, opened
from tests.browser.tools import add_step, choose, chosen, document, offered, saved, settings
from tests.studies import lane

WIND = {**lane("v", ("wind", {"speed": 2, "toward": 0})), "name": "Breeze"}
ROUND = {**lane("d", ("distance", {"shape": "ball"})), "name": "Round"}


def number(page, id):
    return float(re.search(r"-?[\d.]+(e-?\d+)?", page.get_by_test_id(id).inner_text()).group())


def test_numbers_are_of_what_the_probe_covers_and_a_lane_stands_as_a_shape(page, address):
    key = opened(page, address, ROUND, WIND, shapes=[BALL, SOURCE], regions=[{**ROOM, "voxel_size": 0.05}])
    page.get_by_test_id("step-v-s0").click()
    expect(page.get_by_test_id("reading-over")).to_have_text(re.compile("on the probe's plane, z"))
    expect(page.get_by_test_id("reading-through-ball")).to_have_count(0)

    settings(page, "probe")
    assert "shape:lane:d" in offered(page, "place")
    settings(page, "probe")
    page.get_by_test_id("place").click()
    page.locator('.v-overlay--active [data-option="shape:lane:d"]').click()
    chosen(page, "place", "shape:surface_of_round")
    expect(page.get_by_test_id("reading-over")).to_have_text("on the surface of Surface of Round", timeout=20_000)
    assert number(page, "reading-through-surface_of_round") == pytest.approx(2.0, rel=0.02)
    expect(page.get_by_test_id("undo")).to_have_attribute("aria-label", re.compile("Add the surface of Round"))
    made = document(page, address, key)["shapes"][-1]
    assert (made["kind"], made["params"]) == ("field_surface", {"field": "d", "region": "room"})

    # steered around that shape, nothing goes into it any more
    add_step(page, "v", "steer_around")
    choose(page, "select-shape", "surface_of_round")
    expect(page.get_by_test_id("reading-through-surface_of_round")).to_have_text(
        re.compile("^(0|.*e-|0\\.00)"), timeout=20_000
    )
    assert "lane:d" not in offered(page, "select-shape"), "it is a shape already"
    settings(page, "probe")
    choose(page, "place", "box")
    expect(page.get_by_test_id("reading-over")).to_have_text("in the whole region", timeout=20_000)
    saved(page)


def test_substeps_show_what_they_gain(page, address):
    swirl = lane("v", ("vortex", {"circulation": 6, "core": 0.3}))
    opened(page, address, swirl, flows=[flow()])
    page.get_by_test_id("step-spray-s1").click()
    expect(page.get_by_test_id("halves-1")).to_be_visible(timeout=40_000)
    one, two = number(page, "halves-1"), number(page, "halves-2")
    assert 3 < one / two < 5.5, "midpoint steps: a half step has a quarter of the error"


def test_voxels_of_a_region_follow_another(page, address):
    fine = {**ROOM, "id": "fine", "name": "Fine", "voxel_size": 0.04}
    key = opened(page, address, WIND, regions=[ROOM, fine])
    page.get_by_test_id("region-room").click()
    page.get_by_test_id("more-voxel_size").click()
    page.get_by_text("Link to voxel size of Fine").click()
    saved(page)
    assert document(page, address, key)["regions"][0]["voxel_size"] == {"link": "regions.fine.voxel_size", "times": 1}
    expect(page.get_by_test_id("region-room")).to_contain_text("0.04 m", timeout=20_000)


def test_a_download_says_where_it_is_and_figures_stand_in_the_handbook(page, address):
    opened(page, address, WIND)
    with page.expect_download() as taken:
        page.get_by_text("Picture", exact=True).click()
    expect(page.get_by_test_id("taken")).to_contain_text(f"{taken.value.suggested_filename},")
    expect(page.get_by_test_id("taken")).to_contain_text("where your browser keeps downloads")

    page.goto(f"{address}/handbook#field-noise")
    figure = page.get_by_test_id("figure-noise-feature_size")
    expect(figure).to_be_visible(timeout=20_000)
    expect(figure).to_contain_text("0.33 m")
    sizes = figure.locator("img").evaluate_all("all => all.map((i) => [i.naturalWidth, i.clientWidth])")
    assert len(sizes) == 3
    assert {natural for natural, _ in sizes} == {64}
    assert len({shown for _, shown in sizes}) == 1, "words of two lines make no picture larger"
    assert len(set(figure.locator("img").evaluate_all("all => all.map((i) => i.src)"))) == 3
