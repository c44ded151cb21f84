"""Runs on the shelf: kept apart, named, pinned, deleted and brought back, their space freed."""

import json
import shutil
import threading
from datetime import timedelta

import numpy as np
import pytest
from django.utils import timezone

from errant_gust.core.home import home
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.server import runs, shelf
from errant_gust.server.models import Run
from tests.server.test_api import api, study, wait_for  # noqa: F401

pytestmark = pytest.mark.django_db(transaction=True)


def run_of(api, made, speed=None, flow="spray"):  # noqa: F811
    """A run of the study, with another speed of the wind if one is given; its identity."""
    key = made["key"]
    if speed is not None:
        now = api("GET", f"/studies/{key}")
        now["document"]["fields"][0]["steps"][0]["params"]["speed"] = speed
        api("PUT", f"/studies/{key}", {"document": now["document"], "base": now["revision"], "label": "speed"})
    identity = api("POST", "/runs", {"study": key, "flow": flow})["identity"]
    wait_for(api, key, identity)
    return identity


def rows(api, key=""):  # noqa: F811
    return {r["identity"]: r for r in api("GET", f"/shelf?study={key}")["runs"]}


def test_every_run_says_what_it_changed_against_the_one_before(api, study):  # noqa: F811
    first, second = run_of(api, study), run_of(api, study, 2.5)
    found = api("GET", f"/shelf?study={study['key']}")
    assert [r["identity"] for r in found["runs"]] == [second, first]
    newer, older = found["runs"]
    assert newer["changes"] == ["wind ▸ Wind ▸ Speed 1 m/s → 2.5 m/s"]
    assert (newer["against"], older["against"], older["changes"]) == (first, "", [])
    assert found["used"] == newer["bytes"] + older["bytes"] > 0
    (one,) = api("GET", f"/runs/{first}/changes?against={second}")
    assert one["what"] == "Speed 2.5 m/s → 1 m/s"
    picture = api("GET", f"/runs/{first}/picture?wide=80")
    assert picture.content.startswith(b"\x89PNG")
    assert api("GET", "/runs/nothing/picture", status=404)["message"]


def test_a_deleted_run_comes_back_and_is_not_offered_meanwhile(api, study):  # noqa: F811
    identity = run_of(api, study)
    api("DELETE", f"/runs/{identity}")
    assert identity not in rows(api)
    assert api("GET", f"/runs?study={study['key']}") == []
    assert runs.folder_of(identity).is_dir()
    api("POST", f"/runs/{identity}/undelete")
    assert rows(api)[identity]["state"] == "done"
    api("DELETE", f"/runs/{identity}")
    again = api("POST", "/runs", {"study": study["key"], "flow": "spray"})
    assert (again["identity"], again["state"]) == (identity, "done"), "asked for again it is back, with its frames"
    assert identity in rows(api)


def test_space_is_freed_of_what_nobody_pinned_and_nothing_else(api, study):  # noqa: F811
    kept, freed = run_of(api, study), run_of(api, study, 2.5)
    said = api("PATCH", f"/runs/{kept}", {"name": "the <b>good</b> one", "pinned": True})
    assert said["name"] == "the <b>good</b> one"
    victims = api("GET", "/shelf/free")
    assert [v["identity"] for v in victims] == [freed]
    came = api("POST", "/shelf/free", {"runs": [kept, freed, "nothing"]})
    assert came["bytes"] == victims[0]["bytes"] > 0
    assert not runs.folder_of(freed).exists()
    assert runs.folder_of(kept).is_dir()
    assert list(rows(api)) == [kept]
    api("PATCH", f"/runs/{kept}", {"pinned": False})
    assert rows(api)[kept]["name"] == "the <b>good</b> one", "one thing is told at a time"


def test_what_goes_on_is_never_freed(api, study, monkeypatch):  # noqa: F811
    now = api("GET", f"/studies/{study['key']}")
    now["document"]["fields"][0]["steps"][0]["params"]["speed"] = 3.25  # one that nobody has run
    api("PUT", f"/studies/{study['key']}", {"document": now["document"], "base": now["revision"], "label": "speed"})
    held = threading.Event()
    monkeypatch.setattr(runs.engine, "submit", lambda *rest: held.set())
    identity = api("POST", "/runs", {"study": study["key"], "flow": "spray"})["identity"]
    assert held.is_set()
    assert api("GET", "/shelf/free") == []
    assert api("POST", "/shelf/free", {"runs": [identity]}) == {"bytes": 0}
    assert runs.folder_of(identity).is_dir()
    runs._finished(identity, {"state": "stopped", "message": ""})


def test_a_version_is_put_back_as_an_edit_that_undo_takes_away(api, study):  # noqa: F811
    first = run_of(api, study)
    run_of(api, study, 2.5)
    made = api("POST", f"/runs/{first}/put-back")
    assert made["document"]["fields"][0]["steps"][0]["params"]["speed"] == 1
    assert made["undo"] == "Put back the version of spray, preview"
    back = api("POST", f"/studies/{study['key']}/undo")
    assert back["document"]["fields"][0]["steps"][0]["params"]["speed"] == 2.5
    old = back["revision"] - 1
    assert api("POST", f"/runs/{first}/put-back?base={old}", status=409)["message"]


def test_a_run_goes_on_to_a_later_frame_as_it_was_begun(api, study):  # noqa: F811
    first = run_of(api, study)
    run_of(api, study, 2.5)
    api("POST", f"/runs/{first}/continue", {"last": 9})
    wait_for(api, study["key"], first)
    assert rows(api)[first]["frames"] == list(range(1, 10))
    assert api("POST", f"/runs/{first}/continue", {"last": 3})["last"] == 9, "nothing is taken away"
    (speed,) = [s["params"]["speed"] for s in shelf.version_of(first).model_dump()["fields"][0]["steps"][:1]]
    assert speed == 1


def test_a_deleted_study_stops_its_runs_and_frees_them_later(api, study, monkeypatch):  # noqa: F811
    identity = run_of(api, study)
    stopped = []
    monkeypatch.setattr(runs, "stop", lambda run: stopped.append(run.identity))
    api("DELETE", f"/studies/{study['key']}")
    assert stopped == [identity]
    assert identity not in rows(api)
    shelf.sweep()
    assert runs.folder_of(identity).is_dir(), "it can be undeleted for a while"
    type(study_row := Run.objects.get(identity=identity).study).objects.filter(pk=study_row.pk).update(
        deleted=timezone.now() - timedelta(days=2)
    )
    left = home() / "runs" / ".gone.freed"
    left.mkdir(parents=True)
    shelf.sweep()
    assert not runs.folder_of(identity).exists()
    assert not left.exists()
    assert not Run.objects.filter(identity=identity).exists()


def test_the_budget_warns_before_it_is_reached(api, study, monkeypatch):  # noqa: F811
    run_of(api, study)
    assert api("GET", "/shelf")["warning"] == ""
    used = shelf.used()
    monkeypatch.setenv("ERRANT_GUST_DISK", str(1.1 * used / 1e9))
    assert "free what is not needed" in api("GET", "/shelf")["warning"]
    monkeypatch.setenv("ERRANT_GUST_DISK", "much")
    assert "right would be 200, in GB" in api("GET", "/shelf", status=422)["message"]


def test_a_folder_that_somebody_took_away_is_told_and_harms_nothing(api, study):  # noqa: F811
    first, second = run_of(api, study), run_of(api, study, 2.5)
    shutil.rmtree(runs.folder_of(first))
    shelf._study_of.cache_clear()
    found = rows(api)
    assert found[second]["changes"] == []
    assert found[first]["frames"] == []
    api("POST", f"/runs/{first}/put-back", status=422)
    assert json.dumps(api("GET", "/shelf/free"))
    api("POST", "/shelf/free", {"runs": [first]})
    assert list(rows(api)) == [second]


def test_a_damaged_frame_is_found_and_computed_again_on_wish(api, study):  # noqa: F811
    identity = run_of(api, study, 2.8125)
    folder = runs.folder_of(identity)
    before = RunStore(folder).read(4)
    for frame in (1, 5):  # the first, and others than the last, which is what a run is computed to
        next((folder / "frames" / f"{frame:06d}.zarr").glob("*/zarr.json")).unlink()
    next(p for p in (folder / "frames" / "000004.zarr" / "position" / "c").rglob("*") if p.is_file()).unlink()
    assert "is damaged" in api("GET", f"/runs/{identity}/frames/4/particles", status=422)["message"]
    assert api("POST", f"/runs/{identity}/mend")["state"] in ("waiting", "running")
    done = wait_for(api, study["key"], identity)
    assert done["frames"] == list(range(1, done["last"] + 1))
    for name, values in RunStore(folder).read(4).items():
        np.testing.assert_array_equal(values, before[name])
    log = api("GET", f"/runs/{identity}/log")
    assert any("frame 4 is computed again: frame 4 cannot be read (it is damaged" in line for line in log)
    assert any("6 frames were read by their sums, 3 of them were damaged" in line for line in log)
    assert log[-1].endswith("done"), "and it was not stopped at its last frame, which was there"
    assert not (folder / "mend").exists()
