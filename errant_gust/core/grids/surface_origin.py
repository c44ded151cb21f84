"""Where a level set comes from while it is only carried: characteristic mapping (Mercier, Yin, Nave 2020)."""

from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.grids.slabs import on_all
from errant_gust.core.kernels import carried
from errant_gust.core.kernels import level_set as kernels
from errant_gust.core.kernels.level_set import ROW

Array = NDArray[Any]
BLOCK = 8
LOSES = 3.0
"""Voxels from the surface within which it has to be known where everything was."""
Stored = tuple[Array, Array, list[int]]
"""An origin in a file: ways (nx, ny, nz, 3) in the window; distances (mx, my, mz) as it began; their first block."""


@dataclass
class Origin:
    """Where a level set comes from since it is only carried. way (n, 3): from each voxel of its window to where that
    was, in voxels (`carried.LOST` where it is not known); base: distances as it began, flat, in a window of `shape`
    voxels whose first block is `low`."""

    way: Array
    base: Array
    low: Array
    shape: Array
    rows: Array | None = None
    """Of which the way is known; None: to be looked for."""

    @classmethod
    def of(cls, rows: Array, size: int, base: Array, low: Array, shape: Array) -> "Origin":
        """Of a level set that begins to be only carried: its rows (n,) of interest in a window of `size` voxels, and
        its distances as they are."""
        way = np.full((size // ROW, ROW, 3), carried.LOST, np.float32)
        way[rows] = 0
        return cls(way.reshape(-1, 3), base, low, shape)

    def known(self) -> Array:
        """Rows (n,) with voxels of which the way is known."""
        if self.rows is None:
            self.rows = np.flatnonzero((self.way[:, 0].reshape(-1, ROW) < carried.KNOWN).any(axis=1))
        return self.rows

    def carried(self, rows: Array, low: Array, shape: Array, wind: Array, dt: float, phi: Array) -> Array:
        """Distances (8 n,) at rows (n,) of a window of `shape` voxels, whose first block is `low`, after dt seconds in
        a wind (m, 3) in voxels a second; what is not known is taken from `phi` (m,). Ways are then known of them and
        of nothing else."""
        n = len(rows)
        made, ways = np.empty(n * ROW, np.float32), np.empty((n, ROW, 3), np.float32)
        work = partial(
            carried.carried, rows, shape, wind, np.float32(dt), self.way, phi, self.base, (self.low - low) * BLOCK,
            self.shape, made, ways.reshape(-1, 3),
        )  # fmt: skip
        on_all(n, work)
        by_rows = self.way.reshape(-1, ROW, 3)
        by_rows[self.known()] = carried.LOST
        by_rows[rows], self.rows = ways, rows
        return made

    def shift(self, by: np.float32) -> None:
        """What it began as, with its surface so many voxels further out."""
        whole = np.arange(len(self.base) // ROW)
        on_all(len(whole), partial(kernels.shifted, self.base, whole, by))

    def lost(self, phi: Array, near: Array) -> bool:
        """Whether the way is lost so near to the surface, of distances phi (m,) and rows near (n,), that it matters."""
        return bool(sum(on_all(len(near), partial(carried.lost_near, phi, self.way, near, np.float32(LOSES)))))

    def stored(self, shape: Array, cut: tuple[slice, ...]) -> Stored:
        """The way (nx, ny, nz, 3) in a part of a window of `shape` voxels, and what it began as."""
        way, base = self.way.reshape(*shape, 3)[cut], self.base.reshape(tuple(self.shape))
        return np.ascontiguousarray(way), base.copy(), [int(n) for n in self.low]

    @classmethod
    def restored(cls, stored: Stored) -> "Origin":
        """From what was stored."""
        way, base, first = stored
        held, flat = np.array(way, np.float32).reshape(-1, 3), np.array(base, np.float32).reshape(-1)
        return cls(held, flat, np.array(first, np.int64), np.array(base.shape, np.int64))
