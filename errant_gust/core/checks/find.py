"""Checks on a study (fields and flows) and on a frame of a run."""

import itertools
from dataclasses import asdict, dataclass, replace
from typing import Any, Literal

import numpy as np

from errant_gust.core import flows  # noqa: F401  (defines the flow steps)
from errant_gust.core.checks.gas import gas_troubles
from errant_gust.core.errors import BudgetError, GustError
from errant_gust.core.fields.blocks import Cancel
from errant_gust.core.fields.bunching import Bunching, bunching
from errant_gust.core.fields.gridded import Gridded
from errant_gust.core.fields.look import Reading, domain, reading
from errant_gust.core.fields.plan import Node, sample
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Plan, Scene
from errant_gust.core.fields.solved import SolvedFlow, room_for
from errant_gust.core.fields.steer import SteerAround
from errant_gust.core.fields.surfaces import surface_samples
from errant_gust.core.fields.units import SPEED, Unit, named, over, unit_text
from errant_gust.core.flows.gas.flow import GasFlow
from errant_gust.core.flows.kinds import open_flow
from errant_gust.core.flows.particles.steps import PARTICLE_STEPS
from errant_gust.core.study import document

Level = Literal["error", "warning", "note"]
SINKS = 0.02  # rms divergence · detail / speed above which it is worth asking how far particles gather
GATHERS = 1.6  # times as dense as at first, from which it is seen


@dataclass(frozen=True)
class Finding:
    """One finding. `where` is a path in the study; `fix`, if any, is a labelled change of parameters or steps."""

    level: Level
    code: str
    where: str
    what: str
    why: str = ""
    fix: dict[str, Any] | None = None
    may_be_meant: bool = False
    """Whether "intended" is an answer: kept in the study, it silences the finding."""

    @property
    def key(self) -> str:
        return f"{self.code} {self.where}"

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def set_param(label: str, path: str, value: Any) -> dict[str, Any]:
    """A fix that sets one parameter: `fields.gusts.b.method`."""
    return {"label": label, "set": {path: value}}


def findings(plan: Plan, *, cancel: Cancel | None = None) -> list[Finding]:
    """Everything found in the study, worst first."""
    found = [_broken(error) for error in plan.problems()]
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
            found += _lane(scene, lane.id, low, high, readings, cancel)
        except GustError as error:
            found.append(_broken(error))
    for region in plan.study.regions:
        if region.id not in broken:
            found += _region(scene, region.id)
    for flow in plan.study.flows:
        found += _flow(plan, flow.id, readings)
    found = _at_other_times(plan, found, broken, cancel)
    found += _unused(plan)
    found += _voxel_sizes(scene)
    order = {"error": 0, "warning": 1, "note": 2}
    meant = set(plan.study.intended)
    unique = {(f.code, f.where, f.what): f for f in found if not (f.may_be_meant and f.key in meant)}
    return sorted(unique.values(), key=lambda f: order[f.level])


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
    lit: set[str] = set()
    for time in times_to_look(plan.study):
        if cancel is not None and cancel():
            break
        scene = plan.at(time)
        for error in plan.problems(time):
            if (error.where, error.what) not in known:
                known.add((error.where, error.what))
                found.append(_broken(type(error)(f"at {time:.3g} s: {error.what}", where=error.where, fix=error.fix)))
        for lane in plan.study.fields:
            if lane.id in broken or lane.id in lit or not any(step.on for step in lane.steps):
                continue
            try:
                last = scene.lane(lane.id)
                if not last.moves or _on_voxels(last):
                    continue
                low, high = domain(scene)
                if reading(last, low, high, side=10, cancel=cancel).rms > 0:
                    lit.add(lane.id)
                later = [f for f in _into_shapes(scene, lane.id, last) if (f.where, f.code) not in known]
                known |= {(f.where, f.code) for f in later}
                found += [replace(f, what=f"at {time:.3g} s {f.what}") for f in later]
            except GustError:  # told among the problems
                continue
    return [f for f in found if f.code != "zero_everywhere" or f.where.split(".")[1] not in lit]


def _on_voxels(node: Node) -> bool:
    """Whether anything up to here has to be baked or solved anew for another time: too dear for a look."""
    return isinstance(node.step, Gridded) or any(_on_voxels(n) for n in node.used)


def _broken(error: GustError) -> Finding:
    code = "over_budget" if isinstance(error, BudgetError) else "cannot_be_built"
    fix = None
    if isinstance(error, BudgetError) and error.fits and error.where.startswith("regions."):
        fix = set_param(f"Voxel size {error.fits:g} m", error.where, error.fits)
    return Finding("error", code, error.where, error.what, error.fix, fix)


def _region(scene: Scene, id: str) -> list[Finding]:
    part = scene.study.find("regions", id, f"regions.{id}")
    try:
        scene.region(id).check(3, f"regions.{id}.voxel_size")
    except GustError as error:
        return [_broken(error)]
    moving = [shape for shape in part.bounds.fit if scene.shape_moves(shape)]
    if moving and not part.follow and part.over == "first frame":
        return [
            Finding(
                "note", "fitted_to_first_frame", f"regions.{id}",
                f"is fitted to where '{moving[0]}' is on the first frame, and it moves",
                "what happens elsewhere is not in it",
                set_param("Fit to all frames", f"regions.{id}.over", "all frames"), True,
            )
        ]  # fmt: skip
    return []


def _lane(
    scene: Scene, id: str, low: Array, high: Array, readings: dict[str, Reading], cancel: Cancel | None
) -> list[Finding]:
    found = []
    steps = scene.steps(id)
    for (step_id, node), (_, before) in zip(steps, [(None, None), *steps[:-1]], strict=True):
        where = f"fields.{id}.{step_id}"
        if isinstance(node.step, Gridded):
            try:
                scene.region(node.step.region).check(3, where)
                if isinstance(node.step, SolvedFlow):
                    room_for(scene.region(node.step.region), where)
            except GustError as error:
                found.append(_broken(error))
                return found
        found += _order(where, node, before)
        found += _slides(where, node)
        found += _units(where, node, before)
        found += _coarse(where, node)
        if node.step.id == "remap" and before is not None:
            found += _remap(where, node, reading(before, low, high, side=12, cancel=cancel))
    last = steps[-1][1]
    numbers = readings[id] = reading(last, low, high, side=14, cancel=cancel)
    if numbers.rms == 0:
        zero = next(step for step, node in steps if reading(node, low, high, side=10, cancel=cancel).rms == 0)
        found.append(
            Finding(
                "warning", "zero_everywhere", f"fields.{id}.{zero}",
                "is zero everywhere in the region from here on",
                "so what uses it does nothing; look at its masks and ranges",
            )
        )  # fmt: skip
    found += _into_shapes(scene, id, last)
    return found


def _coarse(where: str, node: Node) -> list[Finding]:
    """Voxels too large for the smallest detail of what is put on them."""
    if not isinstance(node.step, Gridded) or node.incoming is None or not node.incoming.feature_known:
        return []
    h, detail = node.scene.region(node.step.region).voxel_size, node.incoming.feature
    if detail >= 2 * h:
        return []
    fits = float(f"{detail / 2:.2g}")
    path = f"regions.{node.step.region}.voxel_size"
    return [
        Finding(
            "warning", "detail_lost", where,
            f"voxels of {h:g} m are too large for details of {detail:.3g} m",
            "the finest pattern is lost and shows as false swirls",
            set_param(f"Voxel size {fits:g} m", path, fits),
        )
    ]  # fmt: skip


INTO = 0.05
SURFACE = 1500


def _into_shapes(scene: Scene, id: str, last: Node) -> list[Finding]:
    """Whether the finished flow points into a shape that it steers around, and which term does."""
    if last.kind != "vector":
        return []
    found = []
    for shape_id in sorted(last.obstacles):
        shape = scene.shape(shape_id)
        if shape.moves or not shape.kind.bounded:
            continue
        points, _ = surface_samples(*shape.surface, SURFACE)
        d, g, _ = shape.distance(np.ascontiguousarray(points.T), 1)
        assert g is not None
        points = points - (d * g).T + 2e-3 * g.T
        share = _inward(last, points, g)
        if share <= INTO:
            continue
        terms, here = [], last
        while here.incoming is not None and here.step.id != "steer_around":
            other = getattr(here.step, "field", None)
            if here.step.id in ("add", "subtract", "mix", "strongest", "replace") and isinstance(other, str):
                part = _inward(scene.lane(other), points, g)
                terms.append((part, other, here.where))
            here = here.incoming
        if terms:
            part, other, where = max(terms)
            what = f"'{other}' points into '{shape_id}' at {part:.0%} of its surface, and is joined after Steer around"
            found.append(Finding("warning", "points_into_shape", where, what, "steer around the shape after this step"))
        else:
            what = f"points into '{shape_id}' at {share:.0%} of its surface"
            found.append(Finding("warning", "points_into_shape", last.where, what, "steer around it as the last step"))
    return found


def _inward(node: Node, points: Array, normal: Array) -> float:
    """Share of surface points at which the field goes into the shape by more than a twentieth of its mean speed."""
    v, _ = sample(node, points)
    speed = float(np.sqrt(np.mean((v.astype(np.float64) ** 2).sum(axis=1))))
    return float(np.mean((v * normal.T).sum(axis=1) < -0.05 * speed)) if speed > 0 else 0.0


def _order(where: str, node: Node, before: Node | None) -> list[Finding]:
    """A term added after the flow was steered around a shape can point into the shape again."""
    here = before
    while node.step.id == "add" and here is not None:
        if isinstance(here.step, SteerAround):
            other = node.step.field  # type: ignore[attr-defined]
            return [
                Finding(
                    "warning", "added_after_steering", where,
                    f"adds '{other}' after Steer around, so it can point into '{here.step.shape}'",
                    "move Add before Steer around",
                )
            ]  # fmt: skip
        here = here.incoming
    return []


def _units(where: str, node: Node, before: Node | None) -> list[Finding]:
    """Values in one unit that are added to values in another."""
    lane = node.step.adds(node)
    if not lane or before is None:
        return []
    mine, theirs = before.unit, node.scene.lane(lane).unit
    if mine is None or theirs is None or mine == theirs:
        return []
    return [
        Finding(
            "warning", "units_differ", f"{where}.field",
            f"'{lane}' is {_in(theirs)}, and what comes in is {_in(mine)}",
            f"the sum means nothing: a factor in {named(over(mine, theirs) or mine)} would mend it",
            _factor_fix(node.scene.study, lane, over(mine, theirs)), True,
        )
    ]  # fmt: skip


def _in(unit: Unit) -> str:
    return f"in {unit_text(unit)}" if unit_text(unit) else "a pure number"


def _factor_fix(study: document.Study, lane: str, unit: Unit | None) -> dict[str, Any] | None:
    """Append a Gain whose factor brings a lane into another unit."""
    if unit is None:
        return None
    steps = study.find("fields", lane, "").steps
    step = {
        "id": document.fresh_id("gain", {s.id for s in steps}), "op": "gain", "on": True,
        "params": {"factor": 1.0, "in_unit": unit_text(unit)},
    }  # fmt: skip
    label = f"Multiply '{lane}' by 1 {unit_text(unit)}"
    return {"label": label, "set": {}, "append": {"lane": lane, "step": step}}


def _slides(where: str, node: Node) -> list[Finding]:
    """Steering by the potential that has none to steer by."""
    step = node.step
    if not isinstance(step, SteerAround) or step.method != "by the potential" or step.uses_potential(node):
        return []
    what = "slides along the shape, since what comes in has no potential"
    why = (
        "nothing points in, but there are sources and sinks beside it; steps that keep the potential may stand before "
        "it: Gain, Mask by the potential, Add of such lanes"
    )
    return [Finding("note", "steers_by_sliding", where, what, why, None, True)]


def _remap(where: str, node: Node, incoming: Reading) -> list[Finding]:
    a, b = sorted(node.step.from_range)  # type: ignore[attr-defined]
    if incoming.high < a or incoming.low > b:
        fitted = [round(incoming.low, 4), round(incoming.high, 4)]
        return [
            Finding(
                "warning", "range_outside_data", f"{where}.from_range",
                f"expects {a:g} … {b:g}, and {incoming.low:.3g} … {incoming.high:.3g} comes in",
                "everything gets the same value",
                set_param("Fit the range to what comes in", f"{where}.from_range", fitted)
                if fitted[0] != fitted[1] else None,
            )
        ]  # fmt: skip
    return []


def _voxel_sizes(scene: Scene) -> list[Finding]:
    """Regions whose voxels nearly match but are not linked: settings that drift apart."""
    regions = scene.study.regions
    found = []
    for a, b in itertools.combinations(regions, 2):
        if isinstance(a.voxel_size, dict) or isinstance(b.voxel_size, dict):
            continue
        ratio = b.voxel_size / a.voxel_size
        if ratio != 1 and 0.75 < ratio < 1.34:
            link = {"link": f"regions.{a.id}.voxel_size"}
            found.append(
                Finding(
                    "note", "voxel_sizes_differ", f"regions.{b.id}.voxel_size",
                    f"voxels of {b.voxel_size:g} m here and of {a.voxel_size:g} m in '{a.id}'",
                    "a link keeps them the same",
                    set_param(f"Link to '{a.id}'", f"regions.{b.id}.voxel_size", link),
                )
            )  # fmt: skip
    return found


def _flow(plan: Plan, id: str, readings: dict[str, Reading]) -> list[Finding]:
    try:
        flow = open_flow(plan, id)
    except GustError as error:
        return [_broken(error)]
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
            "warning", "no_speed", where, f"'{lane}' is {_in(unit)}, which is no speed",
            f"it is taken for m/s as it is: a factor in {named(over(SPEED, unit) or SPEED)} says how fast",
            _factor_fix(plan.study, str(lane), over(SPEED, unit)), True,
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


def _unused(plan: Plan) -> list[Finding]:
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


def findings_on_frame(plan: Plan, flow: str, time: float, positions: Array) -> list[Finding]:
    """Findings on a frame of particles (n, 3): how many are inside shapes that are steered around, how many left."""
    scene, found = plan.at(time), []
    if not len(positions):
        why = "none is born yet, or all are dead"
        return [Finding("note", "no_particles", f"flows.{flow}", "no particle lives on this frame", why)]
    points = np.ascontiguousarray(positions.T, np.float32)
    for id in sorted(_obstacles(scene, flow)):
        inside = inside_shape(scene, id, points)
        if inside:
            found.append(
                Finding(
                    "warning", "inside_shape", f"shapes.{id}",
                    f"{inside:,} of {len(positions):,} particles are inside",
                    "more substeps, a longer reach, or an emitter that does not touch it",
                )
            )  # fmt: skip
    low, high = domain(scene)
    outside = int(((positions < low) | (positions > high)).any(axis=1).sum())
    if plan.study.regions and outside > 0.02 * len(positions):
        found.append(
            Finding(
                "note", "outside", f"flows.{flow}",
                f"{outside:,} of {len(positions):,} particles have left the regions", 
                "a shorter life keeps them closer",
            )
        )  # fmt: skip
    return found


def inside_shape(scene: Scene, id: str, points: Array) -> int:
    """How many points (3, n) are inside a shape; for meshes by the winding number of the mesh itself."""
    shape = scene.shape(id)
    d = shape.distance(points, 0)[0]
    near = d < 0
    if shape.kind.id != "mesh":
        return int(near.sum())
    from errant_gust.core.geometry.library import mesh_of

    file = shape.geometry.named(shape.kind.file, shape.kind.sequence)  # type: ignore[attr-defined]
    mesh = mesh_of(scene.assets.path(file, f"shapes.{id}"))
    local = shape.kind._turned(shape.to_local(points[:, near])) / shape.kind.scale  # type: ignore[attr-defined]
    return int(mesh.contains(local.T).sum()) if near.any() else 0


def _obstacles(scene: Scene, flow: str) -> set[str]:
    """Shapes that any lane under the flow's carry steps steers around."""
    steps = scene.study.find("flows", flow, "").steps
    carried = [str(step.params.get("field")) for step in steps if step.on and step.op == "carry"]
    return set().union(*(scene.lane(id).obstacles for id in carried))
