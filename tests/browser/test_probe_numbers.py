"""Numbers of what the probe covers, and lanes that stand where shapes can."""

import re

import pytest
from playwright.sync_api import expect

from tests.browser.test_hands import BALL, ROOM, SOURCE, number, opened
from tests.browser.tools import add_step, choose, chosen, document, offered, saved, settings
from tests.studies import lane

WIND = {**lane("v", ("wind", {"speed": 2, "toward": 0})), "name": "Breeze"}
ROUND = {**lane("d", ("distance", {"shape": "ball"})), "name": "Round"}


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
    expect(page.get_by_test_id("reading-over")).to_have_text("on the surface of Surface of Round", timeout=90_000)
    assert number(page, "reading-through-surface_of_round") == pytest.approx(2.0, rel=0.02)
    expect(page.get_by_test_id("undo")).to_have_attribute("aria-label", re.compile("Add the surface of Round"))
    made = document(page, address, key)["shapes"][-1]
    assert (made["kind"], made["params"]) == ("field_surface", {"field": "d", "region": "room"})

    # steered around that shape, nothing goes into it any more
    add_step(page, "v", "steer_around")
    choose(page, "select-shape", "surface_of_round")
    expect(page.get_by_test_id("reading-through-surface_of_round")).to_have_text(
        re.compile("^(0|.*e-|0\\.00)"), timeout=90_000
    )
    assert "lane:d" not in offered(page, "select-shape"), "it is a shape already"
    settings(page, "probe")
    choose(page, "place", "box")
    expect(page.get_by_test_id("reading-over")).to_have_text("in the whole region", timeout=90_000)
    saved(page)
