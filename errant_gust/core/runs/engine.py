"""Who does a job: a thread of this process, or whom it names; or an existing Dask cluster (ERRANT_GUST_SCHEDULER) that
shares folders."""

import os
import threading
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from errant_gust.core.runs import job
from errant_gust.core.runs.job import Tell

__all__ = ["Finished", "Order", "Tell", "at_once", "compute_here_by", "scheduler", "submit", "wait_for"]

Finished = Callable[[dict[str, str]], None]


@dataclass(frozen=True)
class Order:
    """A run to be computed: `memory` in bytes is what it may need at most; a larger `rank` goes first."""

    folder: Path
    last: int
    memory: int = 0
    rank: int = 0


def at_once() -> int:
    """Jobs that are handed in to a cluster at once, over all flows; the others wait here."""
    return max(1, int(os.environ.get("ERRANT_GUST_AT_ONCE", 64)))


def scheduler() -> str:
    """Address of the cluster's scheduler; empty where there is none."""
    return os.environ.get("ERRANT_GUST_SCHEDULER", "").strip()


def submit(order: Order, finished: Finished, tell: Tell | None = None, address: str | None = None) -> None:
    """Start a job; `finished` is called from another thread, whatever happens, and `tell` whenever something is new:
    a frame, or {"waits": why} while nobody can compute it. A stop that is asked for from now on holds. `address`: of
    another scheduler than the setting's, or "" for this machine."""
    (order.folder / "stop").unlink(missing_ok=True)
    where = scheduler() if address is None else address
    order = Order(order.folder.resolve(), order.last, order.memory, order.rank)
    if where:
        from errant_gust.core.runs.cluster import cluster

        cluster(where).take(order, finished, tell)
        return
    _here(order, finished, tell)


def _in_a_thread(order: Order, finished: Finished, tell: Tell | None) -> None:
    run = lambda: finished(_safely(order, tell))  # noqa: E731
    threading.Thread(target=run, daemon=True, name="gust-run").start()


Here = Callable[[Order, Finished, Tell | None], None]
_here: Here = _in_a_thread


def compute_here_by(here: Here) -> None:
    """Have jobs of this machine done by somebody else than a thread of this process, such as a process of its own."""
    global _here
    _here = here


def wait_for(order: Order, tell: Tell | None = None) -> dict[str, str]:
    """Have a job done, and wait for its end."""
    ended, found = threading.Event(), []

    def finished(said: dict[str, str]) -> None:
        found.append(said)
        ended.set()

    submit(order, finished, tell)
    while not ended.wait(0.5):  # so that an interruption is heard
        pass
    return found[0]


def _safely(order: Order, tell: Tell | None) -> dict[str, str]:
    try:
        return job.work(str(order.folder), order.last, tell)
    except Exception as error:  # a worker's fault must end up in the run's row, not vanish with the thread
        return {"state": "failed", "message": f"{type(error).__name__}: {error}"}
