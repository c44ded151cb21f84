"""A scheduler and workers as processes of their own, that tests start, kill and start again."""

import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

from distributed import Client


def until(true: Callable[[], Any], seconds: float = 60.0, why: str = "it never came") -> Any:
    """Wait for what has to come."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if found := true():
            return found
        time.sleep(0.05)
    raise AssertionError(why)


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


class Machines:
    """Processes of `gust scheduler` and `gust worker` that share a home folder."""

    def __init__(self, home: Path, logs: Path, scheme: str = "tcp", **settings: str) -> None:
        self.port, self.home, self.logs = free_port(), home, logs
        self.address = f"{scheme}://127.0.0.1:{self.port}"
        self.settings = {"ERRANT_GUST_HOME": str(home), "ERRANT_GUST_THREADS": "1", **settings}
        self.going: dict[str, subprocess.Popen[bytes]] = {}

    def _begin(self, name: str, *command: str) -> None:
        with (self.logs / f"{name}.log").open("ab") as log:
            self.going[name] = subprocess.Popen(
                [sys.executable, "-m", "errant_gust.cli.main", *command], stdout=log, stderr=log,
                env={**os.environ, **self.settings}, start_new_session=True,
            )  # fmt: skip

    def scheduler(self) -> None:
        more = ["--tls"] if self.address.startswith("tls") else []
        self._begin("scheduler", "scheduler", "--port", str(self.port), *more)

    def worker(self, name: str, memory: float = 2.0) -> None:
        self._begin(name, "worker", self.address, "--memory", str(memory), "--name", name)

    def ready(self, workers: int) -> None:
        """Wait until so many workers have told the scheduler that they are there."""
        with Client(self.address, timeout=60) as client:
            client.wait_for_workers(workers, timeout=90)

    def kill(self, name: str) -> None:
        """The process and all that it began, without a warning."""
        process = self.going.pop(name)
        with suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
        process.wait()

    def end(self) -> None:
        for name in list(self.going):
            self.kill(name)

    def __enter__(self) -> "Machines":
        return self

    def __exit__(self, *what: object) -> None:
        self.end()
