"""Gas as a kind of flow."""

from typing import Any

from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.readings import Reading
from errant_gust.core.flows.gas import (  # noqa: F401  (define the steps, in the order of the catalogue)
    channels,
    detail,
    forces,
    obstacles,
    sources,
    steps,
)
from errant_gust.core.flows.gas.findings import lane_findings
from errant_gust.core.flows.gas.flow import GasFlow
from errant_gust.core.flows.gas.refined import DetailFlow
from errant_gust.core.flows.gas.state import ABOUT
from errant_gust.core.flows.kind import FlowKind
from errant_gust.core.flows.results import VolumeResult
from errant_gust.core.study.finding import Finding


class GasKind(FlowKind):
    """Smoke, heat and fire on voxels, pushed and steered by fields."""

    id = steps.SORT
    label = "Gas"
    yields = "smoke and fire steered by fields"
    unit = "voxels"
    icon = "cloud"
    smaller = "larger voxels"
    engine = 6
    begins_with = (("domain", {}), ("source", {}), ("rise", {}))
    results = (VolumeResult("volume", "volumes", ABOUT),)

    def open(self, plan: Plan, id: str, quality: str) -> GasFlow:
        """The flow of a lane that begins with a Domain, or with Detail."""
        lane = plan.study.find("flows", id, f"flows.{id}")
        first = next((s for s in lane.steps if s.on), None)
        refines = first is not None and first.op == detail.Detail.id
        return (DetailFlow if refines else GasFlow)(plan, id, quality=quality)

    def findings(self, plan: Plan, id: str, flow: Any, readings: dict[str, Reading]) -> list[Finding]:
        return lane_findings(plan, flow)
