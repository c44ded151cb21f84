"""Where, when and how long: births of an emitter as functions of (seed, number), placed along its motion."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows import scattered
from errant_gust.core.flows.alongside import Alongside
from errant_gust.core.flows.on_lines import OnLines
from errant_gust.core.flows.particles.relaxing import evened_out, onto_surface
from errant_gust.core.flows.particles.state import Particles
from errant_gust.core.flows.particles.steps import Emit, Use
from errant_gust.core.flows.random import uniform, unit_vectors
from errant_gust.core.flows.scattered import USE_PLACE
from errant_gust.core.geometry.placed import PlacedShape
from errant_gust.core.kernels.scattering import far_enough

USE_LIFE, USE_WEIGHT, USE_SPREAD = 1, 2, 3
MOST_TURNS, LEAST_GAIN = 48, 0.005
"""How often darts are thrown, and the share of them that has to find room for another throw."""


def born_by(emit: Emit, total_at: Any, time: float, share: float) -> int:
    """How many particles the emitter has made up to and including `time`; `total_at(t)` integrates the rate."""
    if emit.timing == "all at once":
        return round(emit.count * share) if time >= emit.begin else 0
    end = min(time, emit.until)
    if end <= emit.begin:
        return 0
    return int(np.floor(share * max(0.0, total_at(end) - total_at(emit.begin)) + 1e-6))


def birth_times(emit: Emit, first: int, last: int, start: float, end: float) -> Array:
    """Seconds at which particles first..last (numbers) are born, spread evenly over what is left of the step. (last
    − first,)."""
    if emit.timing == "all at once":
        return np.full(last - first, max(start, emit.begin))
    low, high = max(start, emit.begin), min(end, emit.until)
    return low + (np.arange(1, last - first + 1) / (last - first)) * (high - low)


def lives(emit: Emit, numbers: Array) -> Array:
    """Seconds that particles with these numbers live, (n,)."""
    u = uniform(emit.seed, numbers, USE_LIFE)
    return (emit.life * (1 + emit.life_variation * (2 * u - 1))).astype(np.float32)


def local_points(emit: Emit, shape: PlacedShape, numbers: Array) -> Array:
    """Places (n, 3) in the shape's own frame for particles with these numbers."""
    if emit.where == "line":
        return scattered.along_curves(shape, emit.seed, numbers)
    if emit.where == "grid":
        grid = _grid(emit, shape)
        return grid[numbers % len(grid)]
    if emit.where == "points":
        vertices, _ = shape.kind.triangles(shape.geometry)
        return np.asarray(vertices)[numbers % len(vertices)]
    if emit.where == "surface":
        return scattered.on_surface(shape, emit.seed, numbers)
    return scattered.in_volume(shape, emit.seed, numbers)


_grids: dict[str, Array] = {}


def _grid(emit: Emit, shape: PlacedShape) -> Array:
    """Places (n, 3) evenly inside the shape, `spacing` apart, x slowest."""
    if not shape.kind.bounded:
        raise StudyError("has no volume to be born in", where=f"shapes.{shape.id}", fix="emit from its surface")
    key = f"{shape.kind.id} {shape.kind.model_dump_json()} {emit.spacing}"
    if key not in _grids:
        middle, half = shape.kind.half_extents(shape.geometry)
        counts = np.floor(2 * np.asarray(half) / emit.spacing + 1e-6).astype(int) + 1
        if counts.prod() > 50_000_000:
            raise StudyError(f"{counts.prod():,} places are too many", where="spacing", fix="a larger spacing")
        axes = [(np.arange(c) - 0.5 * (c - 1)) * emit.spacing + m for c, m in zip(counts, middle, strict=True)]
        points = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)
        inside = shape.kind.local(np.ascontiguousarray(points.T, np.float32), 0, shape.geometry)[0] <= 1e-5
        if not inside.any():
            raise StudyError("no place of the grid is inside", where=f"shapes.{shape.id}", fix="a smaller spacing")
        if len(_grids) > 16:
            _grids.clear()
        _grids[key] = points[inside]
    return _grids[key]


@dataclass(frozen=True)
class Moment:
    """When particles are born: how far each is between the scenes before and after (n,), the times (n,) and the end
    of the step in seconds."""

    share: Array
    times: Array
    end: float


def born(
    emit: Emit,
    use: Use,
    numbers: Array,
    ids: Array,
    moment: Moment,
    age: Array,
    keeps: tuple[str, ...],
    source: Alongside | OnLines | None = None,
) -> tuple[Particles, Array]:
    """Particles with these numbers as they start, and which of them are born (n,): the weight may refuse, and where
    they are born from other particles or lines there may be none."""
    before, after = use.scenes["start"], use.scenes["end"]
    live = np.ones(len(numbers), bool)
    if source is not None:
        where, given, live = source.places(emit.seed, USE_PLACE, numbers, moment.times, moment.end)
        position = np.ascontiguousarray(where.T)
    elif emit.scatters:
        position, live = _scattered(emit, use, numbers, moment.share)
    else:
        position = np.ascontiguousarray(places(emit, before, after, numbers, moment.share).T)
    made = Particles.born(position, age, lives(emit, numbers), ids, keeps)
    if emit.speed or emit.inherit:
        own = made.more["own"]
        moving = given.T if source is not None else _moving(after.shape(emit.shape), position)
        if emit.speed:
            normal = _unit(moving) if source is not None else _normals(after.shape(emit.shape), position)
            own += np.float32(emit.speed) * _directions(emit, normal, numbers)
        if emit.inherit:
            own += (emit.inherit * moving).astype(np.float32)
    if emit.weight and not emit.scatters:
        live = live & (uniform(emit.seed, numbers, USE_WEIGHT) < use.field("weight", position, "start"))
    return made, live


def _scattered(emit: Emit, use: Use, numbers: Array, share: Array) -> tuple[Array, Array]:
    """Places (3, n) no two of which are near, by weight, and which of the n found one (n,): darts are thrown, as many
    as are wanted at a time, until all have a place or hardly one finds room."""
    before, after = use.scenes["start"], use.scenes["end"]
    wanted = len(numbers)
    found, of = np.empty((3, 0), np.float32), np.empty(0, np.int64)
    for turn in range(MOST_TURNS):
        thrown = numbers + (np.int64(turn) << 34)
        fresh = np.ascontiguousarray(places(emit, before, after, thrown, share).T)
        if emit.weight:
            there = uniform(emit.seed, thrown, USE_WEIGHT) < use.field("weight", fresh, "start")
            fresh, thrown = fresh[:, there], thrown[there]
        asked = np.ascontiguousarray(np.concatenate([found, fresh], axis=1))
        taken = np.empty(asked.shape[1], bool)
        count = far_enough(asked, np.float32(emit.apart), taken)
        gained = count - found.shape[1]
        found, of = np.ascontiguousarray(asked[:, taken]), np.concatenate([of, thrown])[taken]
        if count >= wanted or gained < LEAST_GAIN * wanted:
            break
    made = np.zeros((3, wanted), np.float32)
    count = min(wanted, found.shape[1])
    made[:, :count] = _evened_out(
        emit, use, found[:, :count], of[:count], after if share.max(initial=0) > 0.5 else before
    )
    return made, np.arange(wanted) < count


def _evened_out(emit: Emit, use: Use, points: Array, numbers: Array, scene: Scene) -> Array:
    """Places (3, n) moved apart on the surface or within the shape; none goes where the weight would refuse it."""
    if not emit.even_out or emit.where == "line":
        return points
    shape = scene.shape(emit.shape)

    def allowed(moved: Array, which: Array) -> Array:
        there = np.ones(len(which), bool)
        if emit.where == "volume":
            there = shape.distance(np.ascontiguousarray(moved))[0] < 0
        if emit.weight:
            there &= uniform(emit.seed, numbers[which], USE_WEIGHT) < use.field("weight", moved, "start")
        return there

    onto = onto_surface(shape) if emit.where == "surface" else None
    return evened_out(np.ascontiguousarray(points), emit.apart, emit.even_out, onto, allowed)


def _moving(shape: PlacedShape, position: Array) -> Array:
    """Velocity (3, n) of the shape at places (3, n)."""
    return shape.surface_velocity(np.ascontiguousarray(position, np.float32))


def _unit(v: Array) -> Array:
    return (v / np.maximum(np.sqrt((v * v).sum(axis=0)), np.float32(1e-20))).astype(np.float32)


def _normals(shape: PlacedShape, position: Array) -> Array:
    normal = shape.distance(position, 1)[1]
    assert normal is not None
    return normal


def _directions(emit: Emit, normal: Array, numbers: Array) -> Array:
    """Unit vectors (3, n): the normal, turned by up to the spread."""
    if not emit.spread:
        return normal
    r = unit_vectors(emit.seed, numbers, USE_SPREAD)
    across = _unit(r - normal * (normal * r).sum(axis=0))
    theta = np.radians(emit.spread) * np.sqrt(uniform(emit.seed, numbers, USE_SPREAD + 2))
    return (np.cos(theta) * normal + np.sin(theta) * across).astype(np.float32)


def places(emit: Emit, before: Scene, after: Scene, numbers: Array, share: Array) -> Array:
    """Places (n, 3) float32 in the scene at birth; `share` is how far between the two scenes each is born."""
    a, b = before.shape(emit.shape), after.shape(emit.shape)
    return scattered.between(a, b, local_points(emit, a, numbers), share)
