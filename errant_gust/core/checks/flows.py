"""Checks on flows: what their kinds find, and what is the same for all."""

from collections.abc import Iterator

from errant_gust.core.errors import GustError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.readings import Reading
from errant_gust.core.flows.kind import kind_of
from errant_gust.core.flows.results import Frames
from errant_gust.core.flows.step import placed_steps
from errant_gust.core.study.depends import used_lanes
from errant_gust.core.study.finding import Finding, broken_part


def flow_findings(plan: Plan, id: str, readings: dict[str, Reading]) -> list[Finding]:
    """What keeps a flow from being computed, or else what its kind finds."""
    kind = kind_of(plan.study.find("flows", id, f"flows.{id}").kind)
    try:
        flow = kind.open(plan, id, "full")
        return [*kind.findings(plan, id, flow, readings), *colours_lost(plan, id)]
    except GustError as error:
        return [broken_part(error)]


WHITE = (1.0, 1.0, 1.0)


def colours_lost(plan: Plan, id: str) -> Iterator[Finding]:
    """Steps that give a colour, in a lane in which nothing carries one."""
    lane = plan.study.find("flows", id, f"flows.{id}")
    parts = list(placed_steps(plan.at(0.0), lane, lane.kind))
    if any(part.step.id == "colour" for part in parts):
        return
    for part in parts:
        by = getattr(part.step, "colour_by", "")
        if by or "colour" in part.varying or tuple(getattr(part.step, "colour", WHITE)) != WHITE:
            yield Finding(
                "warning", "colour_not_carried", f"{part.where}.{'colour_by' if by else 'colour'}",
                "gives a colour, and no step of this lane carries one: all stays white", "add Colour to the lane",
            )  # fmt: skip


def findings_on_frame(plan: Plan, flow: str, frames: Frames, frame: int) -> list[Finding]:
    """What is wrong with a frame of a run; none if it is not there yet."""
    if frame not in frames.frames():
        return []
    return kind_of(plan.study.find("flows", flow, f"flows.{flow}").kind).frame_findings(plan, flow, frames, frame)


def unused_lanes(plan: Plan) -> list[Finding]:
    """Field lanes that lead nowhere, in a study that has flows."""
    if not plan.study.flows:
        return []
    used = used_lanes(plan.study)
    return [
        Finding("note", "never_used", f"fields.{lane.id}", "is used by no flow and no other lane")
        for lane in plan.study.fields
        if lane.id not in used and lane.steps
    ]
