"""Looking: shapes to draw, swatches, probe samples, flow lines, readings, checks. Documents come with the call."""

import logging
from typing import Any, Literal

import numpy as np
from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema
from pydantic import ConfigDict
from pydantic import Field as Bound

from errant_gust.core.checks import Finding, findings, findings_on_frame
from errant_gust.core.errors import GustError
from errant_gust.core.fields import look, readings
from errant_gust.core.fields.examples import example
from errant_gust.core.fields.examples import figures as figures_of
from errant_gust.core.fields.extent import domain
from errant_gust.core.fields.gridded import WORKING
from errant_gust.core.fields.made_shapes import made_shape
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.sampling import sample
from errant_gust.core.fields.scene import Scene
from errant_gust.core.geometry.surface_samples import surface_samples
from errant_gust.core.grids.region import GridRegion, budget
from errant_gust.core.runs.cost import cost_of
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.identity import run_identity
from errant_gust.core.study.registry import FIELD, steps_of
from errant_gust.server import runs
from errant_gust.server.api.schemas import CheckOut, CostOut, ReadingOut, ValueOut
from errant_gust.server.api.turns import DRAGS, READS, SEES, Asking, taking_turns
from errant_gust.server.arrays import reply
from errant_gust.server.models import Run
from errant_gust.server.newest import Turn
from errant_gust.server.plans import plan_of

router = Router()
FAULTS = (GustError, ValueError, ArithmeticError, OSError, RecursionError)
"""What one part of a study may run into: it stays with that part, the others are looked at."""


def told(error: Exception) -> str:
    """In words; what nobody foresaw is also written to the log."""
    if isinstance(error, GustError):
        return str(error)
    logging.getLogger("errant_gust").warning("a part could not be looked at", exc_info=error)
    return f"cannot be computed ({str(error)[:160] or type(error).__name__})"


Vec = tuple[float, float, float]


class Looking(Asking):
    study: str
    document: dict[str, Any]
    time: float = 0.0

    def scene(self) -> Scene:
        """The study at the time asked for, which is no later than its clock ends."""
        plan = plan_of(self.study, self.document)
        clock = plan.study.clock
        return plan.at(min(max(self.time, 0.0), clock.seconds(clock.end)))


class Place(Schema):
    """A step of a lane, or the end of the lane."""

    model_config = ConfigDict(allow_inf_nan=False)

    lane: str
    step: str | None = None
    before: bool = False

    def node_of(self, scene: Scene) -> Node | None:
        """The lane after the step (or before it); None if no step is on there: an empty lane is no error."""
        steps = scene.steps(self.lane)
        if self.step is None:
            return steps[-1][1] if steps else None
        lane = scene.study.find("fields", self.lane, "lane")
        order = [s.id for s in lane.steps]
        at = order.index(self.step) if self.step in order else len(order) - 1
        wanted = order[: at if self.before else at + 1]
        found = [node for id, node in steps if id in wanted]
        return found[-1] if found else None


class StepLooking(Place, Looking):
    def node(self) -> Node | None:
        return self.node_of(self.scene())


class Rectangle(Schema):
    """A corner, and the edges from it, in metres."""

    model_config = ConfigDict(allow_inf_nan=False)

    origin: Vec
    u: Vec
    v: Vec

    def window(self) -> look.Window:
        return look.Window(self.origin, self.u, self.v)


class Cells(Rectangle):
    """Where to sample: a rectangle in cells, or several layers of it along w."""

    columns: int = Bound(128, ge=1, le=512)
    rows: int = Bound(128, ge=1, le=512)
    w: Vec | None = None
    layers: int = Bound(1, ge=1, le=32)

    @property
    def shape(self) -> tuple[int, ...]:
        return ((self.layers,) if self.w is not None else ()) + (self.rows, self.columns)

    def points(self) -> Array:
        """Middles (n, 3) of the cells."""
        if self.w is None:
            return self.window().points(self.columns, self.rows)
        step = np.array(self.w) / self.layers
        starts = [np.array(self.origin) + step * (n + 0.5) for n in range(self.layers)]
        planes = [look.Window((s[0], s[1], s[2]), self.u, self.v).points(self.columns, self.rows) for s in starts]
        return np.concatenate(planes)


class ProbePart(Place):
    slice: Cells
    glyphs: Cells | None = None


class Probe(ProbePart, StepLooking):
    pass


class Swatches(Looking):
    size: int = Bound(48, ge=8, le=128)
    axis: int = Bound(2, ge=0, le=2)
    share: float = Bound(0.5, ge=0, le=1)
    probe: ProbePart | None = None  # answered along with the swatches: an edit changes both


class OnShape(StepLooking):
    shape: str
    count: int = Bound(600, ge=10, le=5000)


class Lines(StepLooking):
    seeds: list[Vec] = Bound(max_length=4000)
    length: float = Bound(2.0, gt=0, le=1000)
    steps: int = Bound(60, ge=2, le=400)


class ReadingOf(StepLooking):
    """Numbers over the region, or over a plane or the surface of a shape."""

    plane: Rectangle | None = None
    shape: str = ""


class Spot(StepLooking):
    point: Vec


class Checking(Looking):
    run: str | None = None
    frame: int | None = None


@router.post("/look/shapes")
@taking_turns(DRAGS)
def shapes(request: HttpRequest, body: Looking) -> HttpResponse:
    """Triangles of every shape at the time, and the boxes and costs of the regions."""
    scene = body.scene()
    facts: dict[str, Any] = {"shapes": [], "regions": [], "budget": budget(), "errors": {}}
    arrays: dict[str, Array] = {}
    for part in scene.study.shapes:
        try:
            shape = scene.shape(part.id)
            vertices, faces = shape.surface
            low, high = shape.box
        except FAULTS as error:
            facts["errors"][f"shapes.{part.id}"] = told(error)
            continue
        facts["shapes"].append(
            {
                "id": part.id, "lower": low.tolist(), "upper": high.tolist(), "bounded": shape.kind.bounded,
                "about": made.about if (made := made_shape(shape)) else "",
            }
        )  # fmt: skip
        arrays[f"{part.id}.vertices"] = vertices
        arrays[f"{part.id}.faces"] = faces.astype(np.int32)
    for region in scene.study.regions:
        try:
            grid = scene.region(region.id)
        except FAULTS as error:
            facts["errors"][f"regions.{region.id}"] = told(error)
            continue
        facts["regions"].append(
            {
                "id": region.id, "lower": grid.corners.min(axis=0).tolist(), "upper": grid.corners.max(axis=0).tolist(),
                "corners": grid.corners.tolist(), "bounds": _bounds(grid), "cells": region.cells, "shape": grid.shape,
                "voxel_size": grid.voxel_size, "voxels": grid.voxels, "bytes": grid.bytes(3),
                "given": region.bounds.model_dump(include={"lower", "upper", "more_below", "more_above"}),
            }
        )  # fmt: skip
        try:
            grid.check(3, f"regions.{region.id}.voxel_size")
        except GustError as error:
            facts["errors"][f"regions.{region.id}"] = str(error)
    return reply(facts, arrays)


def _bounds(grid: GridRegion) -> dict[str, list[float]]:
    """Corners that, written into the study, give the same box where it is and as it is turned."""
    low, high = np.array(grid.lower), np.array(grid.upper)
    middle, half = grid.axes @ (0.5 * (low + high)), 0.5 * (high - low)
    return {"lower": (middle - half).tolist(), "upper": (middle + half).tolist()}


@router.post("/look/swatches")
@taking_turns(DRAGS)
def swatches(request: HttpRequest, body: Swatches) -> HttpResponse:
    """A picture after every step of every lane, on one slice; errors by place. Newest request wins."""
    scene, turn = body.scene(), body.turn()
    facts: dict[str, Any] = {"size": body.size, "steps": [], "errors": {}}
    arrays: dict[str, Array] = {}
    window = look.swatch_window(scene, body.axis, body.share)
    facts["window"] = {"origin": window.origin, "u": window.u, "v": window.v}
    for lane in scene.study.fields:
        try:
            steps = scene.steps(lane.id)
        except FAULTS as error:
            facts["errors"][getattr(error, "where", "") or f"fields.{lane.id}"] = told(error)
            continue
        sound: list[tuple[str, Node]] = []
        for step, node in steps:
            try:
                node.prepare(turn.superseded)
                sound.append((step, node))
            except FAULTS as error:
                facts["errors"][f"fields.{lane.id}.{step}"] = told(error)
        try:
            made = look.swatches([node for _, node in sound], window, body.size, cancel=turn.superseded)
        except FAULTS as error:
            facts["errors"][getattr(error, "where", "") or f"fields.{lane.id}"] = told(error)
            continue
        for (step, node), values in zip(sound, made, strict=True):
            arrays[f"{lane.id}.{step}"] = values
            facts["steps"].append(
                {"lane": lane.id, "step": step, "kind": node.kind, "low": float(values.min()),
                    "high": float(values.max()),
                    "unit": look.unit_of(node)}
            )  # fmt: skip
    if body.probe:
        try:
            facts["probe"], seen = _probed(body.probe, body.probe.node_of(scene), turn)
            arrays.update({f"probe.{name}": array for name, array in seen.items()})
        except FAULTS as error:
            facts["probe"] = {"kind": "none", "error": told(error)}
    return reply(facts, arrays)


@router.post("/look/probe")
@taking_turns(DRAGS)
def probe(request: HttpRequest, body: Probe) -> HttpResponse:
    """The field on a rectangle, as magnitudes `values` (rows, columns); for glyphs `vectors` (…, 3), if it has any."""
    return reply(*_probed(body, body.node(), body.turn()))


def _probed(body: ProbePart, node: Node | None, turn: Turn) -> tuple[dict[str, Any], dict[str, Array]]:
    if node is None:
        return {"kind": "none"}, {}
    glyphs = body.glyphs if node.kind == "vector" else None
    places = [body.slice.points()] + ([glyphs.points()] if glyphs else [])
    values, _ = sample(node, np.concatenate(places), cancel=turn.superseded)
    plane = look.size_of(values[: len(places[0])])
    seen = look.size_of(values[len(plane) :]) if glyphs is not None and glyphs.w is not None else plane
    facts = {"kind": node.kind, "unit": look.unit_of(node), "low": float(seen.min()), "high": float(seen.max())}
    arrays = {"values": plane.reshape(body.slice.shape).astype(np.float32)}
    if glyphs:
        arrays["vectors"] = values[len(plane) :].reshape(*glyphs.shape, 3)
    return facts, arrays


@router.post("/look/surface")
@taking_turns(SEES)
def surface(request: HttpRequest, body: OnShape) -> HttpResponse:
    """The field on a shape's surface: values at its vertices, and vectors at evenly spread points with normals."""
    node, turn = body.node(), body.turn()
    shape = body.scene().shape(body.shape)
    if node is None:
        return reply({"kind": "none"}, {})
    vertices, faces = shape.surface
    values, _ = sample(node, vertices, cancel=turn.superseded)
    size = np.linalg.norm(values, axis=1) if node.kind == "vector" else values
    facts = {"kind": node.kind, "unit": look.unit_of(node), "low": float(size.min()), "high": float(size.max())}
    arrays = {"vertices": vertices, "faces": faces, "values": size.astype(np.float32)}
    if node.kind == "vector":
        points, normals = surface_samples(vertices, faces, body.count)
        arrays |= {"points": points, "normals": normals, "vectors": sample(node, points, cancel=turn.superseded)[0]}
    return reply(facts, arrays)


@router.post("/look/lines")
@taking_turns(SEES)
def lines(request: HttpRequest, body: Lines) -> HttpResponse:
    """Flow lines from seeds, and the speed along them."""
    node, turn = body.node(), body.turn()
    if node is None or node.kind != "vector" or not body.seeds:
        return reply({"kind": "none" if node is None else node.kind}, {})
    seeds = np.array(body.seeds, np.float32)
    made = look.flow_lines(node, seeds, length=body.length, steps=body.steps, cancel=turn.superseded)
    values, _ = sample(node, made.reshape(-1, 3), cancel=turn.superseded)
    speed = np.linalg.norm(values, axis=1).reshape(made.shape[:2]).astype(np.float32)
    return reply(
        {"kind": "vector", "low": float(speed.min()), "high": float(speed.max())}, {"lines": made, "speed": speed}
    )


@router.post("/look/reading", response=ReadingOut, exclude_unset=True)
@taking_turns(READS)
def reading(request: HttpRequest, body: ReadingOf) -> Any:
    """Numbers of a step over the region, a plane or a shape's surface, with a histogram of its values and of what comes
    in."""
    node, turn = body.node(), body.turn()
    if node is None:
        return {"kind": "none"}
    scene = body.scene()
    low, high = domain(scene)
    over = None
    if body.shape:
        over = readings.on_shape(scene.shape(body.shape))
    elif body.plane is not None:
        over = readings.on_plane(body.plane.window())
    found = readings.reading(node, low, high, over=over, cancel=turn.superseded, gathers=True).as_dict()
    before = node.incoming
    if before is not None and before.kind == "scalar" and node.kind == "scalar":
        came = readings.reading(before, low, high, over=over, side=14, cancel=turn.superseded)
        found["incoming"] = {"low": came.low, "high": came.high, "histogram": came.histogram}
    return found


@router.get("/look/examples")
def examples(request: HttpRequest) -> HttpResponse:
    """A small picture of what every field step does."""
    found = {op: picture for op in steps_of(FIELD) if (picture := example(op)) is not None}
    response = reply({"size": 96}, found)
    response["Cache-Control"] = "private, max-age=3600"
    return response


@router.get("/look/examples/{op}")
def figures(request: HttpRequest, op: str) -> HttpResponse:
    """What each parameter of a field step does: arrays `parameter.n`, with its values."""
    size = 64
    made = figures_of(op, size)
    facts = {"size": size, "figures": [{"param": f.param, "values": [v for v, _ in f.pictures]} for f in made]}
    response = reply(facts, {f"{f.param}.{n}": p for f in made for n, (_, p) in enumerate(f.pictures)})
    response["Cache-Control"] = "private, max-age=3600"
    return response


@router.get("/look/working", response=dict[str, float])
def working(request: HttpRequest) -> Any:
    """Steps that are being computed now (solved, baked), and how far each is."""
    return dict(WORKING)


@router.post("/look/value", response=ValueOut, exclude_unset=True)
@taking_turns(DRAGS)
def value(request: HttpRequest, body: Spot) -> Any:
    """The value at one point."""
    node = body.node()
    if node is None:
        return {"kind": "none"}
    v, _ = sample(node, np.array([body.point], np.float32), cancel=body.turn().superseded)
    return {"kind": node.kind, "value": np.atleast_1d(v[0]).tolist(), "unit": look.unit_of(node)}


@router.post("/look/checks", response=list[CheckOut])
@taking_turns(READS)
def checks(request: HttpRequest, body: Checking) -> Any:
    """Findings on the study, and on a frame of a run if one is named."""
    plan, turn = plan_of(body.study, body.document), body.turn()
    found = [*_failed(plan), *findings(plan, cancel=turn.superseded)]
    if body.run and body.frame is not None:
        try:
            run = runs.get(body.run)
            store = RunStore(runs.folder_of(run.identity))
            found = found + findings_on_frame(plan, run.flow, store, body.frame)
        except FAULTS:  # it was taken away, or is damaged, which is told where it is shown: the study's findings stay
            logging.getLogger("errant_gust").info("frame %s of run %s is not checked", body.frame, body.run)
    return [f.as_dict() for f in found]


def _failed(plan: Plan) -> list[Finding]:
    """Runs of the flows as they stand that ended before their time, and why."""
    found = []
    for flow in plan.study.flows:
        try:
            names = [run_identity(plan.study, flow.id, quality, plan.assets) for quality in ("preview", "full")]
        except FAULTS:  # what it is is told by the findings on the study
            continue
        for run in Run.objects.filter(identity__in=names, state="failed"):
            what = f"the {run.quality} run failed: {run.message or 'nobody knows why'}"
            found.append(Finding("error", "run_failed", f"flows.{flow.id}", what, "run it again when it is mended"))
    return found


class Estimating(Looking):
    quality: Literal["preview", "full"] = "full"


@router.post("/look/estimate", response=dict[str, CostOut], exclude_unset=True)
@taking_turns(READS)
def estimate(request: HttpRequest, body: Estimating) -> Any:
    """What the run of each flow would cost at a quality, from frames that were measured."""
    plan = plan_of(body.study, body.document)
    result: dict[str, Any] = {}
    for flow in plan.study.flows:
        try:
            stores = runs.measured(body.study, plan, flow.id, body.quality)
            result[flow.id] = cost_of(plan, flow.id, body.quality, stores).as_dict()
        except FAULTS as error:
            result[flow.id] = {"error": told(error)}
    return result
