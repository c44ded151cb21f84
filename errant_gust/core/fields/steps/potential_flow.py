"""Potential flow: around obstacles, from inlets to outlets, without swirl."""

from typing import Literal

import numpy as np

from errant_gust.core.blocks import Cancel, threads
from errant_gust.core.errors import StudyError
from errant_gust.core.fields.gridded import WORKING
from errant_gust.core.fields.near_walls import Sided, extended
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.samples import Array, At, Samples
from errant_gust.core.fields.solved import FaceField, SolvedFlow, room_for
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.grids.staggered.faces import FaceGrid, Triple, open_shares
from errant_gust.core.grids.staggered.walls import corner_distances, walls_of
from errant_gust.core.study.parameters import ShapeIds, Vec3, param


class PotentialFlow(SolvedFlow):
    """A stream that parts around bodies and closes behind them: no friction, no whirls, the smoothest flow there is.

    v = U + ∇φ with ∇²φ = 0 outside the obstacles and no flow through them. Inlets and outlets add flow; `inside`
    shuts the flow into a closed mesh, where it goes from inlet to outlet.
    """

    id = "potential_flow"
    label = "Potential flow"
    family = "start"
    accepts = "nothing"
    yields = "a stream that splits and closes around bodies"
    mistake = (
        "A region whose sides are close to the obstacle squeezes the stream. Leave two to three obstacle "
        "widths on every side."
    )
    headline = "stream"
    blocked_by = ("obstacles",)
    kept_in = ("inside",)
    formula = "v = U + ∇φ,  ∇²φ = 0,  v·n = 0 on obstacles"

    obstacles: ShapeIds = param([], help="Bodies in the stream; moving ones push it along")
    stream: Vec3 = param((1.5, 0, 0), unit="m/s", help="The stream far away")
    inlets: ShapeIds = param([], help="Where flow comes in: the space inside these shapes is a source")
    outlets: ShapeIds = param([], help="Where flow goes out")
    flux: float = param(1.0, unit="m³/s", slider=(-10, 10), help="Volume that inlets give and outlets take each second")
    inside: ShapeIds = param([], help="Only inside this closed shape (a duct, a vessel); nothing passes its wall")
    sides: Literal["flow through", "open", "closed"] = param(
        "flow through", help="At the region's sides: the stream as it is, free to adjust, or no flow"
    )

    def make(self, node: Node, cancel: Cancel | None) -> FaceField:
        """Solve Laplace's equation on the faces of the region. Raises StudyError for shapes that leave no fluid,
        SolverError for an answer that leaves too much."""
        within, box = self._boxes(node, self.sides == "closed" or bool(self.inside))
        room_for(box, node.where)
        shapes, vessels = self._shapes(node, self.obstacles), self._shapes(node, self.inside)
        if len(vessels) > 1:
            raise StudyError("names several shapes", where=f"{node.where}.inside", fix="choose one closed shape")
        corners = None
        if shapes or vessels:
            corners = corner_distances(box, shapes, vessels[:1], cancel)
        shares = open_shares(box, corners)
        u = box.axes.T @ np.array(self.stream) if not vessels else np.zeros(3)
        sides = "closed" if vessels else self.sides
        parts = []
        for axis, share in enumerate(shares):
            part = np.full(share.shape, u[axis], np.float32)
            if sides == "closed":
                part[(slice(None),) * axis + (0,)] = 0
                part[(slice(None),) * axis + (-1,)] = 0
            parts.append(part)
        opened = sides == "open" or (bool(self.inlets) != bool(self.outlets) and not vessels)
        if vessels and not (self.inlets and self.outlets):
            raise StudyError(
                "needs an inlet and an outlet", where=node.where, fix="name a shape at each end of the duct"
            )
        sources = self._sources(node, box, shares)
        solved = self._project(
            node, FaceGrid(box, *parts), shares, walls=walls_of(box, shapes, shares, vessels[:1]), sources=sources,
            open_low=(opened,) * 3, open_high=(opened,) * 3, threads=threads(), cancel=cancel,
            progress=lambda p: WORKING.__setitem__(node.where, p),
        )  # fmt: skip
        walls: Sided = [*((shape, 1.0) for shape in shapes), *((vessel, -1.0) for vessel in vessels)]
        grid = extended(solved.grid, shares, walls, sources, cancel) if walls else solved.grid
        return FaceField(grid, solved, within, walls)

    def _sources(self, node: Node, box: GridRegion, shares: Triple) -> Array | None:
        """Net outflow of each cell in m/s: the flux of an inlet or outlet spread over its open cells."""
        if not self.inlets and not self.outlets:
            return None
        total = np.zeros(box.shape, np.float32)
        whole = (
            shares[0][1:]
            + shares[0][:-1]
            + shares[1][:, 1:]
            + shares[1][:, :-1]
            + shares[2][:, :, 1:]
            + shares[2][:, :, :-1]
        )
        centres = box.centres(0, box.voxels)
        for name, ids, sign in (("inlets", self.inlets, 1.0), ("outlets", self.outlets, -1.0)):
            if not ids:
                continue
            d = np.min([node.scene.shape(id).distance(centres)[0] for id in ids], axis=0).reshape(box.shape)
            cells = (d < 0) & (whole > 0)
            if not cells.any():
                raise StudyError(
                    f"the {name} hold no open voxel of the region",
                    where=f"{node.where}.{name}",
                    fix="a larger shape or smaller voxels",
                )
            total[cells] += np.float32(sign * self.flux / (cells.sum() * box.voxel_size**2))
        return total

    def beyond(self, at: At) -> Samples:
        u = np.zeros(3) if self.inside else np.array(self.stream)
        value = np.broadcast_to(u.astype(np.float32)[:, None], (3, at.n))
        return Samples(value, np.zeros((3, 3, at.n), np.float32) if at.gradient else None)
