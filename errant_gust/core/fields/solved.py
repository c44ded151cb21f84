"""Steps that solve for a velocity on the faces of a region: divergence-free, potential flow."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any, Literal

import numpy as np

from errant_gust.core.errors import BudgetError, SolverError, StudyError
from errant_gust.core.fields.blocks import BLOCK, Cancel, share_out, threads
from errant_gust.core.fields.gridded import WORKING, Gridded, at_faces
from errant_gust.core.fields.near_walls import Sided, extended, kept_out
from errant_gust.core.fields.plan import Node
from errant_gust.core.fields.samples import Array, At, Kind, Samples
from errant_gust.core.geometry.placed import PlacedShape
from errant_gust.core.grids.faces import FaceGrid, Solved, Triple, Walls, face_points, open_shares, project
from errant_gust.core.grids.poisson import BYTES_A_VOXEL
from errant_gust.core.grids.region import GridRegion, budget
from errant_gust.core.study.parameters import ShapeIds, Vec3, param

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
        return self.grid.nbytes


def room_for(box: GridRegion, where: str) -> None:
    """Refuse a region whose solver arrays would not fit the memory budget."""
    need, limit = BYTES_A_VOXEL * box.voxels, budget()
    if need > limit:
        fits = float(f"{box.voxel_size * (need / limit) ** (1 / 3) * 1.05:.2g}")
        raise BudgetError(
            f"solving {box.voxels:,} voxels needs {need / 1e9:,.1f} GB, the budget is {limit / 1e9:,.1f} GB",
            where=where,
            fix=f"a voxel size of {fits:g} m would fit",
            fits=fits,
        )


def corner_distances(
    box: GridRegion, shapes: list[PlacedShape], inside: list[PlacedShape], cancel: Cancel | None
) -> Array:
    """The least distance to the walls at the cells' corners, positive where the flow may be: outside all shapes, and
    within one of `inside` if there are any."""
    count = [n + 1 for n in box.shape]
    out = np.empty(int(np.prod(count)), np.float32)

    def work(start: int, stop: int) -> None:
        index = np.stack(np.unravel_index(np.arange(start, stop), count)).astype(np.float32)
        points = box.to_scene(index * np.float32(box.voxel_size) + np.array(box.lower, np.float32)[:, None])
        d = np.full(stop - start, np.inf, np.float32)
        for shape in shapes:
            d = np.minimum(d, shape.distance(points)[0])
        if inside:
            d = np.minimum(d, -np.minimum.reduce([vessel.distance(points)[0] for vessel in inside]))
        out[start:stop] = d

    share_out(work, out.size, block=BLOCK, cancel=cancel)
    return out.reshape(count)


def walls_of(box: GridRegion, shapes: list[PlacedShape], shares: Triple, inside: Sequence[PlacedShape] = ()) -> Walls:
    """How obstacles and vessels (`inside`) move: see `Walls`. Only faces that are not wholly open are asked for, since
    nowhere else do they matter."""
    moving = [s for s in (*shapes, *inside) if s.moves]
    if not moving:
        return Walls()

    def on_faces(what: Callable[[PlacedShape, Array], Array]) -> Triple:
        """One component of a velocity (3, n) of the nearest shape on the faces across each axis."""
        parts = []
        for axis in range(3):
            at = np.flatnonzero(shares[axis] < 1)
            velocity, nearest = _of_nearest(moving, face_points(box, axis, at), what)
            whole = np.zeros(shares[axis].shape, np.float32)
            whole.reshape(-1)[at] = np.where(nearest < 2 * box.voxel_size, box.axes[:, axis] @ velocity, 0)
            parts.append(whole)
        return parts[0], parts[1], parts[2]

    carried = on_faces(PlacedShape.rigid_velocity)
    if all(s.growth is None for s in moving):
        return Walls(carried, carried)
    return Walls(carried, on_faces(PlacedShape.surface_velocity), _swelling(box, moving, shares))


def _of_nearest(
    shapes: list[PlacedShape], points: Array, what: Callable[[PlacedShape, Array], Array]
) -> tuple[Array, Array]:  # fmt: skip
    """At points (3, n) what the shape with the nearest surface says (3, n), and the distance to it."""
    nearest, out = np.full(points.shape[1], np.inf, np.float32), np.zeros_like(points)
    for shape in shapes:
        d = shape.distance(points)[0]
        nearer = np.abs(d) < np.abs(nearest)
        out = np.where(nearer, what(shape, points), out)
        nearest = np.where(nearer, d, nearest)
    return out, nearest


def _swelling(box: GridRegion, shapes: list[PlacedShape], shares: Triple) -> Array:
    """What growing walls push into every cell, in m/s.

    The open faces of a cell lack an area (a vector) to be closed: that of the wall in it. Its flux is that area times
    the velocity whose part along every normal found in the cell is the wall's speed there (least squares over eight
    places), which is right also where a cell holds an edge.
    """
    area = np.stack([np.diff(s, axis=axis).ravel() for axis, s in enumerate(shares)])
    at = np.flatnonzero((area != 0).any(axis=0))
    middles, quarter = box.centres_at(at), np.float32(0.25 * box.voxel_size)
    matrix = np.broadcast_to(1e-3 * np.eye(3), (len(at), 3, 3)).copy()
    right = np.zeros((len(at), 3))
    for corner in np.ndindex(2, 2, 2):
        points = middles + (box.axes @ (2 * np.array(corner) - 1)).astype(np.float32)[:, None] * quarter
        speed, normal, nearest = np.zeros(len(at)), np.zeros((len(at), 3)), np.full(len(at), 2 * box.voxel_size)
        for shape in shapes:
            d, slope, _ = shape.distance(points, 1)
            assert slope is not None
            here = np.flatnonzero(np.abs(d) < nearest)
            if not len(here):
                continue
            # a little below the surface, where a cell at an edge sees one face or the other
            on = np.ascontiguousarray((points - (d + 0.2 * quarter) * slope)[:, here])
            inner = shape.distance(on, 1)[1]
            assert inner is not None
            speed[here], normal[here], nearest[here] = shape.swelling(on), inner.T @ box.axes, np.abs(d)[here]
        matrix += normal[:, :, None] * normal[:, None, :]
        right += normal * speed[:, None]
    velocity = np.linalg.solve(matrix, right[:, :, None])[:, :, 0]
    made = np.zeros(box.voxels, np.float32)
    made[at] = (velocity * area[:, at].T).sum(axis=1)
    return made.reshape(box.shape)


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


class DivergenceFree(SolvedFlow):
    """Takes sources and sinks out of a velocity, on the voxels of a region, with obstacles if there are any.

    The nearest flow (least change of energy) without divergence: v' = v − ∇p, solved with the open part of every face
    (Batty, Bertails, Bridson 2007). Closed-off sides keep what comes in through them; open sides let anything through.
    """

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


def solved_of(node: Any) -> Solved | None:
    """How well a solved step was solved, if it has been."""
    duct = getattr(node.step, "duct", None)  # a bore flow through a closed shape is solved too
    step = duct(node) if duct is not None else node.step
    return step.grid(node).solved if isinstance(step, SolvedFlow) else None
