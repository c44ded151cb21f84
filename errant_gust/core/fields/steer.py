"""Steer around: the flow parts round a shape and nothing points into it."""

from typing import Any, Literal

import numpy as np

from errant_gust.core.fields.samples import Array, At, Kind, Samples, curl_of
from errant_gust.core.fields.starts import uniform_potential
from errant_gust.core.fields.step import FieldStep
from errant_gust.core.geometry.placed import PlacedShape
from errant_gust.core.geometry.primitives import PAIRS
from errant_gust.core.kernels.steer import steer
from errant_gust.core.study.parameters import ShapeId, param


class SteerAround(FieldStep):
    """Parts the flow round a shape; nothing points into it.

    By the potential: ψ' = α ψ + (1 − α) g (g·ψ) with g = ∇d and the quintic-like ramp α(d / reach) of Bridson,
    Houriham, Nordenstam 2007; v = ∇ × ψ' has no sources or sinks and no speed through any surface of equal distance at
    the shape. By sliding (for fields without a potential): the part of v along g is taken out by 1 − α. A moving shape
    pushes what it touches along; what grows or deforms pushes outward, which is a source, and no longer has a
    potential.
    """

    id = "steer_around"
    label = "Steer around"
    family = "change"
    accepts = "vector"
    yields = "a flow that parts round a shape"
    mistake = (
        "Anything added after it can point into the obstacle again. Keep it last but for Limit, and give the "
        "reach at least three voxels."
    )
    headline = "shape"
    formula = "ψ' = αψ + (1−α) ∇d (∇d·ψ),  v = ∇ × ψ'"

    shape: ShapeId = param(help="The shape to go around")
    reach: float = param(
        0.6, unit="m", above=0, slider=(0.05, 5), help="How far from the surface the flow begins to turn"
    )
    method: Literal["by the potential", "by sliding"] = param(
        "by the potential", help="By the potential is free of sinks; fields without a potential slide"
    )

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return "vector"

    def feature(self) -> float:
        return self.reach

    def uses_potential(self, node: Any) -> bool:
        return self.method == "by the potential" and node.incoming.has_potential != "none"

    def has_potential(self, node: Any) -> Literal["none", "free", "gauged"]:
        grows = node.scene.shape(self.shape).growth is not None
        return "free" if self.uses_potential(node) and node.incoming.has_potential == "free" and not grows else "none"

    def ramp(self, d: Array) -> tuple[Array, Array]:
        """α and its slope along d: 0 inside, 1 beyond the reach."""
        r = np.clip(d / np.float32(self.reach), 0, 1)
        r2 = r * r
        alpha = r * (15 + r2 * (-10 + 3 * r2)) * np.float32(0.125)
        slope = (15 + r2 * (-30 + 15 * r2)) * np.float32(0.125 / self.reach)
        return alpha, np.where((d < 0) | (r >= 1), np.float32(0), slope)

    def potential(self, at: At, around: PlacedShape | None = None) -> Samples:
        """The steered potential; beyond the reach it is the incoming one."""
        node = at.node
        assert node.incoming is not None
        shape = node.scene.shape(self.shape)
        p = node.incoming.potential(at.points, shape)
        near = shape.near(at.points, self.reach)
        if near.all():
            return self._near(at, shape, p)
        if not near.any():
            return p
        part = self._near(At(node, np.ascontiguousarray(at.points[:, near]), True), shape, None)
        value, gradient = p.value.copy(), p.slope.copy()
        value[:, near], gradient[:, :, near] = part.value, part.slope
        return Samples(value, gradient)

    def _near(self, at: At, shape: PlacedShape, p: Samples | None) -> Samples:
        """The steered potential at points that may be within reach."""
        assert at.node.incoming is not None
        p = p or at.node.incoming.potential(at.points, shape)
        d, g, h = shape.distance(at.points, 2)
        assert g is not None
        assert h is not None
        if shape.moves:
            rigid = self._rigid(shape, at)
            push, dpush = rigid.value.astype(np.float32), rigid.slope.astype(np.float32)
        else:
            push, dpush = np.zeros((3, at.n), np.float32), np.zeros((3, 3, at.n), np.float32)
        value, gradient = np.empty((3, at.n), np.float32), np.empty((3, 3, at.n), np.float32)
        parts = [np.ascontiguousarray(a, np.float32) for a in (p.value, p.slope, d, g, h, push, dpush)]
        steer(*parts, np.float32(self.reach), value, gradient)
        return Samples(value, gradient)

    def _rigid(self, shape: PlacedShape, at: At) -> Samples:
        """A potential of the shape's own motion: V by a linear one, spin ω by -½ |r|² ω."""
        p = uniform_potential(shape.velocity, at, shape)
        if not any(shape.spin):
            return p
        r = at.points - np.array(shape.kind.move, np.float32)[:, None]
        w = np.array(shape.spin, np.float32)[:, None]
        return Samples(p.value - 0.5 * (r * r).sum(axis=0) * w, p.slope - w[:, None] * r[None, :])

    def evaluate(self, at: At) -> Samples:
        if not self.uses_potential(at.node):
            return self._slide(at)
        shape = at.node.scene.shape(self.shape)
        near = shape.near(at.points, self.reach)
        if near.all():
            value = curl_of(self._near(at, shape, None).slope) + self._pushed_out(shape, at.points)
        else:
            value = at.incoming(gradient=False).value
            if near.any():
                part_points = np.ascontiguousarray(at.points[:, near])
                part = self._near(At(at.node, part_points, True), shape, None)
                value = value.copy()
                value[:, near] = curl_of(part.slope) + self._pushed_out(shape, part_points)
        return Samples(value, at.node.differences(at.points) if at.gradient else None)

    def _pushed_out(self, shape: PlacedShape, points: Array) -> Array | np.float32:
        """What a growing or deforming surface adds (3, n): no potential has a flux out of a closed surface, so it comes
        on top, at its full speed there and fading over the reach."""
        if shape.growth is None:
            return np.float32(0)
        d, normal, _ = shape.distance(points, 1)
        assert normal is not None
        return np.asarray((1 - self.ramp(d)[0]) * shape.swelling(points) * normal, np.float32)

    def _slide(self, at: At) -> Samples:
        f = at.incoming()
        shape = at.node.scene.shape(self.shape)
        d, g, h6 = shape.distance(at.points, 2 if at.gradient else 1)
        assert g is not None
        alpha, da = self.ramp(d)
        rest = 1 - alpha
        v = f.value - shape.surface_velocity(at.points) if shape.moves else f.value
        along = (g * v).sum(axis=0)
        value = f.value - rest * along * g
        if f.gradient is None:
            return Samples(value)
        if shape.moves or h6 is None:
            return Samples(value, at.node.differences(at.points))
        h = np.empty((3, 3, at.n), np.float32)
        for row, (i, j) in enumerate(PAIRS):
            h[i, j] = h[j, i] = h6[row]
        dalong = np.einsum("kjn,kn->jn", h, v) + np.einsum("kn,kjn->jn", g, f.gradient)
        change = -da * along * g
        gradient = f.gradient - g[:, None] * (change + rest * dalong)[None, :] - rest * along * h
        return Samples(value, gradient)
