"""WCAG 2.1 A and AA on every screen, by day and by night, found by axe-core in the real pages."""

from pathlib import Path

import pytest
from playwright.sync_api import expect

from tests.browser.tools import new_study, saved

AXE = (Path(__file__).parents[2] / "web/node_modules/axe-core/axe.min.js").read_text()

STILL = """() => {
  const still = document.getAnimations().every(
    a => a.playState !== 'running' || a.effect.getComputedTiming().endTime === Infinity)
  window.stillFor = still ? (window.stillFor ?? 0) + 1 : 0
  return window.stillFor > 12
}"""


def violations(page) -> list[str]:
    """What axe finds wrong, each as rule, place and reason."""
    page.wait_for_timeout(300)
    # a menu that still fades in has other colours than it will have, and may not have begun to
    page.evaluate("window.stillFor = 0")
    page.wait_for_function(STILL, timeout=60_000)
    page.evaluate(AXE)
    found = page.evaluate(
        "axe.run(document, {runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa']})"
        ".then(r => r.violations.flatMap(v => v.nodes.map(n =>"
        " [v.id, n.target.join(' '), n.failureSummary].join(' | '))))"
    )
    return list(found)


@pytest.mark.parametrize("night", [False, True], ids=["day", "night"])
def test_every_screen_keeps_wcag_aa(page, address, night):
    page.goto(address)
    if night:
        page.evaluate("localStorage.setItem('night', '1')")
        page.reload()
    expect(page.get_by_test_id("new-study")).to_be_visible()
    said = {"studies": violations(page)}
    page.goto(f"{address}/handbook")
    expect(page.locator("#field-noise")).to_be_visible()
    said["handbook"] = violations(page)
    new_study(page, address)
    said["blank desk"] = violations(page)
    page.goto(address)
    page.get_by_test_id("demo-harbour_gust").click()
    page.wait_for_url("**/desk/*")
    saved(page)
    expect(page.get_by_test_id("legend")).to_be_visible()
    said["desk"] = violations(page)
    page.locator("[data-testid^=step-]").first.click()
    expect(page.get_by_test_id("big-swatch")).to_be_visible()
    said["inspector"] = violations(page)
    for name, key in {"search": "/", "keys": "?", "history": "h", "add step": "a"}.items():
        page.keyboard.press(key)
        said[name] = violations(page)
        page.keyboard.press("Escape")
        page.wait_for_timeout(300)
    page.goto(f"{address}/compare/harbour_gust")
    expect(page.get_by_test_id("compare-frame")).to_be_visible()
    said["compare"] = violations(page)
    wrong = [f"{screen}: {v}" for screen, found in said.items() for v in found]
    assert not wrong, "\n".join(wrong)
