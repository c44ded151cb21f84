"""A run as a job that any worker with the run's folder can do: progress and stop travel through the folder.

`engine` says who does it: threads of this process, or an existing Dask cluster (ERRANT_GUST_SCHEDULER=tcp://…) that
shares the folder.
"""

import json
import os
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

from errant_gust.core.errors import Cancelled, GustError
from errant_gust.core.fields.blocks import give_way
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.runs.compute import FrameDone, compute, manifest_for
from errant_gust.core.runs.store import RunStore, write_atomically
from errant_gust.core.study import document


def prepare(study: document.Study, flow: str, quality: str, folder: Path, assets: Assets) -> str:
    """Make (or find) the folder of a run under `folder`; returns its identity."""
    manifest = manifest_for(study, flow, quality, assets)
    store = RunStore(folder / manifest["identity"])
    store.create({**manifest, "assets": str(assets.folder or "")})
    return str(manifest["identity"])


def progress_of(folder: Path) -> dict[str, Any]:
    try:
        found: dict[str, Any] = json.loads((folder / "progress.json").read_text())
        return found
    except (OSError, json.JSONDecodeError):
        return {}


def ask_to_stop(folder: Path) -> None:
    (folder / "stop").touch()


def work(folder: str, last: int) -> dict[str, str]:
    """Do the job: {"state": done | stopped | failed, "message": …}. Runs in a thread or on a cluster worker."""
    place = Path(folder)
    store = RunStore(place)
    manifest = store.manifest()
    study = document.parse(manifest["study"])
    assets = Assets(Path(manifest["assets"]) if manifest.get("assets") else None)
    (place / "stop").unlink(missing_ok=True)

    def report(done: FrameDone) -> None:
        facts = {"done": done.done, "total": done.total, "each": done.seconds, "left": done.left, **done.facts}
        write_atomically(place / "progress.json", json.dumps(facts))

    def stop_asked() -> bool:
        give_way()
        return (place / "stop").exists()

    try:
        compute(
            study, manifest["flow"], place, quality=manifest["quality"], assets=assets, last=last,
            cancel=stop_asked, report=report,
        )  # fmt: skip
    except Cancelled:
        return {"state": "stopped", "message": "stopped; the frames so far are kept"}
    except GustError as error:
        return {"state": "failed", "message": str(error)}
    except MemoryError:
        return {"state": "failed", "message": "not enough memory; fewer particles would fit"}
    return {"state": "done", "message": ""}


def submit(folder: Path, last: int, finished: Callable[[dict[str, str]], None]) -> None:
    """Start the job on the engine; `finished` is called from another thread."""
    scheduler = os.environ.get("ERRANT_GUST_SCHEDULER")
    if scheduler:
        future = _client(scheduler).submit(work, str(folder), last, pure=False)
        future.add_done_callback(lambda f: finished(_outcome(f)))
        return
    threading.Thread(target=lambda: finished(_safely(folder, last)), daemon=True, name="gust-run").start()


def _safely(folder: Path, last: int) -> dict[str, str]:
    try:
        return work(str(folder), last)
    except Exception as error:  # a worker's fault must end up in the run's row, not vanish with the thread
        return {"state": "failed", "message": f"{type(error).__name__}: {error}"}


def _outcome(future: Any) -> dict[str, str]:
    error = future.exception()
    if error is not None:
        return {"state": "failed", "message": f"{type(error).__name__}: {error}"}
    result: dict[str, str] = future.result()
    return result


_clients: dict[str, Any] = {}


def _client(address: str) -> Any:
    from distributed import Client

    if address not in _clients:
        _clients[address] = Client(address, set_as_default=False, timeout=10)
    return _clients[address]
