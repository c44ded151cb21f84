"""A run that goes is followed until somebody scrubs; cards show what the flow holds; the window is divided by study."""

import numpy as np
from playwright.sync_api import expect

from tests.browser.tools import as_it_is, changed, document, new_study, pixels, saved


def frame_of(page) -> int:
    return int(page.get_by_test_id("frame").inner_text().split()[0])


def test_a_new_flow_runs_by_itself_and_is_followed_until_somebody_scrubs(page, address):
    key = new_study(page, address)
    empty = pixels(page)
    page.get_by_test_id("begin-with-smoke").click()
    box = page.get_by_test_id("clock-end")
    expect(box).to_have_value("84")  # that of the beginning
    box.fill("200")  # long enough to go on while it is looked at
    box.press("Enter")
    # nobody has pressed Run: frames come, and the view goes with them
    page.wait_for_function("() => +document.querySelector('[data-testid=frame]').textContent.split(' ')[0] >= 6")
    expect(page.get_by_test_id("view")).not_to_have_attribute("data-gas", "0")
    smoke = as_it_is(page.get_by_test_id("view"))  # it goes on: there is no rest to wait for
    assert changed(empty, smoke) > 0.01
    bar = page.get_by_role("slider", name="Frame", exact=True)
    bar.focus()
    bar.press("Home")
    bar.press("ArrowRight")
    ready = int(page.get_by_test_id("run-state").inner_text().split()[0])
    page.wait_for_function(
        f"() => +document.querySelector('[data-testid=run-state]').textContent.split(' ')[0] > {ready + 3}"
    )
    assert frame_of(page) == 2, "who scrubs stays where he is"
    for _ in range(30):
        bar.press("ArrowRight")  # to a frame with some smoke

    # cards: the field that pushes, and the flow with the shapes that a step names
    tiles = page.get_by_test_id("lane-smoke").locator("canvas[data-tile]")
    kinds = tiles.evaluate_all("all => all.map((c) => c.dataset.tile)")
    assert kinds.count("field") == 1, "the push shows its turbulence"
    assert kinds.count("flow") == len(document(page, address, key)["flows"][0]["steps"]) - 1

    def pixels_of(n):
        return np.array(
            tiles.nth(n).evaluate("c => Array.from(c.getContext('2d').getImageData(0, 0, 48, 48).data)")
        ).reshape(48, 48, 4)[..., :3]

    domain, source = pixels_of(0), pixels_of(1)
    assert len(np.unique(domain.reshape(-1, 3), axis=0)) > 4, "smoke, and not one colour"
    signal = (np.abs(source - np.array([240, 138, 110])).max(axis=2) < 12).sum()
    assert signal > 6, "the box of the shape that it comes out of"


def test_the_window_is_divided_as_it_was_left(page, address):
    new_study(page, address, "path")
    saved(page)
    short = page.get_by_test_id("inspector").bounding_box()["height"]
    page.get_by_test_id("tall").click()
    tall = page.get_by_test_id("inspector").bounding_box()["height"]
    assert tall > short + 200
    page.reload()
    expect(page.get_by_test_id("tall")).to_have_attribute("aria-pressed", "true")
    assert page.get_by_test_id("inspector").bounding_box()["height"] == tall
