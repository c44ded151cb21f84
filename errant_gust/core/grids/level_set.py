"""A volume that grows, as a level set in a narrow band: what it costs follows its surface, not its box.

Distances are kept in voxels, in a window of whole blocks of 8³ that grows with the volume, up to a block beyond the
domain: its sides keep off as walls do. Only rows of eight voxels near the surface are worked on.

Motion: fifth-order WENO and Godunov in space, third-order TVD Runge–Kutta in time (Osher, Sethian 1988; Shu, Osher
1988; Jiang, Peng 2000), in a band with a soft end (Peng, Merriman, Osher, Zhao, Kang 1999); distances are made anew
after every step without moving the surface (Russo, Smereka 2000; Min 2010). What is only carried is looked up where it
was when that began (`Origin`), so that no step makes it duller.
"""

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.blocks import share_out
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.grids.slabs import on_all
from errant_gust.core.grids.surface_origin import BLOCK, Origin, Stored
from errant_gust.core.kernels import carried
from errant_gust.core.kernels import level_set as kernels
from errant_gust.core.kernels.level_set import BAND, FAR, ROW

Array = NDArray[Any]
BEYOND = 2
"""Blocks of the window beyond the domain, of which the last is only looked at."""
STAGES = (1.0, 0.25, 2 / 3)
"""Of a step: the share of what is new."""
SPARE = 2
"""Blocks that a window gets more than it needs, to every side."""
HALF_BLOCK = BLOCK * 0.866 + 0.1
"""Voxels from the middle of a block to its corner."""
MOST = 1 << 15
"""Rows that are asked for at a time."""
SHIFT = 0.1
"""Voxels, at most, that a step is shifted by to hold the volume."""
MARK = 1e-6
"""Seconds since what has just been reached was reached."""
AROUND = np.ones((3, 3, 3), bool)
REACH = 4
"""Voxels around what is told of the surface, of which it is known where they were: no step carries farther."""


def _none() -> Array:
    return np.zeros(0, np.float32)


def _none_of_three() -> Array:
    return np.zeros((3, 0), np.float32)


@dataclass
class Speeds:
    """How a surface moves, at voxels: speed (n,) along its normal, flow (3, n) with a field, along (3, n) with a field
    but only outward, in voxels a second along the domain's axes; bumps and hollows (n,): by its curvature, in square
    voxels a second; free (n,): the share of all that is left; floor (n,): distances there are no less, in voxels. What
    is empty does nothing."""

    speed: Array = field(default_factory=_none)
    flow: Array = field(default_factory=_none_of_three)
    along: Array = field(default_factory=_none_of_three)
    bumps: Array = field(default_factory=_none)
    hollows: Array = field(default_factory=_none)
    free: Array = field(default_factory=_none)
    floor: Array = field(default_factory=_none)

    @property
    def only_carry(self) -> bool:
        """Whether a flow is all that moves it."""
        return bool(self.flow.size) and not (self.speed.size or self.along.size or self.bumps.size)


NAMES = ("speed", "flow", "along", "bumps", "hollows", "free", "floor")
Fill = Callable[[Array], Speeds]
"""Speeds at places (3, n) of the scene."""


class LevelSet:
    """A level set in a domain. `phi` and `age` are flat arrays over the window of `shape` voxels, whose first block is
    `low` (blocks of the domain): distances in voxels; seconds since a voxel was reached, 0 where it is not."""

    def __init__(self, domain: GridRegion, low: Array, blocks: Array, phi: Array | None = None) -> None:
        self.domain = domain
        self.low = np.asarray(low, np.int64)
        self.shape = np.asarray(blocks, np.int64) * BLOCK
        self.phi = np.full(int(self.shape.prod()), FAR, np.float32) if phi is None else phi
        self.age = np.zeros(self.phi.size, np.float32)
        self.active: Array | None = None  # blocks (bx, by, bz) with anything near the surface; None: not known yet
        self.near, self.wide = np.zeros(0, np.int64), np.zeros(0, np.int64)
        self.owed = 0.0
        """Volume (voxels) that its motion should have made, and did not."""
        self.origin: Origin | None = None
        self._around: Array | None = None
        self._wind = np.zeros((0, 3), np.float32)
        self.forget()

    # where it is --------------------------------------------------------------------------------------------------

    @property
    def reach(self) -> tuple[Array, Array]:
        """The least and the greatest (less one) block that a window may have. Both (3,)."""
        return np.full(3, -BEYOND), -(-np.array(self.domain.shape) // BLOCK) + BEYOND

    @property
    def window(self) -> GridRegion:
        """The region of voxels that is kept, a part of the domain."""
        return self._region(self.low, self.shape)

    def _region(self, low: Array, shape: Array) -> GridRegion:
        h = self.domain.voxel_size
        x, y, z = (float(at + h * BLOCK * n) for at, n in zip(self.domain.lower, low, strict=True))
        return GridRegion((x, y, z), (int(shape[0]), int(shape[1]), int(shape[2])), h, self.domain.turn)

    @property
    def strides(self) -> tuple[int, int]:
        """How many voxels further a neighbour along x and along y is."""
        return int(self.shape[1] * self.shape[2]), int(self.shape[2])

    def grid(self) -> Array:
        """Distances (nx, ny, nz) in the window."""
        return self.phi.reshape(tuple(self.shape))

    def places(self, rows: Array) -> Array:
        """Middles (3, 8 n) of the voxels of rows, in the scene: the same whatever the window."""
        i, j, k = self._index(rows)
        first = np.stack([i, j, k * ROW]) + (self.low * BLOCK)[:, None]
        index = np.repeat(first, ROW, axis=1).astype(np.float32)
        index[2] += np.tile(np.arange(ROW, dtype=np.float32), len(rows))
        own = (index + np.float32(0.5)) * np.float32(self.domain.voxel_size)
        return self.domain.to_scene(np.ascontiguousarray(own + np.array(self.domain.lower, np.float32)[:, None]))

    def cover(self, low: Array, high: Array) -> None:
        """Let the window hold blocks low … high (less one), as far as it may, and one more to every side. `low`,
        `high` (3,)."""
        least, most = self.reach
        want_low, want_high = np.maximum(np.asarray(low) - 1, least), np.minimum(np.asarray(high) + 1, most)
        end = self.low + self.shape // BLOCK
        if (want_low >= self.low).all() and (want_high <= end).all():
            return
        new_low = np.where(want_low < self.low, np.maximum(want_low - SPARE, least), self.low)
        new_end = np.where(want_high > end, np.minimum(want_high + SPARE, most), end)
        shape, by = (new_end - new_low) * BLOCK, (self.low - new_low) * BLOCK
        at = tuple(slice(a, a + n) for a, n in zip(by, self.shape, strict=True))
        for name, outside in (("phi", FAR), ("age", 0.0)):
            made = np.full(tuple(shape), outside, np.float32)
            made[at] = getattr(self, name).reshape(tuple(self.shape))
            setattr(self, name, made.reshape(-1))
        if self.origin is not None:
            way = np.full((*shape, 3), carried.LOST, np.float32)
            way[at] = self.origin.way.reshape(*self.shape, 3)
            self.origin.way, self.origin.rows = way.reshape(-1, 3), None
        if self.active is not None:
            active = np.zeros(tuple(shape // BLOCK), bool)
            active[tuple(slice(s.start // BLOCK, s.stop // BLOCK) for s in at)] = self.active
            self.active = active
        i, j, k = self._index(self.wide)
        self.wide = ((i + by[0]) * shape[1] + j + by[1]) * (shape[2] // ROW) + k + by[2] // ROW
        self.low, self.shape, self._around = new_low, shape, None
        self.forget()

    def _index(self, rows: Array) -> tuple[Array, Array, Array]:
        """Where rows are in the window: voxels along x and y, rows along z."""
        i, rest = np.divmod(rows, self.shape[1] * (self.shape[2] // ROW))
        return i, *np.divmod(rest, self.shape[2] // ROW)

    def find(self) -> None:
        """Which rows are near the surface (`near`), and which have anything to be told of it (`wide`)."""
        from scipy import ndimage

        if self.active is not None:
            at = np.argwhere(self.active)
            if len(at):
                self.cover(self.low + at.min(axis=0) - 1, self.low + at.max(axis=0) + 2)
        table = tuple(self.shape // BLOCK)
        inner = np.zeros(table, bool)
        seen = inner[1:-1, 1:-1, 1:-1]
        seen[:] = True if self.active is None else ndimage.binary_dilation(self.active, AROUND)[1:-1, 1:-1, 1:-1]
        blocks = np.flatnonzero(inner)
        flags, wide = np.zeros(self.phi.size // ROW, np.uint8), np.zeros(self.phi.size // ROW, bool)
        found = np.zeros(len(blocks), bool)
        self._each(len(blocks), kernels.near, self.phi, blocks, self.shape, np.float32(BAND), flags)
        self._each(len(blocks), kernels.beside, flags, blocks, self.shape, wide, found)
        self._each(len(self.wide), kernels.leave, self.phi, self.wide, wide)
        self.active = np.zeros(table, bool)
        self.active.reshape(-1)[blocks[found]] = True
        self.near, self.wide, self._around = np.flatnonzero(flags), np.flatnonzero(wide), None

    def around(self) -> Array:
        """Rows (n,) that are told of the surface, and those so far around that what a step carries there comes of
        them."""
        from scipy import ndimage

        if self._around is not None:
            return self._around
        told = np.zeros(self.phi.size // ROW, np.uint8)
        told[self.wide] = 1
        grown = told.reshape(int(self.shape[0]), int(self.shape[1]), -1)
        for axis, reach in enumerate((REACH, REACH, 1)):
            grown = ndimage.maximum_filter1d(grown, 2 * reach + 1, axis=axis, mode="constant")
        self._around = np.flatnonzero(grown)
        return self._around

    def combine(self, low: Array, high: Array, distance: Callable[[Array], Array], *, cut: bool) -> None:
        """Add the inside of a distance (voxels, at places (3, n) of the scene) that ends within the box low … high
        (m, along the domain's axes), or cut it out. It is looked at closely only where its surface may be."""
        h = self.domain.voxel_size
        first = np.floor((np.asarray(low) - self.domain.lower) / h - FAR) // BLOCK
        after = np.floor((np.asarray(high) - self.domain.lower) / h + FAR) // BLOCK + 1
        least, most = self.reach
        first, after = np.clip(first, least + 1, most - 1).astype(int), np.clip(after, least + 1, most - 1).astype(int)
        if (after <= first).any():
            return
        if cut:  # there is nothing to cut out of beyond the window
            first, after = np.maximum(first, self.low), np.minimum(after, self.low + self.shape // BLOCK)
            if (after <= first).any():
                return
        else:
            self.cover(first, after)
        blocks = np.stack(np.meshgrid(*(np.arange(a, b) for a, b in zip(first, after, strict=True)), indexing="ij"))
        blocks = blocks.reshape(3, -1)
        middles = ((blocks + 0.5) * (BLOCK * h) + np.array(self.domain.lower)[:, None]).astype(np.float32)
        rough = distance(self.domain.to_scene(np.ascontiguousarray(middles)))
        sign = -1.0 if cut else 1.0  # cut: the greater of both
        whole, part = rough < -(FAR + HALF_BLOCK), np.abs(rough) <= FAR + HALF_BLOCK
        grid, age = self.grid(), self.age.reshape(tuple(self.shape))
        for b in (blocks[:, whole].T - self.low) * BLOCK:
            at = tuple(slice(n, n + BLOCK) for n in b)
            if not (grid[at] == -sign * FAR).all():
                grid[at], self.origin = -sign * FAR, None
        rows = self._rows_of(blocks[:, part])
        for n in range(0, len(rows), MOST):
            some = rows[n : n + MOST]
            d = np.clip(distance(self.places(some)), -FAR, FAR).astype(np.float32)
            voxels = (some[:, None] * ROW + np.arange(ROW)).reshape(-1)
            was = self.phi[voxels]
            now = np.maximum(was, -d) if cut else np.minimum(was, d)
            if not np.array_equal(was, now):
                self.phi[voxels], self.origin = now, None
        inside = grid < 0
        age[inside & (age == 0)] = -MARK
        age[~inside] = 0
        self.active = None

    def _rows_of(self, blocks: Array) -> Array:
        """The rows (64 n) of blocks (3, n) of the domain."""
        first = (blocks - self.low[:, None]) * BLOCK
        i, j = np.divmod(np.arange(BLOCK * BLOCK), BLOCK)
        rows = ((first[0][:, None] + i) * self.shape[1] + first[1][:, None] + j) * (self.shape[2] // ROW)
        return np.asarray((rows + first[2][:, None] // ROW).reshape(-1))

    # motion -------------------------------------------------------------------------------------------------------

    def forget(self) -> None:
        """Speeds are asked for anew: the window or the time is another."""
        self.known = np.zeros(self.phi.size // ROW, bool)
        self.speeds = Speeds()

    def ask(self, fill: Fill, rows: Array | None = None) -> None:
        """Speeds of the rows that have none yet: of those that are told of the surface, or of others (n,)."""
        rows = self.wide if rows is None else rows
        new = rows[~self.known[rows]]
        for first in range(0, len(new), MOST):
            rows = new[first : first + MOST]
            made = fill(self.places(rows))
            for name in NAMES:
                values = getattr(made, name)
                if not values.size:
                    continue
                if not getattr(self.speeds, name).size:
                    setattr(self.speeds, name, np.zeros((*values.shape[:-1], self.phi.size), np.float32))
                held = getattr(self.speeds, name)
                by_rows = held.reshape(*held.shape[:-1], -1, ROW)
                by_rows[..., rows, :] = values.reshape(*values.shape[:-1], -1, ROW)
        self.known[new] = True

    def pace(self) -> tuple[float, float]:
        """How fast the surface is at most, in voxels a second, and the greatest coefficient of its curvature, in square
        voxels a second."""
        s, n = self.speeds, len(self.near)
        if not n:
            return 0.0, 0.0
        fast = self._each(n, kernels.fastest, self.near, s.speed, s.flow, s.along, s.free)
        if not s.bumps.size:
            return float(max(fast)), 0.0
        return float(max(fast)), float(max(self._each(n, kernels.stiffest, self.near, s.bumps, s.hollows, s.free)))

    def step(self, dt: float, left: float, *, relax: int = 1, hold: bool = False) -> None:
        """Move it for dt seconds, and let values come nearer to distances, so many times by nearly half a voxel.

        left: seconds of the frame after it. hold: what the motion should make of the volume, and a step does not, is
        made good by shifting the surface, a tenth of a voxel at most.
        """
        near, n, (x, y), s = self.near, len(self.near), self.strides, self.speeds
        before, rate = np.empty(n * ROW, np.float32), np.empty(n * ROW, np.float32)
        wide, w = self.wide, len(self.wide)
        was = np.empty(w * ROW, np.float32)
        self._each(w, kernels.taken, self.phi, wide, was)
        self._each(n, kernels.taken, self.phi, near, before)
        there, _, gain = self.amounts() if hold else (0.0, 0.0, 0.0)
        for share in STAGES:
            self._each(n, kernels.rates, self.phi, near, x, y, s.speed, s.flow, s.along, s.free, rate)
            if s.bumps.size:
                self._each(n, kernels.bend, self.phi, near, x, y, s.bumps, s.hollows, s.free, rate)
            self._each(n, kernels.stage, self.phi, near, rate, before, np.float32(share), np.float32(dt))
        for _ in range(relax):
            self._relax()
        if hold:
            self._made_good(there, gain, dt)
        self._each(w, kernels.settle, self.phi, wide, s.floor, self.age, was, np.float32(left), np.float32(dt))

    def carry(self, dt: float, left: float, *, hold: bool = False) -> None:
        """Move it for dt seconds where a flow is all that moves it; speeds are known of the rows `around`. See `step`.

        Distances are those of where everything was when it began to be only carried; where that is no longer known so
        near to the surface that it matters, it begins anew.
        """
        rows, s = self.around(), self.speeds
        if self.origin is None:
            self.origin = Origin.of(rows, self.phi.size, *self._base())
        there, _, gain = self.amounts() if hold else (0.0, 0.0, 0.0)
        was = np.empty(len(rows) * ROW, np.float32)
        self._each(len(rows), kernels.taken, self.phi, rows, was)
        wind = self._blown(rows)
        made = self.origin.carried(rows, self.low, self.shape, wind, dt, self.phi)
        wind.reshape(-1, ROW, 3)[rows] = 0  # as it was: what is beyond the rows is still
        self._each(len(rows), kernels.put, self.phi, rows, made)
        self._each(len(rows), kernels.settle, self.phi, rows, s.floor, self.age, was, np.float32(left), np.float32(dt))
        self.wide = rows  # all that may have got another value: `find` lets go of what is far
        self.find()
        for _ in range(2):
            self._relax()
        if hold:
            self.origin.shift(self._made_good(there, gain, dt))
        if self.origin.lost(self.phi, self.near):
            self.tidy()
            self.origin = None

    def _blown(self, rows: Array) -> Array:
        """The flow (n, 3) at rows of the window, and nothing elsewhere."""
        if len(self._wind) != self.phi.size:
            self._wind = np.zeros((self.phi.size, 3), np.float32)
        self._each(len(rows), carried.blowing, rows, self.speeds.flow, self.speeds.free, self._wind)
        return self._wind

    def _made_good(self, there: float, gain: float, dt: float) -> np.float32:
        """Shift the surface by what its motion should have made of the volume in dt seconds and did not, a tenth of a
        voxel at most: by how much. `there` and `gain`: the volume and its growth before."""
        now, area, more = self.amounts()
        self.owed += 0.5 * dt * (gain + more) - (now - there)
        by = np.float32(np.clip(self.owed / max(area, 1.0), -SHIFT, SHIFT))
        self._each(len(self.near), kernels.shifted, self.phi, self.near, by)
        self.owed -= self.amounts()[0] - now
        return by

    def _base(self) -> tuple[Array, Array, Array]:
        """Distances as they are, in the box of the surface and a block to every side, flat; its first block and its
        shape. Beyond it all is far outside."""
        assert self.active is not None
        at = np.argwhere(self.active)
        low, high = np.maximum(at.min(axis=0) - 1, 0), np.minimum(at.max(axis=0) + 2, self.active.shape)
        cut = tuple(slice(a * BLOCK, b * BLOCK) for a, b in zip(low, high, strict=True))
        return np.ascontiguousarray(self.grid()[cut]).reshape(-1), self.low + low, (high - low) * BLOCK

    def tidy(self, rounds: int = 4) -> None:
        """Let the values far from the surface catch up with it: a step moves what is near as it should, and what is
        farther less."""
        for _ in range(rounds):
            for _ in range(2):
                self._relax()
            self.find()

    def _relax(self) -> None:
        w, (x, y) = len(self.wide), self.strides
        made = np.empty(w * ROW, np.float32)
        self._each(w, kernels.relaxed, self.phi, self.wide, x, y, made)
        self._each(w, kernels.put, self.phi, self.wide, made)

    def bounded(self) -> None:
        """Nothing is inside what keeps off."""
        at = (self.wide[:, None] * ROW + np.arange(ROW)).reshape(-1)
        was = self.phi[at]
        self.phi[at] = np.maximum(was, self.speeds.floor[at])
        if not np.array_equal(was, self.phi[at]):
            self.origin = None
        self.age[at[self.phi[at] >= 0]] = 0

    def volume(self) -> float:
        """The volume inside, in voxels, with soft voxels at the surface."""
        return float(_summed(len(self.phi), partial(_inside, self.phi), 1, 1 << 18)[0])

    def amounts(self) -> tuple[float, float, float]:
        """Of the rows near the surface: the volume inside, the area, and how fast the volume should grow, in voxels."""
        s, (x, y) = self.speeds, self.strides
        kernel = partial(kernels.amounts, self.phi, self.near, x, y, s.speed, s.flow, s.along, s.free)
        volume, area, gain = _summed(len(self.near), kernel, 3)
        return float(volume), float(area), float(gain)

    def older(self, seconds: float) -> None:
        """The end of a frame of so many seconds."""
        self._each(self.age.size, kernels.aged, self.age, np.float32(seconds))

    @staticmethod
    def _each(n: int, kernel: Any, *args: Any) -> list[Any]:
        return on_all(n, partial(kernel, *args))

    # in and out ----------------------------------------------------------------------------------------------------

    def stored(self) -> tuple[GridRegion, Array, Array, Stored | None]:
        """The box of the blocks that are told anything of the surface, and distances and ages in it (nx, ny, nz), in
        voxels and seconds; and the origin, if there is one."""
        told = [self.wide] if self.origin is None else [self.wide, self.origin.known()]
        at = (
            np.concatenate([np.stack(self._index(rows)) for rows in told], axis=1)
            // np.array([BLOCK, BLOCK, 1])[:, None]
        )
        low, high = (at.min(axis=1), at.max(axis=1) + 1) if at.size else (np.ones(3, int), np.full(3, 2))
        cut = tuple(slice(a * BLOCK, b * BLOCK) for a, b in zip(low, high, strict=True))
        origin = None if self.origin is None else self.origin.stored(self.shape, cut)
        phi, age = (np.ascontiguousarray(a.reshape(tuple(self.shape))[cut]) for a in (self.phi, self.age))
        return self._region(self.low + low, (high - low) * BLOCK), phi, age, origin

    @classmethod
    def restored(
        cls, domain: GridRegion, window: GridRegion, phi: Array, age: Array, origin: Stored | None = None
    ) -> "LevelSet":
        """From what was stored. `phi`, `age` (nx, ny, nz) of the window, distances in voxels."""
        h = domain.voxel_size
        low = np.rint((np.array(window.lower) - np.array(domain.lower)) / (h * BLOCK)).astype(np.int64)
        phi = np.clip(np.array(phi, np.float32), -FAR, FAR).reshape(-1)
        made = cls(domain, low, np.array(window.shape) // BLOCK, phi)
        made.age = np.array(age, np.float32).reshape(-1)
        made.origin = None if origin is None else Origin.restored(origin)
        made.cover(low, low + np.array(window.shape) // BLOCK)
        return made


def _summed(n: int, kernel: Callable[[int, int], Any], many: int, block: int = 1024) -> Array:
    """The sum of what a kernel gives for blocks of n: always the same ones, so that it has the same bits on any number
    of threads."""
    parts = np.zeros((-(-n // block), many))

    def work(first: int, last: int) -> None:
        parts[first // block] = kernel(first, last)

    share_out(work, n, block=block)
    return np.asarray(parts.sum(axis=0))


def _inside(phi: Array, first: int, last: int) -> float:
    t = np.clip(0.5 + phi[first:last] * kernels.PER, 0, 1)
    return float((1 - t * t * (3 - 2 * t)).sum(dtype=np.float64))
