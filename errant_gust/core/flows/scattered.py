"""Places on and in shapes by counter: the same for a number whatever the order and the frame rate."""

import numpy as np

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.random import uniform
from errant_gust.core.geometry.curve_shape import Tube
from errant_gust.core.geometry.placed import PlacedShape

TRIES = 96
USE_PLACE = 16


def along_curves(shape: PlacedShape, seed: int, numbers: Array) -> Array:
    """Places (n, 3) in the shape's own frame, evenly along its curves. Raises StudyError for a shape without any."""
    if not isinstance(shape.kind, Tube):
        raise StudyError("has no curves to be born on", where=f"shapes.{shape.id}", fix="emit from its surface")
    curves = shape.kind.curves(shape.geometry)
    return np.asarray(curves.scattered(uniform(seed, numbers, USE_PLACE)))


def on_surface(shape: PlacedShape, seed: int, numbers: Array) -> Array:
    """Places (n, 3) in the shape's own frame, evenly over its triangles."""
    vertices, faces = shape.kind.triangles(shape.geometry)
    corners = np.asarray(vertices, np.float64)[np.asarray(faces)]
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    which = np.searchsorted(np.cumsum(area) / area.sum(), uniform(seed, numbers, USE_PLACE))
    a, b = (uniform(seed, numbers, USE_PLACE + i) for i in (1, 2))
    root = np.sqrt(a)
    weights = np.stack([1 - root, root * (1 - b), root * b], axis=1)
    points = np.einsum("nk,nkc->nc", weights, corners[np.minimum(which, len(corners) - 1)])
    if shape.kind.id in ("sphere", "cylinder"):  # the drawn facets lie a little inside the round surface
        d, g, _ = shape.kind.local(points.T.astype(np.float32), 1, shape.geometry)
        assert g is not None
        points = points - (d * g).T
    return points


def in_volume(shape: PlacedShape, seed: int, numbers: Array) -> Array:
    """Places (n, 3) in the shape's own frame, evenly inside it: rejection from the box, each try a use of the same
    counter. Raises StudyError for a shape without one."""
    if not shape.kind.bounded:
        raise StudyError("has no volume to be born in", where=f"shapes.{shape.id}", fix="emit from its surface")
    middle, half = shape.kind.half_extents(shape.geometry)
    out = np.empty((len(numbers), 3))
    left = np.arange(len(numbers))
    for attempt in range(TRIES):
        u = np.stack([uniform(seed, numbers[left], USE_PLACE + 3 * attempt + i) for i in range(3)], axis=1)
        points = middle + (2 * u - 1) * half
        inside = shape.kind.local(np.ascontiguousarray(points.T, np.float32), 0, shape.geometry)[0] < 0
        out[left[inside]] = points[inside]
        left = left[~inside]
        if not len(left):
            return out
    out[left] = middle
    return out


def between(before: PlacedShape, after: PlacedShape, points: Array, share: Array) -> Array:
    """Places (n, 3) float32 in the scene of points in the shape's own frame, `share` (n,) of the way from where it is
    before to where it is after."""
    start = before.to_scene(points)
    if not before.moves and not after.moves:
        return start
    return (start + share[:, None] * (after.to_scene(points) - start)).astype(np.float32)
