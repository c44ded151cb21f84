"""Sweeps of the server: told before, begun, seen side by side, failures apart, one taken back."""

import pytest

from errant_gust.server import runs
from errant_gust.server.models import Run
from tests.server.test_api import api, study, wait_for  # noqa: F401

pytestmark = pytest.mark.django_db(transaction=True)
SPEED = {"path": "fields.wind.s0.speed", "values": "1.25:2.75:3"}


def body(study, *vary, **more):  # noqa: F811
    return {"study": study["key"], "flow": "spray", "vary": list(vary or (SPEED,)), **more}


def swept(api, study, *vary, **more):  # noqa: F811
    """A sweep that has come to its end."""
    sweep = api("POST", "/sweeps", body(study, *vary, **more))["sweep"]
    for run in api("GET", f"/sweeps/{sweep}")["runs"]:
        wait_for(api, study["key"], run["identity"], ("done", "failed"), 30)
    return api("GET", f"/sweeps/{sweep}")


def test_what_may_vary_and_what_it_will_be_is_told_and_nothing_begun(api, study):  # noqa: F811
    told = {p["path"]: p for p in api("GET", f"/sweeps/parameters?study={study['key']}&flow=spray")}
    assert told["fields.wind.s0.speed"]["label"] == "wind ▸ Speed"
    assert told["fields.wind.s0.speed"]["now"] == "1 m/s"
    now = api("GET", f"/studies/{study['key']}")
    now["document"]["fields"][0]["steps"][0]["params"]["speed"] = 1.0625  # a version that nothing has measured
    api("PUT", f"/studies/{study['key']}", {"document": now["document"], "base": now["revision"], "label": "speed"})
    said = api("POST", "/sweeps/forecast", body(study))
    assert (said["count"], said["seconds"]) == (3, None)
    assert said["labels"] == ["speed 1.25 m/s", "speed 2 m/s", "speed 2.75 m/s"]
    assert Run.objects.count() == 0
    for vary, words in (
        ({"path": "fields.wind.s0.sped", "values": "1"}, "did you mean 'speed'"),
        ({"path": "fields.wind.s0.speed", "values": "1:2"}, "without a number of values"),
        ({"path": "fields.wind.s0.speed", "values": "0:1:500"}, None),
    ):
        made = api("POST", "/sweeps/forecast", body(study, vary), status=200 if words is None else 422)
        assert words is None or words in made["message"]
    assert api("GET", "/sweeps/none", status=404)["message"].startswith("there is no sweep")


def test_runs_of_a_sweep_are_read_on_one_frame_and_seen_from_one_place(api, study):  # noqa: F811
    sheet = swept(api, study)
    assert [r["values"] for r in sheet["runs"]] == [{"fields.wind.s0.speed": v} for v in (1.25, 2.0, 2.75)]
    assert sheet["frame"] == 6
    told = {"amount": "", "top": "m", "spread": "m", "fastest": "m/s", "mean speed": "m/s", "bunching": "×"}
    assert sheet["units"] == {**told, "leaks": "%"}
    read = api("GET", f"/sweeps/{sheet['sweep']}?lanes=wind")
    assert read["units"]["mean wind"] == "m/s"
    means = [r["readings"]["mean wind"] for r in read["runs"]]
    assert 0 < means[0] < means[1] < means[2] <= 2.75, "a faster wind is faster where the spray is"
    assert {"id": "wind", "name": "wind"} in read["lanes"]
    api("GET", f"/sweeps/{sheet['sweep']}?lanes=none", status=422)
    tops = [r["readings"]["fastest"] for r in sheet["runs"]]
    assert tops == sorted(tops), "a faster wind makes faster spray"
    early = api("GET", f"/sweeps/{sheet['sweep']}?frame=2")["runs"]
    assert early[0]["readings"]["amount"] < sheet["runs"][0]["readings"]["amount"]
    pictures = [
        api("GET", f"/sweeps/{sheet['sweep']}/picture/{r['identity']}?frame=6").content for r in sheet["runs"]
    ]  # fmt: skip
    assert all(p.startswith(b"\x89PNG") for p in pictures)
    assert len(set(pictures)) == 3
    api("GET", f"/sweeps/{sheet['sweep']}/picture/{sheet['runs'][0]['identity']}?frame=60", status=422)
    (row,) = api("GET", f"/sweeps?study={study['key']}")
    assert (row["sweep"], row["count"], row["words"]) == (sheet["sweep"], 3, "speed")
    measured = api("POST", "/sweeps/forecast", body(study, SPEED))
    assert measured["seconds"] > 0
    assert measured["disk"] > 0


def test_one_is_taken_back_and_the_others_stay(api, study):  # noqa: F811
    sheet = swept(api, study)
    chosen = sheet["runs"][2]
    made = api("POST", f"/runs/{chosen['identity']}/put-back")
    assert made["document"]["fields"][0]["steps"][0]["params"]["speed"] == 2.75
    run = api("POST", "/runs", {"study": study["key"], "flow": "spray"})
    assert (run["identity"], run["state"]) == (chosen["identity"], "done"), "it is that run, and there already"
    assert len(api("GET", f"/sweeps/{sheet['sweep']}")["runs"]) == 3


def test_an_edit_does_not_stop_a_sweep(api, study, monkeypatch):  # noqa: F811
    begun = []
    monkeypatch.setattr(runs.engine, "submit", lambda order, *rest: begun.append(order.folder.name))
    sweep = api("POST", "/sweeps", body(study, {**SPEED, "values": "3.1, 3.2, 3.3"}))["sweep"]
    api("POST", "/runs", {"study": study["key"], "flow": "spray"})
    states = [r["state"] for r in api("GET", f"/sweeps/{sweep}")["runs"]]
    assert sorted(states) == ["running", "waiting", "waiting"]
    api("POST", f"/sweeps/{sweep}/stop")
    assert [r["state"] for r in api("GET", f"/sweeps/{sweep}")["runs"]].count("stopped") == 2
    for identity in begun:
        runs._finished(identity, {"state": "stopped", "message": ""})


def test_the_sheet_is_seen_from_any_side(api, study):  # noqa: F811
    sheet = swept(api, study)
    one = sheet["runs"][0]["identity"]
    path = f"/sweeps/{sheet['sweep']}/picture/{one}?frame=6"
    front, same, side = (api("GET", path + more).content for more in ("", "&azimuth=-90&height=0", "&azimuth=0"))
    assert front == same
    assert front != side
    assert side.startswith(b"\x89PNG")


@pytest.mark.slow("three sweeps")
def test_failures_are_kept_apart_and_can_be_tried_again(api, study):  # noqa: F811
    sheet = swept(api, study, {"path": "flows.spray.s0.rate", "values": "500, 1e13"})
    assert [r["state"] for r in sheet["runs"]] == ["done", "failed"]
    assert "right would be" in sheet["runs"][1]["message"]
    assert sheet["runs"][1]["readings"] is None
    before = Run.objects.get(identity=sheet["runs"][0]["identity"]).ended
    api("POST", f"/sweeps/{sheet['sweep']}/again")
    wait_for(api, study["key"], sheet["runs"][1]["identity"], "failed")
    assert Run.objects.get(identity=sheet["runs"][0]["identity"]).ended == before


def test_draws_fill_the_ranges(api, study):  # noqa: F811
    said = api("POST", "/sweeps/forecast", body(study, {**SPEED, "values": "1:2"}, samples=5))
    drawn = sorted(float(words.split()[1]) for words in said["labels"])
    assert len(drawn) == 5
    assert all(1 + n / 5 <= v <= 1 + (n + 1) / 5 for n, v in enumerate(drawn))


def test_a_sweep_does_not_wait_for_previews_of_other_studies(api, study, monkeypatch):  # noqa: F811
    begun = []
    monkeypatch.setattr(runs.engine, "submit", lambda order, *rest: begun.append(order.folder.name))
    other = api("POST", "/studies", {"copy_of": study["key"]})
    now = api("GET", f"/studies/{other['key']}")
    now["document"]["fields"][0]["steps"][0]["params"]["speed"] = 4.125
    api("PUT", f"/studies/{other['key']}", {"document": now["document"], "base": now["revision"], "label": "speed"})
    first = api("POST", "/runs", {"study": other["key"], "flow": "spray"})["identity"]
    asked = []
    monkeypatch.setattr(runs.job, "ask_to_stop", lambda folder: asked.append(folder.name))
    sweep = api("POST", "/sweeps", body(study, {**SPEED, "values": "4.2, 4.3"}))["sweep"]
    assert asked[:1] == [first], "the preview of another study gives way"
    runs._finished(first, {"state": "stopped", "message": ""})
    states = {r["identity"]: r["state"] for r in api("GET", f"/sweeps/{sweep}")["runs"]}
    assert sorted(states.values()) == ["running", "waiting"]
    assert Run.objects.get(identity=first).state == "waiting", "and goes on later"
    api("POST", f"/sweeps/{sweep}/stop")
    for identity in begun:
        runs._finished(identity, {"state": "stopped", "message": ""})
    runs.wait_all(1)
    runs._going.clear()
