"""Benchmark rows of the server: open pages that wait, many clients that sample at once, a sweep on a cluster."""

import json
import os
import socket
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
import urllib.request
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path
from typing import Any

from errant_gust.cli.bench_rows import Row
from errant_gust.core.flows.kind import KINDS
from errant_gust.core.home import shipped
from errant_gust.core.study import document

DEMO = shipped("demo") / "harbour_gust.gust.json"
TABS, RUNS = 20, 200


class Server:
    """`gust serve` on a home of its own."""

    def __init__(self, home: Path, port: int, process: "subprocess.Popen[bytes]") -> None:
        self.home, self.port, self.process = home, port, process

    def ask(self, path: str, body: Any = None, method: str | None = None) -> Any:
        request = urllib.request.Request(
            f"http://127.0.0.1:{self.port}/api{path}", data=None if body is None else json.dumps(body).encode(),
            headers={"Content-Type": "application/json", "X-Errant-Gust": "1"}, method=method,
        )  # fmt: skip
        with urllib.request.urlopen(request, timeout=120) as answer:
            said = answer.read()
        return json.loads(said) if "json" in answer.headers.get("Content-Type", "") else said

    def cpu(self) -> float:
        """Seconds of processor time so far, of the process that serves."""
        fields = Path(f"/proc/{self.process.pid}/stat").read_text().rpartition(")")[2].split()
        return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")

    def threads(self) -> int:
        return len(list(Path(f"/proc/{self.process.pid}/task").iterdir()))


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


@contextmanager
def serving() -> Iterator[Server]:
    with tempfile.TemporaryDirectory() as name:
        home, port = Path(name), _free_port()
        process = subprocess.Popen(
            [sys.executable, "-m", "errant_gust.cli.main", "serve", "--no-browser", "--port", str(port)],
            env={**os.environ, "ERRANT_GUST_HOME": str(home)}, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        try:
            made = Server(home, port, process)
            end = time.monotonic() + 60
            while time.monotonic() < end:
                with suppress(OSError):
                    made.ask("/studies")
                    break
                time.sleep(0.1)
            yield made
        finally:
            process.kill()
            process.wait()


@contextmanager
def _tab(server: Server, study: str, heard: list[int]) -> Iterator[None]:
    """A page that listens to events in a thread of this process."""
    link = socket.create_connection(("127.0.0.1", server.port))
    link.sendall(f"GET /api/events?study={study} HTTP/1.1\r\nHost: 127.0.0.1:{server.port}\r\n\r\n".encode())

    def listen() -> None:
        with suppress(OSError):
            while said := link.recv(1 << 16):
                heard.append(len(said))

    thread = threading.Thread(target=listen, daemon=True)
    thread.start()
    try:
        yield
    finally:
        link.close()


def _many_runs(server: Server, study: str, count: int) -> None:
    """Rows and folders of runs that have ended, as if they had been computed."""
    with sqlite3.connect(server.home / "errant_gust.sqlite3") as database:
        for n in range(count):
            identity = f"bench{n:04d}"
            for frame in range(1, 121):
                (server.home / "runs" / identity / "frames" / f"{frame:06d}.zarr").mkdir(parents=True)
            database.execute(
                "INSERT INTO gust_run (identity, study_id, flow, kind, quality, state, message, last, worker, bytes,"
                " memory, place, name, pinned, sweep, \"values\", created, changed) VALUES (?, ?, 'g', ?,"
                " 'preview', 'done', '', 120, '', 1, 1, '', '', 0, '', '{}', datetime('now'), datetime('now'))",
                (identity, study, next(iter(KINDS))),
            )
            database.execute("INSERT INTO gust_run_asked (run_id, study_id) VALUES (?, ?)", (identity, study))


def _share(server: Server, seconds: float) -> float:
    """Per cent of a core that the server takes over so long."""
    before, began = server.cpu(), time.monotonic()
    time.sleep(seconds)
    return 100 * (server.cpu() - before) / (time.monotonic() - began)


def waiting_pages() -> list[Row]:
    """20 open pages and 200 runs: while nothing happens, and while a study is saved four times a second."""
    with serving() as server:
        made = server.ask("/studies", {"document": document.dump(document.load(DEMO))})
        key, revision = made["key"], made["revision"]
        _many_runs(server, key, RUNS)
        heard: list[int] = []
        with ExitStack() as stack:
            for _ in range(TABS):
                stack.enter_context(_tab(server, key, heard))
            time.sleep(3)
            idle, threads = _share(server, 20), server.threads()
        alone = _telling(server, key, revision)
        with ExitStack() as stack:
            for _ in range(TABS):
                stack.enter_context(_tab(server, key, heard))
            time.sleep(3)
            busy = _telling(server, key, server.ask(f"/studies/{key}")["revision"])
    return [
        Row(f"{TABS} idle pages, {RUNS} runs: CPU time a second", 10 * idle, goal="50", note=f"{threads} threads"),
        Row(
            f"{TABS} pages told 4 times a second: CPU time a second",
            10 * busy,
            "the same without pages",
            10 * alone,
            busy / alone,
        ),
    ]


def _telling(server: Server, key: str, revision: int) -> float:
    """Per cent of a core while something changes four times a second."""
    data = server.ask(f"/studies/{key}")["document"]
    over = threading.Event()

    def saves() -> None:
        base, n = revision, 0
        while not over.wait(0.25):
            n += 1
            request = urllib.request.Request(
                f"http://127.0.0.1:{server.port}/api/studies/{key}", method="PUT",
                data=json.dumps({"document": {**data, "note": f"{n}"}, "base": base, "label": "note"}).encode(),
                headers={"Content-Type": "application/json", "X-Errant-Gust": "1"},
            )  # fmt: skip
            with urllib.request.urlopen(request, timeout=30) as answer:
                base = json.loads(answer.read())["revision"]

    thread = threading.Thread(target=saves, daemon=True)
    thread.start()
    time.sleep(1)
    share = _share(server, 10)
    over.set()
    thread.join()
    return share


def sweeping() -> list[Row]:
    """A sweep of 12 previews by two workers of one thread each, against one."""
    times = {}
    for workers in (1, 2):
        with tempfile.TemporaryDirectory() as name:
            home, port = Path(name) / "home", _free_port()
            home.mkdir()
            environment = {
                **os.environ, "ERRANT_GUST_HOME": str(home), "ERRANT_GUST_THREADS": "1",
                "ERRANT_GUST_SCHEDULER": f"tcp://127.0.0.1:{port}",
            }  # fmt: skip
            command = [sys.executable, "-m", "errant_gust.cli.main"]
            silent: dict[str, Any] = {"env": environment, "stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
            going = [subprocess.Popen([*command, "scheduler", "--port", str(port)], **silent)]
            going += [
                subprocess.Popen([*command, "worker", f"tcp://127.0.0.1:{port}", "--memory", "4"], **silent)
                for _ in range(workers)
            ]
            try:
                time.sleep(8)
                sweep = [
                    *command, "sweep", "kiln_wisps", "--flow", "wisps", "--vary",
                    "flows.wisps.s3.lift=0.02:0.05:12", "--out", str(Path(name) / "sweep"),
                ]  # fmt: skip
                began = time.perf_counter()
                subprocess.run(sweep, check=True, **silent)
                times[workers] = 1e3 * (time.perf_counter() - began)
            finally:
                for process in going:
                    process.terminate()
                for process in going:
                    process.wait()
    ratio = times[1] / times[2]
    return [Row("sweep of 12 previews on two workers", times[2], "on one worker", times[1], ratio)]


def large_site() -> list[Row]:
    """100 workers and 10,000 runs, simulated: what they ask of the server's process."""
    with tempfile.TemporaryDirectory() as name:
        made = subprocess.run(
            [sys.executable, "-m", "errant_gust.cli.bench_crowd", "100", "10000", "30"], capture_output=True, text=True,
            env={**os.environ, "ERRANT_GUST_HOME": name}, check=True,
        )  # fmt: skip
    said = json.loads(made.stdout.splitlines()[-1])
    note = f"{said['told']:.0f} reports and {said['ended']:.1f} ends a second; no folders are read, no pages are open"
    return [
        Row("100 workers, 10,000 runs: CPU time a second", 1e3 * said["cpu"], note=note),
        Row("the shelf of 10,000 runs", 1e3 * said["shelf"]),
    ]


ROWS = [
    ("open pages", waiting_pages),
    ("large site", large_site),
    ("sweep on workers", sweeping),
]
