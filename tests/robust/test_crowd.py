"""Fifty who look at once are all answered and none of them waits for the others; eight who edit with undo, while the
server is killed, lose nothing that was acknowledged."""

import json
import random
import sqlite3
import statistics
import threading
import time
from contextlib import closing

import pytest

from errant_gust.cli.bench_looks import CLIENTS, KINDS, OF_A_LANE, Looker, together
from errant_gust.server.backup import DATABASE
from tests.clusters import until
from tests.robust.servers import served
from tests.robust.stress import Client
from tests.robust.test_apart import study

EDITORS, SECONDS, LIVES = 8, 20.0, 2
MANY = 20
"""Edits that are acknowledged before the server is killed."""


@pytest.fixture(scope="module")
def home(tmp_path_factory):
    return tmp_path_factory.mktemp("crowd")


@pytest.mark.parametrize("kind", ["value", "swatches", "reading"])
def test_fifty_clients_are_all_answered_and_no_one_waits_for_the_others(home, kind):
    with served(home / "looks", demo=False) as server:
        text = study("Looked at")
        key = server.ask("POST", "/studies", {"document": text})[1]["key"]
        body = {"study": key, "document": text, **({"lane": "wind"} if kind in OF_A_LANE else {}), **KINDS[kind]}
        port = int(server.address.rsplit(":", 1)[1])
        clients = together([Looker(port, kind, body) for _ in range(CLIENTS)], 6, 0.02)
    assert [len(client.times) for client in clients] == [6] * CLIENTS  # a look that is not answered 200 raises
    means = [statistics.mean(client.times) for client in clients]
    assert max(means) < 3 * statistics.median(means), "somebody waited for all the others"


def edit(server, key, who, end, told):
    """Edits until the server is gone, an undo after every fifth; the labels of those that were acknowledged."""
    number, rng = 0, random.Random(f"{who} {end}")
    while time.monotonic() < end and server.alive:
        client = Client(server.address, f"editor{who}")
        try:
            now = json.loads(client.ask("GET", f"/studies/{key}")[1])
            number += 1
            now["document"]["note"] = label = f"Edit {who} {number} {rng.random()}"
            sent = {"document": now["document"], "base": now["revision"], "label": label}
            status, _ = client.ask("PUT", f"/studies/{key}", sent)
            assert status in (200, 409), status  # somebody else was first
            if status == 200:
                told.append(label)
            if number % 5 == 0:
                assert client.ask("POST", f"/studies/{key}/undo")[0] in (200, 409, 422)
        except (OSError, ValueError):  # it was killed within an answer
            time.sleep(0.05)


def test_eight_editors_with_undo_lose_nothing_that_was_acknowledged_though_the_server_is_killed(home):
    told, key = [], ""
    for _ in range(LIVES):
        with served(home / "edits", demo=False) as server:
            key = key or server.ask("POST", "/studies", {"document": study("Edited")})[1]["key"]
            end = time.monotonic() + SECONDS
            threads = [threading.Thread(target=edit, args=(server, key, who, end, told)) for who in range(EDITORS)]
            [t.start() for t in threads]
            before = len(told)
            until(lambda before=before: len(told) >= before + MANY)
            server.process.kill()
            [t.join(60) for t in threads]
            assert not any(t.is_alive() for t in threads)
    with closing(sqlite3.connect(home / "edits" / DATABASE)) as database:
        kept = {row[0] for row in database.execute("SELECT label FROM gust_revision")}
        assert database.execute("PRAGMA integrity_check").fetchone() == ("ok",)
    assert len(told) >= LIVES * MANY
    assert [label for label in told if label not in kept] == []
