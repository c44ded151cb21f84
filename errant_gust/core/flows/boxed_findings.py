"""What is likely wrong with any flow in a box: with its sources and walls, and with what left it."""

from collections.abc import Iterator
from typing import Any

import numpy as np

from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.step import Placed, blocked_by
from errant_gust.core.geometry.placed import PlacedShape
from errant_gust.core.study.finding import Finding, set_param
from errant_gust.core.study.parameters import references

TRIED = 1500  # points
BURIED = 0.9
"""Share of a source in obstacles, from which on nothing comes out."""
LEAVES = 0.01
"""Share of what came in that may leave through a side before it is told."""
MET = 1e-3
"""Share of what is there that a push has to reach."""
SIDES = ("−x", "+x", "−y", "+y", "below", "above")
OPENS = ("west", "east", "south", "north", "below", "above")


def inside_of(shape: PlacedShape, margin: float = 0.0) -> Array:
    """Points (3, n) anywhere in a shape, or nearer to it than a margin."""
    lower, upper = shape.box
    points = np.ascontiguousarray(np.random.default_rng(3).uniform(lower, upper, (TRIED, 3)).T.astype(np.float32))
    return np.ascontiguousarray(points[:, shape.distance(points)[0] < margin])


def buried(scene: Any, parts: list[Placed], where: str, points: Array) -> list[Finding]:
    """Whether a source, whose places are told by points (3, n), is inside what is in the way of the lane."""
    held = np.zeros(points.shape[1], bool)
    for id, side in blocked_by(parts):
        if side == "around":
            held |= scene.shape(id).distance(points)[0] < 0
    if not held.size or held.mean() <= BURIED:
        return []
    return [Finding(
        "warning", "buried_source", where, f"{held.mean():.0%} of the source is inside an obstacle: nothing comes out "
        "there", "move one of them, or let Collide leave the shape out",
    )]  # fmt: skip


def thinner(scene: Any, shapes: list[str], least: float) -> Iterator[tuple[str, float]]:
    """Which of the shapes are thinner than so many metres, and how thin they are."""
    for id in shapes:
        shape = scene.shape(id)
        if shape.kind.bounded:
            thin = float(np.subtract(*shape.box[::-1]).min())
            if thin < least:
                yield id, thin


READ = 3.0
"""Voxels that the stroke of a letter has to be wide to be read."""


def blurred(scene: Any, parts: list[Placed], voxel: float) -> Iterator[Finding]:
    """Outlines whose strokes voxels of a full run (m) show, and those of a preview do not."""
    coarser = max((getattr(p.step, "preview_voxels", 1.0) for p in parts), default=1.0)
    for part in parts:
        for name, kind, id in references(part.step):
            stroke = scene.lane(id).stroke if kind == "field" else None
            if stroke is not None and stroke < READ * voxel * coarser:
                yield Finding(
                    "note", "blurred_outline", f"{part.where}.{name}",
                    f"strokes of '{id}' are about {stroke:.2g} m: {stroke / voxel / coarser:.1f} voxels of a preview, "
                    f"{stroke / voxel:.1f} of a full run",
                    f"letters are read from {READ:g} voxels on: smaller voxels, or a larger outline", None, True,
                )  # fmt: skip


def domain_of(plan: Plan, id: str) -> str:
    """Where the Domain of a lane stands: its first step that is on."""
    lane = plan.study.find("flows", id, f"flows.{id}")
    first = next((s for s in lane.steps if s.on), None)
    return f"flows.{id}.{first.id}" if first else f"flows.{id}"


def left(domain: str, facts: dict[str, Any], came: int, what: str) -> list[Finding]:
    """What of all that came in has left, through which side; `what` is the word for it."""
    found = []
    for side, opens, out in zip(SIDES, OPENS, facts.get("gone", []), strict=False):
        share, cubic = out / max(1, came), out * facts.get("spacing", 0.0) ** 3
        if share > LEAVES:
            through = f"at {side}" if side[-1] in "xyz" else side
            found.append(Finding(
                "warning", "leaves", f"{domain}.{opens}",
                f"{share:.1%} of the {what} ({cubic:.2g} m³) left the region {through}",
                "a larger region holds it, or close that side", set_param("Close it", f"{domain}.{opens}", False), True,
            ))  # fmt: skip
    return found


def meets_nothing(facts: dict[str, Any], label: str, what: str) -> list[Finding]:
    """Pushes that reach nothing of what is there."""
    return [
        Finding(
            "warning", "meets_nothing", where, f"{label} meets no {what}: its field is zero where the {what} is",
            f"look at the field on a slice through the {what}, or take 'Only where' out",
        )
        for where, share in facts.get("met", {}).items() if share < MET and facts.get("count", 0)
    ]  # fmt: skip
