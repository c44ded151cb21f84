"""A user's whole job in the real interface, and what came out of it read by independent readers."""

import io
import json
import re
import subprocess
import zipfile

import numpy as np
import pytest
import trimesh
from playwright.sync_api import expect

from errant_gust.core.fields.sampling import sample
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.study.document import parse
from tests.browser.tools import (
    add_field,
    add_step,
    choose,
    document,
    frames_ready,
    new_study,
    pixels,
    put,
    redrawn,
    saved,
)

READ_VDB = """
import json, sys, pyopenvdb as o
g = o.readAll(sys.argv[1])[0][0]
a = g.getConstAccessor()
box = g.evalActiveVoxelBoundingBox()
cells = [tuple(box[0][i] + (box[1][i] - box[0][i]) * n // 10 for i in range(3)) for n in range(11)]
print(json.dumps({"name": g.name, "at": [g.transform.indexToWorld(c) for c in cells],
                  "values": [a.getValue(c) for c in cells]}))
"""


def test_from_a_mesh_to_a_wind_around_it_to_files(page, address, tmp_path):
    float_mesh = trimesh.creation.icosphere(3, 0.5)
    float_mesh.export(tmp_path / "glass_float.obj")
    key = new_study(page, address)

    page.get_by_test_id("mesh-file").set_input_files(tmp_path / "glass_float.obj")
    expect(page.get_by_test_id("shape-glass_float")).to_be_visible()
    page.get_by_test_id("add-region").click()
    expect(page.get_by_test_id("region-cost")).to_contain_text("30 × 30 × 30")
    put(page, "voxel_size", "20 cm / 2")
    put(page, "padding", "1.2")
    expect(page.get_by_test_id("region-cost")).to_contain_text("34 × 34 × 34")
    put(page, "voxel_size", "0.0001")
    expect(page.get_by_test_id("region-error")).to_contain_text("would fit")
    page.get_by_test_id("undo").click()
    expect(page.get_by_test_id("region-cost")).to_contain_text("34 × 34 × 34")

    empty = pixels(page)
    add_field(page)
    add_step(page, "field", "wind")
    expect(page.get_by_test_id("inspector-title")).to_have_text("Wind")
    expect(page.get_by_test_id("reading-range")).to_contain_text("1.5 … 1.5 m/s")
    barbs = redrawn(page, empty, 0.05)

    add_field(page)
    add_step(page, "field_2", "curl_noise")
    put(page, "strength", "0.5")
    page.get_by_test_id("step-field-wind").click()
    add_step(page, "field", "add")
    add_step(page, "field", "steer_around")
    put(page, "reach", "0.4")
    expect(page.get_by_test_id("reading-divergence")).to_have_class("num good")
    steered = redrawn(page, barbs, 0.05)
    page.keyboard.down("b")
    before_the_step = redrawn(page, steered, 0.001)
    page.keyboard.up("b")
    redrawn(page, before_the_step, 0.001)

    page.get_by_test_id("add-shape").click()
    page.get_by_test_id("new-shape-box").click()
    for axis, text in enumerate(("10 cm", "1", "1")):
        put(page, f"size-{axis}", text)
    for axis, text in enumerate(("-1.4", "0", "0")):
        put(page, f"move-{axis}", text)
    expect(page.get_by_test_id("number-size-0")).to_have_value("0.1")
    expect(page.get_by_test_id("param-size").get_by_role("alert")).to_have_count(0)
    page.get_by_test_id("new-particles-lane").click()
    add_step(page, "particles", "emit")
    choose(page, "select-where", "volume")
    put(page, "rate", "8000")
    add_step(page, "particles", "carry")
    page.get_by_test_id("clock-end").fill("48")
    page.get_by_test_id("clock-end").press("Enter")
    saved(page)
    still = pixels(page)
    page.get_by_test_id("run").click()
    expect(page.get_by_test_id("run-state")).to_contain_text("48 frames ready", timeout=90_000)
    page.get_by_test_id("play").click()
    expect(page.get_by_test_id("frame")).to_contain_text(re.compile("^03"))
    page.get_by_test_id("play").click()
    assert int(page.get_by_test_id("view").get_attribute("data-particles")) > 500
    redrawn(page, still, 0.004)
    assert not page.locator("[data-testid=finding-inside_shape]").count()

    page.get_by_test_id("step-field-steer_around").click()
    page.get_by_test_id("export").get_by_text("Take away").click()
    choose(page, "bake-field", "field")
    with page.expect_download() as got:
        page.get_by_test_id("bake").click()
    got.value.save_as(tmp_path / "field.vdb")
    with page.expect_download() as got:
        page.get_by_test_id("export-run").click()
    got.value.save_as(tmp_path / "spray.zip")

    made = document(page, address, key)
    (tmp_path / "assets").mkdir()
    float_mesh.export(tmp_path / "assets" / "glass_float.obj")
    plan = plan_of(parse(made), Assets(tmp_path / "assets"))
    time = (int(page.get_by_test_id("frame").inner_text().split("/")[0]) - 1) / 24
    read = subprocess.run(
        ["/usr/bin/python3", "-c", READ_VDB, str(tmp_path / "field.vdb")], capture_output=True, text=True, check=True
    )
    vdb = json.loads(read.stdout)
    expected = sample(plan.at(time).lane("field"), np.float32(vdb["at"]))[0]
    assert vdb["name"] == "field"
    assert np.allclose(vdb["values"], expected, atol=2e-3)
    with zipfile.ZipFile(tmp_path / "spray.zip") as archive:
        names = sorted(n for n in archive.namelist() if n.endswith(".ply"))
        assert len(names) == 48
        cloud = trimesh.load(io.BytesIO(archive.read(names[-1])), file_type="ply")
    assert len(cloud.vertices) > 1000
    data = cloud.metadata["_ply_raw"]["vertex"]["data"]
    assert {"vx", "vy", "vz", "age", "id"} <= set(data.dtype.names)
    assert not float_mesh.contains(cloud.vertices).any(), "no particle is inside the mesh"
    assert np.abs(cloud.vertices).max() < 4


def test_two_windows_conflict_and_a_reload_keeps_undo(page, address, browser):
    key = new_study(page, address)
    add_field(page)
    add_step(page, "field", "wind")
    for speed in ("2", "3", "4 * 2"):
        put(page, "speed", speed)
        saved(page)
    page.reload()
    expect(page.get_by_test_id("undo")).to_have_attribute("aria-label", re.compile("Undo: .* ▸ Speed 3 m/s → 8 m/s"))
    page.get_by_test_id("undo").click()
    expect(page.get_by_test_id("redo")).to_be_enabled()
    assert document(page, address, key)["fields"][0]["steps"][0]["params"]["speed"] == 3
    other = browser.new_context().new_page()
    other.goto(f"{address}/desk/{key}")
    other.get_by_test_id("step-field-wind").click()
    put(other, "climb", "30")
    saved(other)
    page.get_by_test_id("step-field-wind").click()
    put(page, "gust", "0.5")
    expect(page.get_by_test_id("conflict")).to_be_visible()
    page.get_by_test_id("keep-mine").click()
    made = document(page, address, key)
    assert made["fields"][0]["steps"][0]["params"]["gust"] == 0.5
    other.context.close()


def test_a_server_killed_during_a_run_loses_nothing(page, start_server, tmp_path):
    address, server = start_server(home=tmp_path)
    page.goto(f"{address}/desk/harbour_gust")
    page.get_by_test_id("step-wind-a").click()
    put(page, "speed", "1.31")
    saved(page)
    expect(page.get_by_test_id("run-state")).to_contain_text("s left", timeout=90_000)
    server.kill()
    server.wait(20)
    expect(page.get_by_test_id("run-state")).to_contain_text("no connection", timeout=90_000)
    put(page, "climb", "2")
    expect(page.get_by_test_id("save-state")).to_contain_text("trying again")
    start_server(int(address.rsplit(":", 1)[1]), tmp_path)
    expect(page.get_by_test_id("save-state")).to_have_text("saved", timeout=90_000)
    made = document(page, address, "harbour_gust")
    assert made["fields"][2]["steps"][0]["params"]["climb"] == 2
    frames_ready(page, 120)


@pytest.mark.screen("Studies")
def test_studies_are_made_duplicated_deleted_and_brought_back(page, address, tmp_path):
    page.goto(address)
    card = page.get_by_test_id("study-harbour_gust")
    expect(card).to_be_visible()
    expect(card.locator("img")).to_have_js_property("complete", True)
    card.get_by_role("button", name="duplicate").click()
    copy = page.get_by_test_id("study-harbour_gust_copy")
    expect(copy).to_be_visible()
    page.get_by_test_id("delete-harbour_gust_copy").click()
    expect(copy).to_have_count(0)
    page.get_by_test_id("undelete").click()
    expect(copy).to_be_visible()
    page.get_by_test_id("delete-harbour_gust_copy").click()
    (tmp_path / "bad.gust.json").write_text('{"format": "errant-gust-study", "version": 1, "fields": [{"id": "A"}]}')
    page.get_by_test_id("study-file").set_input_files(tmp_path / "bad.gust.json")
    expect(page.get_by_role("alert")).to_contain_text("fields")


def test_an_oversized_or_broken_mesh_says_what_is_wrong(page, address, tmp_path):
    new_study(page, address)
    (tmp_path / "broken.stl").write_bytes(b"solid nothing\nfacet normal")
    page.get_by_test_id("mesh-file").set_input_files(tmp_path / "broken.stl")
    expect(page.get_by_test_id("import-error")).to_contain_text("broken.stl")
