"""What is likely wrong with a growth lane, and with a frame of it."""

import numpy as np

from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.boxed_findings import SIDES, buried, domain_of, inside_of, thinner
from errant_gust.core.flows.growth.flow import GrowthFlow
from errant_gust.core.flows.growth.motion import Carry, Spread, Stop
from errant_gust.core.flows.growth.seeds import Seed
from errant_gust.core.flows.growth.steps import Work
from errant_gust.core.flows.results import Frames
from errant_gust.core.flows.step import Placed
from errant_gust.core.grids.level_set import Speeds
from errant_gust.core.study.finding import Finding, set_param

SLOW = 1e-6  # m/s


def lane_findings(plan: Plan, flow: GrowthFlow) -> list[Finding]:
    """What is likely wrong with a lane that can be opened."""
    parts, h = flow.parts(0.0), flow.domain.voxel_size
    found: list[Finding] = []
    if not any(isinstance(p.step, Spread | Carry) for p in parts):
        found.append(Finding(
            "warning", "nothing_grows", f"flows.{flow.id}", "no step makes it grow",
            "add Spread, or Carry along a field",
        ))  # fmt: skip
    for part in parts:
        if not isinstance(part.step, Seed) or part.step.where != "shape":
            continue
        scene = plan.at(max(0.0, part.step.begin))
        shape = scene.shape(part.step.shape)
        where = f"{part.where}.shape"
        for _, thin in thinner(scene, [part.step.shape], 2 * h - 2 * part.step.larger):
            region = parts[0].step.region
            fits = float(f"{(thin + 2 * part.step.larger) / 2.5:.2g}")
            fix = set_param(f"Voxel size {fits:g} m", f"regions.{region}.voxel_size", fits) if fits > 0 else None
            found.append(Finding(
                "warning", "thin_source", where, f"the seed is {thin:.3g} m thin, voxels are {h:.3g} m",
                "what is thinner than two voxels is not seen: a larger seed, or smaller voxels", fix,
            ))  # fmt: skip
        points = inside_of(shape)
        if points.shape[1]:
            found += buried(scene, parts, where, points)
            found += _stands(plan, flow, part, points)
    return found


def _stands(plan: Plan, flow: GrowthFlow, seed: Placed, inside: Array) -> list[Finding]:
    """Whether nothing moves at the surface of a seed."""
    if seed.step.begin > 0 or seed.step.stays:
        return []
    scene = plan.at(0.0)
    shape = scene.shape(seed.step.shape)
    near = np.ascontiguousarray(inside[:, np.argsort(np.abs(shape.distance(inside)[0]))[:256]])
    parts, work = flow.parts(0.0), Work(flow, scene)
    made, free = Speeds(), np.ones(near.shape[1], np.float32)
    for part in parts:
        part.step.motion(part, work, near, made)
        share = part.step.share(part, work, near)
        free = free if share is None else free * share
    fast = np.zeros(near.shape[1])
    for values in (made.speed, made.flow, made.along):
        if values.size:
            fast += np.abs(values).reshape(-1, near.shape[1]).sum(axis=0)
    if float(fast.max()) * flow.domain.voxel_size < SLOW:
        if any(isinstance(p.step, Spread | Carry) for p in parts):
            return [Finding(
                "warning", "stands_still", f"{seed.where}.shape", "nothing moves at the surface of the seed",
                "look at the fields of its steps on a slice through the seed: they are zero there",
            )]  # fmt: skip
    elif float((fast * free).max()) * flow.domain.voxel_size < SLOW:
        stop = next(p.where for p in parts if isinstance(p.step, Stop))
        return [Finding(
            "warning", "stands_still", stop, "it stops the growth at the seed already",
            "another level, or the other side of it",
        )]  # fmt: skip
    return []


def frame_findings(plan: Plan, id: str, frames: Frames, frame: int) -> list[Finding]:
    """What is wrong with a frame."""
    facts, domain = frames.facts(frame), domain_of(plan, id)
    found = []
    ends = [side for side, n in zip(SIDES, facts.get("ends", []), strict=False) if n]
    if ends:
        found.append(Finding(
            "warning", "reaches_end", domain, f"it has reached the region's end ({', '.join(ends)}) and stops there",
            "a larger region lets it grow on",
        ))  # fmt: skip
    if not facts.get("count"):
        found.append(Finding(
            "warning", "nothing_left", f"flows.{id}", "there is nothing of it",
            "a seed that is thicker, less Smooth, or no Spread below zero",
        ))  # fmt: skip
    return found
