"""What a lane of grains comes to before it runs: how many there will be, and the memory they take."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from errant_gust.core.errors import BudgetError
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows.grains.sources import FULL, Source
from errant_gust.core.flows.step import Placed
from errant_gust.core.grids.region import budget

if TYPE_CHECKING:
    from errant_gust.core.flows.grains.flow import GrainFlow

BYTES_EACH = 400
"""A grain at the peak of a frame (374 measured): its numbers, sorted and unsorted, its arrays, what is written."""
BYTES_A_NODE = 60


def estimate(flow: GrainFlow, scene: Scene, parts: list[Placed]) -> tuple[int, int]:
    """Grains at most (about), and bytes for them and their grid: what sources hold, pour and bring."""
    whole = float(flow.domain.voxels) * FULL
    count = 0.0
    span = (flow.clock.end - flow.clock.start) * flow.clock.step
    for part in parts:
        if not isinstance(part.step, Source):
            continue
        source = part.step
        if source.how == "at a rate":
            made = source.count_by(part, flow, max(span, 0.0))
            count += min(made, source.rate * source.life / flow.spacing**3) if source.life else made
            continue
        count += source.holds(flow.domain, scene) / flow.spacing**3
        if source.how == "kept filled":
            seconds = max(0.0, min(source.until, span) - max(source.begin, 0.0))
            speed = float(np.linalg.norm(source.velocity)) + (0.5 * 9.81 * min(seconds, 0.5))
            count += source.mouth(flow.domain, scene) * speed * seconds / flow.spacing**3
    count = min(count, whole)
    return int(count), _bytes(flow, count)


def _bytes(flow: GrainFlow, count: float) -> int:
    """Memory for so many grains and the window around them."""
    window = min(float(flow.domain.voxels), 4 * count / FULL + 20_000)
    return int(count * BYTES_EACH + window * BYTES_A_NODE)


def affordable(flow: GrainFlow, scene: Scene, parts: list[Placed]) -> tuple[int, int]:
    """The estimate; a BudgetError with a spacing that would fit if there is not so much memory."""
    count, need = found = estimate(flow, scene, parts)
    limit = budget()
    if need > limit:
        fits = float(f"{flow.spacing * max(1.05, (need / (0.75 * limit)) ** (1 / 3)):.2g}")
        raise BudgetError(
            f"about {count:,} grains need up to {need / 1e9:,.1f} GB, the budget is {limit / 1e9:,.1f} GB",
            where=f"{parts[0].where}.spacing", fix=f"a spacing of {fits:g} m would fit", fits=fits,
        )  # fmt: skip
    return found
