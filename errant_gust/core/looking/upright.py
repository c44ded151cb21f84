"""A mesh as it stands with one axis up and with another, in two small pictures: to be asked which is right."""

import io

import numpy as np
from PIL import Image

from errant_gust.core.fields.samples import Array
from errant_gust.core.geometry.scene_files import turned

SIZE = (240, 200)
SAMPLES = 200_000
RIGHT, ABOVE = np.array([0.8660254, 0.5, 0.0]), np.array([-0.15450850, 0.26761657, 0.95105652])
"""What is to the right and up in the picture: seen from 60° beside +x, 18° up."""
SEA = np.array([15, 27, 45], np.float32) / 255
LIGHT = np.array([0.35, -0.5, 0.8]) / np.linalg.norm([0.35, -0.5, 0.8])
STONE = np.array([0.86, 0.82, 0.74])
GROUND = np.array([0.20, 0.31, 0.45])


def upright(points: Array, faces: Array, up: str) -> Array:
    """Pixels (height, width, 3) uint8 of a mesh on a ground, seen a little from above; `up`: its axis, Z or Y."""
    width, height = SIZE
    corners = turned(np.asarray(points, np.float64), up)[faces]
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    area = np.linalg.norm(normal, axis=1)
    dice = np.random.default_rng(7)
    chosen = dice.choice(len(faces), SAMPLES, p=area / area.sum()) if area.sum() > 0 else np.arange(len(faces))
    u, v = dice.random((2, len(chosen)))
    u, v = np.where(u + v > 1, 1 - u, u), np.where(u + v > 1, 1 - v, v)
    a, b, c = (corners[chosen, i] for i in range(3))
    places = a + u[:, None] * (b - a) + v[:, None] * (c - a)
    shade = 0.35 + 0.65 * np.abs((normal[chosen] / np.maximum(area[chosen, None], 1e-300)) @ LIGHT)
    low, high = corners.min(axis=(0, 1)), corners.max(axis=(0, 1))
    reach = 0.75 * float((high - low)[:2].max()) or 1.0
    middle = 0.5 * (low + high)
    flat = dice.uniform(-reach, reach, (SAMPLES, 2)) + middle[:2]
    places = np.concatenate([places, np.column_stack([flat, np.full(SAMPLES, low[2])])])
    colour = np.concatenate([shade[:, None] * STONE, np.broadcast_to(GROUND, (SAMPLES, 3))])
    right, above = RIGHT, ABOVE
    toward = np.cross(right, above)
    q = places @ np.stack([right, above]).T
    span = q.max(axis=0) - q.min(axis=0)
    scale = min(0.92 * width / span[0], 0.92 * height / span[1])
    x, y = ((q - 0.5 * (q.max(axis=0) + q.min(axis=0))) * scale * (1, -1) + (width / 2, height / 2)).T.astype(int)
    order = np.argsort(places @ toward)  # what is nearer is drawn later
    picture = np.broadcast_to(SEA, (height, width, 3)).copy()
    picture[np.clip(y[order], 0, height - 1), np.clip(x[order], 0, width - 1)] = colour[order]
    return (255 * np.clip(picture, 0, 1)).astype(np.uint8)


def png(pixels: Array) -> bytes:
    """Pixels (h, w), (h, w, 3) or (h, w, 4) of bytes as a PNG."""
    data = io.BytesIO()
    Image.fromarray(pixels).save(data, "PNG")
    return data.getvalue()
