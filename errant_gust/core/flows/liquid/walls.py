"""Walls of a liquid: closed sides of the domain and obstacles, cut through the voxels; and keeping particles out."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING, Any, cast

import numpy as np

from errant_gust.core.blocks import BLOCK, share_out, threads
from errant_gust.core.errors import StudyError
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.liquid.obstacles import Collide
from errant_gust.core.flows.liquid.steps import Domain, Work
from errant_gust.core.flows.moving import SHARE_TIME
from errant_gust.core.flows.step import Blocks, Placed
from errant_gust.core.geometry.placed import PlacedShape
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.grids.slabs import each_slab
from errant_gust.core.grids.staggered.faces import Triple, Walls, open_shares
from errant_gust.core.grids.staggered.viscosity import Cut
from errant_gust.core.grids.staggered.walls import walls_of
from errant_gust.core.grids.transfer import at_places
from errant_gust.core.kernels import free_surface as kernels
from errant_gust.core.kernels import projection

if TYPE_CHECKING:
    from errant_gust.core.flows.liquid.flow import LiquidFlow

PASSES = 3
SKIN = 1e-3  # cells that particles keep from walls
FAR = np.float32(1e6)  # cells: finite, since distances are interpolated
NEAR = 1.5  # cells within which the exact distance of a shape is asked


@dataclass(frozen=True)
class Wall:
    """A shape in the way, on which side of it liquid stays, and what it does to what touches it."""

    shape: PlacedShape
    sign: float
    stick: float
    friction: float

    def distance(self, points: Array) -> Array:
        """How far points (3, n) of the scene are on the right side, in m."""
        return np.float32(self.sign) * self.shape.distance(points)[0]


@dataclass
class Front:
    """Walls in a window at one time. cut: where they are; shares: open parts of faces; sticks: whether any does; room:
    the part of each cell's surroundings that liquid may be in."""

    cut: Cut
    shares: Triple
    wall: Walls
    sticks: bool
    room: Array
    walls: list[Wall]

    @property
    def corner(self) -> Array:
        """Distances in cells at the corners (nx+1, ny+1, nz+1)."""
        return self.cut.corner

    def fill(self, phi: Array) -> None:
        """Liquid beside walls fills the cells whose middles are in them. `phi` (nx, ny, nz) in cells."""
        each_slab(phi.shape[0], partial(kernels.to_liquid, self.corner, phi), threads())

    def seal(self, faces: Triple) -> None:
        """Closed faces have the velocity of the wall in them."""
        none = np.empty((0, 0, 0), np.float32)
        for axis, (f, share) in enumerate(zip(faces, self.shares, strict=True)):
            to = none if self.wall.faces is None else self.wall.faces[axis]
            each_slab(f.shape[0], partial(projection.seal, f, share, to), threads())


class Fronts:
    """The walls of a flow, kept while they and the window stay as they are."""

    def __init__(self, flow: LiquidFlow) -> None:
        self.flow = flow
        self._kept: tuple[Any, Front] | None = None

    def walls(self, work: Work, parts: list[Placed]) -> list[Wall]:
        """The walls of the lane's steps, in their order."""
        found = []
        for part in parts:
            if isinstance(part.step, Blocks):
                step = cast(Collide, part.step)
                for id, side in step.blocking():
                    sign = 1.0 if side == "around" else -1.0
                    found.append(Wall(work.scene.shape(id), sign, step.stick, step.friction))
        return found

    def at(self, work: Work, parts: list[Placed]) -> Front:
        """What the liquid meets now: walls and sides of the domain, made anew only where something moved."""
        domain = cast(Domain, parts[0].step)
        walls = self.walls(work, parts)
        moving = any(w.shape.moves or getattr(w.shape.kind, "sequence", False) for w in walls)
        key = (
            tuple(work.origin), work.window.shape, domain.open_low, domain.open_high, domain.stick,
            tuple((w.shape.id, w.sign, w.stick) for w in walls), work.scene.time if moving else 0.0,
        )  # fmt: skip
        if self._kept is None or self._kept[0] != key:
            self._kept = (key, self._made(work, domain, walls))
        front = self._kept[1]
        front.walls = walls
        return front

    def _made(self, work: Work, domain: Domain, walls: list[Wall]) -> Front:
        from scipy import ndimage

        window, h = work.window, np.float32(work.domain.voxel_size)
        corner, stick = _corners(window, walls, domain.stick)
        corner /= h
        np.minimum(corner, FAR, out=corner)  # where there is no wall at all
        ways = self._ways(work, domain, corner)
        self._sides(work, domain, corner, stick)
        shares = open_shares(window, corner)
        if not any(s.any() for s in shares):
            raise StudyError(
                "the obstacles fill the whole domain", where=f"flows.{self.flow.id}",
                fix="smaller shapes, or a larger region",
            )  # fmt: skip
        around = [w.shape for w in walls if w.sign > 0]
        within = [w.shape for w in walls if w.sign < 0]
        moved = walls_of(window, around, shares, within)
        self._still_sides(work, domain, moved)
        mean = ndimage.uniform_filter(corner, 2, mode="nearest", origin=-1)[:-1, :-1, :-1]
        open_part = np.clip(mean + np.float32(0.5), 0, 1)
        room = ndimage.convolve1d(open_part, HAT, axis=0, mode="nearest")
        for axis in (1, 2):
            room = ndimage.convolve1d(room, HAT, axis=axis, mode="nearest")
        sticks = domain.stick > 0 or any(w.stick > 0 for w in walls)
        return Front(Cut(ways, corner, stick), shares, moved, sticks, room, walls)

    def _line(self, work: Work, domain: Domain, axis: int, count: int, more: float = 0.0) -> Array:
        """Distances in cells to the closed sides across an axis, of so many places a cell apart along it, the first of
        which is `more` cells beyond the window's lower end. (n, 1, 1), or along the others."""
        at = (np.arange(count) + work.origin[axis] + more).astype(np.float32)
        d = np.full(count, FAR, np.float32)
        if not domain.open_low[axis]:
            d = np.minimum(d, at)
        if not domain.open_high[axis]:
            d = np.minimum(d, self.flow.domain.shape[axis] - at)
        return d.reshape([-1 if a == axis else 1 for a in range(3)])

    def _ways(self, work: Work, domain: Domain, corner: Array) -> Triple:
        """Distances in cells of the middles of faces: of obstacles between those at the corners, and of sides."""
        out = []
        for axis in range(3):
            made = corner
            for other in (a for a in range(3) if a != axis):
                low, high = ((slice(None),) * other + (s,) for s in (slice(0, -1), slice(1, None)))
                made = np.float32(0.5) * (made[low] + made[high])
            for side in range(3):
                more = 0.0 if side == axis else 0.5
                made = np.minimum(made, self._line(work, domain, side, made.shape[side], more))
            out.append(np.ascontiguousarray(made))
        return out[0], out[1], out[2]

    def _sides(self, work: Work, domain: Domain, corner: Array, stick: Array) -> None:
        """The closed sides of the domain as walls."""
        for axis in range(3):
            line = self._line(work, domain, axis, corner.shape[axis])
            nearer = line < corner
            np.copyto(stick, np.float32(domain.stick), where=nearer)
            np.minimum(corner, line, out=corner)

    def _still_sides(self, work: Work, domain: Domain, moved: Walls) -> None:
        """Closed sides stand, also beside an obstacle that moves."""
        for faces in (moved.carried or (), moved.faces or ()):
            for axis, f in enumerate(faces):
                at = np.arange(f.shape[axis]) + work.origin[axis]
                shut = np.zeros(len(at), bool)
                if not domain.open_low[axis]:
                    shut |= at <= 0
                if not domain.open_high[axis]:
                    shut |= at >= self.flow.domain.shape[axis]
                f[(slice(None),) * axis + (shut,)] = 0

    def distance(self, work: Work, q: Array) -> Array:
        """About how far places (3, n) in cells of the domain are from walls, in cells: exact beside shapes."""
        front: Front = work.fronts
        own = np.ascontiguousarray(q - work.origin[:, None].astype(np.float32))
        d = at_places(front.corner, own, middles=False)
        near = np.flatnonzero(d < NEAR)
        if front.walls and len(near):
            points = work.points(np.ascontiguousarray(q[:, near]))
            exact = np.minimum.reduce(_least(front.walls, points)) / np.float32(work.domain.voxel_size)
            d[near] = np.where(d[near] <= 0, np.minimum(d[near], exact), exact)
        return d

    def keep_out(self, work: Work, parts: list[Placed]) -> None:
        """Particles that got into a wall are put on its surface and lose the speed into it; what touches loses some of
        its speed along it."""
        a, front = work.a, cast(Front, work.fronts)
        domain = cast(Domain, parts[0].step)
        h = np.float32(work.domain.voxel_size)
        if front.walls:
            own = np.ascontiguousarray(a["q"] - work.origin[:, None].astype(np.float32))
            near = np.flatnonzero(at_places(front.corner, own, middles=False) < NEAR)
            if len(near):
                for wall in front.walls:
                    self._out_of(work, wall, near, h)
        self._within_sides(work, domain)

    def _out_of(self, work: Work, wall: Wall, near: Array, h: np.float32) -> None:
        a, domain = work.a, work.domain
        points = work.points(np.ascontiguousarray(a["q"][:, near]))
        sign, skin = np.float32(wall.sign), np.float32(SKIN) * h
        d = wall.distance(points)
        touches = d < (np.float32(0.5) * h if wall.friction else skin)
        if not touches.any():
            return
        near, points, d = near[touches], np.ascontiguousarray(points[:, touches]), d[touches]
        normal = np.zeros_like(points)
        for _ in range(PASSES):  # distances of joined and turned shapes are not exact far inside
            d, slope, _ = wall.shape.distance(points, 1)
            assert slope is not None
            normal = sign * slope
            depth = np.maximum(skin - sign * d, 0)
            if not depth.any():
                break
            points = np.ascontiguousarray(points + normal * depth)
        low = np.array(domain.lower, np.float32)[:, None]
        inside = wall.distance(work.points(np.ascontiguousarray(a["q"][:, near]))) < skin
        moved = (domain.to_own(points) - low) / h
        a["q"][:, near] = np.where(inside, moved, a["q"][:, near])
        v = domain.to_scene(np.ascontiguousarray(a["velocity"][:, near]))
        surface = wall.shape.surface_velocity(points) if wall.shape.moves else np.zeros_like(points)
        relative = v - surface
        into = (relative * normal).sum(axis=0)
        along = relative - normal * into
        kept = np.float32((1 - min(wall.friction, 1 - 1e-6)) ** (work.dt / SHARE_TIME))
        into = np.where(inside, np.maximum(into, 0), into)
        a["velocity"][:, near] = domain.to_own(np.ascontiguousarray(surface + along * kept + normal * into))

    def _within_sides(self, work: Work, domain: Domain) -> None:
        a = work.a
        kept = np.float32((1 - min(domain.friction, 1 - 1e-6)) ** (work.dt / SHARE_TIME))
        for axis in range(3):
            x, top = a["q"][axis], np.float32(self.flow.domain.shape[axis])
            for is_open, out, to, sign in (
                (domain.open_low[axis], x < SKIN, np.float32(SKIN), 1),
                (domain.open_high[axis], x > top - np.float32(SKIN), top - np.float32(SKIN), -1),
            ):
                if is_open:
                    continue
                if out.any():
                    x[out] = to
                    v = a["velocity"][axis]
                    v[out] = sign * np.maximum(sign * v[out], 0)
                if domain.friction:
                    touch = np.abs(x - to) < 0.5
                    for other in range(3):
                        if other != axis:
                            a["velocity"][other, touch] *= kept


HAT = np.array([0.125, 0.75, 0.125], np.float32)
"""How much of a particle's linear weight falls on the cell it is in and on the two beside it, on the mean."""


def _least(walls: list[Wall], points: Array) -> list[Array]:
    """Distances (n,) to what is in the way, and to the nearest vessel (of several, any will do)."""
    out = [w.distance(points) for w in walls if w.sign > 0]
    vessels = [w.distance(points) for w in walls if w.sign < 0]
    if vessels:
        out.append(np.maximum.reduce(vessels))
    return out


def _corners(window: GridRegion, walls: list[Wall], stick: float) -> tuple[Array, Array]:
    """Distances in m at the corners of cells, and how much the nearest wall sticks."""
    count = [n + 1 for n in window.shape]
    out = np.full(int(np.prod(count)), np.inf, np.float32)
    sticks = np.full(out.size, stick, np.float32)
    if not walls:
        return out.reshape(count), sticks.reshape(count)

    def work(start: int, stop: int) -> None:
        index = np.stack(np.unravel_index(np.arange(start, stop), count)).astype(np.float32)
        points = window.to_scene(index * np.float32(window.voxel_size) + np.array(window.lower, np.float32)[:, None])
        best, held, vessel, vessel_stick = out[start:stop], sticks[start:stop], None, None
        for wall in walls:
            d = wall.distance(points)
            if wall.sign < 0:
                nearer = np.ones(len(d), bool) if vessel is None else d > vessel
                vessel = d if vessel is None else np.maximum(vessel, d)
                whole = np.full(len(d), wall.stick, np.float32)
                vessel_stick = np.where(nearer, whole, vessel_stick if vessel_stick is not None else whole)
                continue
            nearer = d < best
            best[nearer], held[nearer] = d[nearer], wall.stick
        if vessel is not None and vessel_stick is not None:
            nearer = vessel < best
            best[nearer], held[nearer] = vessel[nearer], vessel_stick[nearer]

    share_out(work, out.size, block=BLOCK)
    return out.reshape(count), sticks.reshape(count)
