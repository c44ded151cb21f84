"""What the hand meets: keys of vectors, answers kept, regions that stay, readings that wait, reasons beside lanes."""

import json
import re

import pytest
from playwright.sync_api import expect

from tests.browser.tools import choose, document, put, saved
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


def test_keys_of_a_vector_are_each_their_own(page, address):
    key = opened(page, address, WIND, flows=[flow()])
    page.get_by_test_id("shape-ball").click()
    page.get_by_test_id("more-move").click()
    page.get_by_text("Key over time").click()
    page.get_by_role("slider", name="Frame", exact=True).press("Home")
    for _ in range(12):
        page.get_by_role("slider", name="Frame", exact=True).press("ArrowRight")
    page.get_by_text("+ key at").click()
    second = page.get_by_label("Move x, key 2")
    second.fill("1.5")
    second.press("Enter")
    first = page.get_by_label("Move y, key 1")
    first.fill("-0.25")
    first.press("Enter")
    expect(page.get_by_label("Move x, key 1")).to_have_value("0")
    expect(second).to_have_value("1.5")
    expect(page.get_by_label("Move y, key 2")).to_have_value("0")
    keys = document(page, address, key)["shapes"][0]["params"]["move"]["keys"]
    assert keys[0] == [0, [0, -0.25, 0]]
    assert keys[1][1] == [1.5, 0, 0]
    assert keys[1][0] == pytest.approx(0.5)


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


def test_an_intended_finding_is_answered_once_and_for_all(page, address):
    pull = lane("v", ("radial", {"strength": -1}))
    key = opened(page, address, pull, flows=[flow()])
    checks = page.get_by_test_id("checks")
    expect(checks).to_contain_text("check")
    checks.click()
    found = page.get_by_test_id("finding-bunching")
    expect(found).to_contain_text("gather")
    expect(found).to_contain_text("-fold after")
    page.get_by_test_id("meant-bunching").click()
    expect(found).to_have_count(0)
    page.keyboard.press("Escape")
    assert [m.split()[0] for m in document(page, address, key)["intended"]] == ["bunching"]
    page.get_by_test_id("undo").click()
    expect(page.get_by_test_id("redo")).to_be_enabled()
    assert document(page, address, key)["intended"] == []


def test_a_lane_without_its_emitter_has_no_count_and_says_why(page, address):
    opened(page, address, WIND, flows=[flow()])
    expect(page.get_by_test_id("run-state")).to_contain_text("25 frames ready", timeout=120_000)
    row = page.get_by_test_id("lane-spray")
    expect(row).to_contain_text("particles · ")
    page.get_by_test_id("step-spray-s0").click()
    page.get_by_test_id("step-on").uncheck()
    expect(page.get_by_test_id("error-spray")).to_contain_text("nothing is emitted; add an Emit step")
    expect(row).not_to_contain_text("particles · ")


def test_undo_in_one_window_does_not_take_back_what_another_saved(page, address, browser):
    key = opened(page, address, WIND)
    page.get_by_test_id("step-v-s0").click()
    put(page, "speed", "2")
    saved(page)
    head = json.loads(page.request.get(f"{address}/api/studies/{key}").text())
    theirs = {**head["document"], "name": "Theirs"}
    made = page.request.put(
        f"{address}/api/studies/{key}", headers={"X-Errant-Gust": "1"},
        data={"document": theirs, "base": head["revision"], "label": "elsewhere"},
    )  # fmt: skip
    assert made.ok
    page.get_by_test_id("undo").click()
    expect(page.get_by_test_id("conflict")).to_be_visible()
    assert json.loads(page.request.get(f"{address}/api/studies/{key}").text())["document"]["name"] == "Theirs"
    page.get_by_test_id("take-theirs").click()
    expect(page.get_by_label("Name of the study")).to_have_value("Theirs")


def test_units_are_told_in_lane_and_reading_and_mended_from_the_check(page, address):
    key = opened(page, address, lane("v", ("distance", {"shape": "ball"}), ("gradient", {})), flows=[flow()])
    expect(page.get_by_test_id("lane-v")).to_contain_text("vector")
    expect(page.get_by_test_id("lane-v")).not_to_contain_text("· m")
    expect(page.get_by_test_id("checks")).to_contain_text("check")
    page.get_by_test_id("checks").click()
    page.get_by_test_id("fix-no_speed").click()
    expect(page.get_by_test_id("finding-no_speed")).to_have_count(0)
    page.keyboard.press("Escape")
    expect(page.get_by_test_id("lane-v")).to_contain_text("vector · m/s")
    expect(page.get_by_test_id("reading-range")).to_contain_text("m/s")
    steps = next(f for f in document(page, address, key)["fields"] if f["id"] == "v")["steps"]
    assert steps[-1]["params"] == {"factor": 1.0, "in_unit": "m/s"}


def test_a_region_is_fitted_to_all_frames_of_a_moving_shape(page, address):
    moving = {**BALL, "params": {"radius": 0.3, "move": PATH}}
    key = opened(page, address, WIND, shapes=[moving, SOURCE])
    page.get_by_test_id("region-room").click()
    cost = page.get_by_test_id("region-cost")
    expect(cost).to_contain_text("16 × 16 × 16")
    choose(page, "fitted-when", "all")
    expect(cost).to_contain_text("36 × 16 × 16")
    assert document(page, address, key)["regions"][0]["over"] == "all frames"


def number(page, id):
    return float(re.search(r"-?[\d.]+(e-?\d+)?", page.get_by_test_id(id).inner_text()).group())


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
    expect(page.get_by_test_id("region-room")).to_contain_text("0.04 m", timeout=90_000)


@pytest.mark.screen("Hand over")
def test_a_download_says_where_it_is(page, address):
    opened(page, address, WIND)
    with page.expect_download() as taken:
        page.get_by_text("Picture", exact=True).click()
    expect(page.get_by_test_id("taken")).to_contain_text(f"{taken.value.suggested_filename},")
    expect(page.get_by_test_id("taken")).to_contain_text("where your browser keeps downloads")
