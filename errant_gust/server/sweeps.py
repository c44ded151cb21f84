"""Sweeps: a study with other values, a run each, seen side by side."""

import uuid
from functools import lru_cache
from typing import Any

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.flows.kind import kind_of
from errant_gust.core.home import home
from errant_gust.core.pictures.camera import Box, View
from errant_gust.core.pictures.stage import Ends
from errant_gust.core.pictures.taking import as_png, boxes_of
from errant_gust.core.pictures.taking import picture as taken
from errant_gust.core.runs.cost import cost_of
from errant_gust.core.runs.export import kind_of_run, plan_of_run
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.manifest import begin
from errant_gust.core.runs.run_readings import LANE, READINGS, readings_of, units_of
from errant_gust.core.runs.sweep import (
    Vary,
    combinations,
    label,
    read_vary,
    variable,
    variant,
)
from errant_gust.core.study import document
from errant_gust.core.study.changes import value as words_of
from errant_gust.server import revisions, runs, shelf
from errant_gust.server.models import Run
from errant_gust.server.plans import plan_of

Version = tuple[dict[str, Any], document.Study]


def read(varies: list[tuple[str, str]]) -> list[Vary]:
    """Paths and values as they are written: `1, 2, 3`, `0.2:2:5`, `0.2:2`."""
    return [read_vary(f"{path}={values}") for path, values in varies]


def versions(key: str, flow: str, varies: list[Vary], samples: int, seed: int) -> list[Version]:
    study = document.parse(revisions.get(key).head.document)
    study.find("flows", flow, "flow")
    return [(values, variant(study, values)) for values in combinations(varies, samples, seed)]


def parameters(key: str, flow: str) -> list[dict[str, Any]]:
    """What a sweep of the flow may vary: path, label with its place, value now, choices."""
    study = document.parse(revisions.get(key).head.document)
    study.find("flows", flow, "flow")
    names = {f"{room}.{p.id}": p.name for room in ("fields", "flows", "shapes") for p in getattr(study, room)}
    told = []
    for path, entry, now in variable(study, flow):
        place = names[".".join(path.split(".")[:2])]
        choices = [f.id for f in study.fields] if entry["type"] == "field" else entry["choices"]
        told.append({
            "path": path, "label": f"{place} ▸ {entry['label']}", "type": entry["type"], "unit": entry["unit"],
            "now": words_of(now, entry["unit"], study), "choices": choices,
        })  # fmt: skip
    return told


def forecast(key: str, flow: str, quality: str, made: list[Version]) -> dict[str, Any]:
    """How many runs, and what they cost by what was measured; nothing is begun."""
    plan = plan_of(key, revisions.get(key).head.document)
    stores = runs.measured(key, plan, flow, quality)
    cost = cost_of(plan, flow, quality, stores)
    clock, count = plan.study.clock, len(made)
    whole = clock.end - clock.start + 1
    seconds, disk = cost.seconds, cost.disk
    if seconds is not None and disk is not None and cost.frames:  # of the frames that are not there yet
        seconds, disk = seconds * whole / cost.frames, int(disk * whole / cost.frames)
    elif cost.measured:  # all are there: they tell it themselves
        ready = stores[0].frames()
        share = whole / max(len(ready), 1)
        seconds = sum(float(stores[0].facts(n).get("seconds", 0.0)) for n in ready) * share
        disk = int(stores[0].bytes() * share)
    return {
        "count": count, "memory": cost.memory, "labels": [label(*one) for one in made[:60]],
        "seconds": None if seconds is None else seconds * count, "disk": None if disk is None else disk * count,
        "basis": cost.basis,
    }  # fmt: skip


def start(key: str, flow: str, quality: str, made: list[Version]) -> str:
    """Begin a run for each version; those that are there already join the sweep. The sweep's id."""
    study = revisions.get(key)
    sweep = uuid.uuid4().hex[:12]
    for values, version in made:
        plan = plan_of(key, document.dump(version))
        plan.at(0.0)
        identity = begin(version, flow, quality, home() / "runs", revisions.assets(key))
        end = version.clock.end
        kind = version.find("flows", flow, f"flows.{flow}").kind
        begun = {"study": study, "flow": flow, "kind": kind, "quality": quality, "last": end, "state": "stopped"}
        run, _ = Run.objects.get_or_create(identity=identity, defaults=begun)
        run.asked.add(study)
        runs.note_memory(run, plan)
        Run.objects.filter(identity=identity).update(
            sweep=sweep, values=values, gone=None, name=run.name or label(values, version)[:80]
        )
    for run in Run.objects.filter(sweep=sweep):
        runs.proceed(run)
    return sweep


def again(sweep: str) -> None:
    """Try what failed or was stopped once more."""
    for run in _of(sweep):
        if run.state in ("failed", "stopped"):
            runs.proceed(run)


def stop(sweep: str) -> None:
    for run in _of(sweep):
        runs.stop(run)


def _of(sweep: str) -> list[Run]:
    found = (
        list(Run.objects.filter(sweep=sweep, gone=None).select_related("study").order_by("created")) if sweep else []
    )
    if not found:
        raise StudyError(f"there is no sweep '{sweep}'")
    return found


@lru_cache(maxsize=4096)
def _readings(identity: str, frame: int, lanes: tuple[str, ...]) -> dict[str, float]:
    store = RunStore(runs.folder_of(identity))
    return readings_of(store, frame, kind_of_run(store).result(), _plan(identity), store.manifest()["flow"], lanes)


@lru_cache(maxsize=32)
def _plan(identity: str) -> Plan:
    return plan_of_run(RunStore(runs.folder_of(identity)))


def sheet(sweep: str, frame: int | None, lanes: tuple[str, ...] = ()) -> dict[str, Any]:
    """All runs of a sweep: values, state, and readings on a frame (the last that all of them have), also of lanes."""
    rows = _of(sweep)
    plan = _plan(rows[0].identity)
    for lane in lanes:
        plan.study.find("fields", lane, "lane")
    told = [shelf.describe(run) for run in rows]
    ready = [set(r["frames"]) for r in told if r["frames"]]
    common = sorted(set.intersection(*ready)) if ready else []
    shown = frame if frame is not None else (common[-1] if common else None)
    for run, said in zip(rows, told, strict=True):
        there = shown is not None and shown in said["frames"]
        said["values"] = run.values
        said["readings"] = _readings(run.identity, shown, lanes) if there and shown is not None else None
    return {
        "sweep": sweep, "study": rows[0].study_id, "study_name": rows[0].study.name, "flow": rows[0].flow,
        "frame": shown, "frames": sorted(set().union(*ready)) if ready else [],
        "readings": [*READINGS, *(LANE + lane for lane in lanes)],
        "units": units_of(kind_of(rows[0].kind).result(), plan, lanes),
        "lanes": [{"id": f.id, "name": f.name} for f in plan.study.fields if f.steps],
        "paths": list(rows[0].values), "runs": told,
    }  # fmt: skip


@lru_cache(maxsize=64)
def _box(frame: int, ready: tuple[str, ...]) -> tuple[Box | None, Ends | None]:
    """What all runs of a sweep take up on a frame, and the ends of the numbers that colour them."""
    return boxes_of([(shelf.stage_of(identity), None) for identity in ready], [frame])


def picture(sweep: str, identity: str, frame: int, size: tuple[int, int], view: View) -> bytes:
    """A run of the sweep on a frame, seen as all others of it are."""
    ready = tuple(r.identity for r in _of(sweep) if frame in RunStore(runs.folder_of(r.identity)).frames())
    if identity not in ready:
        raise StudyError(f"there is no frame {frame} of '{identity}' in this sweep")
    box, ends = _box(frame, ready)
    return as_png(taken(shelf.stage_of(identity), frame, size, view, box=box, ends=ends))


def of_study(key: str) -> list[dict[str, Any]]:
    """The sweeps of a study, the newest first."""
    told: dict[str, dict[str, Any]] = {}
    for run in Run.objects.filter(asked=key, gone=None).exclude(sweep="").order_by("-created"):
        words = ", ".join(path.split(".")[-1].replace("_", " ") for path in run.values)
        one = told.setdefault(
            run.sweep, {"sweep": run.sweep, "flow": run.flow, "count": 0, "created": run.created, "words": words}
        )
        one["count"] += 1
    return list(told.values())
