"""Make divergence-free: the nearest flow without sources, around obstacles."""

from functools import partial
from typing import Literal

import numpy as np

from errant_gust.core.blocks import Cancel, threads
from errant_gust.core.fields.gridded import WORKING, at_faces
from errant_gust.core.fields.near_walls import Sided, extended
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.samples import At, Samples
from errant_gust.core.fields.solved import FaceField, SolvedFlow, _faces_between, room_for
from errant_gust.core.grids.staggered.faces import FaceGrid, open_shares
from errant_gust.core.grids.staggered.walls import corner_distances, walls_of
from errant_gust.core.study.parameters import ShapeIds, param


class DivergenceFree(SolvedFlow):
    """Takes sources and sinks out of a velocity, on the voxels of a region, with obstacles if there are any.

    The nearest flow (least change of energy) without divergence: v' = v − ∇p, solved with the open part of every face
    (Batty, Bertails, Bridson 2007). Closed-off sides keep what comes in through them; open sides let anything through.
    """

    blocked_by = ("obstacles",)
    id = "divergence_free"
    label = "Make divergence-free"
    family = "change"
    accepts = "vector"
    yields = "the nearest flow without sources or sinks"
    mistake = (
        "It takes out what makes an explosion or an inflow as well. What should push outward is added after "
        "it; nothing else should be."
    )
    headline = "region"
    formula = "v' = v − ∇p,  ∇·v' = 0"

    obstacles: ShapeIds = param([], help="Shapes that the flow goes around; moving ones push it")
    sides: Literal["flow through", "open", "closed"] = param(
        "open", help="At the region's sides: as it comes in, free to adjust, or no flow through them"
    )
    outside: Literal["as it comes in", "zero"] = param("as it comes in", help="What the field is outside the region")

    def make(self, node: Node, cancel: Cancel | None) -> FaceField:
        assert node.incoming is not None
        within, box = self._boxes(node, self.sides == "closed")
        room_for(box, node.where)
        node.incoming.prepare(cancel)
        shapes = self._shapes(node, self.obstacles)
        corners = corner_distances(box, shapes, [], cancel) if shapes else None
        parts = []
        for axis in range(3):
            size = list(box.shape)
            size[axis] += 1
            count = int(np.prod(size))
            points = partial(_faces_between, box, axis)
            weights = box.axes[:, axis]
            own = np.zeros(count, np.float32)
            for a in np.nonzero(weights)[0]:
                own += np.float32(weights[a]) * at_faces(node.incoming, points, count, int(a), cancel)
            if self.sides == "closed":
                own = own.reshape(size)
                own[(slice(None),) * axis + (0,)] = 0
                own[(slice(None),) * axis + (-1,)] = 0
            parts.append(np.ascontiguousarray(own.reshape(size), np.float32))
            WORKING[node.where] = 0.1 * (axis + 1)
        grid, opened = FaceGrid(box, *parts), self.sides == "open"
        shares = open_shares(box, corners)
        solved = self._project(
            node, grid, shares, walls=walls_of(box, shapes, shares), open_low=(opened,) * 3, open_high=(opened,) * 3,
            threads=threads(), cancel=cancel, progress=lambda p: WORKING.__setitem__(node.where, 0.3 + 0.7 * p),
        )  # fmt: skip
        walls: Sided = [(shape, 1.0) for shape in shapes]
        return FaceField(
            extended(solved.grid, shares, walls, None, cancel) if walls else solved.grid, solved, within, walls
        )

    def beyond(self, at: At) -> Samples:
        if self.outside == "zero":
            zero = np.zeros((3, at.n), np.float32)
            return Samples(zero, np.zeros((3, 3, at.n), np.float32) if at.gradient else None)
        return at.incoming()
