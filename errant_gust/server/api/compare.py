"""Comparing: numbers of channels, and the difference of two of them to look at."""

from dataclasses import asdict
from typing import Any

import numpy as np
from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema

from errant_gust.core.runs.compare import channel_of, difference, numbers_of, particles_apart
from errant_gust.core.runs.store import RunStore
from errant_gust.core.runs.volumes import thinned
from errant_gust.server import runs
from errant_gust.server.api.runs import tone_of
from errant_gust.server.api.volumes import MOST, as_bytes, place_of
from errant_gust.server.arrays import reply

router = Router()


class NumbersOut(Schema):
    low: float
    high: float
    mean: float
    count: int
    total: float | None = None
    cover: float | None = None
    voxel_size: float | None = None
    centre: tuple[float, float, float] | None = None


def _store(identity: str) -> RunStore:
    return RunStore(runs.folder_of(runs.get(identity).identity))


@router.get("/runs/{identity}/frames/{frame}/numbers", response=NumbersOut)
def numbers(request: HttpRequest, identity: str, frame: int, channel: str) -> Any:
    """What a channel of a frame comes to: of gas over its voxels, of particles over them."""
    store = _store(identity)
    if store.manifest().get("kind") == "gas":
        found = asdict(numbers_of(channel_of(store, frame, "density" if channel == "smoke" else channel)))
        return {**found, "count": found.pop("voxels")}
    values, _ = tone_of(store.read(frame), channel)
    if not len(values):
        return {"low": 0, "high": 0, "mean": 0, "count": 0}
    return {"low": values.min(), "high": values.max(), "mean": values.mean(dtype=np.float64), "count": len(values)}


@router.get("/compare")
def compare(request: HttpRequest, a: str, b: str, frame: int, of: str = "density", to: str = "") -> HttpResponse:
    """b − a on a frame: of gas as texels of the channel `of` of a and `to` of b (the same if it is not named), and
    numbers; of particles numbers only."""
    one, two = _store(a), _store(b)
    if "gas" not in (one.manifest().get("kind"), two.manifest().get("kind")):
        return reply({"kind": "particles", "numbers": particles_apart(one, two, frame)}, {})
    plain = ["density" if name == "smoke" else name for name in (of, to or of)]
    grid, found = difference(channel_of(one, frame, plain[0]), channel_of(two, frame, plain[1]))
    small, side = thinned(grid.values, MOST)
    top = max(float(np.abs(small).max(initial=0)), 1e-9)
    high = top * 128 / 127  # so that 127 is exactly zero
    facts = {
        "kind": "gas", "frame": frame, "identity": f"{b}-{a}", "names": [], "channel": "difference", "low": -top,
        "tops": {"density": 1.0, "light": 1.0, "temperature": 1.0, "channel": high}, "numbers": found.as_dict(),
        **place_of(grid.region, small.shape, side),
    }  # fmt: skip
    return reply(facts, {"channel": np.ascontiguousarray(as_bytes(small, -top, high).transpose(2, 1, 0))})
