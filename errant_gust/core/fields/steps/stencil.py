"""Stencil: a flat outline or picture, extruded, as a mask."""

from functools import lru_cache
from pathlib import Path
from typing import Any, Literal

import numpy as np

from errant_gust.core.blocks import Cancel, share_out
from errant_gust.core.errors import StudyError
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.samples import Array, At, Samples, smooth_step
from errant_gust.core.fields.step import ScalarStart
from errant_gust.core.fields.units import NUMBER, Unit
from errant_gust.core.geometry.outlines import read_brightness, read_svg, text_outline
from errant_gust.core.kernels.outline import outline_distance
from errant_gust.core.study.parameters import Vec3, param
from errant_gust.core.study.turns import rotation

CELLS = 320
STROKE = 0.15
"""Width of a letter's stroke, as a share of its height."""


class Raster:
    """A picture on the unit of its own height: value at (x, y), its middle at 0, bilinear, with gradient."""

    def __init__(self, values: Array, width: float, height: float, edge: float | None) -> None:
        self.values, self.width, self.height, self.edge = values, width, height, edge

    def sample(self, x: Array, y: Array) -> tuple[Array, Array, Array]:
        """Value and both slopes (n,) at places (n,) in m from the middle of the picture; slopes in 1/m."""
        rows, columns = self.values.shape
        sx, sy = columns / self.width, rows / self.height
        u = np.clip(x * np.float32(sx) + np.float32(columns / 2 - 0.5), 0, columns - 1.001)
        v = np.clip(y * np.float32(sy) + np.float32(rows / 2 - 0.5), 0, rows - 1.001)
        i, j = v.astype(np.int32), u.astype(np.int32)
        fy, fx = v - i, u - j
        a, b = self.values[i, j], self.values[i, j + 1]
        c, d = self.values[i + 1, j], self.values[i + 1, j + 1]
        low, high = a + fx * (b - a), c + fx * (d - c)
        on_x, on_y = (np.abs(x) < self.width / 2), (np.abs(y) < self.height / 2)
        gx = ((1 - fy) * (b - a) + fy * (d - c)) * (np.float32(sx) * on_x)
        return low + fy * (high - low), gx, (high - low) * (np.float32(sy) * on_y)


def _from_lines(lines: list[Array] | tuple[Array, ...], margin: float) -> Raster:
    every = np.concatenate(lines)
    low, high = every.min(axis=0), every.max(axis=0)
    size = high - low
    if size.min() <= 0 or not np.isfinite(size).all():
        raise StudyError("the outline has no area", where="stencil", fix="right would be a closed outline")
    middle, scale = 0.5 * (low + high), 1 / size[1]
    segments = []
    for line in lines:
        p = (line - middle) * scale
        segments.append(np.column_stack([p, np.roll(p, -1, axis=0)]))
    joined = np.ascontiguousarray(np.concatenate(segments))
    w, h = size * scale + 2 * margin
    columns, rows = (max(8, round(CELLS * side / max(w, h))) for side in (w, h))
    x, y = ((np.arange(n) + 0.5) / n * side - side / 2 for n, side in ((columns, w), (rows, h)))
    out = np.empty((rows, columns), np.float32)
    share_out(lambda first, last: outline_distance(x, y, joined, out, first, last), rows, block=16)
    return Raster(out, float(w), float(h), None)


@lru_cache(maxsize=32)
def _raster(path: Path | None, text: str, stamp: tuple[int, int], margin: float) -> Raster:
    if path is None:
        return _from_lines(text_outline(text), margin)
    if path.suffix.lower() == ".svg":
        return _from_lines(read_svg(path), margin)
    grey = np.pad(read_brightness(path), 2)
    return Raster(grey, grey.shape[1] / grey.shape[0], 1.0, 0.0)


class Stencil(ScalarStart):
    """1 inside a flat outline that reaches through space for a depth, fading over a soft edge; from SVG, text or an
    image.

    An image gives its brightness. The outline stands upright facing −y when not turned, its middle at `centre`.
    """

    id = "stencil"
    label = "Stencil"
    yields = "an outline pressed through space as a mask"
    mistake = (
        "An image or outline is fitted to its height in metres, upright in the x–z plane: turn it to lie on the ground."
    )
    headline = "text"
    formula = "f = w(max(d₂(x, y), |z| − depth/2) / soft)"

    source: Literal["text", "file"] = param("text", help="A line of text, or an SVG outline or image")
    text: str = param("GUST", help="What it says", when={"source": ["text"]})
    file: str = param(
        "", help="An SVG with closed paths, or a PNG or JPEG", files=("outline",), when={"source": ["file"]}
    )
    height: float = param(1.0, unit="m", above=0, slider=(0.1, 10), help="Height of the outline")
    depth: float = param(1.0, unit="m", above=0, slider=(0.05, 10), help="How far it reaches through space")
    soft: float = param(0.1, unit="m", above=0, slider=(0.01, 2), label="Soft edge", help="Over which it fades outside")
    centre: Vec3 = param((0, 0, 1), unit="m", help="Where its middle is")
    turn: Vec3 = param((0, 0, 0), unit="°", help="Rotation about x, then y, then z")

    def feature(self) -> float:
        return max(self.soft, 0.02 * self.height)

    def stroke(self) -> float:
        return STROKE * self.height

    def raster(self, node: Node) -> Raster:
        """The picture as numbers. Raises StudyError where the file is no picture that is read here."""
        margin = float(np.ceil(10 * (self.soft / self.height + 0.05)) / 10)  # the fade must end on the raster

        def make() -> Raster:
            try:
                if self.source == "text":
                    return _raster(None, self.text, (0, 0), margin)
                path = node.scene.assets.path(self.file, f"{node.where}.file")
                stat = path.stat()
                return _raster(path, "", (stat.st_size, stat.st_mtime_ns), margin)
            except StudyError as error:
                raise StudyError(error.what, where=node.where, fix=error.fix) from None

        found: Raster = node.kept("raster", make)
        return found

    def prepare(self, node: Node, cancel: Cancel | None = None) -> None:
        self.raster(node)

    def _axes(self) -> Array:
        """Right, up and toward the eye, as columns in the scene: it faces −y when not turned."""
        turned: Array = rotation(self.turn) @ np.array([[1, 0, 0], [0, 0, -1], [0, 1, 0]])
        return turned

    def front(self, node: Node) -> tuple[Array, Array, Array]:
        picture = self.raster(node)
        side = max(picture.width, picture.height) * self.height
        right, up = side * self._axes()[:, 0], side * self._axes()[:, 1]
        return np.array(self.centre) - 0.5 * (right + up), right, up

    def evaluate(self, at: At) -> Samples:
        picture = self.raster(at.node)
        axes = self._axes().astype(np.float32)
        p = axes.T @ (at.points - np.array(self.centre, np.float32)[:, None])
        h = np.float32(self.height)
        value, gx, gy = picture.sample(p[0] / h, p[1] / h)
        thick, sign = np.abs(p[2]) - np.float32(self.depth / 2), np.sign(p[2])
        soft = np.float32(1 / self.soft)
        zero = np.zeros_like(value)
        if picture.edge is not None:  # an image: brightness times the depth's mask
            s, slope = smooth_step(thick * soft)
            g = np.stack([gx / h * (1 - s), gy / h * (1 - s), -value * slope * soft * sign])
            return Samples(value * (1 - s), axes @ g if at.gradient else None)
        d2 = value * h
        flat = d2 >= thick
        s, slope = smooth_step(np.where(flat, d2, thick) * soft)
        if not at.gradient:
            return Samples(1 - s)
        g = np.where(flat, np.stack([gx, gy, zero]), np.stack([zero, zero, sign]))
        return Samples(1 - s, (axes @ g) * (-slope * soft))

    def unit_given(self, node: Any) -> Unit | None:
        return NUMBER
