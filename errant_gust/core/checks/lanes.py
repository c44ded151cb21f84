"""Checks on field lanes and regions."""

import itertools

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import GustError
from errant_gust.core.fields.gridded import Gridded
from errant_gust.core.fields.made_shapes import made_shape
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.readings import Reading, reading, through
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.fields.solved import SolvedFlow, room_for
from errant_gust.core.fields.steps.steer import SteerAround
from errant_gust.core.fields.units import factor_fix, named, over, told_unit
from errant_gust.core.study.finding import Finding, broken_part, set_param


def region_findings(scene: Scene, id: str) -> list[Finding]:
    """What is wrong with a region: it cannot be made, is larger than the budget, or nothing uses it."""
    part = scene.study.find("regions", id, f"regions.{id}")
    try:
        scene.region(id).check(3, f"regions.{id}.voxel_size")
    except GustError as error:
        return [broken_part(error)]
    within = [f for f in scene.study.flows if any(s.params.get("region") == id for s in f.steps if s.on)]
    if isinstance(part.voxel_size, dict) and "keys" in part.voxel_size and within:
        what = f"is keyed, and '{within[0].id}' keeps the voxels that it begins with"
        where = f"regions.{id}.voxel_size"
        return [Finding("note", "voxels_are_keyed", where, what, "a number, or a region of its own for the flow")]
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


CUT = 1e-3
"""Share of a surface's triangles on the ends of its region, from which on it is told."""
THROUGH = FOLDED = 2e-3
"""Share of a surface in itself, or folded, from which on it is told: a sharp edge folds a little."""


def shape_findings(scene: Scene, id: str) -> list[Finding]:
    """What is likely wrong with a shape that lanes make: cut by its region, folded, through itself, inside out."""
    try:
        made = made_shape(scene.shape(id))
    except GustError as error:
        return [broken_part(error)]
    if made is None:
        return []
    where, found = f"shapes.{id}", []
    if made.flaws.get("cut", 0.0) > CUT:
        found.append(_cut(scene, id, made.flaws["cut"]))
    softer = "less of it, a lane with larger features, or a mask"
    if made.flaws.get("inside_out"):
        found.append(Finding("warning", "inside_out", f"{where}.amount", "is turned inside out by its lane", softer))
    if made.flaws.get("folded", 0.0) > FOLDED * len(made.drawn):
        count = int(made.flaws["folded"])
        found.append(Finding("warning", "folded", f"{where}.amount", f"{count:,} of its triangles are folded", softer))
    if made.flaws.get("through_itself", 0.0) > THROUGH:
        share = made.flaws["through_itself"]
        found.append(
            Finding(
                "warning",
                "through_itself",
                f"{where}.amount",
                f"goes through itself: {share:.1%} lies inside it",
                softer,
            )
        )
    return found


def _cut(scene: Scene, id: str, share: float) -> Finding:
    region = scene.shape(id).kind.region  # type: ignore[attr-defined]
    h = scene.region(region).voxel_size
    padding = scene.study.find("regions", region, f"regions.{region}").bounds.padding
    wider = float(f"{(padding if isinstance(padding, int | float) else 0) + 8 * h:.3g}")
    return Finding(
        "warning", "cut_by_region", f"shapes.{id}.region",
        f"is cut by its region: {share:.1%} of its triangles lie flat on the region's ends",
        "enlarge the region, or choose another level",
        set_param(f"Pad it by {wider:g} m", f"regions.{region}.padding", wider), True,
    )  # fmt: skip


def lane_findings(
    scene: Scene, id: str, low: Array, high: Array, readings: dict[str, Reading], cancel: Cancel | None
) -> list[Finding]:
    """What is wrong with a field lane, step by step, judged by readings over the box from `low` to `high` (3,) in m."""
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
                found.append(broken_part(error))
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
    found += into_shapes(scene, id, last)
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


def into_shapes(scene: Scene, id: str, last: Node) -> list[Finding]:
    """Whether the finished flow points into a shape that it steers around, and which term does."""
    if last.kind != "vector":
        return []
    found = []
    for shape_id in sorted(last.obstacles):
        shape = scene.shape(shape_id)
        if shape.moves or not shape.kind.bounded:
            continue
        share = through(last, shape, "around", SURFACE).share
        if share <= INTO:
            continue
        terms, here = [], last
        while here.incoming is not None and here.step.id != "steer_around":
            other = getattr(here.step, "field", None)
            if here.step.id in ("add", "subtract", "mix", "strongest", "replace") and isinstance(other, str):
                part = through(scene.lane(other), shape, "around", SURFACE).share
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
            f"'{lane}' is {told_unit(theirs)}, and what comes in is {told_unit(mine)}",
            f"the sum means nothing: a factor in {named(over(mine, theirs) or mine)} would mend it",
            factor_fix(node.scene.study, lane, over(mine, theirs)), True,
        )
    ]  # fmt: skip


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


def voxel_sizes(scene: Scene) -> list[Finding]:
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
