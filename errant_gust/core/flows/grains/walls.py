"""Walls of grains: closed sides of the domain and shapes, as they act on the nodes of the grid; and keeping grains
out of them."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING, Any, cast

import numpy as np

from errant_gust.core.blocks import BLOCK, share_out
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.grains.obstacles import Collide
from errant_gust.core.flows.grains.steps import Domain, Work
from errant_gust.core.flows.step import Blocks, Placed
from errant_gust.core.geometry.placed import PlacedShape
from errant_gust.core.kernels import grains as kernels

if TYPE_CHECKING:
    from errant_gust.core.flows.grains.flow import GrainFlow

PASSES = 3
SKIN = 1e-3  # cells that grains keep from walls
NEAR = 1.0  # cells from a wall within which a grain is asked how far it is
DEEP = 4.0  # cells in a wall that a node matters at all
BORDER = 1.0  # cells of the window's border in which no grain has all its nodes


@dataclass(frozen=True)
class Wall:
    """A shape in the way, on which side of it grains stay, and what it does to what touches it."""

    shape: PlacedShape
    sign: float
    friction: float
    stick: float

    @property
    def key(self) -> tuple[Any, ...]:
        """What a wall depends on."""
        return self.shape.id, self.sign, self.friction, self.stick

    @property
    def still(self) -> bool:
        """Whether it never moves."""
        return not self.shape.moves and not getattr(self.shape.kind, "sequence", False)

    def distance(self, points: Array) -> Array:
        """How far points (3, n) of the scene are on the right side, in m."""
        return np.float32(self.sign) * self.shape.distance(points)[0]


@dataclass(frozen=True)
class Held:
    """A wall in a window: indices (k,) of the nodes in it, its normal (3, k) and velocity (3, k) there along the
    domain's axes, and which cells (flat) are near enough that grains in them must be looked at."""

    wall: Wall
    at: Array
    normal: Array
    moving: Array
    near: Array | None


class Fronts:
    """The walls of a flow; those that stand are kept while the window stays."""

    def __init__(self, flow: GrainFlow) -> None:
        self.flow = flow
        self._kept: dict[Any, Held] = {}
        self._window: Any = None

    def walls(self, work: Work, parts: list[Placed]) -> list[Wall]:
        """The walls of the lane's steps, in their order."""
        found = []
        for part in parts:
            if isinstance(part.step, Blocks):
                step = cast(Collide, part.step)
                for id, side in step.blocking():
                    sign = 1.0 if side == "around" else -1.0
                    found.append(Wall(work.scene.shape(id), sign, step.friction, step.stick))
        return found

    def at(self, work: Work, parts: list[Placed]) -> list[Held]:
        """Every wall, at the time of the work's scene."""
        window = (tuple(work.origin), work.shape)
        if window != self._window:
            self._window, self._kept = window, {}
        made = []
        for wall in self.walls(work, parts):
            if wall.still:
                if wall.key not in self._kept:
                    self._kept[wall.key] = self._held(work, wall)
                made.append(self._kept[wall.key])
            else:
                made.append(self._held(work, wall))
        return made

    def _held(self, work: Work, wall: Wall) -> Held:
        flat = self._about(work, wall)
        d = np.empty(flat.size, np.float32)
        slope = np.empty((3, flat.size), np.float32)
        points = work.node_points(flat)
        h = np.float32(work.domain.voxel_size)

        def look(first: int, last: int) -> None:
            some = np.ascontiguousarray(points[:, first:last])
            d[first:last], g, _ = wall.shape.distance(some, 1)
            assert g is not None
            slope[:, first:last] = g

        share_out(look, flat.size, block=BLOCK)
        d *= np.float32(wall.sign) / h
        within = np.flatnonzero((d <= 0) & (d > -DEEP))
        at = flat[within]
        normal = np.float32(wall.sign) * slope[:, within]
        moving = np.zeros_like(normal)
        if wall.shape.moves:
            moving = work.along(wall.shape.surface_velocity(np.ascontiguousarray(points[:, within])))
        near = None
        if wall.still:
            near = np.zeros(int(np.prod(work.shape)), bool)
            near[flat[(d < NEAR + 1) & (d > -DEEP)]] = True
        return Held(wall, at, np.ascontiguousarray(work.along(normal)), np.ascontiguousarray(moving), near)

    @staticmethod
    def _about(work: Work, wall: Wall) -> Array:
        """Flat indices of the nodes of the window that may be in or near a wall: all for a vessel, else those in its
        box."""
        low, high = np.zeros(3, int), np.array(work.shape)
        if wall.sign > 0 and wall.shape.kind.bounded:
            lower, upper = wall.shape.box
            corners = np.array([[(lower, upper)[b][a] for a, b in enumerate(x)] for x in np.ndindex(2, 2, 2)])
            own = (corners @ work.domain.axes - np.array(work.domain.lower)) / work.domain.voxel_size - work.origin
            low = np.clip(np.floor(own.min(axis=0)).astype(int) - 2, 0, work.shape)
            high = np.clip(np.ceil(own.max(axis=0)).astype(int) + 3, 0, work.shape)
        axes = [np.arange(a, max(a, b)) for a, b in zip(low, high, strict=True)]
        index = np.ix_(*axes)
        return np.ascontiguousarray(np.ravel_multi_index(np.broadcast_arrays(*index), work.shape).ravel())

    # what they do ------------------------------------------------------------------------------------------------

    def act(self, nodes: Array, held: list[Held], work: Work, domain: Domain) -> None:
        """Velocities of nodes (nx, ny, nz, 4): none into walls, along them what friction leaves."""
        flat = nodes.reshape(-1, 4)
        for h in held:
            work_on = partial(
                kernels.against, flat, h.at, h.normal, h.moving, np.float32(h.wall.friction), np.float32(h.wall.stick)
            )
            share_out(work_on, h.at.size, block=BLOCK)
        hold = np.float32(domain.friction)
        for axis in range(3):
            first, last = -int(work.origin[axis]), int(self.flow.domain.shape[axis] - work.origin[axis])
            before = (slice(None),) * axis
            if not domain.open_low[axis] and first >= 0:
                kernels.along_side(nodes[(*before, slice(max(0, first - 1), first + 1))], axis, np.float32(1), hold)
            if not domain.open_high[axis] and last < nodes.shape[axis]:
                kernels.along_side(nodes[(*before, slice(last, last + 2))], axis, np.float32(-1), hold)

    def bounds(self, work: Work, domain: Domain) -> tuple[Array, Array]:
        """Between which places (3,) in cells of the window grains are kept: closed sides, else its border."""
        low = np.where(domain.open_low, -1e9, SKIN - work.origin)
        high = np.where(domain.open_high, 1e9, np.array(self.flow.domain.shape) - SKIN - work.origin)
        edge = np.array(work.shape) - BORDER
        return np.maximum(low, BORDER).astype(np.float32), np.minimum(high, edge).astype(np.float32)

    def keep_out(self, held: list[Held], work: Work) -> float:
        """Grains that got into a wall are put on its surface and lose the speed into it. Returns how far, in cells, one
        was put at most."""
        farthest = 0.0
        for h in held:
            near = self._near(h, work)
            if near.size:
                farthest = max(farthest, self._out_of(h.wall, work, near))
        return farthest

    @staticmethod
    def _near(h: Held, work: Work) -> Array:
        """Which grains may be in a wall."""
        if h.near is not None:
            out = np.empty(work.count, bool)
            share_out(partial(kernels.marked, work.sand.a, h.near, work.shape, out), work.count, block=BLOCK)
            return np.flatnonzero(out)
        if h.wall.sign < 0 or not h.wall.shape.kind.bounded:
            return np.arange(work.count)
        lower, upper = (np.asarray(x, np.float32)[:, None] for x in h.wall.shape.box)
        points = work.points()
        return np.flatnonzero(((points >= lower) & (points <= upper)).all(axis=0))

    @staticmethod
    def _out_of(wall: Wall, work: Work, near: Array) -> float:
        domain, h = work.domain, np.float32(work.domain.voxel_size)
        skin = np.float32(SKIN) * h
        points = work.points(work.sand.get(kernels.PLACE, near))
        inside = wall.distance(points) < skin
        if not inside.any():
            return 0.0
        near, points = near[inside], np.ascontiguousarray(points[:, inside])
        normal = np.zeros_like(points)
        for _ in range(PASSES):  # distances of joined and turned shapes are not exact far inside
            d, slope, _ = wall.shape.distance(points, 1)
            assert slope is not None
            normal = np.float32(wall.sign) * slope
            depth = np.maximum(skin - np.float32(wall.sign) * d, 0)
            if not depth.any():
                break
            points = np.ascontiguousarray(points + normal * depth)
        low = np.array(domain.lower, np.float32)[:, None]
        own = (domain.to_own(points) - low) / h - work.origin[:, None].astype(np.float32)
        way = float(np.abs(own - work.sand.get(kernels.PLACE, near)).max())
        work.sand.put(kernels.PLACE, own, near)
        moving = work.sand.get(kernels.MOVING, near)
        v = domain.to_scene(moving)
        if wall.shape.moves:
            v = v - wall.shape.surface_velocity(points)
        into = np.minimum((v * normal).sum(axis=0), 0)
        lost = domain.to_own(np.ascontiguousarray(normal * into))
        work.sand.put(kernels.MOVING, moving - lost, near)
        return way
