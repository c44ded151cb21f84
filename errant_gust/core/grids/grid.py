"""A baked field: float32 values in the middle of a region's voxels, sampled trilinearly."""

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.grids.region import GridRegion
from errant_gust.core.kernels import grids as kernels

Array = NDArray[Any]
Outside = Literal["zero", "clamp", "repeat"]
OUTSIDE = {"zero": 0, "clamp": 1, "repeat": 2}


@dataclass(frozen=True)
class Grid:
    """values: (nx, ny, nz) or (nx, ny, nz, 3) float32. Outside: zero, clamp or repeat."""

    region: GridRegion
    values: Array
    outside: Outside = "zero"

    @property
    def is_vector(self) -> bool:
        return self.values.ndim == 4

    def _voxels(self, points: Array) -> Array:
        lower = np.array(self.region.lower, np.float64)[:, None]
        return ((points - lower) / self.region.voxel_size - 0.5).astype(np.float32)

    def sample(self, points: Array) -> Array:
        """points (3, n) float32 in metres -> (n,) or (3, n) float32."""
        p = self._voxels(points)
        if self.is_vector:
            out = np.empty((3, points.shape[1]), np.float32)
            kernels.sample_vector(self.values, p[0], p[1], p[2], OUTSIDE[self.outside], out)
            return out
        out = np.empty(points.shape[1], np.float32)
        kernels.sample_scalar(self.values, p[0], p[1], p[2], OUTSIDE[self.outside], out)
        return out

    def sample_with_gradient(self, points: Array) -> tuple[Array, Array]:
        """Value and the exact derivative of the trilinear interpolant: (3, n) or (3, 3, n), per metre."""
        p, n = self._voxels(points), points.shape[1]
        scale, rule = np.float32(1 / self.region.voxel_size), OUTSIDE[self.outside]
        if not self.is_vector:
            value, gradient = np.empty(n, np.float32), np.empty((3, n), np.float32)
            kernels.sample_gradient(self.values, p[0], p[1], p[2], scale, rule, value, gradient)
            return value, gradient
        value, gradient = np.empty((3, n), np.float32), np.empty((3, 3, n), np.float32)
        for c in range(3):
            kernels.sample_gradient(self.values[..., c], p[0], p[1], p[2], scale, rule, value[c], gradient[c])
        return value, gradient
