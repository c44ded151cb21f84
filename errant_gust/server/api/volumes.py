"""Frames of gas runs to look at: density, how much light reaches each voxel, and further channels, 8 bits each."""

from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from django.http import HttpRequest, HttpResponse
from ninja import Router

from errant_gust.core.errors import FileError
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.gas.steps import COLOURS
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.kernels.gas import lit
from errant_gust.core.runs.store import RunStore
from errant_gust.core.runs.volumes import VELOCITY, grid_of, names_of, thinned
from errant_gust.server import runs
from errant_gust.server.arrays import reply

router = Router()
MOST = 1_500_000  # voxels sent; finer frames are averaged
LIGHT = (-0.35, -0.45, 0.82)  # toward the sun of the view, in the scene's axes


@lru_cache(maxsize=32)
def _channel(folder: str, frame: int, name: str) -> tuple[Array, Any, int]:
    grid = grid_of(RunStore(Path(folder)), frame, name)
    values = np.linalg.norm(grid.values, axis=-1) if grid.is_vector else grid.values
    small, side = thinned(np.asarray(values, np.float32), MOST)
    return small, grid.region, side


def as_bytes(values: Array, low: float, high: float) -> Array:
    return np.rint(np.clip((values - low) / max(high - low, 1e-12), 0, 1) * 255).astype(np.uint8)


def place_of(region: GridRegion, shape: tuple[int, ...], side: int) -> dict[str, Any]:
    """Where texels lie in the scene."""
    h = region.voxel_size * side
    return {
        "lower": list(region.lower), "size": [n * h for n in shape], "shape": list(shape),
        "axes": region.axes.tolist(), "voxel_size": region.voxel_size, "voxels": int(region.voxels),
    }  # fmt: skip


@router.get("/runs/{identity}/frames/{frame}/volume")
def volume(request: HttpRequest, identity: str, frame: int, channel: str = "", absorb: float = 12.0) -> HttpResponse:
    """Texels of a frame, x fastest: density, light (for smoke that takes `absorb` of the light a metre at density 1),
    temperature, and `channel` if one is named (`vel` gives the speed). `tops`: what 255 stands for; `low`: what 0
    of the channel does."""
    run = runs.get(identity)
    folder = runs.folder_of(run.identity)
    store = RunStore(folder)
    names = names_of(store, frame) if frame in store.frames() else []
    if not names:
        raise FileError(f"frame {frame} is not there", where=identity)
    density, region, side = _channel(str(folder), frame, "density")
    light = np.empty_like(density)
    toward = (region.axes.T @ np.array(LIGHT)).astype(np.float32)
    layer = region.voxel_size * side / float(np.abs(toward).max())
    lit(density, *toward, np.float32(absorb * layer), light)
    taken = {"density": density, "light": light, "temperature": _channel(str(folder), frame, "temperature")[0]}
    if channel:
        taken["channel"] = _channel(str(folder), frame, channel)[0]
    if COLOURS[0] in names:
        there = np.maximum(density, 1e-6)
        taken |= {k: np.where(density > 1e-6, _channel(str(folder), frame, k)[0] / there, 0) for k in COLOURS}
    tops = {k: 1.0 if k in ("light", *COLOURS) else float(max(v.max(initial=0), 1e-9)) for k, v in taken.items()}
    low = float(min(taken["channel"].min(initial=0), 0)) if channel else 0.0
    arrays = {
        k: np.ascontiguousarray(as_bytes(v, low if k == "channel" else 0.0, tops[k]).transpose(2, 1, 0))
        for k, v in taken.items()
    }
    facts = {
        "frame": frame, "identity": identity, "names": [n for n in names if n != VELOCITY] + [VELOCITY], "tops": tops,
        "low": low, "channel": channel, **place_of(region, density.shape, side),
    }  # fmt: skip
    response = reply(facts, arrays)
    response["Cache-Control"] = "private, max-age=86400"
    return response
