"""The API: studies with history, conflicts, uploads, looking, runs, safety."""

import json
import struct
import sys
import time

import numpy as np
import pytest
import trimesh
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from errant_gust.core.runs.frame_store import RunStore
from errant_gust.server import runs
from errant_gust.server.models import Run
from tests.studies import data, lane

pytestmark = pytest.mark.django_db(transaction=True)


class Api:
    def __init__(self):
        self.client = Client(headers={"X-Errant-Gust": "1"})

    def __call__(self, method, path, body=None, status=200):
        made = self.client.generic(
            method, f"/api{path}", json.dumps(body) if body is not None else "", content_type="application/json"
        )
        assert made.status_code == status, b"" if made.streaming else made.content[:400]
        if made.streaming or "json" not in made.get("Content-Type", ""):
            return made
        return json.loads(made.content) if made.content else None


@pytest.fixture
def api():
    yield Api()
    runs.wait_all()


@pytest.fixture
def study(api):
    flow = {
        **lane("spray", ("emit", {"shape": "ball", "rate": 2000}), ("carry", {"field": "wind"})),
        "kind": "particles",
    }
    made = data(
        lane("wind", ("wind", {"speed": 1}), ("steer_around", {"shape": "ball"})),
        flows=[flow],
        clock={"fps": 24, "start": 1, "end": 6},
    )
    return api("POST", "/studies", {"document": made})


ACROSS = {"origin": [-2, -2, 0], "u": [4, 0, 0], "v": [0, 4, 0]}


def unpack(response):
    (head,) = struct.unpack_from("<I", response.content)
    facts = json.loads(response.content[4 : 4 + head])
    arrays = {
        a["name"]: np.frombuffer(
            response.content,
            f"<{a['type']}",
            int(np.prod(a["shape"])),
            4 + head + a["offset"],
        ).reshape(a["shape"])
        for a in facts["arrays"]
    }
    return facts, arrays


def test_edits_undo_redo_history_and_restore(api, study):
    key, doc = study["key"], study["document"]
    for speed in (2, 3):
        doc["fields"][0]["steps"][0]["params"]["speed"] = speed
        study = api(
            "PUT", f"/studies/{key}", {"document": doc, "base": study["revision"], "label": f"Speed → {speed} m/s"}
        )
    assert study["undo"] == "Speed → 3 m/s"
    back = api("POST", f"/studies/{key}/undo")
    assert back["document"]["fields"][0]["steps"][0]["params"]["speed"] == 2
    assert back["redo"] == "Speed → 3 m/s"
    assert api("POST", f"/studies/{key}/redo")["revision"] == study["revision"]
    history = api("GET", f"/studies/{key}/history")
    assert [h["label"] for h in history] == ["Speed → 3 m/s", "Speed → 2 m/s", "Imported"]
    restored = api("POST", f"/studies/{key}/restore/{history[-1]['revision']}")
    assert restored["document"]["fields"][0]["steps"][0]["params"]["speed"] == 1


def test_a_long_history_is_told_in_parts(api, study, monkeypatch):
    monkeypatch.setattr(sys.modules["errant_gust.server.api.studies"], "HISTORY", 3)
    key, doc = study["key"], study["document"]
    for n in range(6):
        doc["note"] = f"{n}"
        study = api("PUT", f"/studies/{key}", {"document": doc, "base": study["revision"], "label": f"Note {n}"})
    first = api("GET", f"/studies/{key}/history")
    second = api("GET", f"/studies/{key}/history?before={first[-1]['revision']}")
    third = api("GET", f"/studies/{key}/history?before={second[-1]['revision']}")
    labels = [h["label"] for h in [*first, *second, *third]]
    assert [h["older"] for h in [*first, *second, *third]] == list(reversed(range(7)))
    assert labels == [*(f"Note {n}" for n in reversed(range(6))), "Imported"]


def test_two_windows_that_edit_the_same_study_conflict_and_lose_nothing(api, study):
    key, base = study["key"], study["revision"]
    mine, theirs = json.loads(json.dumps(study["document"])), json.loads(json.dumps(study["document"]))
    theirs["name"], mine["note"] = "Theirs", "mine"
    api("PUT", f"/studies/{key}", {"document": theirs, "base": base, "label": "theirs"})
    said = api("PUT", f"/studies/{key}", {"document": mine, "base": base, "label": "mine"}, status=409)
    assert said["theirs"]["name"] == "Theirs"
    kept = api("PUT", f"/studies/{key}", {"document": mine, "base": said["revision"], "label": "mine"})
    assert kept["document"]["note"] == "mine"
    assert len(api("GET", f"/studies/{key}/history")) == 3


def test_a_bad_document_is_refused_and_the_study_stays(api, study):
    bad = {**study["document"], "version": 7}
    said = api("PUT", f"/studies/{study['key']}", {"document": bad, "base": study["revision"]}, status=422)
    assert "version 7" in said["what"]
    assert api("GET", f"/studies/{study['key']}")["document"] == study["document"]
    api("GET", "/studies/nothing", status=404)


def test_delete_can_be_undone(api, study):
    api("DELETE", f"/studies/{study['key']}")
    assert study["key"] not in [s["key"] for s in api("GET", "/studies")]
    api("POST", f"/studies/{study['key']}/undelete")
    assert study["key"] in [s["key"] for s in api("GET", "/studies")]


def upload(api, key, name, content, status=200):
    made = api.client.post(f"/api/studies/{key}/meshes?name={name}", {"file": SimpleUploadedFile("x", content)})
    assert made.status_code == status, made.content
    return json.loads(made.content)


def test_a_mesh_is_imported_with_its_report_and_bad_ones_leave_nothing(api, study):
    ball = trimesh.creation.icosphere(2).export(file_type="obj").encode()
    made = upload(api, study["key"], "glass.obj", ball)
    assert (made["file"], made["triangles"], made["watertight"]) == ("glass.obj", 320, True)
    assert upload(api, study["key"], "glass.obj", ball)["file"] == "glass_2.obj", (
        "an earlier import is never overwritten"
    )
    for name in ("..%2F..%2Fevil.obj", "..%5Cevil.obj", ".hidden.obj"):
        assert "plain file name" in upload(api, study["key"], name, ball, 422)["what"]
    assert "no triangles" in upload(api, study["key"], "bad.obj", b"v 0 0 0\n", 422)["what"]
    assert "not a mesh format" in upload(api, study["key"], "bad.exe", ball, 422)["what"]
    from errant_gust.server.revisions import folder

    assert sorted(p.name for p in (folder(study["key"]) / "assets").iterdir()) == ["glass.obj", "glass_2.obj"]


def test_swatches_probe_lines_reading_and_checks(api, study):
    looking = {"study": study["key"], "document": study["document"]}
    facts, arrays = unpack(api("POST", "/look/swatches", {**looking, "size": 16}))
    assert [s["step"] for s in facts["steps"]] == ["s0", "s1"]
    assert arrays["wind.s0"].shape == (16, 16)
    assert np.allclose(arrays["wind.s0"], 1)
    assert arrays["wind.s1"].max() > 1.2
    probe = {
        **looking,
        "lane": "wind",
        "slice": {**ACROSS, "columns": 8, "rows": 6},
        "glyphs": {**ACROSS, "columns": 3, "rows": 2},
    }
    _, arrays = unpack(api("POST", "/look/probe", probe))
    assert arrays["values"].shape == (6, 8)
    assert arrays["vectors"].shape == (2, 3, 3)
    assert np.allclose(np.linalg.norm(arrays["vectors"], axis=2).max(), 1.33, atol=0.3)
    before, values = unpack(api("POST", "/look/probe", {**probe, "step": "s1", "before": True}))
    assert np.allclose(values["values"], 1)
    assert np.allclose(values["vectors"], [1, 0, 0])
    assert before["unit"] == "m/s"
    _, arrays = unpack(
        api(
            "POST",
            "/look/lines",
            {**looking, "lane": "wind", "step": "s0", "seeds": [[0, 0, 0]], "length": 2, "steps": 10},
        )
    )
    assert np.allclose(arrays["lines"][0, -1], [2, 0, 0], atol=1e-5)
    said = api("POST", "/look/reading", {**looking, "lane": "wind"})
    assert said["divergence"] < 0.01
    assert said["coverage"] == 1
    assert api("POST", "/look/value", {**looking, "lane": "wind", "step": "s0", "point": [1, 1, 1]})["value"] == [
        1,
        0,
        0,
    ]
    assert api("POST", "/look/checks", looking) == []
    # a run that was taken away meanwhile takes no finding on the study with it
    thin = {**looking["document"], "flows": [{"id": "empty", "name": "Empty", "kind": "particles", "steps": []}]}
    alone = api("POST", "/look/checks", {**looking, "document": thin})
    assert alone
    assert api("POST", "/look/checks", {**looking, "document": thin, "run": "gone", "frame": 2}) == alone


def test_swatches_bring_the_probe_along(api, study):
    looking = {"study": study["key"], "document": study["document"]}
    part = {"lane": "wind", "slice": {**ACROSS, "columns": 9, "rows": 9}, "glyphs": {**ACROSS, "columns": 4, "rows": 4}}
    facts, arrays = unpack(api("POST", "/look/swatches", {**looking, "size": 16, "probe": part}))
    alone, values = unpack(api("POST", "/look/probe", {**looking, **part}))
    assert facts["probe"] == {k: v for k, v in alone.items() if k != "arrays"}
    for name in ("values", "vectors"):
        assert np.array_equal(arrays[f"probe.{name}"], values[name])


def test_every_step_of_the_catalogue_says_what_often_goes_wrong(api):
    steps = api("GET", "/catalogue")["steps"]
    assert len(steps) > 55
    assert [s["id"] for s in steps if len(s["mistake"]) < 40] == []
    assert len({s["mistake"] for s in steps}) == len(steps)


def test_errors_of_one_lane_do_not_hide_the_others(api, study):
    study["document"]["fields"].append(lane("bad", ("wind",), ("remap",)))
    facts, arrays = unpack(
        api("POST", "/look/swatches", {"study": study["key"], "document": study["document"], "size": 8})
    )
    assert "takes a scalar" in facts["errors"]["fields.bad.s1"]
    assert "wind.s1" in arrays


def test_a_newer_request_on_a_channel_overtakes_an_older_one(api, study):
    looking = {"study": study["key"], "document": study["document"], "channel": "t.x", "size": 8}
    assert api("POST", "/look/swatches", {**looking, "serial": 5}).status_code == 200
    api("POST", "/look/swatches", {**looking, "serial": 4}, status=204)


def wait_for(api, key, identity, state="done", seconds=60):
    """A run once it is as wanted, or one of several."""
    wanted = [state] if isinstance(state, str) else state
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        run = next(r for r in api("GET", f"/runs?study={key}") if r["identity"] == identity)
        if run["state"] in wanted:
            return run
        time.sleep(0.05)
    raise AssertionError(f"the run is {run['state']}: {run['message']}")


def test_a_run_is_found_again_and_restarts_only_when_something_matters(api, study):
    key, doc = study["key"], study["document"]
    first = api("POST", "/runs", {"study": key, "flow": "spray"})
    done = wait_for(api, key, first["identity"])
    assert done["frames"] == [1, 2, 3, 4, 5, 6]
    facts, arrays = unpack(api("GET", f"/runs/{first['identity']}/frames/6/particles"))
    assert facts["count"] == len(arrays["position"]) > 50
    doc["looks"] = {"spray": {"size": 9}}
    study = api("PUT", f"/studies/{key}", {"document": doc, "base": study["revision"], "label": "Look"})
    again = api("POST", "/runs", {"study": key, "flow": "spray"})
    assert (again["identity"], again["state"]) == (first["identity"], "done")
    doc["fields"][0]["steps"][0]["params"]["speed"] = 2
    api("PUT", f"/studies/{key}", {"document": doc, "base": study["revision"], "label": "Speed"})
    assert api("POST", "/runs", {"study": key, "flow": "spray"})["identity"] != first["identity"]


def test_a_run_that_was_going_when_the_server_died_is_taken_up(api, study):
    key = study["key"]
    first = api("POST", "/runs", {"study": key, "flow": "spray"})
    wait_for(api, key, first["identity"])
    folder = runs.folder_of(first["identity"])
    import shutil

    for frame in (4, 5, 6):
        shutil.rmtree(RunStore(folder).path(frame))
    (RunStore(folder).frames_folder / ".writing-000004-1").mkdir()
    Run.objects.update(state="running")
    runs.take_up()
    assert wait_for(api, key, first["identity"])["frames"] == [1, 2, 3, 4, 5, 6]


def test_a_run_that_cannot_start_says_why(api, study):
    doc = study["document"]
    doc["flows"][0]["steps"] = doc["flows"][0]["steps"][1:]
    api("PUT", f"/studies/{study['key']}", {"document": doc, "base": study["revision"], "label": "x"})
    run = api("POST", "/runs", {"study": study["key"], "flow": "spray"})
    assert "nothing is emitted" in wait_for(api, study["key"], run["identity"], "failed")["message"]


def test_a_preview_of_another_study_gives_way_and_goes_on_later(api, study):
    slow = json.loads(json.dumps(study["document"]))
    slow["clock"]["end"] = 400
    slow["flows"][0]["steps"][0]["params"]["rate"] = 60_000
    other = api("POST", "/studies", {"document": slow})
    first = api("POST", "/runs", {"study": other["key"], "flow": "spray"})
    wait_for(api, other["key"], first["identity"], "running")
    mine = api("POST", "/runs", {"study": study["key"], "flow": "spray"})
    wait_for(api, study["key"], mine["identity"])
    again = wait_for(api, other["key"], first["identity"], "running")
    assert len(again["frames"]) < 400, "it goes on after the one that somebody waited for"
    api("POST", f"/runs/{first['identity']}/stop")
    assert "kept" in wait_for(api, other["key"], first["identity"], "stopped")["message"]


def test_a_frame_to_look_at_is_eight_bytes_a_particle_and_right(api, study):
    key = study["key"]
    run = api("POST", "/runs", {"study": key, "flow": "spray"})
    wait_for(api, key, run["identity"])
    data = RunStore(runs.folder_of(run["identity"])).read(5)
    answer = api("GET", f"/runs/{run['identity']}/frames/5/particles?channel=age")
    facts, arrays = unpack(answer)
    low, high = np.array(facts["lower"]), np.array(facts["upper"])
    assert np.allclose(
        low + arrays["position"] / 65535 * (high - low), data["position"], atol=(high - low).max() / 65535
    )
    age = facts["low"] + arrays["tone"] / 255 * (facts["high"] - facts["low"])
    assert np.allclose(age, data["age"], atol=(facts["high"] - facts["low"]) / 255)
    assert facts["unit"] == "s"
    assert len(answer.content) < 8.2 * facts["count"] + 700
    said = api("GET", f"/runs/{run['identity']}/frames/5/particles?channel=mood", status=422)
    assert "no channel 'mood'" in said["what"]


def test_lines_are_drawn_from_the_document_as_it_stands(api, study):
    key, doc = study["key"], study["document"]
    run = api("POST", "/runs", {"study": key, "flow": "spray"})
    wait_for(api, key, run["identity"])
    path = f"/runs/{run['identity']}/frames/6/drawn"
    assert unpack(api("POST", path, {"study": key, "document": doc}))[1] == {}
    doc["flows"][0]["steps"].append({"id": "t", "op": "trail", "params": {"length": 0.1}})
    _, arrays = unpack(api("POST", path, {"study": key, "document": doc}))
    assert arrays["lines.counts"].astype("i4").sum() == len(arrays["lines.points"])
    assert arrays["lines.back"].max() == pytest.approx(0.1)


def test_bakes_and_exports_are_files(api, study, tmp_path):
    made = api("POST", "/bakes", {"study": study["key"], "field": "wind", "region": "room", "format": "npz"})
    (tmp_path / "a.npz").write_bytes(b"".join(made.streaming_content))
    with np.load(tmp_path / "a.npz") as z:
        assert z["wind"].shape == (40, 40, 40, 3)
    run = api("POST", "/runs", {"study": study["key"], "flow": "spray"})
    wait_for(api, study["key"], run["identity"])
    zipped = b"".join(api("GET", f"/runs/{run['identity']}/export?format=ply").streaming_content)
    assert zipped[:2] == b"PK"
    assert b"SHA256SUMS" in zipped


def test_other_sites_hosts_and_forms_are_refused(study):
    body = json.dumps({"start": "blank"})
    plain = Client()
    assert plain.post("/api/studies", body, content_type="application/json").status_code == 403
    ours = Client(headers={"X-Errant-Gust": "1"})
    assert (
        ours.post(
            "/api/studies", body, content_type="application/json", headers={"Origin": "http://elsewhere.example"}
        ).status_code
        == 403
    )
    assert ours.get("/api/studies", headers={"Host": "elsewhere.example"}).status_code == 400
    page = ours.get("/api/studies")
    assert "default-src 'self'" in page["Content-Security-Policy"]
    assert "script-src" not in page["Content-Security-Policy"]


def zipped(*entries):
    import io
    import zipfile

    held = io.BytesIO()
    with zipfile.ZipFile(held, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in entries:
            archive.writestr(name, content)
    return held.getvalue()


def bring(api, content, status=200):
    made = api.client.post("/api/archives?name=a.zip", {"file": SimpleUploadedFile("a.zip", content)})
    assert made.status_code == status, made.content
    return json.loads(made.content)


def test_an_archive_brings_its_files_and_names_in_it_are_never_paths(api, study, tmp_path):
    ball = trimesh.creation.icosphere(1).export(file_type="obj")
    text = json.dumps(study["document"])
    made = bring(
        api,
        zipped(
            ("study.gust.json", text), ("assets/a.obj", ball), ("assets/../../evil.obj", ball), ("assets/run.sh", "x")
        ),
    )
    from errant_gust.server.revisions import folder

    held = sorted(p.name for p in (folder(made["key"]) / "assets").iterdir())
    assert held == ["a.obj"]
    assert not list(folder(made["key"]).parent.parent.rglob("evil.obj"))
    assert made["document"] == study["document"]


@pytest.mark.parametrize(("content", "words"), [
    (b"not a zip", "cannot be read as a zip"), (zipped(("other.txt", "x")), "holds no study.gust.json"),
    (zipped(("study.gust.json", "{")), "not valid JSON"), (zipped(("study.gust.json", "{}")), "format"),
])  # fmt: skip
def test_broken_archives_leave_nothing(api, content, words):
    before = len(api("GET", "/studies"))
    assert words in bring(api, content, 422)["message"]
    assert len(api("GET", "/studies")) == before


def test_a_duplicate_has_the_files_of_the_original(api, study):
    ball = trimesh.creation.icosphere(1).export(file_type="obj").encode()
    upload(api, study["key"], "glass.obj", ball)
    copy = api("POST", "/studies", {"copy_of": study["key"]})
    own, theirs = ([f["name"] for f in api("GET", f"/studies/{k}/files")] for k in (study["key"], copy["key"]))
    assert "glass.obj" in own
    assert own == theirs


def test_other_files_are_read_before_they_are_kept(api, study):
    def send(name, sort, content, status=200):
        url = f"/api/studies/{study['key']}/files?name={name}&sort={sort}"
        made = api.client.post(url, {"file": SimpleUploadedFile("x", content)})
        assert made.status_code == status, made.content
        return json.loads(made.content)

    svg = b'<svg xmlns="http://www.w3.org/2000/svg"><rect width="4" height="4"/></svg>'
    assert send("kiln.svg", "outline", svg) == {"file": "kiln.svg", "said": "1 outline"}
    assert send("kiln.svg", "curve", svg)["said"] == "1 curve, 5 points"
    assert "script" in send("bad.svg", "outline", svg.replace(b"<rect", b"<script/><rect"), 422)["what"]
    assert "cannot be read" in send("bad.npz", "volume", b"PK\x03\x04", 422)["what"]
    assert "plain file name" in send("..%2Fx.svg", "outline", svg, 422)["what"]
    assert "not a volume format" in send("a.txt", "volume", svg, 422)["what"]
    names = [f["name"] for f in api("GET", f"/studies/{study['key']}/files")]
    assert [n for n in names if n.endswith(("svg", "npz", "txt"))] == ["kiln.svg", "kiln_2.svg"]


def test_examples_and_demos_are_there(api):
    facts, arrays = unpack(api("GET", "/look/examples"))
    assert facts["size"] == 96
    assert len(arrays) > 50
    assert all(np.isfinite(a).all() for a in arrays.values())
    demos = api("GET", "/demos")
    assert {d["id"] for d in demos} >= {
        "harbour_gust",
        "flue_embers",
        "globe_skin",
        "lagoon_mist",
        "chimney_downdraught",
    }
    assert all("Try:" in d["how"] for d in demos)


def test_the_probe_in_a_box_and_on_a_shape(api, study):
    looking = {"study": study["key"], "document": study["document"], "lane": "wind"}
    box = {**ACROSS, "w": [0, 0, 4], "layers": 3, "columns": 5, "rows": 4}
    _, arrays = unpack(api("POST", "/look/probe", {**looking, "slice": ACROSS, "glyphs": box}))
    assert arrays["vectors"].shape == (3, 4, 5, 3)
    facts, arrays = unpack(api("POST", "/look/surface", {**looking, "shape": "ball", "count": 50}))
    assert arrays["vectors"].shape == (50, 3)
    assert facts["kind"] == "vector"
    inward = (arrays["vectors"] * arrays["normals"]).sum(axis=1)
    assert np.abs(inward).max() < 0.1, "the wind is steered around the ball"


def test_looking_at_a_lane_without_steps_is_no_error(api, study):
    document = study["document"]
    document["fields"].append({"id": "fresh", "name": "Fresh", "steps": []})
    looking = {"study": study["key"], "document": document, "lane": "fresh"}
    facts, arrays = unpack(api("POST", "/look/probe", {**looking, "slice": ACROSS}))
    assert facts["kind"] == "none"
    assert not arrays
    assert api("POST", "/look/reading", looking) == {"kind": "none"}


def test_a_formula_of_hundreds_of_digits_is_one_lanes_affair(api, study):
    doc = study["document"]
    steps = [{"id": "a", "op": "constant", "params": {"value": 1}},
             {"id": "b", "op": "formula", "params": {"expression": f"in * {'7' * 310}"}}]  # fmt: skip
    doc["fields"].append({"id": "huge", "name": "Huge", "steps": steps})
    facts, arrays = unpack(api("POST", "/look/swatches", {"study": study["key"], "document": doc, "size": 8}))
    assert any(k.startswith("fields.huge") for k in facts["errors"])
    assert "wind.s0" in arrays or any(name.startswith("wind.") for name in arrays)


def test_what_is_given_up_for_theirs_stays_in_the_history(api, study):
    key, base = study["key"], study["revision"]
    mine, theirs = (json.loads(json.dumps(study["document"])) for _ in range(2))
    theirs["name"], mine["note"] = "Theirs", "mine"
    kept = api("PUT", f"/studies/{key}", {"document": theirs, "base": base, "label": "theirs"})
    aside = api("POST", f"/studies/{key}/aside", {"document": mine, "base": kept["revision"], "label": "Note → mine"})
    now = api("GET", f"/studies/{key}")
    assert (now["document"]["name"], now["revision"]) == ("Theirs", kept["revision"]), "it is nobody's head"
    assert api("POST", f"/studies/{key}/undo")["redo"] == "theirs"
    assert api("POST", f"/studies/{key}/redo")["document"]["name"] == "Theirs", "no redo leads to it"
    labels = {h["revision"]: h["label"] for h in api("GET", f"/studies/{key}/history")}
    assert labels[aside["revision"]] == "Set aside: Note → mine"
    back = api("POST", f"/studies/{key}/restore/{aside['revision']}")
    assert back["document"]["note"] == "mine"


def test_a_clock_that_grows_while_a_run_goes_is_gone_on_with(api, study):
    doc = study["document"]
    doc["flows"][0]["steps"][0]["params"]["rate"] = 60_000
    doc["clock"]["end"] = 60
    first = api("PUT", f"/studies/{study['key']}", {"document": doc, "base": study["revision"], "label": "x"})
    run = api("POST", "/runs", {"study": study["key"], "flow": "spray"})
    wait_for(api, study["key"], run["identity"], "running")
    doc["clock"]["end"] = 64
    api("PUT", f"/studies/{study['key']}", {"document": doc, "base": first["revision"], "label": "longer"})
    again = api("POST", "/runs", {"study": study["key"], "flow": "spray"})
    assert again["identity"] == run["identity"]
    done = wait_for(api, study["key"], run["identity"])
    end = time.monotonic() + 60
    while len(done["frames"]) < 64 and time.monotonic() < end:
        done = wait_for(api, study["key"], run["identity"])
    assert done["frames"] == list(range(1, 65))
    assert done["ended"] >= done["started"]
    assert done["worker"]
    assert done["bytes"] == RunStore(runs.folder_of(run["identity"])).bytes()


def test_runs_of_an_earlier_version_are_told_by_their_folders(api, study):
    import importlib

    from django.apps import apps

    run = api("POST", "/runs", {"study": study["key"], "flow": "spray"})
    wait_for(api, study["key"], run["identity"])
    Run.objects.update(kind="", bytes=0)
    importlib.import_module("errant_gust.server.migrations.0003_told")._told_by_the_folder(apps, None)
    kept = Run.objects.get(identity=run["identity"])
    assert kept.kind == run["kind"]
    assert kept.bytes > 1000


def test_figures_of_a_steps_parameters(api):
    facts, arrays = unpack(api("GET", "/look/examples/noise"))
    by_param = {f["param"]: f["values"] for f in facts["figures"]}
    assert by_param["feature_size"] == [0.33, 1.0, 3.0]
    assert arrays["feature_size.2"].shape == (64, 64)
    facts, _ = unpack(api("GET", "/look/examples/nothing"))
    assert facts["figures"] == []
