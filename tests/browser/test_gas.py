"""Gas on the Desk: smoke past an obstacle, steered by a lane, with a channel of its own, looked at, run, taken away."""

import json
import re
import subprocess
import zipfile

import numpy as np
from playwright.sync_api import expect

from tests.browser.tools import (
    add_field,
    add_step,
    changed,
    choose,
    chosen,
    document,
    go_to,
    new_study,
    picture_of,
    pixels,
    put,
    redrawn,
    runs_to,
    saved,
    without_flows,
)
from tests.clusters import until


def picture(page, pane):
    """What a pane shows when nothing in it changes any more."""
    return picture_of(page, page.get_by_test_id(pane).locator("canvas"))[:590, 4:420]  # panes differ by a pixel


def both_channels_compared(page):
    page.get_by_test_id("open-compare").click()
    # the smoke beside its own channel; then both channels under one mapping
    for pane, channel in (("pane-0", "smoke"), ("pane-1", "glow")):
        expect(page.get_by_test_id(pane)).to_have_attribute("data-ready", re.compile(rf"\d+ {channel}"), timeout=90_000)
    choose(page, "pane-channel-0", "temperature")
    for pane, channel in (("pane-0", "temperature"), ("pane-1", "glow")):
        expect(page.get_by_test_id(pane)).to_have_attribute("data-ready", re.compile(rf"\d+ {channel}"), timeout=90_000)
    page.get_by_test_id("compare-scrub").get_by_role("slider").press("End")
    for pane in ("pane-0", "pane-1", "pane-difference"):
        expect(page.get_by_test_id(pane)).to_have_attribute("data-ready", re.compile("^16 "), timeout=90_000)
    numbers = page.get_by_test_id("compare-numbers")
    expect(numbers.get_by_test_id("numbers-0")).to_contain_text("K")
    most = [float(page.get_by_test_id(f"numbers-{i}").locator("td").nth(1).inner_text().split()[0]) for i in (0, 1)]
    assert most[0] > 50 * most[1] > 0
    expect(numbers.get_by_test_id("numbers-difference")).to_contain_text("greatest")
    # fitted to both: what is 1 at most is dark beside 300 kelvin
    high = page.get_by_test_id("compare-high")
    assert abs(float(high.input_value()) - most[0]) < 0.01 * most[0]
    heat, glow = picture(page, "pane-0"), picture(page, "pane-1")
    assert changed(heat, glow) > 0.005
    # a range of its own for the faint one changes both: there is one mapping
    high.fill("1")
    high.press("Enter")
    bright = picture(page, "pane-1")
    assert changed(glow, bright) > 0.005
    assert changed(heat, picture(page, "pane-0")) > 0.003
    expect(page.get_by_test_id("compare-fit")).to_have_text("pinned · fit")
    # turning one turns all
    box = page.get_by_test_id("pane-0").locator("canvas").bounding_box()
    page.mouse.move(box["x"] + 200, box["y"] + 200)
    page.mouse.down()
    page.mouse.move(box["x"] + 290, box["y"] + 220, steps=4)
    page.mouse.up()
    assert changed(bright, picture(page, "pane-1")) > 0.01
    # the same channel twice is the same to the bit, and the address brings it all back
    choose(page, "pane-channel-1", "temperature")
    expect(numbers.get_by_test_id("numbers-difference")).to_contain_text("the same")
    # two quantities may stand beside each other, but are not subtracted, and it is told that one range serves both
    choose(page, "pane-channel-1", "density")
    expect(page.get_by_test_id("pane-difference")).to_contain_text("cannot be subtracted")
    expect(page.get_by_test_id("compare-mixed")).to_contain_text("K and no unit")
    choose(page, "pane-channel-1", "temperature")
    expect(page.get_by_test_id("pane-1")).to_have_attribute("data-ready", "16 temperature", timeout=90_000)
    page.wait_for_url(re.compile(r"temperature.*temperature.*frame=16.*range=0(,|%2C)1&camera="))
    turned = picture(page, "pane-1")
    page.reload()
    expect(page.get_by_test_id("pane-1")).to_have_attribute("data-ready", "16 temperature", timeout=90_000)
    chosen(page, "pane-channel-1", "temperature")
    expect(high).to_have_value("1")
    assert changed(turned, picture(page, "pane-1")) < 0.002, "the address keeps frame, range and camera"
    page.get_by_test_id("compare-add").click()
    expect(page.get_by_test_id("pane-2")).to_have_attribute(
        "data-ready", re.compile(r"\d+ temperature"), timeout=90_000
    )
    page.get_by_test_id("to-desk").click()
    expect(page.get_by_test_id("score")).to_be_visible()
    expect(page.get_by_test_id("view")).not_to_have_attribute("data-gas", "0", timeout=90_000)


def test_smoke_past_an_obstacle_steered_by_a_lane_seen_and_taken_away(page, address, tmp_path):
    key = new_study(page, address)
    for _ in range(2):
        page.get_by_test_id("add-shape").click()
        page.get_by_test_id("new-shape-sphere").click()
    rock, wick = (s["id"] for s in document(page, address, key)["shapes"])
    put(page, "radius", "0.25")
    put(page, "move-2", "0.3")
    page.get_by_test_id(f"shape-{rock}").click()
    put(page, "radius", "0.3")
    put(page, "move-0", "0.1")
    put(page, "move-2", "1.1")
    page.get_by_test_id("add-region").click()
    put(page, "voxel_size", "0.05")
    add_field(page)
    add_step(page, "field", "curl_noise")
    put(page, "feature_size", "0.5")
    page.get_by_test_id("new-gas-lane").click()
    page.get_by_test_id("add-gas").click()
    expect(page.get_by_test_id("op-source")).to_be_disabled()  # a Domain comes first
    page.get_by_test_id("op-domain").click()
    add_step(page, "gas", "source")
    choose(page, "select-shape", wick)
    choose(page, "select-how", "at least")
    put(page, "density", "1")
    expect(page.get_by_test_id("text-channel")).to_have_count(0)  # what is seldom used is folded away
    page.get_by_test_id("fold-A further channel").click()
    page.get_by_test_id("text-channel").fill("glow")
    page.get_by_test_id("text-channel").press("Enter")
    page.get_by_test_id("fold-A further channel").click()
    expect(page.get_by_test_id("fold-A further channel")).to_contain_text("channel glow")
    # points in time may be typed as frames, and are told as such
    page.get_by_test_id("fold-When").click()
    expect(page.get_by_test_id("frame-until")).to_have_text("past end")
    put(page, "begin", "f 7")
    expect(page.get_by_test_id("number-begin")).to_have_value("0.25")
    expect(page.get_by_test_id("frame-begin")).to_have_text("f 7")
    put(page, "begin", "0")
    expect(page.get_by_test_id("frame-begin")).to_have_text("f 1")
    add_step(page, "gas", "collide")
    add_step(page, "gas", "rise")
    add_step(page, "gas", "push")
    chosen(page, "select-field", "field")
    choose(page, "select-how", "force")
    put(page, "strength", "2")
    add_step(page, "gas", "channel")
    put(page, "rate", "3")
    page.get_by_test_id("clock-end").fill("16")
    page.get_by_test_id("clock-end").press("Enter")
    saved(page)
    assert document(page, address, key)["clock"]["end"] == 16
    assert document(page, address, key)["flows"][0]["steps"][2]["params"]["shapes"] == [rock]
    page.keyboard.press("1")
    page.keyboard.press("2")
    empty = without_flows(page)  # a preview may be there by now
    runs_to(page, 16)
    view = page.get_by_test_id("view")
    go_to(page, 0.97)
    expect(view).not_to_have_attribute("data-gas", "0")
    smoke = redrawn(page, empty, 0.01)

    # one channel in the colours of a map, another under the same map and range
    choose(page, "look-colour", "temperature")
    put(page, "look-low", "0")
    put(page, "look-high", "300")
    heat = redrawn(page, smoke, 0.005)
    choose(page, "look-colour", "glow")
    put(page, "look-high", "300")
    expect(page.get_by_test_id("flow-facts")).to_contain_text("voxels of 0.1 m")
    faint = redrawn(page, heat, 0.005)
    assert (faint.max(axis=2) > 90).sum() < (heat.max(axis=2) > 90).sum(), "at most 1 of 300 under the same mapping"
    choose(page, "look-colour", "smoke")
    redrawn(page, faint, 0.005)

    # both channels side by side: one camera, one frame, one mapping, and what they differ by
    both_channels_compared(page)

    # the full run is finer, and is what is written
    page.get_by_test_id("lane-gas").get_by_text("Domain").click()
    # the probe stands in what the run holds: barbs of its velocity, a slice of a channel, numbers of either
    go_to(page, 0.97)
    legend = page.get_by_test_id("legend")
    expect(legend).to_contain_text("speed · Gas")
    page.keyboard.press("1")
    plain = pixels(page)
    page.keyboard.press("1")
    barbs = redrawn(page, plain, 0.001)
    expect(page.get_by_test_id("reading-range")).to_contain_text("m/s")
    choose(page, "look-colour", "temperature")
    expect(legend).to_contain_text("value · Gas, temperature")
    redrawn(page, barbs, 0.005)
    choose(page, "look-colour", "smoke")
    page.keyboard.press("1")
    page.keyboard.press("2")
    expect(page.get_by_test_id("run-cost")).to_have_text("all there", timeout=90_000)
    choose(page, "quality", "full")
    expect(page.get_by_test_id("run-cost")).to_contain_text("≈", timeout=90_000)
    assert "of the preview run" in page.get_by_test_id("run-cost").get_attribute("aria-label")
    with page.expect_response(lambda r: r.url.endswith("/api/runs") and r.request.method == "POST") as asked:
        page.get_by_test_id("run").click()
    full = asked.value.json()["identity"]
    expect(page.get_by_test_id("flow-facts")).to_contain_text("voxels of 0.05 m", timeout=180_000)

    def whole():
        rows = page.request.get(f"{address}/api/runs?study={key}").json()
        return next(r for r in rows if r["identity"] == full)["state"] == "done"

    until(whole, 300)
    page.get_by_text("Take away").click()
    chosen(page, "export-format", "vdb")
    with page.expect_download() as found:
        page.get_by_test_id("export-run").click()
    with zipfile.ZipFile(found.value.path()) as archive:
        archive.extractall(tmp_path)
    files = sorted(tmp_path.glob("*.vdb"))
    assert len(files) == 16
    code = (
        "import pyopenvdb as v, sys, json; g, m = v.readAll(sys.argv[1]); g = {x.name: x for x in g};"
        "a = g['density'].getConstAccessor(); t = g['density'].transform;"
        "at = lambda p: a.getValue([round(x) for x in t.worldToIndex(p)]);"
        "print(json.dumps([sorted(g), t.voxelSize()[0], at((0.1, 0, 1.1)), at((0, 0, 0.3)),"
        "g['density'].evalMinMax()]))"
    )
    said = subprocess.run(["/usr/bin/python3", "-c", code, str(files[-1])], capture_output=True, text=True, check=True)
    names, h, inside, source, (low, high) = json.loads(said.stdout)
    assert names == ["density", "glow", "temperature", "vel"]
    assert h == 0.05 or abs(h - 0.05) < 1e-6
    assert inside == 0, "no smoke inside the obstacle"
    assert source > 0.9
    assert low >= 0
    assert high < 1.2
    assert np.isfinite(high)
