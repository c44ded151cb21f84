"""Doors: places outside a study, crafted uploads, saves at one moment, values that no number can hold, schedulers."""

import io
import json
import threading
import time
import zipfile

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection

from errant_gust.core.errors import FileError, GustError
from errant_gust.core.files.volume_files import read_volume
from errant_gust.core.home import home
from errant_gust.core.runs import job
from errant_gust.core.study.document import loads
from errant_gust.server import revisions, runs, study_files
from errant_gust.server.models import Run
from tests.clusters import until
from tests.server.test_api import ACROSS, api, study, unpack
from tests.studies import data, lane

pytestmark = pytest.mark.django_db(transaction=True)
assert api
assert study


# places ----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("key", ["../outside", "..", "/etc", "a/../../b", "A", "\ud800", "x" * 300])
def test_a_study_is_never_a_path(api, key):
    """A mesh beside the studies was found by way of `study` and drawn."""
    outside = home() / "outside" / "assets"
    outside.mkdir(parents=True, exist_ok=True)
    (outside / "secret.obj").write_text("v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
    shape = {"id": "s", "kind": "mesh", "params": {"file": "secret.obj"}}
    body = {"study": key, "document": data(lane("w", ("wind", {})), shapes=[shape])}
    found = api("POST", "/look/shapes", body, status=404)
    assert "there is no study" in found["what"]
    api("POST", "/look/value", {**body, "lane": "w", "point": [0, 0, 0]}, status=404)


# uploads ---------------------------------------------------------------------------------------------------------


def test_uploads_of_one_name_at_the_same_moment_are_both_kept_as_they_are(api, study, monkeypatch):
    both = threading.Barrier(2, timeout=20)
    read = study_files.read_mesh

    def slowly(path, *, name=""):
        both.wait()  # both are written by now
        return read(path, name=name)

    monkeypatch.setattr(study_files, "read_mesh", slowly)
    made = {}

    def upload(size):
        text = f"v 0 0 0\nv {size} 0 0\nv 0 {size} 0\nf 1 2 3\n".encode()
        made[size] = study_files.add_mesh(study["key"], "tower.obj", [text])[0]
        connection.close()

    threads = [threading.Thread(target=upload, args=(size,)) for size in (1, 7)]
    [t.start() for t in threads]
    [t.join() for t in threads]
    assert set(made.values()) == {"tower.obj", "tower_2.obj"}
    for size, name in made.items():
        assert f"v {size} 0 0" in (revisions.folder(study["key"]) / "assets" / name).read_text()
    assert not list((revisions.folder(study["key"]) / "assets").glob(".*"))


def test_what_a_cut_off_upload_left_is_taken_away_at_the_next_start(study):
    left = revisions.folder(study["key"]) / "assets" / f"{study_files.UPLOAD}abc.obj"
    left.parent.mkdir(parents=True, exist_ok=True)
    left.write_text("half")
    study_files.sweep_uploads()
    assert not left.exists()


def archived(document, **files):
    spool = io.BytesIO()
    with zipfile.ZipFile(spool, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as zipped:
        zipped.writestr("study.gust.json", json.dumps(document))
        for name, content in files.items():
            zipped.writestr(f"assets/{name}", content)
    return spool.getvalue()


def imported(api, content):
    file = SimpleUploadedFile("a.gust.zip", content)
    return api.client.post("/api/archives?name=a.gust.zip", {"file": file})


@pytest.mark.slow("gigabytes")
def test_an_archive_that_expands_to_gigabytes_is_refused_and_leaves_nothing(api):
    before = len(api("GET", "/studies"))
    made = imported(api, archived(data(), **{f"{i}.obj": b"\0" * (300 << 20) for i in range(4)}))
    assert made.status_code == 422
    assert "expands to more than 1 GiB" in made.json()["what"]
    assert len(api("GET", "/studies")) == before
    made = imported(api, archived(data(), **{"a.obj": b"\0" * (300 << 20)}))  # of three hundred kilobytes
    assert made.status_code == 422
    assert "MB expand to 0.31 GB" in made.json()["what"]
    assert len(api("GET", "/studies")) == before
    assert imported(api, archived(data(), **{"a.obj": b"v 0 0 0\n"})).status_code == 200
    assert not [p for p in (home() / "studies").iterdir() if p.name.startswith("tmp")]


def test_an_archive_of_ours_comes_back_though_what_is_in_it_is_zeros_mostly(api, study):
    place = revisions.folder(study["key"]) / "assets"
    place.mkdir(parents=True, exist_ok=True)
    with (place / "empty.vti").open("wb") as file:
        file.truncate(300 << 20)
    (place / "tower.obj").write_bytes(b"v 0 0 0\n" * 50_000)
    packed = b"".join(api.client.get(f"/api/studies/{study['key']}/archive"))
    with zipfile.ZipFile(io.BytesIO(packed)) as zipped:
        sizes = {i.filename: i.compress_size for i in zipped.infolist()}
    assert sizes["assets/empty.vti"] == 300 << 20
    made = imported(api, packed)
    assert made.status_code == 200, made.content
    (there,) = [p for p in (home() / "studies").glob("*/assets/empty.vti") if p.parent != place]
    assert there.stat().st_size == 300 << 20


def test_an_npz_is_not_expanded_before_it_is_checked(tmp_path, monkeypatch):
    def npz(name, head, content=b""):
        with zipfile.ZipFile(tmp_path / name, "w", zipfile.ZIP_DEFLATED) as zipped:
            file = io.BytesIO()
            np.lib.format.write_array_header_1_0(file, head)
            zipped.writestr("v.npy", file.getvalue() + content)
        return tmp_path / name

    huge = {"descr": "<f4", "fortran_order": False, "shape": (100_000, 10_000, 1000)}
    with pytest.raises(FileError, match="says 100000 × 10000 × 1000 of float32, which is not what it holds"):
        read_volume(npz("a.npz", huge))
    monkeypatch.setenv("ERRANT_GUST_BUDGET_MB", "50")
    real = {"descr": "<f4", "fortran_order": False, "shape": (100, 1000, 250)}
    with pytest.raises(FileError, match=r"expands to 0.1 GB, the budget is 0.1 GB|expands to"):
        read_volume(npz("b.npz", real, b"\0" * 100_000_000))
    with pytest.raises(FileError, match="not what it holds"):
        read_volume(npz("c.npz", {"descr": "|O", "fortran_order": False, "shape": (2, 2, 2)}, b"\0" * 64))


# saves -----------------------------------------------------------------------------------------------------------


def test_undo_redo_restore_and_delete_do_not_write_over_a_save_that_came_between(api, study):
    key, first = study["key"], study["revision"]
    second = api(
        "PUT", f"/studies/{key}", {"document": {**study["document"], "name": "Two"}, "base": first, "label": "2"}
    )
    third = api(
        "PUT",
        f"/studies/{key}",
        {"document": {**study["document"], "name": "Three"}, "base": second["revision"], "label": "3"},
    )
    for method, path in (("POST", "undo"), ("POST", "redo"), ("POST", f"restore/{first}"), ("DELETE", "")):
        told = api(method, f"/studies/{key}/{path}".rstrip("/") + f"?base={second['revision']}", status=409)
        assert told["theirs"]["name"] == "Three"
        assert told["revision"] == third["revision"]
    assert api("GET", f"/studies/{key}")["document"]["name"] == "Three"
    assert api("POST", f"/studies/{key}/undo?base={third['revision']}")["document"]["name"] == "Two"


def test_saves_and_undos_at_the_same_moment_leave_one_history(api, study):
    key, done = study["key"], []

    def work(n):
        try:
            head = revisions.get(key)
            if n % 2:
                done.append(revisions.save(key, {**study["document"], "name": f"N{n}"}, head.head_id, "x").head_id)
            else:
                done.append(revisions.undo(key, head.head_id).head_id)
        except revisions.Conflict:
            pass
        finally:
            connection.close()

    threads = [threading.Thread(target=work, args=(n,)) for n in range(12)]
    [t.start() for t in threads]
    [t.join() for t in threads]
    head = revisions.get(key).head
    assert head.pk in done
    assert head.document["name"] == revisions.get(key).name


# values ----------------------------------------------------------------------------------------------------------

BAD = {
    "a formula of 400 digits": (("formula", {"expression": "9" * 400}), {}),
    "a file name of 300 letters": (("from_grid", {"file": "x" * 300 + ".npz"}), {}),
    "a number beyond all floats": (("wind", {"speed": 1e308}), {}),
}


@pytest.mark.parametrize("name", BAD)
def test_a_fault_stays_with_its_part(api, study, name):
    step, _ = BAD[name]
    start = ("wind", {}) if step[0] == "formula" else None
    steps = [start, step] if start else [step]
    document = data(lane("good", ("wind", {"speed": 1})), lane("bad", *steps))
    made = api("POST", "/look/swatches", {"study": study["key"], "document": document})
    facts, arrays = unpack(made)
    assert "good.s0" in arrays or any(n.startswith("good.") for n in arrays)
    found = api("POST", "/look/checks", {"study": study["key"], "document": document})
    assert isinstance(found, list)
    if name != "a number beyond all floats":
        assert any(place.startswith("fields.bad") for place in facts["errors"])
        assert any(f["where"].startswith("fields.bad") and f["level"] == "error" for f in found)
    probe = {"study": study["key"], "document": document, "lane": "good", "slice": {**ACROSS, "columns": 8, "rows": 8}}
    api("POST", "/look/probe", probe)


@pytest.mark.parametrize("change", [
    {"clock": {"fps": 10**400}}, {"fields": [lane("a", ("wind", {"speed": 10**400}))]},
    {"name": "half \ud83d letter"}, {"looks": {"a": eval("[" * 90 + "]" * 90)}},
])  # fmt: skip
def test_documents_that_nothing_can_hold_get_a_clear_answer(api, study, change):
    body = {"document": {**study["document"], **change}, "base": study["revision"], "label": "x"}
    told = api("PUT", f"/studies/{study['key']}", body, status=422)
    assert told["message"]
    api("POST", "/look/swatches", {"study": study["key"], "document": body["document"]}, status=422)


@pytest.mark.parametrize(
    "text", ['{"a": ' + "9" * 5000 + "}", "[" * 100_000, '{"document": {}, "base": ' + "9" * 400 + "}", "\xff"]
)
def test_json_that_cannot_be_taken_is_a_bad_request(api, study, text):
    made = api.client.generic("PUT", f"/api/studies/{study['key']}", text, content_type="application/json")
    assert made.status_code in (400, 422)
    with pytest.raises(GustError):
        loads(text if len(text) > 3 else b"\xff")


def test_other_texts_and_numbers_that_no_row_can_hold(api, study):
    assert api.client.get("/api/runs/%ED%A0%80/frames/1/particles").status_code in (400, 404, 422)
    body = {"document": study["document"], "base": 10**30, "label": "a\ud800b"}
    assert api("PUT", f"/studies/{study['key']}", body, status=409)["theirs"]
    changed = {**study["document"], "name": "Other"}
    api("PUT", f"/studies/{study['key']}", {"document": changed, "base": study["revision"], "label": "a\ud800b"})


@pytest.mark.parametrize("origin", ["http://[bad", "null", "http://", "http://testserver.evil", "//"])
def test_an_origin_that_is_none_is_refused(api, origin):
    made = api.client.post("/api/studies", "{}", content_type="application/json", headers={"Origin": origin})
    assert made.status_code == 403


def test_a_nearly_constant_field_has_a_reading_and_checks(api, study):
    """np.histogram finds too many bins for the range of a dot product that is 1 but for rounding."""
    document = data(
        lane("v", ("curl_noise", {}), ("unit_length", {})),
        lane("one", ("use_field", {"field": "v"}), ("dot", {"field": "v"})),
    )
    body = {"study": study["key"], "document": document, "lane": "one"}
    found = api("POST", "/look/reading", body)
    assert sum(found["histogram"]) > 1000
    assert found["mean"] == pytest.approx(1, abs=1e-3)
    api("POST", "/look/checks", {"study": study["key"], "document": document})


# schedulers ------------------------------------------------------------------------------------------------------


def finished(run, seconds=40):
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        state = Run.objects.get(identity=run["identity"]).state
        if state not in ("running", "waiting"):
            return Run.objects.get(identity=run["identity"])
        time.sleep(0.1)
    raise AssertionError("the run never ended")


@pytest.mark.slow("waits for a scheduler that is not there")
def test_runs_wait_for_a_scheduler_that_cannot_be_reached_and_go_on_here_if_they_are_moved(api, study, monkeypatch):
    monkeypatch.setenv("ERRANT_GUST_SCHEDULER", "tcp://127.0.0.1:9")
    Run.objects.all().delete()
    study["document"]["clock"]["fps"] = 31  # a run of its own
    api("PUT", f"/studies/{study['key']}", {**study, "base": study["revision"], "label": "x"})
    run = api("POST", "/runs", {"study": study["key"], "flow": "spray", "quality": "preview"})
    Run.objects.filter(identity=run["identity"]).update(state="running")
    started = time.monotonic()
    runs._going.clear()  # as a server that was started again
    runs.take_up()
    assert time.monotonic() - started < 5, "a server starts whatever its scheduler does"

    def told():
        (found,) = api("GET", f"/runs?study={study['key']}")
        return found

    until(lambda: told()["message"], 30, "it is not said what it waits for")
    found = told()
    assert (found["state"], found["place"]) == ("waiting", "cluster")
    assert found["message"].startswith("the scheduler at tcp://127.0.0.1:9 is away")
    api("POST", f"/runs/{run['identity']}/move", {"place": "nowhere"}, status=422)
    api("POST", f"/runs/{run['identity']}/move", {"place": "here"})
    until(lambda: told()["state"] == "done", 60, "it does not go on here")
    assert told()["place"] == "here"
    log = api("GET", f"/runs/{run['identity']}/log")
    assert any("takes it up" in line for line in log)
    assert log[-1].endswith("done")


def test_a_stop_between_submission_and_begin_is_not_lost(api, study, monkeypatch):
    begin = threading.Event()
    work = job.work

    def later(folder, last, tell=None, order=""):
        begin.wait(20)
        return work(folder, last, tell, order)

    monkeypatch.setattr(job, "work", later)
    run = api("POST", "/runs", {"study": study["key"], "flow": "spray", "quality": "full"})
    api("POST", f"/runs/{run['identity']}/stop")
    begin.set()
    assert finished(run).state == "stopped"
