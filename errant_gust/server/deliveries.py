"""Deliveries of the server: into folders that the settings allow, one after the other, told while they go."""

import os
import shlex
import shutil
import time
import uuid
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any, Literal

from errant_gust.core.errors import FileError, GustError
from errant_gust.core.files.room import free_at
from errant_gust.core.flows.drawing import DrawnResult, drawing_of
from errant_gust.core.flows.results import HOME
from errant_gust.core.home import home
from errant_gust.core.looking.flipbook import beside
from errant_gust.core.runs import engine
from errant_gust.core.runs.delivery.deliver import MANIFEST, SUMS, check_target
from errant_gust.core.runs.delivery.order import Options, Order, ordered
from errant_gust.core.runs.delivery.readers import reader_of
from errant_gust.core.runs.delivery.sources import SHAPES, Item, offers_of
from errant_gust.core.runs.delivery.stages import names_of_stages
from errant_gust.core.runs.delivery.verify import Fault, manifest_of
from errant_gust.core.runs.export import FORMATS, kind_of_run, plan_of_run
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.lease import holder
from errant_gust.core.study import document
from errant_gust.core.study.viewpoints import viewpoints_of
from errant_gust.server import flipbooks, notices, runs, workers
from errant_gust.server.models import Run
from errant_gust.server.plans import plan_of
from errant_gust.server.revisions import folder as folder_of_study
from errant_gust.server.revisions import get as get_study

Place = Literal["cluster", "here"]
SHOWN = 400
"""Names of files that are told before writing."""


@dataclass
class Going:
    """A delivery that is written (or proved, by `what`) because somebody asked this process to."""

    id: str
    to: Path
    total: int
    what: str = "write"
    cluster: str = ""
    """Address of the scheduler whose workers write it; empty if this process does."""
    state: str = "waiting"
    done: int = 0
    message: str = ""
    began: float = 0.0
    order: str = ""
    """What who does it knows it by."""
    faults: list[Fault] | None = None
    """What a proof found, when it is done."""

    def as_dict(self) -> dict[str, Any]:
        took = time.monotonic() - self.began
        left = took / self.done * (self.total - self.done) if self.state == "running" and self.done else None
        return {
            "id": self.id, "to": str(self.to), "state": self.state, "done": self.done, "total": self.total,
            "message": self.message, "left": left, "what": self.what, "cluster": self.cluster,
            "faults": None if self.faults is None else [{"name": f.name, "what": f.what} for f in self.faults],
        }  # fmt: skip


_going: dict[str, Going] = {}
"""By id; those that have ended too, until the server does."""


def roots() -> list[Path]:
    """Folders in which deliveries may be made: ERRANT_GUST_DELIVER, with colons between; else `deliveries` at home."""
    chosen = [p for p in os.environ.get("ERRANT_GUST_DELIVER", "").split(":") if p.strip()]
    if not chosen:
        (home() / "deliveries").mkdir(parents=True, exist_ok=True)
        return [home() / "deliveries"]
    return [Path(p).expanduser().resolve() for p in chosen]


def target(root: str, name: str) -> Path:
    """The folder of a delivery, in one that is allowed."""
    allowed = {str(r): r for r in roots()}
    if root not in allowed:
        raise FileError("is no folder for deliveries", where=root[:200], fix=f"one of: {', '.join(allowed)}")
    if not allowed[root].is_dir():
        raise FileError("does not exist", where=root, fix="make it, or choose another")
    if (
        not name.strip()
        or name in (".", "..")
        or "/" in name
        or "\\" in name
        or name.startswith(".")
        or len(name) > 120
    ):
        raise FileError(f"'{name[:60]}' is no name for a folder", where="name", fix="right would be quay_smoke_v2")
    return allowed[root] / name.strip()


def offered(study: str) -> list[dict[str, Any]]:
    """What runs of a study have to give: a row for every result of every run with frames, the newest first."""
    rows = []
    for run in Run.objects.filter(asked=study, gone=None).order_by("-created")[:60]:
        store = RunStore(runs.folder_of(run.identity))
        ready = store.frames()
        if not ready:
            continue
        plan = plan_of_run(store)
        for result in kind_of_run(store).results:
            names = store.names(ready[-1])
            if isinstance(result, DrawnResult) and result.of(drawing_of(store, plan, run.flow, ready[0])) is None:
                continue  # the lane has no step that draws it
            rows.append({
                "run": run.identity, "flow": run.flow, "name": run.name, "quality": run.quality, "state": run.state,
                "first": ready[0], "last": ready[-1], "count": len(ready), "result": result.name,
                "label": result.label, "formats": list(FORMATS[result.form]),
                "channels": [c.name for c in result.channels(names) if c.name != HOME], "created": run.created,
            })  # fmt: skip
    return rows


def cameras_of(study: str) -> tuple[dict[str, Any], ...]:
    """The viewpoints that are saved in a study as it stands."""
    return viewpoints_of(document.parse(get_study(study).head.document))


def things_of(key: str) -> list[dict[str, Any]]:
    """Fields and shapes that a study has to give, as it stands."""
    plan = plan_of(key, get_study(key).head.document)
    clock = plan.study.clock
    return [
        {
            "id": o.id, "name": o.name, "sort": o.sort, "regions": list(o.regions), "still": o.still,
            "words": ", ".join(w for w in (o.holds, o.unit) if w),
            "first": clock.start, "last": clock.end,
            "formats": list(SHAPES if o.sort == "shape" else FORMATS["volume"]),
        }
        for o in offers_of(plan)
    ]  # fmt: skip


def order_of(
    items: list[tuple[str, str, str, tuple[str, ...]]], options: Options, study: str = "", films: Sequence[str] = ()
) -> Order:  # fmt: skip
    """(run, result, format, channels) of each, looked up; and flipbooks of a study by their ids. Where no run is named
    the result is a shape of the study, or a field of it on a region."""
    found = []
    for run, result, format, channels in items:
        if run:
            found.append(Item(runs.folder_of(runs.get(run).identity), result, format, channels))
        else:
            head = get_study(study).head.document
            found.append(Item(folder_of_study(study) / "assets", result, format, (), head))
    return ordered(found, options, beside([flipbooks.get(study, id).folder for id in films]))


def planned(order: Order, to: Path) -> dict[str, Any]:
    """What would be written: names, bytes, room, who reads it, and what is in the way."""
    problem = ""
    try:
        check_target(order, to)
    except GustError as error:
        problem = str(error)
    return {
        "files": [*(f.name for f in order.files[:SHOWN]), *(name for name, _ in order.beside[:SHOWN])],
        "count": len(order.files) + len(order.beside), "bytes": order.bytes,
        "stages": names_of_stages(order), "free": free_at(to.parent), "problem": problem,
        "readers": {p.format: reader_of(p.format) for p in order.parts},
    }  # fmt: skip


def start(order: Order, to: Path, place: Place = "cluster") -> Going:
    """Begin a delivery; it waits for the one before it. Where there is a cluster its workers write it, unless `place`
    says otherwise."""
    check_target(order, to)
    if any(g.to == to and g.what == "write" and g.state in ("waiting", "running") for g in _going.values()):
        raise FileError("is being delivered already", where=str(to), fix="another name, or wait")
    cluster = engine.scheduler() if place == "cluster" else ""
    going = Going(uuid.uuid4().hex[:12], to, len(order.files), cluster=cluster)
    given = {
        "items": [{**asdict(p.item), "run": str(p.item.run)} for p in order.parts],
        "options": asdict(order.options), "beside": [[name, str(path)] for name, path in order.beside],
        "to": str(to), "command": command_of(order, to), "cluster": cluster,
    }  # fmt: skip
    reads = frozenset(p.source.identity for p in order.parts)
    return _begun(going, "write", given, "the same order goes on with what was written", reads)


def _begun(
    going: Going, task: str, given: dict[str, Any], stopped: str, reads: frozenset[str] = frozenset()
) -> Going:  # fmt: skip
    """Have it done, one after the other; runs that it reads are not freed meanwhile."""
    _going[going.id] = going
    runs.begin_reading(reads)

    def tell(facts: dict[str, Any]) -> None:
        if going.state == "waiting":
            going.state, going.began = "running", time.monotonic()
        if "waits" in facts:
            going.message = f"it waits: {facts['waits']}" if facts["waits"] else ""
        going.done = int(facts.get("done", going.done))
        notices.changed()

    def ended(result: dict[str, Any]) -> None:
        runs.end_reading(reads)
        going.message = stopped if result["state"] == "stopped" else result["message"]
        if "faults" in result:
            going.faults = [Fault(**f) for f in result["faults"]]
        going.state = result["state"]
        notices.changed()

    going.order = workers.HANDS.do(task, given, tell, ended)
    return going


def stop(id: str) -> Going:
    """Ask for the end of a delivery, or of its proof."""
    going = get(id)
    workers.HANDS.stop(going.order)
    return going


def command_of(order: Order, to: Path) -> str:
    """The command that makes the delivery again, under another name."""
    folders = dict.fromkeys(str(p.item.run) for p in order.parts)
    films = dict.fromkeys(str(path.parent) for _, path in order.beside)
    along = [word for film in films for word in ("--flipbook", film)]
    return shlex.join(["gust", "deliver", *folders, "--again", str(to), *along, "--to", f"{to}_again"])


def all_going() -> list[dict[str, Any]]:
    """Deliveries that were asked for in this process, the newest first."""
    return [g.as_dict() for g in reversed(_going.values())]


def get(id: str) -> Going:
    if id not in _going:
        raise GustError(f"there is no delivery '{id[:40]}'", where="id")
    return _going[id]


def made() -> list[dict[str, Any]]:
    """Deliveries that stand in the allowed folders, the newest first."""
    found = [p for root in roots() if root.is_dir() for p in root.iterdir() if (p / MANIFEST).is_file()]
    told = []
    for folder in sorted(found, key=lambda p: p.stat().st_mtime, reverse=True)[:100]:
        try:
            said = manifest_of(folder)
        except FileError as error:
            told.append({"to": str(folder), "files": 0, "bytes": 0, "words": error.what})
            continue
        flows = ", ".join(dict.fromkeys(f"{r['flow']}, {r['quality']}" for r in said["runs"].values()))
        told.append({"to": str(folder), "files": len(said["files"]), "bytes": said["bytes"], "words": flows})
    return told


LEFT = 7 * 24 * 3600.0
"""Seconds for which what a delivery that was cut off has written is kept, to go on with."""


def sweep() -> None:
    """Take away what deliveries that were cut off left in the allowed folders, and nobody went on with for a week."""
    for root in roots():
        for folder in root.glob(".*.delivering") if root.is_dir() else ():
            newest = max((p.lstat().st_mtime for p in [folder, *folder.rglob("*")]), default=0.0)
            if folder.is_dir() and not folder.is_symlink() and time.time() - newest > LEFT and not holder(folder):
                shutil.rmtree(folder, ignore_errors=True)


def standing(to: str) -> Path:
    """A delivery that stands in one of the allowed folders."""
    folder = Path(to)
    return target(str(folder.parent), folder.name)


def prove(to: str) -> Going:
    """Begin to read a delivery back; what is not as it was delivered is in its `faults` at the end."""
    folder = standing(to)
    going = Going(uuid.uuid4().hex[:12], folder, len(manifest_of(folder)["files"]), "prove")

    return _begun(going, "prove", {"folder": str(folder)}, "nothing was found so far")


def all_files(to: str) -> tuple[Path, list[str]]:
    """The folder of a delivery and the names of all its files."""
    folder = standing(to)
    files = [MANIFEST, SUMS, *(f["name"] for f in manifest_of(folder)["files"])]
    missing = next((n for n in files if not (folder / n).is_file()), None)
    if missing:
        raise FileError(f"lacks {missing}", where=str(folder), fix="verify it, and write it again")
    return folder, files
