"""The liquid flow: state at a frame, and the step to the next one.

One step in time: sources fill what is free of liquid; particles are sorted and taken onto the faces; forces and
pushes; pressure, then viscosity, then pressure again, since viscosity alone does not keep the volume and a single
solve after it sets still liquid moving; back to the particles, which are carried, kept out of walls, and drained.

Velocities stand in the middle of steps and places at their ends, so that falling is exact and forces are of second
order (Störmer 1907, as in Hockney, Eastwood 1981): forces act from the middle of the last step to that of this one, as
they are where the particles are between. A frame shows velocities at its own time; `lag` leads back.
"""

import math
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any, cast

import numpy as np

from errant_gust.core.blocks import Cancel, threads
from errant_gust.core.errors import BudgetError, Cancelled, GustError, SolverError, StudyError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows.boxed_points import BoxedPoints, as_stored
from errant_gust.core.flows.liquid import midway, walls
from errant_gust.core.flows.liquid.channels import LiquidChannel
from errant_gust.core.flows.liquid.reseeding import reseeded
from errant_gust.core.flows.liquid.state import BASE, LiquidState
from errant_gust.core.flows.liquid.steps import LEAST, SORT, Domain, LiquidStep, Work
from errant_gust.core.flows.liquid.tension import curvature
from errant_gust.core.flows.step import Emits, Placed
from errant_gust.core.grids import transfer
from errant_gust.core.grids.particle_surface import distance_of
from errant_gust.core.grids.region import GridRegion, budget
from errant_gust.core.grids.slabs import each_slab
from errant_gust.core.grids.staggered.faces import FaceGrid, Triple
from errant_gust.core.grids.staggered.free_surface import FreeSurface, deep, extrapolate, level_set, slide
from errant_gust.core.grids.staggered.viscosity import Viscosity, hold
from errant_gust.core.kernels import free_surface as kernels

BYTES_EACH = 230  # a particle: its arrays, their sorted copies, and the frame being written
BYTES_A_VOXEL = 290  # of the window that holds liquid, with viscosity
MARGIN = 3  # cells between the liquid and the border of its window
BLOCK = 4  # cells; the window grows by whole blocks
TOLERANCE = 5e-4
HOLD = 0.1
"""Share of what is too crowded that spreads in a step."""
FASTEST = 4.0  # voxels a step that a face may let through
NOTHING = 1e-3
"""dt ν / h² below which viscosity is not solved for: the voxels are more viscous."""


class LiquidFlow(BoxedPoints):
    """A liquid lane of a study, stepped frame by frame; the state is a function of the study, the frame and quality."""

    sort, begins, least, moves = SORT, Domain, 4, "particles"
    state = LiquidState

    def __init__(self, plan: Plan, id: str, *, quality: str = "full") -> None:
        super().__init__(plan, id, quality=quality)
        scene, parts = self._begun()
        self.keeps: dict[str, int] = {}
        for part in parts:
            self.keeps |= cast(LiquidStep, part.step).keeps()
        for part in parts:
            part.step.understood(tuple(self.keeps), part.where)
        self.at_birth: dict[str, Callable[[Work, Array], Array]] = {}
        for part in parts:
            if isinstance(part.step, LiquidChannel) and part.step.what == "field at birth":
                self.at_birth[part.step.name] = cast(Any, part.step.born)
        first = cast(Domain, parts[0].step)
        self.along, self.full = first.along, first.full
        self.domain = self._domain(scene, first)
        self._check_memory(scene, parts)
        self._sources_inside(self.domain, scene, parts)
        self._fronts = walls.Fronts(self)

    def _domain(self, scene: Scene, step: Domain) -> GridRegion:
        made = self._box(scene, step)
        if max(made.shape) > 4096:
            raise StudyError(
                f"{' × '.join(map(str, made.shape))} voxels are too many",
                where=f"regions.{step.region}.voxel_size", fix="larger voxels, or a smaller region",
            )  # fmt: skip
        return made

    # cost --------------------------------------------------------------------------------------------------------

    def estimate(self) -> tuple[int, int]:
        """Particles at most (about), and bytes for them and their grid: what sources hold or pour at their speed, up
        to a full domain."""
        return self._estimated

    def _estimate(self, scene: Scene, parts: list[Placed]) -> tuple[int, int]:
        h, whole = self.domain.voxel_size, float(self.domain.voxels)
        cells = 0.0
        span = (self.clock.end - self.clock.start) * self.clock.step
        for part in parts:
            if not isinstance(part.step, Emits):
                continue
            box = cast(Any, part.step).reached(self.domain, [scene], self._nowhere)
            if box is None:
                continue
            size = np.asarray(box[1] - box[0], float) - 2
            hold = float(np.prod(np.maximum(size, 1)))
            step: Any = part.step
            burst = step.timing == "all at once"
            seconds = 0.0 if burst else max(0.0, min(step.until, span) - max(step.begin, 0.0))
            speed = float(np.linalg.norm(step.velocity))
            fall = 0.5 * 9.81 * min(seconds, 1.0) if seconds > 1 / 24 else 0.0
            flow = max(speed, 0.3 * fall) * seconds / h
            cells += hold + float(np.sort(np.maximum(size, 1))[-2:].prod()) * flow * 0.6
        cells = min(cells, whole)
        return int(cells * self.full), self._bytes(cells)

    def _bytes(self, cells: float) -> int:
        """Memory for so many full cells and the window around them."""
        window = min(float(self.domain.voxels), 4 * cells + 20_000)
        return int(cells * self.full * BYTES_EACH + window * BYTES_A_VOXEL)

    @staticmethod
    def _nowhere(flow: str, time: float) -> tuple[Array, Array]:
        return np.zeros((3, 0), np.float32), np.zeros((3, 0), np.float32)

    def scale(self, facts: dict[str, Any], measured: Any) -> tuple[float, float]:
        """See `kind.Flow`: particles by the size of voxels and how many are in one, time also by substeps."""
        was = measured.domain.voxel_size / self.domain.voxel_size
        count = was**3 * self.full / measured.full
        return count * max(1.0, was), count

    def _check_memory(self, scene: Scene, parts: list[Placed]) -> None:
        self._estimated = count, need = self._estimate(scene, parts)
        limit = budget()
        if need > limit:
            larger = 1.0
            while self._bytes(count / self.full / larger**3) > 0.75 * limit and larger < 1e3:
                larger *= 1.05
            fits = float(f"{self.domain.voxel_size * larger:.2g}")
            region = cast(Domain, parts[0].step).region
            raise BudgetError(
                f"about {count:,} particles and their voxels need up to {need / 1e9:,.1f} GB, the budget is "
                f"{limit / 1e9:,.1f} GB", where=f"regions.{region}.voxel_size",
                fix=f"a voxel size of {fits:g} m would fit", fits=fits,
            )  # fmt: skip

    # frames ------------------------------------------------------------------------------------------------------

    def _advanced(self, state: LiquidState, start: float, end: float, cancel: Cancel | None) -> LiquidState:
        h, low = np.float32(self.domain.voxel_size), np.array(self.domain.lower, np.float32)[:, None]
        a = {k: v.copy() for k, v in state.arrays().items()}
        a["q"] = (self.domain.to_own(np.ascontiguousarray(a.pop("position"))) - low) / h
        a["velocity"] = np.ascontiguousarray(self.domain.to_own(a["velocity"] - a["lag"]), np.float32)
        born, sourced, left, before = state.born, state.sourced, list(state.left), state.lasted
        pace = {"substeps": 0.0, "fastest": 0.0}
        time = start
        met: dict[str, float] = {}
        work = None
        while work is None or end - time > 1e-9:
            if cancel is not None and cancel():
                raise Cancelled
            done = int(pace["substeps"]) // self.finer.times
            dt = self.finer.of(self._step, a, time, end, done) if end > start else 0.0
            until = time + dt if end - time - dt > 1e-9 else end
            work = self._work(a, time, until, before, left, cancel)
            work.met, work.born, work.sourced = met, born, sourced
            self._substep(work, pace, last=until == end)
            a, born, sourced, left, time, before = work.a, work.born, work.sourced, work.left, until, dt
            pace["substeps"] += 1
            if end <= start:
                break
        assert work is not None
        if cast(Domain, self.parts(end)[0].step).reseed and end > start:
            reseeded(work)
        return self._state(work, pace)

    def _step(self, a: dict[str, Array], time: float, end: float, done: int) -> float:
        """Seconds of the next substep: equal parts of what is left of the frame in which nothing goes farther than
        the Domain allows."""
        parts = self.parts(time)
        domain = cast(Domain, parts[0].step)
        h, way = self.domain.voxel_size, domain.longest * self.domain.voxel_size
        fastest = transfer.fastest(a["velocity"])
        if not math.isfinite(fastest):
            raise GustError(
                "the velocities are no longer numbers", where=f"flows.{self.id}",
                fix="a weaker push; the frames before this are kept",
            )  # fmt: skip
        for part in parts:
            if isinstance(part.step, Emits) and cast(Any, part.step).pours(time, end):
                fastest = max(fastest, float(np.linalg.norm(cast(Any, part.step).velocity)))
        g = sum(float(np.linalg.norm(p.step.acceleration)) for p in parts if p.step.id == "gravity")
        dt = way / max(fastest, 1e-12)
        if g:
            dt = min(dt, (math.sqrt(fastest**2 + 4 * g * way) - fastest) / (2 * g))
        tension = sum(p.step.tension for p in parts if p.step.id == "surface_tension")
        if tension:  # a wave of two voxels must not go farther than one (Brackbill, Kothe, Zemach 1992)
            dt = min(dt, math.sqrt(h**3 / (2 * math.pi * tension)))
        count = max(1, math.ceil((end - time) / dt - 1e-6))
        if done + count > domain.most_substeps:
            raise GustError(
                f"the liquid is as fast as {fastest:.3g} m/s: {done + count} substeps a frame would be needed, "
                f"{domain.most_substeps} are allowed", where=f"flows.{self.id}",
                fix="a weaker push, a Speed limit, or more substeps; the frames before this are kept",
            )  # fmt: skip
        return (end - time) / count

    def _work(
        self, a: dict[str, Array], begun: float, end: float, before: float, left: list[int], cancel: Cancel | None
    ) -> Work:  # fmt: skip
        """Room for a substep: a window that holds the liquid, and what sources may fill."""
        scene, parts = self.plan.at(end), self.parts(end)
        boxes = []
        if a["id"].size:
            boxes.append((np.floor(a["q"].min(axis=1)).astype(int), np.ceil(a["q"].max(axis=1)).astype(int)))
        for part in parts:
            if isinstance(part.step, Emits) and cast(Any, part.step).pours(begun, end):
                scenes = cast(Any, part.step).looks(self._nothing(scene, begun, end), begun, end)
                box = cast(Any, part.step).reached(self.domain, scenes, self.particles_of)
                if box is not None:
                    boxes.append(box)
        if not boxes:
            middle = np.array(self.domain.shape) // 2
            boxes.append((middle - 1, middle + 1))
        low = np.min([b[0] for b in boxes], axis=0) - MARGIN
        high = np.max([b[1] for b in boxes], axis=0) + MARGIN
        low = np.maximum(low // BLOCK * BLOCK, -BLOCK)
        high = np.minimum(-(-high // BLOCK) * BLOCK, np.array(self.domain.shape) + BLOCK)
        h = self.domain.voxel_size
        lower = tuple(float(x + h * o) for x, o in zip(self.domain.lower, low, strict=True))
        shape = tuple(int(n) for n in high - low)
        window = GridRegion(cast(Any, lower), cast(Any, shape), h, self.domain.turn)
        return Work(self, scene, a, end - begun, begun, window, low, cancel, before, left=list(left))

    def _nothing(self, scene: Scene, begun: float, end: float) -> Work:
        empty = {"id": np.zeros(0, np.uint32)}
        return Work(self, scene, empty, end - begun, begun, self.domain, np.zeros(3, int))

    def in_the_open(self, work: Work, q: Array) -> Array:
        """Which places (3, n) in cells of the domain are within it and in no obstacle."""
        top = np.array(self.domain.shape, np.float32)[:, None]
        inside = np.asarray(((q > 0) & (q < top)).all(axis=0))
        return inside & (self._fronts.distance(work, q) > 0)

    # one step in time --------------------------------------------------------------------------------------------

    def _substep(self, work: Work, pace: dict[str, float], *, last: bool) -> None:
        parts = self.parts(work.scene.time)
        domain = cast(Domain, parts[0].step)
        work.fronts = self._fronts.at(work, parts)
        work.a["viscosity"] = work.a["born_viscosity"].copy()
        for part in parts:
            part.step.source(part, work)
        if work.count == 0:
            return
        for part in parts:
            part.step.thicken(part, work)
        q = np.ascontiguousarray(work.a["q"] - work.origin[:, None].astype(np.float32))
        order = transfer.order_by_cell(q, work.window.shape)
        a = work.a = {k: order.sorted(v) for k, v in work.a.items()}
        q = order.sorted(q)
        tough = np.log(np.maximum(a["viscosity"], LEAST))
        made = transfer.to_faces(q, a["velocity"], a["affine"], tough, order.start, work.window.shape)
        phi, inner = self._level(work, q, order.start)
        work.phi, work.faces = phi, made.faces
        work.near = np.flatnonzero((made.count > 0) | (phi < 1))
        extrapolate(work.faces, made.known, 2)
        if not work.dt:
            work.faces = self._solved(work, parts, made, inner, pace)
            return
        before = midway.copied(work.faces) if domain.flip or last else None
        midway.push(work, work.kick)
        ahead = midway.Ahead(work, before, midway.copied(work.faces)) if before and last else None
        work.faces = self._solved(work, parts, made, inner, pace)
        transfer.from_faces(q, work.faces, a["velocity"], a["affine"], before, domain.flip)
        for part in parts:
            part.step.limit(part, work)
        if ahead:
            a["lag"] = ahead.of(q)
        transfer.carry(q, work.faces, work.dt / self.domain.voxel_size)
        a["q"] = q + work.origin[:, None].astype(np.float32)
        a["age"] = a["age"] + np.float32(work.dt)
        self._fronts.keep_out(work, parts)
        if last:
            a["velocity"] = a["velocity"] + a["lag"]
        for part in parts:
            part.step.change(part, work)
        self._drain(work, parts)
        pace["fastest"] = max(pace["fastest"], transfer.fastest(work.a["velocity"]))

    def _level(self, work: Work, q: Array, start: Array) -> tuple[Array, Array]:
        """The level set in cells, with what is deep inside at −1, and where that is."""
        phi = level_set(q, start, work.window.shape)
        work.fronts.fill(phi)
        inner = deep(phi)
        phi[inner] = -1
        return phi, inner

    def _solved(
        self, work: Work, parts: list[Placed], made: transfer.OnFaces, inner: Array, pace: dict[str, float]
    ) -> Triple:  # fmt: skip
        """Velocities that are free of divergence, slowed by viscosity, and go on beyond the liquid."""
        faces, fronts, phi = work.faces, work.fronts, work.phi
        assert faces is not None
        assert phi is not None
        domain = cast(Domain, parts[0].step)
        if work.dt:
            most = np.float32(FASTEST * self.domain.voxel_size / work.dt)
            for f in faces:
                np.clip(f, -most, most, out=f)
        fronts.seal(faces)
        grid = FaceGrid(work.window, *faces)
        if work.tension and work.dt:
            bend = curvature(phi, faces, work.dt / self.domain.voxel_size)
            pressure = bend * np.float32(work.tension * work.kick / self.domain.voxel_size**2)
            each_slab(phi.shape[0], lambda a, b: kernels.tension(pressure, phi, *faces, a, b), threads())
        surface = FreeSurface(fronts.shares, phi, threads())
        known = surface.touching()
        crowd = self._crowd(work, made, inner) if domain.hold and work.dt else None
        measure = 0.1 * self.domain.voxel_size / work.dt if work.dt else 0.0
        scale = work.kick / self.domain.voxel_size**2
        viscous = float(work.a["viscosity"].max()) * scale > NOTHING
        moved = made.known if viscous else [np.zeros(0, bool)] * 3
        try:
            if viscous:
                with _beyond(faces, known, moved):
                    surface.step(grid, surface.fixed(fronts.wall, None), tolerance=TOLERANCE, cancel=work.cancel)
                fronts.seal(faces)
                self._stiffen(work, made, scale, pace)
            fixed = surface.fixed(fronts.wall, crowd)
            with _beyond(faces, known, moved):
                surface.step(grid, fixed, tolerance=TOLERANCE, measure=measure, cancel=work.cancel)
        except SolverError as error:
            raise error.under(f"flows.{self.id}") from None
        fronts.seal(faces)
        if viscous:
            ways = fronts.cut.ways  # what particles gave faces in walls was taken from these when they were closed
            known = [a | b & (w > 0) for a, b, w in zip(known, moved, ways, strict=True)]
        way = FASTEST if not work.dt else min(FASTEST, _most(faces, known) * work.dt / self.domain.voxel_size)
        extrapolate(faces, known, math.ceil(way) + 2)
        along = slide(faces, fronts.shares, fronts.corner, fronts.wall)
        return hold(along, fronts.cut, fronts.wall) if viscous and fronts.sticks else along

    def _stiffen(self, work: Work, made: transfer.OnFaces, scale: float, pace: dict[str, float]) -> None:
        """Viscosity."""
        faces, phi, fronts = work.faces, work.phi, work.fronts
        assert faces is not None
        assert phi is not None
        tough = made.value
        there = made.count > 1e-6
        if not there.all():  # beside the liquid, as in it
            kernels.extrapolate(tough, there, 2)
            tough[~there] = math.log(LEAST)
        solver = Viscosity(
            phi, tough, fronts.shares, fronts.cut, scale, threads(), made.weights,
            np.float32(self.full) * fronts.room,
        )  # fmt: skip
        solver.step(faces, fronts.wall.faces, cancel=work.cancel)
        pace["stiffest"] = max(pace.get("stiffest", 0.0), solver.stiffest)
        pace["viscous_iterations"] = max(pace.get("viscous_iterations", 0), solver.iterations)

    def _crowd(self, work: Work, made: transfer.OnFaces, inner: Array) -> Array:
        """Net outflow of cells, in m/s a voxel, that spreads what is crowded, and deep inside closes what is thin."""
        room = np.float32(self.full) * work.fronts.room
        over = np.divide(made.count, room, out=np.ones_like(room), where=room > np.float32(0.2 * self.full)) - 1
        over = np.clip(over, np.where(inner, np.float32(-0.5), np.float32(0)), 1)
        return np.asarray(over * np.float32(HOLD / work.dt * self.domain.voxel_size), np.float32)

    def _drain(self, work: Work, parts: list[Placed]) -> None:
        """What left through open sides, and what steps take away."""
        a, top = work.a, np.array(self.domain.shape, np.float32)
        gone = ~np.isfinite(a["q"]).all(axis=0)
        for axis in range(3):
            for side, out in enumerate((a["q"][axis] < 0, a["q"][axis] > top[axis])):
                work.left[2 * axis + side] += int((out & ~gone).sum())
                gone |= out
        for part in parts:
            drained = part.step.drained(part, work)
            if drained is not None:
                work.left[6] += int((drained & ~gone).sum())
                gone |= drained
        if gone.any():
            work.a = {k: np.ascontiguousarray(v[..., ~gone]) for k, v in a.items()}

    def _state(self, work: Work, pace: dict[str, float]) -> LiquidState:
        a = dict(work.a)
        position = work.points(np.ascontiguousarray(a.pop("q")))
        a["lag"] = as_stored(self.domain.to_scene(np.ascontiguousarray(a["lag"])))
        a["velocity"] = np.ascontiguousarray(self.domain.to_scene(a["velocity"]), np.float32)
        if not np.isfinite(position).all():
            raise GustError(
                "places are no longer numbers", where=f"flows.{self.id}",
                fix="a weaker push; the frames before this are kept",
            )  # fmt: skip
        own: dict[str, Any] = {k: a.pop(k) for k in BASE[1:]}
        made = LiquidState(
            position=position,
            **own,
            more=a,
            born=work.born,
            sourced=work.sourced,
            left=tuple(work.left),
            lasted=work.dt or work.before,
        )
        made.grid, made.window = self._stored(work), work.window
        full = self.domain.voxel_size**3 / self.full
        spacing = self.domain.voxel_size / self.along
        made.pace = {
            **pace,
            "spacing": spacing,
            "voxel_size": self.domain.voxel_size,
            "volume": made.count * full,
            "poured": work.sourced * full,
            "gained": work.gained / max(1, made.count - work.gained),
        }
        if work.met:
            made.pace["met"] = cast(Any, dict(sorted(work.met.items())))
        return made

    def _stored(self, work: Work) -> dict[str, Array]:
        """What is kept of the grid: distance in m to the surface as it is drawn, velocities on the faces, viscosity,
        and how full cells are."""
        window, h = work.window, np.float32(self.domain.voxel_size)
        q = np.ascontiguousarray(work.a["q"] - work.origin[:, None].astype(np.float32))
        order = transfer.order_by_cell(q, window.shape)
        q = order.sorted(q)
        phi = distance_of(q, order.start, window.shape, 1 / self.along)
        tough = np.log(np.maximum(order.sorted(work.a["viscosity"]), LEAST))
        values, count = transfer.onto_cells(q, tough[None], order.start, window.shape)
        faces = work.faces
        if faces is None:
            nx, ny, nz = window.shape
            faces = tuple(np.zeros(s, np.float32) for s in ((nx + 1, ny, nz), (nx, ny + 1, nz), (nx, ny, nz + 1)))  # type: ignore[assignment]
        assert faces is not None
        return {
            "distance": phi * h, "viscosity": np.where(count > 1e-6, np.exp(values[0]), 0).astype(np.float32),
            "fill": count / np.float32(self.full), "u": faces[0], "v": faces[1], "w": faces[2],
        }  # fmt: skip


@contextmanager
def _beyond(faces: Triple, known: list[Array], moved: list[Array]) -> Iterator[None]:
    """What is done within to `known` faces is done as well, in its mean, to faces beside them that have velocities of
    particles (`moved`), so that a body which turns keeps its motion at the surface. Without viscosity (none are named)
    nothing is done: waves would be damped."""
    if not moved[0].size:
        yield
        return
    before = [f.copy() for f in faces]
    yield
    changes = []
    for f, b, k in zip(faces, before, known, strict=True):
        np.subtract(f, b, out=b)
        b[~k] = 0
        changes.append(b)
    reached = [k.copy() for k in known]
    extrapolate((changes[0], changes[1], changes[2]), reached, 2)
    for f, change, k, m in zip(faces, changes, known, moved, strict=True):
        there = m & ~k
        f[there] += change[there]


def _most(faces: Triple, known: list[Array]) -> float:
    """Greatest component of the velocity on known faces."""
    return max((float(np.abs(f[k]).max(initial=0)) for f, k in zip(faces, known, strict=True)), default=0.0)
