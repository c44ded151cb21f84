"""What is likely wrong with a liquid lane, and with a frame of it. Every finding says what would be right; where one
parameter mends it, the fix is a click."""

from typing import Any

import numpy as np

from errant_gust.core.fields.plan import Plan
from errant_gust.core.flows.boxed_findings import (
    TRIED,
    blurred,
    buried,
    domain_of,
    inside_of,
    left,
    meets_nothing,
    thinner,
)
from errant_gust.core.flows.liquid.flow import NOTHING, LiquidFlow
from errant_gust.core.flows.liquid.forces import Push
from errant_gust.core.flows.liquid.obstacles import Collide
from errant_gust.core.flows.liquid.sources import Source
from errant_gust.core.flows.liquid.steps import Domain
from errant_gust.core.flows.results import Frames
from errant_gust.core.flows.step import Placed
from errant_gust.core.study.finding import Finding, set_param

WATER = 2e-6  # m²/s; less is meant to be thin
STIFF = 2e4  # dt ν / h² from which liquid moves as one piece
FULL, GAINED = 0.9, 0.01  # shares


def lane_findings(plan: Plan, flow: LiquidFlow) -> list[Finding]:
    """What is likely wrong with a lane that can be opened."""
    parts = flow.parts(0.0)
    found: list[Finding] = []
    domain: Domain = parts[0].step
    if domain.along < 2:
        found.append(Finding(
            "warning", "few_particles", f"{parts[0].where}.along", "one particle a voxel is too few: holes open inside",
            "two along a voxel (eight in one) is what the accuracy is measured with",
            set_param("Two along a voxel", f"{parts[0].where}.along", 2),
        ))  # fmt: skip
    for part in parts:
        if isinstance(part.step, Source):
            found += _viscosity(flow, part) + _source(plan, flow, part)
        if isinstance(part.step, Collide):
            found += _walls(plan, flow, part)
    return [*found, *_twice(parts), *blurred(plan.at(0.0), parts, flow.domain.voxel_size)]


def _viscosity(flow: LiquidFlow, part: Placed) -> list[Finding]:
    h, dt = flow.domain.voxel_size, flow.clock.step
    if "viscosity" in part.varying:
        return []
    value = part.step.viscosity
    c = dt * value / h**2
    where = f"{part.where}.viscosity"
    if value > WATER and c < NOTHING:
        finer = np.sqrt(dt * value / NOTHING)
        return [Finding(
            "note", "grid_dominates", where,
            f"{value:g} m²/s is not seen with voxels of {h:.3g} m: they are more viscous than that",
            f"leave it at water's 1e-6, or take voxels of {finer:.2g} m", set_param("As thin as water", where, 1e-6),
            True,
        )]  # fmt: skip
    if c > STIFF:
        fits = float(f"{STIFF * h**2 / dt:.1g}")
        return [Finding(
            "note", "one_piece", where, f"{value:g} m²/s is so stiff that the liquid moves as one piece",
            f"with voxels of {h:.3g} m more than about {fits:g} looks the same",
            set_param(f"{fits:g} m²/s", where, fits), True,
        )]  # fmt: skip
    return []


def _source(plan: Plan, flow: LiquidFlow, part: Placed) -> list[Finding]:
    source: Source = part.step
    if not source.shaped or not source.shape:
        return []
    scene = plan.at(max(0.0, source.begin))
    shape = scene.shape(source.shape)
    if not shape.kind.bounded:
        return []
    where, h = f"{part.where}.shape", flow.domain.voxel_size
    lower, upper = shape.box
    found = []
    least = source.thickness if source.where == "shell" else float((upper - lower).min())
    if least < 2 * h:
        found.append(Finding(
            "warning", "thin_source", where, f"the source is {least:.3g} m thin, voxels are {h:.3g} m",
            "it drips; make it two voxels thick, or the voxels smaller",
        ))  # fmt: skip
    points = inside_of(shape)
    if not points.shape[1]:
        return found
    found += buried(scene, flow.parts(scene.time), where, points)
    filled = _filled(flow, shape)
    if filled > FULL:
        found.append(Finding(
            "warning", "full_domain", where, f"the source fills {filled:.0%} of the domain: nothing in it can move",
            "a smaller source, or a larger region",
        ))  # fmt: skip
    return found


def _filled(flow: LiquidFlow, shape: Any) -> float:
    """Share of the domain that is in a shape."""
    size = np.array(flow.domain.shape) * flow.domain.voxel_size
    own = np.array(flow.domain.lower) + np.random.default_rng(4).random((TRIED, 3)) * size
    points = flow.domain.to_scene(np.ascontiguousarray(own.T, np.float32))
    return float((shape.distance(points)[0] < 0).mean())


def _walls(plan: Plan, flow: LiquidFlow, part: Placed) -> list[Finding]:
    found, h = [], flow.domain.voxel_size
    scene = plan.at(0.0)
    for id, thin in thinner(scene, part.step.shapes, h):
        fits = float(f"{thin / 1.5:.2g}")
        region = flow.parts(0.0)[0].step.region
        found.append(Finding(
            "warning", "thin_wall", f"shapes.{id}",
            f"is {thin:.3g} m thin, voxels are {h:.3g} m: liquid gets through",
            "make it a voxel thick at least, or the voxels smaller",
            set_param(f"Voxel size {fits:g} m", f"regions.{region}.voxel_size", fits),
        ))  # fmt: skip
    return found


def _twice(parts: list[Placed]) -> list[Finding]:
    """Sources in one place at one time: the second finds it full."""
    seen: dict[str, Source] = {}
    found = []
    for part in parts:
        step = part.step
        if not isinstance(step, Source) or not step.shaped:
            continue
        first = seen.setdefault(step.shape, step)
        if first is not step and first.begin < step.until and step.begin < first.until and first.where == step.where:
            found.append(Finding(
                "warning", "same_place", f"{part.where}.shape", "another Source of the lane fills the same place",
                "the first fills it and the second finds it full: move one, or let it begin when the other stops",
            ))  # fmt: skip
    return found


def frame_findings(plan: Plan, id: str, frames: Frames, frame: int) -> list[Finding]:
    """What is wrong with a frame."""
    facts, domain = frames.facts(frame), domain_of(plan, id)
    found = left(domain, facts, facts.get("sourced", 0), "liquid")
    gained = facts.get("gained", 0.0)
    if abs(gained) > GAINED:
        found.append(Finding(
            "warning", "volume", domain, f"{abs(gained):.1%} of the volume was {'gained' if gained > 0 else 'lost'}",
            "smaller voxels, or a shorter longest way in a substep, keep it better",
        ))  # fmt: skip
    return found + meets_nothing(facts, Push.label, "liquid")
