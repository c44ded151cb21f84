"""Take results of a run out of the store into open formats, one file a frame: what can be written goes by the form."""

import hashlib
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any, Literal

import numpy as np

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import FileError, nearest
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.files.meshes import write_mesh, write_mesh_arrays
from errant_gust.core.files.points import write_csv, write_npz, write_ply
from errant_gust.core.files.usd import METRES, Setting, write_frame, write_stage
from errant_gust.core.files.volume_files import write_zarr, writer_for
from errant_gust.core.files.writing import check_new
from errant_gust.core.flows.drawing import Drawing, DrawnResult, Instanced, drawing_of
from errant_gust.core.flows.kind import FlowKind, kind_of
from errant_gust.core.flows.results import HOME, Form, Lines, MeshData, Points, Result, Volume
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.manifest import assets_of
from errant_gust.core.study import document

Velocity = Literal["motion", "positions"]
Report = Callable[[int, int], None]
TABLES: dict[str, Callable[[Path, dict[str, Array]], None]] = {"ply": write_ply, "npz": write_npz, "csv": write_csv}
ENDINGS = {"usd": "usdc", "zarr": "zarr.zip"}
FORMATS: dict[Form, tuple[str, ...]] = {
    "points": ("ply", "npz", "csv", "usd"),
    "lines": ("usd", "npz", "csv"),
    "instances": ("usd", "npz", "csv", "ply"),
    "volume": ("vdb", "vti", "npz", "zarr"),
    "mesh": ("ply", "obj", "usd", "stl", "npz"),
}
"""By form of result; the first is taken if none is named."""


def kind_of_run(store: RunStore) -> FlowKind:
    """The kind of flow that a run is of."""
    manifest = store.manifest()
    name = manifest.get("kind")
    if name is None:  # of an early version
        name = document.parse(manifest["study"]).find("flows", manifest["flow"], "flow").kind
    return kind_of(name, str(store.folder))


def plan_of_run(store: RunStore) -> Plan:
    """The study as it was when the run was begun."""
    manifest = store.manifest()
    return plan_of(document.parse(manifest["study"]), assets_of(store))


def export_run(
    store: RunStore,
    to: Path,
    *,
    format: str = "",
    frames: tuple[int, int] | None = None,
    channels: tuple[str, ...] | None = None,
    what: str = "",
    velocity: Velocity = "motion",
    plan: Plan | None = None,
    cancel: Cancel | None = None,
    report: Report | None = None,
) -> list[tuple[Path, str]]:
    """Write one file a frame into the folder `to`: (path, sha256) of each. Existing files are not overwritten.

    what: a result of the flow's kind by name (the first if none is named): points with their channels, volumes with
    all channels and `vel`, meshes, or what the lane draws: lines, points spread on them, instances (position, turn
    as a quaternion w x y z, size, which). USD of points holds the lines and instances too. `velocity`: as the motion
    gave it, or from the positions of this frame and the one before, by id. `plan`: the study whose drawing steps are
    taken; else the run's own. Frames are read one by one. Raises FileError for a format that does not hold it, a
    file that is there, or a frame that is not.
    """
    kind, manifest = kind_of_run(store), store.manifest()
    result = kind.result(what)
    format = format or FORMATS[result.form][0]
    if format not in FORMATS[result.form]:
        other = next((form for form, known in FORMATS.items() if format in known), None)
        fix = nearest(format, FORMATS[result.form])
        if other:
            what = f"'{format}' is not a format for {result.label}: it holds {other}, not {result.label}"
            raise FileError(what, where="format", fix=f"one of: {', '.join(FORMATS[result.form])}")
        raise FileError(f"'{format}' is not a format for {result.label}", where="format", fix=fix)
    wanted = wanted_frames(store, frames)
    flow = manifest["flow"]
    part = "" if result is kind.results[0] else f".{result.name}"
    paths = [to / f"{flow}{part}.{frame:04d}.{ENDINGS.get(format, format)}" for frame in wanted]
    stage = to / f"{flow}{part}.usda"
    check_new(*paths, *([stage] if format == "usd" else []))
    if channels is not None and not result.from_study:
        result.known(store, wanted[0], channels)
    draws = result.from_study or (format == "usd" and any(r.from_study for r in kind.results))
    if draws and plan is None:
        plan = plan_of_run(store)
    to.mkdir(parents=True, exist_ok=True)
    setting = Setting(slow=manifest["clock"].get("slow_motion", 1.0))
    made: list[Path] = []
    for i, (frame, path) in enumerate(zip(wanted, paths, strict=True)):
        if cancel is not None and cancel():
            break
        drawing = drawing_of(store, plan, flow, frame) if draws and plan is not None else None
        _write(store, path, frame, result, format, channels, velocity, drawing, setting)
        made.append(path)
        if report is not None:
            report(i + 1, len(wanted))
    if format == "usd" and made:
        made += write_stage(stage, flow, wanted[: len(made)], made, manifest["clock"]["fps"])
    return [(path, digest_of(path)) for path in made]


def wanted_frames(store: RunStore, frames: tuple[int, int] | None) -> list[int]:
    """Complete frames within a range, or a FileError that says which there are."""
    ready = store.frames()
    wanted = [f for f in ready if frames is None or frames[0] <= f <= frames[1]]
    if not wanted:
        have = f"it has {ready[0]} to {ready[-1]}" if ready else "it has none yet"
        raise FileError("the run has none of these frames", where=str(store.folder), fix=have)
    return wanted


def _write(
    store: RunStore, path: Path, frame: int, result: Result, format: str, channels: tuple[str, ...] | None,
    velocity: Velocity, drawing: Drawing | None, setting: Setting,
) -> None:  # fmt: skip
    found = take(store, frame, result, channels, velocity, drawing)
    flow = store.manifest()["flow"]
    put(path, frame, flow, result.form, format, found, channels=channels, beside=drawing, setting=setting)


def take(
    store: RunStore, frame: int, result: Result, channels: tuple[str, ...] | None, velocity: Velocity,
    drawing: Drawing | None,
) -> Any:  # fmt: skip
    """A result on a frame as it is written: points, a volume, a mesh, lines or instances."""
    manifest = store.manifest()
    if isinstance(result, DrawnResult):
        assert drawing is not None
        return result.drawn(drawing, manifest["flow"])
    found = result.read(store, frame, channels)
    if isinstance(found, Points) and velocity == "positions":
        moved = _from_positions(store, frame, result, found, manifest["clock"])
        found = replace(found, channels={**found.channels, "velocity": moved})
    return found


def put(
    path: Path, frame: int, flow: str, form: Form, format: str, found: Any, *,
    channels: tuple[str, ...] | None = None, beside: Drawing | None = None, setting: Setting = METRES,
) -> None:  # fmt: skip
    """Write what was taken. `beside`: what the lane draws, which USD of points holds too."""
    if isinstance(found, Volume):
        (write_zarr if format == "zarr" else writer_for(path))(path, found.grids)
    elif isinstance(found, MeshData):
        if format == "usd":
            write_frame(path, frame, flow, None, mesh=found, setting=setting)
        else:
            (write_mesh_arrays if format == "npz" else write_mesh)(path, found.vertices, found.faces, found.channels)
    elif format != "usd":
        TABLES[format](path, _table(found, channels))
    elif isinstance(found, Instanced):
        write_frame(path, frame, flow, None, None, found, setting=setting)
    elif isinstance(found, Lines) and form == "lines":
        write_frame(path, frame, flow, None, found, setting=setting)
    else:
        lines = beside.lines[-1] if beside is not None and beside.lines and isinstance(found, Points) else None
        instanced = beside.instanced if beside is not None and isinstance(found, Points) else None
        write_frame(path, frame, flow, _table(found, channels), lines, instanced, setting=setting)


def _table(found: Any, channels: tuple[str, ...] | None) -> dict[str, Array]:
    if isinstance(found, Instanced):
        return _instances(found)
    return _on_lines(found) if isinstance(found, Lines) else table_of(found, channels)


def table_of(points: Points, channels: tuple[str, ...] | None) -> dict[str, Array]:
    """Position and the channels that were named; without a word all but what is the flow's own affair. (n,) or (n,
    k)."""
    kept = {
        n: a for n, a in points.channels.items()
        if channels is not None or n not in points.known or not points.known[n].internal
    }  # fmt: skip
    return {HOME: points.position, **kept}


def _on_lines(found: Lines) -> dict[str, Array]:
    """Points with channels; `line` says to which line a point belongs."""
    line = np.repeat(np.arange(len(found.counts), dtype=np.uint32), found.counts)
    return {HOME: found.points, "line": line, **found.channels}


def _instances(found: Instanced) -> dict[str, Array]:
    turns = {f"turn_{axis}": np.ascontiguousarray(found.turns[:, i]) for i, axis in enumerate("wxyz")}
    channels = {k: v for k, v in found.channels.items() if k != "row"}
    return {HOME: found.points, **turns, "size": found.sizes, "which": found.which, **channels}


def _from_positions(store: RunStore, frame: int, result: Result, now: Points, clock: dict[str, Any]) -> Array:
    """Velocity (n, 3) in m/s from where each point was a frame before; the newly born keep theirs."""
    if "id" not in now.channels:
        now = result.read(store, frame)
    if frame - 1 not in store.frames() or "id" not in now.channels:
        return now.velocity
    before: Points = result.read(store, frame - 1)
    order = np.argsort(before.channels["id"])
    if not len(order):
        return now.velocity
    id = now.channels["id"]
    at = order[np.minimum(np.searchsorted(before.channels["id"][order], id), len(order) - 1)]
    known = before.channels["id"][at] == id
    if "again" in now.channels:
        known &= before.channels["again"][at] == now.channels["again"]
    way = (now.position - before.position[at]) * np.float32(clock["fps"] * clock["slow_motion"])
    return np.where(known[:, None], way, now.velocity).astype(np.float32)


def digest_of(path: Path) -> str:
    """SHA-256 of a file, in hexadecimal."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def formats_of(kind: FlowKind) -> Iterator[tuple[Result, tuple[str, ...]]]:
    """Results of a kind, and the formats that each can be written in."""
    for result in kind.results:
        yield result, FORMATS[result.form]
