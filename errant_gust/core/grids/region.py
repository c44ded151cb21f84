"""A box of voxels: bounds, voxel size, and what it would cost, known before anything is allocated."""

import os
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.errors import BudgetError
from errant_gust.core.kernels.grids import voxel_centres
from errant_gust.core.making import lazy
from errant_gust.core.study.turns import rotation

Array = NDArray[Any]


def budget() -> int:
    """Bytes that one piece of work may take: ERRANT_GUST_BUDGET_MB, or 60 % of what is free."""
    chosen = os.environ.get("ERRANT_GUST_BUDGET_MB")
    if chosen:
        return int(float(chosen) * 1e6)
    try:
        with open("/proc/meminfo") as file:
            lines = dict(line.split(":", 1) for line in file)
        return int(0.6 * 1024 * int(lines["MemAvailable"].split()[0]))
    except (OSError, KeyError, ValueError):
        return 4_000_000_000


@dataclass(frozen=True)
class GridRegion:
    """`shape` voxels of `voxel_size` metres from the corner `lower`; values sit in the middle of voxels.

    A turned region has axes of its own: `lower` is given in them, and a place in the scene is `axes` @ place in the
    region.
    """

    lower: tuple[float, float, float]
    shape: tuple[int, int, int]
    voxel_size: float
    turn: tuple[float, float, float] = (0.0, 0.0, 0.0)

    @lazy
    def axes(self) -> Array:
        """Its axes as columns (3, 3)."""
        return rotation(self.turn)

    @property
    def is_turned(self) -> bool:
        """Whether its axes are not the scene's."""
        return any(self.turn)

    def to_own(self, points: Array) -> Array:
        """points (3, n) of the scene in its own axes, float32."""
        if not self.is_turned:
            return points
        return np.ascontiguousarray(self.axes.T.astype(np.float32) @ points)

    def to_scene(self, points: Array) -> Array:
        """points (3, n) in its own axes -> the scene."""
        return np.ascontiguousarray(self.axes.astype(np.float32) @ points) if self.is_turned else points

    @property
    def corners(self) -> Array:
        """Its eight corners (8, 3) in the scene, z fastest."""
        low, high = np.array(self.lower), np.array(self.upper)
        own = np.array([[(low, high)[b][a] for a, b in enumerate(bits)] for bits in np.ndindex(2, 2, 2)])
        return np.asarray(own @ self.axes.T)

    @classmethod
    def over(
        cls, lower: Array, upper: Array, voxel_size: float, turn: tuple[float, float, float] = (0.0, 0.0, 0.0)
    ) -> "GridRegion":
        """Whole voxels that cover the box from `lower` to `upper`, centred on it. Corners (3,) and the side in m,
        turns in degrees."""
        size = np.maximum(np.asarray(upper, float) - np.asarray(lower, float), 1e-9)
        count = np.maximum(1, np.ceil(size / voxel_size - 1e-6))
        slack = 0.5 * (count * voxel_size - size)
        low = np.asarray(lower, float) - slack
        return cls(
            (low[0].item(), low[1].item(), low[2].item()),
            (int(count[0]), int(count[1]), int(count[2])),
            float(voxel_size),
            turn,
        )

    @property
    def upper(self) -> tuple[float, float, float]:
        """The upper corner along its own axes, in m."""
        x, y, z = (a + n * self.voxel_size for a, n in zip(self.lower, self.shape, strict=True))
        return (x, y, z)

    @property
    def voxels(self) -> int:
        """How many there are."""
        return self.shape[0] * self.shape[1] * self.shape[2]

    def bytes(self, channels: int) -> int:
        """Bytes of a baked grid with float32 channels."""
        return 4 * channels * self.voxels

    def afford(self, bytes_a_voxel: int, what: str, where: str) -> None:
        """Raise a BudgetError, with a voxel size that fits, if so many bytes a voxel are more than the budget; `what`
        takes them."""
        need, limit = bytes_a_voxel * self.voxels, budget()
        if need > limit:
            fits = float(f"{self.voxel_size * (need / limit) ** (1 / 3) * 1.05:.2g}")
            raise BudgetError(
                f"{what} {self.voxels:,} voxels needs {need / 1e9:,.1f} GB, the budget is {limit / 1e9:,.1f} GB",
                where=where, fix=f"a voxel size of {fits:g} m would fit", fits=fits,
            )  # fmt: skip

    def check(self, channels: int, where: str, limit: int | None = None) -> None:
        """Raise BudgetError if a grid of this region would take more than the budget, with a voxel size that fits."""
        limit = budget() if limit is None else limit
        need = self.bytes(channels)
        if need > limit:
            fits = self.voxel_size * (need / limit) ** (1 / 3) * 1.01
            fits = float(f"{fits:.2g}") if float(f"{fits:.2g}") >= fits else float(f"{fits * 1.05:.2g}")
            raise BudgetError(
                f"{self.voxels:,} voxels need {need / 1e9:,.1f} GB, the budget is {limit / 1e9:,.1f} GB",
                where=where,
                fix=f"a voxel size of {fits:g} m would fit",
                fits=fits,
            )

    def centres_at(self, flat: Array) -> Array:
        """Middles (3, m) float32 in the scene of the voxels with these flat indices (m,), z fastest."""
        i = np.stack(np.unravel_index(flat, self.shape)).astype(np.float32) + np.float32(0.5)
        return self.to_scene(i * np.float32(self.voxel_size) + np.array(self.lower, np.float32)[:, None])

    def centres(self, start: int, stop: int) -> Array:
        """Middles (3, m) float32 in the scene of the voxels with flat indices start..stop (z fastest)."""
        out = np.empty((3, stop - start), np.float32)
        voxel_centres(start, self.shape[1], self.shape[2], *self.lower, self.voxel_size, out)
        return self.to_scene(out)
