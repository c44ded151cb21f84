"""What browser tests do again and again: open a study, add steps, read the view's pixels."""

import io
import json

import numpy as np
from PIL import Image
from playwright.sync_api import Page, expect


def new_study(page: Page, address: str, begin: str = "blank") -> str:
    page.goto(address)
    page.get_by_test_id("new-study").click()
    page.get_by_test_id(f"begin-{begin}").click()
    page.wait_for_url("**/desk/*")
    expect(page.get_by_test_id("score")).to_be_visible()
    return page.url.rsplit("/", 1)[-1]


def add_step(page: Page, lane: str, op: str) -> None:
    expect(page.get_by_test_id("find-step")).to_have_count(0)  # that of the step before has gone
    page.get_by_test_id(f"add-{lane}").click()
    page.get_by_test_id(f"op-{op}").click()


def add_field(page: Page) -> None:
    page.get_by_test_id("new-field-lane").click()


def put(page: Page, name: str, text: str) -> None:
    """Type into a number field of the inspector."""
    box = page.get_by_test_id(f"number-{name}")
    box.fill(text)
    box.press("Enter")


def choose(page: Page, name: str, value: str) -> None:
    """Take one of what a select offers, by its id."""
    page.get_by_test_id(name).click()
    page.locator(f'.v-overlay--active [data-option="{value}"]').click()
    chosen(page, name, value)


def find(page: Page, name: str, text: str, value: str) -> None:
    """Take one of many by typing a part of its name."""
    page.get_by_test_id(name).locator("input").fill(text)
    page.locator(f'.v-overlay--active [data-option="{value}"]').click()
    chosen(page, name, value)


def chosen(page: Page, name: str, value: str) -> None:
    expect(page.get_by_test_id(name)).to_have_attribute("data-value", value)


def offered(page: Page, name: str) -> list[str]:
    """Ids of what a select offers."""
    page.get_by_test_id(name).click()
    rows = page.locator(".v-overlay--active [data-option]")
    expect(rows.first).to_be_visible()
    found = rows.evaluate_all("all => all.map((o) => o.dataset.option)")
    page.keyboard.press("Escape")
    return [id for id in found if id]


def slide(page: Page, name: str, share: float) -> None:
    """Take a slider to a share of its way."""
    box = page.get_by_test_id(name).locator(".v-slider-track").bounding_box()
    page.mouse.click(box["x"] + min(share, 0.997) * box["width"], box["y"] + box["height"] / 2)


def settings(page: Page, thing: str) -> None:
    """Open the settings of what the view draws."""
    if page.get_by_test_id(f"settings-{thing}").get_attribute("aria-expanded") != "true":
        page.get_by_test_id(f"settings-{thing}").click()
    expect(page.get_by_test_id("view-settings")).to_be_visible()


def saved(page: Page) -> None:
    expect(page.get_by_test_id("save-state")).to_have_text("saved")


def pixels(page: Page) -> np.ndarray:
    """The 3D view as it is on the screen, (rows, columns, 3)."""
    page.wait_for_timeout(400)
    return np.asarray(Image.open(io.BytesIO(page.get_by_test_id("view").screenshot())).convert("RGB")).astype(int)


def changed(a: np.ndarray, b: np.ndarray) -> float:
    """Share of pixels that differ visibly."""
    return float((np.abs(a - b).max(axis=2) > 24).mean())


def redrawn(page: Page, before: np.ndarray, share: float, *, still: bool = True) -> np.ndarray:
    """The view once more than `share` of its pixels differ from `before` and it stands still (where that is waited for,
    and it does); fails after forty seconds without a change."""
    last = None
    for _ in range(80):
        now = pixels(page)
        if last is not None and changed(last, now) == 0:
            return now
        last = now if changed(before, now) > share else None
        if last is not None and not still:
            return last
    if last is not None:
        return last
    raise AssertionError(f"only {changed(before, now):.4f} of the pixels have changed")


def document(page: Page, address: str, key: str) -> dict:
    saved(page)
    return json.loads(page.request.get(f"{address}/api/studies/{key}").text())["document"]
