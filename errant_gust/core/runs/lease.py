"""A lease on a folder: one writer at a time, over machines that share nothing but the folder.

A lease is a numbered file. To take one is to make the next number, which only one can (a hard link never replaces);
who holds it touches it, and one that was not touched for `LASTS` seconds has run out. The newest number is never taken
away, so numbers only grow, and are a fence: a holder that was away for longer finds a later one and writes no more.
Ages are told by the folder's own file system, so clocks of machines need not agree. A holder on this machine that has
died is known at once.
"""

import json
import os
import re
import socket
import threading
import uuid
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from errant_gust.core.errors import GustError
from errant_gust.core.files.writing import aside_of

LASTS = 30.0
"""Seconds without a sign of life after which a lease has run out."""
NAME = re.compile(r"^\.lease-(\d+)$")


class Elsewhere(GustError):
    """Somebody else computes this run now."""


class Lost(GustError):
    """The lease has run out, and somebody else may have taken it."""


def _machine() -> str:
    """This machine as a process sees it: numbers of processes mean something on it only."""
    with suppress(OSError):
        boot = Path("/proc/sys/kernel/random/boot_id").read_text().strip()
        return f"{boot} {os.readlink('/proc/self/ns/pid')}"
    return socket.gethostname()


def _started(pid: int) -> str:
    """When a process began, which tells it from a later one of the same number; empty if there is none."""
    try:
        stat = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    except OSError:
        return ""
    return "" if stat[0] in "ZX" else stat[19]


class Lease:
    """A lease that is held. `check` before anything is put in its place."""

    def __init__(self, folder: Path, number: int, own: str) -> None:
        self.folder, self.number, self.own = folder, number, own
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._beat, daemon=True, name="gust-lease")
        self._thread.start()

    @property
    def path(self) -> Path:
        """The file that says who holds it."""
        return self.folder / f".lease-{self.number}"

    def held(self) -> bool:
        """Whether it is still ours: read from the folder."""
        return _read(self.path).get("own") == self.own and _newest(self.folder) == self.number

    def check(self) -> None:
        """Raises Lost if another worker has taken it."""
        if not self.held():
            raise Lost("another worker has taken this run over", where=str(self.folder))

    def _beat(self) -> None:
        while not self._stop.wait(LASTS / 5):
            with suppress(OSError):
                os.utime(self.path)

    def give_back(self) -> None:
        """Let go of it, if it is still held."""
        self._stop.set()
        with suppress(OSError):
            if self.held():
                _put(self.path, {"free": True})


@contextmanager
def leased(folder: Path, what: str = "is being computed by", fix: str = "") -> Iterator[Lease]:
    """Hold the lease of a folder; Elsewhere if somebody else does, said by `what` and who it is."""
    folder.mkdir(parents=True, exist_ok=True)
    lease = _take(folder, what, fix)
    try:
        yield lease
    finally:
        lease.give_back()


def holder(folder: Path) -> dict[str, Any]:
    """Who holds the lease of a folder now: {worker, pid, …}; empty if nobody does."""
    number = _newest(folder)
    if not number:
        return {}
    path = folder / f".lease-{number}"
    told = _read(path)
    return told if told and not _over(path, told) else {}


def _take(folder: Path, what: str, fix: str) -> Lease:
    number = _newest(folder)
    if number:
        path = folder / f".lease-{number}"
        told = _read(path)
        if not _over(path, told):
            raise Elsewhere(f"{what} {told.get('worker', 'another process')}", where=str(folder), fix=fix)
    own = uuid.uuid4().hex
    told = {
        "own": own, "worker": f"{socket.gethostname()} {os.getpid()}", "machine": _machine(),
        "pid": os.getpid(), "started": _started(os.getpid()),
    }  # fmt: skip
    try:
        _put(folder / f".lease-{number + 1}", told, only_new=True)
    except FileExistsError:
        raise Elsewhere("has just been taken by another process", where=str(folder)) from None
    if _newest(folder) != number + 1:  # what was seen at first is long past
        (folder / f".lease-{number + 1}").unlink(missing_ok=True)
        raise Elsewhere("has just been taken by another process", where=str(folder))
    for old in _numbers(folder):
        if old <= number:
            (folder / f".lease-{old}").unlink(missing_ok=True)
    return Lease(folder, number + 1, own)


def _put(path: Path, told: dict[str, Any], only_new: bool = False) -> None:
    """Write a lease so that it is seen whole; with `only_new` never over one that is there (FileExistsError)."""
    aside = aside_of(path.with_name("lease"))
    try:
        aside.write_text(json.dumps(told))
        if only_new:
            os.link(aside, path)
        else:
            aside.replace(path)
    finally:
        aside.unlink(missing_ok=True)


def _numbers(folder: Path) -> list[int]:
    try:
        return sorted(int(m[1]) for name in os.listdir(folder) if (m := NAME.match(name)))
    except OSError:
        return []


def _newest(folder: Path) -> int:
    return max(_numbers(folder), default=0)


def _read(path: Path) -> dict[str, Any]:
    try:
        found = json.loads(path.read_text())
    except (OSError, ValueError):
        return {}
    return found if isinstance(found, dict) else {}


def _over(path: Path, told: dict[str, Any]) -> bool:
    """Whether a lease is free, has run out, or its holder is known to be dead."""
    if told.get("free"):
        return True
    if told.get("machine") == _machine():
        return not told.get("started") or _started(int(told.get("pid", 0))) != told["started"]
    probe = aside_of(path.with_name("clock"))
    try:
        probe.touch()
        return probe.stat().st_mtime - path.stat().st_mtime > LASTS
    except OSError:  # a newer one came meanwhile
        return False
    finally:
        probe.unlink(missing_ok=True)
