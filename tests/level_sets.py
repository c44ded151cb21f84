"""Level sets without a flow: distances, velocities, and running them."""

from collections.abc import Callable
from typing import Any

import numpy as np
from skimage.measure import marching_cubes

from errant_gust.core.grids.level_set import LevelSet, Speeds
from errant_gust.core.grids.region import GridRegion

Array = Any
Distance = Callable[[Array], Array]


def cube(n: int) -> GridRegion:
    """n³ voxels of 1 m about the origin."""
    return GridRegion((-n / 2, -n / 2, -n / 2), (n, n, n), 1.0)


def sphere(radius: float, at: tuple[float, float, float] = (0, 0, 0)) -> Distance:
    return lambda p: np.linalg.norm(p - np.array(at, np.float32)[:, None], axis=0) - radius


def block(half: float) -> Distance:
    def distance(p: Array) -> Array:
        q = np.abs(p) - half
        return np.linalg.norm(np.maximum(q, 0), axis=0) + np.minimum(q.max(axis=0), 0)

    return distance


def notched(radius: float, at: tuple[float, float, float]) -> Distance:
    """Zalesak's ball: a slot a third of the radius wide and five sixths of it deep, along z."""
    ball = sphere(radius, at)

    def distance(p: Array) -> Array:
        q = p - np.array(at, np.float32)[:, None]
        b = np.stack([np.abs(q[0]) - radius / 6, q[1] + radius / 6])
        slot = np.linalg.norm(np.maximum(b, 0), axis=0) + np.minimum(b.max(axis=0), 0)
        return np.maximum(ball(p), -slot)

    return distance


def with_nothing(n: int) -> dict[str, Array]:
    """Nothing in the way of n voxels."""
    return {"free": np.ones(n, np.float32), "floor": np.full(n, -50, np.float32)}


def spreading(speed: float) -> Callable[[Array, float], Speeds]:
    return lambda p, t: Speeds(speed=np.full(p.shape[1], speed, np.float32), **with_nothing(p.shape[1]))


def carried(velocity: Callable[[Array, float], Array]) -> Callable[[Array, float], Speeds]:
    return lambda p, t: Speeds(flow=np.asarray(velocity(p, t), np.float32), **with_nothing(p.shape[1]))


def begun(domain: GridRegion, distance: Distance, reach: float, at: tuple[float, float, float] = (0, 0, 0)) -> LevelSet:
    """A level set of a distance that ends within `reach` of a place."""
    made = LevelSet(domain, np.array(domain.shape) // 16 - 1, np.full(3, 3))
    made.combine(np.array(at) - reach, np.array(at) + reach, distance, cut=False)
    made.find()
    return made


def moved(
    level: LevelSet, speeds: Callable[[Array, float], Speeds], seconds: float, *, longest: float = 0.5,
    hold: bool = False, still: bool = True, most: float = 1e9,
) -> int:  # fmt: skip
    """Moves it; how many steps that took. still: speeds do not change with time."""
    time, steps = 0.0, 0
    level.forget()
    while seconds - time > 1e-9:
        now = time
        level.ask(lambda p, now=now: speeds(p, now))
        fast, stiff = level.pace()
        dt = min(seconds - time, most, longest / max(fast, 1e-9), 1 / (6 * stiff) if stiff else 1e9)
        if not still:
            level.forget()
            level.ask(lambda p, now=now + dt / 2: speeds(p, now))
        level.step(dt, 0.0, hold=hold)
        level.find()
        if not still:
            level.forget()
        time, steps = time + dt, steps + 1
    return steps


def vertices(level: LevelSet) -> Array:
    """Vertices (n, 3) of the surface."""
    own = marching_cubes(level.grid(), 0.0)[0]
    return (own + 0.5) * level.domain.voxel_size + np.array(level.window.lower)


def apart(level: LevelSet, distance: Distance) -> tuple[float, float]:
    """By how much, as shares of its volume, it differs from a distance: the volume, and what is on one side only."""
    window = level.window
    exact = distance(window.centres(0, window.voxels)).reshape(window.shape)
    a, b = (np.clip(0.5 - d, 0, 1) for d in (level.grid(), exact / window.voxel_size))
    return float(a.sum() / b.sum() - 1), float(np.abs(a - b).sum() / b.sum())
