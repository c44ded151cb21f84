"""Curves as shapes: a path to follow, a tube of varying width, something to be born along."""

from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.errors import StudyError
from errant_gust.core.geometry.curve_files import read_curves
from errant_gust.core.geometry.curves import CurveSet, curve_set, frames
from errant_gust.core.geometry.shapes import Geometry, ShapeKind, grid_faces
from errant_gust.core.study.parameters import Curve, Points, param
from errant_gust.core.study.profile import profile

Array = NDArray[Any]


class Tube(ShapeKind):
    """Curves with a radius that may vary along them. Distances are to the tube: |x − c(s)| − R(s)."""

    if TYPE_CHECKING:  # declared by who is one, as parameters
        radius: float
        widths: list[tuple[float, float]]

    def curves(self, scene: Geometry) -> CurveSet:
        """The curves, in the shape's own frame."""
        raise NotImplementedError

    def width(self, share: Array) -> tuple[Array, Array, Array]:
        """Radius in metres at shares of the length, and its first and second derivative by the share. All (n,).
        Raises StudyError where it reaches zero."""
        if min(y for _, y in self.widths) <= 0:
            raise StudyError("the width reaches zero", where="widths", fix="keep every factor above 0")
        value, slope, bend = profile(self.widths, share)
        r = np.float32(self.radius)
        return value * r, slope * r, bend * r

    def local(self, points: Array, order: int, scene: Geometry) -> tuple[Array, Array | None, Array | None]:
        near = self.curves(scene).nearest(points)
        d, g = self._tube(near)
        if order < 2:
            return d, g if order else None, None
        h = np.float32(max(1e-3 * self.radius, 1e-4))
        rows = np.empty((3, 3, points.shape[1]), np.float32)
        for axis in range(3):  # second derivatives by differences of the exact first ones
            ahead, behind = points.copy(), points.copy()
            ahead[axis] += h
            behind[axis] -= h
            rows[:, axis] = (
                self._tube(self.curves(scene).nearest(ahead))[1] - self._tube(self.curves(scene).nearest(behind))[1]
            ) / (2 * h)
        return (
            d,
            g,
            np.stack(
                [
                    rows[0, 0],
                    rows[1, 1],
                    rows[2, 2],
                    *(0.5 * (rows[i, j] + rows[j, i]) for i, j in ((0, 1), (0, 2), (1, 2))),
                ]
            ),
        )

    def _tube(self, near: Any) -> tuple[Array, Array]:
        away = np.sqrt((near.offset**2).sum(axis=0) + near.over**2)
        r, slope, _ = self.width(np.clip(near.s / near.length, 0, 1))
        out = (near.offset + near.over * near.tangent) / np.maximum(away, np.float32(1e-9))
        inner = (near.s > 0) & (near.s < near.length)
        along = np.where(inner, slope / near.length * near.q, np.float32(0)) * near.tangent
        return away - r, out - along

    def half_extents(self, scene: Geometry) -> tuple[Array, Array]:
        low, high = self.curves(scene).box
        most = self.radius * max(y for _, y in self.widths)
        return 0.5 * (low + high), 0.5 * (high - low) + most

    def triangles(self, scene: Geometry) -> tuple[Array, Array]:
        found = self.curves(scene)
        vertices, faces, base = [], [], 0
        for number in range(min(len(found.length), 400)):
            count = int(np.clip((found.owner == number).sum() * 8, 24, 600))
            points, tangents, share = found.along(number, count)
            if found.closed:
                points, tangents, share = (np.concatenate([a, a[:1]]) for a in (points, tangents, share))
            n = frames(tangents)
            b = np.cross(tangents, n)
            u = np.linspace(0, 2 * np.pi, 21)
            r = self.width(share.astype(np.float32))[0][:, None, None]
            ring = points[:, None] + r * (np.cos(u)[None, :, None] * n[:, None] + np.sin(u)[None, :, None] * b[:, None])
            v, f = grid_faces(ring.transpose(1, 0, 2))
            vertices.append(v)
            faces.append(f + base)
            base += len(v)
        return np.concatenate(vertices), np.concatenate(faces)


class CurveShape(Tube):
    """A curve through points, drawn or imported, with a radius that may vary along it.

    Smooth curves are twice continuously differentiable. Distances are to the tube: |x − c(s)| − R(s).
    """

    id = "curve"
    label = "Curve"
    yields = "a path to follow, or a tube"
    headline = "radius"
    points: Points = param(
        [(-1.5, 0, 1), (0, 0.6, 1), (1.5, 0, 1.4)], unit="m", help="Points that the curve goes through"
    )
    file: str = param("", help="Curves from a file instead: OBJ lines, SVG paths, USD curves", files=("curve",))
    scale: float = param(1.0, unit="×", above=0, slider=(0.01, 10), help="Metres per unit of the file")
    form: Literal["smooth", "straight"] = param(
        "smooth", help="A spline through the points, or straight from one to the next"
    )
    closed: bool = param(False, help="Join the end to the beginning")
    radius: float = param(0.25, unit="m", above=0, slider=(0.01, 3), help="Radius of the tube around the curve")
    widths: Curve = param(
        [(0.0, 1.0), (1.0, 1.0)], help="Radius along the curve, as a factor; 0 is its start, 1 its end"
    )

    def curves(self, scene: Geometry) -> CurveSet:
        if self.file:
            found = read_curves(scene.assets.path(self.file, scene.where))
            scaled = tuple(tuple(tuple(float(v) * self.scale for v in p) for p in c) for c in found)
        else:
            scaled = (tuple(tuple(map(float, p)) for p in self.points),)
        return curve_set(scaled, self.form == "smooth", self.closed, f"{scene.where}.points")
