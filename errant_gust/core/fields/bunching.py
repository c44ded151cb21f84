"""The bunching figure: how far particles carried by a field gather, as the density that a typical one sees.

Along the path of a particle the density of its neighbours changes by d(ln ρ)/dt = −∇·v. Particles that begin
evenly spread see, after some travel, a typical density ρ/ρ₀ = exp⟨−∫ ∇·v dt⟩ (the geometric mean over particles): 1 if
they stay even, 2 if a typical particle has twice as many neighbours as at first.
"""

from dataclasses import dataclass

import numpy as np

from errant_gust.core.blocks import Cancel
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.sampling import sample

STEPS = 16
TRACERS = 700
MOST = 12.0


@dataclass(frozen=True)
class Bunching:
    """Geometric mean of the density that particles see (1 is even) after `travel` metres."""

    figure: float
    travel: float


def bunching(
    node: Node, points: Array, *, travel: float, cancel: Cancel | None = None, steps: int = STEPS
) -> Bunching | None:
    """Carry tracers from `points` (n, 3) through the field as it stands, `travel` metres on average; None if it
    stands still.

    Midpoint steps; ∫ ∇·v dt by the midpoint rule with exact divergences.
    """
    p = np.asarray(points[:: max(1, len(points) // TRACERS)], np.float32)
    v, _ = sample(node, p, cancel=cancel)
    speed = float(np.sqrt(np.mean((v.astype(np.float64) ** 2).sum(axis=1))))
    if speed <= 0 or travel <= 0:
        return None
    dt = np.float32(travel / speed / steps)
    total: Array = np.zeros(len(p))
    for _ in range(steps):
        v, _ = sample(node, p, cancel=cancel)
        v, slope = sample(node, p + np.float32(0.5) * dt * v, gradient=True, cancel=cancel)
        assert slope is not None
        total -= float(dt) * np.trace(slope, axis1=1, axis2=2)
        p = (p + dt * v).astype(np.float32)
    return Bunching(float(np.exp(np.clip(np.mean(total), -MOST, MOST))), travel)
