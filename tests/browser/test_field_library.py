"""The field library in the real interface: solved flows, outlines, formulas, paths, checks with fixes."""

import pytest
import trimesh
from playwright.sync_api import expect

from tests.browser.tools import add_field, add_step, choose, document, new_study, pixels, put, redrawn, saved, settings


def test_a_potential_flow_around_an_imported_mesh_is_solved_and_shown(page, address, tmp_path):
    trimesh.creation.icosphere(3, 0.5).export(tmp_path / "bottle.obj")
    key = new_study(page, address)
    page.get_by_test_id("mesh-file").set_input_files(tmp_path / "bottle.obj")
    expect(page.get_by_test_id("shape-bottle")).to_be_visible()  # the region is fitted to it
    page.get_by_test_id("add-region").click()
    add_field(page)
    add_step(page, "field", "potential_flow")
    before = pixels(page)
    page.get_by_test_id("param-obstacles").get_by_text("Bottle").click()
    expect(page.get_by_test_id("reading-solved")).to_contain_text("→")
    redrawn(page, before, 0.01)
    settings(page, "probe")
    choose(page, "place", "box")
    expect(page.get_by_test_id("reading-over")).to_have_text("in the whole region")
    expect(page.get_by_test_id("measuring")).to_have_count(0)  # until then the numbers are those from before
    speed = page.get_by_test_id("reading-range").inner_text()
    low, high = (float(v) for v in speed.removesuffix(" m/s").split(" … "))
    assert low < 0.95, "it is slower before and behind the body"
    assert 1.95 < high < 2.4, "and is half as fast again beside it"
    expect(page.get_by_test_id("reading-bunching")).to_have_class("num good")
    page.get_by_test_id("region-region").click()
    put(page, "turn-2", "30")
    page.get_by_test_id("cells").check()
    saved(page)
    made = document(page, address, key)
    assert made["regions"][0]["turn"] == [0, 0, 30]
    assert made["fields"][0]["steps"][0]["params"]["obstacles"] == ["bottle"]


def test_bad_files_and_formulas_are_refused_in_their_place(page, address, tmp_path):
    new_study(page, address)
    add_field(page)
    add_step(page, "field", "stencil")
    choose(page, "select-source", "file")
    bad = tmp_path / "bad.svg"
    bad.write_text('<svg xmlns="http://www.w3.org/2000/svg"><script>1</script></svg>')
    page.get_by_test_id("file-outline").set_input_files(bad)
    expect(page.get_by_test_id("param-file").get_by_role("alert")).to_contain_text("script")
    good = tmp_path / "kiln.svg"
    good.write_text('<svg xmlns="http://www.w3.org/2000/svg"><rect width="4" height="4"/></svg>')
    page.get_by_test_id("file-outline").set_input_files(good)
    expect(page.get_by_test_id("reading-range")).to_contain_text("0 … 1")
    add_step(page, "field", "formula")
    formula = page.get_by_test_id("text-expression")
    formula.fill("sine(f)")
    formula.press("Enter")
    expect(page.get_by_test_id("lane-field")).to_contain_text("did you mean 'sin'")
    formula.fill("sin(4*x) * f")
    formula.press("Enter")
    expect(page.get_by_test_id("lane-field")).not_to_contain_text("did you mean")


@pytest.mark.screen("Handbook")
def test_the_handbook_has_every_step_and_every_demo(page, address):
    page.goto(f"{address}/handbook")
    steps = page.request.get(f"{address}/api/catalogue").json()["steps"]
    for demo in ("harbour_gust", "flue_embers", "globe_skin", "lagoon_mist"):
        expect(page.get_by_test_id(f"story-{demo}")).to_be_visible()
    text = page.locator("main").inner_text()
    missing = [s["label"] for s in steps if s["label"] not in text]
    assert not missing


def test_parameters_have_figures_in_the_handbook(page, address):
    page.goto(f"{address}/handbook#field-noise")
    figure = page.get_by_test_id("figure-noise-feature_size")
    expect(figure).to_be_visible(timeout=90_000)
    expect(figure).to_contain_text("0.33 m")
    sizes = figure.locator("img").evaluate_all("all => all.map((i) => [i.naturalWidth, i.clientWidth])")
    assert len(sizes) == 3
    assert {natural for natural, _ in sizes} == {64}
    assert len({shown for _, shown in sizes}) == 1, "words of two lines make no picture larger"
    assert len(set(figure.locator("img").evaluate_all("all => all.map((i) => i.src)"))) == 3
