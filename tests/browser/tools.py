"""What browser tests do again and again: open a study, add steps, read the view's pixels."""

import io
import json
from collections.abc import Collection, Iterator
from contextlib import contextmanager

import numpy as np
from PIL import Image
from playwright.sync_api import Locator, Page, expect


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


@contextmanager
def unseen(page: Page) -> Iterator[None]:
    """The window is behind others meanwhile: runs go on and are told of, and nothing is drawn as their frames come."""
    said = (
        "(is) => { Object.defineProperty(document, 'hidden', { configurable: true, get: () => is });"
        " document.dispatchEvent(new Event('visibilitychange')) }"
    )
    page.evaluate(said, True)
    try:
        yield
    finally:
        page.evaluate(said, False)


def frames_ready(page: Page, count: int) -> None:
    """Wait, away from the window, until so many frames of the flow are told to be there."""
    with unseen(page):
        page.wait_for_function(
            f"() => parseInt(document.querySelector('[data-testid=run-state]').textContent) >= {count}", timeout=300_000
        )


def runs_to(page: Page, frame: int) -> None:
    """Press Run and wait, away from the window, until the preview has so many frames."""
    with page.expect_response(lambda r: r.url.endswith("/api/runs") and r.request.method == "POST"):
        page.get_by_test_id("run").click()
    page.wait_for_timeout(300)  # what is told from here on is of the run that was asked for
    frames_ready(page, frame)
    expect(page.get_by_test_id("run-state")).to_contain_text(f"{frame} frames ready")


def finished(page: Page, address: str, key: str, quality: str, last: int, but: Collection[str] = ()) -> str:
    """The newest run of a quality that is not among those known, when it has ended on its last frame."""
    with unseen(page):
        for _ in range(300):
            runs = json.loads(page.request.get(f"{address}/api/runs?study={key}").text())
            found = next((r for r in runs if r["quality"] == quality and r["identity"] not in but), None)
            if found and found["state"] not in ("waiting", "running", "stopped"):
                assert (found["state"], found["frames"][-1]) == ("done", last), found["message"]
                return str(found["identity"])
            page.wait_for_timeout(1000)
    raise AssertionError("no run has ended")


def go_to(page: Page, share: float) -> None:
    """Click on the time bar."""
    track = page.get_by_role("slider", name="Frame", exact=True).bounding_box()
    page.mouse.click(track["x"] + share * track["width"], track["y"] + 5)


AT_REST = """() => document.documentElement.dataset.rest !== undefined && document.getAnimations().every(
  (a) => a.playState !== 'running' || a.effect.getComputedTiming().endTime === Infinity)"""


DRAWN = """() => { for (const canvas of document.querySelectorAll('[data-drawn] canvas')) {
  const gl = canvas.getContext('webgl2')
  gl?.readPixels(0, 0, 1, 1, gl.RGBA, gl.UNSIGNED_BYTE, new Uint8Array(4))
} }"""
"""Ask for a pixel: all that was ordered of a graphics card that software plays has been drawn when it is told."""
TURN = "() => document.documentElement.dataset.rest"
"""How often it has come to rest so far; undefined while something is on its way."""


def at_rest(page: Page, most: int = 90_000) -> None:
    """Wait, so many milliseconds at most, until nothing is on its way to the screen any more. What was done just before
    has begun by then: watchers run within a frame."""
    page.evaluate("() => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)))")
    page.wait_for_function(AT_REST, timeout=most)


def picture_of(page: Page, place: Locator) -> np.ndarray:
    """A place as it is on the screen while nothing is on its way there, (rows, columns, 3)."""
    for _ in range(60):
        at_rest(page)
        turn = page.evaluate(TURN)
        page.evaluate(DRAWN)
        found = as_it_is(place)
        if page.evaluate(TURN) == turn:  # else something came while it was taken: a coarse picture, say
            return found
    raise AssertionError("the page does not come to rest")


def as_it_is(place: Locator) -> np.ndarray:
    """A place as it is on the screen now, whatever is still to come."""
    return np.asarray(Image.open(io.BytesIO(place.screenshot())).convert("RGB")).astype(int)


def pixels(page: Page) -> np.ndarray:
    """The 3D view, (rows, columns, 3)."""
    return picture_of(page, page.get_by_test_id("view"))


def without_flows(page: Page) -> np.ndarray:
    """The view without what flows hold."""
    page.get_by_test_id("draws-flows").click()
    found = pixels(page)
    page.get_by_test_id("draws-flows").click()
    return found


def changed(a: np.ndarray, b: np.ndarray) -> float:
    """Share of pixels that differ visibly."""
    return float((np.abs(a - b).max(axis=2) > 24).mean())


def redrawn(page: Page, before: np.ndarray, share: float) -> np.ndarray:
    """The view at rest once more than `share` of its pixels differ from `before`; what somebody else does (a run that
    goes on and is not followed) may take until it is seen: a minute at most."""
    for _ in range(120):
        now = pixels(page)
        if changed(before, now) > share:
            return now
        page.wait_for_timeout(500)
    raise AssertionError(f"only {changed(before, now):.4f} of the pixels have changed")


def document(page: Page, address: str, key: str) -> dict:
    saved(page)
    return json.loads(page.request.get(f"{address}/api/studies/{key}").text())["document"]
