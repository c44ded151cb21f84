"""Work shared out in blocks over threads: fixed block borders, so the same points give the same bits on any number."""

import itertools
import os
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial

from errant_gust.core.errors import Cancelled
from errant_gust.core.helpers import at_once
from errant_gust.core.wanted import Cancel as Cancel
from errant_gust.core.wanted import unwanted, while_wanted

BLOCK = 8192
LANES = 16  # blocks are padded to whole vectors, so that a value does not depend on where in a block it stands

Progress = Callable[[float], None]


_foreground, _elsewhere = 0, False
_quiet = threading.Condition()
_listeners: list[Callable[[bool], None]] = []


def when_foreground(tell: Callable[[bool], None]) -> None:
    """Have it told when somebody begins to wait for a picture here, and when nobody does any more."""
    _listeners.append(tell)


def somebody_waits() -> bool:
    """Whether somebody waits for a picture in this process."""
    return bool(_foreground)


def held_up(waits: bool) -> None:
    """What another process tells this one: whether somebody waits for a picture there."""
    global _elsewhere
    with _quiet:
        _elsewhere = waits
        _quiet.notify_all()


def _counted(more: int) -> None:
    global _foreground
    with _quiet:
        before, _foreground = _foreground, _foreground + more
        _quiet.notify_all()
        if bool(before) != bool(_foreground):
            for tell in _listeners:
                tell(bool(_foreground))


@contextmanager
def foreground() -> Iterator[None]:
    """While somebody waits for a picture, runs give way between blocks: in this process, and in those that are told."""
    _counted(1)
    try:
        yield
    finally:
        _counted(-1)


def give_way(longest: float = 0.5) -> None:
    """Called by background work between blocks: waits until nobody is waiting for a picture, but not for ever."""
    if _foreground or _elsewhere:
        with _quiet:
            _quiet.wait_for(lambda: not _foreground and not _elsewhere, timeout=longest)


def threads() -> int:
    """How many threads evaluate fields: ERRANT_GUST_THREADS, or the cores this process may use."""
    return int(os.environ.get("ERRANT_GUST_THREADS", 0)) or len(os.sched_getaffinity(0))


def share_out(
    work: Callable[[int, int], None],
    total: int,
    *,
    block: int = BLOCK,
    cancel: Cancel | None = None,
    progress: Progress | None = None,
) -> None:
    """Call work(start, stop) for every block of 0..total. Raises Cancelled soon after `cancel()` says so, or what this
    thread does is no longer wanted."""
    starts = range(0, total, block)
    count = min(threads(), len(starts))
    counter, lock, stopped = itertools.count(), threading.Lock(), threading.Event()
    with while_wanted(cancel):
        asked = unwanted()

    def some(reports: bool) -> None:
        while not stopped.is_set():
            with lock:
                i = next(counter)
            if i >= len(starts):
                return
            if asked is not None and asked():
                stopped.set()
                return
            work(starts[i], min(starts[i] + block, total))
            if reports and progress is not None:
                progress(min(1.0, (i + 1) / len(starts)))

    def worker(reports: bool) -> None:
        try:
            with while_wanted(asked):
                some(reports)
        except BaseException:
            stopped.set()
            raise

    if starts:
        at_once([partial(worker, n == 0) for n in range(count)])
    if stopped.is_set():
        raise Cancelled
