"""Processes in which this server has runs, deliveries and films computed: what ends one of them ends nobody's page.

Each does one thing after the other, stays warm for the next, gives way while somebody waits for a picture, and ends
with the server: its input ends then.
"""

import atexit
import json
import os
import signal
import subprocess
import sys
import threading
import uuid
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from errant_gust.core.blocks import when_foreground
from errant_gust.core.runs import engine
from errant_gust.core.runs.engine import Finished, Order
from errant_gust.core.runs.job import Tell

Ended = Callable[[dict[str, Any]], None]


@dataclass
class _Asked:
    """Something that a process was asked to do."""

    order: dict[str, Any]
    tell: Callable[[dict[str, Any]], None]
    ended: Ended


def words_for(code: int) -> str:
    """How a process ended that should not have."""
    if code >= 0:
        return f"its process ended by itself ({code})"
    name = signal.Signals(-code).name if -code in set(signal.Signals) else str(-code)
    more = ": the machine ran out of memory, or somebody ended it" if name == "SIGKILL" else ""
    return f"its process ended by {name}{more}"


class Worker:
    """A process, begun when it is first needed or warmed, and begun again when it has ended."""

    def __init__(self, name: str) -> None:
        self.name = name
        self._lock = threading.Lock()
        self._process: subprocess.Popen[str] | None = None
        self._asked: dict[str, _Asked] = {}
        when_foreground(self._quiet)

    @property
    def pid(self) -> int:
        """Of its process; 0 while there is none."""
        process = self._process
        return process.pid if process is not None and process.poll() is None else 0

    def warm(self) -> None:
        """Begin its process, so that the first order need not wait for it."""
        with self._lock:
            self._begun()

    def do(self, task: str, given: dict[str, Any], tell: Callable[[dict[str, Any]], None], ended: Ended) -> str:
        """Have a task of `core.tasks` done; `ended` is called from another thread, whatever happens. Its id."""
        id = uuid.uuid4().hex
        asked = _Asked({"id": id, "task": task, "given": given}, tell, ended)
        with self._lock:
            self._asked[id] = asked
            self._send(self._begun(), asked.order)
        return id

    def stop(self, id: str) -> None:
        """Ask for the end of what goes, or of what waits."""
        with self._lock:
            if id in self._asked and self._process is not None:
                self._send(self._process, {"stop": id})

    def _begun(self) -> "subprocess.Popen[str]":
        """With the lock held: the process, that goes."""
        if self._process is None or self._process.poll() is not None:
            self._process = subprocess.Popen(
                [sys.executable, "-m", "errant_gust.cli.apart", self.name], stdin=subprocess.PIPE,
                stdout=subprocess.PIPE, text=True, bufsize=1, start_new_session=True,
            )  # fmt: skip
            threading.Thread(target=self._listen, args=(self._process,), daemon=True, name=f"gust-{self.name}").start()
        return self._process

    def _send(self, process: "subprocess.Popen[str]", what: dict[str, Any]) -> None:
        assert process.stdin is not None
        try:
            process.stdin.write(json.dumps(what) + "\n")
            process.stdin.flush()
        except OSError:  # it has ended: who listens to it tells everybody
            return

    def _quiet(self, somebody_waits: bool) -> None:
        process = self._process
        if process is not None and process.poll() is None and self._asked:
            with self._lock:
                self._send(process, {"quiet": somebody_waits})

    def _listen(self, process: "subprocess.Popen[str]") -> None:
        assert process.stdout is not None
        mine: set[str] = set()
        for line in process.stdout:
            try:
                said = json.loads(line)
            except ValueError:
                continue
            if "ready" in said:
                continue
            mine.add(said["id"])
            asked = self._asked.get(said["id"])
            if asked is None:
                continue
            if "tell" in said:
                asked.tell(said["tell"])
            else:
                with self._lock:
                    self._asked.pop(said["id"], None)
                asked.ended(said["ended"])
        self._died(process, process.wait())

    def _died(self, process: "subprocess.Popen[str]", code: int) -> None:
        """What went has failed; what waited is handed to the next process."""
        with self._lock:
            left = list(self._asked.values())
            if self._process is process:
                self._process = None
            first, rest = left[:1], left[1:]
            for one in first:
                self._asked.pop(one.order["id"], None)
            if rest:
                again = self._begun()
                for one in rest:
                    self._send(again, one.order)
        for one in first:
            one.ended({"state": "failed", "message": words_for(code), "died": True})

    def end(self) -> None:
        """End its process, as the end of the server does: what goes has not failed, and nobody is told."""
        with self._lock:
            process, self._process = self._process, None
            self._asked.clear()
        if process is not None and process.poll() is None:
            process.kill()
            process.wait()


RUNS, HANDS, FILMS = Worker("runs"), Worker("hands"), Worker("films")
"""For runs, for deliveries and their proofs, for films."""


_apart = False


def begin() -> None:
    """From now on what takes long is done in processes of its own: called by who serves pages. Whoever uses the server
    as a library has threads instead, which know what else its process knows."""
    global _apart
    _apart = True
    RUNS.warm()


def apart() -> bool:
    """Whether what takes long is done in processes of its own."""
    return _apart


def submit(order: Order, finished: Finished, tell: Tell) -> None:
    """Have a run computed on this machine: in the process for runs, or in a thread."""
    if not _apart:
        engine.submit(order, finished, tell, "")
        return
    (order.folder / "stop").unlink(missing_ok=True)
    RUNS.do("run", {"folder": str(order.folder.resolve()), "last": order.last}, tell, finished)


def end_all() -> None:
    """End all processes."""
    for worker in (RUNS, HANDS, FILMS):
        worker.end()


atexit.register(end_all)
os.register_at_fork(after_in_child=lambda: atexit.unregister(end_all))
