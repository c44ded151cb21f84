"""Steer around: the flow parts round a shape and nothing points into it."""

from typing import Any, Literal

import numpy as np

from errant_gust.core.fields.near_walls import ramp, tangential
from errant_gust.core.fields.samples import Array, At, Kind, Samples, curl_of
from errant_gust.core.fields.step import FieldStep
from errant_gust.core.fields.steps.starts import uniform_potential
from errant_gust.core.geometry.placed import Framed, PlacedShape, Surrounding
from errant_gust.core.kernels.steer import steer, steer_several
from errant_gust.core.study.parameters import ShapeId, param


class SteerAround(FieldStep):
    """Parts the flow round a shape; nothing points into it.

    By the potential: ψ' = α ψ + (1 − α) g (g·ψ) with g = ∇d and the quintic-like ramp α(d / reach) of Bridson,
    Houriham, Nordenstam 2007; v = ∇ × ψ' has no sources or sinks and no speed through any surface of equal distance at
    the shape. Steps in a row steer around their shapes together, each with its own ramp, which the others leave alone
    on its surface. By sliding (for fields without a potential): the part of v along g is taken out by 1 − α. A moving
    shape pushes what it touches along; what grows or deforms pushes outward, which is a source, and no longer has a
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
    blocked_by = ("shape",)
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
        """Whether the field is steered by its potential, so that it stays without sources."""
        return self.method == "by the potential" and self.chain(node)[0].has_potential != "none"

    def chain(self, node: Any) -> tuple[Any, list[tuple[PlacedShape, float]]]:
        """What comes into the first of the steps in a row that steer by the potential up to this one, and the shapes
        that they steer around with their reaches: they are steered around together."""
        return node.kept("chain", lambda: self._chain(node))

    def _chain(self, node: Any) -> tuple[Any, list[tuple[PlacedShape, float]]]:
        own = (node.scene.shape(self.shape), self.reach)
        before = node.incoming
        if before is None or not isinstance(before.step, SteerAround) or not before.step.uses_potential(before):
            return before, [own]
        base, shapes = before.step.chain(before)
        return base, [*(one for one in shapes if one[0].id != own[0].id), own]

    def remark(self, node: Any) -> str:
        if not self.uses_potential(node):
            return "by sliding" if self.method == "by sliding" else "by sliding: what comes in has no potential"
        together = [shape.id for shape, _ in self.chain(node)[1]]
        return f"by the potential, around {', '.join(together)} together" if len(together) > 1 else "by the potential"

    def has_potential(self, node: Any) -> Literal["none", "free", "gauged"]:
        if self.method != "by the potential":
            return "none"
        base, shapes = self.chain(node)
        grows = any(shape.growth is not None for shape, _ in shapes)
        return "free" if base.has_potential == "free" and not grows else "none"

    def groups(self, node: Any) -> list[list[tuple[PlacedShape, float]]]:
        """The shapes in groups whose reaches may touch, each in the order of the steps."""
        return node.kept("groups", lambda: grouped(self.chain(node)[1]))

    def potential(self, at: At, around: Framed | None = None) -> Samples:
        """The steered potential; beyond the reach it is the incoming one."""
        base = self.chain(at.node)[0]
        made: Samples | None = None
        for group in self.groups(at.node):
            near = self._within(group, at.points)
            if near.all():
                return self._near(at, base, group)
            if made is None:
                p = base.potential(at.points, around)
                made = Samples(p.value.copy(), p.slope.copy())
            if near.any():
                part = self._near(At(at.node, np.ascontiguousarray(at.points[:, near]), True), base, group)
                made.value[:, near], made.slope[:, :, near] = part.value, part.slope
        assert made is not None
        return made

    def _within(self, group: list[tuple[PlacedShape, float]], points: Array) -> Array:
        """Which points (3, n) may be within reach of a group."""
        near: Array = np.zeros(points.shape[1], bool)
        for shape, reach in group:
            near |= shape.near(points, reach)
        return near

    def _near(self, at: At, base: Any, group: list[tuple[PlacedShape, float]]) -> Samples:
        """The steered potential at points that may be within reach of a group of shapes."""
        shapes = [shape for shape, _ in group]
        around: Framed = shapes[0] if len(group) == 1 else Surrounding(tuple(shapes))
        p = base.potential(at.points, around)
        f = np.float32
        n, m = at.n, len(group)
        d, g, h = np.empty((m, n), f), np.empty((m, 3, n), f), np.empty((m, 6, n), f)
        push, dpush = np.zeros((m, 3, n), f), np.zeros((m, 3, 3, n), f)
        for i, shape in enumerate(shapes):
            d[i], g[i], h[i] = shape.distance(at.points, 2)  # type: ignore[call-overload]
            if shape.moves:
                rigid = self._rigid(shape, at)
                push[i], dpush[i] = rigid.value, rigid.slope
        value, gradient = np.empty((3, n), f), np.empty((3, 3, n), f)
        psi, dpsi = np.ascontiguousarray(p.value, f), np.ascontiguousarray(p.slope, f)
        if m == 1:
            steer(psi, dpsi, d[0], g[0], h[0], push[0], dpush[0], f(group[0][1]), value, gradient)
        else:
            reaches = np.array([reach for _, reach in group], f)
            steer_several(psi, dpsi, d, g, h, push, dpush, reaches, value, gradient)
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
        base = self.chain(at.node)[0]
        value: Array | None = None
        for group in self.groups(at.node):
            near = self._within(group, at.points)
            if value is None:
                value = np.empty((3, at.n), np.float32) if near.all() else base.evaluate(at.points).value.copy()
            if near.any():
                points = at.points if near.all() else np.ascontiguousarray(at.points[:, near])
                part = self._near(At(at.node, points, True), base, group)
                value[:, near] = curl_of(part.slope) + _pushed_out(group, points)
        assert value is not None
        return Samples(value, at.node.differences(at.points, value) if at.gradient else None)

    def _slide(self, at: At) -> Samples:
        shape = at.node.scene.shape(self.shape)
        made = tangential(at.incoming(), at.points, shape, 1.0, self.reach)
        # what the shape's own motion adds to the slope is not known in closed form
        return Samples(made.value, at.node.differences(at.points, made.value)) if at.gradient and shape.moves else made


def grouped(shapes: list[tuple[PlacedShape, float]]) -> list[list[tuple[PlacedShape, float]]]:
    """Shapes whose boxes, grown by their reaches, touch: directly or by way of others."""
    groups: list[list[tuple[PlacedShape, float]]] = []
    for one in shapes:
        touched = [group for group in groups if any(_touch(one, other) for other in group)]
        groups = [group for group in groups if group not in touched]
        groups.append([*(other for group in touched for other in group), one])
    return groups


def _touch(a: tuple[PlacedShape, float], b: tuple[PlacedShape, float]) -> bool:
    if not a[0].kind.bounded or not b[0].kind.bounded:
        return True
    (low, high), (lower, upper) = a[0].box, b[0].box
    return bool(((low - a[1] <= upper + b[1]) & (lower - b[1] <= high + a[1])).all())


def _pushed_out(group: list[tuple[PlacedShape, float]], points: Array) -> Array | np.float32:
    """What growing or deforming surfaces add (3, n): no potential has a flux out of a closed surface, so it comes on
    top, at its full speed there and fading over the reach, and not into another shape."""
    total: Array | np.float32 = np.float32(0)
    for shape, reach in group:
        if shape.growth is None:
            continue
        d, normal, _ = shape.distance(points, 1)
        assert normal is not None
        share = 1 - ramp(d, reach)[0]
        for other, its in group:
            if other is not shape:
                share = share * ramp(other.distance(points)[0], its)[0]
        total = total + np.asarray(share * shape.swelling(points) * normal, np.float32)
    return total
