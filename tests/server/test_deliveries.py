"""Hand over through the server: what there is, what would be written, written, stopped, proved; folders kept to."""

import io
import json
import shlex
import subprocess
import sys
import threading
import zipfile
from pathlib import Path

import numpy as np
import pytest
from django.test import Client

from errant_gust.core.home import home
from errant_gust.core.runs.delivery import hands
from errant_gust.core.runs.delivery.verify import verify
from errant_gust.server import deliveries, runs
from tests.clusters import Machines, until
from tests.server.test_api import api, study, wait_for  # noqa: F401

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def run(api, study):  # noqa: F811
    """A run of six frames of its own."""
    study["document"]["clock"]["fps"] = 27
    api("PUT", f"/studies/{study['key']}", {**study, "base": study["revision"], "label": "x"})
    made = api("POST", "/runs", {"study": study["key"], "flow": "spray", "quality": "preview"})
    wait_for(api, study["key"], made["identity"])
    return made["identity"]


@pytest.fixture
def root(tmp_path, monkeypatch):
    monkeypatch.setenv("ERRANT_GUST_DELIVER", f"{tmp_path / 'site'}:{tmp_path / 'gone'}")
    (tmp_path / "site").mkdir()
    return str(tmp_path / "site")


def body(run, root, name="spray_v1", format="npz", **options):
    return {"items": [{"run": run, "format": format}], "options": options, "root": root, "name": name}


def going(api, study, id):  # noqa: F811
    return next(g for g in api("GET", f"/hand-over?study={study['key']}")["going"] if g["id"] == id)


def faults(api, study, to):  # noqa: F811
    id = api("POST", "/hand-over/prove", {"to": to})["id"]
    done = until(lambda: (g := going(api, study, id))["state"] == "done" and g, 60)
    assert done["done"] == done["total"]
    return done["faults"]


@pytest.mark.slow("a cluster")
def test_a_cluster_writes_unless_this_machine_is_asked(api, study, run, root, monkeypatch, tmp_path):  # noqa: F811
    with Machines(home(), tmp_path) as machines:
        monkeypatch.setenv("ERRANT_GUST_SCHEDULER", machines.address)
        assert api("GET", f"/hand-over?study={study['key']}")["cluster"] == machines.address
        id = api("POST", "/hand-over", body(run, root, "there"))["id"]
        away = until(lambda: (g := going(api, study, id))["message"] and g, 60)
        assert (away["state"], away["cluster"]) == ("running", machines.address)
        assert away["message"].startswith(f"it waits: the scheduler at {machines.address} is away")
        machines.scheduler()
        machines.worker("only")
        done = until(lambda: (g := going(api, study, id))["state"] == "done" and g, 90)
        assert (done["done"], done["message"]) == (6, "")
        machines.kill("scheduler")
        id = api("POST", "/hand-over", {**body(run, root, "here"), "place": "here"})["id"]
        assert until(lambda: (g := going(api, study, id))["state"] == "done" and g, 60)["cluster"] == ""
    there, here = (json.loads(Path(root, name, "delivery.json").read_text()) for name in ("there", "here"))
    assert there["files"] == here["files"]


def test_fields_and_shapes_of_the_study_as_it_stands_are_handed_over(api, study, root):  # noqa: F811
    there = api("GET", f"/hand-over?study={study['key']}")
    things = {t["id"]: t for t in there["things"]}
    assert things["wind"]["sort"] == "field"
    assert things["wind"]["words"] == "vector, m/s"
    shape = next(t for t in there["things"] if t["sort"] == "shape")
    assert shape["formats"][-1] == "vdb"
    region = things["wind"]["regions"][0]
    items = [{"result": f"wind@{region}", "format": "npz"}, {"result": shape["id"], "format": "obj"}]
    order = {"study": study["key"], "items": items, "options": {"first": 1, "last": 2}, "root": root, "name": "things"}
    plan = api("POST", "/hand-over/plan", order)
    name = shape["id"]
    assert things["wind"]["still"]
    assert plan["files"] == [f"wind/wind_{region}.0001.npz", f"{name}/{name}_shape.0001.obj"], "one for all frames"
    id = api("POST", "/hand-over", order)["id"]
    until(lambda: going(api, study, id)["state"] == "done", 60)
    made = next(m for m in api("GET", f"/hand-over?study={study['key']}")["made"] if m["to"].endswith("/things"))
    assert made["words"] == f"wind, {shape['id']}, study"
    manifest = json.loads(Path(made["to"], "delivery.json").read_text())
    again = shlex.split(manifest["command"])
    subprocess.run([sys.executable, "-m", "errant_gust.cli.main", *again[1:]], check=True, capture_output=True)
    twice = json.loads(Path(f"{made['to']}_again", "delivery.json").read_text())
    assert twice["files"] == manifest["files"]
    items[0]["result"] = "wind@nowhere"
    assert "there is no region 'nowhere'" in api("POST", "/hand-over/plan", order, status=422)["message"]


def test_what_there_is_is_told_planned_written_and_proved(api, study, run, root):  # noqa: F811
    there = api("GET", f"/hand-over?study={study['key']}")
    assert there["roots"][0] == root
    offer = next(o for o in there["offered"] if o["run"] == run)
    assert (offer["first"], offer["last"], offer["formats"][0]) == (1, 6, "ply")
    assert "velocity" in offer["channels"]
    order = body(run, root, up="Y", unit="cm", first=1, last=5, step=2, number=101)
    plan = api("POST", "/hand-over/plan", order)
    assert plan["files"] == [f"spray/spray_particles.{n:04d}.npz" for n in (101, 103, 105)]
    assert plan["problem"] == ""
    assert plan["readers"]["npz"].startswith("NumPy ")
    assert plan["bytes"] > 0
    id = api("POST", "/hand-over", order)["id"]
    until(lambda: going(api, study, id)["state"] == "done", 60)
    made = api("GET", f"/hand-over?study={study['key']}")["made"][0]
    assert (made["to"], made["files"]) == (f"{root}/spray_v1", 3)
    assert faults(api, study, made["to"]) == []
    manifest = json.loads(Path(made["to"], "delivery.json").read_text())
    again = shlex.split(manifest["command"])
    assert again[:2] == ["gust", "deliver"]
    subprocess.run([sys.executable, "-m", "errant_gust.cli.main", *again[1:]], check=True, capture_output=True)
    twice = json.loads(Path(f"{made['to']}_again", "delivery.json").read_text())
    assert twice["files"] == manifest["files"], "the command in it makes the same, byte by byte"
    path = f"{made['to']}/{plan['files'][1]}"
    here = runs.RunStore(runs.folder_of(run)).read(3)
    with np.load(path) as archive:
        np.testing.assert_allclose(archive["position"][:, 1], 100 * here["position"][:, 2], rtol=1e-5)
    data = bytearray(Path(path).read_bytes())
    data[len(data) // 2] ^= 1
    Path(path).write_bytes(data)
    (fault,) = faults(api, study, made["to"])
    assert fault == {"name": plan["files"][1], "what": "was changed: its sum is another"}
    again = api("POST", "/hand-over/plan", order)
    assert "is there already" in again["problem"]
    assert "is there already" in api("POST", "/hand-over", order, status=422)["message"]


def test_the_stage_has_the_saved_viewpoints_and_all_of_it_is_downloaded_as_one_zip(api, study, run, root):  # noqa: F811
    from pxr import Usd

    now = api("GET", f"/studies/{study['key']}")
    view = {"name": "From the quay", "position": [4, 0, 1], "target": [0, 0, 1], "parallel": False}
    now["document"]["looks"] = {"views": [view]}
    api("PUT", f"/studies/{study['key']}", {**now, "base": now["revision"], "label": "x"})
    there = api("GET", f"/hand-over?study={study['key']}")
    assert there["cameras"] == ["From the quay"]
    assert api("GET", f"/studies/{study['key']}")["document"]["flows"] == now["document"]["flows"]
    order = {**body(run, root, "staged", format="usd"), "study": study["key"]}
    id = api("POST", "/hand-over", order)["id"]
    until(lambda: going(api, study, id)["state"] == "done", 60)
    sent = Client().get(f"/api/hand-over/download?to={root}/staged")
    assert sent.headers["Content-Disposition"] == 'attachment; filename="staged.zip"'
    archive = zipfile.ZipFile(io.BytesIO(b"".join(sent)))
    assert archive.testzip() is None
    files = sorted(str(p.relative_to(f"{root}/staged")) for p in Path(root, "staged").rglob("*") if p.is_file())
    assert sorted(archive.namelist()) == files
    archive.extractall(f"{root}/elsewhere")
    assert verify(Path(root, "elsewhere")) == []
    stage = Usd.Stage.Open(f"{root}/elsewhere/scene.usda")
    assert stage.GetPrimAtPath("/World/Cameras/From_the_quay").GetTypeName() == "Camera"
    Path(root, "staged", "scene.usda").unlink()
    refused = Client().get(f"/api/hand-over/download?to={root}/staged")
    assert (refused.status_code, "lacks scene.usda" in refused.json()["message"]) == (422, True)
    assert Client().get("/api/hand-over/download?to=/etc/x").status_code == 422


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"root": "/etc"}, "is no folder for deliveries"),
        ({"root": "gone"}, "does not exist"),
        ({"name": "../out"}, "is no name for a folder"),
        ({"name": ".hidden"}, "is no name for a folder"),
        ({"name": " "}, "is no name for a folder"),
        ({"items": []}, "nothing is chosen"),
        ({"options": {"pattern": "{flow}"}}, "all frames one file"),
        ({"options": {"first": 3, "last": 9}}, "frame 7 is not there"),
        ({"items": [{"run": "none"}]}, "there is no run"),
    ],
)
def test_what_cannot_be_is_refused_in_words(api, study, run, root, tmp_path, change, words):  # noqa: F811
    change = {k: str(tmp_path / "gone") if v == "gone" else v for k, v in change.items()}
    order = {**body(run, root), **change}
    status = 404 if words == "there is no run" else 422
    assert words in api("POST", "/hand-over/plan", order, status=status)["message"]
    assert words in api("POST", "/hand-over", order, status=status)["message"]
    assert list((tmp_path / "site").iterdir()) == []
    assert "is no folder for deliveries" in api("POST", "/hand-over/prove", {"to": "/etc/x"}, status=422)["message"]


def test_one_that_is_stopped_goes_on_and_the_same_is_not_written_twice(api, study, run, root, monkeypatch):  # noqa: F811
    held, free, write = threading.Event(), threading.Event(), hands.write_one

    def slow(*given):
        if given[2].frame == 3:
            held.set()
            free.wait(30)
        return write(*given)

    monkeypatch.setattr(hands, "write_one", slow)
    order = body(run, root, "spray_v2")
    id = api("POST", "/hand-over", order)["id"]
    held.wait(30)
    assert "is being delivered already" in api("POST", "/hand-over", order, status=422)["message"]
    other = api("POST", "/hand-over", body(run, root, "spray_v3"))["id"]
    assert going(api, study, other)["state"] == "waiting", "one after the other"
    api("POST", f"/hand-over/{id}/stop")
    free.set()
    until(lambda: going(api, study, id)["state"] == "stopped", 30)
    assert going(api, study, id)["done"] == 3
    until(lambda: going(api, study, other)["state"] == "done", 30)
    written = []
    monkeypatch.setattr(hands, "write_one", lambda *given: written.append(given[2].frame) or write(*given))
    again = api("POST", "/hand-over", order)["id"]
    until(lambda: going(api, study, again)["state"] == "done", 30)
    assert written == [4, 5, 6]
    api("POST", "/hand-over/none/stop", status=404)
    assert [m["to"].rsplit("/", 1)[1] for m in deliveries.made()] == ["spray_v2", "spray_v3"]
