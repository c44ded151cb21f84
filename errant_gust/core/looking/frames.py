"""A result of a frame made small to look at, by its form."""

from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import BaseModel

from errant_gust.core.errors import FileError, nearest
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.results import VELOCITY, Channel, MeshData, Points, Result, VolumeResult
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.kernels.gas import lit
from errant_gust.core.looking.heads import Head, MeshHead, PointsHead, TexelsHead
from errant_gust.core.looking.texels import MOST, as_bytes, packed, place_of, thinned
from errant_gust.core.pictures.light import KEY
from errant_gust.core.runs.frame_store import RunStore

SMOKE = ("density", "temperature")
COLOURS = ("red", "green", "blue")
COLOUR = "colour"
"""Three numbers of points or vertices, drawn as they are."""
OUTWARD = "outward"
"""Where the surface of what points fill looks."""
AT_SURFACE = 0.4
"""Slope of the packing, over two spacings, beside a flat surface."""
MADE = {"speed": "m/s", "thickness": "m"}
"""Units of what is worked out for vertices."""
Look = tuple[Head, dict[str, Array]]


def frame_to_look(
    store: RunStore, frame: int, result: Result, channel: str = "", absorb: float = 12.0,
    key: tuple[float, float, float] = KEY,
) -> Look:  # fmt: skip
    """Head and arrays of a result that frames hold; `channel` colours it, `absorb` is the light that density 1 takes
    a metre, `key` points toward the light that comes through it. Raises FileError for a frame that is not there."""
    if frame not in store.frames():
        raise FileError(f"frame {frame} is not there", where=store.folder.name)
    if isinstance(result, VolumeResult):
        return texels(store, frame, result, channel, absorb, key)
    found = result.read(store, frame)
    if not isinstance(found, MeshData):
        return points(store, frame, found, channel)
    return mesh(store, frame, found, channel, {c.name: c.unit for c in result.channels(store.names(frame))})


def points(store: RunStore, frame: int, found: Points, channel: str) -> Look:
    """8 bytes a point: positions as 16 bits in their box, the channel that colours in 8 bits between `low` and `high`,
    and how much is left of each life; and in 3 more where the surface of a heap looks, if they know."""
    position, count = found.position, found.count
    painted = channel == COLOUR and found.channels.get(COLOUR, position).ndim == 2
    taken = "" if painted else channel
    values, unit = found.tone(taken) if found.shown() else (np.zeros(count, np.float32), "")
    ends = (float(values.min()), float(values.max())) if count else (0.0, 1.0)
    low, high = ends if ends[1] > ends[0] else (ends[0], ends[0] + 1)
    lower, upper = (position.min(axis=0), position.max(axis=0)) if count else (np.zeros(3), np.ones(3))
    size = np.maximum(upper - lower, 1e-9)
    alive = {"age", "life"} <= set(found.channels)
    left = 1 - found.lived() if alive else np.ones(count)
    arrays = {
        "position": np.rint((position - lower) / size * 65535).astype(np.uint16),
        "tone": np.rint((values - low) / (high - low) * 255).astype(np.uint8),
        "left": np.rint(np.clip(left, 0, 1) * 255).astype(np.uint8),
    }
    if painted and COLOUR in found.channels:
        arrays["colours"] = np.rint(np.clip(found.channels[COLOUR], 0, 1) * 255).astype(np.uint8)
    spacing = float(store.facts(frame).get("spacing", 0.0))
    if OUTWARD in found.channels:
        arrays[OUTWARD] = _facing(found.channels[OUTWARD], spacing)
    names = [*found.shown(), *([COLOUR] if COLOUR in found.channels else [])]
    head = PointsHead(
        identity=store.folder.name, frame=frame, form="points", channel=channel, unit=unit, low=low, high=high,
        names=names, count=count, lower=lower.tolist(), upper=(lower + size).tolist(), spacing=spacing,
    )  # fmt: skip
    return head, arrays


def _facing(slope: Array, spacing: float) -> Array:
    """Slopes (n, 3) of a packing, in 1/m, as 8 bits: the direction, as long as it is sure (1 at a flat surface)."""
    over = np.linalg.norm(slope, axis=1, keepdims=True)
    sure = np.minimum(1, over * (2 * spacing) / AT_SURFACE)
    return np.rint(slope / np.maximum(over, 1e-9) * sure * 127).astype(np.int8)


def mesh(
    store: RunStore, frame: int, found: MeshData, channel: str, units: dict[str, str] | None = None
) -> tuple[MeshHead, dict[str, Array]]:  # fmt: skip
    """Vertices and faces, normals in 8 bits if they are known, and the channel of the vertices that is named, in 8
    bits between `low` and `high` (of a vector its size; `colour` as it is). (n, 3) in m, (m, 3), bytes (n, 3).
    Raises FileError for a channel that it has not."""
    arrays = {"vertices": found.vertices.astype(np.float32), "faces": found.faces.astype(np.int32)}
    if found.normals is not None:
        arrays["normals"] = np.rint(found.normals * 127).astype(np.int8)
    top = 1.0
    if "thickness" in found.channels:
        top = float(found.channels["thickness"].max(initial=1e-9))
        arrays["thickness"] = np.rint(found.channels["thickness"] / top * 255).astype(np.uint8)
    shown = {"speed" if n == "velocity" else n: n for n in found.channels}
    low, high = 0.0, 1.0
    if channel:
        if channel not in shown:
            raise FileError(f"the run has no channel '{channel}'", where="channel", fix=nearest(channel, list(shown)))
        tone = found.channels[shown[channel]]
        if channel == COLOUR:
            arrays["colours"] = np.rint(np.clip(tone, 0, 1) * 255).astype(np.uint8)
        else:
            values = np.linalg.norm(tone, axis=1) if tone.ndim == 2 else tone
            ends = (float(values.min()), float(values.max())) if len(values) else (0.0, 1.0)
            low, high = ends if ends[1] > ends[0] else (ends[0], ends[0] + 1)
            arrays["tone"] = np.rint((values - low) / (high - low) * 255).astype(np.uint8)
    there = found.vertices if len(found.vertices) else np.zeros((1, 3), np.float32)
    head = MeshHead(
        identity=store.folder.name, frame=frame, form="mesh", channel=channel, low=low, high=high,
        unit=MADE.get(channel, (units or {}).get(channel, "")), names=list(shown), count=len(found.faces), thickest=top,
        lower=tuple(there.min(axis=0).tolist()), upper=tuple(there.max(axis=0).tolist()),
    )  # fmt: skip
    return head, arrays


@lru_cache(maxsize=32)
def _channel(folder: str, frame: int, name: str, result: VolumeResult) -> tuple[Array, GridRegion, int]:
    grid = result.grid(RunStore(Path(folder)), frame, name)
    values = np.linalg.norm(grid.values, axis=-1) if grid.is_vector else grid.values
    small, side = thinned(np.asarray(values, np.float32), MOST)
    return small, grid.region, side


def texels(
    store: RunStore, frame: int, result: VolumeResult, channel: str, absorb: float,
    key: tuple[float, float, float] = KEY,
) -> Look:  # fmt: skip
    """Texels of a frame, x fastest, 8 bits each: density and light (for smoke that takes `absorb` of the light a metre
    at density 1), temperature, colours, and `channel` if one is named (`vel` gives the speed)."""
    about = {c.name: c for c in result.channels(store.names(frame))}
    if channel and channel not in about:
        result.known(store, frame, (channel,))

    def of(name: str) -> Array:
        return _channel(str(store.folder), frame, name, result)[0]

    _, region, side = _channel(str(store.folder), frame, next(iter(about)), result)
    zero = np.zeros_like(of(next(iter(about))))
    density, temperature = (of(name) if name in about else zero for name in SMOKE)
    light = np.empty_like(density)
    toward = (region.axes.T @ np.array(key)).astype(np.float32)
    layer = region.voxel_size * side / float(np.abs(toward).max())
    lit(density, *toward, np.float32(absorb * layer), light)
    taken = {"density": density, "light": light, "temperature": temperature}
    if channel:
        taken["channel"] = of(channel)
    if COLOURS[0] in about:
        there = np.maximum(density, 1e-6)
        taken |= {k: np.where(density > 1e-6, of(k) / there, 0) for k in COLOURS}
    tops = {k: 1.0 if k in ("light", *COLOURS) else float(max(v.max(initial=0), 1e-9)) for k, v in taken.items()}
    low = float(min(taken["channel"].min(initial=0), 0)) if channel else 0.0
    arrays = {k: packed(as_bytes(v, low if k == "channel" else 0.0, tops[k])) for k, v in taken.items()}
    names = [n for n in about if n != VELOCITY] + [n for n in about if n == VELOCITY]
    head = TexelsHead(
        identity=store.folder.name, frame=frame, form="volume", channel=channel,
        unit=about.get(channel, Channel("")).unit, low=low, high=tops.get("channel", 1.0), count=int(region.voxels),
        names=names, tops=tops, **place_of(region, density.shape, side),
    )  # fmt: skip
    return head, arrays


def head_of(head: BaseModel) -> dict[str, Any]:
    """The head as it travels."""
    return head.model_dump(mode="json")
