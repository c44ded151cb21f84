"""Looking at fields: slices, glyph samples, flow lines, readings. Everything the interface draws is computed here."""

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from errant_gust.core.blocks import Cancel, share_out
from errant_gust.core.fields.bunching import bunching
from errant_gust.core.fields.extent import domain
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.sampling import sample, sample_chain
from errant_gust.core.fields.scene import Scene
from errant_gust.core.fields.solved import solved_of
from errant_gust.core.fields.units import unit_text

READING_SIDE = 20


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


@dataclass(frozen=True)
class Reading:
    """Numbers of a step over a box: what it did, how much of the box it covers, how far it is from divergence-free.

    `divergence` is for the size of the smallest detail; that for a voxel is divergence · per_size / detail.
    `bunching` is the mean density that particles see after `travel` metres. `solved`: iterations and divergence of a
    solved step.
    """

    kind: str
    low: float
    high: float
    mean: float
    rms: float
    coverage: float
    divergence: float | None
    unit: str
    per: str = "detail"
    per_size: float = 1.0
    bunching: float | None = None
    travel: float | None = None
    solved: dict[str, float] | None = None
    histogram: list[int] | None = None
    remark: str = ""
    """What the step did otherwise than its name says, if it did."""

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


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
    """(size, size) float32 for each of the steps of a lane: the scalar, or the magnitude of the vector."""
    return [size_of(v).reshape(size, size) for v in sample_chain(nodes, window.points(size, size), cancel=cancel)]


def size_of(values: Array) -> Array:
    """Values (n,) as they are, vectors (n, 3) as magnitudes (n,)."""
    return np.sqrt(np.einsum("nc,nc->n", values, values)) if values.ndim == 2 else values


def reading(
    node: Node,
    low: Array,
    high: Array,
    *,
    side: int = READING_SIDE,
    cancel: Cancel | None = None,
    gathers: bool = False,
) -> Reading:
    """Numbers over a jittered grid of side³ points in the box, less those inside shapes that are steered around.

    Divergence is rms(div) · size of detail / rms(|v|). `gathers` also asks for the bunching figure.
    """
    rng = np.random.default_rng(7)
    cells = np.stack(np.meshgrid(*[np.arange(side)] * 3, indexing="ij"), axis=-1).reshape(-1, 3)
    points = (low + (cells + rng.random(cells.shape)) / side * (high - low)).astype(np.float32)
    for id in node.obstacles:
        shape = node.scene.shape(id)
        free = shape.distance(np.ascontiguousarray(points.T))[0] > 0.02 * node.feature
        points = points[free] if free.any() else points
    value, _ = sample(node, points, cancel=cancel)
    divergence = None
    if node.kind == "vector":
        size = np.sqrt(np.einsum("nc,nc->n", value, value))
        few = points[:: max(1, len(points) // 1500)]
        slope = sample(node, few, gradient=True, cancel=cancel)[1]
        assert slope is not None
        rms = float(np.sqrt(np.mean(size.astype(np.float64) ** 2)))
        trace = np.trace(slope, axis1=1, axis2=2).astype(np.float64)
        divergence = float(np.sqrt(np.mean(trace**2)) * node.feature / rms) if rms > 0 else 0.0
    else:
        size = value
        rms = float(np.sqrt(np.mean(size.astype(np.float64) ** 2)))
    most = float(np.abs(size).max())
    coverage = float(np.mean(np.abs(size) > 0.01 * most)) if most > 0 else 0.0
    gathered = None
    if gathers and node.kind == "vector":
        gathered = bunching(node, points, travel=float(0.25 * np.linalg.norm(high - low)), cancel=cancel)
    voxels = [node.scene.region(r.id).voxel_size for r in node.scene.study.regions]
    solved = solved_of(node)
    return Reading(
        node.kind,
        float(size.min()),
        float(size.max()),
        float(size.mean()),
        rms,
        coverage,
        divergence,
        unit_of(node),
        "voxel" if voxels else "detail",
        min(voxels) / node.feature if voxels else 1.0,
        gathered.figure if gathered else None,
        gathered.travel if gathered else None,
        {"iterations": solved.iterations, "before": solved.before, "after": solved.after} if solved else None,
        histogram(size),
        node.step.remark(node),
    )


def histogram(values: Array, bins: int = 48) -> list[int]:
    """Counts in equal parts of the range; all in the middle one if there is next to no range."""
    low, high = float(values.min()), float(values.max())
    if high - low <= 1e-5 * max(abs(low), abs(high), 1e-30):
        return [len(values) if i == bins // 2 else 0 for i in range(bins)]
    return [int(n) for n in np.histogram(values.astype(np.float64), bins, (low, high))[0]]


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
    a line stops (repeats its last point) where the field is zero.
    """
    node.prepare()
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
            if cancel is not None and i % 16 == 0 and cancel():
                return
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

    def prepare(self) -> None:
        self._node.prepare()

    def evaluate(self, points: Array) -> Any:
        made = self._node.evaluate(points)
        return type(made)(-made.value)
