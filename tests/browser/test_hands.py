"""What the hand meets: keys of vectors, answers kept, regions that stay, readings that wait, reasons beside lanes."""

import json
import re

import pytest
from playwright.sync_api import expect

from tests.browser.tools import document
from tests.studies import data, lane

PATH = {"keys": [[0, [0, 0, 0]], [1, [2, 0, 0]]], "between": "linear"}
BALL = {"id": "ball", "name": "Ball", "kind": "sphere", "params": {"radius": 0.3}}
SOURCE = {"id": "source", "name": "Source", "kind": "sphere", "params": {"radius": 0.2, "move": [0, 0.5, 0]}}
ROOM = {"id": "room", "name": "Room", "bounds": {"fit": ["ball"], "padding": 0.5}, "voxel_size": 0.1}


def flow(*steps):
    return {**lane("spray", *(steps or (("emit", {"shape": "ball", "rate": 500}), ("carry", {"field": "v"})))),
            "name": "Spray", "kind": "particles"}  # fmt: skip


def opened(page, address, *fields, **more):
    """A study of our own on the Desk."""
    more = {"shapes": [BALL, SOURCE], "regions": [ROOM], "clock": {"fps": 24, "start": 1, "end": 25}, **more}
    made = page.request.post(
        f"{address}/api/studies", headers={"X-Errant-Gust": "1"}, data={"document": data(*fields, **more)}
    )
    key = made.json()["key"]
    page.goto(f"{address}/desk/{key}")
    expect(page.get_by_test_id("score")).to_be_visible()
    return key


WIND = lane("v", ("wind", {"speed": 1}))


def test_a_region_stays_where_it_is_when_its_shape_goes(page, address):
    key = opened(page, address, WIND, regions=[{**ROOM, "turn": [0, 0, 30]}])
    look = {"study": key, "document": document(page, address, key)}
    asked = {"headers": {"X-Errant-Gust": "1", "Content-Type": "application/json"}}

    def corners(body):
        made = page.request.post(f"{address}/api/look/shapes", data=json.dumps(body), **asked).body()
        head = int.from_bytes(made[:4], "little")
        return json.loads(made[4 : 4 + head])["regions"][0]["corners"]

    before = corners(look)
    page.get_by_test_id("region-room").click()
    expect(page.get_by_test_id("region-cost")).to_be_visible()
    page.once("dialog", lambda dialog: dialog.accept())
    page.get_by_test_id("shape-ball").hover()
    page.get_by_test_id("shape-ball").get_by_label("Remove").click()
    expect(page.get_by_test_id("shape-ball")).to_have_count(0)
    after = document(page, address, key)
    assert after["regions"][0]["bounds"]["fit"] == []
    for a, b in zip(before, corners({**look, "document": after}), strict=True):
        assert a == pytest.approx(b, abs=0.11), "within a voxel of where it was"


def test_readings_say_that_they_are_measured_and_never_not_a_number(page, address):
    opened(page, address, lane("v", ("wind", {"speed": 1}), ("curl", {})))
    expect(page.get_by_test_id("readings")).to_be_visible()
    expect(page.get_by_test_id("measuring")).to_have_count(0)
    page.route("**/api/look/reading", lambda route: (page.wait_for_timeout(1500), route.continue_()))
    page.get_by_test_id("step-v-s0").click()
    expect(page.get_by_test_id("measuring")).to_have_text("measuring …")
    expect(page.get_by_test_id("readings")).to_have_count(0)
    expect(page.get_by_test_id("inspector")).not_to_contain_text("NaN")
    expect(page.get_by_test_id("reading-range")).to_contain_text("m/s")
    expect(page.get_by_test_id("measuring")).to_have_count(0)


def test_a_lane_without_its_emitter_has_no_count_and_says_why(page, address):
    opened(page, address, WIND, flows=[flow()])
    expect(page.get_by_test_id("run-state")).to_contain_text("25 frames ready", timeout=120_000)
    row = page.get_by_test_id("lane-spray")
    expect(row).to_contain_text("particles · ")
    page.get_by_test_id("step-spray-s0").click()
    page.get_by_test_id("step-on").uncheck()
    expect(page.get_by_test_id("error-spray")).to_contain_text("nothing is emitted; add an Emit step")
    expect(row).not_to_contain_text("particles · ")


def number(page, id):
    return float(re.search(r"-?[\d.]+(e-?\d+)?", page.get_by_test_id(id).inner_text()).group())


def test_substeps_show_what_they_gain(page, address):
    swirl = lane("v", ("vortex", {"circulation": 6, "core": 0.3}))
    opened(page, address, swirl, flows=[flow()])
    page.get_by_test_id("step-spray-s1").click()
    expect(page.get_by_test_id("halves-1")).to_be_visible(timeout=40_000)
    one, two = number(page, "halves-1"), number(page, "halves-2")
    assert 3 < one / two < 5.5, "midpoint steps: a half step has a quarter of the error"


@pytest.mark.screen("Hand over")
def test_a_download_says_where_it_is(page, address):
    opened(page, address, WIND)
    with page.expect_download() as taken:
        page.get_by_text("Picture", exact=True).click()
    expect(page.get_by_test_id("taken")).to_contain_text(f"{taken.value.suggested_filename},")
    expect(page.get_by_test_id("taken")).to_contain_text("where your browser keeps downloads")
