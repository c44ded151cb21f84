"""Two runs, or two channels of one, against each other: on one grid, in numbers."""

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from errant_gust.core.errors import FileError, nearest
from errant_gust.core.flows.results import Form, MeshData, Points, VolumeResult
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.runs.export import kind_of_run
from errant_gust.core.runs.frame_store import RunStore

SAME = 1e-3  # of a voxel


@dataclass(frozen=True)
class Numbers:
    """Of a channel on a frame. total: the integral over the volume (value · m³); cover: m³ where it is not
    zero; centre: the middle (m) weighed by its amount, None where there is none of it."""

    low: float
    high: float
    mean: float
    total: float
    cover: float
    voxels: int
    voxel_size: float
    centre: tuple[float, float, float] | None


@dataclass(frozen=True)
class PlainNumbers:
    """Of a channel of points or vertices."""

    low: float
    high: float
    mean: float
    count: int


@dataclass(frozen=True)
class Difference:
    """Of b from a: the greatest amount, where (m), the root mean square and the mean where either is not zero, and
    the greatest as a share of the larger range."""

    greatest: float
    at: tuple[float, float, float]
    rms: float
    mean: float
    share: float
    same: bool

    def as_dict(self) -> dict[str, Any]:
        """As JSON has it."""
        return asdict(self)


def channel_of(store: RunStore, frame: int, name: str) -> Grid:
    """A channel (the first if none is named) as a scalar grid; of the velocity its speed in m/s. Raises FileError
    for a frame that is not there."""
    if frame not in store.frames():
        ready = store.frames()
        have = f"it has {ready[0]} to {ready[-1]}" if ready else "it has none yet"
        raise FileError(f"frame {frame} is not there", where=str(store.folder), fix=have)
    result = kind_of_run(store).result(form="volume")
    assert isinstance(result, VolumeResult)
    name = name or next(c.name for c in result.channels(store.names(frame)))
    grid = result.grid(store, frame, name)
    return Grid(grid.region, np.linalg.norm(grid.values, axis=-1).astype(np.float32)) if grid.is_vector else grid


def plain_numbers(found: Points | MeshData, channel: str) -> PlainNumbers:
    """What a channel of points or vertices comes to (the first if none is named); of a velocity its speed. Raises
    FileError for a channel that it has not."""
    if isinstance(found, Points):
        values = found.tone(channel)[0]
    else:
        named = {"speed" if n == "velocity" else n: a for n, a in found.channels.items()}
        name = channel or next(iter(named), "")
        if name not in named:
            raise FileError(f"the run has no channel '{name}'", where="channel", fix=nearest(name, list(named)))
        values = np.linalg.norm(named[name], axis=1) if named[name].ndim == 2 else named[name]
    if not len(values):
        return PlainNumbers(0.0, 0.0, 0.0, 0)
    mean = float(values.mean(dtype=np.float64))
    return PlainNumbers(float(values.min()), float(values.max()), mean, len(values))


def numbers_of(grid: Grid) -> Numbers:
    """Range, mean, total and cover of a grid."""
    v, h = grid.values, grid.region.voxel_size
    full = np.abs(v) > 1e-9
    cover, total = int(full.sum()), float(v.sum(dtype=np.float64))
    mean = total / cover if cover else 0.0
    return Numbers(float(v.min()), float(v.max()), mean, total * h**3, cover * h**3, v.size, h, _centre(grid))


def _centre(grid: Grid) -> tuple[float, float, float] | None:
    w = np.abs(grid.values).astype(np.float64)
    total = w.sum()
    if not total:
        return None
    r = grid.region
    own = []
    for axis, n in enumerate(r.shape):
        line = w.sum(axis=tuple(b for b in range(3) if b != axis))
        own.append(float((line * (r.lower[axis] + r.voxel_size * (np.arange(n) + 0.5))).sum() / total))
    x, y, z = r.axes @ np.array(own)
    return float(x), float(y), float(z)


def on_one_grid(a: Grid, b: Grid) -> tuple[Grid, Grid]:
    """Both on the region that holds both: their own voxels if these agree, else the larger voxels, sampled. Outside
    of its window a channel is zero. Raises FileError for regions that are turned differently."""
    if a.region.turn != b.region.turn:
        raise FileError("the two runs are in regions that are turned differently", where="compare")
    h = max(a.region.voxel_size, b.region.voxel_size)
    step = [(p - q) / h for p, q in zip(a.region.lower, b.region.lower, strict=True)]
    agree = a.region.voxel_size == b.region.voxel_size and all(abs(s - round(s)) < SAME for s in step)
    base = a if a.region.voxel_size == h else b
    low = np.minimum(a.region.lower, b.region.lower)
    high = np.maximum(a.region.upper, b.region.upper)
    first = np.array(base.region.lower)
    low = first + np.floor((low - first) / h + SAME) * h
    shape = np.ceil((high - low) / h - SAME).astype(int)
    region = GridRegion((float(low[0]), float(low[1]), float(low[2])), (int(shape[0]), int(shape[1]), int(shape[2])),
                        h, a.region.turn)  # fmt: skip
    region.check(1, "compare")
    return (_placed(a, region) if agree else _sampled(a, region)), (
        _placed(b, region) if agree else _sampled(b, region)
    )


def _placed(grid: Grid, region: GridRegion) -> Grid:
    out = np.full(region.shape, grid.background, np.float32)
    at = [round((p - q) / region.voxel_size) for p, q in zip(grid.region.lower, region.lower, strict=True)]
    out[tuple(slice(o, o + n) for o, n in zip(at, grid.region.shape, strict=True))] = grid.values
    return Grid(region, out)


def _sampled(grid: Grid, region: GridRegion) -> Grid:
    """Means over the smaller voxels where the grid's are smaller: as many samples a voxel as fit."""
    each = max(1, round(region.voxel_size / grid.region.voxel_size))
    out = np.zeros(region.voxels, np.float32)
    h = np.float32(region.voxel_size)
    axes = region.axes.astype(np.float32)
    step = 1 << 18
    for start in range(0, out.size, step):
        stop = min(out.size, start + step)
        middles = region.centres(start, stop)
        for bits in np.ndindex(each, each, each):
            shift = ((np.array(bits, np.float32) + np.float32(0.5)) / np.float32(each) - np.float32(0.5)) * h
            out[start:stop] += grid.sample(np.ascontiguousarray(middles + (axes @ shift)[:, None]))
    return Grid(region, (out / np.float32(each**3)).reshape(region.shape))


def difference(a: Grid, b: Grid) -> tuple[Grid, Difference]:
    """b − a on one grid, and what it comes to."""
    one, two = on_one_grid(a, b)
    d = two.values - one.values
    either = (np.abs(one.values) > 1e-9) | (np.abs(two.values) > 1e-9)
    k = int(np.argmax(np.abs(d)))
    greatest = float(abs(d.reshape(-1)[k]))
    at = one.region.centres(k, k + 1)[:, 0]
    inside = d[either].astype(np.float64)
    span = max(float(np.ptp(one.values)), float(np.ptp(two.values)), 1e-12)
    return Grid(one.region, d), Difference(
        greatest, (float(at[0]), float(at[1]), float(at[2])),
        float(np.sqrt((inside**2).mean())) if inside.size else 0.0, float(inside.mean()) if inside.size else 0.0,
        greatest / span, a.region == b.region and not d.any(),
    )  # fmt: skip


def points_apart(a: RunStore, b: RunStore, frame: int) -> dict[str, float]:
    """How far the points of two runs with the same numbers are from each other on a frame, in m."""
    one, two = _numbered(a, frame), _numbered(b, frame)
    ids = one.channels["id"], two.channels["id"]
    both, i, j = np.intersect1d(*ids, return_indices=True)
    way = np.linalg.norm(one.position[i].astype(float) - two.position[j], axis=1) if len(both) else np.zeros(1)
    return {
        "a": one.count, "b": two.count, "both": len(both), "mean": float(way.mean()),
        "rms": float(np.sqrt((way**2).mean())), "greatest": float(way.max()),
    }  # fmt: skip


def _numbered(store: RunStore, frame: int) -> Points:
    found: Points = kind_of_run(store).result(form="points").read(store, frame, ("id",))
    return found


def compared_by(a: RunStore, b: RunStore, frame: int, channel: str = "") -> Form:
    """The form of result by which two runs are compared: volumes on one grid, points by their numbers. That of the
    main result of the first, unless the channel is one that only its volumes have. Raises FileError for runs that
    hold nothing alike."""
    one, two = kind_of_run(a), kind_of_run(b)
    alike = [r for r in one.results if r.form in ("volume", "points") and not r.from_study and two.offers(r.form)]
    for result in alike if channel and len({r.form for r in alike}) > 1 else []:
        if channel in [c.name for c in result.channels(a.names(frame))]:
            return result.form
    if alike:
        return alike[0].form
    raise FileError(
        f"one is {one.label}, the other {two.label}", where="compare", fix="choose two that hold something alike"
    )
