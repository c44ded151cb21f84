"""Liquid on the Desk: poured from a moving ladle, uneven by noise, pushed by a field, seen as a surface, taken away."""

import json
import re
import subprocess
import zipfile

import numpy as np
import trimesh
from playwright.sync_api import expect

from tests.browser.tools import (
    add_field,
    add_step,
    changed,
    choose,
    document,
    finished,
    frames_ready,
    go_to,
    new_study,
    pixels,
    put,
    redrawn,
    runs_to,
    saved,
    without_flows,
)

LAST = 18


def shape(page, kind):
    page.get_by_test_id("add-shape").click()
    page.get_by_test_id(f"new-shape-{kind}").click()


def moved_over(page, first, second, at):
    """Key the move of the selected shape from one x to another at a frame."""
    page.get_by_test_id("more-move").click()
    page.get_by_text("Key over time").click()
    slider = page.get_by_role("slider", name="Frame", exact=True)
    for _ in range(at - 1):
        slider.press("ArrowRight")
    page.get_by_text("+ key at").click()
    for n, x in ((1, first), (2, second)):
        box = page.get_by_label(f"Move x, key {n}")
        box.fill(str(x))
        box.press("Enter")


def fields(page):
    """Viscosity by remapped noise, a constant push, and curl noise."""
    add_field(page)
    add_step(page, "field", "noise")
    put(page, "feature_size", "0.2")
    choose(page, "select-range", "unit")
    add_step(page, "field", "remap")
    for end, value in (("0", "0.02"), ("1", "0.6")):
        put(page, f"to_range-{end}", value)
    add_field(page)
    add_step(page, "field_2", "constant")
    put(page, "vector-0", "0.6")
    add_field(page)
    add_step(page, "field_3", "curl_noise")
    put(page, "feature_size", "0.3")


def ready_surface(page, share=0.97):
    """The last frame with its surface; what it looks like."""
    go_to(page, share)
    view = page.get_by_test_id("view")
    expect(view).not_to_have_attribute("data-surface", "0", timeout=90_000)
    return pixels(page)


def middle(page, address, run):
    """Where the liquid is in the mean on the last frame of a run, m."""
    body = page.request.get(f"{address}/api/runs/{run}/frames/{LAST}/particles").body()
    size = int.from_bytes(body[:4], "little")
    head = json.loads(body[4 : 4 + size])
    entry = next(a for a in head["arrays"] if a["name"] == "position")
    raw = np.frombuffer(body, "<u2", 3 * head["count"], 4 + size + entry["offset"]).reshape(-1, 3) / 65535
    low, high = np.array(head["lower"]), np.array(head["upper"])
    return (low + raw * (high - low)).mean(axis=0)


def test_poured_uneven_pushed_seen_as_a_surface_and_taken_away(page, address, tmp_path):
    key = new_study(page, address)
    page.get_by_test_id("clock-end").fill(str(LAST))
    page.get_by_test_id("clock-end").press("Enter")
    shape(page, "sphere")
    put(page, "radius", "0.12")
    put(page, "move-2", "0.5")
    moved_over(page, -0.15, 0.15, 13)
    shape(page, "box")
    for axis, size in (("0", "3"), ("1", "3"), ("2", "0.3")):
        put(page, f"size-{axis}", size)
    put(page, "move-2", "-0.05")
    ladle, floor = (s["id"] for s in document(page, address, key)["shapes"])
    page.get_by_test_id("add-region").click()
    put(page, "voxel_size", "0.03")
    page.get_by_test_id(f"fit-{floor}").click()
    for axis, low, high in (("x", "-0.7", "0.7"), ("y", "-0.7", "0.7"), ("z", "0", "0.8")):
        for corner, value in (("Lower", low), ("Upper", high)):
            box = page.get_by_label(f"{corner} {axis}")
            box.fill(value)
            box.press("Enter")
    fields(page)

    # the lane: a source that stops at a frame, a floor that holds, first a push that is seen to work
    page.get_by_test_id("new-liquid-lane").click()
    page.get_by_test_id("add-liquid").click()
    expect(page.get_by_test_id("op-source")).to_be_disabled()  # a Domain comes first
    page.get_by_test_id("op-domain").click()
    add_step(page, "liquid", "source")
    choose(page, "select-shape", ladle)
    page.get_by_test_id("more-viscosity").click()
    page.get_by_text("Use field Field", exact=True).click()
    page.get_by_test_id("fold-Velocity").click()
    put(page, "velocity-2", "-0.6")
    page.get_by_test_id("fold-When").click()
    put(page, "until", "f 13")
    expect(page.get_by_test_id("number-until")).to_have_value("0.5")
    add_step(page, "liquid", "gravity")
    add_step(page, "liquid", "collide")
    made = document(page, address, key)["flows"][0]["steps"]
    assert made[1]["params"]["viscosity"] == {"field": "field"}
    assert made[3]["params"]["shapes"] == [floor], "what the liquid comes out of does not stand in its way"
    put(page, "friction", "0.2")
    put(page, "stick", "0.3")
    add_step(page, "liquid", "surface")
    add_step(page, "liquid", "push")
    choose(page, "select-field", "field_2")
    saved(page)
    page.keyboard.press("1")
    page.keyboard.press("2")
    empty = without_flows(page)  # a preview may be there by now
    runs_to(page, LAST)
    ready_surface(page)
    pushed = redrawn(page, empty, 0.01)
    first = finished(page, address, key, "preview", LAST)
    with_push = middle(page, address, first)
    assert with_push[0] > 0.08, "the constant push is seen to work"

    # then curl noise, evolving, sideways only; each starts a preview of its own
    choose(page, "select-field", "field_3")
    page.get_by_test_id("fold-Axes").click()
    page.get_by_label("Along z").click()
    page.get_by_test_id("lane-field_3").get_by_text("Curl noise").click()
    put(page, "evolve", "0.6")
    saved(page)
    runs_to(page, LAST)
    doc = document(page, address, key)
    assert doc["fields"][2]["steps"][0]["params"]["evolve"] == 0.6
    page.wait_for_timeout(1500)
    known = {r["identity"] for r in json.loads(page.request.get(f"{address}/api/runs?study={key}").text())[1:]}
    curl = finished(page, address, key, "preview", LAST, known)
    frames_ready(page, LAST)
    curled = ready_surface(page)
    assert changed(pushed, curled) > 0.003
    assert np.abs(middle(page, address, curl) - with_push).max() > 0.02
    params = next(s["params"] for s in document(page, address, key)["flows"][0]["steps"] if s["op"] == "push")
    assert params["along_z"] is False

    # with and without, side by side: the lane's runs are kept
    page.get_by_test_id("open-compare").click()
    for pane in ("pane-0", "pane-1"):
        expect(page.get_by_test_id(pane)).to_have_attribute("data-ready", re.compile(r"\d+ speed"), timeout=90_000)
    expect(page.get_by_test_id("compare-numbers")).to_contain_text("particles")
    page.get_by_test_id("to-desk").click()
    expect(page.get_by_test_id("score")).to_be_visible()

    # how it is drawn: as points, and by a channel, without another run
    page.get_by_test_id("lane-liquid").locator(".name").click()
    runs = len(json.loads(page.request.get(f"{address}/api/runs?study={key}").text()))
    wet = ready_surface(page)
    choose(page, "look-draw", "points")
    points = redrawn(page, wet, 0.002)
    choose(page, "look-draw", "surface")
    redrawn(page, points, 0.002)
    choose(page, "look-paint", "channel")
    for channel in ("viscosity", "thickness", "age"):
        before = pixels(page)
        choose(page, "look-colour", channel)
        redrawn(page, before, 0.001)
    page.get_by_test_id("lane-liquid").get_by_text("Surface").click()
    before = int(page.get_by_test_id("view").get_attribute("data-surface"))
    put(page, "voxels", "1.5")
    expect(page.get_by_test_id("view")).not_to_have_attribute("data-surface", str(before), timeout=90_000)
    assert int(page.get_by_test_id("view").get_attribute("data-surface")) < before / 3
    put(page, "voxels", "0.5")
    assert len(json.loads(page.request.get(f"{address}/api/runs?study={key}").text())) == runs

    # the full run, and what is written of it
    expect(page.get_by_test_id("run-cost")).to_have_text("all there", timeout=90_000)
    choose(page, "quality", "full")
    expect(page.get_by_test_id("run-cost")).to_contain_text("≈", timeout=90_000)
    page.get_by_test_id("run").click()
    finished(page, address, key, "full", LAST)
    page.get_by_test_id("lane-liquid").locator(".name").click()
    page.get_by_text("Take away").click()
    for what, format, pattern in (("surface", "ply", "*.ply"), ("volume", "vdb", "*.vdb")):
        choose(page, "export-what", what)
        choose(page, "export-format", format)
        with page.expect_download(timeout=120_000) as found:
            page.get_by_test_id("export-run").click()
        with zipfile.ZipFile(found.value.path()) as archive:
            archive.extractall(tmp_path)
        assert len(list(tmp_path.glob(pattern))) == LAST
    mesh = trimesh.load(sorted(tmp_path.glob("*.ply"))[-1])
    assert mesh.is_watertight
    assert mesh.volume > 0.004
    assert {"vx", "vy", "vz", "viscosity", "thickness"} <= set(mesh.metadata["_ply_raw"]["vertex"]["data"].dtype.names)
    said = subprocess.run(["vdb_print", "-l", str(sorted(tmp_path.glob("*.vdb"))[-1])], capture_output=True, text=True,
                          check=True).stdout  # fmt: skip
    assert "distance" in said
    assert "vec3s" in said
