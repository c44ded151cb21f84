"""Starts that meet what cannot be: a database that is none, a full disk, a request that is too large."""

import http.client
import os
import shutil
import socket
import sqlite3
import stat
import subprocess
import sys
from contextlib import closing
from urllib.parse import urlsplit

import pytest

from errant_gust.server.backup import DATABASE
from tests.clusters import until
from tests.robust.servers import served
from tests.robust.test_apart import begun, ordered, run_of, study


def refused(home):
    """What a start says that does not serve."""
    command = [sys.executable, "-m", "errant_gust.cli.main", "serve", "--no-browser", "--port", "0"]
    done = subprocess.run(
        command, env={**os.environ, "ERRANT_GUST_HOME": str(home)}, capture_output=True, text=True, timeout=90
    )
    assert done.returncode == 2, done.stderr
    assert "Traceback" not in done.stderr
    return done.stderr


@pytest.fixture(scope="module")
def lived(tmp_path_factory):
    """A home in which a server was, with a study and a copy of its database."""
    home = tmp_path_factory.mktemp("lived") / "home"
    with served(home, demo=False) as server:
        status, _ = server.ask("POST", "/studies", {"document": study("Kept")})
        assert status == 200
        until(lambda: list((home / "database-copies").glob("*.sqlite3")), 20)
        mode = stat.S_IMODE((home / DATABASE).stat().st_mode), stat.S_IMODE(home.stat().st_mode)
        assert mode == (0o600, 0o700)
    with closing(sqlite3.connect(home / DATABASE)) as database:
        database.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        (copy,) = (home / "database-copies").glob("*.sqlite3")
        copy.unlink()
    with served(home, demo=False):
        until(lambda: list((home / "database-copies").glob("*.sqlite3")), 20)
    return home


NOISE = b"\x93" * 40_000


@pytest.mark.parametrize("how", ["noise", "cut", "empty", "damaged", "other"])
def test_a_database_that_cannot_be_used_is_told_with_the_newest_good_copy(lived, tmp_path, how):
    home = tmp_path / "home"
    shutil.copytree(lived, home)
    path = home / DATABASE
    whole = path.read_bytes()
    for rest in ("-wal", "-shm"):
        (home / f"{DATABASE}{rest}").unlink(missing_ok=True)
    if how == "damaged":
        middle = bytearray(whole)
        middle[4096:] = b"\xa5" * (len(middle) - 4096)
        path.write_bytes(middle)
    elif how == "other":
        path.unlink()
        with closing(sqlite3.connect(path)) as database:
            database.execute("CREATE TABLE recipes (name TEXT)")
    else:
        path.write_bytes({"noise": NOISE, "cut": whole[: len(whole) // 3], "empty": b""}[how])
    before = path.read_bytes()
    said = refused(home)
    assert "the database" in said
    assert "nothing was changed" in said
    (copy,) = (home / "database-copies").glob("*.sqlite3")
    assert str(copy) in said
    assert path.read_bytes() == before
    for rest in ("", "-wal", "-shm"):
        (home / f"{DATABASE}{rest}").unlink(missing_ok=True)
    shutil.copy(copy, path)
    with served(home, demo=False) as server:
        assert [s["name"] for s in server.ask("GET", "/studies")[1]] == ["Kept"]


def test_a_request_that_is_too_large_is_refused_as_it_comes(tmp_path):
    with served(tmp_path, demo=False) as server:
        where = urlsplit(server.address).netloc
        connection = http.client.HTTPConnection(where, timeout=30)
        head = {"X-Errant-Gust": "1", "Content-Type": "multipart/form-data; boundary=b", "Content-Length": str(9 << 30)}
        connection.putrequest("POST", "/api/studies/any/files?name=a.vdb&sort=volume")
        for name, value in head.items():
            connection.putheader(name, value)
        connection.endheaders()
        answer = connection.getresponse()  # not a byte of it was sent
        assert answer.status == 413
        assert b"is larger than" in answer.read()
        assert answer.getheader("X-Content-Type-Options") == "nosniff"
        with socket.create_connection(where.split(":"), timeout=30) as raw:  # no length is told
            raw.sendall(
                b"POST /api/studies HTTP/1.1\r\nHost: localhost\r\nX-Errant-Gust: 1\r\n"
                b"Content-Type: application/json\r\nTransfer-Encoding: chunked\r\n\r\n"
            )
            piece, sent = b"10000\r\n" + b" " * 65536 + b"\r\n", 0
            try:
                while sent < 40 << 20:
                    raw.sendall(piece)
                    sent += len(piece)
            except OSError:
                pass
            assert b"413" in raw.recv(200)
            assert sent < 30 << 20
        assert server.ask("GET", "/studies")[0] == 200


def test_what_is_read_or_computed_is_not_freed(tmp_path):
    with served(tmp_path, demo=False) as server:
        key, identity = begun(server, study("Used", end=8, rate=20_000))
        until(lambda: run_of(server, key, identity)["state"] == "done", 60)
        going, told = ordered(server, key, identity, "csv", "d")
        assert server.ask("POST", "/shelf/free", {"runs": [identity]})[1]["bytes"] == 0
        until(lambda: told(going)["state"] in ("done", "failed"), 90)
        assert told(going)["state"] == "done", told(going)
        assert server.ask("POST", "/shelf/free", {"runs": [identity]})[1]["bytes"] > 0
        assert not (tmp_path / "runs" / identity).exists()
