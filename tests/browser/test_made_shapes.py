"""Shapes that lanes make, on the Desk: from a blank study to particles that leave one and go round it."""

from pathlib import Path

import numpy as np
from playwright.sync_api import expect

from tests.browser.tools import add_field, add_step, choose, document, new_study, pixels, put, redrawn, saved


def test_a_roughened_distance_becomes_a_shape_that_emits_and_is_steered_around(page, address):
    key = new_study(page, address)
    page.get_by_test_id("clock-end").fill("24")
    page.get_by_test_id("clock-end").press("Enter")
    page.get_by_test_id("add-shape").click()
    expect(page.get_by_test_id("new-shape-field_surface")).to_contain_text("there is no scalar lane yet")
    page.get_by_test_id("new-shape-sphere").click()
    page.get_by_test_id("add-region").click()
    put(page, "voxel_size", "0.1")
    add_field(page)
    add_step(page, "field", "noise")
    put(page, "feature_size", "0.5")
    put(page, "strength", "0.4")
    add_field(page)
    add_step(page, "field_2", "distance")
    add_step(page, "field_2", "add")
    choose(page, "select-field", "field")
    add_step(page, "field_2", "smooth")
    saved(page)

    # the shape takes the newest scalar lane and the region, and is there at once
    page.get_by_test_id("shape-sphere").click()
    page.get_by_test_id("shape-shown").uncheck()  # the sphere itself is not shown
    page.get_by_test_id("region-region").click()
    before = pixels(page)
    page.get_by_test_id("add-shape").click()
    page.get_by_test_id("new-shape-field_surface").click()
    expect(page.get_by_test_id("shape-about")).to_contain_text("triangles; the lane goes from")
    redrawn(page, before, 0.002)
    made = document(page, address, key)["shapes"][-1]
    assert made["params"] == {"field": "field_2", "region": "region"}

    # a level that the lane does not have is said with its range; undo brings it back
    put(page, "level", "50")
    expect(page.get_by_test_id("shape-fault")).to_contain_text("nowhere in the region: from")
    page.keyboard.press("Escape")
    put(page, "level", "0")
    expect(page.get_by_test_id("shape-about")).to_be_visible()

    # it is taken away as a file
    page.get_by_test_id("export").locator("summary").click()
    choose(page, "shape-format", "ply")
    with page.expect_download() as taken:
        page.get_by_test_id("write-shape").click()
    assert Path(taken.value.path()).read_bytes().startswith(b"ply")
    assert taken.value.suggested_filename == f"{made['id']}.ply"

    # wind goes round it, particles leave it
    add_field(page)
    add_step(page, "field_3", "wind")
    add_step(page, "field_3", "steer_around")
    choose(page, "select-shape", made["id"])
    page.get_by_test_id("new-particles-lane").click()
    add_step(page, "particles", "emit")
    choose(page, "select-shape", made["id"])
    add_step(page, "particles", "carry")
    choose(page, "select-field", "field_3")
    saved(page)
    page.get_by_test_id("run").click()
    expect(page.get_by_test_id("run-state")).to_contain_text("24 frames ready", timeout=90_000)

    # the lane cannot go without the shape that it makes
    told = []
    page.on("dialog", lambda d: (told.append(d.message), d.accept()))
    page.get_by_test_id("region-region").hover()
    page.get_by_test_id("region-region").get_by_label("Remove").click()
    saved(page)
    left = document(page, address, key)
    assert "shape Surface of a field" in told[0]
    assert [s["kind"] for s in left["shapes"]] == ["sphere"]
    assert not np.any([s["params"].get("shape") == made["id"] for f in left["fields"] for s in f["steps"]])


def test_a_shape_is_deformed_by_a_lane_and_its_folds_are_told(page, address):
    key = new_study(page, address)
    page.get_by_test_id("add-shape").click()
    expect(page.get_by_test_id("new-shape-deformed")).to_contain_text("there is no shape yet")
    page.get_by_test_id("new-shape-box").click()
    add_field(page)
    add_step(page, "field", "curl_noise")
    put(page, "feature_size", "0.8")
    put(page, "strength", "0.5")
    saved(page)
    page.get_by_test_id("shape-box").click()
    page.get_by_test_id("shape-shown").uncheck()
    before = pixels(page)
    page.get_by_test_id("add-shape").click()
    page.get_by_test_id("new-shape-deformed").click()
    expect(page.get_by_test_id("shape-about")).to_contain_text("triangles, ")
    redrawn(page, before, 0.002)
    assert document(page, address, key)["shapes"][-1]["params"] == {"shape": "box", "field": "field"}
    choose(page, "select-how", "carried")
    put(page, "seconds", "0.6")
    expect(page.get_by_test_id("shape-about")).to_contain_text("m³")
    put(page, "amount", "9")
    page.get_by_test_id("checks").click()
    expect(
        page.get_by_test_id("finding-through_itself").or_(page.get_by_test_id("finding-folded")).first
    ).to_be_visible(timeout=90_000)
