"""WCAG 2.1 A and AA on every screen, by day and by night, found by axe-core in the real pages."""

from pathlib import Path

from playwright.sync_api import expect

from tests.browser.tools import new_study, saved, settings

AXE = (Path(__file__).parents[2] / "web/node_modules/axe-core/axe.min.js").read_text()

STILL = """() => {
  const still = document.getAnimations().every(
    a => a.playState !== 'running' || a.effect.getComputedTiming().endTime === Infinity)
  window.stillFor = still ? (window.stillFor ?? 0) + 1 : 0
  return window.stillFor > 12
}"""


BY_NIGHT = """(on) => { const [from, to] = on ? ['paper', 'night'] : ['night', 'paper']
  for (const e of document.querySelectorAll(`.v-theme--${from}`)) {
    e.classList.remove(`v-theme--${from}`)
    e.classList.add(`v-theme--${to}`)
  } }"""
"""What the button for day and night does to what is there, without closing what is open."""


def violations(page) -> list[str]:
    """What axe finds wrong by day, and in the colours of the night, each as rule, place and reason."""
    page.wait_for_timeout(300)
    # a menu that still fades in has other colours than it will have, and may not have begun to
    page.evaluate("window.stillFor = 0")
    page.wait_for_function(STILL, timeout=90_000)
    page.evaluate(AXE)
    found = faults(page, "'wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa'")
    page.evaluate(BY_NIGHT, True)
    page.evaluate("window.stillFor = 0")
    page.wait_for_function(STILL, timeout=90_000)
    assert page.locator(".v-theme--night").count()
    found += [f"by night: {v}" for v in faults(page, "'color-contrast'")]
    page.evaluate(BY_NIGHT, False)
    return found


def faults(page, rules: str) -> list[str]:
    return list(
        page.evaluate(
            f"axe.run(document, {{runOnly: [{rules}]}}).then(r => r.violations.flatMap(v => v.nodes.map(n =>"
            " [v.id, n.target.join(' '), n.failureSummary].join(' | '))))"
        )
    )


def test_every_screen_keeps_wcag_aa_by_day_and_by_night(page, address):
    page.goto(address)
    expect(page.get_by_test_id("new-study")).to_be_visible()
    said = {"studies": violations(page)}
    page.get_by_test_id("new-study").click()
    expect(page.get_by_test_id("begin-growth")).to_be_visible()
    said["beginnings"] = violations(page)
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
    for thing in ("probe", "light"):
        settings(page, thing)
        said[f"settings of {thing}"] = violations(page)
    page.get_by_test_id("settings-light").click()
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
    page.evaluate("localStorage.setItem('night', '1')")  # as it is when it is opened by night
    page.goto(f"{address}/desk/harbour_gust")
    expect(page.get_by_test_id("legend")).to_be_visible()
    page.evaluate(AXE)
    said["desk at night"] = faults(page, "'color-contrast'")
    wrong = [f"{screen}: {v}" for screen, found in said.items() for v in found]
    assert not wrong, "\n".join(wrong)


def test_a_session_by_keyboard_alone_with_the_help_texts_read(page, address):
    """From the studies to a changed, undone and seen parameter without the mouse; what each thing does is told."""
    page.goto(address)
    page.get_by_test_id("new-study").focus()
    page.keyboard.press("Enter")
    page.get_by_test_id("begin-swirls").focus()
    page.keyboard.press("Enter")
    page.wait_for_url("**/desk/*")
    expect(page.get_by_test_id("score")).to_be_visible()
    page.keyboard.press("ArrowUp")
    page.keyboard.press("[")
    expect(page.get_by_test_id("inspector-title")).to_have_text("Curl noise")

    # the help of a parameter: by its name, and described to who listens
    name = page.get_by_test_id("help-feature_size")
    name.focus()
    page.keyboard.press("Shift+Tab")
    page.keyboard.press("Tab")
    told = page.locator(".v-tooltip .v-overlay__content")
    expect(told).to_contain_text("Default")
    box = page.get_by_test_id("number-feature_size")
    described = box.get_attribute("aria-describedby")
    assert page.locator(f"#{described}").inner_text() == told.inner_text()
    page.keyboard.press("Escape")
    expect(told).to_have_count(0)

    # what is wrong is told where it happened
    box.focus()
    page.keyboard.type("-2")
    page.keyboard.press("Enter")
    expect(box).to_have_attribute("aria-invalid", "true")
    assert "more than" in page.locator(f"#{box.get_attribute('aria-describedby').split()[0]}").inner_text()
    box.focus()
    page.keyboard.press("Control+A")
    page.keyboard.type("40 cm")
    page.keyboard.press("Enter")
    expect(box).to_have_value("0.4")
    expect(page.get_by_test_id("undo")).to_have_attribute(
        "aria-label", "Undo: Swirls ▸ Curl noise ▸ Feature size 0.8 m → 0.4 m"
    )
    page.get_by_test_id("step-swirls-s0").focus()
    page.keyboard.press("Control+Z")
    expect(box).to_have_value("0.8")

    # a select, the time bar, the height of the score
    pick = page.get_by_test_id("select-basis").locator("input[role=combobox]")
    pick.focus()
    page.keyboard.press("ArrowDown")
    expect(page.locator('.v-overlay--active [data-option="simplex"]')).to_be_visible()
    page.wait_for_timeout(600)  # the list takes the focus once it has opened
    for _ in range(8):
        if page.evaluate("document.activeElement.dataset.option") == "simplex":
            break
        page.keyboard.press("ArrowDown")
        page.wait_for_timeout(150)
    page.keyboard.press("Enter")
    expect(page.get_by_test_id("select-basis")).to_have_attribute("data-value", "simplex")
    bar = page.get_by_role("slider", name="Frame", exact=True)
    bar.focus()
    page.keyboard.press("Home")
    page.keyboard.press("PageUp")
    expect(bar).to_have_attribute("aria-valuenow", "11")
    grip = page.get_by_test_id("score-grip")
    before = int(grip.get_attribute("aria-valuenow"))
    grip.focus()
    page.keyboard.press("ArrowUp")
    expect(grip).to_have_attribute("aria-valuenow", str(before + 24))

    # single letters can be switched off, and stay so
    page.get_by_test_id("step-swirls-s0").focus()
    page.keyboard.press("2")
    shown = page.get_by_test_id("draws-slice").get_attribute("aria-pressed")
    page.keyboard.press("?")
    page.get_by_test_id("letters").focus()
    page.keyboard.press("Space")
    page.keyboard.press("Escape")
    expect(page.get_by_test_id("letters")).to_have_count(0)
    page.get_by_test_id("step-swirls-s0").focus()
    page.keyboard.press("2")
    page.wait_for_timeout(300)
    assert page.get_by_test_id("draws-slice").get_attribute("aria-pressed") == shown
    page.evaluate("localStorage.removeItem('no-letters')")
