"""Frames of a gas run as grids: for fields that sample a run, for files, for looking at."""

import time as clock_time
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np

from errant_gust.core.errors import Cancelled, FileError, StudyError, nearest
from errant_gust.core.fields.blocks import Cancel
from errant_gust.core.fields.flow_states import GAS_FRAMES, VOLUMES
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.files.volumes import write_zarr, writer_for
from errant_gust.core.flows.gas.state import FACES
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.kernels.gas import middles
from errant_gust.core.places import home
from errant_gust.core.runs import job
from errant_gust.core.runs.compute import compute, going
from errant_gust.core.runs.store import Elsewhere, RunStore

VELOCITY = "vel"
FORMATS = ("vdb", "vti", "npz", "zarr")
PATIENCE = 600.0  # seconds without a new frame after which a run that somebody else computes is given up


def region_of(facts: dict[str, Any], where: str) -> GridRegion:
    place = facts.get("region")
    if not place:
        raise FileError("the run holds no volumes", where=where, fix="choose a gas flow")
    x, y, z = place["lower"]
    nx, ny, nz = place["shape"]
    return GridRegion((x, y, z), (nx, ny, nz), place["voxel_size"], tuple(place["turn"]))


def names_of(store: RunStore, frame: int) -> list[str]:
    """Channels of a frame, and the velocity."""
    return [*(n for n in store.names(frame) if n not in FACES), VELOCITY]


def grid_of(store: RunStore, frame: int, name: str) -> Grid:
    """One channel of a frame as a grid; the velocity in m/s along the scene's axes, in the middle of voxels."""
    region = region_of(store.facts(frame), str(store.folder))
    if name != VELOCITY:
        known = names_of(store, frame)
        if name not in known:
            raise FileError(f"the run has no channel '{name}'", where=str(store.folder), fix=nearest(name, known))
        return Grid(region, store.read(frame, (name,))[name], unit="K" if name == "temperature" else "")
    faces = store.read(frame, FACES)
    out = np.empty((*region.shape, 3), np.float32)
    middles(faces["u"], faces["v"], faces["w"], out, 0, region.shape[0])
    if region.is_turned:
        out = (out @ region.axes.T.astype(np.float32)).astype(np.float32)
    return Grid(region, out, unit="m/s")


@lru_cache(maxsize=12)
def _kept(folder: str, frame: int, name: str, changed: float) -> Grid:
    return grid_of(RunStore(Path(folder)), frame, name)


def volume_at(
    scene: Scene, flow: str, name: str, quality: str, frame: int, where: str, cancel: Cancel | None = None
) -> Grid:
    """A channel of a gas flow of the scene's study on a frame; frames up to it are computed if they must be."""
    store = run_with(scene, flow, quality, frame, where, cancel)
    return _kept(str(store.folder), frame, name, store.path(frame).stat().st_mtime)


def frame_at(
    scene: Scene, flow: str, quality: str, frame: int, where: str, cancel: Cancel | None = None
) -> tuple[dict[str, Array], dict[str, Any]]:
    """Arrays and facts of a gas flow of the scene's study on a frame; frames up to it are computed if they must be."""
    store = run_with(scene, flow, quality, frame, where, cancel)
    return store.read(frame), store.facts(frame)


def run_with(scene: Scene, flow: str, quality: str, frame: int, where: str, cancel: Cancel | None = None) -> RunStore:
    """The run of a gas flow of the scene's study, computed as far as `frame`, here or by who does it already."""
    if scene.study.find("flows", flow, where).kind != "gas":
        raise StudyError(f"'{flow}' is no gas", where=where, fix="choose a gas flow")
    if flow in going():
        raise StudyError(
            f"the flow '{flow}' is pushed by a field that is made from it", where=where, fix="push it by another field"
        )
    identity = job.prepare(scene.study, flow, quality, home() / "runs", scene.assets)
    store = RunStore(home() / "runs" / identity)
    seen, since = -1, clock_time.monotonic()
    while frame not in store.frames():
        if cancel is not None and cancel():
            raise Cancelled
        try:
            compute(scene.study, flow, store.folder, quality=quality, assets=scene.assets, last=frame, cancel=cancel)
        except Elsewhere:
            if len(store.frames()) != seen:
                seen, since = len(store.frames()), clock_time.monotonic()
            if clock_time.monotonic() - since > PATIENCE:
                raise
            clock_time.sleep(0.1)
    return store


VOLUMES[0] = volume_at
GAS_FRAMES[0] = frame_at


def export_volumes(
    store: RunStore,
    to: Path,
    *,
    format: str = "vdb",
    frames: tuple[int, int] | None = None,
    channels: tuple[str, ...] | None = None,
    cancel: Cancel | None = None,
    report: Callable[[int, int], None] | None = None,
) -> list[Path]:
    """One volume file a frame with every channel (or those named) and `vel`. Existing files are not overwritten."""
    if format not in FORMATS:
        raise FileError(f"'{format}' is not a format for volumes", where="format", fix=nearest(format, FORMATS))
    ready = store.frames()
    wanted = [f for f in ready if frames is None or frames[0] <= f <= frames[1]]
    if not wanted:
        have = f"it has {ready[0]} to {ready[-1]}" if ready else "it has none yet"
        raise FileError("the run has none of these frames", where=str(store.folder), fix=have)
    flow = store.manifest()["flow"]
    known = names_of(store, wanted[0])
    unknown = [c for c in channels or () if c not in known]
    if unknown:
        raise FileError(f"the run has no channel '{unknown[0]}'", where="channels", fix=nearest(unknown[0], known))
    ending = "zarr.zip" if format == "zarr" else format
    paths = [to / f"{flow}.{frame:04d}.{ending}" for frame in wanted]
    for path in paths:
        if path.exists():
            raise FileError("is there already", where=str(path), fix="choose another folder or delete it")
    to.mkdir(parents=True, exist_ok=True)
    made = []
    for i, (frame, path) in enumerate(zip(wanted, paths, strict=True)):
        if cancel is not None and cancel():
            break
        write = write_zarr if format == "zarr" else writer_for(path)
        write(path, {name: grid_of(store, frame, name) for name in channels or known})
        made.append(path)
        if report is not None:
            report(i + 1, len(wanted))
    return made


def thinned(values: Array, most: int) -> tuple[Array, int]:
    """Values with at most `most` voxels: means over cubes of 1, 2, 3 … voxels a side, and that side."""
    side = 1
    while np.prod([-(-n // side) for n in values.shape]) > most:
        side += 1
    if side == 1:
        return values, 1
    pad = [(0, -n % side) for n in values.shape]
    v = np.pad(values, pad, mode="edge")
    nx, ny, nz = (n // side for n in v.shape)
    return v.reshape(nx, side, ny, side, nz, side).mean(axis=(1, 3, 5), dtype=np.float32), side
