"""Volumes as texels: thinned to what can be looked at, 8 bits each, x fastest."""

from typing import Any

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.grids.region import GridRegion

MOST = 1_500_000  # voxels to look at; finer frames are averaged


def thinned(values: Array, most: int) -> tuple[Array, int]:
    """Values with at most `most` voxels: means over cubes of 1, 2, 3 … voxels a side, and that side. (nx, ny, nz),
    or (nx, ny, nz, 3)."""
    side = 1
    while np.prod([-(-n // side) for n in values.shape]) > most:
        side += 1
    if side == 1:
        return values, 1
    pad = [(0, -n % side) for n in values.shape]
    v = np.pad(values, pad, mode="edge")
    nx, ny, nz = (n // side for n in v.shape)
    return v.reshape(nx, side, ny, side, nz, side).mean(axis=(1, 3, 5), dtype=np.float32), side


def as_bytes(values: Array, low: float, high: float) -> Array:
    """0 at `low` to 255 at `high`. Of any shape."""
    return np.rint(np.clip((values - low) / max(high - low, 1e-12), 0, 1) * 255).astype(np.uint8)


def packed(texels: Array) -> Array:
    """(nx, ny, nz) with x fastest in memory."""
    return np.ascontiguousarray(texels.transpose(2, 1, 0))


def place_of(region: GridRegion, shape: tuple[int, ...], side: int) -> dict[str, Any]:
    """Where texels lie in the scene."""
    h = region.voxel_size * side
    return {
        "lower": list(region.lower), "size": [n * h for n in shape], "shape": list(shape),
        "axes": region.axes.tolist(), "voxel_size": region.voxel_size,
    }  # fmt: skip
