"""A shape at one moment: its distance in the scene, its motion, its box."""

from dataclasses import dataclass
from typing import Any, Literal, Protocol

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.geometry.primitives import PAIRS
from errant_gust.core.geometry.shapes import Geometry, ShapeKind
from errant_gust.core.making import lazy
from errant_gust.core.study.turns import rotation

Array = NDArray[Any]
Side = Literal["around", "inside"]
"""Where something is kept: around a shape, or inside it."""


class Framed(Protocol):
    """What has extents: a middle (3,) in the scene, half extents (3,) along its own axes, and these (3, 3)."""

    @property
    def frame(self) -> tuple[Array, Array, Array]:
        """Middle (3,), half size (3,) in m and axes (3, 3) of the box around it."""


@dataclass(frozen=True)
class Surrounding:
    """The upright box around several shapes."""

    shapes: tuple["PlacedShape", ...]

    @lazy
    def frame(self) -> tuple[Array, Array, Array]:
        """Middle (3,), half size (3,) in m and axes (3, 3) of the box around all shapes."""
        boxes = [s.box for s in self.shapes if s.kind.bounded] or [s.box for s in self.shapes]
        low, high = np.min([b[0] for b in boxes], axis=0), np.max([b[1] for b in boxes], axis=0)
        return 0.5 * (low + high), 0.5 * (high - low), np.eye(3)


@dataclass(frozen=True)
class Growth:
    """A shape's own form shortly before and after, and the seconds between."""

    before: tuple[ShapeKind, Geometry]
    after: tuple[ShapeKind, Geometry]
    seconds: float


@dataclass(frozen=True)
class PlacedShape:
    """A shape kind with its values at one time, and velocity and spin there (m/s, rad/s)."""

    id: str
    kind: ShapeKind
    geometry: Geometry
    velocity: tuple[float, float, float] = (0.0, 0.0, 0.0)
    spin: tuple[float, float, float] = (0.0, 0.0, 0.0)
    growth: "Growth | None" = None

    @lazy
    def turned(self) -> Array:
        """Its axes in the scene, (3, 3)."""
        return rotation(self.kind.turn)

    @property
    def moves(self) -> bool:
        """Whether it goes, turns or changes its form with time."""
        return any(self.velocity) or any(self.spin) or self.growth is not None

    def rigid_velocity(self, points: Array) -> Array:
        """Velocity (3, n) in m/s of the shape as a rigid body at points (3, n) in the scene."""
        arm = points - np.array(self.kind.move, np.float32)[:, None]
        turning = np.cross(np.array(self.spin, np.float32), arm.T).T
        return np.asarray(np.array(self.velocity, np.float32)[:, None] + turning, np.float32)

    def swelling(self, points: Array) -> Array:
        """Speed (n,) in m/s at which the surface nearest to points (3, n) moves outward besides, by growing or
        deforming: how fast the distance falls in the shape's own frame."""
        if self.growth is None:
            return np.zeros(points.shape[1], np.float32)
        own = self.to_local(points)
        before, after = (kind.local(own, 0, geometry)[0] for kind, geometry in (self.growth.before, self.growth.after))
        return np.asarray((before - after) / np.float32(self.growth.seconds), np.float32)

    def surface_velocity(self, points: Array) -> Array:
        """Velocity (3, n) in m/s of the shape's matter at points (3, n) near its surface: as a rigid body, and along
        the normal by growing or deforming."""
        v = self.rigid_velocity(points)
        if self.growth is None:
            return v
        _, normal, _ = self.distance(points, 1)
        assert normal is not None
        return np.asarray(v + normal * self.swelling(points), np.float32)

    def to_local(self, points: Array) -> Array:
        """points (3, n) in the scene -> the shape's own frame, float32."""
        moved = points - np.array(self.kind.move, np.float32)[:, None]
        if not any(self.kind.turn):
            return moved
        return np.ascontiguousarray(self.turned.T.astype(np.float32) @ moved)

    def to_scene(self, vertices: Array) -> Array:
        """vertices (n, 3) in the shape's own frame -> the scene, float32."""
        return (vertices @ self.turned.T + np.array(self.kind.move)).astype(np.float32)

    def distance(self, points: Array, order: int = 0) -> tuple[Array, Array | None, Array | None]:
        """Signed distance (n,) in metres of points (3, n), gradient (3, n), second derivatives (6, n) up to `order`."""
        d, g, h = self.kind.local(self.to_local(points), order, self.geometry)
        if any(self.kind.turn):
            r = self.turned.astype(np.float32)
            if g is not None:
                g = r @ g
            if h is not None:
                full = np.empty((3, 3, h.shape[1]), np.float32)
                for row, (i, j) in enumerate(PAIRS):
                    full[i, j] = full[j, i] = h[row]
                full = np.einsum("ia,abn,jb->ijn", r, full, r)
                h = np.stack([full[i, j] for i, j in PAIRS])
        return d, g if order >= 1 else None, h if order >= 2 else None

    def near(self, points: Array, reach: float) -> Array:
        """Which points (3, n) may be nearer than `reach` (or inside): quick, and never misses one."""
        return self.kind.rough(self.to_local(points), self.geometry) <= np.float32(reach)

    @lazy
    def frame(self) -> tuple[Array, Array, Array]:
        """Middle (3,) in the scene, half extents (3,) in the shape's own frame, and its rotation."""
        middle, half = self.kind.half_extents(self.geometry)
        return self.turned @ middle + np.array(self.kind.move), half, self.turned

    @property
    def box(self) -> tuple[Array, Array]:
        """Lower and upper corner of the box around the shape in the scene. Both (3,) in m."""
        middle, half, turned = self.frame
        reach = np.abs(turned) @ half
        return middle - reach, middle + reach

    @lazy
    def surface(self) -> tuple[Array, Array]:
        """Vertices (n, 3) in the scene and faces (m, 3)."""
        vertices, faces = self.kind.triangles(self.geometry)
        return self.to_scene(np.asarray(vertices)), np.asarray(faces, np.int32)
