"""What is likely wrong with a grain lane, and with a frame of it. Every finding says what would be right; where one
parameter mends it, the fix is a click."""

import math
from typing import Any

import numpy as np

from errant_gust.core.fields.plan import Plan
from errant_gust.core.flows.boxed_findings import buried, domain_of, inside_of, left, meets_nothing, thinner
from errant_gust.core.flows.grains.flow import CFL, GrainFlow
from errant_gust.core.flows.grains.forces import Push, SpeedLimit
from errant_gust.core.flows.grains.obstacles import Collide
from errant_gust.core.flows.grains.sources import Source
from errant_gust.core.flows.grains.steps import Domain
from errant_gust.core.flows.results import Frames
from errant_gust.core.flows.step import Placed
from errant_gust.core.study.finding import Finding, set_param

SINKS = 8.0
"""Stiffness over what weighs on the floor: with less sand sinks by more than an eighth."""
MANY = 0.5  # of the allowed substeps, from which on a frame is slow
REFUSED = 0.02
TIGHT = 1.5


def lane_findings(plan: Plan, flow: GrainFlow) -> list[Finding]:
    """What is likely wrong with a lane that can be opened."""
    parts = flow.parts(0.0)
    found = _stiffness(flow, parts) + _limit(flow, parts)
    for part in parts:
        if isinstance(part.step, Source):
            found += _source(plan, flow, part)
        if isinstance(part.step, Collide):
            found += _walls(plan, flow, part)
    return found


def _stiffness(flow: GrainFlow, parts: list[Placed]) -> list[Finding]:
    domain: Domain = parts[0].step
    where = f"{parts[0].where}.stiffness"
    weight, modulus = flow.weight(parts), flow.modulus
    found = []
    if domain.stiffness and modulus < SINKS * weight:
        found.append(Finding(
            "warning", "sinks", where,
            f"{domain.stiffness:g} kPa is too little for a region that is so high: sand at the bottom is pressed "
            f"together by {min(0.99, weight / modulus):.0%}",
            "0 finds what the height needs", set_param("By itself", where, 0.0),
        ))  # fmt: skip
    substeps = math.ceil(flow.clock.step * flow.sound / (CFL * flow.domain.voxel_size))
    if substeps > MANY * domain.most_substeps:
        h, seconds = flow.domain.voxel_size, flow.clock.step
        fits = float(f"{(MANY * domain.most_substeps * CFL * h / seconds) ** 2 * flow.density / 2e3:.2g}")
        least = SINKS * weight * flow.density / 1e3
        fix = set_param(f"{fits:g} kPa", where, fits) if domain.stiffness and fits >= least else None
        found.append(Finding(
            "warning", "many_substeps", where,
            f"{flow.modulus * flow.density / 1e3:,.4g} kPa of stiffness need {substeps} substeps a frame at this "
            "spacing", "less stiffness, a lower region, a larger spacing, or more frames a second", fix,
        ))  # fmt: skip
    return found


def _limit(flow: GrainFlow, parts: list[Placed]) -> list[Finding]:
    """A speed limit below what falling through the region gives."""
    height = max(flow.domain.upper[2] - flow.domain.lower[2], 0.0)
    pull = sum(float(np.linalg.norm(p.step.acceleration)) for p in parts if p.step.id == "gravity")
    gives = math.sqrt(2 * pull * height)
    found = []
    for part in parts:
        if isinstance(part.step, SpeedLimit) and "most" not in part.varying and part.step.most < 0.25 * gives:
            where = f"{part.where}.most"
            falls = part.step.most**2 / max(2 * pull, 1e-9)
            fits = float(f"{gives:.2g}")
            found.append(Finding(
                "note", "slow_fall", where,
                f"{part.step.most:g} m/s is what {falls:.2g} m of fall give; the region is {height:.2g} m high: what "
                "falls in it hangs in the air",
                "meant so, where a field draws sand up slowly; else a higher limit",
                set_param(f"{fits:g} m/s", where, fits), True,
            ))  # fmt: skip
    return found


def _source(plan: Plan, flow: GrainFlow, part: Placed) -> list[Finding]:
    source: Source = part.step
    found = []
    scene = plan.at(max(0.0, source.begin))
    if source.how == "at a rate":
        found += _overlap(flow, part, scene)
    if not source.shaped or not source.shape or not scene.shape(source.shape).kind.bounded:
        return found
    shape = scene.shape(source.shape)
    lower, upper = shape.box
    where = f"{part.where}.shape"
    if source.where == "inside" and float((upper - lower).min()) < 2 * flow.spacing:
        found.append(Finding(
            "warning", "thin_source", where,
            f"the source is {float((upper - lower).min()):.3g} m thin, grains stand {flow.spacing:.3g} m apart",
            "hardly any fit in: make it two grains thick, or the spacing smaller",
        ))  # fmt: skip
    points = inside_of(shape, source.margin + 1e-9)
    return found + buried(scene, flow.parts(scene.time), where, points)


def _overlap(flow: GrainFlow, part: Placed, scene: Any) -> list[Finding]:
    """More a second than its place has room for: grains would be born in one another."""
    source: Source = part.step
    room = max(source.holds(flow.domain, scene), flow.spacing**3)
    speed = max(float(np.linalg.norm(source.velocity)), 0.3)  # what falls out of its own weight, about
    clears = room ** (2 / 3) * speed
    found = []
    if source.rate > 2 * clears:
        fits = float(f"{clears:.2g}")
        found.append(Finding(
            "warning", "overlap", f"{part.where}.rate",
            f"{source.rate:g} m³/s come out where about {clears:.2g} m³/s find room: most are refused",
            "a larger shape, a velocity, or a lower rate", set_param(f"{fits:g} m³/s", f"{part.where}.rate", fits),
        ))  # fmt: skip
    if source.burst > 2 * room:
        fits = float(f"{room:.2g}")
        found.append(Finding(
            "warning", "overlap", f"{part.where}.burst",
            f"{source.burst:g} m³ at once do not fit into {room:.2g} m³: what is over is refused",
            "a larger shape, or less at once", set_param(f"{fits:g} m³", f"{part.where}.burst", fits),
        ))  # fmt: skip
    return found


def _walls(plan: Plan, flow: GrainFlow, part: Placed) -> list[Finding]:
    found = []
    for id, thin in thinner(plan.at(0.0), part.step.shapes, 2 * flow.spacing):
        fits = float(f"{thin / 3:.2g}")
        found.append(Finding(
            "warning", "thin_wall", f"shapes.{id}",
            f"is {thin:.3g} m thin, grains stand {flow.spacing:.3g} m apart: fast ones get through",
            "make it two grains thick at least, or the spacing smaller",
            set_param(f"Spacing {fits:g} m", f"{flow.parts(0.0)[0].where}.spacing", fits),
        ))  # fmt: skip
    return found


def frame_findings(plan: Plan, id: str, frames: Frames, frame: int) -> list[Finding]:
    """What is wrong with a frame."""
    facts, domain = frames.facts(frame), domain_of(plan, id)
    found = left(domain, facts, facts.get("born", 0), "sand")
    for where, (wanted, refused, walled) in facts.get("sources", {}).items():
        if refused > REFUSED * max(1, wanted):
            found.append(Finding(
                "warning", "overlap", where,
                f"{refused:,} of {wanted:,} grains found no room where they were to be born",
                "a larger source, a velocity, a lower rate, or lift it above the heap",
            ))  # fmt: skip
        if walled > REFUSED * max(1, wanted) and wanted:
            found.append(Finding(
                "warning", "buried_source", where, f"{walled / wanted:.0%} of the source is in an obstacle",
                "move one of them",
            ))  # fmt: skip
    if facts.get("tightest", 0.0) > TIGHT:
        found.append(Finding(
            "note", "tight", domain, f"somewhere grains are {facts['tightest']:.2g} times as tight as settled sand",
            "they make room within a few frames; if not, a weaker push",
        ))  # fmt: skip
    if facts.get("capped", 0):
        found.append(Finding(
            "warning", "capped", domain, f"a push is faster than steps in time can follow ({facts['capped']:,} times)",
            "a Speed limit behind it, or a weaker push",
        ))  # fmt: skip
    return found + meets_nothing(facts, Push.label, "sand")
