"""Checks on flows."""

from typing import Any

import numpy as np

from errant_gust.core import flows  # noqa: F401  (defines the flow steps)
from errant_gust.core.checks.finding import Finding, broken_part, factor_fix, set_param, told_unit
from errant_gust.core.checks.gas import gas_troubles
from errant_gust.core.errors import GustError
from errant_gust.core.fields.bunching import Bunching, bunching
from errant_gust.core.fields.look import Reading, domain
from errant_gust.core.fields.plan import sample
from errant_gust.core.fields.scene import Plan, Scene
from errant_gust.core.fields.units import SPEED, named, over
from errant_gust.core.flows.gas.flow import GasFlow
from errant_gust.core.flows.kinds import open_flow
from errant_gust.core.flows.particles.steps import PARTICLE_STEPS
from errant_gust.core.study import document

SINKS = 0.02  # rms divergence · detail / speed above which it is worth asking how far particles gather
GATHERS = 1.6  # times as dense as at first, from which it is seen


def flow_findings(plan: Plan, id: str, readings: dict[str, Reading]) -> list[Finding]:
    try:
        flow = open_flow(plan, id)
    except GustError as error:
        return [broken_part(error)]
    found: list[Finding] = []
    if isinstance(flow, GasFlow):
        return [Finding(*trouble) for trouble in gas_troubles(plan, flow)]  # type: ignore[arg-type]
    for step in plan.study.find("flows", id, "").steps:
        if step.op != "carry" or not step.on:
            continue
        lane = step.params.get("field")
        found += _no_speed(plan, f"flows.{id}.{step.id}.field", lane)
        numbers = readings.get(str(lane))
        if not numbers or numbers.divergence is None or numbers.divergence <= SINKS:
            continue
        gathered = _gathered(plan.at(0.0), str(lane))
        if gathered is not None and gathered.figure > GATHERS:
            found.append(
                Finding(
                    "warning", "bunching", f"flows.{id}.{step.id}.field",
                    f"particles in '{lane}' gather {_times(gathered.figure)} after {gathered.travel:.2g} m",
                    "it has sources and sinks: make it divergence-free, or mask and steer by the potential",
                    _potential_fix(plan, str(lane)) or _solve_fix(plan, str(lane)), True,
                )
            )  # fmt: skip
    others = {cls.id for cls in PARTICLE_STEPS.values() if cls.family == "drawn" or "own" in cls.keeps}
    if not any(s.on and (s.op == "carry" or s.op in others) for s in plan.study.find("flows", id, "").steps):
        found.append(Finding("warning", "nothing_carries", f"flows.{id}", "nothing moves these particles", "add Carry"))
    return found


def _no_speed(plan: Plan, where: str, lane: Any) -> list[Finding]:
    """A carry by what is in another unit than a speed."""
    try:
        unit = plan.at(0.0).lane(str(lane)).unit
    except GustError:  # told where the lane is looked at
        return []
    if unit is None or unit == SPEED:
        return []
    return [
        Finding(
            "warning", "no_speed", where, f"'{lane}' is {told_unit(unit)}, which is no speed",
            f"it is taken for m/s as it is: a factor in {named(over(SPEED, unit) or SPEED)} says how fast",
            factor_fix(plan.study, str(lane), over(SPEED, unit)), True,
        )
    ]  # fmt: skip


def _gathered(scene: Scene, lane: str) -> Bunching | None:
    low, high = domain(scene)
    node = scene.lane(lane)
    points = np.random.default_rng(7).uniform(low, high, (4000, 3)).astype(np.float32)
    speed = np.linalg.norm(sample(node, points)[0], axis=1)
    points = points[speed > 0.05 * speed.max(initial=0)]  # where the lane acts at all
    return bunching(node, points, travel=float(0.25 * np.linalg.norm(high - low))) if len(points) else None


def _times(figure: float) -> str:
    return f"{figure:.2g}-fold" if figure < 10_000 else "more than 10,000-fold"


def _potential_fix(plan: Plan, lane: str) -> dict[str, Any] | None:
    for step in plan.study.find("fields", lane, "").steps:
        if (
            step.on
            and step.op in ("mask", "steer_around")
            and step.params.get("method", "").endswith(("value", "sliding"))
        ):
            return set_param("Use the potential", f"fields.{lane}.{step.id}.method", "by the potential")
    return None


def _solve_fix(plan: Plan, lane: str) -> dict[str, Any] | None:
    """Append the divergence-free step, on the first region."""
    if not plan.study.regions:
        return None
    steps = plan.study.find("fields", lane, "").steps
    step = {
        "id": document.fresh_id("divergence_free", {s.id for s in steps}),
        "op": "divergence_free",
        "on": True,
        "params": {"region": plan.study.regions[0].id},
    }
    return {"label": "Make it divergence-free", "set": {}, "append": {"lane": lane, "step": step}}


def unused_lanes(plan: Plan) -> list[Finding]:
    used: set[str] = set()
    for lane in [*plan.study.fields, *plan.study.flows]:
        for step in lane.steps:
            for raw in step.params.values():
                if isinstance(raw, str):
                    used.add(raw)
                elif isinstance(raw, dict) and "field" in raw:
                    used.add(raw["field"])
    if not plan.study.flows:
        return []
    return [
        Finding("note", "never_used", f"fields.{lane.id}", "is used by no flow and no other lane")
        for lane in plan.study.fields
        if lane.id not in used and lane.steps
    ]
