"""Benchmark rows of asking: 50 clients that look against one, by the kind of look; the first frame after an edit."""

import http.client
import itertools
import json
import statistics
import threading
import time
from typing import Any

from errant_gust.cli.bench_rows import Row
from errant_gust.cli.bench_server import DEMO, Server, serving
from errant_gust.core.study import document

CLIENTS = 50
PAUSE = 0.1
"""Seconds between an answer and the next question of a hand that drags."""
BESIDES = 300.0
"""Milliseconds that 50 may wait longer than one, where all ask for the same."""
KINDS: dict[str, dict[str, Any]] = {
    "probe": {"slice": {"origin": [-4, 0, 0.1], "u": [8, 0, 0], "v": [0, 0, 6], "columns": 160, "rows": 120}},
    "swatches": {"size": 48},
    "shapes": {},
    "value": {"point": [0, 0, 1]},
    "lines": {"seeds": [[0.1 * n - 2, 0, 1] for n in range(40)]},
    "reading": {},
    "checks": {},
    "estimate": {},
}
OF_A_LANE = ("probe", "value", "lines", "reading")
_names = itertools.count()


class Looker:
    """One that looks, over a connection of its own, as a page does."""

    def __init__(self, port: int, kind: str, body: dict[str, Any]) -> None:
        self.kind, self.body, self.name = kind, body, f"tab{next(_names)}"
        self.link = http.client.HTTPConnection("127.0.0.1", port, timeout=120)
        self.times: list[float] = []

    def look(self, serial: int, time_: float) -> None:
        said = json.dumps({**self.body, "time": time_, "channel": f"{self.name}.{self.kind}", "serial": serial})
        began = time.perf_counter()
        self.link.request("POST", f"/api/look/{self.kind}", said, {
            "Content-Type": "application/json", "X-Errant-Gust": "1",
        })  # fmt: skip
        answer = self.link.getresponse()
        answer.read()
        if answer.status != 200:
            raise ValueError(f"look/{self.kind} answered {answer.status}")
        self.times.append(1e3 * (time.perf_counter() - began))

    def looks(self, rounds: int, pause: float) -> None:
        """Every round at a time of its own: nothing is there already, as under a hand that drags."""
        for n in range(1, rounds + 1):
            self.look(n, 1 + 0.01 * n)
            time.sleep(pause)
        self.link.close()


def _crowd(server: Server, kind: str, body: dict[str, Any], count: int, rounds: int, pause: float) -> list[Looker]:
    """So many that ask for the same at the same rounds, each as soon as it has its answer and after the pause."""
    return together([Looker(server.port, kind, body) for _ in range(count)], rounds, pause)


def together(clients: list[Looker], rounds: int, pause: float) -> list[Looker]:
    """All of them look at once, so many times each. Raises ValueError if one was not answered."""
    threads = [threading.Thread(target=client.looks, args=(rounds, pause)) for client in clients]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    if any(len(client.times) != rounds for client in clients):
        raise ValueError("not every look was answered")
    return clients


def _all(clients: list[Looker]) -> list[float]:
    return [t for client in clients for t in client.times]


def _late(times: list[float]) -> float:
    return statistics.quantiles(times, n=20)[-1]


def by_kind(rounds: int = 12) -> list[Row]:
    """95 % of the answers to 50 clients that ask for what one asks, and how unlike their means are."""
    rows = []
    with serving() as server:
        data = document.dump(document.load(DEMO))
        key = server.ask("/studies", {"demo": "harbour_gust"})["key"]
        lane = {"lane": data["fields"][-1]["id"]}
        for kind, extra in KINDS.items():
            body = {"study": key, "document": data, **(lane if kind in OF_A_LANE else {}), **extra}
            _crowd(server, kind, body, 2, 3, 0)
            for pause, how in ((PAUSE, "a pause"), (0.0, "no pause")):
                alone = _late(_all(_crowd(server, kind, body, 1, 2 * rounds, pause)))
                many = _crowd(server, kind, body, CLIENTS, rounds, pause)
                all_ = _late(_all(many))
                means = sorted(statistics.mean(c.times) for c in many)
                rows.append(Row(
                    f"{CLIENTS} clients, {kind}, {how}, 95 %", all_, "one client, 95 %", alone, all_ / alone,
                    goal=f"{alone + BESIDES:.0f} ms", note=f"means of clients {means[0]:.0f} to {means[-1]:.0f} ms",
                ))  # fmt: skip
    return rows


def own_planes(rounds: int = 8) -> list[Row]:
    """50 that each probe a plane of their own: nothing is shared, all of it is computed."""
    with serving() as server:
        data = document.dump(document.load(DEMO))
        key = server.ask("/studies", {"demo": "harbour_gust"})["key"]
        body = {"study": key, "document": data, "lane": data["fields"][-1]["id"]}
        clients = []
        for n in range(CLIENTS):
            plane = {**KINDS["probe"]["slice"], "origin": [-4, 0.01 * n, 0.1]}
            clients.append(Looker(server.port, "probe", {**body, "slice": plane}))
        first = clients[0].body
        _crowd(server, "probe", first, 1, 3, 0)
        alone = _late(_all(_crowd(server, "probe", first, 1, 3 * rounds, 0)))
        all_ = _all(together(clients, rounds, 0))
    return [Row(
        f"{CLIENTS} clients, planes of their own, 95 %", _late(all_), "one client, 95 %", alone,
        _late(all_) / alone, note=f"slowest {max(all_):.0f} ms",
    )]  # fmt: skip


def first_frames(edits: int = 12) -> list[Row]:
    """From an edit to the first frame of its preview, which is looked for all the time."""
    with serving() as server:
        made = server.ask("/studies", {"demo": "harbour_gust"})
        key, flow, took = made["key"], made["document"]["flows"][0]["id"], []
        requests: list[float] = []
        for n in range(edits + 2):
            now = server.ask(f"/studies/{key}")
            now["document"]["flows"][0]["steps"][0]["params"]["seed"] = 100 + n
            began = time.perf_counter()
            edit = {"document": now["document"], "base": now["revision"], "label": "seed"}
            server.ask(f"/studies/{key}", edit, "PUT")
            identity = server.ask("/runs", {"study": key, "flow": flow})["identity"]
            while not _frames(server, key, identity, requests):
                time.sleep(0.005)
            took.append(1e3 * (time.perf_counter() - began))
    late = f"from {min(took[2:]):.0f} to {max(took[2:]):.0f} ms"
    return [
        Row("first frame of a preview after an edit", statistics.median(took[2:]), goal="≤ 500 ms", note=late),
        Row("a request for a run that goes on", statistics.median(requests), note=f"of {len(requests)}"),
    ]


def _frames(server: Server, study: str, identity: str, requests: list[float]) -> list[int]:
    began = time.perf_counter()
    (run,) = [r for r in server.ask(f"/runs?study={study}") if r["identity"] == identity]
    requests.append(1e3 * (time.perf_counter() - began))
    return list(run["frames"])


ROWS = [("looks by kind", by_kind), ("planes of their own", own_planes), ("first frames", first_frames)]
