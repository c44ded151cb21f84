"""A baked field: float32 values in the middle of a region's voxels, sampled trilinearly."""

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.grids.region import GridRegion
from errant_gust.core.kernels import grids as kernels
from errant_gust.core.kernels.bricks import sample_by_brick
from errant_gust.core.making import lazy

Array = NDArray[Any]
Outside = Literal["zero", "clamp", "repeat"]
OUTSIDE = {"zero": 0, "clamp": 1, "repeat": 1}


@dataclass(frozen=True)
class Grid:
    """values: (nx, ny, nz) or (nx, ny, nz, 3) float32. Outside: zero, clamp or repeat."""

    region: GridRegion
    values: Array
    outside: Outside = "zero"
    unit: str = ""
    """Of the values, as it is written into files."""
    background: float = 0.0
    """What holds far away; not zero of level sets, whose zero is their surface."""

    @property
    def is_vector(self) -> bool:
        """Whether it has three components."""
        return self.values.ndim == 4

    @property
    def _frame(self) -> tuple[Any, ...]:
        """Place of the first node, voxels a metre, and the rule outside, as the kernels take them."""
        h = self.region.voxel_size
        first = (np.float32(low + 0.5 * h) for low in self.region.lower)
        return (*first, np.float32(1 / h), OUTSIDE[self.outside])

    @lazy
    def _nodes(self) -> Array:
        """Values with a first layer repeated behind the last where the field repeats or is one voxel thick."""
        pad = [(0, 1 if self.outside == "repeat" or n == 1 else 0) for n in self.region.shape]
        if not any(after for _, after in pad):
            return self.values
        return np.pad(self.values, [*pad, (0, 0)] if self.is_vector else pad, mode="wrap")

    def _placed(self, points: Array) -> Array:
        """points (3, n) of the scene in the region's own axes, wrapped if the field repeats."""
        points = self.region.to_own(points)
        if self.outside != "repeat":
            return points
        h = self.region.voxel_size
        first = np.array(self.region.lower)[:, None] + 0.5 * h
        span = np.array(self.region.shape)[:, None] * h
        return (first + np.mod(points - first, span)).astype(np.float32)

    def sample(self, points: Array) -> Array:
        """points (3, n) float32 in metres -> (n,) or (3, n) float32."""
        n = points.shape[1]
        out = np.empty((3, n) if self.is_vector else n, np.float32)
        sample = kernels.sample_vector if self.is_vector else kernels.sample_scalar
        sample(self._nodes, *self._placed(points), *self._frame, out)
        return out

    def sample_many(self, points: Array) -> Array:
        """points (n, 3) float32 in any order -> (n, 3) or (n,): for many points, quicker than block by block."""
        if not self.is_vector:
            return self.sample(np.ascontiguousarray(points.T))
        out = np.empty((len(points), 3), np.float32)
        where = self._placed(points.T).T if self.outside == "repeat" or self.region.is_turned else points
        sample_by_brick(self._nodes, np.ascontiguousarray(where, np.float32), *self._frame, out)
        return out

    def sample_with_gradient(self, points: Array) -> tuple[Array, Array]:
        """Value and the exact derivative of the trilinear interpolant: (3, n) or (3, 3, n), per metre."""
        n, p = points.shape[1], self._placed(points)
        if not self.is_vector:
            value, gradient = np.empty(n, np.float32), np.empty((3, n), np.float32)
            kernels.sample_gradient(self._nodes, *p, *self._frame, value, gradient)
            return value, self._turned(gradient)
        value, gradient = np.empty((3, n), np.float32), np.empty((3, 3, n), np.float32)
        for c in range(3):
            kernels.sample_gradient(self._nodes[..., c], *p, *self._frame, value[c], gradient[c])
        return value, self._turned(gradient)

    def _turned(self, gradient: Array) -> Array:
        """A gradient in the region's own axes -> along the scene's."""
        if not self.region.is_turned:
            return gradient
        return np.einsum("...jn,ij->...in", gradient, self.region.axes.astype(np.float32)).astype(np.float32)
