"""What the parts of a study depend on: the one walk for run identities, cached nodes, circles and files to pack.

Looks, names and lanes that nothing uses are in no walk, and neither are steps that only draw from frames.
"""

from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from typing import Any, Literal

from errant_gust.core.errors import StudyError
from errant_gust.core.study.document import Lane, Step, Study
from errant_gust.core.study.parameters import REFERENCES, Parameters, describe, flow_of
from errant_gust.core.study.registry import FIELD, shape_class, step_class, steps_of

Sort = Literal["field", "flow", "shape", "region"]


@dataclass(frozen=True)
class FileUse:
    """A file that a part names: where in the study, and whether it stands for one file a frame."""

    name: str
    where: str
    sequence: bool = False


DRAWN = ("lines", "mesh")
"""What may be in no frame, but drawn from frames by steps of the lane: who takes it depends on these, too."""
Stamp = Callable[[FileUse], Any]
"""What stands for a file's content in a hash."""


def by_name(file: FileUse) -> Any:
    """What files are sorted by."""
    return file.name


class Depends:
    """All that has been walked to, part by part: `parts` is JSON-like content by `field:gusts`, `shape:tower` …

    A file stands in it as `stamp` says. `circles`: paths of lanes that lead back to where they began.
    """

    def __init__(self, study: Study, stamp: Stamp = by_name) -> None:
        self.study, self.stamp = study, stamp
        self.parts: dict[str, Any] = {}
        self.files: list[FileUse] = []
        self.kinds: list[str] = []
        self.circles: list[tuple[str, ...]] = []
        self._path: list[str] = []

    def everything(self) -> "Depends":
        """Walk every part of the study, steps that draw or are off included (for packing)."""
        for shape in self.study.shapes:
            self.shape(shape.id)
        for region in self.study.regions:
            self.region(region.id)
        for field in self.study.fields:
            self.field(field.id)
        for flow in self.study.flows:
            self.flow(flow.id)
        for cls, step, where in all_steps(self.study):
            self._params(cls, step.params, where)
        return self

    def of(self, sort: str, id: str) -> None:
        """Walk to a part that a parameter of some sort names."""
        walk: dict[str, Callable[[str], None]] = {
            "field": self.field, "flow": self.flow, "shape": self.shape, "region": self.region,
        }  # fmt: skip
        walk[sort](id)

    def lane_steps(self, lane: Lane, sort: str, where: str) -> list[Any]:
        """Content of a lane's steps that are on, and of all they use."""
        described: list[Any] = []
        for step in lane.steps:
            if not step.on:
                continue
            cls: Any = step_class(step.op, sort, f"{where}.{step.id}")
            if cls.family == "drawn":  # worked out from the frames whenever it is looked at
                continue
            described.append([step.op, step.params])
            described += self._params(cls, step.params, f"{where}.{step.id}")
        return described

    def _params(self, cls: Any, params: dict[str, Any], where: str) -> list[Any]:
        """Walk to what parameters name; stamps of the files among them."""
        stamps = []
        for entry in describe(cls):
            raw = params.get(entry["name"])
            self._value(raw)
            if entry["files"] and isinstance(raw, str) and raw:
                stamps.append(self._file(FileUse(raw, f"{where}.{entry['name']}")))
            for sort, id in references_of(entry, raw):
                self.of(sort, id)
                if entry["provides"] in DRAWN:
                    self.drawn(id)
        return stamps

    def _file(self, file: FileUse) -> Any:
        self.files.append(file)
        return self.stamp(file)

    def _value(self, raw: Any) -> None:
        if isinstance(raw, dict) and "link" in raw:
            key = f"link:{raw['link']}"
            if key not in self.parts:
                self.parts[key] = target = self.study.raw(raw["link"], key)
                self._value(target)
        elif isinstance(raw, dict) and "field" in raw:
            self.field(raw["field"])

    def _entered(self, key: str) -> bool:
        """Whether a part is walked into now; a circle is noted."""
        if key in self._path:
            self.circles.append((*self._path[self._path.index(key) :], key))
        if key in self.parts:
            return False
        self.parts[key] = None
        return True

    def field(self, id: str) -> None:
        """Walk a field lane."""
        key = f"field:{id}"
        if self._entered(key):
            self._path.append(key)
            lane = self.study.find("fields", id, f"fields.{id}")
            self.parts[key] = self.lane_steps(lane, FIELD, f"fields.{id}")
            self._path.pop()

    def flow(self, id: str) -> None:
        """Walk a flow lane."""
        key = f"flow:{id}"
        if self._entered(key):
            self._path.append(key)
            lane = self.study.find("flows", id, f"flows.{id}")
            if lane.kind not in self.kinds:
                self.kinds.append(lane.kind)
            self.parts[key] = self.lane_steps(lane, lane.kind, f"flows.{id}")
            self._path.pop()

    def drawn(self, id: str) -> None:
        """Walk what a flow lane draws from its frames, for who depends on that."""
        key = f"drawn:{id}"
        if self._entered(key):
            self._path.append(key)
            lane = self.study.find("flows", id, f"flows.{id}")
            content: list[Any] = []
            for step in lane.steps:
                cls: Any = step_class(step.op, lane.kind, f"flows.{id}.{step.id}")
                if step.on and cls.family == "drawn":
                    content += [[step.op, step.params], *self._params(cls, step.params, f"flows.{id}.{step.id}")]
            self.parts[key] = content
            self._path.pop()

    def shape(self, id: str) -> None:
        """Walk a shape, with its file or files, and the lane and the region that make it."""
        key = f"shape:{id}"
        if not self._entered(key):
            return
        self._path.append(key)
        part = self.study.find("shapes", id, f"shapes.{id}")
        name = part.params.get("file")
        sequence = bool(part.params.get("sequence"))
        content = self._file(FileUse(name, f"shapes.{id}", sequence)) if isinstance(name, str) and name else None
        self.parts[key] = [part.kind, part.params, content]
        for raw in part.params.values():
            self._value(raw)
        for entry in describe(cls) if (cls := shape_class(part.kind)) else ():
            for sort, other in references_of(entry, part.params.get(entry["name"])):
                self.of(sort, other)
                if entry["provides"] in DRAWN:
                    self.drawn(other)
        self._path.pop()

    def region(self, id: str) -> None:
        """Walk a region, and the shapes that it is fitted to."""
        key = f"region:{id}"
        if not self._entered(key):
            return
        self._path.append(key)
        part = self.study.find("regions", id, f"regions.{id}")
        self.parts[key] = [part.bounds.content(), part.voxel_size, part.turn, part.follow, part.over]
        self._value(part.voxel_size)
        self._value(part.turn)
        self._value(part.bounds.padding)
        for shape in [*part.bounds.fit, *([part.bounds.floor] if part.bounds.floor else [])]:
            self.shape(shape)
        self._path.pop()


def all_steps(study: Study) -> Iterator[tuple[type[Parameters], Step, str]]:
    """Every step of every lane, on or off: its class, itself, its place; unknown ones are left out."""
    lanes = [*((FIELD, "fields", f) for f in study.fields), *((f.kind, "flows", f) for f in study.flows)]
    for sort, room, lane in lanes:
        known = steps_of(sort)
        for step in lane.steps:
            if step.op in known:
                yield known[step.op], step, f"{room}.{lane.id}.{step.id}"


def references_of(entry: dict[str, Any], raw: Any) -> Iterator[tuple[str, str]]:
    """(sort, id) of the parts that a parameter as it stands in the study names."""
    if entry["type"] in REFERENCES and isinstance(raw, str) and raw:
        yield entry["type"], flow_of(raw) if entry["type"] == "flow" else raw
    elif entry["type"] == "shapes" and isinstance(raw, list):
        for id in raw:
            yield "shape", id


def check_circles(study: Study, flow: str) -> None:
    """Raise a StudyError that tells the path if a flow depends on itself."""
    walk = Depends(study)
    with suppress(StudyError):  # what is missing is told where it is used
        walk.flow(flow)
    for circle in walk.circles:
        if f"flow:{flow}" not in circle:
            continue
        path = " → ".join(part.split(":", 1)[1] for part in circle)
        where = f"flows.{flow}"
        if all(part.startswith("flow:") for part in circle):
            raise StudyError(
                f"the flows are made from each other in a circle ({path})", where=where, fix="take one out"
            )
        raise StudyError(
            f"the flow '{flow}' is carried or pushed by a field that is made from it ({path})", where=where,
            fix="move it by another field",
        )  # fmt: skip


def used_flows(study: Study) -> set[str]:
    """Ids of the flows that a step of any lane names, or a shape: their points or frames serve others."""
    parts = [(cls, step.params) for cls, step, _ in all_steps(study)]
    parts += [(cls, shape.params) for shape in study.shapes if (cls := shape_class(shape.kind))]
    return {
        id
        for cls, params in parts
        for entry in describe(cls)
        for kind, id in references_of(entry, params.get(entry["name"]))
        if kind == "flow"
    }


def used_lanes(study: Study) -> set[str]:
    """Ids of the field lanes that a step of any lane names, on or off, or a shape."""
    used: set[str] = set()
    parts = [(cls, step.params) for cls, step, _ in all_steps(study)]
    parts += [(cls, shape.params) for shape in study.shapes if (cls := shape_class(shape.kind))]
    for cls, params in parts:
        for entry in describe(cls):
            raw = params.get(entry["name"])
            used |= {id for kind, id in references_of(entry, raw) if kind == "field"}
            if isinstance(raw, dict) and "field" in raw:
                used.add(raw["field"])
    return used
