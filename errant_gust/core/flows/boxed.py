"""Flows that are computed on voxels of a box: what their lanes, their Domains and their Sources have in common."""

from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows.alongside import Alongside
from errant_gust.core.flows.kind import LaneFlow, offering
from errant_gust.core.flows.step import Emits, Placed, placed_steps
from errant_gust.core.grids.region import GridRegion

SHAPED = ["inside", "shell"]
"""Places of a source that are those of a shape."""
EVERYWHERE = "everywhere"


class Sides:
    """Role of a Domain: which of its sides are open."""

    if TYPE_CHECKING:  # declared as parameters, in the words of the kind
        west: bool
        east: bool
        south: bool
        north: bool
        below: bool
        above: bool

    @property
    def open_low(self) -> tuple[bool, bool, bool]:
        """Whether the sides at low x, y and z are open."""
        return self.west, self.south, self.below

    @property
    def open_high(self) -> tuple[bool, bool, bool]:
        """Whether the sides at high x, y and z are open."""
        return self.east, self.north, self.above


class Fills(Emits):
    """Role of a Source: brings in what fills voxels, in or on a shape, around particles, or where a lane says."""

    if TYPE_CHECKING:
        where: str
        by: str
        flow: str
        colour: tuple[float, float, float]

    @property
    def shaped(self) -> bool:
        """Whether it fills a shape, and so has to name one."""
        return self.where in SHAPED

    def check_place(self, scene: Scene, where: str) -> None:
        """Raise a StudyError for a place that is not chosen or has no bounds, or a colour that is none."""
        if not all(0 <= c <= 1 for c in self.colour):
            raise StudyError(
                "a colour has three numbers from 0 to 1", where=f"{where}.colour", fix="for example 1 0.4 0"
            )
        if self.where == EVERYWHERE and not self.by:
            raise StudyError("no lane says where", where=f"{where}.by", fix="choose a scalar lane")
        if not self.shaped and self.where != EVERYWHERE:  # around the points of a flow
            if not self.flow:
                raise StudyError("no particles are chosen", where=f"{where}.flow", fix="choose a particle lane")
            offering(scene.study, self.flow, "points", f"{where}.flow")
        if self.where == "inside" and self.shape and not scene.shape(self.shape).kind.bounded:
            raise StudyError("fills a half space", where=f"shapes.{self.shape}", fix="use its shell, or a box")

    def missed(self, domain: GridRegion, scene: Scene) -> bool:
        """Whether it is a shape that stands still outside the domain."""
        return self.shaped and lies_outside(domain, scene, self.shape)


def lies_outside(domain: GridRegion, scene: Scene, shape: str) -> bool:
    """Whether a shape stands still outside a domain."""
    if not scene.shape(shape).kind.bounded or scene.keyed_shape(shape):
        return False
    low, high = np.array(domain.lower), np.array(domain.upper)
    lower, upper = (domain.axes.T @ corner for corner in scene.shape(shape).box)
    return bool(((np.maximum(lower, upper) < low) | (np.minimum(lower, upper) > high)).any())


class BoxedFlow(LaneFlow):
    """A lane that begins with a Domain and is stepped frame by frame. `sort` is also the word for what is in it."""

    begins: ClassVar[type]
    """Its Domain."""
    least: ClassVar[int] = 2
    """Voxels, at least, along every side."""
    brings: ClassVar[str] = "a Source"
    """The step that brings in what is in it."""

    def __init__(self, plan: Plan, id: str, *, quality: str = "full") -> None:
        super().__init__(plan, id, quality=quality)
        self._alongside: dict[str, Alongside] = {}

    def parts(self, time: float) -> list[Placed]:
        """The lane's steps that are on, with their values at a time; not those that draw from frames."""
        found = placed_steps(self.plan.at(time), self.lane, self.sort)
        return [p for p in found if p.step.family != "drawn"]

    def _begun(self) -> tuple[Scene, list[Placed]]:
        """The scene and the steps at the beginning, all of them found to work."""
        scene, parts = self.plan.at(0.0), self.parts(0.0)
        self._check_parts(parts)
        for part in parts:
            part.step.check(scene, part.where)
        return scene, parts

    def particles_of(self, flow: str, time: float) -> tuple[Array, Array]:
        """Where the points of a flow are at a time in seconds, and their velocities, (3, n) each, at the same
        quality."""
        if flow not in self._alongside:
            self._alongside[flow] = Alongside(self.plan, flow, self.quality, f"flows.{self.id}")
        return self._alongside[flow].at(time)

    def _check_parts(self, parts: list[Placed]) -> None:
        where = f"flows.{self.id}"
        if not parts or not isinstance(parts[0].step, self.begins):
            raise StudyError(f"a {self.sort} lane begins with a Domain", where=where, fix="put a Domain first")
        if sum(p.step.family == "domain" for p in parts) > 1:
            raise StudyError("there are two Domains", where=where, fix="take one out")
        if not any(isinstance(p.step, Emits) for p in parts):
            raise StudyError(f"nothing brings {self.sort} in", where=where, fix=f"add {self.brings}")

    def _box(self, scene: Scene, step: Any) -> GridRegion:
        """The voxels of a Domain at this quality."""
        found = scene.region(step.region)
        h = found.voxel_size * (step.preview_voxels if self.quality == "preview" else 1.0)
        made = GridRegion.over(np.array(found.lower), np.array(found.upper), h, found.turn)
        if min(made.shape) < self.least:
            raise StudyError(
                f"{' × '.join(map(str, made.shape))} voxels are too few for {self.sort}",
                where=f"regions.{step.region}.voxel_size", fix="smaller voxels, or a larger region",
            )  # fmt: skip
        return made

    @staticmethod
    def _sources_inside(domain: GridRegion, scene: Scene, parts: list[Placed]) -> None:
        for part in parts:
            if isinstance(part.step, Emits) and part.step.missed(domain, scene):
                raise StudyError(
                    f"the source '{part.step.shape}' lies outside the domain", where=f"{part.where}.shape",
                    fix="move it, or enlarge the region of the Domain",
                )  # fmt: skip
