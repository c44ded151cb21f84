"""Curves in space: smooth or straight, open or closed, many at once; length, frames, closest point."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.errors import StudyError
from errant_gust.core.kernels import curves as kernels
from errant_gust.core.making import lazy

Array = NDArray[Any]
CHORDS = 8  # fine chords a smooth piece
MAX_POINTS = 200_000


@dataclass(frozen=True)
class Nearest:
    """Closest points on curves for n points: place s in metres along the curve, overshoot beyond an open end (negative
    before the start), ∇s = q · tangent, offset from the curve (3, n), tangent, curvature vector and its change along
    s."""

    s: Array
    over: Array
    q: Array
    offset: Array
    tangent: Array
    curvature: Array
    change: Array
    length: Array


class CurveSet:
    """Cubic pieces of one or many curves, ready to be searched. Points in metres, (n, 3) a curve."""

    def __init__(self, curves: Sequence[Array], *, smooth: bool, closed: bool, where: str = "curve") -> None:
        pieces: list[Array] = []
        owner: list[int] = []
        before: list[int] = []
        after: list[int] = []
        for number, raw in enumerate(curves):
            points = cleaned(np.asarray(raw, np.float64), closed, where)
            made = _cubics(points, smooth, closed)
            first, count = len(owner), len(made)
            pieces.append(made)
            owner += [number] * count
            last = first + count - 1
            before += [last if closed else -1, *range(first, last)]
            after += [*range(first + 1, last + 1), first if closed else -1]
        if not pieces:
            raise StudyError("there is no curve in it", where=where, fix="give at least two points")
        self.closed, self.smooth = closed, smooth
        self.cubic = np.ascontiguousarray(np.concatenate(pieces))
        self.owner, self.before, self.after = (np.array(a, np.int64) for a in (owner, before, after))
        lengths = np.empty(len(self.cubic))
        kernels.piece_lengths(self.cubic, lengths)
        self.piece_length = lengths
        self.length = np.bincount(self.owner, lengths)
        ends = np.cumsum(lengths)
        self.place = ends - lengths - np.repeat(np.cumsum(self.length) - self.length, np.bincount(self.owner))
        self._hang()

    def _hang(self) -> None:
        """Fine chords and the tree of boxes over them."""
        each = CHORDS if self.smooth else 1
        t = np.arange(each) / each
        m = len(self.cubic)
        starts = self.at(np.repeat(np.arange(m), each), np.tile(t, m))
        ends = self.at(np.repeat(np.arange(m), each), np.tile(t + 1 / each, m))
        first = np.tile(t, m)
        self._chords = np.column_stack([starts, first, ends, first + 1 / each])
        self._piece = np.repeat(np.arange(m), each)
        count = len(starts)
        self._leaves = 1 << max(0, (count - 1).bit_length())
        boxes = np.empty((2 * self._leaves - 1, 6))
        boxes[:, :3], boxes[:, 3:] = np.inf, -np.inf
        # a cubic may bulge out of its chord: half the largest second difference bounds by how much
        bulge = np.zeros((count, 1))
        if self.smooth:
            middle = self.at(self._piece, first + 0.5 / each)
            bulge = 2 * np.linalg.norm(middle - 0.5 * (starts + ends), axis=1, keepdims=True)
        leaf = boxes[self._leaves - 1 : self._leaves - 1 + count]
        leaf[:, :3] = np.minimum(starts, ends) - bulge
        leaf[:, 3:] = np.maximum(starts, ends) + bulge
        level = self._leaves - 1
        while level > 0:
            parents = np.arange((level - 1) // 2, level)
            a, b = boxes[2 * parents + 1], boxes[2 * parents + 2]
            boxes[parents, :3] = np.minimum(a[:, :3], b[:, :3])
            boxes[parents, 3:] = np.maximum(a[:, 3:], b[:, 3:])
            level = (level - 1) // 2
        self._boxes = boxes

    def at(self, piece: Array, t: Array) -> Array:
        """Points (n, 3) on pieces at t in [0, 1]."""
        c, u = self.cubic[piece], t[:, None]
        return c[:, 0] + u * (c[:, 1] + u * (c[:, 2] + u * c[:, 3]))

    def nearest(self, points: Array) -> Nearest:
        """Closest points for points (3, n) float32."""
        out = np.empty((kernels.ROWS, points.shape[1]), np.float32)
        kernels.closest_on_curves(
            *points, self.cubic, self.place, self.owner, self.before, self.after, self.length,
            self._chords, self._piece, self._boxes, self._leaves, out,
        )  # fmt: skip
        return Nearest(out[0], out[1], out[2], out[3:6], out[6:9], out[9:12], out[12:15], out[16])

    @lazy
    def box(self) -> tuple[Array, Array]:
        """Lower and upper corner of the curves, (3,) each, in m."""
        return self._boxes[0, :3].copy(), self._boxes[0, 3:].copy()

    def along(self, number: int, count: int) -> tuple[Array, Array, Array]:
        """Points (count, 3) evenly spread over a curve, tangents, and their places as a share of its length."""
        own = np.nonzero(self.owner == number)[0]
        share = np.linspace(0, 1, count, endpoint=not self.closed)
        want = share * self.length[number]
        index = np.clip(np.searchsorted(self.place[own], want, side="right") - 1, 0, len(own) - 1)
        piece = own[index]
        t = self._parameter(piece, want - self.place[piece])
        slope = self._slope(piece, t)
        return self.at(piece, t), slope / np.maximum(np.linalg.norm(slope, axis=1, keepdims=True), 1e-30), share

    def scattered(self, share: Array) -> Array:
        """Points (n, 3) at shares of the length of all curves together."""
        ends = np.cumsum(self.piece_length)
        want = share * ends[-1]
        piece = np.clip(np.searchsorted(ends, want, side="right"), 0, len(ends) - 1)
        return self.at(piece, self._parameter(piece, want - (ends[piece] - self.piece_length[piece])))

    def _parameter(self, piece: Array, length: Array) -> Array:
        """Parameters in [0, 1] at lengths in metres from the start of each piece."""
        t = np.clip(length / np.maximum(self.piece_length[piece], 1e-30), 0, 1)
        for _ in range(4):  # arc length inside the piece is not proportional to t
            done = np.zeros(len(piece))
            for x, w in zip(kernels.GAUSS_X, kernels.GAUSS_W, strict=True):
                done += w * np.linalg.norm(self._slope(piece, t * x), axis=1)
            error = t * done - length
            t = np.clip(t - error / np.maximum(np.linalg.norm(self._slope(piece, t), axis=1), 1e-30), 0, 1)
        return np.asarray(t)

    def _slope(self, piece: Array, t: Array) -> Array:
        c, u = self.cubic[piece], t[:, None]
        return c[:, 1] + u * (2 * c[:, 2] + 3 * u * c[:, 3])


def cleaned(points: Array, closed: bool, where: str) -> Array:
    """Points without repeats; an error if fewer than two are left or any is not a number. (n, 3). Raises StudyError."""
    if points.ndim != 2 or points.shape[1] != 3 or len(points) == 0:
        raise StudyError("a curve needs points in space", where=where, fix="right would be at least two points x, y, z")
    if not np.isfinite(points).all():
        raise StudyError("a point of the curve is not a number", where=where)
    if len(points) > MAX_POINTS:
        raise StudyError(f"{len(points):,} points are too many for a curve", where=where, fix=f"at most {MAX_POINTS:,}")
    span = float(np.ptp(points, axis=0).max())
    step = np.linalg.norm(np.diff(points, axis=0), axis=1)
    points = points[np.concatenate([[True], step > max(1e-9 * span, 1e-12)])]
    if closed and len(points) > 2 and np.linalg.norm(points[0] - points[-1]) <= max(1e-9 * span, 1e-12):
        points = points[:-1]
    if len(points) < (3 if closed else 2):
        what = "a closed curve needs three different points" if closed else "all points of the curve are the same"
        raise StudyError(what, where=where, fix="right would be points at different places")
    return points


def _cubics(points: Array, smooth: bool, closed: bool) -> Array:
    """Pieces (m, 4, 3) in t of [0, 1] through the points: a spline by chord length, twice differentiable, or
    straight."""
    from scipy.interpolate import CubicSpline

    loop = np.concatenate([points, points[:1]]) if closed else points
    if not smooth or len(loop) == 2:
        step = np.diff(loop, axis=0)
        return np.stack([loop[:-1], step, np.zeros_like(step), np.zeros_like(step)], axis=1)
    chord = np.linalg.norm(np.diff(loop, axis=0), axis=1)
    u = np.concatenate(
        [[0], np.cumsum(np.sqrt(chord * chord.mean()))]
    )  # centripetal: does not overshoot at short chords
    spline = CubicSpline(u, loop, bc_type="periodic" if closed else "natural")
    h = np.diff(u)[:, None]
    c = spline.c  # (4, m, 3), highest power first
    return np.stack([c[3], c[2] * h, c[1] * h**2, c[0] * h**3], axis=1)


def frames(tangents: Array) -> Array:
    """Normals (n, 3) that do not flip along a curve: each is the one before, projected (parallel transport)."""
    out = np.empty_like(tangents)
    t = tangents[0]
    out[0] = np.cross(t, np.eye(3)[np.argmin(np.abs(t))])
    out[0] /= np.linalg.norm(out[0])
    for i in range(1, len(tangents)):
        n = out[i - 1] - tangents[i] * (out[i - 1] @ tangents[i])
        size = np.linalg.norm(n)
        out[i] = n / size if size > 1e-9 else out[i - 1]
    return out


@lru_cache(maxsize=64)
def curve_set(curves: tuple[tuple[tuple[float, ...], ...], ...], smooth: bool, closed: bool, where: str) -> CurveSet:
    """Curves given as tuples of points; the same ones are built once."""
    return CurveSet([np.array(c) for c in curves], smooth=smooth, closed=closed, where=where)
