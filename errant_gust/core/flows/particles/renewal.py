"""Respawn: particles that are born again where they first were."""

from collections.abc import Iterator
from typing import Any, Literal

import numpy as np

from errant_gust.core.blocks import BLOCK, share_out
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.particles.steps import ParticleStep, Use
from errant_gust.core.study.parameters import FieldId, RegionId, ShapeId, param

NEVER = -1.0


class Respawn(ParticleStep):
    """Too old, too far from where they started, outside, or where a field says: such particles are born again on their
    emitter, or where they first were.

    They keep their id; life is drawn anew, and place if you like. They are born again at the moment when it happened,
    not at the end of the frame, and move on for what is left of it: frames a second do not change how often.
    """

    id = "respawn"
    label = "Respawn"
    family = "motion"
    keeps = ("again",)
    forever = True
    yields = "particles born again"
    mistake = "With a rate that goes on, nobody dies and the count only grows: emit all at once, or let the rate stop."
    headline = "farther"

    aged: bool = param(True, help="Those whose life is over")
    farther: float = param(0.0, unit="m", range=(0, 1e6), slider=(0, 20), help="Than this from their start; 0 never")
    leaving: RegionId = param("", optional=True, help="Those outside this region")
    outside: ShapeId = param("", optional=True, help="Those outside this shape")
    where: FieldId = param("", optional=True, help="A scalar lane: those where it is above the level")
    level: float = param(0.5, slider=(-1, 1), help="Of that lane", when={"where": ["!"]})
    place: Literal["anew", "where they were born"] = param(
        "anew", help="Another place on the emitter, or back to the own one"
    )

    wants = {"where": "scalar"}

    @property
    def returns(self) -> bool:
        """Whether they go back to the place of their first birth."""
        return self.place != "anew"

    def needs(self) -> tuple[str, ...]:
        return ("again", "start") if self.farther or self.returns else ("again",)

    def renew(self, arrays: dict[str, Array], before: Array, spans: Array, use: Use) -> Array | None:
        p = arrays["position"]
        since = np.full(spans.shape, NEVER, np.float32)
        finite = np.isfinite(p).all(axis=0)
        if self.aged:
            over = arrays["age"] - arrays["life"]
            since = np.where(over >= 0, np.minimum(over, spans), since)
        with np.errstate(divide="ignore", invalid="ignore"):
            for share in self._crossings(arrays, before, use):
                since = np.maximum(since, np.where(np.isfinite(share), (1 - np.clip(share, 0, 1)) * spans, since))
        return np.where(finite, since, 0).astype(np.float32)

    def _crossings(self, arrays: dict[str, Array], before: Array, use: Use) -> Iterator[Array]:
        """At what share of its way each particle left (n,); not a number for those that did not."""
        p = arrays["position"]
        way = p - before
        if self.farther:
            arm, away = before - arrays["start"], p - arrays["start"]
            a, b = (way * way).sum(axis=0), (arm * way).sum(axis=0)
            c = (arm * arm).sum(axis=0) - np.float32(self.farther) ** 2
            out = (away * away).sum(axis=0) > np.float32(self.farther) ** 2
            yield np.where(out, np.where(c >= 0, 0, (np.sqrt(np.maximum(b * b - a * c, 0)) - b) / a), np.nan)
        if self.leaving:
            own = use.scenes["end"].region(self.leaving)
            low, high = np.array(own.lower)[:, None], np.array(own.upper)[:, None]
            q, was = own.to_own(p), own.to_own(before)
            side = np.where(q < low, low, high)
            crossed = np.where((q < low) | (q > high), (side - was) / (q - was), np.inf).min(axis=0)
            yield np.where(np.isfinite(crossed), crossed, np.nan)
        if self.outside:
            d = use.scenes["end"].shape(self.outside).distance(p, 0)[0]
            was = use.scenes["start"].shape(self.outside).distance(before, 0)[0]
            yield np.where(d > 0, np.where(was >= 0, 0, was / (was - d)), np.nan)
        if self.where:
            now, was = (self._over(points, stage, use) for points, stage in ((p, "end"), (before, "start")))
            yield np.where(now > 0, np.where(was >= 0, 0, was / (was - now)), np.nan)

    def _over(self, points: Array, stage: Any, use: Use) -> Array:
        """By how much the lane is above the level at points (3, n)."""
        out = np.empty(points.shape[1], np.float32)

        def look(first: int, last: int) -> None:
            out[first:last] = use.field("where", np.ascontiguousarray(points[:, first:last]), stage)

        share_out(look, len(out), block=BLOCK)
        return out - np.float32(self.level)
