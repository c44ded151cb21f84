"""Respawn: particles that are born again where they first were."""

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.particles.steps import ParticleStep, Use
from errant_gust.core.study.parameters import RegionId, ShapeId, param


class Respawn(ParticleStep):
    """Too old, too far from where they started, or outside: such particles are born again on their emitter.

    They keep their id; place and life are drawn anew.
    """

    id = "respawn"
    label = "Respawn"
    family = "motion"
    keeps = ("again",)
    yields = "particles born again"
    mistake = "With a rate that goes on, nobody dies and the count only grows: emit all at once, or let the rate stop."
    headline = "farther"

    aged: bool = param(True, help="Those whose life is over")
    farther: float = param(0.0, unit="m", range=(0, 1e6), slider=(0, 20), help="Than this from their start; 0 never")
    leaving: RegionId = param("", optional=True, help="Those outside this region")
    outside: ShapeId = param("", optional=True, help="Those outside this shape")

    def needs(self) -> tuple[str, ...]:
        return ("again", "start") if self.farther else ("again",)

    def renew(self, arrays: dict[str, Array], use: Use) -> Array | None:
        p = arrays["position"]
        gone: Array = np.logical_not(np.isfinite(p).all(axis=0))
        if self.aged:
            gone |= arrays["age"] >= arrays["life"]
        if self.farther:
            away = p - arrays["start"]
            gone |= (away * away).sum(axis=0) > np.float32(self.farther) ** 2
        if self.leaving:
            own = use.scenes["end"].region(self.leaving)
            q = own.to_own(p)
            gone |= ((q < np.array(own.lower)[:, None]) | (q > np.array(own.upper)[:, None])).any(axis=0)
        if self.outside:
            gone |= use.scenes["end"].shape(self.outside).distance(p, 0)[0] > 0
        return gone
