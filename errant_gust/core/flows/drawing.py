"""What steps draw from frames: lines, points spread along them, instances of shapes.

They are worked out when they are asked for, and are no part of a run's identity: another length of a trail needs no
new run."""

from __future__ import annotations

import hashlib
from collections import OrderedDict
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np

from errant_gust.core.errors import FileError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows.results import Channel, Form, Frames, Lines, MeshData, Result
from errant_gust.core.study.document import Clock
from errant_gust.core.study.registry import step_class

KEPT = 96  # frames in memory while one is drawn
MOST_TRIANGLES = 300_000
"""As many are drawn in the view, by coarser meshes if need be; with ten times as many, points are shown instead."""
Read = Callable[[int], dict[str, Array]]
"""Channels of a frame of the run, as stored; raises FileError where there is none."""


@dataclass(frozen=True)
class Prototype:
    """A mesh that is placed many times: vertices (v, 3) about the origin with a largest side of 1, faces (f, 3)."""

    name: str
    vertices: Array
    faces: Array

    @property
    def key(self) -> str:
        """Names the content, so that who has it need not be sent it again."""
        return hashlib.sha256(self.vertices.tobytes() + self.faces.tobytes()).hexdigest()[:16]

    def coarser(self, cells: int) -> Prototype:
        """To look at: vertices in the same cell of a grid of so many along the longest side become one (Rossignac,
        Borrel 1993). There are three across what is thin, which would vanish otherwise."""
        v = self.vertices.astype(np.float64)
        low, size = v.min(axis=0), np.maximum(np.ptp(v, axis=0), 1e-9)
        many = np.maximum(np.ceil(cells * size - 1e-6), 3)
        cell = np.minimum(np.floor((v - low) / size * many), many - 1).astype(np.int64)
        _, owner = np.unique(cell, axis=0, return_inverse=True)
        owner = owner.reshape(-1)
        weight = np.bincount(owner).astype(np.float64)
        merged = np.stack([np.bincount(owner, self.vertices[:, k].astype(np.float64)) for k in range(3)], axis=1)
        faces = owner[self.faces]
        faces = faces[(faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 0] != faces[:, 2])]
        _, once = np.unique(np.sort(faces, axis=1), axis=0, return_index=True)
        return Prototype(
            self.name, (merged / weight[:, None]).astype(np.float32), faces[np.sort(once)].astype(np.int32)
        )


@dataclass(frozen=True)
class Instanced:
    """Instances: points (n, 3) in m, turns (n, 4) as quaternions w x y z, sizes (n,) in m, which prototype (n,)."""

    points: Array
    turns: Array
    sizes: Array
    which: Array
    prototypes: list[Prototype]
    channels: dict[str, Array]
    on: str = "points"

    def triangles(self, prototypes: list[Prototype]) -> int:
        """How many all instances have, with these meshes in place of their own."""
        return int(sum(int((self.which == i).sum()) * len(p.faces) for i, p in enumerate(prototypes)))

    def to_look_at(self, most: int) -> list[Prototype]:
        """The prototypes, coarser the more instances there are, so that all have about `most` triangles at most."""
        made = self.prototypes
        for cells in (24, 16, 10, 7, 5):
            if self.triangles(made) <= most:
                return made
            made = [p.coarser(cells) if len(p.faces) > 24 else p for p in self.prototypes]
        return made


@dataclass
class Drawing:
    """What the steps that draw work on: the frame, how to read others, and what has been made so far.

    varying and where are those of the step whose turn it is.
    """

    scene: Scene
    clock: Clock
    frame: int
    read: Read
    lines: list[Lines] = field(default_factory=list)
    spread: Lines | None = None
    tangents: Array | None = None
    instanced: Instanced | None = None
    mesh: MeshData | None = None
    frames: Frames | None = None
    varying: dict[str, str] = field(default_factory=dict)
    where: str = ""

    def names(self) -> list[str]:
        """Arrays of the frame."""
        return self.frames.names(self.frame) if self.frames is not None else []

    def read_some(self, names: tuple[str, ...]) -> dict[str, Array]:
        """Arrays of the frame by name, and no others: (n,), (n, k) or (nx, ny, nz), as the kind of flow stores them."""
        assert self.frames is not None
        return self.frames.read(self.frame, names)

    def facts(self) -> dict[str, Any]:
        """What is said of the frame."""
        return self.frames.facts(self.frame) if self.frames is not None else {}


class Draws:
    """Role of a step that draws from frames. `takes`: the form of result that it draws from."""

    takes: ClassVar[Form] = "points"

    def draw(self, d: Drawing) -> None:
        """Add to the drawing."""
        raise NotImplementedError


def drawing_of(frames: Frames, plan: Plan, flow: str, frame: int) -> Drawing:
    """What the drawing steps of the lane in `plan` make of a run's frames."""
    clock = plan.study.clock
    scene = plan.at(clock.seconds(frame))
    lane = plan.study.find("flows", flow, f"flows.{flow}")
    kept: OrderedDict[int, dict[str, Array]] = OrderedDict()

    def read(n: int) -> dict[str, Array]:
        if n not in kept:
            kept[n] = frames.read(n)
            while len(kept) > KEPT:
                kept.popitem(last=False)
        return kept[n]

    made = Drawing(scene, clock, frame, read, frames=frames)
    for part in lane.steps:
        where = f"flows.{flow}.{part.id}"
        cls: Any = step_class(part.op, lane.kind, where)
        if part.on and issubclass(cls, Draws):
            built = scene.build(cls, part.params, where)
            made.where, made.varying = where, built.varying
            built.step.check(scene, where)
            built.step.draw(made)
    return made


class DrawnResult(Result):
    """A result that steps of the lane draw; `by` are their labels, for who has none of them."""

    from_study = True

    def __init__(self, name: str, label: str, by: str) -> None:
        super().__init__(name, label)
        self.by = by

    def channels(self, names: Sequence[str]) -> list[Channel]:
        return []

    def of(self, drawing: Drawing) -> Any:
        """What was drawn of it, or None."""
        raise NotImplementedError

    def drawn(self, drawing: Drawing, flow: str) -> Any:
        """What was drawn of it; a FileError if no step did."""
        found = self.of(drawing)
        if found is None:
            raise FileError(f"the lane draws no {self.name}", where=f"flows.{flow}", fix=f"add {self.by}")
        return found


class DrawnLines(DrawnResult):
    form = "lines"

    def of(self, drawing: Drawing) -> Lines | None:
        return drawing.lines[-1] if drawing.lines else None


class DrawnPoints(DrawnResult):
    """Points on lines: `counts` tells how many are on each."""

    form = "points"

    def of(self, drawing: Drawing) -> Lines | None:
        return drawing.spread


class DrawnInstances(DrawnResult):
    form = "instances"

    def of(self, drawing: Drawing) -> Instanced | None:
        return drawing.instanced


class DrawnMesh(DrawnResult):
    form = "mesh"

    def of(self, drawing: Drawing) -> MeshData | None:
        return drawing.mesh
