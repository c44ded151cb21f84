"""What is likely wrong with a particle lane, and what is wrong with a frame of it."""

import math
from typing import Any

import numpy as np

from errant_gust.core.errors import GustError
from errant_gust.core.fields.bunching import Bunching, bunching
from errant_gust.core.fields.extent import domain
from errant_gust.core.fields.gridded import GriddedChange
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.readings import Reading
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.sampling import sample
from errant_gust.core.fields.scene import Scene
from errant_gust.core.fields.units import SPEED, factor_fix, named, over, told_unit
from errant_gust.core.flows.drawing import Draws
from errant_gust.core.flows.particles import birth
from errant_gust.core.flows.particles.renewal import Respawn
from errant_gust.core.flows.particles.steps import Emit
from errant_gust.core.flows.step import Carries, Placed, Pushes, placed_steps
from errant_gust.core.geometry.library import mesh_of
from errant_gust.core.study.depends import used_flows
from errant_gust.core.study.finding import Finding, append_step, set_param

TRIED = 400
"""Places of an emitter at which its weight is looked up."""


def frame_findings(plan: Plan, flow: str, time: float, positions: Array) -> list[Finding]:
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
    file = shape.geometry.named(shape.kind.file, shape.kind.sequence)  # type: ignore[attr-defined]
    mesh = mesh_of(scene.assets.path(file, f"shapes.{id}"))
    local = shape.kind._turned(shape.to_local(points[:, near])) / shape.kind.scale  # type: ignore[attr-defined]
    return int(mesh.contains(local.T).sum()) if near.any() else 0


def _obstacles(scene: Scene, flow: str) -> set[str]:
    """Shapes that any lane under the flow's carry steps steers around."""
    lane = scene.study.find("flows", flow, "")
    carried = [p.step.field for p in placed_steps(scene, lane, lane.kind) if isinstance(p.step, Carries)]
    return set().union(*(scene.lane(id).obstacles for id in carried))


SINKS = 0.02  # rms divergence · detail / speed above which it is worth asking how far particles gather
GATHERS = 1.6  # times as dense as at first, from which it is seen


def lane_findings(plan: Plan, id: str, readings: dict[str, Reading]) -> list[Finding]:
    """What is likely wrong with a lane that can be opened."""
    found: list[Finding] = []
    lane = plan.study.find("flows", id, "")
    moved, emits = False, list[Placed]()
    renewed = any(isinstance(p.step, Respawn) for p in placed_steps(plan.at(0.0), lane, lane.kind))
    for part in placed_steps(plan.at(0.0), lane, lane.kind):
        moved = moved or isinstance(part.step, Pushes | Draws)
        if isinstance(part.step, Emit) and part.step.weight and not part.step.alongside:
            found += _weighed(plan, part)
        if isinstance(part.step, Emit):
            found += _die_early(plan, part, renewed)
            emits.append(part)
        if isinstance(part.step, Carries):
            found += _carried(plan, f"{part.where}.field", part.step.field, readings)
            found += _long_steps(plan, part, readings)
            found += _outside_baked(plan, part, emits)
    if not moved and id not in used_flows(plan.study):  # points that others grow from or fill need no motion
        found.append(Finding("warning", "nothing_carries", f"flows.{id}", "nothing moves these particles", "add Carry"))
    return found


def _die_early(plan: Plan, part: Placed, renewed: bool) -> list[Finding]:
    """Born in one moment, and all dead before the clock ends."""
    emit, clock = part.step, plan.study.clock
    last = emit.begin + emit.life * (1 + emit.life_variation)
    end = clock.seconds(clock.end)
    if renewed or emit.timing != "all at once" or last >= end or "life" in part.varying:
        return []
    return [Finding(
        "note", "die_early", f"{part.where}.life",
        f"all are dead after {last:.3g} s, and the clock has {end:.3g} s", "a longer life, or Respawn",
        set_param(f"Life {end:.3g} s", f"{part.where}.life", float(f"{end * 1.05:.3g}")), True,
    )]  # fmt: skip


LONG = 1.0
"""Details of the field that a step may be long."""


def _long_steps(plan: Plan, part: Placed, readings: dict[str, Reading]) -> list[Finding]:
    """Steps that jump over the detail of what they are carried by."""
    carry, numbers, clock = part.step, readings.get(part.step.field), plan.study.clock
    node = plan.at(0.0).lane(carry.field)
    if numbers is None or not node.feature_known or carry.longest:
        return []
    way, detail = numbers.rms * clock.step / max(1, carry.substeps), node.feature
    if not way > LONG * detail:
        return []
    need = math.ceil(way * carry.substeps / (LONG * detail))
    return [Finding(
        "warning", "long_steps", f"{part.where}.substeps",
        f"a step is {way:.2g} m long (at rms speed), and the field's detail {detail:.2g} m",
        f"{need} substeps follow it" if need <= MOST_SUBSTEPS else "slower, or with larger detail",
        set_param(f"{need} substeps", f"{part.where}.substeps", need) if need <= MOST_SUBSTEPS else None, True,
    )]  # fmt: skip


MOST_SUBSTEPS = 64


def _outside_baked(plan: Plan, carry: Placed, emits: list[Placed]) -> list[Finding]:
    """Births where a lane that is baked with nothing outside is nothing."""
    scene = plan.at(0.0)
    step = scene.lane(carry.step.field).step
    if not isinstance(step, GriddedChange) or step.outside != "zero":
        return []
    grid, found = scene.region(step.region), []
    low, high = np.array(grid.lower), np.array(grid.lower) + np.array(grid.shape) * grid.voxel_size
    for part in emits:
        emit = part.step
        if emit.alongside or not emit.shape or emit.where not in ("surface", "volume"):
            continue
        points = birth.places(emit, scene, scene, np.arange(TRIED), np.zeros(TRIED, np.float32))
        own = grid.to_own(np.ascontiguousarray(points.T, np.float32)).T
        outside = int(((own < low) | (own > high)).any(axis=1).sum())
        if outside > 0.02 * TRIED:
            found.append(Finding(
                "warning", "born_outside", f"{part.where}.shape",
                f"{100 * outside / TRIED:.0f} % of births lie outside of the region '{step.region}', where "
                f"'{carry.step.field}' is baked and 0 outside: they stand still",
                "a region that covers the emitter, or Outside: clamp", None, True,
            ))  # fmt: skip
    return found


def _carried(plan: Plan, where: str, lane: str, readings: dict[str, Reading]) -> list[Finding]:
    found = _no_speed(plan, where, lane)
    numbers = readings.get(lane)
    if not numbers or numbers.divergence is None or numbers.divergence <= SINKS:
        return found
    gathered = _gathered(plan.at(0.0), lane)
    if gathered is None or gathered.figure <= GATHERS:
        return found
    what = f"particles in '{lane}' gather {_times(gathered.figure)} after {gathered.travel:.2g} m"
    why = "it has sources and sinks: make it divergence-free, or mask and steer by the potential"
    fix = _potential_fix(plan, lane) or _solve_fix(plan, lane)
    return [*found, Finding("warning", "bunching", where, what, why, fix, True)]


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
    params = {"region": plan.study.regions[0].id}
    return append_step("Make it divergence-free", plan.study, lane, "divergence_free", params)


def _weighed(plan: Plan, part: Placed) -> list[Finding]:
    """Whether the weight of births is zero wherever they could be, at the beginning, half way and at the end."""
    emit, clock = part.step, plan.study.clock
    most = 0.0
    for frame in {clock.start, (clock.start + clock.end) // 2, clock.end}:
        scene = plan.at(max(clock.seconds(frame), 0.0))
        numbers = np.arange(TRIED)
        points = birth.places(emit, scene, scene, numbers, np.zeros(TRIED, np.float32))
        most = max(most, float(sample(scene.lane(emit.weight), points)[0].max()))
    if most > 0:
        return []
    return [Finding(
        "warning", "nobody_born", f"{part.where}.weight",
        f"the weight is zero at all of {TRIED} places on '{emit.shape}' (at most {most:.3g}): nothing is born",
        "look at the lane on the shape; births need a share above 0 somewhere", None, True,
    )]  # fmt: skip
