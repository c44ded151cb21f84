"""Particles as a kind of flow."""

from typing import Any

from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.readings import Reading
from errant_gust.core.flows.drawing import DrawnInstances, DrawnLines, DrawnPoints
from errant_gust.core.flows.kind import FlowKind
from errant_gust.core.flows.particles import (  # noqa: F401  (define the steps, in the order of the catalogue)
    channel,
    forces,
    instances,
    motion,
    renewal,
    riding,
    steps,
    trails,
    walls,
)
from errant_gust.core.flows.particles.findings import frame_findings, lane_findings
from errant_gust.core.flows.particles.flow import ParticleFlow
from errant_gust.core.flows.particles.state import ABOUT
from errant_gust.core.flows.results import Frames, PointsResult
from errant_gust.core.study.finding import Finding


class ParticleKind(FlowKind):
    """Points that are born on shapes and carried, pushed and held by fields."""

    id = steps.SORT
    label = "Particles"
    yields = "points carried and pushed by fields"
    unit = "particles"
    icon = "points"
    smaller = "fewer particles"
    engine = 6
    begins_with = (("emit", {}), ("carry", {}))
    results = (
        PointsResult("particles", "particles", ABOUT),
        DrawnLines("lines", "lines", "Trail or Flow lines"),
        DrawnPoints("spread", "points on lines", "Spread along"),
        DrawnInstances("instances", "instances", "Instances"),
    )

    def open(self, plan: Plan, id: str, quality: str) -> ParticleFlow:
        return ParticleFlow(plan, id, quality=quality)

    def findings(self, plan: Plan, id: str, flow: Any, readings: dict[str, Reading]) -> list[Finding]:
        return lane_findings(plan, id, readings)

    def frame_findings(self, plan: Plan, id: str, frames: Frames, frame: int) -> list[Finding]:
        position = frames.read(frame, ("position",))["position"]
        return frame_findings(plan, id, plan.study.clock.seconds(frame), position)
