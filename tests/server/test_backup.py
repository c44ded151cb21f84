"""Backups while the server works, homes made of them; old revisions thinned; a full disk says so and loses nothing."""

import errno
import json
import os
import shutil
import sqlite3
import threading
import zipfile
from datetime import timedelta
from pathlib import Path

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection
from django.utils import timezone

from errant_gust.core.errors import FileError, GustError
from errant_gust.core.files import room
from errant_gust.core.files.room import NoRoom
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.home import home
from errant_gust.core.runs import frame_store
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.manifest import assets_of
from errant_gust.server import backup, revisions, runs, study_files, thinning
from errant_gust.server.models import Revision, Run, Study
from tests.clusters import until
from tests.server.test_api import api, study, wait_for  # noqa: F401

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def database(monkeypatch):
    """The database of the tests under the name that a home has it by."""
    monkeypatch.setattr(backup, "database", lambda: Path(connection.settings_dict["NAME"]))


def edit(api, study, speed, label="Edit"):  # noqa: F811
    now = api("GET", f"/studies/{study['key']}")
    now["document"]["fields"][0]["steps"][0]["params"]["speed"] = speed
    return api(
        "PUT", f"/studies/{study['key']}", {"document": now["document"], "base": now["revision"], "label": label}
    )


def a_run(api, study, speed):  # noqa: F811
    edit(api, study, speed)
    run = api("POST", "/runs", {"study": study["key"], "flow": "spray", "quality": "preview"})["identity"]
    wait_for(api, study["key"], run)
    return run


# backups ----------------------------------------------------------------------------------------------------------


def test_a_backup_makes_a_home_with_the_same_studies_files_and_pinned_frames(api, study, database, tmp_path):  # noqa: F811
    kept, dropped = a_run(api, study, 3.0625), a_run(api, study, 3.1875)
    api("PATCH", f"/runs/{kept}", {"pinned": True})
    assets = revisions.folder(study["key"]) / "assets"
    assets.mkdir(parents=True, exist_ok=True)
    (assets / "lantern.txt").write_text("light")
    film = home() / "flipbooks" / study["key"] / "0123456789ab" / "flipbook.mp4"
    film.parent.mkdir(parents=True)
    film.write_bytes(b"a film")
    said = backup.back_up(tmp_path / "all.zip")
    assert "1 of these with their frames" in said
    made = tmp_path / "moved" / "home"
    shares = []
    assert "studies and" in backup.put_back(tmp_path / "all.zip", made, shares.append)
    assert shares == sorted(shares)
    assert shares[-1] == 1

    there = RunStore(made / "runs" / kept)
    here = RunStore(runs.folder_of(kept))
    assert there.frames() == here.frames()
    for frame in here.frames():
        for name, values in here.read(frame).items():
            assert values.tobytes() == there.read(frame)[name].tobytes()
    assert RunStore(made / "runs" / dropped).manifest()["identity"] == dropped, "what it was is kept"
    assert RunStore(made / "runs" / dropped).frames() == []
    assert (made / "studies" / study["key"] / "assets" / "lantern.txt").read_text() == "light"
    assert (made / film.relative_to(home())).read_bytes() == b"a film"
    assert assets_of(there).folder == made / "studies" / study["key"] / "assets", "a home may be moved"
    with sqlite3.connect(made / backup.DATABASE) as moved:
        rows = dict(moved.execute("SELECT identity, state FROM gust_run"))
        documents = [json.loads(d) for (d,) in moved.execute("SELECT document FROM gust_revision ORDER BY id")]
    assert rows[kept] == "done"
    assert rows[dropped] == "stopped", "it can be gone on with"
    assert documents == [r.document for r in Revision.objects.order_by("pk")]
    with pytest.raises(FileError, match="is there already"):
        backup.back_up(tmp_path / "all.zip")
    with pytest.raises(FileError, match="is not empty"):
        backup.put_back(tmp_path / "all.zip", made)


def test_a_backup_is_of_one_moment_while_somebody_saves(api, study, database, tmp_path):  # noqa: F811
    over, faults = threading.Event(), []

    def saves():
        speed = 5.0
        while not over.is_set():
            try:
                speed += 0.25
                edit(api, study, speed, f"speed {speed}")
            except AssertionError as fault:  # a locked database
                faults.append(fault)
        connection.close()

    writer = threading.Thread(target=saves)
    writer.start()
    try:
        for n in range(5):
            backup.back_up(tmp_path / f"{n}.zip", "none")
    finally:
        over.set()
        writer.join()
    assert not faults
    for n in range(5):
        backup.put_back(tmp_path / f"{n}.zip", tmp_path / f"home{n}")
        with sqlite3.connect(tmp_path / f"home{n}" / backup.DATABASE) as database_:
            ((head, newest),) = database_.execute(
                "SELECT head_id, (SELECT MAX(id) FROM gust_revision) FROM gust_study WHERE key = ?", (study["key"],)
            )
        assert head == newest, "never a study without its newest revision"


@pytest.mark.parametrize(
    ("entry", "words"),
    [
        ("../outside", "which no backup does"),
        ("runs/../../outside", "which no backup does"),
        ("/etc/outside", "which no backup does"),
        ("studies/x", "which no backup does"),
        ("secret", "which no backup does"),
        (None, "is no backup"),
    ],
)
def test_what_no_backup_holds_is_refused_and_leaves_nothing(tmp_path, entry, words):
    path = tmp_path / "evil.zip"
    with zipfile.ZipFile(path, "w") as archive:
        if entry is not None:
            archive.writestr("backup.json", json.dumps({"format": backup.FORMAT, "version": "0001"}))
            archive.writestr(backup.DATABASE, b"")
            archive.writestr(entry, b"x")
        else:
            archive.writestr("readme.txt", b"x")
    with pytest.raises(FileError, match=words):
        backup.put_back(path, tmp_path / "made")
    assert [p.name for p in tmp_path.iterdir()] == ["evil.zip"]


def test_broken_newer_and_too_large_backups_are_refused(api, study, database, tmp_path, monkeypatch):  # noqa: F811
    whole = tmp_path / "whole.zip"
    backup.back_up(whole, "none")
    (tmp_path / "half.zip").write_bytes(whole.read_bytes()[: whole.stat().st_size // 2])
    with pytest.raises(FileError, match="is no backup, or a broken one"):
        backup.put_back(tmp_path / "half.zip", tmp_path / "made")
    data = bytearray(whole.read_bytes())
    data[len(data) // 2] ^= 0xFF
    (tmp_path / "flipped.zip").write_bytes(data)
    with pytest.raises(FileError):
        backup.put_back(tmp_path / "flipped.zip", tmp_path / "made")
    with pytest.raises(FileError, match="is not there"):
        backup.put_back(tmp_path / "none.zip", tmp_path / "made")
    monkeypatch.setattr(backup, "_version", lambda: "0003_told")
    with pytest.raises(FileError, match="newer version"):
        backup.put_back(whole, tmp_path / "made")
    monkeypatch.undo()
    monkeypatch.setenv("ERRANT_GUST_ROOM", "1e9")
    with pytest.raises(NoRoom, match="more than is free"):
        backup.put_back(whole, tmp_path / "made")
    assert not (tmp_path / "made").exists()


# revisions --------------------------------------------------------------------------------------------------------


def test_of_old_revisions_one_a_day_stays_and_undo_goes_from_day_to_day(api, study):  # noqa: F811
    for n in range(12):
        edit(api, study, 6 + n / 8, f"edit {n}")
    rows = list(Revision.objects.filter(study=study["key"]).order_by("pk"))
    noon = timezone.now().replace(hour=12)
    for n, row in enumerate(rows):  # four a day, the last of all today
        Revision.objects.filter(pk=row.pk).update(created=noon - timedelta(days=40 - n // 4) if n < 12 else noon)
    told = thinning.thin(30, really=False)
    assert (told.gone, told.kept) == (8, 5)
    assert told.bytes > 1000
    assert Revision.objects.filter(study=study["key"]).count() == 13, "it was only told"
    assert thinning.thin(30, really=True) == told
    left = list(Revision.objects.filter(study=study["key"]).order_by("pk"))
    assert [r.pk for r in left] == [rows[n].pk for n in (0, 3, 7, 11, 12)]
    assert Study.objects.get(key=study["key"]).head_id == rows[12].pk
    for row in (11, 7, 3, 0):
        api("POST", f"/studies/{study['key']}/undo")
        assert Study.objects.get(key=study["key"]).head_id == rows[row].pk
    for row in (3, 7):
        api("POST", f"/studies/{study['key']}/redo")
        assert Study.objects.get(key=study["key"]).head_id == rows[row].pk
    assert thinning.thin(30, really=True).gone == 0


# a full disk ------------------------------------------------------------------------------------------------------


def test_a_run_waits_while_the_disk_is_nearly_full_and_goes_on_to_the_same_frames(api, study, monkeypatch):  # noqa: F811
    edit(api, study, 7.0625)
    free = [10**12]
    monkeypatch.setattr(room, "free_at", lambda folder: free[0])
    write = RunStore.write

    def fills(store, frame, channels, facts):
        if frame == 3 and not os.path.exists(store.folder / "was full"):
            (store.folder / "was full").touch()
            free[0] = 1000
        write(store, frame, channels, facts)

    monkeypatch.setattr(RunStore, "write", fills)
    run = api("POST", "/runs", {"study": study["key"], "flow": "spray", "quality": "preview"})["identity"]
    found = wait_for(api, study["key"], run, "waiting")
    until(lambda: "there is no room" in (wait_for(api, study["key"], run, "waiting")["message"]), 20)
    assert found["frames"] == [1, 2]
    free[0] = 10**12
    done = wait_for(api, study["key"], run, "done")
    assert done["frames"] == list(range(1, done["last"] + 1))
    log = api("GET", f"/runs/{run}/log")
    assert any("there is no room: 1 kB are free" in line for line in log)
    assert any("there is room again" in line for line in log)


def test_a_disk_that_fills_within_a_frame_leaves_whole_frames_only(tmp_path, monkeypatch, rng):
    store = RunStore(tmp_path / "run")
    store.create({"identity": "x"})
    frame = {"position": rng.normal(size=(50, 3)).astype("f4")}
    store.write(1, frame, {})

    def full(folder, *rest):
        folder.mkdir()
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(frame_store, "write_arrays", full)
    with pytest.raises(NoRoom, match="frame 2 could not be written"):
        store.write(2, frame, {})
    assert store.frames() == [1]
    assert [p.name for p in store.frames_folder.iterdir()] == ["000001.zarr"]


def test_a_database_that_is_full_refuses_a_save_in_words_and_keeps_what_was_there(api, study):  # noqa: F811
    with connection.cursor() as cursor:
        cursor.execute("PRAGMA page_count")
        pages = cursor.fetchone()[0]
        cursor.execute(f"PRAGMA max_page_count = {pages}")
    try:
        before = api("GET", f"/studies/{study['key']}")
        now = json.loads(json.dumps(before["document"]))
        for n in range(400):
            now["note"] = f"{n} {'x' * 3900}"
            body = {"document": now, "base": before["revision"], "label": "long"}
            answer = api.client.put(
                f"/api/studies/{study['key']}", json.dumps(body), content_type="application/json",
                headers={"X-Errant-Gust": "1"},
            )  # fmt: skip
            if answer.status_code != 200:
                break
            before = api("GET", f"/studies/{study['key']}")
        assert answer.status_code == 507
        assert answer.json()["message"].startswith("the disk is full: this was not saved; free some space")
        assert api("POST", "/studies", {"document": now}, status=507)["fix"]
        assert api("GET", f"/studies/{study['key']}") == before
    finally:
        with connection.cursor() as cursor:
            cursor.execute("PRAGMA max_page_count = 1073741823")
    api("PUT", f"/studies/{study['key']}", {"document": now, "base": before["revision"], "label": "long"})


def full(*given, **named):
    raise OSError(errno.ENOSPC, "No space left on device")


def test_uploads_exports_and_starts_on_a_full_disk_are_answered_in_words(api, study, monkeypatch):  # noqa: F811
    run = a_run(api, study, 7.1875)
    with monkeypatch.context() as patch:
        patch.setattr(study_files, "_receive", full)
        upload = {"file": SimpleUploadedFile("tower.obj", b"v 0 0 0\n")}
        answer = api.client.post(f"/api/studies/{study['key']}/meshes?name=tower.obj", upload)
        assert answer.status_code == 507
        assert "the disk is full" in answer.json()["message"]
    with monkeypatch.context() as patch:
        patch.setattr("errant_gust.core.files.zips.tempfile.TemporaryDirectory", full)
        assert "the disk is full" in api("GET", f"/runs/{run}/export?format=ply", status=507)["message"]
    with monkeypatch.context() as patch:
        patch.setattr(frame_store, "_aside", full)
        edit(api, study, 7.3125)
        said = api("POST", "/runs", {"study": study["key"], "flow": "spray", "quality": "preview"}, status=507)
        assert "the disk is full" in said["message"]
    assert api("POST", "/runs", {"study": study["key"], "flow": "spray", "quality": "preview"})["identity"]


def test_a_size_that_is_none_is_an_error_in_words(monkeypatch, tmp_path):
    monkeypatch.setenv("ERRANT_GUST_ROOM", "much")
    with pytest.raises(GustError, match=r"'much' is no size; right would be 0\.5, in GB"):
        room.has_room(tmp_path)


def test_files_of_a_home_that_was_moved_are_found_there(tmp_path, study, api):  # noqa: F811
    run = a_run(api, study, 7.4375)
    place = tmp_path / "elsewhere"
    shutil.copytree(home() / "runs" / run, place / "runs" / run)
    assets = place / "studies" / study["key"] / "assets"
    assets.mkdir(parents=True)
    assert assets_of(RunStore(place / "runs" / run)).folder == assets
    shutil.rmtree(assets)
    was = Assets(revisions.folder(study["key"]) / "assets").folder
    assert assets_of(RunStore(place / "runs" / run)).folder == was.resolve(), "else where they were"
    assert Run.objects.get(identity=run).memory > 0
