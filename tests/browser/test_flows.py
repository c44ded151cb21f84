"""Flows on the Desk: two fields, respawn, trails, looks, several flows, and what is written."""

import io
import json
import zipfile

import numpy as np
from playwright.sync_api import expect
from pxr import Usd, UsdGeom

from tests.browser.tools import (
    add_field,
    add_step,
    choose,
    chosen,
    document,
    go_to,
    new_study,
    pixels,
    put,
    redrawn,
    runs_to,
    saved,
)


def test_two_fields_respawn_trails_colour_by_speed_scrub_and_usd(page, address, tmp_path):
    key = new_study(page, address)
    page.get_by_test_id("add-shape").click()
    page.get_by_test_id("new-shape-sphere").click()
    add_field(page)
    add_step(page, "field", "wind")
    add_field(page)
    add_step(page, "field_2", "curl_noise")
    put(page, "feature_size", "0.7")
    page.get_by_test_id("new-particles-lane").click()
    flow = document(page, address, key)["flows"][0]["id"]
    add_step(page, flow, "emit")
    put(page, "rate", "3000")
    for lane in ("field", "field_2"):
        add_step(page, flow, "carry")
        choose(page, "select-field", lane)
    add_step(page, flow, "respawn")
    put(page, "farther", "2")
    add_step(page, flow, "trail")
    page.get_by_test_id("clock-end").fill("30")
    page.get_by_test_id("clock-end").press("Enter")
    saved(page)
    runs_to(page, 30)
    view = page.get_by_test_id("view")
    go_to(page, 0.9)
    expect(view).not_to_have_attribute("data-particles", "0")
    expect(view).not_to_have_attribute("data-lines", "0")
    page.keyboard.press("1")
    page.keyboard.press("2")
    late = pixels(page)
    go_to(page, 0.2)
    redrawn(page, late, 0.001)
    go_to(page, 0.9)

    # a look changes the picture and starts no run
    known = json.loads(page.request.get(f"{address}/api/runs?study={key}").text())
    plain = pixels(page)
    choose(page, "look-map", "heat")
    hot = redrawn(page, plain, 0.001)
    bright = hot.max(axis=2) > 90
    assert hot[bright][:, 0].mean() > hot[bright][:, 2].mean() + 10, "black body is red before it is blue"
    choose(page, "look-colour", "direction")
    chosen(page, "look-map", "cyclic")
    saved(page)
    runs = json.loads(page.request.get(f"{address}/api/runs?study={key}").text())
    assert [r["identity"] for r in runs] == [r["identity"] for r in known]
    looks = document(page, address, key)["looks"][flow]
    assert looks["colour"] == "direction"
    with_trails = pixels(page)
    page.get_by_test_id("look-shown").uncheck()
    redrawn(page, with_trails, 0.001)
    page.get_by_test_id("look-shown").check()

    # a longer trail needs no run either
    page.get_by_test_id(f"step-{flow}-trail").click()
    before = int(view.get_attribute("data-lines"))
    put(page, "share", "0.25")
    expect(view).not_to_have_attribute("data-lines", str(before))
    assert 0 < int(view.get_attribute("data-lines")) < 0.5 * before

    page.get_by_text("Take away").click()
    choose(page, "export-format", "usd")
    with page.expect_download() as found:
        page.get_by_test_id("export-run").click()
    with zipfile.ZipFile(found.value.path()) as archive:
        archive.extractall(tmp_path)
    stage = Usd.Stage.Open(str(tmp_path / f"{flow}.usda"))
    assert (stage.GetStartTimeCode(), stage.GetEndTimeCode()) == (1, 30)
    points = UsdGeom.Points(stage.GetPrimAtPath(f"/{flow}/Particles"))
    lines = UsdGeom.BasisCurves(stage.GetPrimAtPath(f"/{flow}/Lines"))
    for frame in (5, 30):
        count = len(points.GetPointsAttr().Get(frame))
        assert count == len(points.GetVelocitiesAttr().Get(frame)) == len(set(points.GetIdsAttr().Get(frame)))
        assert 0 < len(lines.GetCurveVertexCountsAttr().Get(frame)) < 0.5 * count
    middle = document(page, address, key)["shapes"][0]["params"].get("move", [0, 0, 0])
    away = np.linalg.norm(np.array(points.GetPointsAttr().Get(30)) - middle, axis=1)
    assert away.max() < 2 + 0.5 + 0.05, "none is farther than two metres from where it began"


def test_two_flows_are_shown_together_each_on_or_off(page, address):
    key = new_study(page, address)
    page.get_by_test_id("add-shape").click()
    page.get_by_test_id("new-shape-sphere").click()
    add_field(page)
    add_step(page, "field", "wind")
    for _ in range(2):
        page.get_by_test_id("new-particles-lane").click()
    flows = [f["id"] for f in document(page, address, key)["flows"]]
    for flow in flows:
        add_step(page, flow, "emit")
        add_step(page, flow, "carry" if flow == flows[0] else "gravity")
    page.get_by_test_id("clock-end").fill("20")
    page.get_by_test_id("clock-end").press("Enter")
    saved(page)
    runs_to(page, 20)
    go_to(page, 0.97)
    page.keyboard.press("1")
    page.keyboard.press("2")
    for flow in flows:
        page.get_by_test_id(f"step-{flow}-emit").click()
        expect(page.get_by_test_id("run-state")).to_contain_text("20 frames ready")
        shown = pixels(page)
        page.get_by_test_id("look-shown").uncheck()
        redrawn(page, shown, 0.0005)


def test_a_wall_and_gravity_are_built_with_the_score_and_npz_holds_the_channel(page, address):
    key = new_study(page, address)
    page.get_by_test_id("add-shape").click()
    page.get_by_test_id("new-shape-sphere").click()
    page.get_by_test_id("add-shape").click()
    page.get_by_test_id("new-shape-plane").click()
    put(page, "move-2", "-2")
    page.get_by_test_id("new-particles-lane").click()
    flow = document(page, address, key)["flows"][0]["id"]
    add_step(page, flow, "emit")
    choose(page, "select-shape", "sphere")
    add_step(page, flow, "gravity")
    add_step(page, flow, "stay_out")
    choose(page, "select-shape", "plane")
    add_step(page, flow, "channel")
    page.get_by_test_id("clock-end").fill("40")
    page.get_by_test_id("clock-end").press("Enter")
    saved(page)
    runs_to(page, 40)
    page.get_by_text("Take away").click()
    choose(page, "export-format", "npz")
    with page.expect_download() as found:
        page.get_by_test_id("export-run").click()
    with zipfile.ZipFile(found.value.path()) as archive, np.load(io.BytesIO(archive.read(f"{flow}.0040.npz"))) as z:
        assert z["position"][:, 2].min() > -2 - 1e-4, "nothing fell through"
        assert (z["position"][:, 2] < -1.99).mean() > 0.2, "many lie on the floor"
        assert z["travelled"].max() > 1.4
    page.get_by_test_id(f"step-{flow}-channel").click()
    choose(page, "look-colour", "travelled")
    saved(page)
    expect(page.get_by_test_id("run-state")).to_contain_text("40 frames ready")
