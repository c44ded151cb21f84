"""Who does what takes long for this server: runs, deliveries, proofs, films (`core.tasks`).

A server that serves pages has a process for each, so that what ends one of them ends nobody's page. Each does one thing
after the other, stays warm for the next, gives way while somebody waits for a picture, and ends with the server: its
input ends then. Who uses the server's modules as a library has threads instead, which know what else its process knows.
"""

import atexit
import json
import logging
import os
import signal
import subprocess
import sys
import threading
import uuid
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from errant_gust.core import tasks
from errant_gust.core.blocks import somebody_waits, when_foreground
from errant_gust.core.runs import engine
from errant_gust.core.runs.engine import Finished, Order
from errant_gust.core.tasks import Tell
from errant_gust.server.compiling import compiling

Ended = Callable[[dict[str, Any]], None]
_log = logging.getLogger("errant_gust")


@dataclass
class _Asked:
    """Something that was asked for."""

    order: dict[str, Any]
    tell: Tell
    ended: Ended
    stopped: threading.Event = field(default_factory=threading.Event)

    def hears(self, said: dict[str, Any]) -> None:
        """What is said of it: whoever is told may fail, and what goes on must not."""
        try:
            self.tell(said["tell"]) if "tell" in said else self.ended(said["ended"])
        except Exception:
            _log.exception("nobody could be told of %s", self.order["task"])


def words_for(code: int) -> str:
    """How a process ended that should not have."""
    if code >= 0:
        return f"its process ended by itself ({code})"
    name = signal.Signals(-code).name if -code in set(signal.Signals) else str(-code)
    more = ": the machine ran out of memory, or somebody ended it" if name == "SIGKILL" else ""
    return f"its process ended by {name}{more}"


class Worker:
    """Does one thing after the other: a process, begun when it is first needed or warmed and begun again when it has
    ended; or threads, one at a time, until `begin` was called."""

    def __init__(self, name: str) -> None:
        self.name = name
        self._lock, self._turn = threading.Lock(), threading.Lock()
        self._process: subprocess.Popen[str] | None = None
        self._asked: dict[str, _Asked] = {}
        when_foreground(self._quiet)

    def warm(self) -> None:
        """Begin its process, so that the first order need not wait for it."""
        with self._lock:
            self._begun()

    def do(self, task: str, given: dict[str, Any], tell: Tell, ended: Ended) -> str:
        """Have a task of `core.tasks` done; `tell` and `ended` are called from another thread, the latter whatever
        happens. Its id."""
        id = uuid.uuid4().hex
        asked = _Asked({"id": id, "task": task, "given": given}, tell, ended)
        with self._lock:
            self._asked[id] = asked
            if not _processes:
                threading.Thread(target=self._here, args=(asked,), daemon=True, name=f"gust-{self.name}").start()
                return id
        compiling.when_ready(lambda: self._hand(asked))
        return id

    def _hand(self, asked: _Asked) -> None:
        """Give an order to the process, and its end if that was asked for meanwhile."""
        with self._lock:
            process = self._begun()
            self._send(process, {"quiet": somebody_waits()})
            self._send(process, asked.order)
            if asked.stopped.is_set():
                self._send(process, {"stop": asked.order["id"]})

    def stop(self, id: str) -> None:
        """Ask for the end of what goes, or of what waits."""
        with self._lock:
            if (asked := self._asked.get(id)) is None:
                return
            asked.stopped.set()
            if self._process is not None:
                self._send(self._process, {"stop": id})

    def _here(self, asked: _Asked) -> None:
        with self._turn:
            result = tasks.done(asked.order, lambda facts: asked.hears({"tell": facts}), asked.stopped.is_set)
        with self._lock:
            self._asked.pop(asked.order["id"], None)
        asked.hears({"ended": result})

    def _begun(self) -> "subprocess.Popen[str]":
        """With the lock held: the process, that goes."""
        if self._process is None or self._process.poll() is not None:
            self._process = subprocess.Popen(
                [sys.executable, "-m", "errant_gust.cli.worker_process", self.name], stdin=subprocess.PIPE,
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

    def _quiet(self, waits: bool) -> None:
        if self._process is not None and self._asked:  # what is asked for later is told then
            with self._lock:
                if self._process is not None:
                    self._send(self._process, {"quiet": waits})

    def _listen(self, process: "subprocess.Popen[str]") -> None:
        assert process.stdout is not None
        for line in process.stdout:
            try:
                said = json.loads(line)
            except ValueError:
                continue
            with self._lock:
                take = self._asked.get if "tell" in said else self._asked.pop
                asked = take(said.get("id", ""), None)
            if asked is not None:
                asked.hears(said)
        self._died(process, process.wait())

    def _died(self, process: "subprocess.Popen[str]", code: int) -> None:
        """What went has failed; what waited is handed to the next process."""
        with self._lock:
            left = list(self._asked.values())
            if self._process is process:
                self._process = None
            for one in left[:1]:
                self._asked.pop(one.order["id"], None)
            if left[1:]:
                again = self._begun()
                for one in left[1:]:
                    self._send(again, one.order)
        for one in left[:1]:
            one.hears({"ended": {"state": "failed", "message": words_for(code)}})

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
_processes = False


def begin() -> None:
    """From now on what takes long is done in processes: called by who serves pages."""
    global _processes
    _processes = True
    engine.compute_here_by(_run)
    RUNS.warm()


def _run(order: Order, finished: Finished, tell: Tell | None) -> None:
    RUNS.do("run", {"folder": str(order.folder), "last": order.last}, tell or (lambda facts: None), finished)


def end_all() -> None:
    """End all processes."""
    for worker in (RUNS, HANDS, FILMS):
        worker.end()


atexit.register(end_all)
os.register_at_fork(after_in_child=lambda: atexit.unregister(end_all))
