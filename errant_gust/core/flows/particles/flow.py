"""The particle flow: state at a frame, and the step to the next one."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from errant_gust.core.errors import BudgetError, StudyError
from errant_gust.core.fields import catalogue
from errant_gust.core.fields.blocks import Cancel, share_out
from errant_gust.core.fields.plan import Node
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Built, Plan, Scene
from errant_gust.core.flows.particles import birth
from errant_gust.core.flows.particles.steps import Carry, Emit, SpeedLimit
from errant_gust.core.grids.region import budget

BLOCK = 8192
SORT_EVERY = 8  # frames
SORT_FROM = 50_000  # particles
BYTES_EACH = 140  # state, its copy while stepping, and the frame being written

CHANNELS = ("position", "velocity", "age", "life", "id")


@dataclass(frozen=True)
class Particles:
    """State of all living particles: positions and velocities (3, n), age and life in seconds (n,), id (n,) uint32."""

    position: Array
    velocity: Array
    age: Array
    life: Array
    id: Array

    @classmethod
    def none(cls) -> "Particles":
        f = np.float32
        return cls(np.empty((3, 0), f), np.empty((3, 0), f), np.empty(0, f), np.empty(0, f), np.empty(0, np.uint32))

    @property
    def count(self) -> int:
        return int(self.id.size)

    def channels(self) -> dict[str, Array]:
        """Arrays as they are stored: (n, 3) and (n,)."""
        return {
            "position": np.ascontiguousarray(self.position.T),
            "velocity": np.ascontiguousarray(self.velocity.T),
            "age": self.age,
            "life": self.life,
            "id": self.id,
        }

    @classmethod
    def from_channels(cls, c: dict[str, Array]) -> "Particles":
        return cls(
            np.ascontiguousarray(c["position"].T), np.ascontiguousarray(c["velocity"].T), c["age"], c["life"], c["id"]
        )

    def joined(self, other: "Particles") -> "Particles":
        return Particles(
            *(np.concatenate([getattr(self, n), getattr(other, n)], axis=-1) for n in self.__dataclass_fields__)
        )

    def kept(self, keep: Array) -> "Particles":
        return Particles(*(np.ascontiguousarray(getattr(self, n)[..., keep]) for n in self.__dataclass_fields__))


def sorted_by_place(state: Particles) -> Particles:
    """The same particles, neighbours in space next to each other in memory: sampling grids is then much quicker."""
    low = state.position.min(axis=1, keepdims=True)
    span = np.maximum(state.position.max(axis=1, keepdims=True) - low, np.float32(1e-6))
    cell = ((state.position - low) / span * np.float32(63.99)).astype(np.int32)
    return state.kept(np.argsort((cell[0] << 12) | (cell[1] << 6) | cell[2], kind="stable"))


class ParticleFlow:
    """A particle lane of a study, stepped frame by frame; the state is a function of the study and the frame."""

    def __init__(self, plan: Plan, id: str, *, quality: str = "full") -> None:
        self.plan, self.id = plan, id
        self.lane = plan.study.find("flows", id, f"flows.{id}")
        self.clock = plan.study.clock
        self.quality = quality
        emits, motions = self._steps(0.0)
        if not emits:
            raise StudyError("nothing is emitted", where=f"flows.{id}", fix="add an Emit step")
        for built in (*emits, *motions):
            if isinstance(built.step, Carry):
                node = plan.at(0.0).lane(built.step.field)
                if node.kind != "vector":
                    raise StudyError(
                        f"'{built.step.field}' is a scalar and cannot carry",
                        where=f"flows.{id}",
                        fix="take its gradient or curl, or choose a vector lane",
                    )
            if isinstance(built.step, Emit):
                plan.at(0.0).shape(built.step.shape).box  # noqa: B018  (a shape that cannot be built fails here)
        self._check_memory(emits)

    def _steps(self, time: float) -> tuple[list[Built], list[Built]]:
        """Emitters and motions at a time."""
        scene = self.plan.at(time)
        emits: list[Built] = []
        motions: list[Built] = []
        for part in self.lane.steps:
            if not part.on:
                continue
            where = f"flows.{self.id}.{part.id}"
            built = scene.build(catalogue.step_class(part.op, "particles", where), part.params, where)
            (emits if isinstance(built.step, Emit) else motions).append(built)
        return emits, motions

    def share(self, emit: Emit) -> float:
        return emit.preview_share if self.quality == "preview" else 1.0

    def estimate(self) -> tuple[int, int]:
        """Largest number of particles alive at once (about), and bytes for them."""
        most = 0.0
        seconds = (self.clock.end - self.clock.start) * self.clock.step
        for built in self._steps(0.0)[0]:
            e: Emit = built.step
            if e.timing == "all at once":
                most += e.count * self.share(e)
            else:
                alive = max(0.0, min(e.life, min(seconds, e.until) - e.begin))
                most += e.rate * alive * self.share(e)
        return int(most), int(most * BYTES_EACH)

    def _check_memory(self, emits: list[Built]) -> None:
        count, need = self.estimate()
        limit = budget()
        if need > limit:
            raise BudgetError(
                f"about {count:,} particles need {need / 1e9:.1f} GB, the budget is {limit / 1e9:.1f} GB",
                where=f"flows.{self.id}",
                fix=f"a rate or life {need / limit:.1f} times smaller would fit",
            )

    # stepping --------------------------------------------------------------------------------------------------

    def first(self) -> Particles:
        """The state on the first frame: what is born at time zero."""
        return self._move(self._births(-1e9, 0.0, self.plan.at(0.0), self.plan.at(0.0)), 0.0, 0.0, None)

    def next(self, state: Particles, frame: int, cancel: Cancel | None = None) -> Particles:
        """The state on frame + 1 from that on `frame`."""
        start, end = self.clock.seconds(frame), self.clock.seconds(frame + 1)
        count = max((b.step.substeps for b in self._steps(start)[1] if isinstance(b.step, Carry)), default=1)
        for i in range(count):
            a = start + (end - start) * i / count
            b = start + (end - start) * (i + 1) / count
            born = self._births(a, b, self.plan.at(a), self.plan.at(b))
            state = self._move(state.joined(born), a, b, cancel)
        return sorted_by_place(state) if frame % SORT_EVERY == 0 and state.count > SORT_FROM else state

    def _births(self, start: float, end: float, before: Scene, after: Scene) -> Particles:
        emits = self._steps(max(start, 0.0))[0]
        made = Particles.none()
        for index, built in enumerate(emits):
            emit: Emit = built.step
            total = self._total_rate(index)
            share = self.share(emit)
            low = birth.born_by(built, total, start, share)
            high = birth.born_by(built, total, end, share)
            if high <= low:
                continue
            numbers = np.arange(low, high, dtype=np.int64)
            times = birth.birth_times(emit, low, high, max(start, 0.0), end)
            along = (times - start) / (end - start) if start >= 0 else np.zeros(len(times))
            places = birth.places(emit, before, after, numbers, along)
            n = len(numbers)
            made = made.joined(
                Particles(
                    np.ascontiguousarray(places.T),
                    np.zeros((3, n), np.float32),
                    (times - end).astype(np.float32),  # negative: what is left of the step is added when it moves
                    birth.lives(emit, numbers),
                    (numbers * len(emits) + index).astype(np.uint32),
                )
            )
        return made

    def _total_rate(self, index: int) -> Callable[[float], float]:
        def total(time: float) -> float:
            return float(self._steps(time)[0][index].totals["rate"])

        return total

    def _move(self, state: Particles, start: float, end: float, cancel: Cancel | None) -> Particles:
        """Carry everything from start to end; the newly born only for what is left since their birth."""
        dt = np.float32(end - start)
        newborn = state.age < 0
        spans = np.where(newborn, -state.age, dt).astype(np.float32)
        state = Particles(state.position, state.velocity, np.maximum(state.age, 0), state.life, state.id)
        motion = Motion(self, start, end)
        position, velocity = np.empty_like(state.position), np.empty_like(state.velocity)

        def work(a: int, b: int) -> None:
            p, v = motion.carry(np.ascontiguousarray(state.position[:, a:b]), spans[a:b])
            position[:, a:b], velocity[:, a:b] = p, v

        if motion.carries and state.count:
            share_out(work, state.count, block=BLOCK, cancel=cancel)
        else:
            position, velocity = state.position, state.velocity
        age = state.age + spans
        moved = Particles(position, velocity, age, state.life, state.id)
        alive = (age < state.life) & np.isfinite(position).all(axis=0)
        return moved if alive.all() else moved.kept(alive)


class Motion:
    """The velocity that all motion steps together give, at the stages of one step in time."""

    def __init__(self, flow: ParticleFlow, start: float, end: float) -> None:
        self.flow = flow
        steps = flow._steps(start)[1]
        self.carries: list[Carry] = [b.step for b in steps if isinstance(b.step, Carry)]
        self.limit = min((b.step.most for b in steps if isinstance(b.step, SpeedLimit)), default=np.inf)
        times = {"start": start, "middle": 0.5 * (start + end), "end": end}
        self.nodes: dict[str, list[tuple[Node, np.float32]]] = {}
        first = [(flow.plan.at(start).lane(c.field), np.float32(c.amount)) for c in self.carries]
        for name, time in times.items():
            moving = any(node.moves for node, _ in first)
            self.nodes[name] = (
                [(flow.plan.at(time).lane(c.field), np.float32(c.amount)) for c in self.carries] if moving else first
            )
            for node, _ in self.nodes[name]:
                node.prepare()
        self.integrator: Any = self.carries[0].integrator if self.carries else "euler"

    def velocity(self, points: Array, stage: str) -> Array:
        total: Array | None = None
        for node, amount in self.nodes[stage]:
            v = node.evaluate(points).value
            v = v if amount == 1 else v * amount
            total = v if total is None else total + v
        assert total is not None
        if np.isfinite(self.limit):
            speed = np.sqrt((total * total).sum(axis=0))
            total = total * np.minimum(1, np.float32(self.limit) / np.maximum(speed, np.float32(1e-20)))
        return total

    def carry(self, p: Array, dt: Array) -> tuple[Array, Array]:
        """Positions after each particle's own dt, and the mean velocity on the way."""
        half = np.float32(0.5)
        k1 = self.velocity(p, "start")
        if self.integrator == "euler":
            return p + dt * k1, k1
        k2 = self.velocity(p + half * dt * k1, "middle")
        if self.integrator == "midpoint":
            return p + dt * k2, k2
        k3 = self.velocity(p + half * dt * k2, "middle")
        k4 = self.velocity(p + dt * k3, "end")
        v = (k1 + 2 * k2 + 2 * k3 + k4) * np.float32(1 / 6)
        return p + dt * v, v
