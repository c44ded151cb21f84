"""Whole tasks on the Desk: curves, keys, drawn paths, copied steps, search, history, archives, the five-minute wind."""

import io
import json
import re
import zipfile

import numpy as np
import pytest
import trimesh
from playwright.sync_api import expect

from tests.browser.tools import (
    add_field,
    add_step,
    at_rest,
    changed,
    choose,
    document,
    new_study,
    pixels,
    put,
    redrawn,
    saved,
    settings,
    slide,
)


def test_a_masked_evolving_wind_that_respects_an_obstacle_in_a_few_steps(page, address):
    """The five-minute task, from an empty study, with nothing but what the screen offers."""
    key = new_study(page, address)
    page.get_by_test_id("add-shape").click()
    page.get_by_test_id("new-shape-cylinder").click()
    put(page, "radius", "0.45")
    put(page, "height", "2")
    put(page, "move-2", "1")
    page.get_by_test_id("add-region").click()
    put(page, "padding", "1.9")
    add_field(page)
    page.get_by_label("Name of Field", exact=True).fill("Stream")
    page.get_by_label("Name of Field", exact=True).press("Enter")
    add_step(page, "field", "wind")
    add_step(page, "field", "steer_around")
    put(page, "reach", "0.7")
    page.get_by_test_id("add-shape").click()
    page.get_by_test_id("new-shape-sphere").click()
    put(page, "radius", "80 cm")
    add_field(page)
    add_step(page, "field_2", "mask_shape")
    page.get_by_test_id("param-shapes").get_by_text("Sphere").click()
    page.get_by_test_id("new-field-lane").click()
    add_step(page, "field_3", "curl_noise")
    put(page, "evolve", "0.4")
    add_step(page, "field_3", "mask")
    choose(page, "select-by", "field_2")
    expect(page.get_by_test_id("reading-divergence")).to_have_class("num good")
    page.get_by_test_id("step-field-steer_around").click()
    add_step(page, "field", "add")
    choose(page, "select-field", "field_3")
    expect(page.get_by_test_id("checks")).to_contain_text("check")
    page.get_by_test_id("checks").click()
    expect(page.get_by_test_id("finding-added_after_steering")).to_be_visible()
    page.keyboard.press("Escape")
    page.get_by_test_id("step-field-add").press("Alt+ArrowLeft")
    expect(page.get_by_test_id("checks")).to_have_text("no findings")
    page.get_by_test_id("step-field-steer_around").click()
    expect(page.get_by_test_id("reading-divergence")).to_have_class("num good")
    expect(page.get_by_test_id("reading-bunching")).to_have_class("num good")
    made = document(page, address, key)
    stream = next(f for f in made["fields"] if f["name"] == "Stream")
    assert [s["op"] for s in stream["steps"]] == ["wind", "add", "steer_around"]


def test_remap_over_the_histogram_of_what_comes_in(page, address):
    key = new_study(page, address)
    add_field(page)
    add_step(page, "field", "noise")
    add_step(page, "field", "remap")
    expect(page.locator("svg.curve .bar").first).to_be_visible()
    assert page.locator("svg.curve .bar").count() > 20
    before = pixels(page)
    curve = page.locator("svg.curve").bounding_box()
    page.mouse.dblclick(curve["x"] + 0.35 * curve["width"], curve["y"] + 0.9 * curve["height"])
    page.get_by_test_id("curve-point-1").press("ArrowDown")
    redrawn(page, before, 0.01)
    made = document(page, address, key)
    points = made["fields"][0]["steps"][1]["params"]["curve"]
    assert len(points) == 3
    assert points[1][1] < 0.2


def test_a_path_is_drawn_in_the_view_and_its_points_are_dragged(page, address):
    key = new_study(page, address)
    page.get_by_test_id("add-region").click()
    page.get_by_test_id("add-shape").click()
    page.get_by_test_id("new-shape-curve").click()
    add_field(page)
    add_step(page, "field", "spline_flow")
    page.get_by_test_id("shape-curve").click()
    page.get_by_test_id("views").click()
    page.get_by_test_id("view-top").click()
    at_rest(page)
    page.get_by_test_id("draw-path").click()
    expect(page.get_by_test_id("drawing")).to_be_visible()
    box = page.get_by_test_id("view").bounding_box()
    for x, y in ((0.55, 0.4), (0.62, 0.6)):
        page.mouse.click(box["x"] + x * box["width"], box["y"] + y * box["height"])
        at_rest(page)
    page.keyboard.press("Escape")
    expect(page.get_by_test_id("drawing")).to_have_count(0)
    saved(page)
    points = document(page, address, key)["shapes"][0]["params"]["points"]
    assert len(points) >= 4
    last = points[-1]
    at = (box["x"] + 0.62 * box["width"], box["y"] + 0.6 * box["height"])
    page.mouse.move(*at)
    page.mouse.down()
    page.mouse.move(at[0] + 60, at[1], steps=4)
    page.mouse.up()
    moved = document(page, address, key)["shapes"][0]["params"]["points"][-1]
    assert moved[0] > last[0] + 0.1
    assert moved[1] == pytest.approx(last[1], abs=0.05)
    page.get_by_test_id("undo").click()
    expect(page.get_by_test_id("redo")).to_be_enabled()
    assert document(page, address, key)["shapes"][0]["params"]["points"][-1] == last, "a drag is one edit"


def test_edits_a_reload_all_of_them_undone_and_one_brought_back(page, address):
    key = new_study(page, address)
    add_field(page)
    add_step(page, "field", "wind")
    for i in range(4):
        put(page, "speed", str(2 + i))
        saved(page)
    page.reload()
    for i in range(3, -1, -1):
        expect(page.get_by_test_id("undo")).to_have_attribute(
            "aria-label", f"Undo: Field ▸ Wind ▸ Speed {1.5 if i == 0 else 1 + i} m/s → {2 + i} m/s"
        )
        page.get_by_test_id("undo").click()
    expect(page.get_by_test_id("undo")).to_have_attribute("aria-label", "Undo: Add Wind")
    made = document(page, address, key)
    assert made["fields"][0]["steps"][0]["params"] in ({}, {"speed": 1.5})
    page.keyboard.press("h")
    expect(page.get_by_test_id("history")).to_contain_text("Speed 4 m/s → 5 m/s")
    page.get_by_test_id("history").get_by_text("Bring back").first.click()
    expect(page.get_by_test_id("undo")).to_have_attribute("aria-label", re.compile("Undo: Restore: .*Speed 4"))
    assert document(page, address, key)["fields"][0]["steps"][0]["params"]["speed"] == 5


@pytest.mark.screen("Desk")
def test_a_session_with_the_keyboard_alone(page, address):
    key = new_study(page, address)
    page.keyboard.press("/")
    expect(page.get_by_test_id("search-field")).to_be_focused()
    page.keyboard.press("Escape")
    expect(page.get_by_test_id("search-field")).to_have_count(0)
    page.get_by_test_id("new-field-lane").focus()
    page.keyboard.press("Enter")
    page.keyboard.press("/")
    expect(page.get_by_test_id("search-field")).to_be_focused()
    page.keyboard.type("wind")
    page.keyboard.press("Enter")
    expect(page.get_by_test_id("inspector-title")).to_have_text("Wind")
    page.get_by_test_id("number-speed").focus()
    page.keyboard.type("2 * 1.5")
    page.keyboard.press("Enter")
    page.keyboard.press("a")
    expect(page.get_by_test_id("find-step")).to_be_focused()
    page.keyboard.type("limit")
    page.keyboard.press("Enter")
    expect(page.get_by_test_id("inspector-title")).to_have_text("Limit")
    expect(page.get_by_test_id("find-step")).to_have_count(0)  # an open menu has the keyboard to itself
    expect(page.locator(".v-overlay--active")).to_have_count(0)
    page.keyboard.press("d")
    expect(page.get_by_test_id("undo")).to_have_attribute("aria-label", "Undo: Step on or off")
    page.keyboard.press("[")
    expect(page.get_by_test_id("inspector-title")).to_have_text("Wind")
    page.keyboard.press("Control+z")
    expect(page.get_by_test_id("redo")).to_have_attribute("aria-label", "Redo: Step on or off")
    page.keyboard.press("?")
    expect(page.get_by_test_id("keys")).to_contain_text("Wrap steps")
    page.keyboard.press("Escape")
    made = document(page, address, key)
    steps = made["fields"][0]["steps"]
    assert [s["op"] for s in steps] == ["wind", "limit"]
    assert steps[0]["params"]["speed"] == 3
    assert steps[1]["on"] is True, "switching it off was undone"


def test_before_and_after_side_by_side_and_the_probe_on_a_shape(page, address):
    page.goto(f"{address}/desk/harbour_gust")
    expect(page.get_by_test_id("reading-range")).to_be_visible()
    page.keyboard.press(",")  # the run that goes on is not followed
    for key in "34":
        page.keyboard.press(key)
    settings(page, "probe")
    choose(page, "glyph", "none")
    page.get_by_test_id("settings-probe").click()
    after = pixels(page)
    page.keyboard.press("Shift+B")
    both = pixels(page)
    half = after.shape[1] // 2
    left, right = (
        changed(after[120:400, :half], both[120:400, :half]),
        changed(after[120:400, half + 4 :], both[120:400, half + 4 :]),
    )
    assert right < 0.03
    assert left > right
    page.keyboard.press("Escape")
    settings(page, "probe")
    choose(page, "place", "shape:tower")
    redrawn(page, after, 0.02)


def test_a_study_leaves_and_comes_back_as_one_zip(page, address, tmp_path):
    trimesh.creation.icosphere(2, 0.5).export(tmp_path / "bulb.obj")
    key = new_study(page, address)
    page.get_by_test_id("mesh-file").set_input_files(tmp_path / "bulb.obj")
    expect(page.get_by_test_id("shape-bulb")).to_be_visible()
    saved(page)
    page.goto(address)
    with page.expect_download() as got:
        page.get_by_test_id(f"export-{key}").click()
    got.value.save_as(tmp_path / "a.zip")
    with zipfile.ZipFile(io.BytesIO((tmp_path / "a.zip").read_bytes())) as zipped:
        assert {"study.gust.json", "assets/bulb.obj"} <= set(zipped.namelist())
        assert json.loads(zipped.read("study.gust.json"))["shapes"][0]["id"] == "bulb"
    page.get_by_test_id("study-file").set_input_files(tmp_path / "a.zip")
    page.wait_for_url("**/desk/*")
    expect(page.get_by_test_id("shape-bulb")).to_contain_text("bulb.obj")
    expect(page.get_by_test_id("shape-bulb")).not_to_contain_text("needs attention")


def test_the_size_of_a_shape_and_the_reach_of_a_mask_are_dragged(page, address):
    key = new_study(page, address)
    page.get_by_test_id("add-region").click()
    page.get_by_test_id("add-shape").click()
    page.get_by_test_id("new-shape-sphere").click()
    put(page, "move-2", "0.8")
    page.get_by_test_id("views").click()
    page.get_by_test_id("view-front").click()
    at_rest(page)
    view = page.get_by_test_id("view").bounding_box()

    def drag_named(name, right):
        """Find a handle by hovering along the row of the sphere's middle, then drag it to the right."""
        for step in range(6, 70):
            for row in (0.5, 0.52, 0.54, 0.56, 0.58, 0.6):
                at = (view["x"] + view["width"] * (0.5 + step * 0.005), view["y"] + view["height"] * row)
                page.mouse.move(*at)
                shown = page.locator(".handle")
                if shown.count() and shown.inner_text() == name:
                    page.mouse.down()
                    page.mouse.move(at[0] + right, at[1], steps=4)
                    page.mouse.up()
                    return
        raise AssertionError(f"no handle for {name}")

    drag_named("Radius", 60)
    radius = document(page, address, key)["shapes"][0]["params"]["radius"]
    assert radius > 0.6
    add_field(page)
    add_step(page, "field", "mask_shape")
    expect(page.get_by_test_id("reading-range")).to_be_visible()
    drag_named("Fade over", 50)
    made = document(page, address, key)
    assert made["fields"][0]["steps"][0]["params"]["fade_over"] > 0.6


def kept_view(page, address, key):
    """Where the camera is, as kept in the study."""
    page.get_by_test_id("views").click()
    page.get_by_test_id("keep-view").click()
    return document(page, address, key)["looks"]["views"][-1]


def test_a_parallel_view_shows_equal_spheres_equally_wide_wherever_they_are(page, address):
    key = new_study(page, address)
    for side, deep in (("-1.2", "-2"), ("1.2", "2")):
        page.get_by_test_id("add-shape").click()
        page.get_by_test_id("new-shape-sphere").click()
        put(page, "move-0", side)
        put(page, "move-1", deep)
    saved(page)
    page.get_by_test_id("views").click()
    page.get_by_test_id("view-front").click()
    page.get_by_test_id("add-region").click()  # what is selected has handles; a region's are far off

    def widths():
        """Columns that each sphere covers: where the view changes when shapes are hidden."""
        shown = pixels(page)
        page.keyboard.press("4")
        covered = (np.abs(shown - pixels(page)).max(axis=2)[80:] > 6).sum(axis=0) > 3  # below the bars
        page.keyboard.press("4")
        half = len(covered) // 2
        return covered[:half].sum(), covered[half:].sum()

    near, far = widths()
    assert near > 1.3 * far
    page.keyboard.press("o")
    near, far = widths()
    assert near > 30
    assert near == pytest.approx(far, abs=3)
    view = kept_view(page, address, key)
    assert view["parallel"]
    page.keyboard.press("o")
    assert kept_view(page, address, key)["position"] == pytest.approx(view["position"], abs=1e-3), "nothing moves"


def test_the_camera_follows_the_box_until_the_user_takes_it(page, address):
    key = new_study(page, address)
    page.get_by_test_id("add-shape").click()
    page.get_by_test_id("new-shape-sphere").click()
    first = kept_view(page, address, key)
    put(page, "radius", "3")
    saved(page)
    at_rest(page)
    second = kept_view(page, address, key)
    assert np.linalg.norm(second["position"]) > 1.5 * np.linalg.norm(first["position"])
    view = page.get_by_test_id("view").bounding_box()
    page.mouse.move(view["x"] + 300, view["y"] + 300)
    page.mouse.down()
    page.mouse.move(view["x"] + 380, view["y"] + 310, steps=3)
    page.mouse.up()
    taken = kept_view(page, address, key)
    assert np.linalg.norm(np.subtract(taken["position"], second["position"])) > 0.5
    put(page, "radius", "1")
    saved(page)
    at_rest(page)
    assert kept_view(page, address, key)["position"] == pytest.approx(taken["position"], abs=0.01)


def test_glyphs_and_flow_lines_become_wider(page, address):
    new_study(page, address)
    add_field(page)
    add_step(page, "field", "curl_noise")
    page.keyboard.press("Escape")
    expect(page.get_by_test_id("legend")).to_be_visible()
    settings(page, "probe")
    for glyph in ("barbs", "arrows", "lines"):
        choose(page, "glyph", glyph)
        slide(page, "glyph-width", 0.0)
        thin = pixels(page)
        slide(page, "glyph-width", 1.0)
        wide = redrawn(page, thin, 0.01)
        assert (wide.max(axis=2) > 170).sum() > 1.3 * (thin.max(axis=2) > 170).sum(), glyph


def test_pictures_come_all_the_way_through_a_drag_and_end_with_the_last_edit(page, address):
    new_study(page, address)
    add_field(page)
    add_step(page, "field", "curl_noise")
    expect(page.get_by_test_id("legend")).to_be_visible()
    at_rest(page)
    seen = page.evaluate("""async () => {
      const seen = [];
      addEventListener('gust:pictured', (e) => e.detail.what === 'view' && seen.push(e.detail.late.length));
      const slider = document.querySelector('[data-testid=slider-feature_size]');
      const {left, top, width} = slider.querySelector('.v-slider-track').getBoundingClientRect();
      const at = (share) => ({clientX: left + share * width, clientY: top + 1, bubbles: true, cancelable: true});
      slider.querySelector('.v-slider__container').dispatchEvent(new MouseEvent('mousedown', at(0.1)));
      let during = 0, edits = 0, before = '';
      for (let i = 0; i < 60; i++) {
        window.dispatchEvent(new MouseEvent('mousemove', at(0.15 + i * 0.0125)));
        await new Promise((done) => setTimeout(done, 60));
        edits += Number(slider.dataset.value !== before);
        before = slider.dataset.value;
        if (i === 55) during = seen.length;
      }
      window.dispatchEvent(new MouseEvent('mouseup', at(0.9)));
      await new Promise((done) => setTimeout(done, 3000));
      return {during, edits, all: seen.reduce((a, b) => a + b, 0)};
    }""")
    assert seen["during"] >= 3, "a drag that never pauses still shows pictures"
    assert seen["edits"] > 30
    # the press that took the slider was an edit too
    assert seen["all"] == seen["edits"] + 1, "every edit is in a picture in the end"
