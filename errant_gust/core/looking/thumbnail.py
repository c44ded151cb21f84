"""A small picture of a frame without a screen: what it holds, from any side, for lists of runs and contact sheets."""

import io
from dataclasses import dataclass
from itertools import product
from math import cos, radians, sin
from typing import Any

import numpy as np
from PIL import Image

from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.results import MeshData, Points, Result, VolumeResult
from errant_gust.core.runs.frame_store import RunStore

SEA = np.array([15, 27, 45], np.float32) / 255
LOW = np.array([0.36, 0.55, 0.80], np.float32)
HIGH = np.array([1.0, 0.93, 0.62], np.float32)
SMOKE = np.array([0.86, 0.87, 0.90], np.float32)
HOT = np.array([1.0, 0.55, 0.18], np.float32)
MOST = 400_000  # points that are drawn
ABSORB = 12.0

Box = tuple[Array, Array]


@dataclass(frozen=True)
class View:
    """From where something is seen, without perspective: `azimuth` degrees round (0 from +x, −90 from the front) and
    `height` degrees up."""

    azimuth: float = -90.0
    height: float = 0.0

    @property
    def axes(self) -> Array:
        """(2, 3): what is to the right, and up, in the picture."""
        a, h = radians(self.azimuth), radians(self.height)
        return np.array([[-sin(a), cos(a), 0.0], [-sin(h) * cos(a), -sin(h) * sin(a), cos(h)]])


FRONT = View()


@dataclass(frozen=True)
class _Sheet:
    """Where on the picture what is seen stands: pixels a metre, and the middle (2,)."""

    size: tuple[int, int]
    axes: Array
    scale: float
    middle: Array

    @classmethod
    def around(cls, box: Box, view: View, size: tuple[int, int]) -> "_Sheet":
        corners = np.array(list(product(*zip(*box, strict=True)))) @ view.axes.T
        lower, upper = corners.min(axis=0), corners.max(axis=0)
        span = np.maximum(upper - lower, 1e-6)
        scale = float(min(0.92 * size[0] / span[0], 0.92 * size[1] / span[1]))
        return cls(size, view.axes, scale, 0.5 * (lower + upper))

    def pixels(self, places: Array) -> tuple[Array, Array]:
        """Columns and rows of places (n, 3), as fractions."""
        q = (places @ self.axes.T - self.middle) * self.scale
        return self.size[0] / 2 + q[:, 0], self.size[1] / 2 - q[:, 1]


def thumbnail(
    store: RunStore, frame: int, result: Result, size: tuple[int, int] = (160, 100), box: Box | None = None,
    view: View = FRONT, fastest: float | None = None,
) -> Array:  # fmt: skip
    """Pixels (height, width, 3) uint8 of a result on a frame; `box`: lower and upper corner (3,) in metres of what is
    shown, `fastest`: the speed in m/s of the brightest points; the frame's own where they are not given."""
    width, height = size
    if isinstance(result, VolumeResult):
        return _bytes(_volume(store, frame, result, box, view, size))
    found: Any = result.read(store, frame)
    position, tone = _places(found, fastest)
    if not len(position):
        return _bytes(np.broadcast_to(SEA, (height, width, 3)))
    sheet = _Sheet.around(box or (position.min(axis=0), position.max(axis=0)), view, size)
    column, row = (np.floor(v).astype(int) for v in sheet.pixels(position))
    there = (column >= 0) & (column < width) & (row >= 0) & (row < height)
    at = (row * width + column)[there]
    count = np.bincount(at, minlength=height * width)
    bright = np.bincount(at, weights=tone[there], minlength=height * width)
    share = np.divide(bright, count, out=np.zeros_like(bright), where=count > 0)
    cover = 1 - np.exp(-0.9 * count)
    colour = LOW + share[:, None] * (HIGH - LOW)
    return _bytes((SEA + cover[:, None] * (colour - SEA)).reshape(height, width, 3))


def box_of(store: RunStore, frame: int, result: Result) -> Box | None:
    """What a result takes up on a frame; None if there is nothing."""
    if isinstance(result, VolumeResult):
        corners = result.region(store, frame).corners
        return corners.min(axis=0), corners.max(axis=0)
    position, _ = _places(result.read(store, frame))
    return (position.min(axis=0), position.max(axis=0)) if len(position) else None


def fastest_of(store: RunStore, frame: int, result: Result) -> float:
    """The speed in m/s that most points of a frame do not exceed; 0 where there are none."""
    if isinstance(result, VolumeResult):
        return 0.0
    found: Any = result.read(store, frame)
    return 0.0 if isinstance(found, MeshData) else _fast(np.linalg.norm(found.velocity, axis=1))


def _fast(speed: Array) -> float:
    return float(np.quantile(speed, 0.98)) if len(speed) else 0.0


def _places(found: Points | MeshData, fastest: float | None = None) -> tuple[Array, Array]:
    """Positions (n, 3) and how bright each is (n,), 0 … 1: by speed, or by where the surface looks."""
    if isinstance(found, MeshData):
        triangles = found.vertices[found.faces]
        normal = np.cross(triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0])
        length = np.maximum(np.linalg.norm(normal, axis=1), 1e-20)
        lit = 0.5 + 0.5 * (normal @ np.array([-0.35, -0.6, 0.72])) / length
        return triangles.mean(axis=1), lit.astype(np.float32)
    every = max(1, -(-found.count // MOST))
    position, speed = found.position[::every], np.linalg.norm(found.velocity[::every], axis=1)
    most = _fast(speed) if fastest is None else fastest
    return position, np.clip(speed / most, 0, 1) if most > 0 else np.full(len(position), 0.5, np.float32)


def _volume(
    store: RunStore, frame: int, result: VolumeResult, box: Box | None, view: View, size: tuple[int, int]
) -> Array:  # fmt: skip
    """Light that comes through density, and heat that glows: cells are laid onto a picture no finer than they are."""
    volume = result.read(store, frame)
    grids, region, values = volume.grids, volume.region, volume.amount
    if values is None:
        values = next((g.values for g in grids.values() if g.values.ndim == 3), np.zeros((1, 1, 1), np.float32))
    corners = region.corners
    sheet = _Sheet.around(box or (corners.min(axis=0), corners.max(axis=0)), view, size)
    coarse = max(1.0, 1.2 * region.voxel_size * sheet.scale)  # pixels
    wide, high = (max(1, round(n / coarse)) for n in size)
    full = values > 1e-3 * max(float(values.max()), 1e-9)
    places = ((np.argwhere(full) + 0.5) * region.voxel_size + np.array(region.lower)) @ region.axes.T
    column, row = sheet.pixels(places)
    x, y = column * wide / size[0] - 0.5, row * high / size[1] - 0.5
    area = (size[0] / wide / sheet.scale) * (size[1] / high / sheet.scale)
    thick = _laid(x, y, values[full] * (region.voxel_size**3 / area), wide, high)
    cover = 1 - np.exp(-ABSORB * 0.35 * thick)
    picture = SEA + cover[..., None] * (SMOKE * 0.85 - SEA)
    if "temperature" in grids:
        heat = np.maximum(grids["temperature"].values[full], 0)
        hottest = np.zeros(wide * high, np.float32)
        c, r = np.rint(x).astype(int), np.rint(y).astype(int)
        there = (c >= 0) & (c < wide) & (r >= 0) & (r < high)
        np.maximum.at(hottest, (r * wide + c)[there], heat[there].astype(np.float32))
        glow = np.clip((hottest.reshape(high, wide) - 250) / 1200, 0, 1)[..., None]
        picture = picture + glow * (HOT - picture) * 0.95
    seen = Image.fromarray(_bytes(picture)).resize(size, Image.Resampling.BILINEAR)
    return np.asarray(seen, np.float32) / 255


def _laid(x: Array, y: Array, amount: Array, wide: int, high: int) -> Array:
    """Amounts (n,) shared out over the four pixels around each place: (high, wide)."""
    total = np.zeros(wide * high)
    left, top = np.floor(x).astype(int), np.floor(y).astype(int)
    for across, down in product((0, 1), repeat=2):
        c, r = left + across, top + down
        share = np.abs(1 - across - (x - left)) * np.abs(1 - down - (y - top))
        there = (c >= 0) & (c < wide) & (r >= 0) & (r < high)
        total += np.bincount((r * wide + c)[there], weights=(amount * share)[there], minlength=wide * high)
    return total.reshape(high, wide)


def as_png(pixels: Array) -> bytes:
    """Pixels (height, width, 3) uint8 as a file."""
    out = io.BytesIO()
    Image.fromarray(pixels).save(out, "PNG")
    return out.getvalue()


def _bytes(picture: Array) -> Array:
    return np.rint(np.clip(picture, 0, 1) * 255).astype(np.uint8)
