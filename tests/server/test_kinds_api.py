"""A toy kind over HTTP: listed, run, its frames looked at by their forms, its costs and findings told."""

import numpy as np
import pytest

from errant_gust.core.runs.frame_store import RunStore
from errant_gust.server import runs
from tests.core.test_kinds import marbles, study  # noqa: F401  (a fixture)
from tests.server.test_api import api, unpack, wait_for  # noqa: F401  (api is a fixture)

pytestmark = pytest.mark.django_db(transaction=True)


def test_a_toy_kind_is_run_and_looked_at_by_the_forms_of_its_results(api, marbles):  # noqa: F811
    entry = next(k for k in api("GET", "/catalogue")["kinds"] if k["id"] == "marbles")
    assert entry["results"][1] == {
        "name": "hull", "label": "hull", "form": "mesh", "from_study": False, "aside": False,
        "formats": ["ply", "obj", "usd", "stl", "npz"],
    }  # fmt: skip
    assert {"points", "mesh"} == set(entry["looks"])
    made = api("POST", "/studies", {"document": study()})
    key, doc = made["key"], made["document"]
    run = api("POST", "/runs", {"study": key, "flow": "m"})
    assert run["kind"] == "marbles"
    wait_for(api, key, run["identity"])
    stored = RunStore(runs.folder_of(run["identity"])).read(4)
    head, arrays = unpack(api("GET", f"/runs/{run['identity']}/frames/4/marbles?channel=age"))
    assert (head["form"], head["count"], head["names"]) == ("points", 4, ["age", "number"])
    low, high = np.array(head["lower"]), np.array(head["upper"])
    np.testing.assert_allclose(low + arrays["position"] / 65535 * (high - low), stored["position"], atol=1e-4)
    head, arrays = unpack(api("GET", f"/runs/{run['identity']}/frames/4/hull"))
    assert (head["form"], head["count"]) == ("mesh", 12)
    np.testing.assert_array_equal(arrays["vertices"], stored["hull.vertices"])
    numbers = api("GET", f"/runs/{run['identity']}/frames/4/marbles/numbers?channel=age")
    assert numbers["mean"] == pytest.approx(3 / 24)
    cost = api("POST", "/look/estimate", {"study": key, "document": doc, "quality": "full"})["m"]
    assert (cost["unit"], cost["frames"]) == ("marbles", 4)
    assert "marbles roll" in [f["what"] for f in api("POST", "/look/checks", {"study": key, "document": doc})]


@pytest.mark.parametrize(
    ("path", "words"),
    [
        ("frames/4/volume", "no result 'volume'"),
        ("frames/4/marbles?channel=mood", "no channel 'mood'"),
        ("frames/99/hull", "frame 99 is not there"),
        ("export?what=smoke", "no result 'smoke'"),
        ("export?what=hull&format=csv", "'csv' is not a format for hull"),
    ],
)
def test_what_a_kind_does_not_offer_is_said(api, marbles, path, words):  # noqa: F811
    made = api("POST", "/studies", {"document": study()})
    run = api("POST", "/runs", {"study": made["key"], "flow": "m"})
    wait_for(api, made["key"], run["identity"])
    assert words in api("GET", f"/runs/{run['identity']}/{path}", status=422)["message"]


def test_lines_are_asked_for_with_the_document(api, marbles):  # noqa: F811
    doc = study()
    flow = {"id": "p", "name": "P", "kind": "particles", "steps": [
        {"id": "a", "op": "emit", "params": {"shape": "ball", "rate": 500}},
        {"id": "b", "op": "gravity", "params": {}}]}  # fmt: skip
    made = api("POST", "/studies", {"document": {**doc, "flows": [*doc["flows"], flow]}})
    run = api("POST", "/runs", {"study": made["key"], "flow": "p"})
    wait_for(api, made["key"], run["identity"])
    said = api("GET", f"/runs/{run['identity']}/frames/4/lines", status=422)["message"]
    assert "drawn from the study" in said
    assert (
        "the lane draws no lines"
        in api("GET", f"/runs/{run['identity']}/export?what=lines&format=npz", status=422)["what"]
    )
