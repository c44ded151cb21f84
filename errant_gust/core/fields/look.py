"""Looking at fields: slices, glyph samples, flow lines. Everything the interface draws is computed here."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from errant_gust.core.blocks import Cancel, share_out
from errant_gust.core.fields.extent import domain
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.sampling import sample_chain
from errant_gust.core.fields.scene import Scene
from errant_gust.core.fields.units import unit_text
from errant_gust.core.wanted import check


@dataclass(frozen=True)
class Window:
    """A rectangle in space: corner `origin`, and two edges `u` and `v` in metres."""

    origin: tuple[float, float, float]
    u: tuple[float, float, float]
    v: tuple[float, float, float]

    def points(self, columns: int, rows: int) -> Array:
        """Middles (rows · columns, 3) float32 of a grid of cells, rows along v."""
        a = (np.arange(columns) + 0.5) / columns
        b = (np.arange(rows) + 0.5) / rows
        grid = np.array(self.origin) + b[:, None, None] * np.array(self.v) + a[None, :, None] * np.array(self.u)
        return grid.reshape(-1, 3).astype(np.float32)


def swatch_window(scene: Scene, axis: int = 2, share: float = 0.5) -> Window:
    """A square slice across an axis through the middle of the action, for swatches."""
    low, high = domain(scene)
    middle, half = 0.5 * (low + high), 0.5 * (high - low)
    side = float(max(half[(axis + 1) % 3], half[(axis + 2) % 3]))
    middle[axis] = low[axis] + share * (high[axis] - low[axis])
    u, v = np.zeros(3), np.zeros(3)
    first, second = ((1, 2), (0, 2), (0, 1))[axis]
    u[first], v[second] = 2 * side, 2 * side
    origin = middle - 0.5 * u - 0.5 * v
    return Window(_vec(origin), _vec(u), _vec(v))


def _vec(v: Array) -> tuple[float, float, float]:
    return float(v[0]), float(v[1]), float(v[2])


def swatches(nodes: list[Node], window: Window, size: int, *, cancel: Cancel | None = None) -> list[Array]:
    """(size, size) float32 for each of the steps of a lane: the scalar, or the magnitude of the vector.

    Where the slice shows nothing of what the lane begins with, and that has a front, it is looked at from there.
    """

    def seen(window: Window) -> list[Array]:
        return [size_of(v).reshape(size, size) for v in sample_chain(nodes, window.points(size, size), cancel=cancel)]

    made = seen(window)
    front = nodes[0].step.front(nodes[0]) if nodes else None
    return seen(Window(*map(_vec, front))) if front and not np.ptp(made[0]) else made


def size_of(values: Array) -> Array:
    """Values (n,) as they are, vectors (n, 3) as magnitudes (n,)."""
    return np.sqrt(np.einsum("nc,nc->n", values, values)) if values.ndim == 2 else values


def unit_of(node: Node) -> str:
    """Unit of the values as it is shown: a vector that may be in any is shown as the speed that it carries with."""
    if node.unit is not None:
        return unit_text(node.unit)
    return "m/s" if node.kind == "vector" else ""


def flow_lines(
    node: Node, seeds: Array, *, length: float, steps: int, both: bool = False, cancel: Cancel | None = None
) -> Array:
    """Lines (n, steps + 1, 3) float32 along the field from seeds (n, 3), each `length` metres long.

    Steps of equal length by Adams and Bashforth's second order method (the first by midpoint), one evaluation a step;
    a line stops (repeats its last point) where the field is zero. Raises Cancelled when it is no longer wanted.
    """
    node.prepare(cancel)
    h = np.float32(length / steps)
    seeds = np.asarray(seeds, np.float32)
    out = np.empty((len(seeds), steps + 1, 3), np.float32)

    def direction(p: Array) -> Array:
        v = node.evaluate(p).value
        size = np.sqrt((v * v).sum(axis=0))
        return v / np.maximum(size, np.float32(1e-12)) * (size > 1e-9)

    def trace(start: int, stop: int) -> None:
        p = np.ascontiguousarray(seeds[start:stop].T)
        out[start:stop, 0] = p.T
        before = direction(p)
        p = p + h * direction(p + np.float32(0.5) * h * before)
        out[start:stop, 1] = p.T
        for i in range(1, steps):
            if i % 16 == 0:
                check()
            now = direction(p)
            p = p + h * np.where(now.any(axis=0), np.float32(1.5) * now - np.float32(0.5) * before, 0)
            before = now
            out[start:stop, i + 1] = p.T

    share_out(trace, len(seeds), block=512, cancel=cancel)
    if both:
        back = flow_lines(_Reversed(node), seeds, length=length, steps=steps, cancel=cancel)  # type: ignore[arg-type]
        return np.concatenate([back[:, :0:-1], out], axis=1)
    return out


class _Reversed:
    """A node that flows backwards."""

    def __init__(self, node: Node) -> None:
        self._node = node

    def prepare(self, cancel: Cancel | None = None) -> None:
        self._node.prepare(cancel)

    def evaluate(self, points: Array) -> Any:
        made = self._node.evaluate(points)
        return type(made)(-made.value)
