"""Checks on a study: on its first frame, and at other times."""

from dataclasses import replace

from errant_gust.core.blocks import Cancel
from errant_gust.core.checks.flows import flow_findings, unused_lanes
from errant_gust.core.checks.lanes import into_shapes, lane_findings, region_findings, shape_findings, voxel_sizes
from errant_gust.core.errors import GustError
from errant_gust.core.fields.extent import domain
from errant_gust.core.fields.gridded import Gridded
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.readings import Reading, reading
from errant_gust.core.study import document
from errant_gust.core.study.depends import Depends
from errant_gust.core.study.finding import Finding, broken_part


def findings(plan: Plan, *, cancel: Cancel | None = None) -> list[Finding]:
    """Everything found in the study, worst first."""
    found = [broken_part(error) for error in plan.problems()]
    broken = {f.where.split(".")[1] for f in found if f.where.count(".") >= 1}
    scene = plan.at(0.0)
    readings: dict[str, Reading] = {}
    try:
        low, high = domain(scene)
    except GustError:
        return found
    for lane in plan.study.fields:
        if lane.id in broken or not any(step.on for step in lane.steps):
            continue
        try:
            found += lane_findings(scene, lane.id, low, high, readings, cancel)
        except GustError as error:
            found.append(broken_part(error))
    for region in plan.study.regions:
        if region.id not in broken:
            found += region_findings(scene, region.id)
    for shape in plan.study.shapes:
        if shape.id not in broken:
            found += shape_findings(scene, shape.id)
    for flow in plan.study.flows:
        found += flow_findings(plan, flow.id, readings)
    found = _at_other_times(plan, found, broken, cancel)
    found += unused_lanes(plan)
    found += voxel_sizes(scene)
    order = {"error": 0, "warning": 1, "note": 2}
    meant = set(plan.study.intended)
    unique = {(f.code, f.where, f.what): f for f in found if not (f.may_be_meant and f.key in meant)}
    return sorted(unique.values(), key=lambda f: order[f.level])


def findings_of(plan: Plan, flow: str) -> list[Finding]:
    """What is found on the first frame in a flow's lane, and in the lanes, regions and shapes that it depends on, worst
    first: what keeps it from being computed is not among it, since computing says so. Raises StudyError for a flow that
    is none."""
    walk = Depends(plan.study)
    walk.flow(flow)
    scene, readings = plan.at(0.0), dict[str, Reading]()
    found: list[Finding] = []
    try:
        low, high = domain(scene)
        for lane in plan.study.fields:
            if f"field:{lane.id}" in walk.parts and any(step.on for step in lane.steps):
                found += lane_findings(scene, lane.id, low, high, readings, None)
        for region in plan.study.regions:
            found += region_findings(scene, region.id) if f"region:{region.id}" in walk.parts else []
        for shape in plan.study.shapes:
            found += shape_findings(scene, shape.id) if f"shape:{shape.id}" in walk.parts else []
        found += flow_findings(plan, flow, readings)
    except GustError:
        return found
    meant, order = set(plan.study.intended), ("error", "warning", "note")
    told = [f for f in found if f.level != "error" and not (f.may_be_meant and f.key in meant)]
    return sorted(told, key=lambda f: order.index(f.level))


MOST_TIMES = 8


def times_to_look(study: document.Study) -> list[float]:
    """Seconds besides the first frame at which a study is looked at: where its keys are, and quarters of the clock."""
    clock = study.clock
    last = clock.seconds(clock.end)
    keyed: set[float] = set()
    for _, raw in document.parameters(study):
        if isinstance(raw, dict) and isinstance(raw.get("keys"), list):
            keyed |= {float(key[0]) for key in raw["keys"] if 0 < float(key[0]) <= last}
    keys = sorted(keyed)
    if len(keys) > MOST_TIMES:  # the first, the last, and evenly between
        keys = [keys[round(i * (len(keys) - 1) / (MOST_TIMES - 1))] for i in range(MOST_TIMES)]
    return sorted({*keys, *(round(last * q, 6) for q in (0.25, 0.5, 0.75, 1.0) if last > 0)})


def _at_other_times(plan: Plan, found: list[Finding], broken: set[str], cancel: Cancel | None) -> list[Finding]:
    """What goes wrong later than on the first frame; and a lane that is zero only at first is not silent."""
    known = {(f.where, f.what) for f in found} | {(f.where, f.code) for f in found}
    dark = {f.where.split(".")[1] for f in found if f.code == "zero_everywhere"}
    lit: set[str] = set()
    for time in times_to_look(plan.study):
        if cancel is not None and cancel():
            break
        scene = plan.at(time)
        for error in plan.problems(time):
            if (error.where, error.what) not in known:
                known.add((error.where, error.what))
                found.append(
                    broken_part(type(error)(f"at {time:.3g} s: {error.what}", where=error.where, fix=error.fix))
                )
        for lane in plan.study.fields:
            if lane.id in broken or not any(step.on for step in lane.steps):
                continue
            try:
                last = scene.lane(lane.id)
                if not last.moves or _on_voxels(last):
                    continue
                if lane.id in dark - lit and reading(last, *domain(scene), side=10, cancel=cancel).rms > 0:
                    lit.add(lane.id)
                later = [f for f in into_shapes(scene, lane.id, last) if (f.where, f.code) not in known]
                known |= {(f.where, f.code) for f in later}
                found += [replace(f, what=f"at {time:.3g} s {f.what}") for f in later]
            except GustError:  # told among the problems
                continue
    return [f for f in found if f.code != "zero_everywhere" or f.where.split(".")[1] not in lit]


def _on_voxels(node: Node) -> bool:
    """Whether anything up to here has to be baked or solved anew for another time: too dear for a look."""
    return isinstance(node.step, Gridded) or any(_on_voxels(n) for n in node.used)
