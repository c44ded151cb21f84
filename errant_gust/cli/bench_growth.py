"""Benchmark rows of growth: a step of the level set by voxel near the surface, and that the box costs nothing."""

import time
from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np

from errant_gust.cli.bench_rows import Row, best
from errant_gust.core.fields.plan import Plan
from errant_gust.core.flows.growth.flow import GrowthFlow
from errant_gust.core.flows.growth.kind import GrowthKind
from errant_gust.core.grids.level_set import LevelSet, Speeds
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.kernels.level_set import BAND
from errant_gust.core.study.building import lane, study
from errant_gust.core.study.document import parse

Array = Any


def ball(radius: float, n: int) -> LevelSet:
    domain = GridRegion((-n / 2, -n / 2, -n / 2), (n, n, n), 1.0)
    made = LevelSet(domain, np.full(3, n // 16 - 1), np.full(3, 3))
    reach = np.full(3, radius)
    made.combine(-reach, reach, lambda p: np.linalg.norm(p, axis=0) - radius, cut=False)
    made.find()

    def speeds(points: Array) -> Speeds:
        one = np.ones(points.shape[1], np.float32)
        return Speeds(speed=one, flow=np.ones((3, one.size), np.float32), free=one, floor=-50 * one)

    made.ask(speeds)
    return made


def step() -> Row:
    """A substep of a ball of 50 voxels, spread and carried, next to the same scheme in NumPy on a whole grid."""
    level = ball(50.0, 160)
    near = int((np.abs(level.phi) < BAND).sum())
    dt = 0.1

    def ours() -> None:
        level.step(dt, 0.0)
        level.find()

    took = best(ours, 5)
    n = 64
    axis = np.arange(n) - n / 2 + 0.5
    phi = np.sqrt(axis[:, None, None] ** 2 + axis[:, None] ** 2 + axis**2).astype(np.float32) - 20
    begun = time.perf_counter()
    _by_numpy(phi, dt)
    reference = 1e3 * (time.perf_counter() - begun) / phi.size * near
    note = f"{near:,} voxels near it, {1e6 * took / near:.0f} ns each, with distances made anew; NumPy: 64³, scaled"
    return Row("growth: a substep", took, "NumPy, moving only", reference, reference / took, "", note)


def _by_numpy(phi: Array, dt: float) -> Array:
    before = phi
    for share in (1.0, 0.25, 2 / 3):
        rate = np.zeros_like(phi)
        square = np.zeros_like(phi)
        for axis in range(3):
            d = np.diff(np.pad(phi, [(3, 3) if a == axis else (0, 0) for a in range(3)], mode="edge"), axis=axis)
            parts = [np.take(d, range(k, k + phi.shape[axis]), axis=axis) for k in range(6)]
            low, high = _weno(*parts[:5]), _weno(*parts[:0:-1])
            square += np.maximum(np.maximum(low, 0) ** 2, np.minimum(high, 0) ** 2)
            rate -= low
        rate -= np.sqrt(square)
        phi = (1 - share) * before + share * (phi + dt * rate)
    return phi


def _weno(a: Array, b: Array, c: Array, d: Array, e: Array) -> Array:
    s1 = 13 / 12 * (a - 2 * b + c) ** 2 + 0.25 * (a - 4 * b + 3 * c) ** 2
    s2 = 13 / 12 * (b - 2 * c + d) ** 2 + 0.25 * (b - d) ** 2
    s3 = 13 / 12 * (c - 2 * d + e) ** 2 + 0.25 * (3 * c - 4 * d + e) ** 2
    w1, w2, w3 = (w / (1e-6 + s) ** 2 for w, s in ((0.1, s1), (0.6, s2), (0.3, s3)))
    made = w1 * (2 * a - 7 * b + 11 * c) + w2 * (-b + 5 * c + 2 * d) + w3 * (2 * c + 5 * d - e)
    return made / (6 * (w1 + w2 + w3))


def box() -> Row:
    """A frame of the same small start in a box of 64³ and in one of 256³."""

    def flow(n: int) -> tuple[GrowthFlow, Any]:
        half = 0.02 * n / 2
        regions = [{"id": "r", "bounds": {"lower": [-half] * 3, "upper": [half] * 3}, "voxel_size": 0.02}]
        steps = (("domain", {"region": "r"}), ("seed", {"shape": "s"}), ("spread", {"speed": 0.5}))
        flows = [{**lane("g", *steps), "kind": GrowthKind.id}]
        shapes = [{"id": "s", "kind": "sphere", "params": {"radius": 0.3}}]
        made = GrowthFlow(Plan(parse(study("Bench", shapes=shapes, regions=regions, flows=flows))), "g")
        return made, made.first()

    took = {}
    for n in (64, 256):
        made, state = flow(n)
        took[n] = best(partial(made.next, state, 1), 4)
    note = "the same small start: cost follows the surface"
    return Row("growth in a box of 256³", took[256], "the same in 64³", took[64], took[64] / took[256], "", note)


ROWS: list[tuple[str, Callable[[], Row | list[Row]]]] = [
    ("growth: step", step),
    ("growth: box", box),
]
