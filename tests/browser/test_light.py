"""Known answers for what is drawn, read back from pixels: transmittance, colours of heat, where shadows fall, no fire
clipped to white."""

import io
import json

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import expect

from errant_gust.core.study.building import lane, study
from tests.browser.tools import choose, frames_ready, go_to, new_study, pixels, put, settings

PLAIN = {"curve": "plain", "bloom": 0, "key": 1, "sky": 1, "fill": 1}
ROOM = {"id": "room", "name": "Room", "bounds": {"lower": [-1, -1, 0], "upper": [1, 1, 2]}, "voxel_size": 0.1}


def begin(page, address, made):
    said = page.request.post(
        f"{address}/api/studies",
        data=json.dumps({"document": made}),
        headers={"X-Errant-Gust": "1", "Content-Type": "application/json"},
    )
    key = said.json()["key"]
    page.goto(f"{address}/desk/{key}")
    expect(page.get_by_test_id("score")).to_be_visible()
    return key


def linear(shown):
    """Linear light of what is on the screen, from sRGB."""
    c = shown / 255
    return np.where(c <= 0.04045, c / 12.92, ((c + 0.055) / 1.055) ** 2.4)


def view_from(page, side):
    page.get_by_test_id("views").click()
    page.get_by_test_id("parallel").click()
    expect(page.get_by_test_id("parallel")).to_have_count(0)  # the menu has gone
    page.get_by_test_id("views").click()
    page.get_by_test_id(f"view-{side}").click()
    page.mouse.move(640, 780)


def middle(shown, half=6):
    rows, columns = shown.shape[:2]
    return shown[rows // 2 - half : rows // 2 + half, columns // 2 - half : columns // 2 + half].mean(axis=(0, 1))


def even_gas(density, temperature, look, shapes=()):
    """Gas that is the same everywhere in a box of two metres."""
    source = ("source", {"shape": "all", "how": "set", "density": density, "temperature": temperature})
    everywhere = {"id": "all", "name": "All", "kind": "box", "shown": False, "params": {"size": [6, 6, 6]}}
    return study(
        "Even gas", shapes=[everywhere, *shapes], regions=[ROOM], clock={"fps": 24, "start": 1, "end": 1},
        flows=[{**lane("gas", ("domain", {"region": "room", "follow": False}), source), "name": "Gas", "kind": "gas"}],
        looks={"gas": look, "view-light": PLAIN, "probe": {"hidden": True}},
    )  # fmt: skip


@pytest.mark.parametrize(("density", "absorb"), [(0.5, 0.7), (1.0, 1.0)])
def test_light_through_an_even_box_is_lost_as_beer_and_lambert_say(page, address, density, absorb):
    wall = {
        "id": "wall", "name": "Wall", "kind": "box", "shown": True,
        "params": {"size": [3, 0.1, 3], "move": [0, 1.6, 1]},
    }  # fmt: skip
    look = {"absorb": absorb, "tint": "#000000", "glow": 0}
    made = even_gas(density, 0, look, [wall])
    # what stands in a flow's way is solid
    made["fields"] = [lane("around", ("wind",), ("steer_around", {"shape": "wall"}))]
    begin(page, address, made)
    view_from(page, "front")
    expect(page.get_by_test_id("view")).not_to_have_attribute("data-gas", "0")
    with_gas = middle(linear(pixels(page)))
    page.keyboard.press("3")
    bare = linear(pixels(page))
    without = middle(bare)
    assert without.min() > 0.1, "the wall is lit"
    assert with_gas / without == pytest.approx(np.full(3, np.exp(-density * absorb * 2)), rel=0.03)
    if density < 1:  # once is enough
        contrast_and_edges(page, bare)


def contrast_and_edges(page, bare):
    """Both are in what the Desk shows as the core draws them: see `test_pictures`."""
    settings(page, "light")
    put(page, "look-contrast", "1.5")
    page.mouse.move(640, 780)
    before = middle(bare)
    expected = before * (before.max() / 0.18) ** 0.5
    assert middle(linear(pixels(page))) == pytest.approx(expected, rel=0.04)
    put(page, "look-contrast", "1")
    put(page, "look-edges", "1")
    page.mouse.move(640, 780)
    fallen = linear(pixels(page))
    rows, columns = fallen.shape[:2]
    off = 90
    there = (slice(rows // 2 - 4, rows // 2 + 4), slice(columns // 2 - off - 4, columns // 2 - off + 4))
    share = 4 * off**2 / (rows**2 + columns**2)  # of the way to the corners, squared
    lost = fallen[there].mean(axis=(0, 1)) / bare[there].mean(axis=(0, 1))
    assert lost == pytest.approx(np.full(3, 1 / (1 + share) ** 2), rel=0.04)
    assert lost.max() < 0.97


LOCUS = {1500: (0.5857, 0.3931), 2000: (0.5267, 0.4133), 2856: (0.4476, 0.4074), 6500: (0.3135, 0.3237)}
"""Chromaticity of black bodies in the CIE 1931 diagram."""
TO_SRGB = np.array([[3.2404542, -1.5371385, -0.4985314], [-0.969266, 1.8760108, 0.041556],
                    [0.0556434, -0.2040259, 1.0572252]])  # fmt: skip


def lab(rgb):
    """CIE L*a*b* (D65) of linear sRGB."""
    t = np.linalg.inv(TO_SRGB) @ rgb / np.array([0.95047, 1.0, 1.08883])
    f = np.where(t > 0.008856, np.cbrt(t), 7.787 * t + 16 / 116)
    return np.array([116 * f[1] - 16, 500 * (f[0] - f[1]), 200 * (f[1] - f[2])])


@pytest.mark.parametrize("kelvin", LOCUS)
def test_heat_has_the_colour_of_a_black_body(page, address, kelvin):
    air = 293
    look = {"glow": 0.011, "cold": 0, "hot": kelvin - air, "warm": 1, "absorb": 0.001}
    begin(page, address, even_gas(0.0, kelvin - air, look))
    view_from(page, "front")
    expect(page.get_by_test_id("view")).not_to_have_attribute("data-gas", "0")
    glowing = middle(linear(pixels(page)))
    page.keyboard.press("3")
    seen = glowing - middle(linear(pixels(page)))
    x, y = LOCUS[kelvin]
    right = np.maximum(TO_SRGB @ np.array([x / y, 1, (1 - x - y) / y]), 0)  # what a screen cannot show is cut
    right *= seen.max() / right.max()
    assert 0.4 < seen.max() < 0.95, "neither dark nor clipped"
    assert np.linalg.norm(lab(seen) - lab(right)) <= 2, f"ΔE at {kelvin} K"


def test_the_shadow_on_the_ground_lies_where_the_light_puts_it(page, address):
    """Seen from above: the ball as a disc, its shadow as far from it as its height over the tangent of the light's."""
    ball = {
        "id": "ball", "name": "Ball", "kind": "sphere", "shown": True, "params": {"radius": 0.3, "move": [0, 0, 1.0]},
    }  # fmt: skip
    azimuth, height = 30, 60
    made = study(
        "A shadow", lane("around", ("wind",), ("steer_around", {"shape": "ball"})), shapes=[ball], regions=[ROOM],
        looks={"view-light": {**PLAIN, "azimuth": azimuth, "height": height}, "probe": {"hidden": True}},
    )  # fmt: skip
    begin(page, address, made)
    view_from(page, "top")
    shown = linear(pixels(page)).sum(axis=2)
    page.keyboard.press("4")
    bare = linear(pixels(page)).sum(axis=2)
    inner = np.s_[60:-20, 20:-20]
    brighter, darker = (shown - bare)[inner] > 0.1, (bare - shown)[inner] > 0.02
    assert brighter.sum() > 500
    assert darker.sum() > 300
    scale = np.sqrt(brighter.sum() / np.pi) / 0.3  # pixels a metre, from the disc

    def centre(mask):
        rows, columns = np.nonzero(mask)
        return np.array([columns.mean(), -rows.mean()])

    moved = (centre(darker) - centre(brighter)) / scale
    a = np.radians(azimuth)
    right = -np.array([np.cos(a), np.sin(a)]) / np.tan(np.radians(height))
    # the ball hides a part of its shadow, so that what is seen of it lies a little further out
    assert np.degrees(np.arctan2(*moved[::-1])) == pytest.approx(np.degrees(np.arctan2(*right[::-1])), abs=4)
    assert np.linalg.norm(moved) == pytest.approx(np.linalg.norm(right), abs=0.1)


@pytest.mark.parametrize(("demo", "frame"), [("bench_flash", 40), ("lantern_flare", 40)])
def test_fire_and_sparks_are_not_clipped_to_white(page, address, demo, frame):
    page.goto(f"{address}/desk/{demo}")
    track = page.get_by_role("slider", name="Frame", exact=True)
    expect(track).to_be_visible()
    frames_ready(page, frame)
    go_to(page, (frame - 1) / 59)
    shown = pixels(page)[40:]
    assert ((shown >= 252).all(axis=2)).mean() < 0.01
    # there is a fire: saturated, and bright
    warm = (shown[..., 0] > 180) & (shown[..., 0] > shown[..., 2] + 60)
    assert warm.mean() > 0.004


def test_the_exposure_is_fitted_and_the_key_is_dragged(page, address):
    key = new_study(page, address, "swirls")
    settings(page, "light")
    put(page, "look-exposure", "-4")
    dark = pixels(page)
    page.get_by_test_id("fit-exposure").click()
    expect(page.get_by_test_id("number-look-exposure")).not_to_have_value("-4")
    assert pixels(page).mean() > 1.15 * dark.mean()
    dial = page.get_by_test_id("light-dial").bounding_box()
    page.mouse.click(dial["x"] + 0.85 * dial["width"], dial["y"] + 0.5 * dial["height"])
    expect(page.get_by_test_id("number-look-azimuth")).to_have_value("0")
    choose(page, "look-curve", "plain")
    page.get_by_test_id("undo").click()
    expect(page.get_by_test_id("redo")).to_be_enabled()
    kept = json.loads(page.request.get(f"{address}/api/studies/{key}").text())["document"]["looks"]["view-light"]
    assert kept["azimuth"] == 0
    assert 15 < kept["height"] < 40


def filmed(page, address, key):
    """The one picture of a flipbook as the view shows it."""
    page.get_by_test_id("flip-go").click()
    expect(page.get_by_test_id("flip-still")).to_be_visible(timeout=60_000)
    made = json.loads(page.request.get(f"{address}/api/studies/{key}/flipbooks").text())[0]
    data = page.request.get(f"{address}/api/studies/{key}/flipbooks/{made['id']}/frames/1").body()
    page.request.delete(f"{address}/api/studies/{key}/flipbooks/{made['id']}", headers={"X-Errant-Gust": "1"})
    return np.asarray(Image.open(io.BytesIO(data)).convert("RGB")).astype(int)


def test_pictures_are_without_what_one_works_with_and_one_key_leaves_the_picture_alone(page, address):
    ball = {"id": "ball", "name": "Ball", "kind": "sphere", "shown": True, "params": {"radius": 0.4, "move": [0, 0, 1]}}
    made = study(
        "Alone", lane("around", ("wind",), ("steer_around", {"shape": "ball"})), shapes=[ball], regions=[ROOM],
        clock={"fps": 24, "start": 1, "end": 1},
    )  # fmt: skip
    key = begin(page, address, made)
    pixels(page)
    page.mouse.move(640, 780)
    page.keyboard.press("v")
    for gone in ("score", "inspector", "flipbook"):
        expect(page.get_by_test_id(gone)).to_be_hidden()
    view, bar = page.get_by_test_id("view").bounding_box(), page.get_by_test_id("play").bounding_box()
    assert (view["x"], view["y"], view["width"]) == (0, 0, 1280)
    assert bar["y"] >= view["height"], "the time bar stays below it"
    page.keyboard.press("Escape")
    expect(page.get_by_test_id("score")).to_be_visible()
    page.get_by_test_id("alone").click()
    page.get_by_test_id("leave-alone").click()
    page.get_by_test_id("flipbook").click()
    choose(page, "flip-size", "640x400")
    page.get_by_test_id("flip-words").uncheck()
    without = filmed(page, address, key)
    page.get_by_test_id("flip-tools").check()
    page.get_by_test_id("flip-legend").uncheck()
    with_tools = filmed(page, address, key)
    changed = np.abs(with_tools - without).max(axis=2) > 16
    assert 0.02 < changed.mean() < 0.9, "slice, barbs and the region's box"
    assert len(np.unique(without.reshape(-1, 3), axis=0)) > 200, "the ball and the ground stay"
