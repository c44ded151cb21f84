"""Runs of the server: started, watched, stopped, taken up again after a restart. One at a time on this machine, as many
as are handed in on a cluster."""

import json
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from django.db import close_old_connections
from django.utils import timezone

from errant_gust.core.errors import GustError, StudyError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.home import home
from errant_gust.core.runs import engine, job
from errant_gust.core.runs.cost import memory_of
from errant_gust.core.runs.frame_store import RunStore, write_atomically
from errant_gust.core.runs.identity import IDENTITY, run_identity
from errant_gust.core.runs.lease import holder
from errant_gust.core.runs.manifest import begin
from errant_gust.core.study import document
from errant_gust.server import notices, revisions
from errant_gust.server.models import Run
from errant_gust.server.plans import plan_of

ALONGSIDE = 1  # runs at once in this process; how many are handed in to a cluster is a setting
MOST_WAITING = 256  # rows that are looked through for the next ones
HERE = "here"
SETTLED = 5.0  # seconds after which a folder's time tells that nothing came since
_listed: dict[str, tuple[float, list[int]]] = {}
_lock = threading.Lock()
_going: dict[str, str] = {}
"""Runs that were handed in, by where they are computed: "" for here, or the address of a scheduler."""
_progress: dict[str, dict[str, Any]] = {}
"""What jobs said last, of runs that are going."""
_ends: dict[str, int] = {}
"""The last frame that each job was given, or a nearer one that is asked for since."""
_shortened: set[str] = set()
"""Runs whose end became nearer while they went."""
_yielding: set[str] = set()
"""Runs that were asked to stop for one that somebody waits for, or to go on elsewhere; they wait their turn again."""
_asked: dict[str, tuple[str, ...]] = {}
"""Studies that asked for runs which go on."""
_read: Counter[str] = Counter()
"""How many read the frames of a run for long (exports, deliveries)."""
_shown: dict[str, tuple[str, str]] = {}
"""State and message that the rows of going runs have."""


def folder_of(identity: str) -> Path:
    """Where a run's frames are; what is no identity is no path."""
    if not IDENTITY.fullmatch(identity):
        raise StudyError(f"there is no run '{identity[:60]}'")
    return home() / "runs" / identity


def get(identity: str) -> Run:
    run = Run.objects.filter(identity=identity).first() if IDENTITY.fullmatch(identity) else None
    if run is None:
        raise StudyError(f"there is no run '{identity[:60]}'")
    return run


def start(key: str, flow: str, quality: str) -> Run:
    """The run of a flow of the study as it stands: found, continued or begun. Other previews of the flow stop."""
    study = revisions.get(key)
    parsed = document.parse(study.head.document)
    identity = begin(parsed, flow, quality, home() / "runs", revisions.assets(key))
    end = parsed.clock.end
    kind = parsed.find("flows", flow, f"flows.{flow}").kind
    begun = {"study": study, "flow": flow, "kind": kind, "quality": quality, "last": end}
    run, _ = Run.objects.get_or_create(identity=identity, defaults=begun)
    run.asked.add(study)
    _asked.pop(identity, None)
    if not run.memory:
        note_memory(run, plan_of(key, study.head.document))
    if quality == "preview":
        others = Run.objects.filter(study=study, flow=flow, quality=quality, sweep="")
        for other in others.exclude(identity=identity):
            stop(other)
    with _lock:
        if identity in _going:
            if end > run.last:  # the clock became longer meanwhile: it goes on when it has come to its old end
                Run.objects.filter(identity=identity).update(last=end)
                run.last = end
            elif end < run.last and not run.asked.exclude(pk=study.pk).exists():
                _shorter(run, end)
            return run
        ready = RunStore(folder_of(identity)).frames()
        whole = len([f for f in ready if f <= end]) > end - parsed.clock.start
        run.last, run.message, run.gone = end, "", None
        run.state = "done" if whole else "waiting"
        if ready and not run.bytes:  # its frames were there before its row was
            run.bytes = RunStore(folder_of(identity)).bytes()
        run.save()
        if not whole:
            _make_room(key)
    _launch()
    return run


def note_memory(run: Run, plan: Plan) -> None:
    """What a run may need at most, for who chooses a worker for it."""
    try:
        run.memory = memory_of(plan, run.flow, run.quality)
    except GustError:  # the run says so itself, when it begins
        return
    Run.objects.filter(identity=run.identity).update(memory=run.memory)


def proceed(run: Run, last: int | None = None) -> Run:
    """Go on with a run as it was begun, to its end or to a later frame."""
    with _lock:
        if last is not None and last > run.last:
            Run.objects.filter(identity=run.identity).update(last=last)
            run.last = last
        if run.identity in _going:  # it goes on when it has come to its old end
            return run
        whole = RunStore(folder_of(run.identity)).whole(run.last)
        run.state, run.message = ("done" if whole else "waiting"), ""
        run.save()
        if run.state == "waiting":
            _make_room(run.study_id)
    _launch()
    return run


def mend(run: Run) -> Run:
    """Have all frames of a run read by their sums, and what is damaged computed again; its log tells which. Raises
    GustError for a run that goes on."""
    with _lock:
        if run.identity in _going:
            raise StudyError("the run goes on", where=run.identity, fix="stop it, or wait")
        job.ask_to_mend(folder_of(run.identity))
        run.state, run.message = "waiting", ""
        run.save()
    _launch()
    return run


def _shorter(run: Run, end: int) -> None:
    """The clock of its only study became shorter: nothing is computed beyond it."""
    Run.objects.filter(identity=run.identity).update(last=end)
    run.last = _ends[run.identity] = end
    _shortened.add(run.identity)
    _stop_at_end(run.identity)


def _stop_at_end(identity: str) -> None:
    """Who computes knows the end that it was given, and not that a nearer one will do."""
    if identity not in _shortened or job.mends(folder_of(identity)):  # all are there, and looked at
        return
    if RunStore(folder_of(identity)).whole(_ends[identity]):
        job.ask_to_stop(folder_of(identity))


def _make_room(key: str) -> None:
    """Previews of other studies give way: the user looks at this one. Called with the lock held."""
    here = [identity for identity, place in _going.items() if not place]
    for other in Run.objects.filter(identity__in=here, quality="preview").exclude(study_id=key):
        _yielding.add(other.identity)
        job.ask_to_stop(folder_of(other.identity))


def measured(key: str, plan: Plan, flow: str, quality: str) -> list[RunStore]:
    """Runs of a flow that tell what another costs, the most telling first: itself, its other quality, older ones."""
    own = [run_identity(plan.study, flow, q, plan.assets) for q in (quality, "preview", "full")]
    older = Run.objects.filter(asked=key, flow=flow).order_by("-changed").values_list("identity", flat=True)[:8]
    return [RunStore(folder_of(identity)) for identity in dict.fromkeys([*own, *older])]


def move(run: Run, place: str) -> Run:
    """Go on elsewhere: in this process ("here"), or on the cluster ("cluster"); what is complete stays."""
    if place not in (HERE, "cluster"):
        raise StudyError(f"'{place}' is no place for a run", where="place", fix="right would be here or cluster")
    if place == "cluster" and not engine.scheduler():
        raise StudyError("there is no cluster", where="place", fix="set ERRANT_GUST_SCHEDULER to its scheduler")
    Run.objects.filter(identity=run.identity).update(place=HERE if place == HERE else "")
    run.refresh_from_db()
    with _lock:
        going = _going.get(run.identity)
        if going is not None:
            if going != _place_of(run):
                _yielding.add(run.identity)
                job.ask_to_stop(folder_of(run.identity))
            return run
    return proceed(run)


@contextmanager
def read(*identities: str) -> Iterator[None]:
    """Within this, frames of these runs are read: nobody frees them."""
    begin_reading(identities)
    try:
        yield
    finally:
        end_reading(identities)


def begin_reading(identities: Iterable[str]) -> None:
    """From now on frames of these runs are read, until `end_reading`."""
    with _lock:
        _read.update(identities)


def end_reading(identities: Iterable[str]) -> None:
    with _lock:
        _read.subtract(identities)


def free_frames(identity: str, take: Callable[[], None]) -> bool:
    """Have the frames of a run taken away, unless it is computed or read, here or by another process: whether it was
    done. No run begins meanwhile."""
    with _lock:
        if identity in _going or _read[identity] > 0 or holder(folder_of(identity)):
            return False
        take()
        return True


def stop(run: Run) -> None:
    with _lock:
        _yielding.discard(run.identity)
        if run.identity in _going:
            job.ask_to_stop(folder_of(run.identity))
        elif run.state == "waiting":
            run.state = "stopped"
            run.save()


def _place_of(run: Run) -> str:
    """Where a run is to be computed: "" for here, or the address of a scheduler."""
    return "" if run.place == HERE else engine.scheduler()


def _launch(freed: str = "") -> None:
    """Submit waiting runs while there is room; `freed`: the run that has just ended and makes some."""
    with _lock:
        try:
            waiting = Run.objects.filter(state="waiting").exclude(identity__in=sorted(_going.keys() - {freed}))
            following = list(waiting.order_by("-changed")[:MOST_WAITING])
        finally:  # whatever the database says, the place is free
            for known in (_going, _progress, _shown, _asked):
                known.pop(freed, None)  # type: ignore[attr-defined]
            _yielding.discard(freed)
            _shortened.discard(freed)
        room = {False: ALONGSIDE, True: engine.at_once()}
        for place in _going.values():
            room[bool(place)] -= 1
        for run in following:
            place = _place_of(run)
            if room[bool(place)] > 0:
                room[bool(place)] -= 1
                _hand_in(run, place)
    notices.changed()


def _hand_in(run: Run, place: str) -> None:
    """With the lock held. On a cluster it waits until a worker has begun it."""
    identity = run.identity
    _going[identity], _ends[identity] = place, run.last
    run.state, run.message, run.ended = ("waiting" if place else "running"), "", None
    run.started = None if place else timezone.now()
    run.save(update_fields=["state", "message", "started", "ended"])
    _shown[identity] = (run.state, "")
    rank = 10 * (run.quality == "preview") - bool(run.sweep)
    order = engine.Order(folder_of(identity), run.last, run.memory, rank)
    finished, tell = (lambda result: _finished(identity, result)), (lambda facts: _progressed(identity, facts))
    _note_hand_in(identity)
    engine.submit(order, finished, tell, place)


GOING = "going.json"
"""In the folder of a run that this server has computed here: how often a server died meanwhile."""
MOST_DEATHS = 2


def _note_hand_in(identity: str) -> None:
    path = folder_of(identity) / GOING
    if not path.is_file():
        write_atomically(path, json.dumps({"deaths": 0}))


def _deaths(identity: str) -> int:
    """How often a server died while it had this run computed; one more than when it was last asked, if it still lies
    there that it goes."""
    path = folder_of(identity) / GOING
    try:
        deaths = int(json.loads(path.read_text())["deaths"]) + 1
    except (OSError, ValueError, KeyError, TypeError):
        return 0
    write_atomically(path, json.dumps({"deaths": deaths}))
    return deaths


def leave() -> None:
    """The server ends as it should: what goes is taken up by the next one, and nothing died of it."""
    for identity, place in list(_going.items()):
        if not place:
            with suppress(OSError):
                (folder_of(identity) / GOING).unlink(missing_ok=True)


def _progressed(identity: str, facts: dict[str, Any]) -> None:
    """A job says how far it is, or what it waits for."""
    _progress[identity] = facts
    now = ("waiting", str(facts["waits"])[:400]) if facts.get("waits") else ("running", "")
    if _shown.get(identity, now) != now:
        _shown[identity] = now
        begun = {"started": timezone.now()} if now[0] == "running" else {}
        try:
            rows = Run.objects.filter(identity=identity, state__in=("waiting", "running"))
            rows.update(state=now[0], message=now[1], **begun)
        finally:
            close_old_connections()
    _stop_at_end(identity)
    notices.changed(*_askers(identity))


def _askers(identity: str) -> tuple[str, ...]:
    """Studies whose pages show a run that goes on."""
    known = _asked.get(identity)
    if known is None:
        try:
            known = tuple(Run.asked.through.objects.filter(run_id=identity).values_list("study_id", flat=True))
        finally:
            close_old_connections()
        _asked[identity] = known
    return known


def _finished(identity: str, result: dict[str, Any]) -> None:
    with suppress(OSError):
        (folder_of(identity) / GOING).unlink(missing_ok=True)
    try:
        yielded = identity in _yielding and result["state"] == "stopped"
        state, message = ("waiting", "") if yielded else (result["state"], result["message"][:400])
        try:
            run = Run.objects.get(identity=identity)
            if state == "done" and run.last > _ends.get(identity, run.last):
                state = "waiting"  # more frames were asked for while it went
            elif state == "stopped" and not yielded and RunStore(folder_of(identity)).whole(run.last):
                state, message = "done", ""  # fewer were, or somebody who looked had computed the last one
            run.state, run.message, run.ended = state, message, timezone.now()
            run.worker, run.bytes = str(result.get("worker", ""))[:120], RunStore(folder_of(identity)).bytes()
            # who gave way keeps its place in the line: as the newest it would be the first to go on
            noted = [] if yielded else ["changed"]
            run.save(update_fields=["state", "message", "ended", "worker", "bytes", *noted])
        finally:
            _launch(freed=identity)
    finally:
        close_old_connections()


def take_up() -> None:
    """Continue the runs that were going when the server stopped; workers of a cluster may have ended them since."""
    for run in Run.objects.filter(state__in=("running", "waiting")):
        store = RunStore(folder_of(run.identity))
        if run.state == "waiting" and not (store.folder / "job.json").exists():
            continue  # it was never handed in
        whole = store.whole(run.last) and not job.mends(store.folder)
        if not whole and run.state == "running" and _deaths(run.identity) >= MOST_DEATHS:
            message = f"the server died {MOST_DEATHS} times while this was computed: it goes on only if you say so"
            Run.objects.filter(pk=run.pk).update(state="failed", message=message, ended=timezone.now())
            with suppress(OSError):
                (store.folder / GOING).unlink(missing_ok=True)
            continue
        taken = {"ended": timezone.now(), "bytes": store.bytes()} if whole else {}
        Run.objects.filter(pk=run.pk).update(state="done" if whole else "waiting", message="", **taken)
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


def _goes_now() -> str:
    """What is computed, for who waits for it: study and flow, with the time that is left if it is known."""
    here = sorted(i for i, place in _going.items() if not place)
    going = Run.objects.filter(identity__in=here).select_related("study").first()
    if going is None:
        return ""
    left = (_progress.get(going.identity) or {}).get("left")
    return f"{going.study.name}, {going.flow}" + (f" ({max(1, round(left))} s left)" if left else "")


def _frames(identity: str) -> list[int]:
    """Complete frames of a run; a folder in which nothing was done for a while is not listed again."""
    store = RunStore(folder_of(identity))
    try:
        changed = store.frames_folder.stat().st_mtime
    except OSError:
        return []
    known = _listed.get(identity)
    if known is not None and known[0] == changed:
        return known[1]
    found = store.frames()
    if time.time() - changed > SETTLED:  # within one tick of a disk's clock more may come unseen
        if len(_listed) > 20_000:
            _listed.clear()
        _listed[identity] = (changed, found)
    return found


def _reads(progress: dict[str, Any]) -> str:
    return f"reads its frames, {progress['done']} of {progress['total']}"


def describe(run: Run) -> dict[str, Any]:
    """A run for the interface: state, frames that are complete, progress and time left."""
    progress = _progress.get(run.identity) or job.progress_of(folder_of(run.identity))
    return {
        "identity": run.identity,
        "study": run.study_id,
        "flow": run.flow,
        "name": run.name,
        "kind": run.kind,
        "quality": run.quality,
        "state": run.state,
        "message": _reads(progress) if run.state == "running" and progress.get("reads") else run.message,
        "last": run.last,
        "frames": _frames(run.identity),
        "each": progress.get("each"),
        "left": progress.get("left") if run.state == "running" else None,
        "count": progress.get("count"),
        "started": run.started,
        "ended": run.ended,
        "worker": run.worker or str(progress.get("worker", "")),
        "behind": _goes_now() if run.state == "waiting" and not _place_of(run) else "",
        "bytes": run.bytes,
        "memory": progress.get("memory") if run.state == "running" else None,
        "needs": run.memory,
        "place": "cluster" if _place_of(run) else HERE,
    }
