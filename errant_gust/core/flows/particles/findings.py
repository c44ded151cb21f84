"""What is likely wrong with a particle lane, and what is wrong with a frame of it."""

from typing import Any

import numpy as np

from errant_gust.core.errors import GustError
from errant_gust.core.fields.bunching import Bunching, bunching
from errant_gust.core.fields.extent import domain
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.readings import Reading
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.sampling import sample
from errant_gust.core.fields.scene import Scene
from errant_gust.core.fields.units import SPEED, factor_fix, named, over, told_unit
from errant_gust.core.flows.drawing import Draws
from errant_gust.core.flows.particles import birth
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
    moved = False
    for part in placed_steps(plan.at(0.0), lane, lane.kind):
        moved = moved or isinstance(part.step, Pushes | Draws)
        if isinstance(part.step, Emit) and part.step.weight and not part.step.alongside:
            found += _weighed(plan, part)
        if isinstance(part.step, Carries):
            found += _carried(plan, f"{part.where}.field", part.step.field, readings)
    if not moved and id not in used_flows(plan.study):  # points that others grow from or fill need no motion
        found.append(Finding("warning", "nothing_carries", f"flows.{id}", "nothing moves these particles", "add Carry"))
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
