"""Numbers of a field: over a box, a plane or the surface of a shape, and what goes through walls."""

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import StudyError
from errant_gust.core.fields.bunching import bunching
from errant_gust.core.fields.look import Window, size_of, unit_of
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.sampling import sample
from errant_gust.core.fields.solved import solved_of
from errant_gust.core.geometry.placed import PlacedShape, Side
from errant_gust.core.geometry.surface_samples import surface_samples

READING_SIDE = 20
ON_PLANE = 64
ON_SURFACE = 4000


@dataclass(frozen=True)
class Through:
    """The most that goes into (or out of) a shape at its surface, as seen from the surface.

    `speed` in m/s, at the point `at`; `share` of that surface where it is more than a twentieth of the speed there.
    """

    shape: str
    side: Side
    speed: float
    at: tuple[float, float, float]
    share: float


@dataclass(frozen=True)
class Reading:
    """Numbers of a step: what it did, how much of a place it covers, how far it is from divergence-free.

    Range, mean, root mean square, coverage and histogram are those of the place `over`. Divergence and bunching are
    those of the whole box. `divergence` is for the size of the smallest detail; that for a voxel is divergence ·
    per_size / detail. `bunching` is the mean density that particles see after `travel` metres. `solved`: iterations and
    divergence of a solved step. `through`: what goes through walls that the field is led around, or kept in.
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
    over: str = "box"
    through: tuple[Through, ...] = ()

    def as_dict(self) -> dict[str, Any]:
        """As JSON has it."""
        return asdict(self)

    def lines(self) -> list[str]:
        """In words, a line each."""
        place = {"box": "in the whole region", "plane": "on the plane", "surface": "on the surface"}[self.over]
        what = "speed" if self.kind == "vector" else "value"
        said = [
            f"{what} {place}: {self.low:.4g} … {self.high:.4g} {self.unit}, mean {self.mean:.4g}, rms {self.rms:.4g}",
            f"covers {self.coverage:.0%}",
        ]
        for t in self.through:
            at = ", ".join(f"{c:.3g}" for c in t.at)
            way = "into" if t.side == "around" else "out of"
            said.append(f"most {way} '{t.shape}': {t.speed:.3g} {self.unit} at ({at}) m, {t.share:.1%} of its surface")
        if self.divergence is not None:
            figure = self.divergence * self.per_size
            said.append(f"divergence of a {self.per} / speed: {figure:.3g} in the whole region")
        if self.bunching is not None:
            said.append(f"bunching after {self.travel:.3g} m: {self.bunching:.3g}")
        return [*said, *([self.remark] if self.remark else [])]


@dataclass(frozen=True)
class Spots:
    """Where numbers are read: points (n, 3) float32, and what they lie on."""

    points: Array
    over: str
    shape: PlacedShape | None = None


def in_box(low: Array, high: Array, side: int = READING_SIDE) -> Spots:
    """A jittered grid of side³ points, the same every time. `low` and `high` (3,) in m; places (side³, 3) float32."""
    rng = np.random.default_rng(7)
    cells = np.stack(np.meshgrid(*[np.arange(side)] * 3, indexing="ij"), axis=-1).reshape(-1, 3)
    return Spots((low + (cells + rng.random(cells.shape)) / side * (high - low)).astype(np.float32), "box")


def on_plane(window: Window, side: int = ON_PLANE) -> Spots:
    """The middles of side² cells of a rectangle."""
    return Spots(window.points(side, side), "plane")


def on_shape(shape: PlacedShape, count: int = ON_SURFACE) -> Spots:
    """Evenly spread over a surface, moved from its triangles onto it."""
    return Spots(_on(shape, count)[0], "surface", shape)


def _on(shape: PlacedShape, count: int) -> tuple[Array, Array]:
    points, _ = surface_samples(*shape.surface, count)
    for _ in range(2):
        d, normal, _ = shape.distance(np.ascontiguousarray(points.T), 1)
        assert normal is not None
        points = (points - (d * normal).T).astype(np.float32)
    normal = shape.distance(np.ascontiguousarray(points.T), 1)[1]
    assert normal is not None
    return points, normal.T


def reading(
    node: Node,
    low: Array,
    high: Array,
    *,
    over: Spots | None = None,
    side: int = READING_SIDE,
    cancel: Cancel | None = None,
    gathers: bool = False,
) -> Reading:
    """Numbers over the box from low to high (3,) in metres, less what is inside shapes that are steered around; those
    that have a place, over a plane or a surface if one is given.

    Divergence is rms(div) · size of detail / rms(|v|). `gathers` also asks for bunching and what goes through walls.
    Raises StudyError where nothing that it finds is a number.
    """
    box = Spots(_outside(node, in_box(low, high, side).points), "box")
    spots = box if over is None else over
    points = spots.points if spots.over == "surface" else _outside(node, spots.points)
    size = size_of(sample(node, points, cancel=cancel)[0])
    sound, lost = np.isfinite(size), ""
    if not sound.all():
        if not sound.any():
            raise StudyError("is not a number anywhere where it was looked at", where=node.where, fix="look before it")
        lost = f"{100 * (1 - sound.mean()):.2g} % of the values are no numbers"
        size = size[sound]
    rms = float(np.sqrt(np.mean(size.astype(np.float64) ** 2)))
    divergence, gathered = None, None
    if node.kind == "vector":
        divergence = _divergence(node, box.points, cancel)
        if gathers:
            travel = float(0.25 * np.linalg.norm(high - low))
            gathered = bunching(node, box.points, travel=travel, cancel=cancel)
    most = float(np.abs(size).max())
    voxels = [node.scene.region(r.id).voxel_size for r in node.scene.study.regions]
    solved = solved_of(node)
    return Reading(
        kind=node.kind,
        low=float(size.min()),
        high=float(size.max()),
        mean=float(size.mean()),
        rms=rms,
        coverage=float(np.mean(np.abs(size) > 0.01 * most)) if most > 0 else 0.0,
        divergence=divergence,
        unit=unit_of(node),
        per="voxel" if voxels else "detail",
        per_size=min(voxels) / node.feature if voxels else 1.0,
        bunching=gathered.figure if gathered else None,
        travel=gathered.travel if gathered else None,
        solved={"iterations": solved.iterations, "before": solved.before, "after": solved.after} if solved else None,
        histogram=histogram(size),
        remark="; ".join(words for words in (lost, node.step.remark(node)) if words),
        over=spots.over,
        through=tuple(through_walls(node, spots.shape, cancel)) if gathers and node.kind == "vector" else (),
    )


def _outside(node: Node, points: Array) -> Array:
    """Points (n, 3) that are in no shape that the field is led around; all if none is."""
    for id in sorted(node.obstacles):
        free = node.scene.shape(id).distance(np.ascontiguousarray(points.T))[0] > 0.02 * node.feature
        points = points[free] if free.any() else points
    return points


def _divergence(node: Node, points: Array, cancel: Cancel | None) -> float:
    rms = float(np.sqrt(np.mean(size_of(sample(node, points, cancel=cancel)[0]).astype(np.float64) ** 2)))
    slope = sample(node, points[:: max(1, len(points) // 1500)], gradient=True, cancel=cancel)[1]
    assert slope is not None
    trace = np.trace(slope, axis1=1, axis2=2).astype(np.float64)
    return float(np.sqrt(np.mean(trace**2)) * node.feature / rms) if rms > 0 else 0.0


def through_walls(node: Node, looked_at: PlacedShape | None = None, cancel: Cancel | None = None) -> list[Through]:
    """What goes through the walls of the steps up to here, and into the shape that is looked at."""
    walls: dict[str, Side] = {}
    here: Node | None = node
    while here is not None:
        for id, side in here.step.blocking():
            walls.setdefault(id, side)
        here = here.incoming
    if looked_at is not None:
        walls.setdefault(looked_at.id, "around")
    return [through(node, node.scene.shape(id), side, cancel=cancel) for id, side in walls.items()]


def through(
    node: Node, shape: PlacedShape, side: Side, count: int = ON_SURFACE, cancel: Cancel | None = None
) -> Through:
    """What a vector field carries into a shape that it is kept around, or out of one that it is kept inside, as seen
    from the moving surface."""
    points, normal = _on(shape, count)
    v = sample(node, points, cancel=cancel)[0].astype(np.float64)
    if shape.moves:
        v = v - shape.surface_velocity(np.ascontiguousarray(points.T)).T
    into = (v * normal).sum(axis=1) * (-1 if side == "around" else 1)
    worst = int(into.argmax())
    x, y, z = (float(c) for c in points[worst])
    rms = float(np.sqrt(np.mean((v * v).sum(axis=1))))
    share = float(np.mean(into > 0.05 * rms)) if rms > 0 else 0.0
    return Through(shape.id, side, float(max(0.0, into[worst])), (x, y, z), share)


def histogram(values: Array, bins: int = 48) -> list[int]:
    """Counts in equal parts of the range; all in the middle one if there is next to no range. `values` (n,)."""
    low, high = float(values.min()), float(values.max())
    if high - low <= 1e-5 * max(abs(low), abs(high), 1e-30):
        return [len(values) if i == bins // 2 else 0 for i in range(bins)]
    return [int(n) for n in np.histogram(values.astype(np.float64), bins, (low, high))[0]]
