"""What a delivery takes its files from: results of runs, and fields and shapes of a study on its clock's frames."""

import math
from abc import ABC, abstractmethod
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from errant_gust.core.errors import FileError, GustError, StudyError, nearest
from errant_gust.core.fields.look import unit_of
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.sampling import bake
from errant_gust.core.flows.drawing import Drawing, drawing_of
from errant_gust.core.flows.results import Form, Result, Volume
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.grids.grid import Grid
from errant_gust.core.making import lazy
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.export import FORMATS, Velocity, kind_of_run, plan_of_run, take
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.identity import engines
from errant_gust.core.runs.shape_files import level_set, level_set_region, mesh_data
from errant_gust.core.study import document
from errant_gust.core.study.depends import Depends

ON = "@"
"""Between a field and the region that it is written on: `wind@room`."""
SHAPES = (*FORMATS["mesh"], "vdb")
"""Formats of shapes; OpenVDB holds them as level sets."""


@dataclass(frozen=True)
class Item:
    """Something to hand over, and how it is written.

    A result of the run in the folder `run`, the kind's first if none is named; or, where `study` is a study's document,
    of that study the shape `result`, or the field of `field@region`, with `run` the folder of its files. The first
    format if none is named; `channels`: those that are wanted, all if none is named.
    """

    run: Path
    result: str = ""
    format: str = ""
    channels: tuple[str, ...] = ()
    study: dict[str, Any] | None = field(default=None, repr=False)


class Source(ABC):
    """What one item is taken from."""

    identity: str
    """Names the run, or the study as it was."""
    name: str
    """Of the flow, field or shape: `{flow}` of file names."""
    result: str
    """`{result}` of file names."""
    quality: str
    label: str
    form: Form
    formats: tuple[str, ...]
    clock: dict[str, Any]
    study: dict[str, Any]
    """The document of the study, as it was."""

    @property
    def fps(self) -> float:
        """Frames a second of what is shown."""
        return float(self.clock["fps"])

    @abstractmethod
    def frames(self) -> list[int]:
        """Frames that there are; of what never changes the first that is wanted stands for all."""

    @property
    def still(self) -> bool:
        """Whether every frame is the same."""
        return False

    def known(self, frame: int, channels: tuple[str, ...]) -> None:
        """Raise FileError for a channel that it has not."""
        if channels:
            raise FileError(f"{self.label} has no channels to choose from", where="channels", fix="leave them out")

    @abstractmethod
    def take(self, frame: int, format: str, channels: tuple[str, ...], velocity: Velocity) -> Any:
        """What is written of a frame: points, a volume, a mesh, lines or instances, in metres with z up."""

    @abstractmethod
    def size(self, frames: tuple[int, ...], format: str, channels: tuple[str, ...]) -> int:
        """Bytes of its arrays in memory over frames, about."""

    def origin(self) -> dict[str, Any]:
        """For the manifest: what it was made from, whole."""
        return {"flow": self.name, "quality": self.quality, "clock": self.clock, "study": self.study,
                "engines": self.engines()}  # fmt: skip

    @abstractmethod
    def engines(self) -> dict[str, int]:
        """Versions of what computed it."""


class RunSource(Source):
    """A result of a run."""

    def __init__(self, item: Item) -> None:
        self.store = RunStore(item.run)
        manifest = self.store.manifest()
        self.manifest = manifest
        self.of: Result = kind_of_run(self.store).result(item.result)
        self.identity, self.name, self.quality = manifest["identity"], manifest["flow"], manifest["quality"]
        self.result, self.label, self.form = self.of.name, self.of.label, self.of.form
        self.formats, self.clock, self.study = FORMATS[self.form], manifest["clock"], manifest["study"]

    def frames(self) -> list[int]:
        """Those that are complete. Raises FileError where there is none."""
        ready = self.store.frames()
        if not ready:
            raise FileError("has no frame yet", where=str(self.store.folder), fix="run it first")
        return ready

    def known(self, frame: int, channels: tuple[str, ...]) -> None:
        """Raise FileError for a channel that the frame has not."""
        if channels and not self.of.from_study:
            self.of.known(self.store, frame, channels)

    @lazy
    def _plan(self) -> Plan:
        return plan_of_run(self.store)

    def take(self, frame: int, format: str, channels: tuple[str, ...], velocity: Velocity) -> Any:
        """The result on the frame. Raises FileError for a frame that cannot be read."""
        drawing: Drawing | None = None
        if self.of.from_study:
            drawing = drawing_of(self.store, self._plan, self.name, frame)
        return take(self.store, frame, self.of, channels or None, velocity, drawing)

    def size(self, frames: tuple[int, ...], format: str, channels: tuple[str, ...]) -> int:
        """By a few of the frames; of what is drawn by what it is drawn from."""
        some = frames[:: max(1, len(frames) // 4)]
        drawn, prefix = self.of.from_study, self.of.prefix
        kept = {prefix + c for c in channels} if channels and not drawn else None
        total = 0
        for frame in some:
            names = self.store.names(frame)
            for name in names if drawn else self.of.own(names):
                if kept is None or name in kept or name.removeprefix(prefix) in ("position", "vertices", "faces"):
                    total += self.store.size(frame, name)
        return math.ceil(total * len(frames) / len(some))

    def engines(self) -> dict[str, int]:
        """As the run has them, or as they are where an early run says none."""
        walk = Depends(document.parse(self.study))
        walk.flow(self.name)
        return dict(self.manifest.get("engines", engines(walk.kinds)))


class StudySource(Source):
    """A field or a shape, as the study has it on every frame of its clock."""

    quality = "study"

    def __init__(self, item: Item) -> None:
        assert item.study is not None
        self.plan = plan_of(document.parse(item.study), Assets(item.run))
        self.study = document.dump(self.plan.study)
        self.identity = document.content_hash("study", self.study)[:32]
        self.clock = self.study["clock"]

    def frames(self) -> list[int]:
        """Those of the clock."""
        return list(range(self.plan.study.clock.start, self.plan.study.clock.end + 1))

    def _time(self, frame: int) -> float:
        return self.plan.study.clock.seconds(frame)

    @property
    def _start(self) -> float:
        return self._time(self.plan.study.clock.start)

    def engines(self) -> dict[str, int]:
        """Versions of fields, and of the flows that the study has."""
        return engines(sorted({f.kind for f in self.plan.study.flows}))


class FieldSource(StudySource):
    """A field lane in the middle of every voxel of a region."""

    def __init__(self, item: Item) -> None:
        super().__init__(item)
        self.name, _, self.region = item.result.partition(ON)
        scene = self.plan.at(self._start)
        self.node, box = scene.lane(self.name), scene.region(self.region)
        box.check(3 if self.node.kind == "vector" else 1, f"regions.{self.region}.voxel_size")
        self.result, self.form, self.formats = self.region, "volume", FORMATS["volume"]
        self.label = f"{self.name} on {self.region}"

    @property
    def still(self) -> bool:
        """Whether neither the field nor its region changes with time."""
        return not self.node.moves and not self.plan.study.find("regions", self.region, "region").follow

    def take(self, frame: int, format: str, channels: tuple[str, ...], velocity: Velocity) -> Volume:
        """The field on the frame: one grid, (nx, ny, nz) or (nx, ny, nz, 3), called as the lane."""
        scene = self.plan.at(self._time(frame))
        node, box = scene.lane(self.name), scene.region(self.region)
        return Volume(box, {self.name: Grid(box, bake(node, box), unit=unit_of(node))})

    def size(self, frames: tuple[int, ...], format: str, channels: tuple[str, ...]) -> int:
        """Of float32 voxels."""
        return 4 * self.plan.at(self._start).region(self.region).voxels * len(frames) * (
            3 if self.node.kind == "vector" else 1
        )  # fmt: skip


class ShapeSource(StudySource):
    """A shape: triangles with the velocity of its matter, or its level set."""

    def __init__(self, item: Item) -> None:
        super().__init__(item)
        self.name, self.result = item.result, "shape"
        self.form, self.formats = "mesh", SHAPES
        shape = self.plan.at(self._start).shape(self.name)
        self.label = f"the shape {shape.id}"

    @property
    def still(self) -> bool:
        """Whether it never moves and is no sequence of files."""
        return not self.plan.at(self._start).shape_moves(self.name)

    def take(self, frame: int, format: str, channels: tuple[str, ...], velocity: Velocity) -> Any:
        """The shape on the frame. Raises StudyError for one without end."""
        shape = self.plan.at(self._time(frame)).shape(self.name)
        if format == "vdb":
            grid = level_set(shape)
            return Volume(grid.region, {self.name: replace(grid, unit="m")})
        return mesh_data(shape)

    def size(self, frames: tuple[int, ...], format: str, channels: tuple[str, ...]) -> int:
        """By its first frame."""
        shape = self.plan.at(self._start).shape(self.name)
        if format == "vdb":
            return 4 * level_set_region(shape).voxels * len(frames)
        vertices, faces = shape.surface
        return (vertices.nbytes + faces.nbytes) * len(frames)


def source_of(item: Item) -> Source:
    """What an item is taken from. Raises FileError for a folder that is no run, StudyError for a field, region or shape
    that the study has not."""
    if item.study is None:
        return RunSource(item)
    return FieldSource(item) if ON in item.result else ShapeSource(item)


@dataclass(frozen=True)
class Offer:
    """A field on regions, or a shape, that a study has to give."""

    id: str
    name: str
    sort: str
    """field or shape."""
    holds: str = ""
    """What a field is: vector or scalar."""
    unit: str = ""
    regions: tuple[str, ...] = ()
    still: bool = False


def offers_of(plan: Plan) -> list[Offer]:
    """Fields and shapes of a study; those that cannot be built now, as its checks say, are left out."""
    clock, study = plan.study.clock, plan.study
    scene, made = plan.at(clock.seconds(clock.start)), []
    regions = tuple(r.id for r in study.regions)
    for lane in study.fields if regions else ():
        try:
            node = scene.lane(lane.id)
            made.append(Offer(lane.id, lane.name, "field", node.kind, unit_of(node), regions, not node.moves))
        except GustError:
            continue
    for part in study.shapes:
        try:
            scene.shape(part.id)
            made.append(Offer(part.id, part.name, "shape", still=not scene.shape_moves(part.id)))
        except GustError:
            continue
    return made


def items_of(
    sources: list[Path | Plan], results: list[tuple[str, str]], channels: tuple[str, ...] = ()
) -> list[Item]:  # fmt: skip
    """Items for results (name, format) of runs (folders) and of studies: each of all that offer it; of runs the first
    result where nothing is named. Raises StudyError for what nobody offers, or a study of which nothing is named."""
    offered: list[tuple[Item, list[str]]] = []
    for source in sources:
        if isinstance(source, Plan):
            folder, data = source.assets.folder or Path(), document.dump(source.study)
            names = [f"{lane.id}{ON}{region.id}" for lane in source.study.fields for region in source.study.regions]
            offered.append((Item(folder, study=data), [*names, *(part.id for part in source.study.shapes)]))
        else:
            offered.append((Item(source), [r.name for r in kind_of_run(RunStore(source)).results]))
    if not results:
        studies = [names for item, names in offered if item.study is not None]
        if studies:
            raise StudyError("nothing of the study is named", where="result", fix=nearest("", studies[0]))
        return [replace(item, channels=channels) for item, _ in offered]
    made = []
    for name, format in results:
        found = [item for item, names in offered if name in names or (not name and item.study is None)]
        if not found:
            known = sorted({n for _, names in offered for n in names})
            raise StudyError(f"no run or study offers '{name}'", where="result", fix=nearest(name, known))
        made += [replace(i, result=name, format=format, channels=() if i.study else channels) for i in found]
    return made
