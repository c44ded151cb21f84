"""A small picture of a frame without a screen: what it holds, from the front (x to the right, z up), for lists of runs
and contact sheets."""

import io
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


def thumbnail(
    store: RunStore, frame: int, result: Result, size: tuple[int, int] = (160, 100), box: Box | None = None
) -> Array:
    """Pixels (height, width, 3) uint8 of a result on a frame; `box`: lower and upper corner (3,) in metres of what is
    shown, the frame's own if it is not given."""
    width, height = size
    if isinstance(result, VolumeResult):
        return _bytes(_volume(store, frame, result, box, width, height))
    found: Any = result.read(store, frame)
    position, tone = _places(found)
    if not len(position):
        return _bytes(np.broadcast_to(SEA, (height, width, 3)))
    lower, upper = box or (position.min(axis=0), position.max(axis=0))
    column, row, there = _pixels(position, lower, upper, width, height)
    count, bright = np.zeros(height * width), np.zeros(height * width)
    at = (row * width + column)[there]
    np.add.at(count, at, 1.0)
    np.add.at(bright, at, tone[there])
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


def _places(found: Points | MeshData) -> tuple[Array, Array]:
    """Positions (n, 3) and how bright each is (n,), 0 … 1: by speed, or by where the surface looks."""
    if isinstance(found, MeshData):
        triangles = found.vertices[found.faces]
        normal = np.cross(triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0])
        length = np.maximum(np.linalg.norm(normal, axis=1), 1e-20)
        lit = 0.5 + 0.5 * (normal @ np.array([-0.35, -0.6, 0.72])) / length
        return triangles.mean(axis=1), lit.astype(np.float32)
    every = max(1, -(-found.count // MOST))
    position, speed = found.position[::every], np.linalg.norm(found.velocity[::every], axis=1)
    most = float(np.quantile(speed, 0.98)) if len(speed) else 0.0
    return position, np.clip(speed / most, 0, 1) if most > 0 else np.full(len(position), 0.5, np.float32)


def _pixels(position: Array, lower: Array, upper: Array, width: int, height: int) -> tuple[Array, Array, Array]:
    """Columns and rows of points, and which are in the picture."""
    span = np.maximum(upper - lower, 1e-6)
    scale = min(0.92 * width / span[0], 0.92 * height / span[2])
    middle = 0.5 * (lower + upper)
    column = np.floor(width / 2 + (position[:, 0] - middle[0]) * scale).astype(int)
    row = np.floor(height / 2 - (position[:, 2] - middle[2]) * scale).astype(int)
    there = (column >= 0) & (column < width) & (row >= 0) & (row < height)
    return column, row, there


def _volume(store: RunStore, frame: int, result: VolumeResult, box: Box | None, width: int, height: int) -> Array:
    """Light that comes through density along y, and heat that glows."""
    volume = result.read(store, frame)
    grids, region, values = volume.grids, volume.region, volume.amount
    if values is None:
        values = next((g.values for g in grids.values() if g.values.ndim == 3), np.zeros((1, 1, 1), np.float32))
    thick = np.maximum(values, 0).sum(axis=1) * region.voxel_size
    cover = 1 - np.exp(-ABSORB * 0.35 * thick)
    picture = SEA + cover[..., None] * (SMOKE * 0.85 - SEA)
    if "temperature" in grids:
        heat = np.maximum(grids["temperature"].values, 0).max(axis=1)
        glow = np.clip((heat - 250) / 1200, 0, 1)[..., None]
        picture = picture + glow * (HOT - picture) * 0.95
    corners = region.corners
    own = corners.min(axis=0), corners.max(axis=0)
    lower, upper = box or own
    span = np.maximum(upper - lower, 1e-6)
    scale = min(0.92 * width / span[0], 0.92 * height / span[2])
    middle = 0.5 * (lower + upper)
    left, right = (width / 2 + (own[k][0] - middle[0]) * scale for k in (0, 1))
    top, bottom = (height / 2 - (own[k][2] - middle[2]) * scale for k in (1, 0))
    seen = Image.fromarray(_bytes(picture[:, ::-1].transpose(1, 0, 2)))
    wide, high = max(1, round(right - left)), max(1, round(bottom - top))
    out = Image.new("RGB", (width, height), tuple(int(v) for v in _bytes(SEA)))
    out.paste(seen.resize((wide, high), Image.Resampling.BILINEAR), (round(left), round(top)))
    return np.asarray(out, np.float32) / 255


def as_png(pixels: Array) -> bytes:
    """Pixels (height, width, 3) uint8 as a file."""
    out = io.BytesIO()
    Image.fromarray(pixels).save(out, "PNG")
    return out.getvalue()


def _bytes(picture: Array) -> Array:
    return np.rint(np.clip(picture, 0, 1) * 255).astype(np.uint8)
