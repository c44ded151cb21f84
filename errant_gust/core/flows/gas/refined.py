"""A gas flow whose motion is that of a coarser run: a lane that begins with Detail."""

from functools import partial
from typing import Any, cast

import numpy as np

from errant_gust.core.blocks import Cancel, threads
from errant_gust.core.errors import Cancelled, GustError, StudyError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows.gas.detail import Detail
from errant_gust.core.flows.gas.flow import GasFlow
from errant_gust.core.flows.gas.keeping import Amounts
from errant_gust.core.flows.gas.state import GasState
from errant_gust.core.flows.gas.steps import Domain
from errant_gust.core.flows.halving import Halved
from errant_gust.core.flows.step import Placed, blocked_by
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.grids.slabs import each_slab
from errant_gust.core.grids.staggered.faces import Triple, open_shares, spread_into_walls
from errant_gust.core.grids.staggered.refine import finer_faces
from errant_gust.core.grids.staggered.walls import corner_distances
from errant_gust.core.kernels.refine import between

CLEAR = 2.0  # coarse voxels from a wall at which added eddies are whole


class DetailFlow(GasFlow):
    """Density and further channels on finer voxels, carried by the velocities of the coarse run's frames.

    Its steps are the coarse lane's sources and changes, then its own.
    """

    def __init__(self, plan: Plan, id: str, *, quality: str = "full") -> None:
        lane = plan.study.find("flows", id, f"flows.{id}")
        first = next((s for s in lane.steps if s.on), None)
        self.where = f"flows.{id}.{first.id}" if first else f"flows.{id}"
        base = str(first.params.get("flow", "")) if first else ""
        if not base:
            raise StudyError("no gas is chosen", where=f"{self.where}.flow", fix="choose the gas that it refines")
        if base == id or plan.study.find("flows", base, f"{self.where}.flow").kind != self.sort:
            raise StudyError(f"'{base}' is no gas to refine", where=f"{self.where}.flow", fix="choose a gas flow")
        scene = plan.at(0.0)
        assert first is not None
        self.detail: Detail = scene.build(Detail, first.params, self.where).step
        self.base_quality = quality if self.detail.quality == "as this run" else self.detail.quality
        self.times = int(self.detail.finer)
        self.base = GasFlow(plan, base, quality=self.base_quality)
        self._known: dict[Any, Array] = {}
        self._solids: tuple[Array, Array] | None = None
        super().__init__(plan, id, quality=quality)

    def parts(self, time: float) -> list[Placed]:
        """The coarse lane's steps, and this lane's own after Detail."""
        return [*self.base.parts(time), *super().parts(time)[1:]]

    def _check_parts(self, parts: list[Placed]) -> None:
        for part in super().parts(0.0)[1:]:
            if part.step.family not in ("source", "change"):
                raise StudyError(
                    f"{part.step.label} has no effect in a lane that begins with Detail: its motion is that of "
                    f"'{self.base.id}'", where=part.where, fix=f"put it into '{self.base.id}'",
                )  # fmt: skip

    def _domain(self, scene: Scene) -> GridRegion:
        coarse, k = self.base.domain, self.times
        nx, ny, nz = coarse.shape
        return GridRegion(coarse.lower, (nx * k, ny * k, nz * k), coarse.voxel_size / k, coarse.turn)

    @property
    def longest_way(self) -> float:
        return super().longest_way * max(1.0, self.times / 2)  # what carries is as smooth as the coarse gas

    def _coarse(self, frame: int, cancel: Cancel | None = None) -> GasState:
        frame = min(max(frame, self.clock.start), self.clock.end)
        where = f"{self.where}.flow"
        found = self.plan.data.frame_at(self.plan.at(0.0), self.base.id, self.base_quality, frame, where, cancel)
        return self.base.load(*found)

    def first(self) -> GasState:
        coarse = self._coarse(self.clock.start)
        state = GasState.empty(self.domain, *self._window([coarse]), self.names)
        parts = self.parts(0.0)
        self._filled(state, 0.0, 0.0, parts, self._inside(state, self.plan.at(0.0), parts), None)
        return self._sound(state)

    def next(self, state: GasState, frame: int, cancel: Cancel | None = None, keep: bool = True) -> GasState:
        """The fine gas a frame later, carried by the coarse one's velocity and its own eddies. Raises GustError
        where it is too fast for the substeps that are allowed, Cancelled."""
        start, end = self.clock.seconds(frame), self.clock.seconds(frame + 1)
        before, after = self._coarse(frame, cancel), self._coarse(frame + 1, cancel)
        origin, shape = self._window([before, after])
        fitted = state.moved_to(origin, shape)
        own = not keep or fitted is not state
        if not keep:
            state.become(fitted)
        state = fitted
        parts = self.parts(end)
        a, b, eddies = self._motion(state, before, after, parts, 0.5 * (start + end))
        domain = cast(Domain, parts[0].step)
        fastest = max(float(max(abs(f).max() for f in pair)) for pair in zip(a, b, strict=True))
        fastest += float(max(abs(f).max() for f in eddies))
        count = max(1, int(np.ceil(fastest * (end - start) / self.longest_way - 1e-6)))
        if count > domain.most_substeps * self.times:
            raise GustError(
                f"the gas is as fast as {fastest:.3g} m/s: {count} substeps a frame would be needed, "
                f"{domain.most_substeps * self.times} are allowed", where=f"flows.{self.id}",
                fix="less strength, or more substeps in the coarse gas; the frames before this are kept",
            )  # fmt: skip
        count *= self.finer.times
        for i in range(count):
            if cancel is not None and cancel():
                raise Cancelled
            t0, t1 = (start + (end - start) * k / count for k in (i, i + 1))
            s = np.float32((i + 0.5) / count)
            carrier = _mixed(a, b, s, eddies)
            sides = self._open_sides(state, domain)
            amounts = Amounts.after(state, carrier, *sides, t1 - t0) if domain.keep else None
            state = self._carried_by(state, carrier, t1 - t0, own=own or i > 0)
            here = self.plan.at(t1)
            solid = self._inside(state, here, parts)
            if amounts is not None:
                amounts.restore(state, solid)
            self._filled(state, t0, t1, self.parts(t1), solid, cancel)
        state.u, state.v, state.w = _mixed(a, b, np.float32(1), eddies)
        state.pace = {"substeps": count, "fastest": fastest}
        return self._sound(state)

    def halved(self, state: GasState, frame: int, cancel: Cancel | None = None) -> list[Halved]:
        """See `kind.Flow`: nothing, since its velocities are those of the coarse run."""
        return []

    def _window(self, coarse: list[GasState]) -> tuple[tuple[int, int, int], tuple[int, int, int]]:
        """Origin and shape, in fine cells, of what the coarse windows cover together."""
        low = np.min([s.origin for s in coarse], axis=0)
        high = np.max([np.array(s.origin) + s.values.shape[1:] for s in coarse], axis=0)
        o, n = low * self.times, (high - low) * self.times
        return (int(o[0]), int(o[1]), int(o[2])), (int(n[0]), int(n[1]), int(n[2]))

    def _motion(
        self, state: GasState, before: GasState, after: GasState, parts: list[Placed], time: float
    ) -> tuple[Triple, Triple, Triple]:
        """Fine face velocities of the coarse frames, and the eddies that are added between them."""
        origin = tuple(o // self.times for o in state.origin)
        shape = tuple(n // self.times for n in state.values.shape[1:])
        made = []
        before, after = before.moved_to(origin, shape), after.moved_to(origin, shape)
        corners = self._corners(after.window, self.plan.at(time), parts)
        shares = None if corners is None else open_shares(after.window, corners)
        for coarse in (before, after):
            grid = coarse.faces if shares is None else spread_into_walls(coarse.faces, shares)
            made.append((grid.u, grid.v, grid.w))
        u, v, w = (np.asarray(0.5 * (x + y), np.float32) for x, y in zip(*made, strict=True))
        amplitude = self.detail.amplitude(u, v, w, self._clear(after.window, time, parts))
        eddies = self.detail.eddies(state.window, self.times, amplitude, time, _each)
        a, b = (finer_faces(faces, self.times, _each) for faces in made)
        return a, b, eddies

    def _inside(self, state: GasState, scene: Scene, parts: list[Placed]) -> Array | None:
        """Cells inside obstacles; None where nothing stands in the way."""
        corners = self._corners(state.window, scene, parts)
        if corners is None:
            return None
        if self._solids is None or self._solids[0] is not corners:
            self._solids = (corners, self._solid(open_shares(state.window, corners)))
        return self._solids[1]

    def _corners(self, window: GridRegion, scene: Scene, parts: list[Placed]) -> Array | None:
        pairs = [(scene.shape(id), side) for id, side in blocked_by(parts)]
        if not pairs:
            return None
        moving = any(s.moves or getattr(s.kind, "sequence", False) for s, _ in pairs)
        key = (window, scene.time if moving else 0.0)
        found = self._known.get(key)
        if found is None:
            sides = [[s for s, side in pairs if side == which] for which in ("around", "inside")]
            found = self._known[key] = corner_distances(window, sides[0], sides[1], None)
            while len(self._known) > 4:
                self._known.pop(next(iter(self._known)))
        return found

    def _clear(self, window: GridRegion, time: float, parts: list[Placed]) -> Array | None:
        """0 in walls to 1 where these are CLEAR coarse voxels away, in every coarse cell."""
        d = self._corners(window, self.plan.at(time), parts)
        if d is None:
            return None
        for axis in range(3):
            d = 0.5 * (d.take(range(1, d.shape[axis]), axis) + d.take(range(d.shape[axis] - 1), axis))
        s = np.clip(d / np.float32(CLEAR * window.voxel_size), 0, 1)
        return np.asarray(s * s * (3 - 2 * s), np.float32)


def _mixed(a: Triple, b: Triple, share: Any, more: Triple) -> Triple:
    """a + share (b − a) + more, face by face."""
    made = []
    for x, y, e in zip(a, b, more, strict=True):
        out = np.empty_like(x)
        _each(len(x), partial(between, x, y, share, e, out))
        made.append(out)
    return made[0], made[1], made[2]


def _each(rows: int, work: Any) -> None:
    each_slab(rows, work, threads())
