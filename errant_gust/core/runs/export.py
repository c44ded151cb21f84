"""Take frames of a run out of the store into open formats: particles, and what is drawn from them."""

import hashlib
from collections.abc import Callable
from pathlib import Path
from typing import Any, Literal

import numpy as np

from errant_gust.core.errors import FileError, nearest
from errant_gust.core.fields.blocks import Cancel
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Plan
from errant_gust.core.files.points import write_csv, write_npz, write_ply
from errant_gust.core.files.usd import write_frame, write_stage
from errant_gust.core.flows.particles.drawn import Drawing, Lines
from errant_gust.core.flows.particles.state import INTERNAL
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.runs.drawing import drawing_of
from errant_gust.core.runs.store import RunStore
from errant_gust.core.runs.volumes import export_volumes
from errant_gust.core.study import document

What = Literal["particles", "lines", "spread", "instances"]
FORMATS: dict[str, tuple[str, Callable[[Path, dict[str, Array]], None] | None]] = {
    "ply": (".ply", write_ply),
    "npz": (".npz", write_npz),
    "csv": (".csv", write_csv),
    "usd": (".usdc", None),
}
ALWAYS = ("position",)


def export_run(
    store: RunStore,
    to: Path,
    *,
    format: str = "",
    frames: tuple[int, int] | None = None,
    channels: tuple[str, ...] | None = None,
    what: What = "particles",
    velocity: Literal["motion", "positions"] = "motion",
    plan: Plan | None = None,
    cancel: Cancel | None = None,
    report: Callable[[int, int], None] | None = None,
) -> list[tuple[Path, str]]:
    """Write one file a frame into the folder `to`: (path, sha256) of each. Existing files are not overwritten.

    Gas becomes volumes with all channels (OpenVDB unless `format` says otherwise); particles become PLY, or `what`:
    the lines that the lane draws (with USD: along with the particles, and the instances), the points spread on them,
    or the instances (position, turn as a quaternion w x y z, size, which). `velocity`: as the motion gave it, or from
    the positions of this frame and the one before, by id. `plan`: the study whose drawing steps are taken; else the
    run's own. Frames are read one by one.
    """
    if store.manifest().get("kind") == "gas":
        paths = export_volumes(
            store, to, format=format or "vdb", frames=frames, channels=channels, cancel=cancel, report=report
        )
        return [(path, _digest(path)) for path in paths]
    format = format or "ply"
    if format not in FORMATS:
        raise FileError(f"'{format}' is not a format for particles", where="format", fix=nearest(format, FORMATS))
    if format == "ply" and what == "lines":
        raise FileError("a PLY holds points, not lines", where="format", fix="usd, npz or csv hold lines")
    suffix, write = FORMATS[format]
    ready = store.frames()
    wanted = [f for f in ready if frames is None or frames[0] <= f <= frames[1]]
    if not wanted:
        have = f"it has {ready[0]} to {ready[-1]}" if ready else "it has none yet"
        raise FileError("the run has none of these frames", where=str(store.folder), fix=have)
    manifest = store.manifest()
    flow = manifest["flow"]
    part = "" if what == "particles" else f".{what}"
    paths = [to / f"{flow}{part}.{frame:04d}{suffix}" for frame in wanted]
    stage = to / f"{flow}{part}.usda"
    taken = [p for p in (*paths, *([stage] if format == "usd" else [])) if p.exists()]
    if taken:
        raise FileError("is there already", where=str(taken[0]), fix="choose another folder or delete it")
    drawings = what != "particles" or format == "usd"
    if drawings and plan is None:
        assets = Assets(Path(manifest["assets"]) if manifest.get("assets") else None)
        plan = Plan(document.parse(manifest["study"]), assets)
    to.mkdir(parents=True, exist_ok=True)
    made: list[Path] = []
    for i, (frame, path) in enumerate(zip(wanted, paths, strict=True)):
        if cancel is not None and cancel():
            break
        drawing = drawing_of(store, plan, flow, frame) if drawings and plan is not None else None
        if what == "instances":
            data, lines = _instances(drawing, flow), None
        elif what != "particles":
            data, lines = _drawn(what, drawing, flow)
        else:
            data, lines = store.read(frame), drawing.lines[-1] if drawing and drawing.lines else None
            if velocity == "positions":
                data["velocity"] = _from_positions(store, frame, data, manifest["clock"])
            data = _chosen(data, channels)
        if write is None:
            instanced = drawing.instanced if drawing is not None and what in ("particles", "instances") else None
            write_frame(path, frame, flow, None if what in ("lines", "instances") else data, lines, instanced)
        else:
            write(path, data)
        made.append(path)
        if report is not None:
            report(i + 1, len(wanted))
    if format == "usd" and made:
        made += write_stage(stage, flow, wanted[: len(made)], made, manifest["clock"]["fps"])
    return [(path, _digest(path)) for path in made]


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _chosen(data: dict[str, Array], channels: tuple[str, ...] | None) -> dict[str, Array]:
    """Only the wanted channels; without a word all but what is the flow's own affair."""
    if channels is None:
        return {k: v for k, v in data.items() if k not in INTERNAL}
    unknown = [c for c in channels if c not in data]
    if unknown:
        raise FileError(f"the run has no channel '{unknown[0]}'", where="channels", fix=nearest(unknown[0], data))
    return {name: data[name] for name in (*ALWAYS, *(c for c in channels if c not in ALWAYS))}


def _drawn(what: What, drawing: Drawing | None, flow: str) -> tuple[dict[str, Array], Lines | None]:
    """Points with channels, and the lines if they are wanted; `line` says to which line a point belongs."""
    found: Lines | None = None
    if drawing is not None:
        found = drawing.spread if what == "spread" else drawing.lines[-1] if drawing.lines else None
    if found is None:
        step = "Spread along" if what == "spread" else "Trail or Flow lines"
        raise FileError(f"the lane draws no {what}", where=f"flows.{flow}", fix=f"add {step}")
    line = np.repeat(np.arange(len(found.counts), dtype=np.uint32), found.counts)
    return {"position": found.points, "line": line, **found.channels}, found if what == "lines" else None


def _instances(drawing: Drawing | None, flow: str) -> dict[str, Array]:
    found = drawing.instanced if drawing is not None else None
    if found is None:
        raise FileError("the lane draws no instances", where=f"flows.{flow}", fix="add Instances")
    turns = {f"turn_{axis}": np.ascontiguousarray(found.turns[:, i]) for i, axis in enumerate("wxyz")}
    channels = {k: v for k, v in found.channels.items() if k != "row"}
    return {"position": found.points, **turns, "size": found.sizes, "which": found.which, **channels}


def _from_positions(store: RunStore, frame: int, data: dict[str, Array], clock: dict[str, Any]) -> Array:
    """Velocity (n, 3) in m/s from where each particle was a frame before; the newly born keep theirs."""
    if frame - 1 not in store.frames():
        return data["velocity"]
    again = ("again",) if "again" in data else ()
    before = store.read(frame - 1, ("position", "id", *again))
    order = np.argsort(before["id"])
    at = (
        order[np.minimum(np.searchsorted(before["id"][order], data["id"]), max(0, len(order) - 1))]
        if len(order)
        else None
    )
    if at is None:
        return data["velocity"]
    known = before["id"][at] == data["id"]
    if again:
        known &= before["again"][at] == data["again"]
    way = (data["position"] - before["position"][at]) * np.float32(clock["fps"] * clock["slow_motion"])
    return np.where(known[:, None], way, data["velocity"]).astype(np.float32)
