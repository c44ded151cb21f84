"""Grains as a kind of flow."""

from typing import Any

from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.readings import Reading
from errant_gust.core.flows.drawing import DrawnMesh
from errant_gust.core.flows.grains import (  # noqa: F401  (define the steps)
    forces,
    material,
    obstacles,
    sources,
    steps,
    surface,
)
from errant_gust.core.flows.grains.findings import frame_findings, lane_findings
from errant_gust.core.flows.grains.flow import GrainFlow
from errant_gust.core.flows.grains.state import ABOUT, GRID, GRID_ABOUT
from errant_gust.core.flows.kind import FlowKind
from errant_gust.core.flows.results import Frames, PointsResult, VolumeResult
from errant_gust.core.study.finding import Finding


class GrainKind(FlowKind):
    """Sand that piles, creeps and is drawn along fields."""

    id = steps.SORT
    label = "Grains"
    yields = "sand that piles, creeps and is drawn"
    unit = "grains"
    icon = "heap"
    smaller = "a larger spacing"
    engine = 2
    dear = True
    look = {"blend": "lit", "map": "mix", "first": "#B79B6C", "last": "#F6EBCD"}
    begins_with = (("domain", {}), ("source", {}), ("gravity", {}), ("friction", {}))
    results = (
        PointsResult("grains", "grains", ABOUT),
        VolumeResult("packing", "packing", GRID_ABOUT, GRID, aside=True),
        DrawnMesh("surface", "surface", "Surface"),
    )

    def open(self, plan: Plan, id: str, quality: str) -> GrainFlow:
        return GrainFlow(plan, id, quality=quality)

    def findings(self, plan: Plan, id: str, flow: Any, readings: dict[str, Reading]) -> list[Finding]:
        return lane_findings(plan, flow)

    def frame_findings(self, plan: Plan, id: str, frames: Frames, frame: int) -> list[Finding]:
        return frame_findings(plan, id, frames, frame)
