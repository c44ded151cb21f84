"""What a step computes with: a block of points, the values there, and their first derivatives.

Layout is structure-of-arrays, float32: points (3, n); scalar value (n,) with gradient (3, n); vector value (3, n) with
gradient (3, 3, n), where gradient[i, j] is the derivative of component i along axis j.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from errant_gust.core.fields.node import Node

Array = NDArray[Any]
Kind = Literal["scalar", "vector"]


@dataclass(frozen=True, slots=True)
class Samples:
    """Values and, where asked for, exact first derivatives."""

    value: Array
    gradient: Array | None = None

    @property
    def slope(self) -> Array:
        """The gradient, which the caller asked for. (3, n) of a scalar, (3, 3, n) of a vector. Raises RuntimeError
        if it was not asked for, which is our fault."""
        if self.gradient is None:
            raise RuntimeError("a gradient was used that was not asked for")
        return self.gradient

    def chain(self, value: Array, slope: Array) -> Samples:
        """The scalar g(f) from its value and g'(f): ∇g = g' ∇f."""
        return Samples(value, None if self.gradient is None else slope * self.gradient)

    def times(self, factor: Samples) -> Samples:
        """The product with a scalar field, by the product rule."""
        value = self.value * factor.value
        if self.gradient is None or factor.gradient is None:
            return Samples(value)
        if self.value.ndim == 1:
            return Samples(value, self.gradient * factor.value + self.value * factor.gradient)
        outer = self.value[:, None] * factor.gradient[None, :]
        return Samples(value, self.gradient * factor.value + outer)

    def plus(self, other: Samples) -> Samples:
        """The sum of two fields, with its gradient if both have one."""
        both = self.gradient is not None and other.gradient is not None
        return Samples(self.value + other.value, self.slope + other.slope if both else None)


def dot(a: Samples, b: Samples) -> Samples:
    """The scalar product of two vectors."""
    value = (a.value * b.value).sum(axis=0)
    if a.gradient is None or b.gradient is None:
        return Samples(value)
    return Samples(value, (a.gradient * b.value[:, None]).sum(axis=0) + (b.gradient * a.value[:, None]).sum(axis=0))


def cross(a: Samples, b: Samples) -> Samples:
    """The vector product of two vectors."""
    value = np.stack([a.value[i] * b.value[j] - a.value[j] * b.value[i] for i, j in ((1, 2), (2, 0), (0, 1))])
    if a.gradient is None or b.gradient is None:
        return Samples(value)
    g, h = a.gradient, b.gradient
    rows = [
        g[i] * b.value[j] + a.value[i] * h[j] - g[j] * b.value[i] - a.value[j] * h[i]
        for i, j in ((1, 2), (2, 0), (0, 1))
    ]
    return Samples(value, np.stack(rows))


def scaled(f: Samples, factor: float) -> Samples:
    """The field times a number."""
    k = np.float32(factor)
    return Samples(f.value * k, None if f.gradient is None else f.gradient * k)


def size_of(v: Samples, floor: float = 1e-9) -> Samples:
    """The magnitude of a vector; its gradient fades to zero where the vector does."""
    size = np.sqrt((v.value * v.value).sum(axis=0))
    if v.gradient is None:
        return Samples(size)
    safe = np.maximum(size, np.float32(floor))
    return Samples(size, (v.gradient * (v.value / safe)[:, None]).sum(axis=0))


def chosen(where: Array, f: Samples, g: Samples) -> Samples:
    """f where true, g elsewhere. `where` (n,) bool."""
    value = np.where(where, f.value, g.value)
    if f.gradient is None or g.gradient is None:
        return Samples(value)
    return Samples(value, np.where(where, f.gradient, g.gradient))


def smooth_step(x: Array) -> tuple[Array, Array]:
    """Quintic step from 0 at 0 to 1 at 1 and its slope (Perlin 2002). Both as `x`, of any shape, without a unit."""
    s = np.clip(x, 0, 1)
    return s * s * s * (s * (6 * s - 15) + 10), 30 * s * s * (s - 1) ** 2


def without_trace(slope: Array) -> Array:
    """The slope (3, 3, n) of a curl, which has no trace: differences across a crease, where it jumps sideways, show
    one, and elsewhere their rounding."""
    return slope - np.trace(slope) / np.float32(3) * np.eye(3, dtype=np.float32)[:, :, None]


def curl_of(gradient: Array) -> Array:
    """Curl (3, n) from the gradient (3, 3, n) of a vector field."""
    return np.stack([gradient[2, 1] - gradient[1, 2], gradient[0, 2] - gradient[2, 0], gradient[1, 0] - gradient[0, 1]])


def constant(value: float | tuple[float, float, float], n: int, gradient: bool) -> Samples:
    """The same scalar or vector at n points."""
    if isinstance(value, tuple):
        filled = np.broadcast_to(np.array(value, np.float32)[:, None], (3, n)).copy()
        return Samples(filled, np.zeros((3, 3, n), np.float32) if gradient else None)
    return Samples(np.full(n, value, np.float32), np.zeros((3, n), np.float32) if gradient else None)


class At:
    """A block of points as one step sees it: where, when, and what comes in."""

    __slots__ = ("gradient", "node", "points")

    def __init__(self, node: Node, points: Array, gradient: bool) -> None:
        self.node, self.points, self.gradient = node, points, gradient

    @property
    def n(self) -> int:
        """How many points there are."""
        return int(self.points.shape[1])

    @property
    def time(self) -> float:
        """The time of the scene, in s."""
        return self.node.scene.time

    @property
    def kind(self) -> Kind:
        """Whether this step makes a scalar or a vector."""
        return self.node.kind

    def incoming(self, gradient: bool | None = None) -> Samples:
        """What the step before made, with its gradient if this step was asked for one (or if told so)."""
        if self.node.incoming is None:
            raise RuntimeError("a start has nothing coming in")
        return self.node.incoming.evaluate(self.points, self.gradient if gradient is None else gradient)

    def field(self, id: str) -> Samples:
        """Another lane at these points."""
        return self.node.scene.lane(id).evaluate(self.points, self.gradient)

    def number(self, name: str) -> Samples:
        """A parameter that may be a field; a plain number gives a scalar that broadcasts."""
        lane = self.node.varying.get(name)
        if lane is not None:
            return self.node.scene.lane(lane).evaluate(self.points, self.gradient)
        value = np.full(1, getattr(self.node.step, name), np.float32)
        return Samples(value, np.zeros((3, 1), np.float32) if self.gradient else None)

    def total(self, name: str) -> Any:
        """Integral over time of a rate parameter, from the first frame to now."""
        return self.node.totals[name]
