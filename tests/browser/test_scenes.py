"""A scene of others comes in: asked which way is up, it stands right, moves, and its camera can be looked through."""

import json

from playwright.sync_api import expect
from pxr import Gf, UsdGeom

from tests.browser.test_hands import opened
from tests.browser.tools import choose, document, pixels, redrawn
from tests.core.test_scenes import obj, usd
from tests.studies import lane

FIELD = {**lane("v", ("wind", {"speed": 1})), "name": "Wind"}


def test_a_moving_prop_with_a_camera_and_a_mesh_that_says_nothing(page, address, tmp_path):
    def camera(stage):
        made = UsdGeom.Camera.Define(stage, "/shot")
        made.AddTranslateOp().Set(Gf.Vec3d(0, 100, 600))
        made.CreateFocusDistanceAttr(600)

    key = opened(page, address, FIELD)
    page.get_by_test_id("scene-file").set_input_files(usd(tmp_path / "prop.usda", last=25, build=camera))
    expect(page.get_by_text("prop.usda: frames 1 to 25; 1 viewpoint")).to_be_visible(timeout=90_000)
    made = document(page, address, key)
    assert made["shapes"][-1]["params"] == {"file": "prop.0001.ply", "sequence": True}
    assert made["looks"]["views"] == [{"name": "shot", "position": [0, -6, 1], "target": [0, 0, 1], "parallel": False}]
    page.get_by_test_id("views").click()
    page.get_by_text("shot", exact=True).click()
    first = pixels(page)
    page.get_by_role("slider", name="Frame", exact=True).press("End")
    expect(page.get_by_test_id("frame")).to_have_text("025 / 25")
    redrawn(page, first, 0.002)  # it went a metre

    canvas = "document.querySelector('[data-testid=view] canvas')"
    page.wait_for_function(
        f"() => {canvas}.width === Math.floor({canvas}.clientWidth / 4)"
    )  # at rest, as the browser of the tests keeps it
    page.get_by_test_id("views").click()
    page.get_by_test_id("pixels-1").click()
    page.wait_for_function(f"() => {canvas}.width === {canvas}.clientWidth")

    page.get_by_test_id("scene-file").set_input_files([obj(tmp_path / "crate.obj"), obj(tmp_path / "lid.obj")])
    expect(page.get_by_text("lid.obj: is no frame of the sequence of crate.obj")).to_be_visible(timeout=90_000)
    page.get_by_test_id("scene-file").set_input_files([obj(tmp_path / f"crate.{n:02d}.obj") for n in (10, 9, 11)])
    expect(page.get_by_test_id("scene-dialog")).to_be_visible(timeout=90_000)
    for up in ("Z", "Y"):
        assert page.get_by_test_id(f"scene-up-{up}").locator("img").evaluate("i => i.naturalWidth") == 240
    page.get_by_test_id("scene-up-Y").click()
    choose(page, "scene-unit", "cm")
    expect(page.get_by_test_id("scene-dialog").locator("h2")).to_have_text("crate.09.obj … crate.11.obj")
    expect(page.get_by_test_id("scene-size")).to_have_text("it is then 0.01 m long")
    page.get_by_test_id("scene-go").click()
    expect(page.get_by_test_id("scene-dialog")).to_have_count(0)
    shape = document(page, address, key)["shapes"][-1]
    assert (shape["name"], shape["params"]) == ("Crate", {"file": "crate.0009.ply", "sequence": True})
    facts = json.loads(page.request.get(f"{address}/api/studies/{key}/files").text())
    assert {"crate.0009.ply", "crate.0011.ply", "prop.0001.ply"} <= {f["name"] for f in facts}
