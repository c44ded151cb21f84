"""Runs of the server: started, watched, stopped, taken up again after a restart. One at a time on this machine."""

import os
import threading
import time
from pathlib import Path
from typing import Any

from django.db import close_old_connections

from errant_gust.core.errors import FileError, StudyError
from errant_gust.core.fields.scene import Plan
from errant_gust.core.places import home
from errant_gust.core.runs import job
from errant_gust.core.runs.identity import run_identity
from errant_gust.core.runs.store import RunStore
from errant_gust.core.study import document
from errant_gust.server import store
from errant_gust.server.models import Run

ALONGSIDE = 1  # local runs at once; a cluster takes as many as it likes
_lock = threading.Lock()
_going: set[str] = set()
_yielding: set[str] = set()
"""Runs that were asked to stop for one that somebody waits for; they wait their turn again."""


def folder_of(identity: str) -> Path:
    return home() / "runs" / identity


def get(identity: str) -> Run:
    run = Run.objects.filter(identity=identity).first()
    if run is None:
        raise StudyError(f"there is no run '{identity}'")
    return run


def start(key: str, flow: str, quality: str) -> Run:
    """The run of a flow of the study as it stands: found, continued or begun. Other previews of the flow stop."""
    study = store.get(key)
    parsed = document.parse(study.head.document)
    identity = job.prepare(parsed, flow, quality, home() / "runs", store.assets(key))
    end = parsed.clock.end
    run, _ = Run.objects.get_or_create(
        identity=identity, defaults={"study": study, "flow": flow, "quality": quality, "last": end}
    )
    run.asked.add(study)
    if quality == "preview":
        for other in Run.objects.filter(study=study, flow=flow, quality=quality).exclude(identity=identity):
            stop(other)
    with _lock:
        if identity in _going:
            return run
        ready = RunStore(folder_of(identity)).frames()
        whole = len([f for f in ready if f <= end]) > end - parsed.clock.start
        run.last, run.message = end, ""
        run.state = "done" if whole else "waiting"
        run.save()
        if not whole:
            _make_room(key)
    _launch()
    return run


def _make_room(key: str) -> None:
    """Previews of other studies give way: the user looks at this one. Called with the lock held."""
    if os.environ.get("ERRANT_GUST_SCHEDULER"):
        return
    for other in Run.objects.filter(identity__in=_going, quality="preview").exclude(study_id=key):
        _yielding.add(other.identity)
        job.ask_to_stop(folder_of(other.identity))


def measured(key: str, plan: Plan, flow: str, quality: str) -> list[RunStore]:
    """Runs of a flow that tell what another costs, the most telling first: itself, its other quality, older ones."""
    own = [run_identity(plan.study, flow, q, plan.assets) for q in (quality, "preview", "full")]
    older = Run.objects.filter(asked=key, flow=flow).order_by("-changed").values_list("identity", flat=True)[:8]
    return [RunStore(folder_of(identity)) for identity in dict.fromkeys([*own, *older])]


def stop(run: Run) -> None:
    with _lock:
        _yielding.discard(run.identity)
        if run.identity in _going:
            job.ask_to_stop(folder_of(run.identity))
        elif run.state == "waiting":
            run.state = "stopped"
            run.save()


def _launch() -> None:
    """Submit waiting runs while there is room."""
    with _lock:
        room = 64 if os.environ.get("ERRANT_GUST_SCHEDULER") else ALONGSIDE
        for run in Run.objects.filter(state="waiting").order_by("-changed"):
            if len(_going) >= room:
                return
            _going.add(run.identity)
            run.state = "running"
            run.save()
            job.submit(folder_of(run.identity), run.last, lambda result, i=run.identity: _finished(i, result))  # type: ignore[misc]


def _finished(identity: str, result: dict[str, str]) -> None:
    try:
        yielded = identity in _yielding and result["state"] == "stopped"
        state, message = ("waiting", "") if yielded else (result["state"], result["message"][:400])
        try:
            Run.objects.filter(identity=identity).update(state=state, message=message)
        finally:  # whatever the database says, the place is free
            with _lock:
                _going.discard(identity)
                _yielding.discard(identity)
        _launch()
    finally:
        close_old_connections()


def take_up() -> None:
    """Continue the runs that were going when the server stopped."""
    Run.objects.filter(state="running").update(state="waiting")
    _launch()


def wait_all(seconds: float = 60) -> None:
    """Stop everything that is going and wait for it (used at shutdown and by tests)."""
    Run.objects.filter(state="waiting").update(state="stopped")
    with _lock:
        _yielding.clear()
        for identity in _going:
            job.ask_to_stop(folder_of(identity))
    end = time.monotonic() + seconds
    while _going and time.monotonic() < end:
        time.sleep(0.02)


_kinds: dict[str, str] = {}


def _kind(run: Run) -> str:
    """The kind of flow; that of an identity never changes."""
    if run.identity not in _kinds:
        try:
            _kinds[run.identity] = str(RunStore(folder_of(run.identity)).manifest().get("kind", "particles"))
        except FileError:  # its folder has been taken away
            return "particles"
    return _kinds[run.identity]


def describe(run: Run) -> dict[str, Any]:
    """A run for the interface: state, frames that are complete, progress and time left."""
    frames = RunStore(folder_of(run.identity))
    progress = job.progress_of(folder_of(run.identity))
    return {
        "identity": run.identity,
        "study": run.study_id,
        "flow": run.flow,
        "kind": _kind(run),
        "quality": run.quality,
        "state": run.state,
        "message": run.message,
        "last": run.last,
        "frames": frames.frames(),
        "each": progress.get("each"),
        "left": progress.get("left") if run.state == "running" else None,
        "count": progress.get("count"),
    }
