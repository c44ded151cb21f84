"""A lane begins as its kind would have it, in one click, and runs follow what is there."""

from playwright.sync_api import expect

from tests.browser.tools import document, new_study, offered, saved


def test_a_gas_lane_begins_in_one_click_and_runs_by_itself(page, address):
    key = new_study(page, address)
    page.get_by_test_id("new-gas-lane").click()
    begin = page.get_by_test_id("begin-gas")
    expect(begin).to_have_text("begin with Domain › Source › Rise")
    expect(begin).to_be_disabled()
    expect(page.get_by_test_id("lane-gas")).to_contain_text("there is no region yet")
    page.get_by_test_id("run").click()
    expect(page.get_by_test_id("run-state")).to_contain_text("There is no flow to run")
    page.get_by_test_id("add-shape").click()
    page.get_by_test_id("new-shape-sphere").click()
    page.get_by_test_id("add-region").click()
    begin.click()
    saved(page)
    steps = document(page, address, key)["flows"][0]["steps"]
    assert [s["op"] for s in steps] == ["domain", "source", "rise"]
    assert (steps[0]["params"]["region"], steps[1]["params"]["shape"]) == ("region", "sphere")
    # nobody asks again: what was wanted begins as soon as there is something to run
    expect(page.get_by_test_id("run-state")).not_to_contain_text("There is no flow")
    expect(page.get_by_test_id("view")).not_to_have_attribute("data-gas", "0", timeout=90_000)
    expect(page.get_by_test_id("lane-gas")).to_contain_text("voxels")
    # one undo takes the whole beginning back
    page.keyboard.press("Control+z")
    expect(page.get_by_test_id("begin-gas")).to_be_visible()
    assert document(page, address, key)["flows"][0]["steps"] == []


def test_a_flow_that_is_refined_has_to_have_a_volume(page, address):
    new_study(page, address)
    page.get_by_test_id("add-shape").click()
    page.get_by_test_id("new-shape-sphere").click()
    page.get_by_test_id("add-region").click()
    page.get_by_test_id("new-particles-lane").click()
    page.get_by_test_id("new-gas-lane").click()
    page.get_by_test_id("add-gas").click()
    expect(page.get_by_test_id("op-detail")).to_contain_text("there is no other flow that has volume yet")
    for _ in range(10):  # a list that still opens does not hear it
        page.keyboard.press("Escape")
        page.wait_for_timeout(500)
        if not page.get_by_test_id("op-detail").count():
            break
    page.get_by_test_id("new-gas-lane").click()
    page.get_by_test_id("add-gas_2").click()
    page.get_by_test_id("op-detail").click()
    assert offered(page, "select-flow") == ["gas"]
