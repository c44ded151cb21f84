"""Runs, deliveries and films in processes of their own: what ends one of them ends nobody's page."""

import json
import os
import signal
import time
from pathlib import Path

import pytest

from errant_gust.server.workers import words_for
from tests.clusters import until
from tests.robust.servers import served

BALL = {"id": "ball", "name": "Ball", "kind": "sphere", "params": {"radius": 0.4}}
WIND = {"id": "wind", "name": "Wind", "steps": [{"id": "a", "op": "wind", "params": {"speed": 1}}]}


def study(name, end=400, speed=1.0, rate=20000):
    """Points that fall: frames without end, a few milliseconds each."""
    steps = [
        {"id": "a", "op": "emit", "params": {"shape": "ball", "rate": rate}},
        {"id": "b", "op": "carry", "params": {"field": "wind"}},
    ]
    wind = {**WIND, "steps": [{"id": "a", "op": "wind", "params": {"speed": speed}}]}
    return {
        "format": "errant-gust-study", "version": 2, "name": name, "clock": {"fps": 24, "start": 1, "end": end},
        "shapes": [BALL], "regions": [], "fields": [wind], "looks": {},
        "flows": [{"id": "p", "name": "P", "kind": "particles", "steps": steps}],
    }  # fmt: skip


def begun(server, document, quality="preview"):
    """A study and a run of it."""
    status, made = server.ask("POST", "/studies", {"document": document})
    assert status == 200, made
    status, run = server.ask("POST", "/runs", {"study": made["key"], "flow": "p", "quality": quality})
    assert status == 200, run
    return made["key"], run["identity"]


def run_of(server, key, identity):
    return next(r for r in server.ask("GET", f"/runs?study={key}")[1] if r["identity"] == identity)


def ordered(server, key, identity, format, name):
    """A delivery of a run that was begun, and what tells how far such a one is."""

    def told(going):
        return next(g for g in server.ask("GET", f"/hand-over?study={key}")[1]["going"] if g["id"] == going["id"])

    root = server.ask("GET", f"/hand-over?study={key}")[1]["roots"][0]
    order = {"study": key, "items": [{"run": identity, "format": format}], "options": {}, "root": root, "name": name}
    status, going = server.ask("POST", "/hand-over", order)
    assert status == 200, going
    return going, told


def command_of(pid):
    """What a process was begun with; nothing where it has ended."""
    try:
        return Path(f"/proc/{pid}/cmdline").read_bytes().split(b"\0")
    except OSError:
        return []


def seconds_of(pid):
    """Seconds of a core that a process has had; 0 where it has ended."""
    try:
        user, system = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[11:13]
    except OSError:
        return 0.0
    return (int(user) + int(system)) / os.sysconf("SC_CLK_TCK")


def children(pid, word=""):
    """Processes that a process has begun whose command has a word in it."""
    found = []
    for path in Path("/proc").glob("[0-9]*"):
        try:
            stat = (path / "stat").read_text().rpartition(")")[2].split()
        except OSError:
            continue
        if int(stat[1]) == pid and (not word or word.encode() in command_of(path.name)) and stat[0] not in "ZX":
            found.append(int(path.name))
    return found


@pytest.mark.parametrize("number", [signal.SIGSEGV, signal.SIGKILL, signal.SIGABRT])
def test_a_process_that_dies_ends_its_run_in_words_and_nothing_else(tmp_path, number):
    with served(tmp_path, demo=False) as server:
        key, identity = begun(server, study("Dies"))
        until(lambda: len(run_of(server, key, identity)["frames"]) > 3, 60)
        (pid,) = children(server.process.pid, "runs")
        os.kill(pid, number)
        until(lambda: run_of(server, key, identity)["state"] == "failed", 20)
        told = run_of(server, key, identity)
        assert told["message"] == words_for(-number)
        assert told["frames"] == list(range(1, len(told["frames"]) + 1)), "what was complete stays"
        assert server.alive
        other, second = begun(server, study("Goes on", end=12, speed=2.0))
        until(lambda: run_of(server, other, second)["state"] == "done", 60)
        assert server.ask("POST", f"/runs/{identity}/proceed")[0] in (200, 404, 405)


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGTERM])
def test_processes_end_with_their_server_however_that_ends(tmp_path, how):
    with served(tmp_path, demo=False) as server:
        key, identity = begun(server, study("Ends"))
        until(lambda: len(run_of(server, key, identity)["frames"]) > 1, 60)
        pids = children(server.process.pid, "runs")
        assert pids
        server.process.send_signal(how)
        until(lambda: not any(Path(f"/proc/{p}/exe").exists() for p in pids), 10, "a process outlived its server")


def test_a_run_during_which_the_server_died_twice_is_not_taken_up_again_by_itself(tmp_path):
    """Once it is: whoever pulled the plug. A server that ends as it should counts as no death."""
    begins = study("Twice", end=20_000)
    key, identity = _served_until_it_goes(tmp_path, signal.SIGTERM, lambda server: begun(server, begins))
    for how in (signal.SIGKILL, signal.SIGKILL):
        _served_until_it_goes(tmp_path, how, lambda server: (key, identity))
    with served(tmp_path, demo=False) as server:
        told = run_of(server, key, identity)
        assert told["state"] == "failed"
        assert "the server died 2 times" in told["message"]
        time.sleep(1)
        assert len(run_of(server, key, identity)["frames"]) == len(told["frames"])
        assert server.ask("POST", "/runs", {"study": key, "flow": "p"})[0] == 200
        until(lambda: len(run_of(server, key, identity)["frames"]) > len(told["frames"]), 60, "on wish it goes on")


def _served_until_it_goes(home, how, of):
    with served(home, demo=False) as server:
        key, identity = of(server)
        seen = len(run_of(server, key, identity)["frames"])
        until(lambda: len(run_of(server, key, identity)["frames"]) > seen, 60, "it is taken up")
        assert run_of(server, key, identity)["state"] == "running"
        server.process.send_signal(how)
        server.process.wait(20)
        return key, identity


def test_a_warm_process_begins_at_once_and_gives_way_to_pictures(tmp_path):
    with served(tmp_path, demo=False) as server:
        key, identity = begun(server, study("First", end=6))
        until(lambda: run_of(server, key, identity)["state"] == "done", 60)
        took = []
        for n in range(5):
            began = time.monotonic()
            key, identity = begun(server, study(f"Warm {n}", end=2, speed=1.5 + n))
            store = tmp_path / "runs" / identity / "frames" / "000001.zarr"
            until(store.exists, 20)
            took.append(time.monotonic() - began)
        assert min(took) < 3.0, "the process is kept: to begin one takes longer than this"
        (pid,) = children(server.process.pid, "runs")
        assert os.getpriority(os.PRIO_PROCESS, pid) > os.getpriority(os.PRIO_PROCESS, server.process.pid)


def test_deliveries_and_proofs_are_made_by_a_process_and_stopped_there(tmp_path):
    with served(tmp_path, demo=False) as server:
        key, identity = begun(server, study("Gives", end=8, rate=2000))
        until(lambda: run_of(server, key, identity)["state"] == "done", 60)
        going, told = ordered(server, key, identity, "ply", "d")
        until(lambda: told(going)["state"] == "done", 60, "it is written")
        assert told(going)["done"] == 8
        assert children(server.process.pid, "hands")
        made = Path(going["to"])
        assert len(list(made.rglob("*.ply"))) == 8
        next(iter(sorted(made.rglob("*.ply")))).write_bytes(b"changed")
        proof = server.ask("POST", "/hand-over/prove", {"to": str(made)})[1]
        until(lambda: told(proof)["state"] == "done", 60)
        assert len(told(proof)["faults"]) == 1
        assert json.loads((made / "delivery.json").read_text())["command"].startswith("gust deliver")
        again, _ = ordered(server, key, identity, "ply", "e")
        (pid,) = children(server.process.pid, "hands")
        os.kill(pid, signal.SIGKILL)
        until(lambda: told(again)["state"] in ("failed", "done"), 30)
        assert server.alive
