"""Walls on a staggered grid, from shapes: how far they are, and how they move."""

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.blocks import BLOCK, Cancel, share_out
from errant_gust.core.geometry.placed import PlacedShape
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.grids.staggered.faces import Triple, Walls, face_points

Array = NDArray[Any]


def corner_distances(
    box: GridRegion, shapes: list[PlacedShape], inside: list[PlacedShape], cancel: Cancel | None
) -> Array:
    """The least distance to the walls at the cells' corners, positive where the flow may be: outside all shapes, and
    within one of `inside` if there are any. (nx+1, ny+1, nz+1) in m. Raises Cancelled."""
    count = [n + 1 for n in box.shape]
    out = np.empty(int(np.prod(count)), np.float32)

    def work(start: int, stop: int) -> None:
        index = np.stack(np.unravel_index(np.arange(start, stop), count)).astype(np.float32)
        points = box.to_scene(index * np.float32(box.voxel_size) + np.array(box.lower, np.float32)[:, None])
        d = np.full(stop - start, np.inf, np.float32)
        for shape in shapes:
            d = np.minimum(d, shape.distance(points)[0])
        if inside:
            d = np.minimum(d, -np.minimum.reduce([vessel.distance(points)[0] for vessel in inside]))
        out[start:stop] = d

    share_out(work, out.size, block=BLOCK, cancel=cancel)
    return out.reshape(count)


def walls_of(box: GridRegion, shapes: list[PlacedShape], shares: Triple, inside: Sequence[PlacedShape] = ()) -> Walls:
    """How obstacles and vessels (`inside`) move: see `Walls`. Only faces that are not wholly open are asked for, since
    nowhere else do they matter."""
    moving = [s for s in (*shapes, *inside) if s.moves]
    if not moving:
        return Walls()

    def on_faces(what: Callable[[PlacedShape, Array], Array]) -> Triple:
        """One component of a velocity (3, n) of the nearest shape on the faces across each axis."""
        parts = []
        for axis in range(3):
            at = np.flatnonzero(shares[axis] < 1)
            velocity, nearest = _of_nearest(moving, face_points(box, axis, at), what)
            whole = np.zeros(shares[axis].shape, np.float32)
            whole.reshape(-1)[at] = np.where(nearest < 2 * box.voxel_size, box.axes[:, axis] @ velocity, 0)
            parts.append(whole)
        return parts[0], parts[1], parts[2]

    carried = on_faces(PlacedShape.rigid_velocity)
    if all(s.growth is None for s in moving):
        return Walls(carried, carried)
    return Walls(carried, on_faces(PlacedShape.surface_velocity), _swelling(box, moving, shares))


def _of_nearest(
    shapes: list[PlacedShape], points: Array, what: Callable[[PlacedShape, Array], Array]
) -> tuple[Array, Array]:  # fmt: skip
    """At points (3, n) what the shape with the nearest surface says (3, n), and the distance to it."""
    nearest, out = np.full(points.shape[1], np.inf, np.float32), np.zeros_like(points)
    for shape in shapes:
        d = shape.distance(points)[0]
        nearer = np.abs(d) < np.abs(nearest)
        out = np.where(nearer, what(shape, points), out)
        nearest = np.where(nearer, d, nearest)
    return out, nearest


def _swelling(box: GridRegion, shapes: list[PlacedShape], shares: Triple) -> Array:
    """What growing walls push into every cell, in m/s.

    The open faces of a cell lack an area (a vector) to be closed: that of the wall in it. Its flux is that area times
    the velocity whose part along every normal found in the cell is the wall's speed there (least squares over eight
    places), which is right also where a cell holds an edge.
    """
    area = np.stack([np.diff(s, axis=axis).ravel() for axis, s in enumerate(shares)])
    at = np.flatnonzero((area != 0).any(axis=0))
    middles, quarter = box.centres_at(at), np.float32(0.25 * box.voxel_size)
    matrix = np.broadcast_to(1e-3 * np.eye(3), (len(at), 3, 3)).copy()
    right = np.zeros((len(at), 3))
    for corner in np.ndindex(2, 2, 2):
        points = middles + (box.axes @ (2 * np.array(corner) - 1)).astype(np.float32)[:, None] * quarter
        speed, normal, nearest = np.zeros(len(at)), np.zeros((len(at), 3)), np.full(len(at), 2 * box.voxel_size)
        for shape in shapes:
            d, slope, _ = shape.distance(points, 1)
            assert slope is not None
            here = np.flatnonzero(np.abs(d) < nearest)
            if not len(here):
                continue
            # a little below the surface, where a cell at an edge sees one face or the other
            on = np.ascontiguousarray((points - (d + 0.2 * quarter) * slope)[:, here])
            inner = shape.distance(on, 1)[1]
            assert inner is not None
            speed[here], normal[here], nearest[here] = shape.swelling(on), inner.T @ box.axes, np.abs(d)[here]
        matrix += normal[:, :, None] * normal[:, None, :]
        right += normal * speed[:, None]
    velocity = np.linalg.solve(matrix, right[:, :, None])[:, :, 0]
    made = np.zeros(box.voxels, np.float32)
    made[at] = (velocity * area[:, at].T).sum(axis=1)
    return made.reshape(box.shape)
