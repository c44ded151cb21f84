"""Growth as a kind of flow."""

from typing import Any

from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.readings import Reading
from errant_gust.core.flows.drawing import DrawnMesh
from errant_gust.core.flows.growth import motion, obstacles, seeds, steps  # noqa: F401  (define the steps)
from errant_gust.core.flows.growth.findings import frame_findings, lane_findings
from errant_gust.core.flows.growth.flow import GrowthFlow
from errant_gust.core.flows.growth.surface import VOLUME, GrownSurface
from errant_gust.core.flows.kind import FlowKind
from errant_gust.core.flows.results import Frames
from errant_gust.core.study.finding import Finding


class GrowthKind(FlowKind):
    """A volume that grows from shapes along fields: frost, crystals, moss, rust."""

    id = steps.SORT
    label = "Growth"
    yields = "volumes that grow along fields"
    unit = "voxels"
    icon = "sprout"
    smaller = "larger voxels"
    engine = 2
    dear = True
    begins_with = (("domain", {}), ("seed", {}), ("spread", {}))
    results = (GrownSurface("mesh", "mesh"), VOLUME, DrawnMesh("surface", "surface", "Surface"))
    look = {"tint": "#DCEBF2", "deep": 0.06, "colour": "age"}

    def open(self, plan: Plan, id: str, quality: str) -> GrowthFlow:
        return GrowthFlow(plan, id, quality=quality)

    def findings(self, plan: Plan, id: str, flow: Any, readings: dict[str, Reading]) -> list[Finding]:
        return lane_findings(plan, flow)

    def frame_findings(self, plan: Plan, id: str, frames: Frames, frame: int) -> list[Finding]:
        return frame_findings(plan, id, frames, frame)
