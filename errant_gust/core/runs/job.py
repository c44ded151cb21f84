"""A run as a job that any worker with the run's folder can do.

Progress, messages and the wish to stop travel through the folder, so it does not matter which machine computes; who
does it is `engine`'s to say.
"""

import json
import os
import socket
import time
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from errant_gust.core import peak
from errant_gust.core.blocks import give_way
from errant_gust.core.errors import Cancelled, GustError
from errant_gust.core.files.room import NoRoom
from errant_gust.core.flows.kind import kind_of
from errant_gust.core.runs.compute import FrameDone, compute
from errant_gust.core.runs.frame_store import RunStore, write_atomically
from errant_gust.core.runs.lease import Elsewhere, Lost, holder
from errant_gust.core.runs.manifest import assets_of
from errant_gust.core.runs.mending import damaged, take_away
from errant_gust.core.study import document

Tell = Callable[[dict[str, Any]], None]
LOOKS = 0.25
"""Seconds between two looks of a cluster's worker for a wish to stop: on a shared disk each of them is a message to
another machine."""
MEND = "mend"
"""In a run's folder: whoever takes it up reads all frames by their sums first."""
PATIENCE = 2.0
"""Seconds between two looks for room on the disk."""


def progress_of(folder: Path) -> dict[str, Any]:
    """What who computes a run said last; empty if nothing was said."""
    try:
        found: dict[str, Any] = json.loads((folder / "progress.json").read_text())
        return found
    except (OSError, json.JSONDecodeError):
        return {}


def ask_to_stop(folder: Path) -> None:
    """Leave word that a run should stop."""
    (folder / "stop").touch()


def stop_asked(folder: Path) -> bool:
    """Whether somebody did."""
    return (folder / "stop").exists()


def ask_to_mend(folder: Path) -> None:
    """Leave word that frames should be looked at, before any is computed."""
    (folder / MEND).touch()


def mends(folder: Path) -> bool:
    """Whether its frames are looked at, or will be."""
    return (folder / MEND).exists()


def worker_name() -> str:
    """Which machine and process computes here."""
    return f"{socket.gethostname()} {os.getpid()}"


def note(folder: Path, words: str) -> None:
    """A line in the run's log, with when and who; a log that cannot be written stops nothing."""
    line = f"{datetime.now(UTC).isoformat(timespec='seconds')}  {worker_name()}  {' '.join(words.split())}\n"
    try:
        with (folder / "log.txt").open("a") as file:
            file.write(line)
    except OSError:
        return


def log_of(folder: Path, most: int = 200) -> list[str]:
    """The last lines of a run's log."""
    try:
        with (folder / "log.txt").open("rb") as file:
            file.seek(max(0, os.fstat(file.fileno()).st_size - 64 * 1024))
            return file.read().decode(errors="replace").splitlines()[-most:]
    except OSError:
        return []


def work(folder: str, last: int, tell: Tell | None = None, job: str = "") -> dict[str, str]:
    """Do the job: {"state": done | stopped | failed, "message": …, "worker": …}. Runs in a thread or on a cluster
    worker. `tell` is called with what is also written to the folder, frame by frame; `job` names the order it is."""
    place = Path(folder)
    note(place, f"takes it up, to frame {last}")
    said = _Work(place, last, tell, job).do()
    note(place, f"{said['state']}{': ' if said['message'] else ''}{said['message']}")
    return {**said, "worker": worker_name()}


class _Work:
    """One worker at one run."""

    def __init__(self, place: Path, last: int, tell: Tell | None, job: str) -> None:
        self.place, self.last, self.tell, self.job = place, last, tell, job
        self.store = RunStore(place)
        self.looked, self.wanted = 0.0, False

    def do(self) -> dict[str, str]:
        try:
            self._say(**{k: v for k, v in progress_of(self.place).items() if k != "waits"})
            self._compute()
        except Cancelled:
            return {"state": "stopped", "message": "stopped; the frames so far are kept"}
        except GustError as error:
            return {"state": "failed", "message": str(error)}
        except MemoryError:
            manifest = self.store.manifest()
            fits = kind_of(document.parse(manifest["study"]).find("flows", manifest["flow"], "flow").kind).smaller
            return {"state": "failed", "message": f"not enough memory; {fits} would fit"}
        except OSError as error:
            return {"state": "failed", "message": f"the run's folder: {error.strerror or error}"}
        return {"state": "done", "message": ""}

    def _compute(self) -> None:
        manifest = self.store.manifest()
        study = document.parse(manifest["study"])
        if self.last > study.clock.end:  # somebody wants more of this version than there was when it was begun
            study = study.model_copy(update={"clock": study.clock.model_copy(update={"end": self.last})})
        if mends(self.place):
            self._mend()
        while True:
            try:
                compute(
                    study, manifest["flow"], self.place, quality=manifest["quality"],
                    assets=assets_of(self.store), last=self.last,
                    cancel=self.stopped, report=self._report,
                )  # fmt: skip
                return
            except (Elsewhere, Lost) as error:
                self._wait_for_others(error)
            except NoRoom as error:
                self._wait_for_room(error)

    def _mend(self) -> None:
        """Frames that are not as they were written are taken away, to be computed again."""
        began, total = time.monotonic(), len(self.store.frames())

        def report(share: float) -> None:
            left = (time.monotonic() - began) * (1 - share) / share
            self._say(done=round(share * total), total=total, left=left, reads=True)

        found = damaged(self.store, report, self.stopped)
        take_away(self.store, list(found))
        for frame, what in found.items():
            note(self.place, f"frame {frame} is computed again: {what}")
        note(self.place, f"{total} frames were read by their sums, {len(found)} of them were damaged")
        (self.place / MEND).unlink(missing_ok=True)

    def _report(self, done: FrameDone) -> None:
        ahead = done.total - done.done
        each = done.left / ahead if ahead else done.seconds  # so that the two never contradict each other
        self._say(**{"done": done.done, "total": done.total, "each": each, "left": done.left, **done.facts})

    def _say(self, **facts: Any) -> None:
        told = {**facts, "worker": worker_name(), "job": self.job, "memory": peak.now()}
        with suppress(OSError):  # frames matter, and say so themselves
            write_atomically(self.place / "progress.json", json.dumps(told))
        if self.tell is not None:
            self.tell(told)

    def stopped(self) -> bool:
        """Whether somebody wants it to stop; asked between blocks, so the disk is not looked at each time."""
        give_way()
        now = time.monotonic()
        if not self.job or now - self.looked >= LOOKS:
            self.looked, self.wanted = now, stop_asked(self.place)
        return self.wanted

    def _wait_for_others(self, why: GustError) -> None:
        """A lane that rides this flow computes it for itself, or another worker was quicker: what it makes is kept."""
        note(self.place, f"waits: {why.what}")
        seen = -1
        while True:
            if self.stopped():
                raise Cancelled
            time.sleep(0.1)
            if self.tell is not None and len(ready := self.store.frames()) != seen:
                seen = len(ready)
                self.tell(progress_of(self.place))
            if not holder(self.place):
                return

    def _wait_for_room(self, why: NoRoom) -> None:
        note(self.place, f"waits: {why}")
        self._say(**{**progress_of(self.place), "waits": f"{why.what}; it goes on when there is room"})
        while not self.store.has_room():
            if self.stopped():
                raise Cancelled
            time.sleep(PATIENCE / 8)
        note(self.place, "there is room again")
