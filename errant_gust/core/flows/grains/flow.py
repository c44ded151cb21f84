"""The flow of grains: state at a frame, and the step to the next one.

One step in time: sources bring grains in; grains give their motion and what they bear to the nodes of a grid; forces,
pushes and walls change the nodes; grains take their motion back, are carried, strained, and yield.
"""

import math
from collections.abc import Callable
from functools import partial
from typing import Any, cast

import numpy as np

from errant_gust.core.blocks import BLOCK, Cancel, share_out
from errant_gust.core.errors import Cancelled, GustError, StudyError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows.grains import walls
from errant_gust.core.flows.grains.bundle import AT_ONCE, Bundle
from errant_gust.core.flows.grains.cost import affordable
from errant_gust.core.flows.grains.material import ANGLE, GrainChannel, friction_of
from errant_gust.core.flows.grains.on_nodes import STALE, OnNodes
from errant_gust.core.flows.grains.sources import FULL, Source
from errant_gust.core.flows.grains.state import GrainState
from errant_gust.core.flows.grains.steps import SLOT, SORT, Domain, GrainStep, Work
from errant_gust.core.flows.step import Emits, Placed, placed_steps
from errant_gust.core.grids import transfer
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.kernels import grains as kernels

MARGIN, MARGIN_BLOCK = 3, 4  # cells about the grains; the window grows by whole blocks
CFL = 0.7
"""Of a voxel that a wave of pressure goes in a step in time."""
STIFF = 25.0
"""Stiffness over what weighs on the floor of the region when it is full: it sinks by 4 % at most."""


class GrainFlow(OnNodes):
    """A grain lane of a study, stepped frame by frame; the state is a function of the study, the frame and quality."""

    sort, begins, least, moves = SORT, Domain, 4, "grains"
    state = GrainState

    def __init__(self, plan: Plan, id: str, *, quality: str = "full") -> None:
        super().__init__(plan, id, quality=quality)
        self._parts_kept: tuple[int, list[Placed]] | None = None
        parts = self.parts(0.0)
        self._check_parts(parts)
        scene = plan.at(0.0)
        for part in parts:
            part.step.check(scene, part.where)
        self.keeps: dict[str, int] = {}
        for part in parts:
            self.keeps |= cast(GrainStep, part.step).keeps()
        self.at_birth: dict[str, Callable[[Work, Array], Array]] = {}
        for part in parts:
            part.step.understood(tuple(self.keeps), part.where)
            if isinstance(part.step, GrainChannel) and part.step.what == "field at birth":
                self.at_birth[part.step.name] = cast(Any, part.step.born)
        first = cast(Domain, parts[0].step)
        self.density = first.density
        self.spacing = first.spacing * (first.preview_spacing if quality == "preview" else 1.0)
        self.domain = self._voxels(scene, first)
        self._estimated = affordable(self, scene, parts)
        self._sources_inside(self.domain, scene, parts)
        self.modulus = self._modulus(parts)
        self._fronts = walls.Fronts(self)

    # the sand ----------------------------------------------------------------------------------------------------

    def _modulus(self, parts: list[Placed]) -> float:
        """Stiffness against being pressed together, over density (m²/s²)."""
        first = cast(Domain, parts[0].step)
        if first.stiffness:
            return first.stiffness * 1e3 / self.density
        return STIFF * self.weight(parts)

    def weight(self, parts: list[Placed]) -> float:
        """Pressure over density on the floor of the region when it is full (m²/s²)."""
        pull = np.zeros(3)
        for part in parts:
            if part.step.id == "gravity":
                pull = pull + self.domain.to_own(np.array(part.step.acceleration, np.float32)[:, None])[:, 0]
        size = np.array(self.domain.shape) * self.domain.voxel_size
        return max(float(np.abs(pull) @ size), 0.1 * float(size.max()))

    def parts(self, time: float) -> list[Placed]:
        """The lane's steps that are on, with their values at a time: they change every 48th of a second of it."""
        slot = int(np.floor(time / SLOT + 1e-6))
        if self._parts_kept is None or self._parts_kept[0] != slot:
            found = placed_steps(self.scene_at(slot * SLOT), self.lane, self.sort)
            self._parts_kept = slot, [p for p in found if cast(GrainStep, p.step).family != "drawn"]
        return self._parts_kept[1]

    def scene_at(self, time: float) -> Scene:
        """The scene at a time in s, that of time 0 before it."""
        return self.plan.at(max(0.0, time))

    def total_of(self, part: Placed, name: str) -> Callable[[float], float]:
        """The integral of a rate of a step from 0 to a time."""

        def total(time: float) -> float:
            placed = placed_steps(self.scene_at(time), self.lane, self.sort)
            found = next(p for p in placed if p.where == part.where)
            return min(time, 0.0) * float(getattr(found.step, name)) + float(found.totals[name])

        return total

    def _voxels(self, scene: Scene, step: Domain) -> GridRegion:
        lower, upper, turn = scene.bounds(step.region)
        h = 2 * self.spacing
        count = np.maximum(np.ceil((upper - lower) / h - 1e-6), 1).astype(np.int64)
        if count.max() > 8192 or math.prod(count.tolist()) > 2**31:
            raise StudyError(
                f"the region is {' × '.join(f'{2 * n:,}' for n in count)} grains: too many",
                where=f"flows.{self.id}.{self.lane.steps[0].id}.spacing",
                fix="a larger spacing, or a smaller region",
            )  # fmt: skip
        # from its lower corner on, so that its floor is where it was put
        made = GridRegion(cast(Any, tuple(lower.tolist())), cast(Any, tuple(count.tolist())), h, turn)
        where = f"flows.{self.id}.{self.lane.steps[0].id}.spacing"
        if min(made.shape) < self.least:
            raise StudyError(
                f"the region is {' × '.join(str(2 * n) for n in made.shape)} grains: too few", where=where,
                fix="a smaller spacing, or a larger region",
            )  # fmt: skip
        return made

    # cost --------------------------------------------------------------------------------------------------------

    def estimate(self) -> tuple[int, int]:
        """Grains at most (about), and bytes for them and their grid: what sources hold, pour and bring."""
        return self._estimated

    def scale(self, facts: dict[str, Any], measured: Any) -> tuple[float, float]:
        """See `kind.Flow`: grains by their spacing; time also by substeps, which follow spacing and stiffness."""
        was = measured.spacing / self.spacing
        return was**3 * max(1.0, was * self.sound / measured.sound), was**3

    # frames ------------------------------------------------------------------------------------------------------

    def _advanced(self, state: GrainState, start: float, end: float, cancel: Cancel | None) -> GrainState:
        work = self._work(state, start, cancel)
        work.lasts = end - start
        work.speed = self._swiftest(work)
        time, substeps, fastest = start, 0, 0.0
        self._made_of(work)
        if end <= start:
            work.scene = self.scene_at(end)
            self._brought(work)
            self._looked_about(work)
        while end - time > 1e-9:
            if cancel is not None and cancel():
                raise Cancelled
            done = substeps // self.finer.times
            dt = self.finer.of(self._step, work, time, end, done)
            until = time + dt if end - time - dt > 1e-9 else end
            work.begun, work.dt, work.scene = time, dt, self.plan.at(until)
            work.kick = 0.5 * (work.before + dt)
            self._substep(work)
            time, work.before, substeps = until, dt, substeps + 1
            fastest = max(fastest, work.speed)
        if end > start:
            self._at_frame(work)
        self._fades(work)
        for part in self.parts(end):
            part.step.change(part, work)
        return self._state(work, {"substeps": substeps, "fastest": fastest})

    def _work(self, state: GrainState, start: float, cancel: Cancel | None) -> Work:
        sand, order = Bundle.of(state.count, False), self._order(state)
        given = state.position, state.velocity - state.lag, state.outward, state.affine, state.strain, order.order
        share_out(partial(kernels.pack, *given, *self._frame(np.zeros(3)), sand.a), state.count, block=AT_ONCE)
        sand.put(kernels.SPREAD, order.sorted(state.spread))
        sand.put(kernels.PACKING, order.sorted(state.packing))
        sand.put(kernels.PRESSURE, order.sorted(state.pressure / np.float32(self.density)))
        own = {"id": state.id, "age": state.age, "life": state.life} | state.more
        shape = (1, 1, 1)
        made = Work(
            self, self.scene_at(start), sand, {k: order.sorted(v) for k, v in own.items()}, np.zeros(3, int), shape,
            begun=start, before=state.lasted, cancel=cancel, born=state.born, refused=state.refused,
            left=list(state.left),
        )  # fmt: skip
        self._sorted(made)
        return made

    def _order(self, state: GrainState) -> transfer.Order:
        """How the grains of a state are sorted; it does not depend on the window."""
        if not state.count:
            return transfer.Order(np.zeros(0, np.int32), np.zeros(1, np.int32))
        _, low, h = self._frame(np.zeros(3))
        q = (self.domain.to_own(state.position) - low[:, None]) / h - np.float32(0.5)
        lower = np.floor(q.min(axis=1))
        shape = np.floor(q.max(axis=1)) - lower + 1
        return transfer.order_by_cell(q - lower[:, None], cast(Any, tuple(int(n) for n in shape)))

    def _frame(self, origin: Array) -> tuple[Array, Array, np.float32]:
        """The domain's axes, the corner of a window whose first node is `origin`, and the size of a voxel."""
        h = self.domain.voxel_size
        return (
            self.domain.axes.astype(np.float32),
            (np.array(self.domain.lower) + h * origin).astype(np.float32),
            np.float32(h),
        )

    def _swiftest(self, work: Work) -> float:
        """The greatest speed, m/s."""
        found: list[float] = []

        def look(first: int, last: int) -> None:
            found.append(float(kernels.fastest(work.sand.a, first, last)))

        share_out(look, work.count, block=BLOCK)
        return self._sane(math.sqrt(max(found, default=0.0)))

    def _sane(self, speed: float) -> float:
        """The speed, if it is one."""
        if not math.isfinite(speed):
            raise GustError(
                "the velocities are no longer numbers", where=f"flows.{self.id}",
                fix="a weaker push; the frames before this are kept",
            )  # fmt: skip
        return speed

    def _step(self, work: Work, time: float, end: float, done: int) -> float:
        """Seconds of the next substep: equal parts of what is left of the frame, in which no wave goes farther than is
        stable and no grain farther than the Domain allows."""
        parts = self.parts(time)
        domain = cast(Domain, parts[0].step)
        h, speed = self.domain.voxel_size, work.speed
        for part in parts:
            if isinstance(part.step, Source) and part.step.pours(time, end):
                speed = max(speed, float(np.linalg.norm(part.step.velocity)))
        by_sound, by_speed = CFL * h / self.sound, domain.longest * h / max(speed, 1e-12)
        count = max(1, math.ceil((end - time) / min(by_sound, by_speed) - 1e-6))
        if done + count > domain.most_substeps:
            quick = by_speed < by_sound
            what = (
                f"the grains are as fast as {speed:.3g} m/s" if quick
                else f"so stiff a sand ({self.modulus * self.density / 1e3:,.3g} kPa) carries waves at "
                f"{self.sound:.3g} m/s"
            )  # fmt: skip
            fix = "a weaker push, a Speed limit" if quick else "less stiffness, a lower region, a larger spacing"
            raise GustError(
                f"{what}: {done + count} substeps a frame would be needed, {domain.most_substeps} are allowed",
                where=f"flows.{self.id}", fix=f"{fix}, or more substeps; the frames before this are kept",
            )  # fmt: skip
        return (end - time) / count

    # one step in time --------------------------------------------------------------------------------------------

    def _brought(self, work: Work) -> None:
        """What sources bring in, ready to be stepped."""
        before = work.count
        for part in self.parts(work.begun):
            if isinstance(part.step, Emits):
                cast(Any, part.step).source(part, work)
                if work.drift > STALE:
                    fresh = np.arange(before, work.count)
                    work.sand.put(kernels.SINE, friction_of(np.float32(ANGLE)), fresh)
                    self._made_of(work, fresh)
                    self._sorted(work)
                    before = work.count

    def _made_of(self, work: Work, some: Array | None = None) -> None:
        """Friction and cohesion of all grains, or of some by index."""
        work.sand.put(kernels.SINE, friction_of(np.float32(ANGLE)), some)
        work.sand.put(kernels.TENSION, 0, some)
        for part in self.parts(work.begun):
            part.step.material(part, work, some)

    def _substep(self, work: Work) -> None:
        self._brought(work)
        if work.drift > STALE:
            self._sorted(work)
        if not work.count:
            return
        parts = self.parts(work.begun)
        f, h = np.float32, self.domain.voxel_size
        nodes, held = self._moved(work, parts)
        told = self._from_nodes(work, work.sand, nodes, work.dt)
        work.speed = self._sane(float(np.sqrt(told[:, 0].max())))
        put = self._fronts.keep_out(held, work)
        work.drift += work.speed * work.dt / h + put + (0.1 if told[:, 1].max() > kernels.APART else 0.0)
        work.own["age"] += f(work.dt)

    def _sorted(self, work: Work) -> None:
        """Grains in the order of their cells, in a window that holds them and what sources may bring."""
        q = work.sand.get(kernels.PLACE)
        if self._leave(work, q):
            q = work.sand.get(kernels.PLACE)
        low, high = self._window(work, q)
        shape = tuple(int(n) for n in high - low + 1)
        if tuple(low) != tuple(work.origin) or shape != work.shape:
            work.moved()
            shift = (work.origin - low).astype(np.float32)
            q += shift[:, None]
            work.sand.put(kernels.PLACE, q)
        work.origin, work.shape = low, cast(Any, shape)
        order = transfer.order_by_cell(q - np.float32(0.5), work.shape)
        if (np.diff(order.order) != 1).any():
            work.sand = work.sand.some(order.order)
            work.own = {k: order.sorted(v) for k, v in work.own.items()}
        work.start = np.ascontiguousarray(order.start[:: shape[1] * shape[2]])
        work.drift = 0.0

    def _window(self, work: Work, q: Array) -> tuple[Array, Array]:
        """First and last node, in the domain, of a window for grains at q (3, n) in cells of the present one, and for
        what sources may bring."""
        boxes = []
        if q.size:
            low, high = np.floor(q.min(axis=1)).astype(int), np.ceil(q.max(axis=1)).astype(int)
            boxes.append((low + work.origin, high + work.origin))
        for part in self.parts(work.begun):
            if isinstance(part.step, Source) and part.step.begin - 0.1 <= work.scene.time <= part.step.until:
                box = part.step.reached(self.domain, work.scene, self.particles_of)
                if box is not None and part.step.how != "filled once":
                    boxes.append(box)
        if not boxes:
            middle = np.array(self.domain.shape) // 2
            boxes.append((middle - 1, middle + 1))
        low = np.min([b[0] for b in boxes], axis=0) - MARGIN
        high = np.max([b[1] for b in boxes], axis=0) + MARGIN
        low = np.maximum(low // MARGIN_BLOCK * MARGIN_BLOCK, -MARGIN_BLOCK)
        high = np.minimum(-(-high // MARGIN_BLOCK) * MARGIN_BLOCK, np.array(self.domain.shape) + MARGIN_BLOCK)
        return low, high

    def in_the_open(self, work: Work, places: Array) -> Array:
        """Which places (3, n) in cells of the window are within the domain and in no obstacle."""
        q = places + work.origin[:, None].astype(np.float32)
        top = np.array(self.domain.shape, np.float32)[:, None]
        inside = np.asarray(((q > 0) & (q < top)).all(axis=0))
        if inside.any():
            points = work.points(np.ascontiguousarray(places[:, inside]))
            clear = np.ones(points.shape[1], bool)
            vessels = None
            for wall in self._fronts.walls(work, self.parts(work.begun)):
                d = wall.distance(points)
                if wall.sign > 0:
                    clear &= d > 0
                else:
                    vessels = d > 0 if vessels is None else vessels | (d > 0)
            inside[inside] = clear if vessels is None else clear & vessels
        return inside

    # what goes ---------------------------------------------------------------------------------------------------

    def _leave(self, work: Work, q: Array) -> bool:
        """What went out through open sides goes; q (3, n) in cells of the window. Whether anything did."""
        gone = None
        for axis in range(3) if work.count else ():
            low, high = -work.origin[axis], self.domain.shape[axis] - work.origin[axis]
            for side, beyond in enumerate((q[axis].min() < low, q[axis].max() > high)):
                if beyond:
                    out = q[axis] > high if side else q[axis] < low
                    gone = np.zeros(work.count, bool) if gone is None else gone
                    work.left[2 * axis + side] += int((out & ~gone).sum())
                    gone |= out
        if gone is not None:
            work.keep(~gone)
        return gone is not None

    def _fades(self, work: Work) -> None:
        """What has lived its life, or is taken away by steps, goes; once a frame."""
        life = work.own["life"]
        gone = (life > 0) & (work.own["age"] > life)
        for part in self.parts(work.scene.time):
            taken = part.step.taken(part, work)
            if taken is not None:
                gone |= taken
        if gone.any():
            work.left[6] += int(gone.sum())
            work.keep(~gone)
        if work.drift > STALE:
            self._sorted(work)

    # what is kept ------------------------------------------------------------------------------------------------

    def _state(self, work: Work, pace: dict[str, float]) -> GrainState:
        own, n = dict(work.own), work.count
        grid, window = self._stored(work)
        sand = work.sand
        position, velocity, outward, affine, strain = (np.empty((c, n), np.float32) for c in (3, 3, 3, 9, 6))
        given = sand.a, position, velocity, outward, affine, strain
        axes, low, h = self._frame(work.origin)
        back = np.ascontiguousarray(axes.T), -axes @ low / h, h
        share_out(partial(kernels.unpack, *given, *back), n, block=AT_ONCE)
        lag = own.pop("lag") if "lag" in own else np.zeros((3, n), np.float32)
        velocity += lag
        base: dict[str, Any] = {k: own.pop(k) for k in ("id", "age", "life")}
        made = GrainState(
            position=position, velocity=velocity, lag=lag, affine=affine, strain=strain,
            spread=sand.get(kernels.SPREAD),
            packing=sand.get(kernels.PACKING), pressure=sand.get(kernels.PRESSURE) * np.float32(self.density),
            outward=outward, **base, more=own, born=work.born,
            refused=work.refused, left=tuple(work.left), lasted=work.before,
        )  # fmt: skip
        made.grid, made.window = grid, window
        made.pace = {
            **pace, "spacing": self.spacing, "voxel_size": self.domain.voxel_size,
            "stiffness": self.modulus * self.density, "tightest": float(made.packing.max(initial=0.0)),
            "capped": work.capped,
        }  # fmt: skip
        if work.met:
            made.pace["met"] = dict(sorted(work.met.items()))
        if work.sources:
            made.pace["sources"] = dict(sorted(work.sources.items()))
        return made

    def _stored(self, work: Work) -> tuple[dict[str, Array], GridRegion]:
        """What is kept of the grid: packing, and pressure in Pa, about its nodes."""
        flat = np.zeros(4 * math.prod(work.shape) + 4, np.float32)
        transfer.by_slabs(partial(kernels.weighed, work.sand.a, work.start, flat, work.shape), work.shape[0])
        nodes = flat[:-4].reshape(*work.shape, 4)
        mass = nodes[..., 3]
        pressure = np.divide(nodes[..., 0], mass, out=np.zeros_like(mass), where=mass > 1e-6)
        h = self.domain.voxel_size
        lower = tuple(float(x + h * (o - 0.5)) for x, o in zip(self.domain.lower, work.origin, strict=True))
        window = GridRegion(cast(Any, lower), work.shape, h, self.domain.turn)
        return {
            "packing": mass / np.float32(FULL), "pressure": pressure * np.float32(self.density)
        }, window  # fmt: skip
