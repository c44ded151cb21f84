"""A run as a job that any worker with the run's folder can do: progress and stop travel through the folder.

`engine` says who does it: threads of this process, or an existing Dask cluster (ERRANT_GUST_SCHEDULER=tcp://…) that
shares the folder.
"""

import json
import os
import socket
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from errant_gust.core.blocks import give_way
from errant_gust.core.errors import Cancelled, GustError
from errant_gust.core.flows.kind import kind_of
from errant_gust.core.runs.compute import FrameDone, compute
from errant_gust.core.runs.frame_store import RunStore, write_atomically
from errant_gust.core.runs.lease import Elsewhere
from errant_gust.core.runs.manifest import assets_of
from errant_gust.core.study import document

Tell = Callable[[dict[str, Any]], None]


def progress_of(folder: Path) -> dict[str, Any]:
    try:
        found: dict[str, Any] = json.loads((folder / "progress.json").read_text())
        return found
    except (OSError, json.JSONDecodeError):
        return {}


def ask_to_stop(folder: Path) -> None:
    (folder / "stop").touch()


def worker_name() -> str:
    """Which machine and process computes here."""
    return f"{socket.gethostname()} {os.getpid()}"


def work(folder: str, last: int, tell: Tell | None = None) -> dict[str, str]:
    """Do the job: {"state": done | stopped | failed, "message": …, "worker": …}. Runs in a thread or on a cluster
    worker. `tell` is called with what is also written to the folder, frame by frame."""
    return {**_work(folder, last, tell), "worker": worker_name()}


def _work(folder: str, last: int, tell: Tell | None) -> dict[str, str]:
    place = Path(folder)
    store = RunStore(place)
    manifest = store.manifest()
    study = document.parse(manifest["study"])
    if last > study.clock.end:  # somebody wants more of this version than there was when it was begun
        study = study.model_copy(update={"clock": study.clock.model_copy(update={"end": last})})
    assets = assets_of(manifest)

    def report(done: FrameDone) -> None:
        ahead = done.total - done.done
        each = done.left / ahead if ahead else done.seconds  # so that the two never contradict each other
        facts = {"done": done.done, "total": done.total, "each": each, "left": done.left, "worker": worker_name()}
        facts |= done.facts
        write_atomically(place / "progress.json", json.dumps(facts))
        if tell is not None:
            tell(facts)

    def stop_asked() -> bool:
        give_way()
        return (place / "stop").exists()

    seen = -1
    try:
        while True:
            try:
                compute(
                    study, manifest["flow"], place, quality=manifest["quality"], assets=assets, last=last,
                    cancel=stop_asked, report=report,
                )  # fmt: skip
                break
            except Elsewhere:  # a lane that rides this flow computes it for itself: what it makes is kept, so wait
                if stop_asked():
                    raise Cancelled from None
                time.sleep(0.1)
                if tell is not None and len(ready := store.frames()) != seen:
                    seen = len(ready)
                    tell(progress_of(place))
    except Cancelled:
        return {"state": "stopped", "message": "stopped; the frames so far are kept"}
    except GustError as error:
        return {"state": "failed", "message": str(error)}
    except MemoryError:
        fits = kind_of(study.find("flows", manifest["flow"], "flow").kind).smaller
        return {"state": "failed", "message": f"not enough memory; {fits} would fit"}
    return {"state": "done", "message": ""}


def on_engine(scheduler: str | None, folder: Path, last: int, tell: Tell | None = None) -> dict[str, str]:
    """Do the job on a Dask cluster, or here without one, and wait for it."""
    return _on_cluster(scheduler, folder, last, tell) if scheduler else _safely(folder, last, tell)


def submit(folder: Path, last: int, finished: Callable[[dict[str, str]], None], tell: Tell | None = None) -> None:
    """Start the job on the engine; `finished` is called from another thread, whatever happens, and `tell` whenever a
    frame is done. A stop that is asked for from now on holds."""
    (folder / "stop").unlink(missing_ok=True)
    scheduler = os.environ.get("ERRANT_GUST_SCHEDULER")
    run = lambda: finished(on_engine(scheduler, folder, last, tell))  # noqa: E731
    threading.Thread(target=run, daemon=True, name="gust-run").start()


def _safely(folder: Path, last: int, tell: Tell | None) -> dict[str, str]:
    try:
        return work(str(folder), last, tell)
    except Exception as error:  # a worker's fault must end up in the run's row, not vanish with the thread
        return {"state": "failed", "message": f"{type(error).__name__}: {error}"}


LOOKS = 0.25  # seconds between looks at a job of a cluster
FOLDER_LOOKS = 1.0  # seconds between looks at its folder, which another machine writes


def _on_cluster(address: str, folder: Path, last: int, tell: Tell | None) -> dict[str, str]:
    """The job on a Dask cluster; it fails in words when the cluster cannot be reached or is lost."""
    try:
        client = _client(address)
        future = client.submit(work, str(folder), last, pure=False)
        told: dict[str, Any] = {}
        since = time.monotonic()
        while not future.done():
            if tell is not None and time.monotonic() - since >= FOLDER_LOOKS:
                since, now = time.monotonic(), progress_of(folder)
                if now != told:
                    told = now
                    tell(now)
            if client.status not in ("running", "connecting"):
                raise ConnectionError("the connection was lost")
            if (folder / "stop").exists() and not (folder / "progress.json").exists() and _waits(client, future):
                future.cancel()
                return {"state": "stopped", "message": "stopped before it began"}
            time.sleep(LOOKS)
        if future.cancelled():
            raise ConnectionError("its work was given up")
        error = future.exception(timeout=10)
        if error is not None:
            return {"state": "failed", "message": f"{type(error).__name__}: {error}"}
        result: dict[str, str] = future.result(timeout=10)
        return result
    except Exception as error:  # whatever a network may do
        _clients.pop(address, None)
        why = str(error).splitlines()[0][:160] if str(error) else type(error).__name__
        message = f"the scheduler at {address} could not do it ({why}); start it, or unset ERRANT_GUST_SCHEDULER"
        return {"state": "failed", "message": message}


def _waits(client: Any, future: Any) -> bool:
    """Whether no worker of the cluster has begun with it."""
    return not any(future.key in keys for keys in client.processing().values())


_clients: dict[str, Any] = {}
_connecting = threading.Lock()


def _client(address: str) -> Any:
    from distributed import Client

    with _connecting:
        known = _clients.get(address)
        if known is None or known.status not in ("running", "connecting"):
            _clients[address] = Client(address, set_as_default=False, timeout=10)
        return _clients[address]
