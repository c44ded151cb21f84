"""Grains on the Desk: a heap, drawn to a curve by a masked path field in slow motion, looked at, and taken away."""

import json
import re
import zipfile

import numpy as np
import pytest
from playwright.sync_api import expect
from pxr import Usd, UsdGeom

from tests.browser.test_liquid import shape
from tests.browser.tools import (
    add_field,
    add_step,
    at_rest,
    changed,
    choose,
    chosen,
    document,
    finished,
    go_to,
    new_study,
    pixels,
    put,
    redrawn,
    runs_to,
    saved,
    without_flows,
)

LAST = 16


def test_a_heap_is_drawn_to_a_curve_in_slow_motion_looked_at_and_written(page, address, tmp_path):
    key = new_study(page, address)
    page.get_by_test_id("clock-end").fill(str(LAST))
    page.get_by_test_id("clock-end").press("Enter")
    page.get_by_test_id("clock-slow").fill("2")
    page.get_by_test_id("clock-slow").press("Enter")
    shape(page, "cylinder")  # the round source
    put(page, "radius", "0.5")
    put(page, "height", "0.2")
    put(page, "move-2", "0.1")
    shape(page, "box")  # the floor
    for axis, size in (("0", "3"), ("1", "3"), ("2", "0.3")):
        put(page, f"size-{axis}", size)
    put(page, "move-2", "-0.15")
    shape(page, "curve")
    source, floor, curve = (s["id"] for s in document(page, address, key)["shapes"])
    page.get_by_test_id("add-region").click()
    put(page, "voxel_size", "0.04")
    for fitted in document(page, address, key)["regions"][0]["bounds"]["fit"]:
        page.get_by_test_id(f"fit-{fitted}").click()
    for axis, low, high in (("x", "-1", "1"), ("y", "-1", "1"), ("z", "0", "0.7")):
        for corner, value in (("Lower", low), ("Upper", high)):
            box = page.get_by_label(f"{corner} {axis}")
            box.fill(value)
            box.press("Enter")

    # animated noise of high contrast, and a flow along the curve
    add_field(page)
    add_step(page, "field", "noise")
    put(page, "feature_size", "0.3")
    put(page, "evolve", "0.6")
    choose(page, "select-range", "unit")
    add_step(page, "field", "remap")
    for end, value in (("0", "0.45"), ("1", "0.52")):
        put(page, f"from_range-{end}", value)
    add_field(page)
    add_step(page, "field_2", "spline_flow")
    choose(page, "select-curve", curve)
    put(page, "inward", "1.5")

    # the lane: what it begins with is there at once, and a run shows a heap
    page.get_by_test_id("new-grains-lane").click()
    page.get_by_test_id("add-grains").click()
    page.get_by_test_id("op-domain").click()
    put(page, "spacing", "0.0185")
    add_step(page, "grains", "source")
    choose(page, "select-shape", source)
    for op in ("gravity", "friction"):
        add_step(page, "grains", op)
    add_step(page, "grains", "collide")
    made = document(page, address, key)["flows"][0]["steps"]
    assert made[-1]["params"]["shapes"] == [floor], "what the grains come out of does not stand in their way"
    page.keyboard.press("1")
    page.keyboard.press("2")
    empty = without_flows(page)  # a preview may be there by now
    runs_to(page, LAST)
    go_to(page, 0.97)
    heap = redrawn(page, empty, 0.01)

    # drawn, masked, limited
    add_step(page, "grains", "push")
    choose(page, "select-field", "field_2")
    choose(page, "select-by", "field")
    put(page, "share", "0.8")
    add_step(page, "grains", "speed_limit")
    put(page, "most", "0.5")
    saved(page)
    runs_to(page, LAST)
    go_to(page, 0.97)
    drawn = redrawn(page, heap, 0.003)
    doc = document(page, address, key)
    assert doc["clock"]["slow_motion"] == 2
    preview = finished(page, address, key, "preview", LAST)
    facts = json.loads(
        page.request.get(f"{address}/api/runs/{preview}/frames/{LAST}/grains/numbers?channel=speed").text()
    )
    assert facts["high"] <= 0.5001

    # how exact its substeps are
    page.get_by_test_id("step-grains-domain").click()
    page.get_by_test_id("measure-halves").click()
    told = page.get_by_test_id("halves")
    expect(told).to_contain_text(re.compile(r"\d+ substeps"), timeout=60_000)
    of, moved, share = (
        float(x)
        for x in re.search(r"of ([\d.e-]+) mm.*?([\d.e-]+) mm \(([\d.e-]+) %\)", told.inner_text(), re.S).groups()
    )
    assert share == pytest.approx(100 * moved / of, rel=0.1)

    # how it is drawn, without another run
    page.get_by_test_id("lane-grains").locator(".name").click()
    runs = len(json.loads(page.request.get(f"{address}/api/runs?study={key}").text()))
    chosen(page, "look-blend", "lit")
    before = drawn
    for channel in ("pressure", "age", "speed"):
        choose(page, "look-colour", channel)
        at_rest(page)
    choose(page, "look-blend", "additive")
    before = redrawn(page, before, 0.003)
    choose(page, "look-blend", "lit")
    redrawn(page, before, 0.003)
    assert len(json.loads(page.request.get(f"{address}/api/runs?study={key}").text())) == runs

    # the full run of twenty-five thousand, and USD that others read
    choose(page, "quality", "full")
    expect(page.get_by_test_id("run-cost")).to_contain_text("≈", timeout=90_000)
    page.get_by_test_id("run").click()
    full = finished(page, address, key, "full", LAST)
    assert changed(empty, pixels(page)) > 0.01
    page.get_by_test_id("lane-grains").locator(".name").click()
    page.get_by_text("Take away").click()
    choose(page, "export-format", "usd")
    with page.expect_download(timeout=120_000) as found:
        page.get_by_test_id("export-run").click()
    with zipfile.ZipFile(found.value.path()) as archive:
        archive.extractall(tmp_path)
    stage = Usd.Stage.Open(str(tmp_path / "grains.usda"))
    prims = list(stage.TraverseAll())
    points = next((UsdGeom.Points(p) for p in prims if p.IsA(UsdGeom.Points)), None)
    assert points, [(str(p.GetPath()), p.GetTypeName()) for p in prims] + sorted(f.name for f in tmp_path.iterdir())
    count = len(points.GetPointsAttr().Get(LAST))
    assert 22_000 < count < 28_000
    assert count == len(points.GetVelocitiesAttr().Get(LAST)) == len(set(points.GetIdsAttr().Get(LAST)))
    speeds = np.linalg.norm(np.array(points.GetVelocitiesAttr().Get(LAST)), axis=1)
    assert speeds.max() < 0.5001
    assert (
        json.loads(page.request.get(f"{address}/api/runs/{full}/frames/{LAST}/grains/numbers?channel=speed").text())[
            "count"
        ]
        == count
    )
