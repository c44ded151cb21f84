"""A disk that is really full: everything is said in words, what was kept stays, and a server starts."""

import json
import os
import subprocess
import sys

import pytest

from tests.clusters import until
from tests.robust.servers import served
from tests.robust.test_apart import begun, run_of, study


class Disk:
    """A small file system of its own."""

    def __init__(self, place):
        self.place, self.ballast = place, place / "ballast"

    def fill(self):
        """Until not one page is free."""
        with self.ballast.open("wb", buffering=0) as file:
            for piece in (1 << 20, 1 << 12):
                try:
                    while file.write(bytes(piece)) == piece:
                        pass
                except OSError:
                    pass

    def free(self):
        self.ballast.unlink()


@pytest.fixture
def disk(tmp_path):
    place = tmp_path / "small"
    place.mkdir()
    made = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=64m", "none", place], capture_output=True, text=True)
    if made.returncode:
        pytest.skip(f"no file system can be mounted here: {made.stderr.strip()}")
    try:
        yield Disk(place)
    finally:
        subprocess.run(["umount", "-l", place], check=True)


def test_all_is_said_in_words_what_was_kept_stays_and_a_server_starts(disk, tmp_path):
    home, env = disk.place / "home", {"ERRANT_GUST_ROOM": "0"}
    document = tmp_path / "study.gust.json"
    document.write_text(json.dumps(study("Full", end=3)))

    def edited(server, key, speed):
        now = server.ask("GET", f"/studies/{key}")[1]
        now["document"]["fields"][0]["steps"][0]["params"]["speed"] = speed
        return server.ask(
            "PUT", f"/studies/{key}", {"document": now["document"], "base": now["revision"], "label": "s"}
        )

    with served(home, demo=False, **env) as server:
        key, identity = begun(server, study("Full", end=8, rate=5000))
        until(lambda: run_of(server, key, identity)["state"] == "done", 60)
        until((home / "reserve").is_file, 5)
        disk.fill()
        film = {"first": 1, "last": 3, "width": 64, "height": 64, "fps": 24}
        for status, said in (
            edited(server, key, 2.0),
            server.ask("POST", "/runs", {"study": key, "flow": "p", "quality": "full"}),
            server.ask("POST", f"/studies/{key}/flipbooks", film),
        ):
            assert status == 507
            assert "the disk is full" in said["what"]
        assert server.ask("GET", f"/studies/{key}")[1]["document"]["fields"][0]["steps"][0]["params"]["speed"] == 1.0
        look = {"study": key, "document": study("Full"), "time": 0, "size": 24, "channel": "a.b", "serial": 1}
        assert server.ask("POST", "/look/swatches", look)[0] == 200
        assert server.alive

    def said_by(*words):
        done = subprocess.run(
            [sys.executable, "-m", "errant_gust.cli.main", *words], capture_output=True, text=True, timeout=120,
            env={**os.environ, **env, "ERRANT_GUST_HOME": str(home)},
        )  # fmt: skip
        assert "Traceback" not in done.stderr, done.stderr
        return done.returncode, done.stdout + done.stderr

    run = home / "runs" / identity
    for words in (
        ("backup", disk.place / "b.zip"),
        ("export", run, "--format", "usd", "--to", disk.place / "usd"),
        ("export", run, "--format", "ply", "--to", disk.place / "ply"),
        ("deliver", run, "--to", disk.place / "delivered"),
        ("run", document, "--flow", "p", "--out", disk.place / "out"),
    ):
        code, said = said_by(*map(str, words))
        assert code not in (0, None), words
        assert "full" in said or "No space left" in said or "are free" in said, said
    assert not [p for p in disk.place.rglob("*.part*") if "home" not in p.parts], "nothing half-written"
    assert said_by("tidy")[0] == 0, "what may go is told"

    with served(home, demo=False, **env) as server:
        assert not (home / "reserve").exists(), "it is what it lives of"
        assert server.ask("GET", f"/studies/{key}")[1]["undo"] is None
        assert run_of(server, key, identity)["frames"] == list(range(1, 9))
        disk.free()
        assert edited(server, key, 3.0)[0] == 200
    with served(home, demo=False, **env):
        until((home / "reserve").is_file, 5)
