"""Whatever is asked for at any door: an answer in words, soon, and never a fault of ours."""

import json
import time

import pytest
from django.test import Client

from errant_gust.server import runs
from tests.server.test_api import api, study  # noqa: F401

pytestmark = pytest.mark.django_db(transaction=True)

NAN, INF = float("nan"), float("inf")
STRANGE = [NAN, INF, -INF, 1e300, -1e300, 3e38, 2**70, -5, "x" * 300, None, [], {}, "../../victim", "\ud800", "nan"]


def answer(method, path, body=None):
    """Status and message of an answer, which came within a few seconds."""
    client = Client(headers={"X-Errant-Gust": "1"}, raise_request_exception=False)
    text = json.dumps(body) if body is not None else ""
    began = time.monotonic()
    made = client.generic(method, f"/api{path}", text, content_type="application/json")
    assert time.monotonic() - began < 8, f"{method} {path} {text[:200]} took too long"
    return made


def sound(made, told):
    """It is no fault of ours, says what it is in JSON, and carries the headers of all answers."""
    assert made.status_code < 500, f"{told}: {made.status_code}"
    if made.status_code >= 400:
        assert "json" in made["Content-Type"], f"{told}: {made.content[:200]}"
    assert made["X-Content-Type-Options"] == "nosniff"
    return made


@pytest.mark.parametrize("value", STRANGE, ids=lambda v: repr(v)[:12])
def test_looks_take_what_is_no_number_in_words(api, study, value):  # noqa: F811
    body = {"study": study["key"], "document": study["document"], "lane": "wind"}
    for path, more in [
        ("value", {"point": [value, 0, 0]}), ("value", {"point": [0, 0, 0], "time": value}),
        ("lines", {"seeds": [[value, 0, 0]]}), ("lines", {"seeds": [[0, 0, 0]], "length": value}),
        ("lines", {"seeds": [[0, 0, 0]], "steps": value}),
        ("probe", {"slice": {"origin": [value, 0, 0], "u": [1, 0, 0], "v": [0, value, 0]}}),
        ("probe", {"slice": {"origin": [0, 0, 0], "u": [1, 0, 0], "v": [0, 1, 0], "columns": value}}),
        ("reading", {"plane": {"origin": [0, 0, value], "u": [1, 0, 0], "v": [0, 1, 0]}}),
        ("swatches", {"axis": value}), ("swatches", {"share": value}), ("swatches", {"size": value}),
        ("surface", {"shape": "ball", "count": value}), ("shapes", {"time": value}),
        ("checks", {"run": value, "frame": value}), ("checks", {"frame": value}),
    ]:  # fmt: skip
        sound(answer("POST", f"/look/{path}", {**body, **more}), (path, more))


@pytest.mark.parametrize("value", STRANGE, ids=lambda v: repr(v)[:12])
def test_documents_with_what_is_no_number_are_refused_or_looked_at(api, study, value):  # noqa: F811
    def changed(place):
        document = json.loads(json.dumps(study["document"]))
        at = document
        for step in place[:-1]:
            at = at[step]
        at[place[-1]] = value
        return document

    for place in [
        ("clock", "fps"), ("clock", "end"), ("clock", "slow_motion"), ("shapes", 0, "params"),
        ("fields", 0, "steps", 0, "params", "speed"), ("flows", 0, "steps", 0, "params", "rate"), ("looks",),
        ("name",), ("flows", 0, "id"),
    ]:  # fmt: skip
        document = changed(place)
        made = sound(answer("POST", "/studies", {"document": document}), place)
        if made.status_code == 200:
            assert "NaN" not in json.dumps(json.loads(made.content)["document"])
        for look in ("shapes", "swatches", "checks", "estimate"):
            sound(answer("POST", f"/look/{look}", {"study": study["key"], "document": document}), (look, place))


def test_two_warps_to_the_end_of_numbers_are_looked_at(api, study):  # noqa: F811
    """What ended the process: a place that is no number became an index."""
    document = json.loads(json.dumps(study["document"]))
    far = {"id": "far", "name": "Far", "steps": [{"id": "a", "op": "wind", "params": {"speed": 3e38}}]}
    steps = document["fields"][0]["steps"]
    steps += [{"id": f"w{n}", "op": "warp", "params": {"by": "far", "amount": 3e38}} for n in range(2)]
    document["fields"].append(far)
    document["shapes"].append({"id": "m", "name": "M", "kind": "cylinder", "params": {}})
    for look, more in [
        ("swatches", {}), ("value", {"point": [1, 1, 1]}), ("reading", {}), ("lines", {"seeds": [[0, 0, 0]]}),
        ("probe", {"slice": {"origin": [0, 0, 0], "u": [1, 0, 0], "v": [0, 1, 0]}}), ("checks", {}),
    ]:  # fmt: skip
        body = {"study": study["key"], "document": document, "lane": "wind", **more}
        sound(answer("POST", f"/look/{look}", body), look)


SWEPT = ["nan", "inf", "-inf", "][", "[", "[0 nan 1]", "1:inf:3", "0:1:nan", "1e400", ",".join("1" * 40), "0:1:1e9"]


@pytest.mark.parametrize("values", SWEPT)
def test_values_of_sweeps_that_are_none(api, study, values):  # noqa: F811
    vary = [{"path": "fields.wind.a.speed", "values": values}]
    for path in ("/sweeps/forecast", "/sweeps"):
        made = sound(answer("POST", path, {"study": study["key"], "flow": "spray", "vary": vary}), values)
        assert made.status_code in (404, 405, 422) or values.startswith("1,")


def test_orders_without_end_are_refused_before_anything_is_counted_out(api, study):  # noqa: F811
    vary = [{"path": f"fields.wind.a.speed{n}", "values": ",".join(map(str, range(64)))} for n in range(12)]
    made = sound(answer("POST", "/sweeps", {"study": study["key"], "flow": "spray", "vary": vary}), "2⁷² runs")
    assert made.status_code == 422
    assert f"{64**12:,} runs" in json.loads(made.content)["message"]
    seed = {"study": study["key"], "flow": "spray", "vary": vary[:1], "samples": 4, "seed": -1}
    assert sound(answer("POST", "/sweeps", seed), "seed").status_code == 422
    run = api("POST", "/runs", {"study": study["key"], "flow": "spray"})["identity"]
    runs.wait_all()
    root = api("GET", f"/hand-over?study={study['key']}")["roots"][0]
    for options in ({"first": 1, "last": 10**9}, {"first": -(10**9)}, {"last": 2**70}, {"number": 10**12}):
        order = {"study": study["key"], "items": [{"run": run}], "options": options, "root": root, "name": "endless"}
        for path in ("/hand-over/plan", "/hand-over"):
            assert sound(answer("POST", path, order), options).status_code == 422


def test_frames_runs_and_names_that_are_none(api, study):  # noqa: F811
    run = api("POST", "/runs", {"study": study["key"], "flow": "spray"})["identity"]
    runs.wait_all()
    for path in [
        "/compare?a={r}&b={r}&frame=-5", "/compare?a={r}&b={r}&frame=1e300", "/compare?a=x&b={r}&frame=1",
        "/runs/{r}/frames/1e300/points", "/runs/{r}/frames/-5/points", "/runs/..victim/frames/1/points",
        "/runs/{r}/frames/999999999999/points", "/runs/{r}/halves/-7", "/runs/{r}/picture?frame=99999999999",
        "/hand-over?study=..%2f..", "/studies/" + "x" * 300, "/runs?study=%00", "/runs/{r}/log", "/runs/%00/log",
        "/runs/{r}/frames/1/points?channel=" + "x" * 3000, 
        "/studies/{k}/flipbooks/" + "0" * 12, "/hand-over/download?to=/etc",
        "/runs/{r}/frames/1/points?azimuth=nan&height=inf&absorb=nan",
    ]:  # fmt: skip
        made = sound(answer("GET", path.format(r=run, k=study["key"])), path)
        assert made.status_code != 200 or "log" in path or "azimuth" in path or "/runs?" in path, path


def test_requests_that_another_site_makes_are_refused(api, study):  # noqa: F811
    client = Client(raise_request_exception=False)
    for site in ("cross-site", "same-site"):
        for path in (f"/api/runs?study={study['key']}", "/api/look/examples"):
            made = client.get(path, headers={"Sec-Fetch-Site": site, "Sec-Fetch-Mode": "no-cors"})
            assert made.status_code == 403
            assert made["Content-Security-Policy"]
    for site in ("same-origin", "none"):
        assert client.get("/api/studies", headers={"Sec-Fetch-Site": site}).status_code == 200
    refused = client.post("/api/studies", "{}", content_type="application/json")
    assert refused.status_code == 403
    assert "form-action" in refused["Content-Security-Policy"]
    assert refused["Cross-Origin-Resource-Policy"] == "same-origin"
    assert client.get("/api/studies", headers={"host": "elsewhere.invalid"}).status_code == 400


def test_a_time_beyond_the_clock_is_its_end_also_where_frames_have_to_be_computed(api, study):  # noqa: F811
    document = json.loads(json.dumps(study["document"]))
    bounds = {"lower": [-1, -1, -1], "upper": [1, 1, 1]}
    document["regions"].append({"id": "about", "name": "About", "voxel_size": 0.2, "bounds": bounds})
    spread = {"id": "a", "op": "from_particles", "params": {"flow": "spray", "region": "about", "radius": 0.4}}
    document["fields"].append({"id": "spread", "name": "Spread", "steps": [spread]})
    clock = document["clock"]
    last = (clock["end"] - clock["start"]) / clock["fps"]
    said = []
    for moment in (last, 98_000 / clock["fps"], 1e9):
        body = {"study": study["key"], "document": document, "lane": "spread", "point": [0.4, 0, 0], "time": moment}
        made = sound(answer("POST", "/look/value", body), moment)
        assert made.status_code == 200, made.content
        said.append(json.loads(made.content)["value"])
    assert said[0] == said[1] == said[2]
    assert said[0][0] > 0


def test_who_asks_has_a_name_of_a_length(api, study):  # noqa: F811
    body = {"study": study["key"], "document": study["document"], "lane": study["document"]["fields"][0]["id"],
            "point": [0, 0, 0], "time": 0}  # fmt: skip
    assert sound(answer("POST", "/look/value", {**body, "channel": "tab.value"}), "name").status_code == 200
    assert sound(answer("POST", "/look/value", {**body, "channel": "x" * 1_000_000}), "name").status_code == 422
