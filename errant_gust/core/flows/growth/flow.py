"""The growth flow: state at a frame, and the step to the next one."""

import math
from functools import partial
from typing import Any, cast

import numpy as np

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import Cancelled, GustError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows.boxed import BoxedFlow
from errant_gust.core.flows.growth.motion import Carry
from errant_gust.core.flows.growth.obstacles import KeepOff
from errant_gust.core.flows.growth.seeds import Distance, Seed
from errant_gust.core.flows.growth.state import GrowthState
from errant_gust.core.flows.growth.steps import SORT, Domain, Work
from errant_gust.core.flows.step import Placed
from errant_gust.core.grids.level_set import REACH, LevelSet, Speeds
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.kernels.level_set import FAR

BYTES_A_VOXEL = 20  # of a window: distances and ages, as they are worked on and as they are stored
BYTES_NEAR = 110  # of a voxel near the surface: speeds, rates, and what was before
BYTES_CARRIED = 44  # of a voxel of a window besides, where it is only carried: winds, ways, and what is made of them
LOOKED_UP = 8
"""How much longer a substep is where it is only carried: nothing is lost by a long one."""


class GrowthFlow(BoxedFlow):
    """A growth lane of a study, stepped frame by frame; the state is a function of the study, the frame and quality."""

    sort, begins, least, moves = SORT, Domain, 4, "voxels at the surface"
    brings = "a Seed shape"

    def __init__(self, plan: Plan, id: str, *, quality: str = "full") -> None:
        super().__init__(plan, id, quality=quality)
        scene, parts = self._begun()
        domain = cast(Domain, parts[0].step)
        self.domain = self._box(scene, domain)
        self.domain.afford(BYTES_A_VOXEL, "growing in", f"regions.{domain.region}.voxel_size")
        self._sources_inside(self.domain, scene, parts)
        self._last: tuple[GrowthState | None, LevelSet | None] = (None, None)
        self._before: list[Any] = []

    def estimate(self) -> tuple[int, int]:
        """Voxels that it may fill, and bytes if it fills them; near is what is near a surface as large as the box's."""
        nx, ny, nz = self.domain.shape
        near = 12 * 2 * (nx * ny + ny * nz + nx * nz)
        each = BYTES_A_VOXEL + (BYTES_CARRIED if self._carries() else 0)
        return self.domain.voxels, self.domain.voxels * each + min(near, self.domain.voxels) * BYTES_NEAR

    def _carries(self) -> bool:
        """Whether it may be only carried for a while."""
        return any(isinstance(p.step, Carry) and p.step.only == "both ways" for p in self.parts(0.0))

    def scale(self, facts: dict[str, Any], measured: Any) -> tuple[float, float]:
        """See `kind.Flow`: voxels near the surface, times substeps."""
        was = measured.domain.voxel_size / self.domain.voxel_size
        return float(was**3), float(was**3)

    # frames ------------------------------------------------------------------------------------------------------

    def load(self, arrays: dict[str, Array], facts: dict[str, Any]) -> GrowthState:
        """The state as it was stored. `distance` and `age` (nx, ny, nz)."""
        place = facts["region"]
        (x, y, z), (i, j, k) = place["lower"], place["shape"]
        window = GridRegion((x, y, z), (i, j, k), place["voxel_size"], tuple(place["turn"]))
        made = GrowthState(arrays["distance"], arrays["age"], window, facts["owed"])
        if "way" in arrays:
            made.origin = (arrays["way"], arrays["base"], facts["begun"])
        return made

    def first(self) -> GrowthState:
        """What the seeds are at once."""
        level = LevelSet(self.domain, np.array(self.domain.shape) // 16 - 1, np.full(3, 3))
        self._seed(level, 0.0, 0.0, first=True)
        level.find()
        level.older(0.0)
        return self._state(level, {"substeps": 0, "fastest": 0.0})

    def next(self, state: GrowthState, frame: int, cancel: Cancel | None = None, keep: bool = True) -> GrowthState:
        """The state on frame + 1 from that on `frame`, which is kept in any case. Raises Cancelled."""
        start, end = self.clock.seconds(frame), self.clock.seconds(frame + 1)
        work, solid = Work(self, self.plan.at(0.5 * (start + end)), cancel), self.plan.at(end)
        parts, ends = self.parts(work.scene.time), self.parts(end)
        level = self._level(state, parts, solid)
        domain = cast(Domain, parts[0].step)

        def fill(points: Array) -> Speeds:
            if cancel is not None and cancel():
                raise Cancelled
            return self._speeds(parts, ends, work, solid, points)

        self._cut(level, ends, solid)
        level.find()
        level.ask(fill)
        level.bounded()
        pace: dict[str, Any] = {"substeps": 0, "fastest": 0.0, "worked": 0}
        time = start
        while end - time > 1e-9 and len(level.near):
            if cancel is not None and cancel():
                raise Cancelled
            fast, stiff = level.pace()
            done = pace["substeps"] // self.finer.times
            only_carry = level.speeds.only_carry
            longest = min(LOOKED_UP * domain.longest, REACH) if only_carry else domain.longest
            dt = self.finer.of(partial(self._dt, longest=longest), fast, stiff, end - time, done, domain)
            if only_carry:
                level.ask(fill, level.around())
                level.carry(dt, end - time - dt, hold=domain.hold)
            else:
                level.origin = None
                level.step(dt, end - time - dt, hold=domain.hold)
            level.find()
            level.ask(fill)
            time += dt
            pace["substeps"] += 1
            pace["fastest"] = max(pace["fastest"], fast * self.domain.voxel_size)
            pace["worked"] = max(pace["worked"], len(level.near) * 8)
        level.tidy()
        level.ask(fill)
        level.bounded()
        self._seed(level, start, end, first=False)
        level.find()
        level.older(end - start)
        made = self._state(level, pace)
        self._last = (made, level)
        return made

    def compared(self, start: GrowthState, whole: GrowthState, halves: GrowthState) -> tuple[Array, Array, Array]:
        """See `kind.LaneFlow`: where the surface is along its normal, (3, n) with nothing across, at voxels next to it
        that lie in the box of all three."""
        h = self.domain.voxel_size
        lows = [np.rint((np.array(s.window.lower) - self.domain.lower) / h).astype(int) for s in (start, whole, halves)]
        highs = [low + s.window.shape for low, s in zip(lows, (start, whole, halves), strict=True)]
        low, high = np.max(lows, axis=0), np.maximum(np.min(highs, axis=0), np.max(lows, axis=0))
        a, b, c = (
            s.distance[tuple(slice(f - o, t - o) for f, t, o in zip(low, high, own, strict=True))]
            for s, own in zip((start, whole, halves), lows, strict=True)
        )
        near = np.abs(b) < h
        along = [np.zeros((3, int(near.sum()))) for _ in range(3)]
        for made, phi in zip(along, (a, b, c), strict=True):
            made[0] = phi[near]
        return along[0], along[1], along[2]

    def _level(self, state: GrowthState, parts: list[Placed], solid: Scene) -> LevelSet:
        """The level set of a state: that which made it if it was the last, with the speeds that are known if nothing
        that they come from changes. Distances are the same bits as if they had been read from a file."""
        h = np.float32(self.domain.voxel_size)
        last, level = self._last
        now = [(p.step, p.varying) for p in parts]
        still = now == self._before and self._still(parts, solid)
        self._before = now
        if last is not state or level is None:
            level = LevelSet.restored(self.domain, state.window, state.distance / h, state.age, state.origin)
            level.owed = state.owed
            return level
        level.phi = np.clip(level.phi * h / h, -FAR, FAR)
        if not still:
            level.forget()
        return level

    def _still(self, parts: list[Placed], scene: Scene) -> bool:
        """Whether nothing that the speeds come from changes with time."""
        for part in parts:
            step = part.step
            lanes = [*part.varying.values(), *(getattr(step, name) for name in step.wants)]
            if any(lane and scene.lane(lane).moves for lane in lanes):
                return False
            if isinstance(step, KeepOff) and any(scene.keyed_shape(id) or scene.shape_moves(id) for id in step.shapes):
                return False
        return True

    def _dt(self, fast: float, stiff: float, left: float, done: int, domain: Domain, *, longest: float) -> float:
        """Seconds of the next substep, in which it goes so many voxels at most: equal parts of what is left of the
        frame."""
        if not (math.isfinite(fast) and math.isfinite(stiff)):
            raise GustError(
                "the speeds are no longer numbers", where=f"flows.{self.id}",
                fix="look at the fields of its steps; the frames before this are kept",
            )  # fmt: skip
        count = max(1, math.ceil(left * max(fast / longest, 6 * stiff) - 1e-6))
        if done + count > domain.most_substeps:
            by = "Smooth" if 6 * stiff > fast / longest else f"{fast * self.domain.voxel_size:.3g} m/s"
            raise GustError(
                f"{done + count} substeps a frame would be needed for {by}, {domain.most_substeps} are allowed",
                where=f"flows.{self.id}",
                fix="slower, larger voxels, or more substeps; the frames before this are kept",
            )  # fmt: skip
        return left / count

    def _speeds(self, parts: list[Placed], ends: list[Placed], work: Work, solid: Scene, points: Array) -> Speeds:
        """How the surface moves at points (3, n) of the scene."""
        made = Speeds()
        free = np.ones(points.shape[1], np.float32)
        for part in parts:
            part.step.motion(part, work, points, made)
            share = part.step.share(part, work, points)
            if share is not None:
                free *= share
        made.floor = self._floor(ends, solid, points)
        made.free = np.where(made.floor > 0, np.float32(0), free)
        return made

    def _floor(self, parts: list[Placed], scene: Scene, points: Array) -> Array:
        """How far, in voxels, points (3, n) are inside of what the volume keeps off, or outside of the domain."""
        own = self.domain.to_own(points)
        low, high = (np.array(c, np.float32)[:, None] for c in (self.domain.lower, self.domain.upper))
        held = np.maximum(low - own, own - high).max(axis=0)
        for part in parts:
            if isinstance(part.step, KeepOff) and part.step.shapes:
                held = np.maximum(held, part.step.within(scene, points))
        return np.asarray(held / np.float32(self.domain.voxel_size), np.float32)

    def _cut(self, level: LevelSet, parts: list[Placed], scene: Scene) -> None:
        """Take away what is inside of shapes that move, and of nothing else: the others have been kept off before."""
        for part in parts:
            step = part.step
            if not isinstance(step, KeepOff) or not step.shapes:
                continue
            if step.side == "around" and not any(scene.keyed_shape(id) or scene.shape_moves(id) for id in step.shapes):
                continue
            window = level.window
            level.combine(np.array(window.lower), np.array(window.upper), self._outside(step, scene), cut=True)

    def _seed(self, level: LevelSet, start: float, end: float, *, first: bool) -> None:
        """Add the seeds that come in a frame, less what they are kept off."""
        scene, parts = self.plan.at(end), self.parts(end)
        for part in parts:
            step = part.step
            if not isinstance(step, Seed) or not step.comes(start, end, first):
                continue
            placed = step.placed(self.domain, scene, self.particles_of)
            if placed is None:
                continue
            low, high, distance = placed
            level.combine(low, high, self._less(distance, parts, scene), cut=False)

    def _outside(self, step: KeepOff, scene: Scene) -> Distance:
        """How far, in voxels, places are outside of what a step keeps off."""
        h = np.float32(self.domain.voxel_size)
        return lambda points: -step.within(scene, points) / h

    def _less(self, distance: Distance, parts: list[Placed], scene: Scene) -> Distance:
        """A distance in voxels, less what the lane keeps off."""
        h = np.float32(self.domain.voxel_size)
        return lambda points: np.maximum(distance(points) / h, self._floor(parts, scene, points))

    def _state(self, level: LevelSet, pace: dict[str, Any]) -> GrowthState:
        window, phi, age, origin = level.stored()
        h = self.domain.voxel_size
        made = GrowthState(phi * np.float32(h), age, window, level.owed, origin)
        made.pace = {
            **pace, "volume": level.volume() * h**3, "area": level.amounts()[1] * h**2, "voxel_size": h,
            "ends": self._ends(made), "lasts": self.clock.step,
        }  # fmt: skip
        return made

    def _ends(self, state: GrowthState) -> list[int]:
        """Voxels of it at each side of the domain: −x, +x, −y, +y, below, above."""
        found = []
        inside = state.distance < 0
        first = np.rint((np.array(state.window.lower) - np.array(self.domain.lower)) / self.domain.voxel_size).astype(
            int
        )
        for axis in range(3):
            for at in (0, self.domain.shape[axis] - 1):
                n = at - first[axis]
                there = 0 <= n < inside.shape[axis]
                found.append(int(inside.take(n, axis=axis).sum()) if there else 0)
        return found
