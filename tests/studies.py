"""Builders of small studies for tests."""

from copy import deepcopy
from pathlib import Path
from typing import Any

import numpy as np

from errant_gust.core.fields.node import Node
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.sampling import sample
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.study.building import lane, study
from errant_gust.core.study.document import parse

DEMO = Path(__file__).resolve().parents[1] / "demo"
SHAPES = [
    {"id": "ball", "kind": "sphere", "params": {"radius": 0.6}},
    {"id": "pillar", "kind": "cylinder", "params": {"radius": 0.4, "height": 2.4, "move": [0.2, 0.1, 0]}},
    {"id": "block", "kind": "box", "params": {"size": [1, 0.7, 1.4], "turn": [10, 20, 30]}},
    {"id": "ground", "kind": "plane", "params": {"move": [0, 0, -1.5]}},
]
REGIONS = [{"id": "room", "bounds": {"lower": [-2, -2, -2], "upper": [2, 2, 2]}, "voxel_size": 0.1}]


def data(*fields: dict[str, Any], **more: Any) -> dict[str, Any]:
    """A document of its own: whoever adds to it adds to no other."""
    return deepcopy(study("Test", *fields, **{"shapes": SHAPES, "regions": REGIONS, **more}))


def plan(*fields: dict[str, Any], assets: Assets | None = None, **more: Any) -> Plan:
    return plan_of(parse(data(*fields, **more)), assets)


def node(*steps: Any, time: float = 0.0, others: tuple[dict[str, Any], ...] = (), **more: Any) -> Node:
    """The end of a lane made of these steps."""
    return plan(*others, lane("lane", *steps), **more).at(time).lane("lane")


def values(n: Node, points: Any) -> Any:
    return sample(n, points)[0]


def central_differences(n: Node, points: Any, h: float) -> Any:
    """Gradient (n, 3) or (n, 3, 3) by differences with the true float32 spacing."""
    columns = []
    for axis in range(3):
        ahead, behind = points.copy(), points.copy()
        ahead[:, axis] += np.float32(h)
        behind[:, axis] -= np.float32(h)
        span = (ahead[:, axis] - behind[:, axis]).astype(np.float64)
        change = values(n, ahead).astype(np.float64) - values(n, behind)
        columns.append(change / (span if change.ndim == 1 else span[:, None]))
    return np.stack(columns, axis=-1)
