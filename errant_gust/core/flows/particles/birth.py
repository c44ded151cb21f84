"""Where, when and how long: births of an emitter as functions of (seed, number), placed along its motion."""

from typing import Any

import numpy as np

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Built, Scene
from errant_gust.core.flows.particles.steps import Emit
from errant_gust.core.flows.random import uniform
from errant_gust.core.geometry.placed import PlacedShape

TRIES = 96
USE_LIFE, USE_PLACE = 1, 16


def born_by(built: Built, total_at: Any, time: float, share: float) -> int:
    """How many particles the emitter has made up to and including `time`; `total_at(t)` integrates the rate."""
    emit: Emit = built.step
    if emit.timing == "all at once":
        return round(emit.count * share) if time >= emit.begin else 0
    end = min(time, emit.until)
    if end <= emit.begin:
        return 0
    return int(np.floor(share * max(0.0, total_at(end) - total_at(emit.begin)) + 1e-6))


def birth_times(emit: Emit, first: int, last: int, start: float, end: float) -> Array:
    """Seconds at which particles first..last (numbers) are born, spread evenly over what is left of the step."""
    if emit.timing == "all at once":
        return np.full(last - first, max(start, emit.begin))
    low, high = max(start, emit.begin), min(end, emit.until)
    return low + (np.arange(1, last - first + 1) / (last - first)) * (high - low)


def lives(emit: Emit, numbers: Array) -> Array:
    u = uniform(emit.seed, numbers, USE_LIFE)
    return (emit.life * (1 + emit.life_variation * (2 * u - 1))).astype(np.float32)


def local_points(emit: Emit, shape: PlacedShape, numbers: Array) -> Array:
    """Places (n, 3) in the shape's own frame for particles with these numbers."""
    if emit.where == "points":
        vertices, _ = shape.kind.triangles(shape.geometry)
        return np.asarray(vertices)[numbers % len(vertices)]
    if emit.where == "surface":
        return _on_surface(emit, shape, numbers)
    return _in_volume(emit, shape, numbers)


def _on_surface(emit: Emit, shape: PlacedShape, numbers: Array) -> Array:
    vertices, faces = shape.kind.triangles(shape.geometry)
    corners = np.asarray(vertices, np.float64)[np.asarray(faces)]
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    which = np.searchsorted(np.cumsum(area) / area.sum(), uniform(emit.seed, numbers, USE_PLACE))
    a, b = (uniform(emit.seed, numbers, USE_PLACE + i) for i in (1, 2))
    root = np.sqrt(a)
    weights = np.stack([1 - root, root * (1 - b), root * b], axis=1)
    points = np.einsum("nk,nkc->nc", weights, corners[np.minimum(which, len(corners) - 1)])
    if shape.kind.id in ("sphere", "cylinder"):  # the drawn facets lie a little inside the round surface
        d, g, _ = shape.kind.local(points.T.astype(np.float32), 1, shape.geometry)
        assert g is not None
        points = points - (d * g).T
    return points


def _in_volume(emit: Emit, shape: PlacedShape, numbers: Array) -> Array:
    """Rejection from the box, each try a use of the same counter."""
    if not shape.kind.bounded:
        raise StudyError("has no volume to be born in", where=f"shapes.{shape.id}", fix="emit from its surface")
    middle, half = shape.kind.half_extents(shape.geometry)
    out = np.empty((len(numbers), 3))
    left = np.arange(len(numbers))
    for attempt in range(TRIES):
        u = np.stack([uniform(emit.seed, numbers[left], USE_PLACE + 3 * attempt + i) for i in range(3)], axis=1)
        points = middle + (2 * u - 1) * half
        inside = shape.kind.local(np.ascontiguousarray(points.T, np.float32), 0, shape.geometry)[0] < 0
        out[left[inside]] = points[inside]
        left = left[~inside]
        if not len(left):
            return out
    out[left] = middle
    return out


def places(emit: Emit, before: Scene, after: Scene, numbers: Array, share: Array) -> Array:
    """Places (n, 3) float32 in the scene at birth; `share` is how far between the two scenes each is born."""
    a, b = before.shape(emit.shape), after.shape(emit.shape)
    points = local_points(emit, a, numbers)
    start = a.to_scene(points)
    if not a.moves and not b.moves:
        return start
    return (start + share[:, None] * (b.to_scene(points) - start)).astype(np.float32)
