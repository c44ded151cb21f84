"""A study at one moment: parameters resolved, shapes placed, lanes built into chains of nodes."""

from __future__ import annotations

import threading
from contextlib import suppress
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np

from errant_gust.core.errors import StudyError, nearest
from errant_gust.core.fields.flow_data import FlowData, NoFlows
from errant_gust.core.fields.made_shapes import made_of, moves
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.samples import Array, Kind
from errant_gust.core.geometry.made import Made, MadeShape
from errant_gust.core.geometry.placed import Growth, PlacedShape
from errant_gust.core.geometry.shapes import SHAPES, Assets, Geometry, ShapeKind
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.study import document
from errant_gust.core.study.depends import Depends
from errant_gust.core.study.document import content_hash
from errant_gust.core.study.parameters import Parameters, describe, references
from errant_gust.core.study.registry import FIELD, step_class
from errant_gust.core.study.turns import rotation
from errant_gust.core.study.values import FieldRef, Keys, Link

if TYPE_CHECKING:
    from errant_gust.core.fields.plan import Plan

P = TypeVar("P", bound=Parameters)
MOST_FITTED = 240  # frames that a region over all of them is fitted to
NUDGE = 1e-3  # seconds, for the velocity of keyed placements


@dataclass(frozen=True)
class Built:
    """A step with its values at one time, the lanes that stand in for numbers, and the integrals of its rates."""

    step: Any
    varying: dict[str, str]
    totals: dict[str, Any]
    keyed: bool


class _Building(threading.local):
    """Lanes that this thread is building, outermost first."""

    def __init__(self) -> None:
        self.lanes: list[str] = []


class Scene:
    """Everything a lane may look up, at `time` seconds after the first frame. Built once, then only read."""

    def __init__(self, study: document.Study, time: float, assets: Assets, plan: Plan | None = None) -> None:
        self.study, self.time, self.assets, self.plan = study, float(time), assets, plan
        self._lanes: dict[str, Node] = {}
        self._shapes: dict[str, PlacedShape] = {}
        self._contents: dict[str, str] = {}
        self._building = _Building()

    @property
    def data(self) -> FlowData:
        """What flows hold."""
        return self.plan.data if self.plan else NoFlows()

    def sibling(self, time: float) -> Scene:
        """The same study at another time."""
        return self.plan.at(time) if self.plan else Scene(self.study, time, self.assets)

    # parameters ------------------------------------------------------------------------------------------------

    def resolve(self, raw: Any, where: str, seen: tuple[str, ...] = ()) -> Any:
        """A plain value for a literal, keys or a link; a FieldRef stays one."""
        value = self.study.value(raw, where)
        if isinstance(value, Keys):
            return value.at(self.time)
        if isinstance(value, Link):
            return self._follow(value, where, seen, lambda raw, w, s: self.resolve(raw, w, s))
        return value

    def _total(self, raw: Any, where: str, seen: tuple[str, ...] = ()) -> Any:
        value = self.study.value(raw, where)
        if isinstance(value, Keys):
            return value.total(self.time)
        if isinstance(value, Link):
            return self._follow(value, where, seen, lambda raw, w, s: self._total(raw, w, s), plus=self.time)
        if isinstance(value, list | tuple):
            return tuple(v * self.time for v in value)
        return value * self.time

    def _follow(self, link: Link, where: str, seen: tuple[str, ...], then: Any, plus: float = 1.0) -> Any:
        if link.link in seen:
            path = " → ".join((*seen[seen.index(link.link) :], link.link))
            raise StudyError(f"the links go round in a circle ({path})", where=where, fix="give one of them a value")
        raw = self.study.raw(link.link, where)
        if raw is None:
            raw = self._default_of(link.link, where)
        value = then(raw, where, (*seen, link.link))
        if isinstance(value, FieldRef):
            raise StudyError(
                f"'{link.link}' is a field, which cannot be linked", where=where, fix="use the field itself"
            )
        if isinstance(value, tuple | list):
            return tuple(v * link.times + link.plus * plus for v in value)
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise StudyError(f"'{link.link}' is not a number", where=where, fix="link to a parameter with a number")
        return value * link.times + link.plus * plus

    def _default_of(self, path: str, where: str) -> Any:
        kind, *rest = path.split(".")
        if kind == "shapes":
            cls: Any = SHAPES.get(self.study.find("shapes", rest[0], where).kind)
        else:
            lane = self.study.find(kind, rest[0], where)
            op = next(step.op for step in lane.steps if step.id == rest[1])
            cls = step_class(op, FIELD if kind == "fields" else lane.kind, where)
        info = cls.model_fields.get(rest[-1]) if cls else None
        if info is None or info.is_required():
            raise StudyError(f"'{path}' names no parameter with a value", where=where)
        return info.get_default(call_default_factory=True)

    def _keyed(self, raw: Any, where: str, seen: tuple[str, ...] = ()) -> bool:
        value = self.study.value(raw, where)
        if isinstance(value, Link) and value.link not in seen:
            return self._keyed(self.study.raw(value.link, where), where, (*seen, value.link))
        return isinstance(value, Keys)

    def build(self, cls: type[P], params: dict[str, Any], where: str) -> Built:
        """An instance of a parameter class from raw values, or one error that names the place. Raises StudyError for
        what is not known, out of range or of the wrong type."""
        values, varying, totals, keyed = {}, {}, {}, False
        entries = {entry["name"]: entry for entry in describe(cls)}
        for name, raw in params.items():
            place = f"{where}.{name}"
            if name not in entries:
                raise StudyError(f"{cls.label} has no parameter '{name}'", where=place, fix=nearest(name, entries))
            value = self.resolve(raw, place)
            if isinstance(value, FieldRef):
                if entries[name]["type"] == "field":
                    value = value.field
                elif entries[name]["varies"]:
                    varying[name] = value.field
                    continue
                else:
                    raise StudyError(
                        "this parameter cannot be a field", where=place, fix="give a number, keys or a link"
                    )
            keyed = keyed or self._keyed(raw, place)
            values[name] = value
        try:
            step = cls.build(values, where)
        except (ArithmeticError, RecursionError) as error:  # a value that no number can hold
            raise StudyError(f"has a value that cannot be used ({error})", where=where) from None
        for name, entry in entries.items():
            if entry["rate"]:
                raw = params.get(name, entry["default"])
                totals[name] = self._total(raw, f"{where}.{name}")
        return Built(step, varying, totals, keyed)

    # shapes and regions ----------------------------------------------------------------------------------------

    def shape(self, id: str) -> PlacedShape:
        """A shape placed at this time, with its velocity and spin from its keys."""
        if id not in self._shapes:
            self._shapes[id] = self._place(id)
        return self._shapes[id]

    def _place(self, id: str) -> PlacedShape:
        part = self.study.find("shapes", id, f"shapes.{id}")
        where = f"shapes.{id}"
        if part.kind not in SHAPES:
            raise StudyError(
                f"'{part.kind}' is not a kind of shape", where=f"{where}.kind", fix=nearest(part.kind, SHAPES)
            )
        cls = SHAPES[part.kind]
        built = self.build(cls, part.params, where)
        kind: ShapeKind = built.step
        geometry = self._geometry(where, self._frame())
        velocity = spin = (0.0, 0.0, 0.0)
        growth = None
        if built.keyed:
            before, after = (
                Scene(self.study, self.time + dt, self.assets).build(cls, part.params, where).step
                for dt in (-NUDGE, NUDGE)
            )
            velocity = tuple((np.array(after.move) - np.array(before.move)) / (2 * NUDGE))
            turned = (rotation(after.turn) - rotation(before.turn)) / (2 * NUDGE) @ rotation(kind.turn).T
            spin = (turned[2, 1], turned[0, 2], turned[1, 0])
            if before.own_form() != after.own_form():
                growth = Growth((before, geometry), (after, geometry), 2 * NUDGE)
        if getattr(kind, "sequence", False):
            growth = self._deforming(kind, where)
        elif isinstance(kind, MadeShape) and self._made_moves(part):
            growth = self._remade(kind, where)
        return PlacedShape(id, kind, geometry, velocity, spin, growth)  # type: ignore[arg-type]

    def _remade(self, kind: MadeShape, where: str) -> Growth | None:
        """How a surface that a lane makes changes about now: between the frames before and after."""
        clock, frame = self.study.clock, self._frame()
        first, last = max(frame - 1, clock.start), min(frame + 1, max(clock.end, clock.start + 1))
        if first >= last:
            return None
        ends = [(kind, self._geometry(where, at)) for at in (first, last)]
        return Growth(ends[0], ends[1], (last - first) * clock.step)

    def _geometry(self, where: str, frame: int) -> Geometry:
        return Geometry(where, self.assets, frame, lambda kind, at: self._surface(kind, where, at))

    def _surface(self, kind: MadeShape, where: str, frame: int) -> Made:
        """What lanes make of a shape on a frame; on the first if it does not change."""
        id = where.split(".")[1]
        content = self.shape_content(id)
        there = self.sibling(self.study.clock.seconds(frame)) if moves(self, kind) else self
        return made_of(there, kind, where, content)

    def shape_content(self, id: str) -> str:
        """Hash of everything that a shape is made of, but the time; a StudyError if it is made of itself."""
        if id not in self._contents:
            self._goes_round(id)
            walk = Depends(self.study, lambda file: self.assets.stamp(file.name, file.where))
            walk.shape(id)
            clock = self.study.clock
            self._contents[id] = content_hash(walk.parts, clock.fps, clock.start, clock.slow_motion)
        return self._contents[id]

    def _goes_round(self, id: str) -> None:
        """Raise a StudyError if a shape that lanes make is among what they, or its region, are made of."""
        walk = Depends(self.study)
        with suppress(StudyError):  # what is missing is told where it is used
            walk.shape(id)
        for circle in walk.circles:
            if f"shape:{id}" in circle:
                path = " → ".join(part.split(":", 1)[1] for part in circle)
                raise StudyError(
                    f"the surface is made from what is made from the surface ({path})", where=f"shapes.{id}.field",
                    fix="take another lane or region, or let that one leave the shape alone",
                )  # fmt: skip

    def _fits_itself(self, region: str) -> None:
        """Raise a StudyError if a region is fitted to a surface that is looked for in it."""
        bounds = self.study.find("regions", region, f"regions.{region}").bounds
        for id in [*bounds.fit, *([bounds.floor] if bounds.floor else [])]:
            part = self.study.find("shapes", id, f"regions.{region}.bounds.fit")
            if "region" in part.params:
                self._goes_round(id)

    def _made_moves(self, part: document.Shape) -> bool:
        """Whether a shape is made by lanes and changes from frame to frame."""
        cls = SHAPES.get(part.kind)
        if cls is None or not issubclass(cls, MadeShape):
            return False
        self._goes_round(part.id)
        return moves(self, self.build(cls, part.params, f"shapes.{part.id}").step)

    def _frame(self) -> int:
        clock = self.study.clock
        return clock.start + int(np.floor(self.time * clock.fps * clock.slow_motion + 1e-6))

    def _deforming(self, kind: Any, where: str) -> Growth | None:
        """How a sequence of meshes changes about now: between the files of the frames before and after."""
        ends = [Geometry(where, self.assets, self._frame() + step) for step in (-1, 0, 1)]
        names = [g.named(kind.file, True) for g in ends]
        first, last = (0 if names[0] != names[1] else 1), (2 if names[2] != names[1] else 1)
        if first == last:
            return None
        return Growth((kind, ends[first]), (kind, ends[last]), (last - first) * self.study.clock.step)

    def region(self, id: str) -> GridRegion:
        """A region of voxels; fitted to where its shapes are on the first frame, or as `follow` and `over` say.
        Raises StudyError for a voxel size that is none, or a region that is not there."""
        where = f"regions.{id}"
        h = self.resolve(self.study.find("regions", id, where).voxel_size, f"{where}.voxel_size")
        if not isinstance(h, int | float) or h <= 0:
            raise StudyError(f"{h} is no voxel size", where=f"{where}.voxel_size", fix="right would be more than 0 m")
        lower, upper, turn = self.bounds(id)
        return GridRegion.over(lower, upper, float(h), turn)

    def bounds(self, id: str) -> tuple[Array, Array, tuple[float, float, float]]:
        """Lower and upper corner of a region along its own axes, before it is rounded up to whole voxels, and how
        these are turned. Corners (3,) in m, turns in degrees. Raises StudyError where a number or a shape of it
        cannot be used."""
        part = self.study.find("regions", id, f"regions.{id}")
        where = f"regions.{id}"
        padding = self.resolve(part.bounds.padding, f"{where}.padding")
        if not isinstance(padding, int | float):
            raise StudyError(
                f"{padding} is no padding", where=f"{where}.padding", fix="right would be a number in metres"
            )
        turn = self._turn(part, where)
        axes = rotation(turn)
        if part.bounds.fit:
            self._fits_itself(id)
            first = self if self.time == 0 or part.follow else self.sibling(0.0)
            boxes = [first.shape(shape).box for shape in part.bounds.fit]
            if part.over == "all frames" and not part.follow:
                boxes += self._boxes_over_time(part.bounds.fit)
            corners = np.array(
                [[box[bit][a] for a, bit in enumerate(bits)] for box in boxes for bits in np.ndindex(2, 2, 2)]
            )
            own = corners @ axes
            lower, upper = own.min(axis=0), own.max(axis=0)
        else:
            low, high = np.array(part.bounds.lower), np.array(part.bounds.upper)
            middle = 0.5 * (low + high) @ axes
            lower, upper = middle - 0.5 * (high - low), middle + 0.5 * (high - low)
        lower = lower - padding - np.array(part.bounds.more_below)
        upper = upper + padding + np.array(part.bounds.more_above)
        if part.bounds.floor:
            lower[2] = self._floor(part, axes, where)
        if (upper <= lower).any():
            left = "the padding leaves" if not part.bounds.floor else "the padding and the floor leave"
            raise StudyError(f"{left} nothing of the region", where=f"{where}.padding")
        return np.asarray(lower), np.asarray(upper), turn

    def _floor(self, part: document.Region, axes: Array, where: str) -> float:
        """Height at which a region ends below: that of a plane, or of the lowest point of a shape."""
        if abs(axes[2, 2] - 1) > 1e-9:
            raise StudyError(
                "a region that is tilted has no floor", where=f"{where}.floor", fix="turn it about z only, or take none"
            )
        self._fits_itself(part.id)
        first = self if self.time == 0 or part.follow else self.sibling(0.0)
        return float(first.shape(part.bounds.floor).box[0][2])

    def _boxes_over_time(self, ids: list[str]) -> list[tuple[Array, Array]]:
        """Boxes of shapes that move, on every frame (of a long clock on every n-th)."""
        clock = self.study.clock
        frames = np.unique(np.linspace(clock.start, clock.end, min(clock.end - clock.start + 1, MOST_FITTED)).round())
        moving = [id for id in ids if self.shape_moves(id)]
        return [self.sibling(clock.seconds(float(n))).shape(id).box for n in frames for id in moving]

    def keyed_shape(self, id: str) -> bool:
        """Whether a parameter of a shape is keyed or linked, or a lane that moves makes it."""
        part = self.study.find("shapes", id, f"shapes.{id}")
        return any(isinstance(raw, dict) for raw in part.params.values()) or self._made_moves(part)

    def shape_moves(self, id: str) -> bool:
        """Whether a shape is keyed, a sequence of files, or made by a lane that moves."""
        part = self.study.find("shapes", id, f"shapes.{id}")
        return (
            self._made_moves(part)
            or bool(part.params.get("sequence"))
            or any(self._keyed(raw, f"shapes.{id}.{name}") for name, raw in part.params.items())
        )

    def _turn(self, part: document.Region, where: str) -> tuple[float, float, float]:
        turn = self.resolve(part.turn, f"{where}.turn")
        if not isinstance(turn, list | tuple) or len(turn) != 3 or not all(isinstance(v, int | float) for v in turn):
            raise StudyError(f"{turn} is no turn", where=f"{where}.turn", fix="right would be degrees about x, y and z")
        return float(turn[0]), float(turn[1]), float(turn[2])

    def flow_identity(self, id: str) -> list[Any]:
        """Everything that decides what a flow carries: content of the parts it depends on, and the clock."""
        walk = Depends(self.study, lambda file: self.assets.stamp(file.name, file.where))
        walk.flow(id)
        clock = self.study.clock
        return [walk.parts, clock.fps, clock.start, clock.slow_motion]

    # lanes -----------------------------------------------------------------------------------------------------

    def lane(self, id: str) -> Node:
        """The last step of a field lane that is on. Raises StudyError where there is none, or the study has no such
        lane."""
        if id not in self._lanes:
            nodes = [node for _, node in self.steps(id)]
            if not nodes:
                raise StudyError(
                    "the lane has no step that is on", where=f"fields.{id}", fix="add a start, such as Wind"
                )
            self._lanes[id] = nodes[-1]
        return self._lanes[id]

    def steps(self, id: str) -> list[tuple[str, Node]]:
        """Every step of a lane that is on, with what the lane is after it. Raises StudyError for lanes that use each
        other in a circle, and for a step that cannot be built."""
        lane = self.study.find("fields", id, f"fields.{id}")
        building = self._building.lanes
        if id in building:
            path = " → ".join([*building[building.index(id) :], id])
            raise StudyError(
                f"the lanes use each other in a circle ({path})", where=f"fields.{id}", fix="take one use out"
            )
        building.append(id)
        try:
            nodes: list[tuple[str, Node]] = []
            for step in lane.steps:
                if step.on:
                    nodes.append((step.id, self._node(id, step, nodes[-1][1] if nodes else None)))
            return nodes
        finally:
            building.pop()

    def _node(self, lane: str, part: document.Step, incoming: Node | None) -> Node:
        where = f"fields.{lane}.{part.id}"
        cls: Any = step_class(part.op, FIELD, where)
        if cls.accepts == "nothing" and incoming is not None:
            raise StudyError(f"{cls.label} begins a lane, and something comes in here", where=where, fix="put it first")
        if cls.accepts != "nothing" and incoming is None:
            raise StudyError(
                f"{cls.label} changes a field, and nothing comes in", where=where, fix="put a start before it"
            )
        if incoming is not None and cls.accepts not in ("any", incoming.kind):
            raise StudyError(f"{cls.label} takes a {cls.accepts}, and a {incoming.kind} comes in", where=where)
        built = self.build(cls, part.params, where)
        lanes: dict[str, Kind] = {}
        for name, id in self._used_lanes(built):
            self.study.find("fields", id, f"{where}.{name}")
            lanes[name] = self.lane(id).kind
            if name in built.varying and lanes[name] != "scalar":
                raise StudyError(f"'{id}' is a vector; a scalar is needed here", where=f"{where}.{name}")
        for name, kind, id in references(built.step):
            if not id:
                continue
            if kind == "shape":
                self.study.find("shapes", id, f"{where}.{name}")
            elif kind in ("region", "flow"):
                self.study.find(f"{kind}s", id, f"{where}.{name}")
        try:
            gives = built.step.gives(incoming.kind if incoming else None, lanes)
        except ValueError as error:
            raise StudyError(str(error), where=where) from None
        return Node(built.step, incoming, self, gives, built.varying, built.totals, built.keyed, where)

    def _used_lanes(self, built: Built) -> list[tuple[str, str]]:
        named = [(name, id) for name, kind, id in references(built.step) if kind == "field"]
        return named + list(built.varying.items())
