"""Places that were thrown are evened out: each moves away from those near it, on the surface or within the shape, and
no two come nearer than they may be."""

from collections.abc import Callable

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.geometry.made import MadeShape
from errant_gust.core.geometry.mesh import Mesh
from errant_gust.core.geometry.placed import PlacedShape
from errant_gust.core.kernels.scattering import far_enough

REACH = 1.7  # times the least distance, from which on two do not push each other
STEP = 0.35  # of the least distance that a place moves in a round, at most
TRIES = 12  # to take back what came too near, before all of a round is taken back
PASSES = 3

Onto = Callable[[Array], Array]
"""Places (3, n) near a surface -> those on it."""


def onto_surface(shape: PlacedShape) -> Onto:
    """By its triangles where its distance is known on a grid only, else by its distance."""
    if isinstance(shape.kind, MadeShape) or shape.kind.id == "mesh":
        vertices, faces = shape.surface
        mesh = Mesh(vertices, faces, watertight=True)
        return lambda p: np.ascontiguousarray(mesh.closest(p.T)[1].T, np.float32)

    def by_distance(p: Array) -> Array:
        for _ in range(PASSES):
            d, g, _ = shape.distance(np.ascontiguousarray(p, np.float32), 1)
            assert g is not None
            p = p - d * g
        return np.ascontiguousarray(p, np.float32)

    return by_distance


def evened_out(
    points: Array, apart: float, rounds: int, onto: Onto | None, allowed: Callable[[Array, Array], Array]
) -> Array:
    """Places (3, n) after so many rounds, none nearer to another than `apart`, as they were before.

    onto: puts them back on a surface. allowed(places, numbers): which of them (n,) may be there at all.
    """
    for _ in range(rounds):
        pushed = _pushed(points, apart)
        moved = onto(pushed) if onto is not None else pushed
        stays = ~allowed(moved, np.arange(points.shape[1]))
        moved[:, stays] = points[:, stays]
        for _ in range(TRIES):
            near = _near(moved, apart)
            if not near.any():
                break
            moved[:, near] = points[:, near]
        else:
            continue
        points = moved
    return points


def _pushed(points: Array, apart: float) -> Array:
    from scipy.spatial import cKDTree

    reach = REACH * apart
    pairs = cKDTree(points.T).query_pairs(reach, output_type="ndarray")
    if not len(pairs):
        return points.copy()
    pairs = pairs[np.lexsort((pairs[:, 1], pairs[:, 0]))]  # the order of sums
    i, j = pairs.T
    way = points[:, i].astype(np.float64) - points[:, j]
    far = np.maximum(np.linalg.norm(way, axis=0), 1e-12)
    way *= (1 - far / reach) / far
    n = points.shape[1]
    total = np.stack([np.bincount(i, w, n) - np.bincount(j, w, n) for w in way])
    long = np.maximum(np.linalg.norm(total, axis=0), 1e-12)
    total *= np.minimum(long, 1.0) / long * STEP * apart
    return (points + total).astype(np.float32)


def _near(points: Array, apart: float) -> Array:
    """Which places (n,) are nearer than `apart` to another."""
    from scipy.spatial import cKDTree

    taken = np.empty(points.shape[1], bool)
    if far_enough(np.ascontiguousarray(points), np.float32(apart), taken) == points.shape[1]:
        return np.zeros(points.shape[1], bool)
    near = np.zeros(points.shape[1], bool)
    near[cKDTree(points.T).query_pairs(apart, output_type="ndarray").reshape(-1)] = True
    return near | ~taken
