"""What a server has done in a process of its own: runs, deliveries, proofs, films. By name, from JSON to JSON."""

from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path
from typing import Any

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import Cancelled, FileError, GustError, absent
from errant_gust.core.looking.filming import Shot, flip, order_of
from errant_gust.core.looking.flipbook import Flipbook
from errant_gust.core.runs import job
from errant_gust.core.runs.delivery.deliver import deliver
from errant_gust.core.runs.delivery.order import Options, ordered
from errant_gust.core.runs.delivery.sources import Item
from errant_gust.core.runs.delivery.verify import verify

Tell = Callable[[dict[str, Any]], None]
Task = Callable[[dict[str, Any], Tell, Cancel], dict[str, Any]]
TASKS: dict[str, Task] = {}
"""By name: called with what is given, whom to tell, and what says that it is no longer wanted."""


def done(order: dict[str, Any], tell: Tell, cancel: Cancel) -> dict[str, Any]:
    """Do what is ordered, by `task` and `given`: {"state": done, stopped or failed, "message", …}, whatever happens."""
    if cancel():
        return {"state": "stopped", "message": ""}
    try:
        return {"state": "done", "message": "", **TASKS[order["task"]](order["given"], tell, cancel)}
    except Cancelled:
        return {"state": "stopped", "message": ""}
    except GustError as error:
        return {"state": "failed", "message": str(error)}
    except Exception as error:  # whatever it is, who waits hears of it
        words = str(absent(error) or f"{type(error).__name__}: {error}")
        return {"state": "failed", "message": words[:400]}


def task(work: Task) -> Task:
    """Put a task in, under its own name."""
    TASKS[work.__name__] = work
    return work


@task
def run(given: dict[str, Any], tell: Tell, cancel: Cancel) -> dict[str, Any]:
    """Frames of a run, in its folder, up to `last`; a wish to stop stands in the folder."""
    return job.work(given["folder"], given["last"], tell)


@task
def write(given: dict[str, Any], tell: Tell, cancel: Cancel) -> dict[str, Any]:
    """A delivery: `items`, `options`, files `beside` it, `to`, the `command` that makes it again, and the address of a
    `cluster` that writes it, if one does."""
    items = [Item(Path(i["run"]), i["result"], i["format"], tuple(i["channels"]), i["study"]) for i in given["items"]]
    options = Options(**{**given["options"], "cameras": tuple(given["options"]["cameras"])})
    tell({"done": 0})
    order = ordered(items, options, [(name, Path(path)) for name, path in given["beside"]])
    deliver(
        order, Path(given["to"]), command=given["command"], cancel=cancel, cluster=given["cluster"],
        report=lambda done, total, name: tell({"done": done}), waits=lambda why: tell({"waits": why}),
    )  # fmt: skip
    return {}


@task
def film(given: dict[str, Any], tell: Tell, cancel: Cancel) -> dict[str, Any]:
    """The film of a flipbook whose pictures are there."""
    Flipbook(Path(given["folder"])).finish(lambda done, total: tell({"done": done}), cancel)
    return {}


@task
def drawn(given: dict[str, Any], tell: Tell, cancel: Cancel) -> dict[str, Any]:
    """A flipbook that was begun, drawn from the `runs` that its order names (folders, in its order), and its film.
    Raises FileError for one without an order."""
    made = Flipbook(Path(given["folder"]))
    order = order_of(made)
    if order is None:
        raise FileError("is drawn by nobody", where=str(made.folder))
    shot = Shot.of(order, [Path(run) for run in given["runs"]])
    flip(
        shot, made.film, made.folder, cancel=cancel, report=lambda done, total: tell({"done": done}),
        encoded=lambda done, total: tell({"done": done, "encoding": True}),
    )  # fmt: skip
    return {"notes": list(dict.fromkeys(note for stage in shot.stages for note in stage.notes))}


@task
def prove(given: dict[str, Any], tell: Tell, cancel: Cancel) -> dict[str, Any]:
    """What is not as it was delivered."""
    tell({"done": 0})
    found = verify(Path(given["folder"]), lambda done, total: tell({"done": done}), cancel)
    return {"faults": [asdict(f) for f in found]}
