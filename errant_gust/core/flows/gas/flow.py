"""The gas flow: state at a frame, and the step to the next one.

One step in time, of second order (see `midway`): the velocity of its middle carries everything (MacCormack), channels
change, sources fill, forces push, and the projection makes the flow free of divergence again, or as divergent as
expansion wants. So every stored frame is free of divergence.
"""

import math
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Any, cast

import numpy as np

from errant_gust.core.blocks import Cancel, threads
from errant_gust.core.errors import BudgetError, GustError, SolverError, StudyError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows.boxed import BoxedFlow
from errant_gust.core.flows.gas.forces import Rise
from errant_gust.core.flows.gas.keeping import Amounts
from errant_gust.core.flows.gas.midway import carriers, swings
from errant_gust.core.flows.gas.state import GasState, Last
from errant_gust.core.flows.gas.steps import BASE, COLOURS, SORT, Domain, Work
from errant_gust.core.flows.step import Emits, Placed, blocked_by
from errant_gust.core.grids.region import GridRegion, budget
from errant_gust.core.grids.slabs import each_slab
from errant_gust.core.grids.staggered.advection import Lend, Trace, carried, fastest, new_memory, trace
from errant_gust.core.grids.staggered.faces import (
    FaceGrid,
    Projector,
    Triple,
    Walls,
    closed_sides,
    into_unknown,
    open_shares,
    spread_into_walls,
)
from errant_gust.core.grids.staggered.walls import corner_distances, walls_of
from errant_gust.core.grids.staggered.window import BLOCK, FACES, around
from errant_gust.core.kernels import advection as kernels
from errant_gust.core.kernels import faces as face_kernels

BYTES_A_VOXEL = 125  # and 12 a channel: measured at the peak of a step with a moving obstacle, a push and expansion
MOVES = 0.05  # of the fastest: the share of its speed from which on a cell is one of gas that moves
KELVIN = 300.0  # a temperature as noticeable as density 1, for the window
TOLERANCE = 5e-4
FILLED = 3  # voxels inside a wall in which carrying finds what is beside it


class GasFlow(BoxedFlow):
    """A gas lane of a study, stepped frame by frame; the state is a function of the study, the frame and quality."""

    sort, begins, moves = SORT, Domain, "voxels of gas that moves"

    def __init__(self, plan: Plan, id: str, *, quality: str = "full") -> None:
        super().__init__(plan, id, quality=quality)
        scene, parts = self._begun()
        self.names = tuple(dict.fromkeys((*BASE, *(n for p in parts for n in p.step.names(p.varying)))))
        self.twins = self._twins(parts)
        self.domain = self._domain(scene)
        self._check_memory()
        self._sources_inside(self.domain, scene, parts)
        self._kept: tuple[Any, Projector, Array | None, Walls] | None = None
        self._baked: tuple[Any, dict[str, Array]] = (None, {})

    def _twins(self, parts: list[Placed]) -> dict[str, tuple[str, ...]]:
        """Channels by the one whose fillings they take part in."""
        found: dict[str, tuple[str, ...]] = {}
        for part in parts:
            part.step.understood(self.names, part.where)
            if part.step.copied:
                of, into = part.step.copied
                found[of] = (*found.get(of, ()), into)
        return found

    def _domain(self, scene: Scene) -> GridRegion:
        return self._box(scene, self.parts(0.0)[0].step)

    def estimate(self) -> tuple[int, int]:
        """Cells of the whole domain, and bytes for them."""
        return self.domain.voxels, self.domain.voxels * (BYTES_A_VOXEL + 12 * len(self.names))

    def scale(self, facts: dict[str, Any], measured: Any) -> tuple[float, float]:
        """See `kind.Flow`: voxels by their size, time by voxels and substeps."""
        cells = (facts["region"]["voxel_size"] / self.domain.voxel_size) ** 3
        way = facts.get("fastest", 0.0) / self.clock.fps / self.clock.slow_motion
        steps = max(1, math.ceil(way / self.longest_way - 1e-6))
        return cells * steps / facts.get("substeps", 1), cells

    @property
    def longest_way(self) -> float:
        """In m, in a substep."""
        return cast(Domain, self.parts(0.0)[0].step).longest * self.domain.voxel_size

    def _check_memory(self) -> None:
        cells, need = self.estimate()
        limit = budget()
        if need > limit:
            fits = float(f"{self.domain.voxel_size * (need / limit) ** (1 / 3) * 1.03:.2g}")
            region = cast(Domain, self.parts(0.0)[0].step).region
            raise BudgetError(
                f"gas in {cells:,} voxels needs up to {need / 1e9:,.1f} GB, the budget is {limit / 1e9:,.1f} GB",
                where=f"regions.{region}.voxel_size", fix=f"a voxel size of {fits:g} m would fit", fits=fits,
            )  # fmt: skip

    # frames ----------------------------------------------------------------------------------------------------

    def load(self, arrays: dict[str, Array], facts: dict[str, Any]) -> GasState:
        """The state as it was stored: channels (nx, ny, nz), velocities on faces."""
        return GasState.from_channels(arrays, facts, self.domain)

    def first(self) -> GasState:
        """Still air, and what the sources put into it at once."""
        state = GasState.empty(self.domain, (0, 0, 0), self.domain.shape, self.names)
        state = self._fitted(state, (self.plan.at(0.0),), self.parts(0.0))
        return self._sound(self._step(state, 0.0, 0.0, None, own=True))

    def next(self, state: GasState, frame: int, cancel: Cancel | None = None, keep: bool = True) -> GasState:
        """The state on frame + 1 from that on `frame`; without `keep` the given one is used up, which saves memory."""
        start, end = self.clock.seconds(frame), self.clock.seconds(frame + 1)
        ahead = 0.0 if state.last is None else 0.5 * state.last.most
        way = (self._fastest(state) + ahead) * (end - start) / state.domain.voxel_size
        margin = int(min(3 * BLOCK, max(4.0, way + 3)))  # cells that anything may cross in a frame
        fitted = self._fitted(state, (self.plan.at(start), self.plan.at(end)), self.parts(start), margin)
        own = not keep or fitted is not state
        if keep:
            state = replace(fitted)
        else:
            state.become(fitted)
        del fitted
        count = self.substeps(state, start, end) * self.finer.times
        fastest = self._fastest(state)
        for i in range(count):
            a, b = (start + (end - start) * k / count if k < count else end for k in (i, i + 1))
            state = self._step(state, a, b, cancel, own=own or i > 0)
        state.pace = {"substeps": count, "fastest": fastest}
        return self._sound(state)

    def _sound(self, state: GasState) -> GasState:
        """The state, if all that it holds is numbers."""
        for name in state.names:
            if not math.isfinite(float(state.channel(name).sum(dtype=np.float64))):
                raise GustError(
                    f"the channel '{name}' is no longer numbers", where=f"flows.{self.id}",
                    fix="look for what fills it: an amount or a lane that is not finite; the frames before are kept",
                )  # fmt: skip
        return state

    def substeps(self, state: GasState, start: float, end: float) -> int:
        """So many that nothing goes farther than the Domain allows in one. Raises GustError for velocities that are
        no numbers, or so fast that more would be needed than are allowed."""
        domain = cast(Domain, self.parts(start)[0].step)
        fastest = self._fastest(state)
        if not math.isfinite(fastest):
            raise GustError(
                "the velocities are no longer numbers", where=f"flows.{self.id}",
                fix="a weaker push or lift, a cooler source; the frames before this are kept",
            )  # fmt: skip
        count = max(1, math.ceil(fastest * (end - start) / (domain.longest * state.domain.voxel_size) - 1e-6))
        if not domain.reflect:
            _, solid, _ = self._walls(state, self.plan.at(start), self.parts(start))  # those of the step before
            stiff = self._forces(state, start, end - start, None, new_memory, solid=solid, stiffness=True).swings
            count = max(count, min(domain.most_substeps, swings(stiff, end - start)))
        if count > domain.most_substeps:
            raise GustError(
                f"the gas is as fast as {fastest:.3g} m/s: {count} substeps a frame would be needed, "
                f"{domain.most_substeps} are allowed", where=f"flows.{self.id}",
                fix="a weaker push or lift, a cooler source, or more substeps; the frames before this are kept",
            )  # fmt: skip
        return count

    def _fastest(self, state: GasState) -> float:
        return fastest((state.u, state.v, state.w))

    def compared(self, start: GasState, whole: GasState, halves: GasState) -> tuple[Array, Array, Array]:
        """See `kind.LaneFlow`: how far the gas in a cell, where it moves at all, goes in a frame by the velocities
        there: (3, n)."""
        seconds = self.clock.step
        ways = []
        for s in (whole, halves):
            s = s.moved_to(whole.origin, whole.values.shape[1:])
            u, v, w = s.u, s.v, s.w
            middle = (0.5 * (u[1:] + u[:-1]), 0.5 * (v[:, 1:] + v[:, :-1]), 0.5 * (w[:, :, 1:] + w[:, :, :-1]))
            ways.append(np.stack([a.ravel() for a in middle]).astype(float) * seconds)
        speed = np.sqrt((ways[0] ** 2).sum(axis=0))
        moves = speed > MOVES * speed.max(initial=0.0)
        return np.zeros((3, int(moves.sum()))), ways[0][:, moves], ways[1][:, moves]

    def _fitted(
        self, state: GasState, scenes: tuple[Scene, ...], parts: list[Placed], margin: int = BLOCK
    ) -> GasState:  # fmt: skip
        """The state in the window that the next frame needs, with what sources may fill in these scenes."""
        domain = cast(Domain, parts[0].step)
        if not domain.follow:
            return state.moved_to((0, 0, 0), self.domain.shape)
        least = {n: domain.threshold * (KELVIN if n == "temperature" else 1) for n in self._followed(parts)}
        also = []
        for part in parts:
            for scene in scenes if isinstance(part.step, Emits) else ():
                box = part.step.reached(self.domain, scene, self.particles_of)
                if box is not None:
                    also.append(box)
        origin, shape_ = around(state, least, margin, also)
        return state.moved_to(origin, shape_)

    def _followed(self, parts: list[Placed]) -> list[str]:
        """Channels that the window follows: what moves the gas, so that a channel for display changes nothing; and
        what is brought in with nothing else."""
        alone = {p.step.alone(p.varying) for p in parts if isinstance(p.step, Emits)}
        return [n for n in self.names if n in (*BASE, "fuel") or n in alone]

    # one step in time --------------------------------------------------------------------------------------------

    def _step(self, state: GasState, start: float, end: float, cancel: Cancel | None, own: bool = False) -> GasState:
        """The state a substep later; the given one, changed, if it is `own`."""
        parts, scene = self.parts(end), self.plan.at(end)
        reflect, dt = cast(Domain, parts[0].step).reflect, end - start
        if dt and not reflect and state.last is None:  # what a whole step would leave is what there was, as nearly
            trial = replace(state, values=state.values.copy(), last=None)
            state.last = self._ended(trial, start, end, parts, scene, cancel, own=True).last
        return self._ended(state, start, end, parts, scene, cancel, own=own)

    def _ended(
        self, state: GasState, start: float, end: float, parts: list[Placed], scene: Scene, cancel: Cancel | None, *,
        own: bool,
    ) -> GasState:  # fmt: skip
        projector, solid, wall = self._walls(state, scene, parts)
        domain, dt = cast(Domain, parts[0].step), end - start
        kept = dt > 0 and not domain.reflect
        before, taken, carrier, motion = (state.u, state.v, state.w), None, None, None
        pushing: set[str] = set()  # fields that push by force
        if kept and state.last is None:  # the whole force at the end: what it needs of pressure is known to the bit
            carrier, motion = (state.u.copy(), state.v.copy(), state.w.copy()), [f.copy() for f in before]
        elif kept:
            work = self._forces(state, start, dt, cancel, projector.solver.lend, solid=solid)
            carrier, motion, taken = carriers(state, cast(Last, state.last), work, projector, solid, dt)
            pushing.update(work.baked)
            del work
            if own:
                state.last = None
        if dt:
            amounts = None
            if domain.keep:
                sides = projector.low.tolist(), projector.high.tolist()
                amounts = Amounts.after(state, carrier or before, *sides, dt)
            if solid is not None:  # beside a wall comes what is beside it, not the nothing within
                values = state.values if own else state.values.copy()
                for a in values:
                    into_unknown(a, solid, solid, layers=FILLED)
                state = state if own else replace(state)
                state.values = values
            state = self._carried(
                state, projector, wall, dt, walls=solid is not None, own=own, carrier=carrier, motion=motion,
                cancel=cancel,
            )  # fmt: skip
            carrier = motion = None
            if amounts is not None:
                amounts.restore(state, solid)
        work = self._filled(state, start, end, parts, solid, cancel)
        work.lend = projector.solver.lend
        if dt:
            for part in parts:
                part.step.pushes(part, work)
        self._drive(work, dt if taken is None else 0.5 * dt)
        self._baked = (_place(state, end), {k: a for k, a in work.baked.items() if k in pushing})  # for the next one
        total = np.zeros(state.values.shape[1:], np.float32) if kept else None
        if taken is not None and total is not None:  # as much again is expected: what is left to solve for is small
            projector.take_off(np.pad(taken, 1), state.faces)
            total += 2 * taken
        self._project(work, projector, wall, total)
        state.last = None
        if total is not None:
            total *= np.float32(1 / dt)
            total[~projector.active] = 0
            state.last = Last.of(total, before, (state.u, state.v, state.w), dt)
        return state

    def _forces(
        self, state: GasState, time: float, dt: float, cancel: Cancel | None, lend: Lend, *,
        solid: Array | None = None, stiffness: bool = False,
    ) -> Work:  # fmt: skip
        """Forces on the state as it stands at a time; or only those that tell how stiff layers are."""
        work = Work(state, self.plan.at(time), dt, threads(), cancel, lend=lend, forces_only=True, solid=solid)
        work.particles_of, work.twins = self.particles_of, self.twins
        if self._baked[0] == _place(state, time):
            work.baked = self._baked[1]
        for part in self.parts(time):
            if not stiffness or isinstance(part.step, Rise):
                part.step.pushes(part, work)
        return work

    def _filled(
        self, state: GasState, start: float, end: float, parts: list[Placed], solid: Array | None, cancel: Cancel | None
    ) -> Work:
        """What happens to channels in a step: changes, sources, formulas; nothing inside obstacles."""
        if solid is not None:
            state.values[:, solid] = 0
        before = self.plan.at(start) if end > start else None
        work = Work(state, self.plan.at(end), end - start, threads(), cancel, before=before)
        work.particles_of, work.twins = self.particles_of, self.twins
        for part in parts:
            part.step.change(part, work)
        for part in parts:
            part.step.source(part, work)
        for part in parts:
            part.step.finish(part, work)
        if solid is not None:
            state.values[:, solid] = 0
        return work

    def _each(self, state: GasState, work: Any, extra: int = 0) -> None:
        """Run a kernel on slabs of the first axis (with `extra` faces more) on all threads."""
        each_slab(state.values.shape[1] + extra, work, threads())

    def _carried(
        self, state: GasState, projector: Projector, wall: Walls, dt: float, *, walls: bool, own: bool,
        carrier: Triple | None = None, motion: list[Array] | None = None, cancel: Cancel | None = None,
    ) -> GasState:  # fmt: skip
        """Channels and velocities after dt, by MacCormack with one trace for all; the state itself if it is `own`. With
        a `carrier` (see `midway`) `motion` is carried by it, and used up; else the mirrored velocities of *Keep swirls*
        are."""
        sides = [closed_sides(axis, projector.low, projector.high) for axis in range(3)]

        def open_to_walls(faces: Triple, own: bool) -> Triple:
            if not walls:
                return faces
            grid = spread_into_walls(FaceGrid(state.window, *faces), projector.shares, known=sides, own=own)
            return grid.u, grid.v, grid.w

        lend = projector.solver.lend
        if carrier is not None and motion is not None:
            carrier = open_to_walls(carrier, True)
            motion[:] = open_to_walls((motion[0], motion[1], motion[2]), True)
            return self._carried_by(state, carrier, dt, motion, dt, lend=lend, own=own)
        carrier, mirrored = self._reflected(state, projector, wall, dt, open_to_walls, cancel)
        return self._carried_by(state, carrier, dt, list(mirrored), 0.5 * dt, lend=lend, own=own)

    def _reflected(
        self, state: GasState, projector: Projector, wall: Walls, dt: float,
        open_to_walls: Callable[[Triple, bool], Triple], cancel: Cancel | None,
    ) -> tuple[Triple, Triple]:  # fmt: skip
        """Velocities half a step on: as projected, and mirrored in that projection (advection-reflection, Zehnder,
        Narain, Thomaszewski 2018). Carrying the mirrored ones on and projecting again puts back the energy that the
        first projection took."""
        faces = state.faces
        swelling = np.empty(state.values.shape[1:], np.float32)
        work = partial(face_kernels.outflow, faces.u, faces.v, faces.w, *projector.shares, swelling)
        self._each(state, work)
        carrier = open_to_walls((faces.u, faces.v, faces.w), False)
        path = self._trace(carrier, 0.5 * dt, projector.solver.lend)
        mirrored = [carried(path, f[None], axis, 1)[0] for axis, f in enumerate(carrier)]
        half = FaceGrid(state.window, *(f.copy() for f in mirrored))
        self._solved(projector, half, -swelling, cancel)  # as much net outflow as there was
        projector.seal(half, wall)
        for f, g in zip(mirrored, (half.u, half.v, half.w), strict=True):
            np.subtract(2 * g, f, out=f)
        u, v, w = mirrored
        return open_to_walls((half.u, half.v, half.w), True), open_to_walls((u, v, w), True)

    def _carried_by(
        self, state: GasState, faces: Triple, dt: float, motion: list[Array] | None = None, motion_dt: float = 0.0, *,
        lend: Lend = new_memory, own: bool = False,
    ) -> GasState:  # fmt: skip
        """What velocities on the faces make of the channels in dt, and of the velocities `motion` in `motion_dt`,
        which are used up; without `motion` the faces are the velocities that the state has then.

        What is needed on the way is in lent memory, and of an `own` state the old channels are free as soon as there
        are new ones: with the solver that is what gas takes at its most.
        """
        path = self._trace(faces, dt, lend)
        values = carried(path, state.values, -1, 0)
        if not own:
            state = replace(state)
        state.values = values
        if COLOURS[0] in state.names:  # each channel is limited by itself; none may exceed the whole
            for name in COLOURS:
                a = values[state.names.index(name)]
                np.minimum(a, values[state.names.index("density")], out=a)
        if motion is None:
            state.u, state.v, state.w = faces
            return state
        if motion_dt != dt:
            path = self._trace(faces, motion_dt, lend)
        for axis in range(3):
            motion[axis] = carried(path, motion[axis][None], axis, 1)[0]
        state.u, state.v, state.w = motion
        return state

    def _trace(self, faces: Triple, dt: float, lend: Lend) -> Trace:
        return trace(faces, dt, self.domain.voxel_size, lend)

    def _drive(self, work: Work, dt: float) -> None:
        """Forces over dt, and what eases the gas, onto the faces."""
        s = work.state
        work.onto((s.u, s.v, s.w), dt)
        for axis, name in enumerate(FACES):
            f, extra = getattr(s, name), 1 if axis == 0 else 0
            for target, share in work.ease:
                self._each(s, partial(kernels.ease_faces, target[axis], share, axis, f), extra)
        work.ease = []

    def _open_sides(self, state: GasState, step: Domain) -> tuple[tuple[bool, ...], tuple[bool, ...]]:
        """Which sides of the window gas flows through: those of the domain that are open, and all within it."""
        upper = [o + n for o, n in zip(state.origin, state.window.shape, strict=True)]
        low = tuple(o > 0 or is_open for o, is_open in zip(state.origin, step.open_low, strict=True))
        inner = zip(upper, self.domain.shape, step.open_high, strict=True)
        return low, tuple(top < whole or is_open for top, whole, is_open in inner)

    def _walls(self, state: GasState, scene: Scene, parts: list[Placed]) -> tuple[Projector, Array | None, Walls]:
        """The projector of the window, which cells are inside obstacles, and how these move."""
        ids = blocked_by(parts)
        shapes = [scene.shape(id) for id, _ in ids]
        solids = [s for s, (_, side) in zip(shapes, ids, strict=True) if side == "around"]
        vessels = [s for s, (_, side) in zip(shapes, ids, strict=True) if side == "inside"]
        window = state.window
        low, high = self._open_sides(state, cast(Domain, parts[0].step))
        moving = any(s.moves or getattr(s.kind, "sequence", False) for s in shapes)
        key = (state.origin, window.shape, low, high, tuple(ids), scene.time if moving else 0.0)
        if self._kept is None or self._kept[0] != key:
            self._kept = None  # its memory is needed for the next
            corners = corner_distances(window, solids, vessels, None) if shapes else None
            shares = open_shares(window, corners)
            solid = None if corners is None else self._solid(shares)
            wall = walls_of(window, solids, shares, vessels) if shapes else Walls()
            for moved in (wall.carried or (), wall.faces or ()):
                for axis, f in enumerate(moved):
                    for side in closed_sides(axis, low, high):
                        f[side] = 0
            projector = Projector(shares, low, high, threads(), own=True)  # type: ignore[arg-type]
            self._kept = (key, projector, solid, wall)
        return self._kept[1:]

    def _solid(self, shares: Triple) -> Array:
        """Cells (nx, ny, nz) that nothing can enter or leave."""
        whole = shares[0][1:] + shares[0][:-1] + shares[1][:, 1:] + shares[1][:, :-1]
        solid: Array = whole + shares[2][:, :, 1:] + shares[2][:, :, :-1] == 0
        if solid.all():
            raise StudyError(
                "the obstacles fill the whole domain", where=f"flows.{self.id}", fix="smaller shapes, a larger region"
            )
        return solid

    def _solved(
        self, projector: Projector, grid: FaceGrid, fixed: Array | None, cancel: Cancel | None,
        total: Array | None = None,
    ) -> None:  # fmt: skip
        try:
            projector.step(grid, fixed, tolerance=TOLERANCE, cancel=cancel, total=total)
        except SolverError as error:
            raise error.under(f"flows.{self.id}") from None

    def _project(self, work: Work, projector: Projector, wall: Walls, total: Array | None = None) -> None:
        grid = work.state.faces
        h = np.float32(work.state.domain.voxel_size)
        fixed = projector.fixed(wall, None if work.outflow is None else work.outflow * h)
        self._solved(projector, grid, fixed, work.cancel, total)
        projector.seal(grid, wall)


def _place(state: GasState, time: float) -> tuple[Any, ...]:
    """When and where fields are evaluated for a state."""
    return time, state.origin, state.values.shape[1:]
