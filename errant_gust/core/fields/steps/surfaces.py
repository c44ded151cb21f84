"""Flows that cling to a surface: surface swirl and surface drift."""

from typing import Any, Literal

import numpy as np

from errant_gust.core.blocks import Cancel
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.samples import Array, At, Kind, Samples, smooth_step
from errant_gust.core.fields.step import FieldStep, VectorStart
from errant_gust.core.fields.steps.noise import Fractal
from errant_gust.core.geometry.surface_samples import surface_samples
from errant_gust.core.study.parameters import ShapeId, Vec3, param

SAMPLES = 24_000
MOST_NEAREST = 64


class Surface:
    """A surface as samples in a tree, for smooth averages over the nearest ones."""

    def __init__(self, vertices: Array, faces: Array) -> None:
        from scipy.spatial import cKDTree

        self.points, self.normals = surface_samples(vertices, faces, SAMPLES)
        self.tree = cKDTree(self.points)

    def near(self, points: Array, count: int, reach: float) -> tuple[Array, Array]:
        """Mean normal (3, n), not unit, and distance (n,) of points (3, n); weights fall to zero at the farthest
        sample."""
        n = points.shape[1]
        normal, distance = np.zeros((3, n), np.float32), np.full(n, np.inf, np.float32)
        query: Any = self.tree.query
        d, index = query(points.T, k=count + 1, distance_upper_bound=max(reach, 1e-6) * 2 + 1e-6)
        found = np.isfinite(d[:, 0])
        if not found.any():
            return normal, distance
        d, index = d[found], np.minimum(index[found], len(self.points) - 1)
        edge = np.where(
            np.isfinite(d[:, -1:]), d[:, -1:], np.nanmax(np.where(np.isfinite(d), d, 0), axis=1, keepdims=True) + 1e-6
        )
        with np.errstate(invalid="ignore"):
            w = np.where(np.isfinite(d), (1 - np.minimum(d / np.maximum(edge, 1e-9), 1) ** 2) ** 2, 0)
        w = w[:, :-1] + 1e-12 * np.isfinite(d[:, :-1])
        w /= np.maximum(w.sum(axis=1, keepdims=True), 1e-30)
        mean = np.einsum("nk,nkc->cn", w, self.normals[index[:, :-1]])
        away = points.T[found] - np.einsum("nk,nkc->nc", w, self.points[index[:, :-1]])
        normal[:, found] = mean
        distance[found] = np.abs((away.T * mean).sum(axis=0)) + np.maximum(
            np.linalg.norm(away, axis=1) - np.median(edge), 0
        )
        distance[found] = np.minimum(np.maximum(distance[found], 0), d[:, 0])
        return normal, distance


class OnSurface(FieldStep):
    """Parameters of flows on a surface."""

    own_first = True
    unit = "m/s"

    shape: ShapeId = param(help="The surface to cling to")
    speed: float = param(1.0, unit="m/s", slider=(-10, 10), help="Speed on the surface")
    nearest: int = param(16, range=(1, MOST_NEAREST), help="Surface samples to average over: more is smoother")
    reach: float = param(
        0.5, unit="m", above=0, slider=(0.02, 5), help="Distance from the surface at which it has faded"
    )
    even: bool = param(False, label="Unit length", help="The same speed everywhere on the surface")

    def surface(self, node: Node) -> Surface:
        """The surface of the shape, with what is needed to find its nearest point."""
        found: Surface = node.kept("surface", lambda: Surface(*node.scene.shape(self.shape).surface))
        return found

    def prepare(self, node: Node, cancel: Cancel | None = None) -> None:
        self.surface(node)

    def direction(self, at: At, points: Array, normal: Array) -> Array:
        """Vectors (3, n) before they are brought onto the surface; for `normal` unit length."""
        raise NotImplementedError

    def _values(self, at: At, points: Array) -> Array:
        normal, distance = self.surface(at.node).near(points, self.nearest, self.reach)
        size = np.sqrt((normal * normal).sum(axis=0))
        unit = normal / np.maximum(size, np.float32(1e-9))
        v = self.direction(at, points, unit)
        if self.even:
            length = np.sqrt((v * v).sum(axis=0))
            v = v / np.sqrt(length * length + np.float32(1e-6))
        fade, _ = smooth_step(np.where(np.isfinite(distance), distance, np.float32(1e9)) / np.float32(self.reach))
        clear = np.clip(size * 4, 0, 1)  # where normals cancel (in the middle of a thin plate) there is no direction
        return np.asarray(v * (1 - fade) * clear * np.float32(self.speed), np.float32)

    def evaluate(self, at: At) -> Samples:
        value = self._values(at, at.points)
        return Samples(value, at.node.differences(at.points, value) if at.gradient else None)


class SurfaceSwirl(VectorStart, OnSurface, Fractal):
    """Swirls that cling to a surface: a noise crossed with the normal, or a whirl around a movable point.

    By noise: v = speed · n × ∇ψ for a noise ψ, whose swirls neither leave the surface nor gather on it. Around a point:
    v = speed · n × (x − p)/|x − p|.
    """

    id = "surface_swirl"
    own_first = True
    label = "Surface swirl"
    yields = "swirls that cling to a shape"
    mistake = (
        "Beyond the reach there is nothing: particles that leave the skin stop. Add an inward pull, or a wind "
        "that takes over."
    )
    headline = "shape"
    formula = "v = speed · n × ∇ψ,  or n × (x − p)/|x − p|"

    around: Literal["noise", "a point"] = param("noise", help="Many swirls from a noise, or one whirl around a point")
    point: Vec3 = param((0, 0, 1), unit="m", help="What it whirls around", when={"around": ["a point"]})

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        if self.around == "noise":
            self.must_slope()
        return "vector"

    def feature(self) -> float:
        return Fractal.feature(self) if self.around == "noise" else 0.3 * self.reach

    def feature_at(self, node: Node) -> float | None:
        return Fractal.feature_at(self, node) if self.around == "noise" else self.feature()

    def direction(self, at: At, points: Array, normal: Array) -> Array:
        if self.around == "a point":
            v = points - np.array(self.point, np.float32)[:, None]
            v = v / np.sqrt((v * v).sum(axis=0) + np.float32(1e-4))
        else:
            wanted, varies = At(at.node, points, True), "feature_size" in at.node.varying
            size = (1.0 if varies else self.feature_size) / (self.slope * np.sqrt(2.0) * self._energy())
            made = self._scalar(wanted, 0, size)
            v = (made.times(wanted.number("feature_size")) if varies else made).slope
        return np.cross(normal.T, v.T).T


class SurfaceDrift(VectorStart, OnSurface):
    """A drift over a surface in one direction: the direction with its part through the surface taken out.

    v = speed · (d − n (n · d)); `across` turns it by 90° in the surface, along its edges as seen in that direction.
    """

    id = "surface_drift"
    label = "Surface drift"
    yields = "a drift over a shape in one direction"
    mistake = (
        "Where the direction meets the surface head-on there is no drift. Turn the direction, or use Surface "
        "swirl there."
    )
    headline = "direction"
    formula = "v = speed · (d − n(n·d)),  or n × d"

    toward: Vec3 = param((1, 0, 0), help="The direction; its length counts")
    way: Literal["along", "across"] = param("along", help="Along the direction, or along the surface's edges across it")

    def feature(self) -> float:
        return 0.3 * self.reach

    def direction(self, at: At, points: Array, normal: Array) -> Array:
        d = np.array(self.toward, np.float32)[:, None]
        if self.way == "across":
            return np.cross(normal.T, np.broadcast_to(d, normal.shape).T).T
        return d - normal * (normal * d).sum(axis=0)
