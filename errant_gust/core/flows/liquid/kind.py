"""Liquid as a kind of flow."""

from typing import Any

from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.readings import Reading
from errant_gust.core.flows.drawing import DrawnMesh
from errant_gust.core.flows.kind import FlowKind
from errant_gust.core.flows.liquid import (  # noqa: F401  (define the steps)
    channels,
    forces,
    obstacles,
    sources,
    steps,
    surface,
)
from errant_gust.core.flows.liquid.findings import frame_findings, lane_findings
from errant_gust.core.flows.liquid.flow import LiquidFlow
from errant_gust.core.flows.liquid.state import ABOUT, FOAM, GRID, GRID_ABOUT
from errant_gust.core.flows.results import Frames, PointsResult, VolumeResult
from errant_gust.core.study.finding import Finding


class LiquidKind(FlowKind):
    """Liquid from water to slime, pushed and steered by fields."""

    id = steps.SORT
    label = "Liquid"
    yields = "water, honey and slime steered by fields"
    unit = "particles"
    icon = "drop"
    smaller = "larger voxels"
    engine = 5
    dear = True
    begins_with = (("domain", {}), ("source", {}), ("gravity", {}), ("surface", {}))
    results = (
        PointsResult("particles", "particles", ABOUT),
        VolumeResult("volume", "volumes", GRID_ABOUT, GRID, aside=True),
        PointsResult("foam", "foam", ABOUT, FOAM),
        DrawnMesh("surface", "surface", "Surface"),
    )

    def open(self, plan: Plan, id: str, quality: str) -> LiquidFlow:
        return LiquidFlow(plan, id, quality=quality)

    def findings(self, plan: Plan, id: str, flow: Any, readings: dict[str, Reading]) -> list[Finding]:
        return lane_findings(plan, flow)

    def frame_findings(self, plan: Plan, id: str, frames: Frames, frame: int) -> list[Finding]:
        return frame_findings(plan, id, frames, frame)
