"""Growth on the Desk: begun in one click, kept off a wall, coloured by its age, compared, smoothed, taken away, and a
shape again that emits."""

import re
import subprocess
import zipfile

import numpy as np
import trimesh
from playwright.sync_api import expect

from tests.browser.tools import (
    add_field,
    add_step,
    choose,
    chosen,
    document,
    go_to,
    new_study,
    offered,
    pixels,
    put,
    redrawn,
    runs_to,
    saved,
)

LAST = 16


def shape(page, kind):
    page.get_by_test_id("add-shape").click()
    page.get_by_test_id(f"new-shape-{kind}").click()


def taken(page, what, format, to):
    """What Take away writes, unpacked."""
    choose(page, "export-what", what)
    choose(page, "export-format", format)
    with page.expect_download(timeout=120_000) as found:
        page.get_by_test_id("export-run").click()
    with zipfile.ZipFile(found.value.path()) as archive:
        archive.extractall(to)


def test_frost_grows_keeps_off_a_wall_and_emits(page, address, tmp_path):
    key = new_study(page, address)
    page.get_by_test_id("clock-end").fill(str(LAST))
    page.get_by_test_id("clock-end").press("Enter")
    shape(page, "box")  # the wall
    put(page, "move-0", "0.7")
    for axis, size in (("0", "0.3"), ("1", "0.6"), ("2", "3")):
        put(page, f"size-{axis}", size)
    shape(page, "sphere")  # what it grows from
    put(page, "radius", "0.3")
    page.get_by_test_id("add-region").click()
    put(page, "voxel_size", "0.06")
    for fitted in document(page, address, key)["regions"][0]["bounds"].get("fit", []):
        page.get_by_test_id(f"fit-{fitted}").click()
    for axis in "xyz":
        for corner, value in (("Lower", "-1.2"), ("Upper", "1.2")):
            box = page.get_by_label(f"{corner} {axis}")
            box.fill(value)
            box.press("Enter")

    # in one click it grows, by itself, and is seen
    empty = pixels(page)
    page.get_by_test_id("new-growth-lane").click()
    begin = page.get_by_test_id("begin-growth")
    expect(begin).to_have_text("begin with Domain › Seed shape › Spread")
    begin.click()
    steps = document(page, address, key)["flows"][0]["steps"]
    seed = next(s["params"]["shape"] for s in steps if s["op"] == "seed")
    if seed != "sphere":
        page.get_by_test_id("lane-growth").get_by_text("Seed shape").click()
        choose(page, "select-shape", "sphere")
    page.get_by_test_id("lane-growth").get_by_text("Spread").click()
    put(page, "speed", "1.2")
    saved(page)
    runs_to(page, LAST)
    go_to(page, 0.97)
    view = page.get_by_test_id("view")
    expect(view).not_to_have_attribute("data-surface", "0", timeout=90_000)
    free = redrawn(page, empty, 0.01)

    # it keeps off the wall: another picture, by a run of its own
    add_step(page, "growth", "keep_off")
    wall = document(page, address, key)["flows"][0]["steps"][-1]["params"]["shapes"]
    if wall != ["box"]:
        page.get_by_label("Sphere", exact=True).uncheck()
        page.get_by_label("Box", exact=True).check()
    saved(page)
    assert document(page, address, key)["flows"][0]["steps"][-1]["params"]["shapes"] == ["box"]
    runs_to(page, LAST)
    go_to(page, 0.97)
    kept = redrawn(page, free, 0.002)

    # coloured by its age, without another run
    page.get_by_test_id("lane-growth").locator(".name").click()
    expect(page.get_by_test_id("look-draw")).to_have_count(0)  # there are no points to draw instead
    choose(page, "look-paint", "channel")
    chosen(page, "look-colour", "age")
    aged = redrawn(page, kept, 0.005)
    choose(page, "look-colour", "speed")
    redrawn(page, aged, 0.002)

    # side by side with itself
    page.get_by_test_id("open-compare").click()
    expect(page.get_by_test_id("pane-0")).to_have_attribute("data-ready", re.compile(r"\d+ "), timeout=90_000)
    page.get_by_test_id("to-desk").click()
    expect(page.get_by_test_id("score")).to_be_visible()

    # a smoother surface stands for the plain one
    go_to(page, 0.97)
    plain = pixels(page)
    add_step(page, "growth", "surface")
    put(page, "smooth", "3")
    redrawn(page, plain, 0.002)

    # taken away as triangles and as a level set
    page.get_by_test_id("lane-growth").locator(".name").click()
    page.get_by_text("Take away").click()
    taken(page, "mesh", "ply", tmp_path)
    taken(page, "volume", "vdb", tmp_path)
    mesh = trimesh.load(sorted(tmp_path.glob("*.ply"))[-1])
    assert mesh.is_watertight
    assert {"vx", "vy", "vz", "age", "thickness"} <= set(mesh.metadata["_ply_raw"]["vertex"]["data"].dtype.names)
    inside_wall = (np.abs(mesh.vertices - [0.7, 0, 0]) < np.array([0.15, 0.3, 1.5]) - 0.02).all(axis=1)
    assert not inside_wall.any()
    assert mesh.bounds[1][0] > 0.5
    said = subprocess.run(["vdb_print", "-l", str(sorted(tmp_path.glob("*.vdb"))[-1])], capture_output=True, text=True,
                          check=True).stdout  # fmt: skip
    assert "level set" in said

    # it is a shape again, by its distance, and emits
    add_field(page)
    add_step(page, "field", "from_run")
    choose(page, "select-kind", "scalar")
    channel = page.get_by_test_id("text-channel").or_(page.get_by_label("Channel", exact=True)).first
    channel.fill("distance")
    channel.press("Enter")
    saved(page)
    shape(page, "field_surface")
    expect(page.get_by_test_id("shape-about")).to_contain_text("triangles; the lane goes from", timeout=90_000)
    made = document(page, address, key)["shapes"][-1]["id"]
    page.get_by_test_id("new-particles-lane").click()
    add_step(page, "particles", "emit")
    choose(page, "select-shape", made)
    saved(page)
    runs_to(page, LAST)
    expect(view).not_to_have_attribute("data-particles", "0", timeout=90_000)

    # or by its triangles; and another lane is born on the lines that the particles draw
    shape(page, "run_mesh")
    expect(page.get_by_test_id("shape-about")).to_contain_text("triangles on frame", timeout=90_000)
    assert document(page, address, key)["shapes"][-1]["params"] == {"flow": "growth"}
    page.get_by_test_id("new-particles-lane").click()
    add_step(page, "particles_2", "emit")
    choose(page, "select-where", "lines")
    assert offered(page, "select-lines") == ["particles"]
