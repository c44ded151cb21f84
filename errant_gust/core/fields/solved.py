"""Steps that solve for a velocity on the faces of a region: divergence-free, potential flow."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from errant_gust.core.errors import SolverError
from errant_gust.core.fields.gridded import Gridded
from errant_gust.core.fields.near_walls import Sided, kept_out
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.samples import Array, At, Kind, Samples
from errant_gust.core.geometry.placed import PlacedShape
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.grids.staggered.faces import FaceGrid, Solved, Triple, face_points, project
from errant_gust.core.grids.staggered.poisson import BYTES_A_VOXEL

PAD = 2
CLEAR = 0.5  # voxels from a wall within which the speed through it is taken out


@dataclass(frozen=True)
class FaceField:
    """What is sampled: the flow with the walls' neighbours filled in, and how well it was solved."""

    grid: FaceGrid
    solved: Solved
    within: GridRegion
    walls: Sided

    @property
    def nbytes(self) -> int:
        """Bytes of its values."""
        return self.grid.nbytes


def room_for(box: GridRegion, where: str) -> None:
    """Refuse a region whose solver arrays would not fit the memory budget."""
    box.afford(BYTES_A_VOXEL, "solving", where)


def _faces_between(box: GridRegion, axis: int, start: int, stop: int) -> Array:
    return face_points(box, axis, np.arange(start, stop))


class SolvedFlow(Gridded):
    """A velocity on the faces of a region, sampled so that it has no divergence anywhere it has none in the cells."""

    unit = "m/s"

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return "vector"

    def _shapes(self, node: Node, ids: list[str]) -> list[PlacedShape]:
        return [node.scene.shape(id) for id in ids]

    def remark(self, node: Node) -> str:
        closed = getattr(self, "sides", "") == "closed"
        return "in the two outermost voxels of closed sides it has some divergence" if closed else ""

    def evaluate(self, at: At) -> Samples:
        field: FaceField = self.grid(at.node)
        made = Samples(*field.grid.sample(at.points, at.gradient))
        made = kept_out(made, at.points, field.walls, CLEAR * field.within.voxel_size)
        value, slope = made.value, made.gradient
        box = field.within
        own = box.to_own(at.points)
        low, high = np.array(box.lower, np.float32)[:, None], np.array(box.upper, np.float32)[:, None]
        inside = ((own >= low) & (own <= high)).all(axis=0)
        if inside.all():
            return Samples(value, slope)
        beyond = self.beyond(at)
        value = np.where(inside, value, beyond.value)
        return Samples(value, None if slope is None else np.where(inside, slope, beyond.slope))

    def beyond(self, at: At) -> Samples:
        """The field outside the region."""
        raise NotImplementedError

    def _project(self, node: Node, grid: FaceGrid, shares: Triple, **options: Any) -> Solved:
        try:
            return project(grid, shares, **options)
        except SolverError as error:
            raise error.under(node.where) from None

    def _boxes(self, node: Node, walled: bool) -> tuple[GridRegion, GridRegion]:
        """The region, and what is solved: two voxels more all round, so that sampling at the sides sees whole cells.

        Not where the sides are walls, which must stand where the region ends.
        """
        box = node.scene.region(self.region)
        if walled:
            return box, box
        h = PAD * box.voxel_size
        low = (box.lower[0] - h, box.lower[1] - h, box.lower[2] - h)
        shape = (box.shape[0] + 2 * PAD, box.shape[1] + 2 * PAD, box.shape[2] + 2 * PAD)
        return box, GridRegion(low, shape, box.voxel_size, box.turn)


def solved_of(node: Any) -> Solved | None:
    """How well a solved step was solved, if it has been."""
    duct = getattr(node.step, "duct", None)  # a bore flow through a closed shape is solved too
    step = duct(node) if duct is not None else node.step
    return step.grid(node).solved if isinstance(step, SolvedFlow) else None
