"""Runs and sweeps as a user has them: six seeds side by side, one taken back; what changed; deleted and undone."""

import json
import re

import pytest
from playwright.sync_api import expect

from tests.browser.test_hands import BALL, ROOM, opened
from tests.browser.tools import choose, document, find
from tests.studies import lane

SWIRL = {**lane("v", ("curl_noise", {"feature_size": 0.6, "strength": 1.5})), "name": "Swirl"}
FLOW = {
    **lane("dust", ("emit", {"shape": "ball", "where": "volume", "timing": "all at once", "count": 3000, "life": 9.0}),
           ("carry", {"field": "v"})),
    "name": "Dust", "kind": "particles",
}  # fmt: skip


def shelf(page, address, key):
    return json.loads(page.request.get(f"{address}/api/shelf?study={key}").text())["runs"]


@pytest.mark.screen("Sweep")
def test_six_seeds_sorted_by_a_reading_and_one_taken_back(page, address):
    key = opened(
        page, address, SWIRL, shapes=[BALL], regions=[ROOM], flows=[FLOW], clock={"fps": 24, "start": 1, "end": 12}
    )
    page.get_by_test_id("open-runs").click()
    page.get_by_test_id("open-sweep").click()
    find(page, "vary-path-0", "Swirl ▸ Seed", "fields.v.s0.seed")
    page.get_by_test_id("vary-values-0").fill("1, 2, 3, 4, 5, 6")
    expect(page.get_by_test_id("sweep-forecast")).to_contain_text("6 runs")
    page.get_by_test_id("vary-values-0").fill("1, 2, 3, 4, 5, 6:")
    page.get_by_test_id("vary-values-0").fill("1, 2, 3, 4, 5, 6")
    page.get_by_test_id("sweep-go").click()
    page.wait_for_url("**/sweep/*")
    expect(page.get_by_test_id("sweep-state")).to_have_text("6 of 6 all there", timeout=90_000)
    tiles = page.locator("[data-testid^=tile-]")
    expect(tiles).to_have_count(6)
    assert tiles.evaluate_all("all => all.map((t) => t.dataset.name)") == [f"seed {n}" for n in range(1, 7)]

    choose(page, "sweep-sort", "spread")
    sweep = page.url.rsplit("/", 1)[-1]
    runs = json.loads(page.request.get(f"{address}/api/sweeps/{sweep}").text())["runs"]
    wanted = [r["name"] for r in sorted(runs, key=lambda r: -r["readings"]["spread"])]
    assert wanted != [r["name"] for r in runs]
    expect(tiles.first).to_have_attribute("data-name", wanted[0])
    assert tiles.evaluate_all("all => all.map((t) => t.dataset.name)") == wanted
    expect(page.get_by_test_id("plot").locator("circle")).to_have_count(6)
    loaded = "all => all.every((i) => i.complete && i.naturalWidth === 240)"
    page.wait_for_function(f"() => ({loaded})([...document.querySelectorAll('[data-testid=sheet] img')])")
    sees = "(all) => all.map((i) => i.getAttribute('src'))"
    pictures = page.get_by_test_id("sheet").locator("img")
    desk = pictures.evaluate_all(sees)
    assert page.get_by_test_id("sweep-side").get_attribute("data-value") == "desk", "from where the Desk looked"
    choose(page, "sweep-side", "above")
    above = pictures.evaluate_all(sees)
    assert all("height=90" in s for s in above)
    assert page.request.get(address + above[0]).body() != page.request.get(address + desk[0]).body()
    choose(page, "sweep-lane", "v")
    expect(page.get_by_test_id("sweep-sort")).to_have_attribute("data-value", "mean v")
    expect(tiles.first).to_contain_text("mean v")
    read = json.loads(page.request.get(f"{address}/api/sweeps/{sweep}?lanes=v").text())["runs"]
    fastest = max(read, key=lambda r: r["readings"]["mean v"])
    expect(tiles.first).to_have_attribute("data-name", fastest["name"])

    page.get_by_test_id("sweep-filter").locator("input").or_(page.get_by_test_id("sweep-filter")).last.fill("seed 5")
    expect(tiles).to_have_count(1)

    best = next(r for r in runs if r["name"] == "seed 5")
    page.get_by_test_id(f"take-{best['identity']}").click()
    page.get_by_test_id("to-desk-taken").click()
    page.wait_for_url("**/desk/*")
    assert document(page, address, key)["fields"][0]["steps"][0]["params"]["seed"] == 5
    expect(page.get_by_test_id("undo")).to_have_attribute("aria-label", "Undo: Put back the version of seed 5")


@pytest.mark.screen("Runs")
def test_runs_are_told_apart_deleted_and_brought_back(page, address):
    key = opened(
        page, address, SWIRL, shapes=[BALL], regions=[ROOM], flows=[FLOW], clock={"fps": 24, "start": 1, "end": 6}
    )
    for size in (0.6, 0.3):
        now = json.loads(page.request.get(f"{address}/api/studies/{key}").text())
        now["document"]["fields"][0]["steps"][0]["params"]["feature_size"] = size
        headers = {"X-Errant-Gust": "1"}
        body = {"document": now["document"], "base": now["revision"], "label": "size"}
        page.request.put(f"{address}/api/studies/{key}", headers=headers, data=body)
        body = {"study": key, "flow": "dust", "quality": "full"}
        run = json.loads(page.request.post(f"{address}/api/runs", headers=headers, data=body).text())
        for _ in range(200):
            found = {r["identity"]: r["state"] for r in shelf(page, address, key)}
            if found[run["identity"]] == "done":
                break
            page.wait_for_timeout(100)
    page.goto(f"{address}/runs/{key}")
    page.get_by_test_id(f"more-{run['identity']}").click()
    expect(page.get_by_test_id("act-move")).to_have_count(0)  # there is no cluster
    page.get_by_test_id("act-log").click()
    expect(page.get_by_test_id("log-dialog")).to_contain_text("takes it up, to frame 6")
    expect(page.get_by_test_id("log-dialog").locator("li").last).to_contain_text("done")
    page.keyboard.press("Escape")
    expect(page.get_by_test_id("log-dialog")).to_have_count(0)
    expect(page.get_by_test_id(f"memory-{run['identity']}")).to_contain_text("≤ ")
    full = [r["identity"] for r in shelf(page, address, key) if r["quality"] == "full"]
    expect(page.get_by_test_id(f"changes-{full[0]}")).to_contain_text("Swirl ▸ Curl noise ▸ Feature size 0.6 m → 0.3 m")

    name = page.get_by_test_id(f"name-{full[0]}")
    name.fill("finer")
    name.press("Enter")
    page.get_by_test_id(f"pin-{full[0]}").click()
    expect(page.get_by_test_id(f"pin-{full[0]}")).to_have_attribute("aria-pressed", "true")
    for identity in full[:2]:
        page.get_by_test_id(f"pick-{identity}").click()
    page.get_by_test_id("diff-runs").click()
    expect(page.get_by_test_id("diff-dialog")).to_contain_text("Feature size 0.6 m → 0.3 m")
    page.wait_for_timeout(400)  # it is still coming in
    page.get_by_test_id("diff-dialog").press("Escape")
    expect(page.get_by_test_id("diff-dialog")).to_have_count(0)
    page.get_by_test_id("compare-runs").click()
    page.wait_for_url("**/compare/*")
    expect(page.get_by_test_id("pane-1")).to_be_visible()
    page.goto(f"{address}/runs/{key}")

    page.get_by_test_id(f"more-{full[1]}").click()
    page.get_by_test_id("act-delete").click()
    expect(page.get_by_test_id(f"run-{full[1]}")).to_have_count(0)
    page.get_by_test_id("undelete").click()
    expect(page.get_by_test_id(f"run-{full[1]}")).to_be_visible()

    page.get_by_test_id("open-free").click()
    expect(page.get_by_test_id("free-dialog")).to_contain_text(
        re.compile(r"\d+ runs? that nobody pinned|\d+ runs that")
    )
    page.get_by_test_id("free-go").click()
    expect(page.get_by_test_id(f"run-{full[1]}")).to_have_count(0)
    expect(page.get_by_test_id(f"run-{full[0]}")).to_be_visible()
    left = shelf(page, address, key)
    assert {r["identity"] for r in left if r["quality"] == "full"} == {full[0]}
    assert next(r for r in left if r["identity"] == full[0])["name"] == "finer"
