"""A row of the benchmark table, how it is timed, and the studies and references that several rows share."""

import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.demos.geometry import light_tower, write_obj
from errant_gust.core.fields.plan import Plan
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.study.building import lane, study
from errant_gust.core.study.document import parse


@dataclass
class Row:
    """One line of the table; `goal` is a ratio to the reference where there is one, else milliseconds at most."""

    name: str
    milliseconds: float
    reference: str = ""
    reference_ms: float | None = None
    ratio: float | None = None
    goal: str = ""
    note: str = ""


def best(work: Callable[[], Any], times: int = 5) -> float:
    """Milliseconds of the fastest of several goes."""
    found = []
    for _ in range(times):
        start = time.perf_counter()
        work()
        found.append(time.perf_counter() - start)
    return 1e3 * min(found)


def study_of(fields: list[dict[str, Any]], **more: Any) -> Plan:
    return Plan(parse(study("Bench", *fields, **more)))


def numpy_curl(points: NDArray[Any], octaves: int) -> NDArray[Any]:
    """Curl of three gradient-noise potentials with analytic derivatives in whole-array NumPy: the same sum as ours."""
    out = np.zeros((3, points.shape[1]), np.float32)
    for o in range(octaves):
        frequency = np.float32(2.0**o)
        p = points * frequency
        cell = np.floor(p)
        f = p - cell
        i = cell.astype(np.int32).astype(np.uint32)
        w1 = f * f * f * (f * (f * 6 - 15) + 10)
        u1 = 30 * f * f * (f * (f - 2) + 1)
        for corner in range(8):
            b = np.array([corner & 1, corner >> 1 & 1, corner >> 2 & 1])
            w = np.where(b[:, None] == 1, w1, 1 - w1).astype(np.float32)
            u = np.where(b[:, None] == 1, u1, -u1).astype(np.float32)
            d = f - b[:, None].astype(np.float32)
            h = (i[0] + b[0].astype(np.uint32)) * np.uint32(0x9E3779B1)
            h = h ^ ((i[1] + b[1].astype(np.uint32)) * np.uint32(0x85EBCA77))
            h = h ^ ((i[2] + b[2].astype(np.uint32)) * np.uint32(0xC2B2AE3D))
            h = (h ^ (h >> np.uint32(16))) * np.uint32(0x7FEB352D)
            h = (h ^ (h >> np.uint32(15))) * np.uint32(0x846CA68B)
            h = h ^ (h >> np.uint32(16))
            slopes = []
            for k in (1, 0x2C1B3C6D, 0x297A2D39):
                q = h * np.uint32(k)
                q = q ^ (q >> np.uint32(15))
                g = np.stack([((q >> np.uint32(8 * c)) & np.uint32(255)).astype(np.float32) for c in range(3)])
                g = g * np.float32(2 / 255) - 1
                n = (g * d).sum(axis=0)
                whole = w[0] * w[1] * w[2]
                slopes.append(
                    (u[0] * w[1] * w[2] * n + whole * g[0], w[0] * u[1] * w[2] * n + whole * g[1],
                     w[0] * w[1] * u[2] * n + whole * g[2])
                )  # fmt: skip
            a, bb, c = slopes
            out += np.stack([c[1] - bb[2], a[2] - c[0], bb[0] - a[1]])
    return out


def eight_steps(folder: Path) -> Plan:
    write_obj(folder / "light_tower.obj", *light_tower(), "bench")
    lanes = [
        lane("m", ("mask_shape", {"shapes": ["b"], "fade_over": 1.0})),
        lane(
            "n", ("curl_noise", {"octaves": 3, "evolve": 0.2}), ("mask", {"by": "m"}), ("gain", {"factor": 1.4}),
            ("add", {"field": "w"}), ("steer_around", {"shape": "t"}), ("axes", {"scale": [1, 1, 0.5]}),
            ("limit", {"most": 4}), ("gain", {"factor": 0.9}),
        ),
        lane("w", ("wind", {})),
    ]  # fmt: skip
    shapes = [
        {"id": "b", "kind": "box", "params": {"size": [3, 3, 2]}},
        {"id": "t", "kind": "mesh", "params": {"file": "light_tower.obj"}},
    ]
    data = {"format": "errant-gust-study", "version": 1, "name": "Bench", "fields": lanes, "shapes": shapes}
    return Plan(parse(data), Assets(folder))
