"""Round primitives: torus, capsule, cone."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.geometry import primitives
from errant_gust.core.geometry.shapes import Geometry, ShapeKind, grid_faces
from errant_gust.core.study.parameters import param

Array = NDArray[Any]


def lathe(profile: Array, sides: int = 64) -> tuple[Array, Array]:
    """Triangles of a surface of revolution about z from (radius, height) rows (n, 2)."""
    u = np.linspace(0, 2 * np.pi, sides + 1)[:, None]
    points = np.stack(
        [
            np.cos(u) * profile[:, 0],
            np.sin(u) * profile[:, 0],
            np.broadcast_to(profile[:, 1], (sides + 1, len(profile))),
        ],
        axis=-1,
    )
    return grid_faces(points[:, ::-1])


class Torus(ShapeKind):
    """A ring: all points nearer to a circle than the tube radius."""

    id = "torus"
    label = "Torus"
    yields = "a ring"
    headline = "ring"
    ring: float = param(1.0, unit="m", above=0, slider=(0.1, 5), help="From the middle to the middle of the tube")
    tube: float = param(0.3, unit="m", above=0, slider=(0.02, 2), help="Radius of the tube")

    def local(self, points: Array, order: int, scene: Geometry) -> tuple[Array, Array | None, Array | None]:
        return primitives.torus(points, self.ring, self.tube, order)

    def half_extents(self, scene: Geometry) -> tuple[Array, Array]:
        return np.zeros(3), np.array([self.ring + self.tube, self.ring + self.tube, self.tube])

    def triangles(self, scene: Geometry) -> tuple[Array, Array]:
        v = np.linspace(0, -2 * np.pi, 33)
        return lathe(np.stack([self.ring + self.tube * np.cos(v), self.tube * np.sin(v)], axis=1), 96)


class Capsule(ShapeKind):
    """A rod with round ends, upright; its middle at half its height."""

    id = "capsule"
    label = "Capsule"
    yields = "a rod with round ends"
    headline = "radius"
    radius: float = param(0.3, unit="m", above=0, slider=(0.02, 3), help="From the axis to the side")
    height: float = param(1.5, unit="m", above=0, slider=(0.05, 10), help="Between the middles of the round ends")

    def local(self, points: Array, order: int, scene: Geometry) -> tuple[Array, Array | None, Array | None]:
        return primitives.capsule(points, self.radius, self.height, order)

    def half_extents(self, scene: Geometry) -> tuple[Array, Array]:
        return np.zeros(3), np.array([self.radius, self.radius, self.height / 2 + self.radius])

    def triangles(self, scene: Geometry) -> tuple[Array, Array]:
        v = np.linspace(np.pi / 2, -np.pi / 2, 32)
        lift = np.where(v > 0, self.height / 2, -self.height / 2)
        return lathe(np.stack([self.radius * np.cos(v), self.radius * np.sin(v) + lift], axis=1)[::-1])


class Cone(ShapeKind):
    """A cone or a tapering column with flat ends, upright."""

    id = "cone"
    label = "Cone"
    yields = "a cone or a tapering column"
    headline = "low"
    low: float = param(0.6, unit="m", above=0, slider=(0.05, 5), label="Radius below", help="Radius of the lower end")
    high: float = param(0.0, unit="m", range=(0, None), slider=(0, 5), label="Radius above", help="0 is a point")
    height: float = param(1.5, unit="m", above=0, slider=(0.05, 10), help="From end to end")

    def local(self, points: Array, order: int, scene: Geometry) -> tuple[Array, Array | None, Array | None]:
        return primitives.cone(points, self.low, self.high, self.height, order)

    def half_extents(self, scene: Geometry) -> tuple[Array, Array]:
        most = max(self.low, self.high)
        return np.zeros(3), np.array([most, most, self.height / 2])

    def triangles(self, scene: Geometry) -> tuple[Array, Array]:
        h = self.height / 2
        return lathe(np.array([[0, -h], [self.low, -h], [self.high, h], [0, h]], float))
