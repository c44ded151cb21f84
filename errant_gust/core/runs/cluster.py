"""Runs on an existing `dask.distributed` cluster, watched by one thread.

The run's folder is the truth: frames, progress, the wish to stop and the lease stand in it, so a scheduler, a worker
or this process may go and come back. A scheduler that is away is tried again, and its runs wait; a worker that dies
loses the frame it was at; a job that the scheduler has forgotten is handed in again.

A job's key is written into the folder: a server that was started again hands in the same key, and the scheduler knows
the job that still goes.
"""

import gc
import json
import os
import threading
import time
import uuid
from contextlib import suppress
from typing import Any

from errant_gust.core.runs import job
from errant_gust.core.runs.engine import Finished, Order
from errant_gust.core.runs.frame_store import RunStore, write_atomically
from errant_gust.core.runs.job import Tell

LOOKS = 0.25
"""Seconds between looks at the jobs that were handed in."""
FOLDERS = 1.0
"""Seconds between looks at the folders that workers write."""
MOST_FOLDERS = 64
"""Folders that are looked at each time; with more jobs they take turns."""
AGAIN = 2.0
"""Seconds between tries at a scheduler that is away."""
CONNECT = 5.0
"""Seconds that a try takes at most."""


class _Job:
    def __init__(self, order: Order, finished: Finished, tell: Tell | None) -> None:
        self.order, self.finished, self.tell = order, finished, tell
        self.key = _key_of(order)
        self.future: Any = None
        self.among: frozenset[str] | None = None  # workers it was narrowed down to
        self.told: dict[str, Any] = {}
        self.begun = False

    def say(self, facts: dict[str, Any]) -> None:
        if facts != self.told:
            self.told = facts
            if self.tell is not None:
                self.tell(facts)


def _key_of(order: Order) -> str:
    """The key of the job that goes for this order, or of a new one."""
    path = order.folder / "job.json"
    with suppress(OSError, ValueError, KeyError):
        known = json.loads(path.read_text())
        if known["last"] == order.last:
            return str(known["key"])
    key = f"gust-{order.folder.name}-{uuid.uuid4().hex[:8]}"
    write_atomically(path, json.dumps({"key": key, "last": order.last}))
    return key


class Cluster:
    """The jobs of this process on one scheduler."""

    def __init__(self, address: str) -> None:
        self.address = address
        self._lock = threading.Lock()
        self._jobs: dict[str, _Job] = {}
        self._client: Any = None
        self._thread: threading.Thread | None = None
        self._next = 0
        self._awake = threading.Event()

    def take(self, order: Order, finished: Finished, tell: Tell | None) -> None:
        """Have a run computed; `finished` and `tell` are called from the thread that watches."""
        with self._lock:
            one = _Job(order, finished, tell)
            self._jobs[one.key] = one
            if self._thread is None:
                self._thread = threading.Thread(target=self._watch, daemon=True, name="gust-cluster")
                self._thread.start()
        self._awake.set()

    def _all(self) -> list[_Job]:
        with self._lock:
            return list(self._jobs.values())

    def _watch(self) -> None:
        looked = 0.0
        while True:
            with self._lock:
                if not self._jobs:
                    self._awake.clear()
            self._awake.wait()
            try:
                client = self._connected()
                if client is None:
                    time.sleep(AGAIN)
                    continue
                workers = self._workers(client)
                for one in self._all():
                    self._step(client, one, workers)
                now = time.monotonic()
                if now - looked >= FOLDERS:
                    looked = now
                    self._look_at_folders()
            except Exception as error:  # whatever a network may do: the jobs stay, and are tried again
                self._drop(f"{type(error).__name__}: {error}")
            time.sleep(LOOKS)

    # the scheduler --------------------------------------------------------------------------------------------------

    def _connected(self) -> Any:
        """The client, or None while the scheduler is away: then all jobs say so, and those that are unwanted end."""
        from distributed import Client

        if self._client is not None and self._client.status == "running":
            return self._client
        if self._client is not None:
            self._drop("the connection was lost")
        try:
            self._client = Client(self.address, set_as_default=False, timeout=CONNECT)
            return self._client
        except Exception as error:
            self._away(error)
        # One that could not connect ends when it is collected: now, and not while the next one starts on this thread,
        # under the lock that its end needs, which would be for ever.
        gc.collect()
        return None

    def _drop(self, why: str) -> None:
        client, self._client = self._client, None
        for one in self._all():
            one.future, one.among = None, None
        self._away(ConnectionError(why))
        if client is not None:
            with suppress(Exception):
                client.close(timeout=1)

    def _away(self, error: Exception) -> None:
        first = str(error).splitlines()[0][:120] if str(error) else type(error).__name__
        for one in self._all():
            if job.stop_asked(one.order.folder):
                self._end(one, {"state": "stopped", "message": "stopped before it began"})
            else:
                one.say({
                    **job.progress_of(one.order.folder),
                    "waits": f"the scheduler at {self.address} is away ({first}); it is tried again every few seconds",
                })  # fmt: skip

    def _workers(self, client: Any) -> dict[str, dict[str, Any]]:
        """What the scheduler's workers have, by address."""
        found: dict[str, dict[str, Any]] = client.scheduler_info(n_workers=-1)["workers"]
        return found

    # a job ----------------------------------------------------------------------------------------------------------

    def _step(self, client: Any, one: _Job, workers: dict[str, dict[str, Any]]) -> None:
        if one.future is None or one.future.status in ("cancelled", "lost"):
            if job.stop_asked(one.order.folder):
                self._end(one, {"state": "stopped", "message": "stopped before it began"})
            elif _nothing_left(one.order):
                self._look(one)
                self._end(one, {"state": "done", "message": "", "worker": str(one.told.get("worker", ""))})
            else:
                self._hand_in(client, one, workers)
            return
        if one.future.done():
            self._look(one)  # folders are looked at now and then: the last frames may be new to who asked
            self._end(one, _said(one.future))
            return
        if one.begun:
            return
        if job.stop_asked(one.order.folder) and not self._began(one):
            one.future.cancel(force=True)
            self._end(one, {"state": "stopped", "message": "stopped before it began"})
        elif one.among is not None and not one.among & workers.keys():  # those it was narrowed down to have gone
            one.future.cancel(force=True)
            one.future, one.among = None, None

    def _hand_in(self, client: Any, one: _Job, workers: dict[str, dict[str, Any]]) -> None:
        from distributed import fire_and_forget

        asked, among, why = fitting(one.order.memory, workers)
        if why:
            one.say({**job.progress_of(one.order.folder), "waits": why})
            return
        one.among = among
        one.future = client.submit(
            job.work, str(one.order.folder), one.order.last, None, one.key, key=one.key, pure=False,
            priority=one.order.rank, resources=asked or None, workers=sorted(among) if among else None, retries=0,
        )  # fmt: skip
        fire_and_forget(one.future)  # it goes on when this process is gone
        one.say({**job.progress_of(one.order.folder), "waits": f"for one of {len(workers)} workers to be free"})

    def _began(self, one: _Job) -> bool:
        return job.progress_of(one.order.folder).get("job") == one.key

    def _look_at_folders(self) -> None:
        going = [one for one in self._all() if one.future is not None]
        start = self._next % max(1, len(going))
        for one in [*going[start:], *going[:start]][:MOST_FOLDERS]:
            self._look(one)
        self._next = start + MOST_FOLDERS

    def _look(self, one: _Job) -> None:
        facts = job.progress_of(one.order.folder)
        if facts.get("job") == one.key:
            one.begun = True
            one.say(facts)

    def _end(self, one: _Job, said: dict[str, str]) -> None:
        with self._lock:
            self._jobs.pop(one.key, None)
        with suppress(OSError):
            (one.order.folder / "job.json").unlink(missing_ok=True)
        if one.future is not None:
            one.future.release()
        one.finished(said)


def fitting(
    memory: int, workers: dict[str, dict[str, Any]]
) -> tuple[dict[str, float], frozenset[str] | None, str]:  # fmt: skip
    """What to ask of the scheduler for a run that needs so much memory: resources, or workers by name; or why none
    will do now. Workers that declare MEMORY (bytes) or CORES share it out themselves."""
    if not workers:
        return {}, None, "for a worker: the scheduler has none yet"
    declared = {address: w.get("resources") or {} for address, w in workers.items()}
    asked: dict[str, float] = {}
    if memory and any("MEMORY" in r for r in declared.values()):
        asked["MEMORY"] = memory
    if any("CORES" in r for r in declared.values()):
        asked["CORES"] = float(os.environ.get("ERRANT_GUST_RUN_CORES", 1))
    if asked:
        good = [a for a, r in declared.items() if all(r.get(name, 0) >= much for name, much in asked.items())]
        if not good:
            wants = ", ".join(f"{name} {much:.4g}" for name, much in asked.items())
            return {}, None, f"for a worker with {wants}: none of {len(workers)} has that"
        return asked, None, ""
    limits = {address: int(w.get("memory_limit") or 0) for address, w in workers.items()}
    good = [address for address, limit in limits.items() if not limit or limit >= memory]
    if not good:
        most = max(limits.values()) / 1e9
        return {}, None, f"for a worker with {memory / 1e9:.1f} GB: the largest of {len(workers)} has {most:.1f}"
    return {}, frozenset(good) if len(good) < len(workers) else None, ""


def _nothing_left(order: Order) -> bool:
    """Whether all is computed: by a job that ended, and was forgotten by the scheduler, before anybody was back to
    watch it."""
    return not job.mends(order.folder) and RunStore(order.folder).whole(order.last)


def _said(future: Any) -> dict[str, str]:
    """How a job ended, in words."""
    error = future.exception(timeout=10)
    if error is None:
        result: dict[str, str] = future.result(timeout=10)
        return result
    if type(error).__name__ == "KilledWorker":
        return {"state": "failed", "message": (
            "its workers died, one after the other: is there memory enough? See the run's log and the workers'"
        )}  # fmt: skip
    return {"state": "failed", "message": f"{type(error).__name__}: {error}"[:400]}


_clusters: dict[str, Cluster] = {}
_lock = threading.Lock()


def cluster(address: str) -> Cluster:
    """The one for an address, in this process."""
    with _lock:
        return _clusters.setdefault(address, Cluster(address))
