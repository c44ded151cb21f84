"""The particle flow: state at a frame, and the step to the next one."""

import math
from collections.abc import Callable
from typing import Any

import numpy as np

from errant_gust.core.blocks import Cancel, share_out
from errant_gust.core.errors import BudgetError, StudyError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows.alongside import Alongside
from errant_gust.core.flows.halving import Halved, between
from errant_gust.core.flows.kind import LaneFlow
from errant_gust.core.flows.on_lines import OnLines
from errant_gust.core.flows.particles import birth
from errant_gust.core.flows.particles.forces import look_about, together
from errant_gust.core.flows.particles.motion import StepsInTime
from errant_gust.core.flows.particles.renewal import Respawn
from errant_gust.core.flows.particles.state import Particles, sorted_by_place
from errant_gust.core.flows.particles.steps import SORT, Emit, Moving, ParticleStep, Stage, Use
from errant_gust.core.flows.step import Carries, Placed, placed_steps
from errant_gust.core.grids.region import budget

BLOCK, LARGE_BLOCK = 8192, 32_768
LARGE_FROM = 262_144  # particles; with fewer, small blocks keep all threads busy
SORT_EVERY = 8  # frames
SORT_FROM = 50_000  # particles
MOST_SUBSTEPS = 64
HALVED = 2000  # particles whose half steps are looked at
TRIES_AGAIN = 16
MOST_LIVES = 4  # in one step; after so many the next begins at its end
MOST_BEFORE = 2400  # steps before the first frame
BYTES_EACH = 140  # state, its copy while stepping, and the frame being written


def _source_key(emit: Emit) -> tuple[str, ...]:
    return emit.where, emit.flow, emit.lines, emit.places


def _block(count: int) -> int:
    return LARGE_BLOCK if count >= LARGE_FROM else BLOCK


class ParticleFlow(LaneFlow):
    """A particle lane of a study, stepped frame by frame; the state is a function of the study and the frame."""

    sort = SORT

    def __init__(self, plan: Plan, id: str, *, quality: str = "full") -> None:
        super().__init__(plan, id, quality=quality)
        emits, motions = self._steps(0.0)
        if not emits:
            raise StudyError("nothing is emitted", where=f"flows.{id}", fix="add an Emit step")
        self.keeps = tuple(dict.fromkeys(k for p in (*emits, *motions) for k in p.step.needs()))
        for p in (*emits, *motions):
            p.step.check(plan.at(0.0), p.where)
            p.step.check_together(self.keeps, p.where)
            if getattr(p.step, "shape", ""):
                plan.study.find("shapes", p.step.shape, f"{p.where}.shape")
                plan.at(0.0).shape(p.step.shape).box  # noqa: B018  (a shape that cannot be built fails here)
        self._check_memory(emits)
        self._sources: dict[tuple[str, ...], Alongside | OnLines] = {
            _source_key(p.step): Alongside(plan, p.step.flow, quality, f"{p.where}.flow")
            if p.step.where == "particles"
            else OnLines(plan, p.step.lines, quality, f"{p.where}.lines", evenly=p.step.places == "evenly")
            for p in emits if p.step.alongside
        }  # fmt: skip

    def load(self, arrays: dict[str, Array], facts: dict[str, Any]) -> Particles:
        """A state from the arrays of a stored frame. (n,) or (n, k)."""
        return Particles.from_channels(arrays)

    def _steps(self, time: float) -> tuple[list[Placed], list[Placed]]:
        """Emitters and motions at a time, each with its place."""
        found: dict[str, list[Placed]] = {"emit": [], "motion": [], "drawn": []}
        for part in placed_steps(self.plan.at(time), self.lane, self.sort):
            found[part.step.family].append(part)
        return found["emit"], found["motion"]

    def share(self, emit: Emit) -> float:
        """The share of an emitter's particles that there is at this quality."""
        return emit.preview_share if self.quality == "preview" else 1.0

    def scale(self, facts: dict[str, Any], measured: Any) -> tuple[float, float]:
        """See `kind.Flow`: in proportion to the particles."""
        times = self.estimate()[0] / max(1, measured.estimate()[0])
        return times, times

    def estimate(self) -> tuple[int, int]:
        """Largest number of particles alive at once (about), and bytes for them."""
        most = 0.0
        seconds = (self.clock.end - self.clock.start) * self.clock.step
        for part in self._steps(0.0)[0]:
            e: Emit = part.step
            if e.timing == "all at once":
                most += e.count * self.share(e)
            else:
                alive = max(0.0, min(e.life, min(seconds, e.until) - e.begin))
                most += e.rate * alive * self.share(e)
        return int(most), int(most * BYTES_EACH)

    def _check_memory(self, emits: list[Placed]) -> None:
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
        """The state on the first frame: what is born at time zero, and what was before and is still there."""
        count = self._steps_before()
        if not count:
            return self._move(self._births(0.0, 0.0, first=True), 0.0, 0.0, None)
        state, begun = Particles.none(self.keeps), self.clock.start - count
        for frame in range(begun, self.clock.start):
            state = self._next(state, frame, first=frame == begun)
        return state

    def _steps_before(self) -> int:
        """How many frames before the first one there may have been particles that matter on it."""
        emits, motions = self._steps(0.0)
        again = any(p.step.forever for p in motions)
        begun, place = 0.0, ""
        for part in emits:
            e: Emit = part.step
            longest = math.inf if again else e.life * (1 + e.life_variation)
            if max(e.begin, -longest) < begun:
                begun, place = max(e.begin, -longest), part.where
        count = math.ceil(-begun / self.clock.step - 1e-6)
        if count > MOST_BEFORE:
            raise StudyError(
                f"{count:,} frames would have to be computed before the first one", where=f"{place}.begin",
                fix=f"at most {MOST_BEFORE:,} can: begin at {-MOST_BEFORE * self.clock.step:g} s or later",
            )  # fmt: skip
        return count

    def next(self, state: Particles, frame: int, cancel: Cancel | None = None, keep: bool = True) -> Particles:
        """The state on frame + 1 from that on `frame`, which is kept in any case."""
        return self._next(state, frame, cancel)

    def _next(self, state: Particles, frame: int, cancel: Cancel | None = None, first: bool = False) -> Particles:
        start, end = self.clock.seconds(frame), self.clock.seconds(frame + 1)
        count = self.substeps(state, start, end)
        for i in range(count):
            a = start + (end - start) * i / count
            b = start + (end - start) * (i + 1) / count
            fresh = self._births(a, b, first=first and i == 0)
            state = self._move(state.joined(fresh) if fresh.count else state, a, b, cancel, fresh.count)
        return sorted_by_place(state) if frame % SORT_EVERY == 0 and state.count > SORT_FROM else state

    def halved(self, state: Particles, frame: int, cancel: Cancel | None = None) -> list[Halved]:
        """See `kind.Flow`: of some of the particles that live through the frame."""
        start, end = self.clock.seconds(frame), self.clock.seconds(frame + 1)
        lives = np.flatnonzero(state.age + (end - start) < state.life)
        some = np.zeros(state.count, bool)
        some[lives[np.linspace(0, len(lives) - 1, min(len(lives), HALVED)).astype(int)]] = True
        state = state.kept(some)
        count = self.substeps(state, start, end)
        ways: list[dict[int, Array]] = []
        for n in (count, 2 * count, 4 * count):
            moved = state
            for i in range(n):
                a, b = (start + (end - start) * (i + k) / n for k in (0, 1))
                moved = self._move(moved, a, b, cancel)
            still = moved.kept(moved.age >= 0.999 * (end - start))  # not born again on the way
            ways.append(dict(zip(still.id.tolist(), still.position.T, strict=True)))
        found = []
        for n, whole, halves in ((count, ways[0], ways[1]), (2 * count, ways[1], ways[2])):
            both = [i for i, id in enumerate(state.id.tolist()) if id in whole and id in halves]
            ids = state.id[both].tolist()
            places = (np.array([way[id] for id in ids], np.float64).reshape(-1, 3).T for way in (whole, halves))
            made = between(n, state.position[:, both].astype(np.float64), next(places), next(places), "particles")
            found += [made] if made else []
        return found

    def substeps(self, state: Particles, start: float, end: float) -> int:
        """As many as Carry and Steps in time ask for, and as many more as keep the fastest particle's way short
        enough."""
        paced = [p.step for p in self._steps(start)[1] if isinstance(p.step, (Carries, StepsInTime))]
        count = max((c.substeps for c in paced), default=1)
        longest = min((c.longest for c in paced if c.longest > 0), default=0.0)
        if longest and state.count:
            fastest = float(np.sqrt((state.velocity * state.velocity).sum(axis=0).max()))
            count = max(count, min(MOST_SUBSTEPS, math.ceil(fastest * (end - start) / longest)))
        return count

    def _uses(self, placed: list[Placed], start: float, end: float) -> list[Use]:
        late = any(isinstance(p.step, Carries) and p.step.integrator == "rk3" for p in placed)
        scenes: dict[Stage, Scene] = {
            "start": self.plan.at(max(start, 0.0)),
            "middle": self.plan.at(max(0.5 * (start + end), 0.0)),
            **({"late": self.plan.at(max(start + 0.75 * (end - start), 0.0))} if late else {}),
            "end": self.plan.at(end),
        }
        uses = [Use(p, scenes) for p in placed]
        for use in uses:
            use.prepare()
        return uses

    def _births(self, start: float, end: float, first: bool = False) -> Particles:
        """What is born after `start` and until `end`; in the first step of all also what begins at `start`."""
        emits = self._steps(max(start, 0.0))[0]
        made = Particles.none(self.keeps)
        for index, use in enumerate(self._uses(emits, start, end)):
            emit: Emit = use.step  # type: ignore[assignment]
            total = self._total_rate(index)
            share = self.share(emit)
            low = 0 if first and emit.begin >= start - 1e-9 else birth.born_by(emit, total, start, share)
            high = birth.born_by(emit, total, end, share)
            if high <= low:
                continue
            numbers = np.arange(low, high, dtype=np.int64)
            times = birth.birth_times(emit, low, high, start, end)
            along = (times - start) / (end - start) if end > start else np.zeros(len(times))
            ids = (numbers * len(emits) + index).astype(np.uint32)
            # an age below zero: what is left of the step is added when it moves
            fresh, live = birth.born(
                emit, use, numbers, ids, birth.Moment(along, times, end), times - end, self.keeps, self._source(emit)
            )
            made = made.joined(fresh if live.all() else fresh.kept(live))
        return made

    def _source(self, emit: Emit) -> Alongside | OnLines | None:
        return self._sources[_source_key(emit)] if emit.alongside else None

    def _total_rate(self, index: int) -> Callable[[float], float]:
        def total(time: float) -> float:
            # before the first frame as on it
            before = min(time, 0.0) * float(self._steps(0.0)[0][index].step.rate)
            return before + float(self._steps(max(time, 0.0))[0][index].totals["rate"])

        return total

    def _move(self, state: Particles, start: float, end: float, cancel: Cancel | None, fresh: int = 0) -> Particles:
        """Carry everything from start to end; the newly born, the last `fresh`, only for what is left since then."""
        spans = np.full(state.count, end - start, np.float32)
        if fresh:
            spans[-fresh:] = -state.age[-fresh:]
        arrays = state.arrays()
        arrays["age"] = np.maximum(state.age, 0)
        uses = self._uses(self._steps(start)[1], start, end)
        motion = Motion(uses, "own" in self.keeps)
        self._advance(arrays, spans, motion, cancel)
        self._renewed(arrays, state.position, spans, uses, motion, (start, end), cancel)
        for use in uses:
            if use.step.records and state.count:
                arrays[use.step.needs()[0]] = self._recorded(use, arrays, cancel)
        moved = Particles.of(arrays)
        alive = (moved.age < moved.life) & np.isfinite(moved.position).all(axis=0)
        return moved if alive.all() else moved.kept(alive)

    def _advance(self, arrays: dict[str, Array], spans: Array, motion: "Motion", cancel: Cancel | None) -> None:
        """Carry particles, each for its own span of seconds (n,); their arrays are replaced by new ones."""
        count, position = len(spans), arrays["position"]
        made: dict[str, Array] = {
            k: np.empty_like(arrays[k]) for k in ("position", "velocity", "own", "travelled") if k in arrays
        }

        kept = [k for k in self.keeps if k in arrays and arrays[k].ndim == 1]

        def work(a: int, b: int) -> None:
            own = np.ascontiguousarray(arrays["own"][:, a:b]) if "own" in arrays else None
            before = np.ascontiguousarray(position[:, a:b])
            m = Moving(
                before, own, None if own is None else own.copy(), spans[a:b], arrays["age"][a:b], arrays["id"][a:b],
                kept={k: arrays[k][a:b] for k in kept},
            )  # fmt: skip
            made["velocity"][:, a:b] = motion.move(m)
            made["position"][:, a:b] = m.position
            if m.own is not None:
                made["own"][:, a:b] = m.own
            if "travelled" in made:
                way = m.position - before
                made["travelled"][a:b] = arrays["travelled"][a:b] + np.sqrt((way * way).sum(axis=0))

        if motion.moves and count:
            share_out(work, count, block=_block(count), cancel=cancel)
            arrays |= made
        arrays["age"] = arrays["age"] + spans

    def _renewed(
        self, arrays: dict[str, Array], before: Array, spans: Array, uses: list[Use], motion: "Motion",
        step: tuple[float, float], cancel: Cancel | None,
    ) -> None:  # fmt: skip
        """Particles that are due are born again at that moment and carried on for what is left of the step; those that
        are due again within it, too."""
        which, part = np.arange(len(spans)), arrays
        for turn in range(MOST_LIVES):
            since = np.full(len(which), -1.0, np.float32)
            for use in uses:
                due = use.step.renew(part, before, spans, use)
                since = since if due is None else np.maximum(since, due)
            gone = since >= 0
            if not gone.any():
                return
            all_of_them = turn == 0 and bool(gone.all())
            if all_of_them:
                part = {k: v.copy() for k, v in part.items()}
            else:
                part = {k: np.ascontiguousarray(v[..., gone]) for k, v in part.items()}
            which, since = which[gone], since[gone]
            spans = since if turn < MOST_LIVES - 1 else np.zeros_like(since)
            self._again(part, spans, *step)
            before = part["position"]
            self._advance(part, spans, motion, cancel)
            if all_of_them:
                arrays |= part
                continue
            for k in arrays:
                if turn == 0:  # what the state before has may be among them
                    arrays[k] = arrays[k].copy()
                arrays[k][..., which] = part[k]

    def _recorded(self, use: Use, arrays: dict[str, Array], cancel: Cancel | None) -> Array:
        out = np.empty(len(arrays["id"]), np.float32)

        def work(a: int, b: int) -> None:
            out[a:b] = use.step.record({k: np.ascontiguousarray(v[..., a:b]) for k, v in arrays.items()}, use)

        share_out(work, len(out), block=_block(len(out)), cancel=cancel)
        return out

    def _again(self, arrays: dict[str, Array], since: Array, start: float, end: float) -> None:
        """These particles on their emitter, so many seconds (n,) before the end of the step, with the same id."""
        emits, motions = self._steps(max(start, 0.0))
        returns = any(isinstance(p.step, Respawn) and p.step.returns for p in motions)
        times = end - since.astype(np.float64)
        for index, use in enumerate(self._uses(emits, start, end)):
            left = np.flatnonzero(arrays["id"] % np.uint32(len(emits)) == index)
            for _ in range(TRIES_AGAIN):  # the weight may refuse a place
                if not len(left):
                    break
                again = arrays["again"][left] + np.uint32(1)
                numbers = arrays["id"][left].astype(np.int64) // len(emits) + (again.astype(np.int64) << 40)
                emit: Emit = use.step  # type: ignore[assignment]
                along = (times[left] - start) / (end - start) if end > start else np.ones(len(left))
                fresh, live = birth.born(
                    emit, use, numbers, arrays["id"][left], birth.Moment(along, times[left], end),
                    np.zeros(len(left)), self.keeps, self._source(emit),
                )  # fmt: skip
                first = arrays["start"][:, left].copy() if returns else None
                for k, values in fresh.arrays().items():
                    arrays[k][..., left] = values
                arrays["again"][left] = again
                if first is not None:
                    arrays["position"][:, left] = arrays["start"][:, left] = first
                    break
                left = left[~live]


class Motion:
    """What all motion steps of a lane do together in one step in time."""

    def __init__(self, uses: list[Use], inertial: bool) -> None:
        self.uses = uses
        kind = ParticleStep
        self.drifts = [u for u in uses if type(u.step).drift is not kind.drift]
        self.bends = [u for u in uses if type(u.step).bend is not kind.bend]
        self.forces = [u for u in uses if type(u.step).force is not kind.force]
        self.looks = look_about(self.forces)
        self.corrects = [u for u in uses if type(u.step).correct is not kind.correct]
        self.moves = bool(self.drifts or self.corrects or inertial)
        carries: list[Any] = [u.step for u in uses if isinstance(u.step, Carries)]
        self.integrator = carries[0].integrator if carries else "euler"

    def move(self, m: Moving) -> Array:
        """Move a block; its velocity (3, n). That, `m.position` and `m.own` are then those at the end."""
        before = m.position
        carried = self.carried(before, "start")
        if self.forces:
            middle = before
            if self.looks:  # where it will be in the middle of the step, as far as that is known at its beginning
                middle = before + np.float32(0.5) * m.dt * self.bent(carried, m.mean, before, m)
            together(m, middle, self.forces)
        m.position, carried = self.integrated(m, carried)
        velocity = self.bent(carried, m.own, m.position, m)
        for use in self.corrects:
            use.step.correct(m, use)
        if m.pushed_back is not None:
            went = m.pushed_back & (m.dt > 0)
            velocity = np.where(went, (m.position - before) / np.maximum(m.dt, np.float32(1e-9)), velocity)
        return velocity

    def carried(self, points: Array, stage: Stage) -> Array | None:
        """The drifts together (3, n) in m/s at points (3, n); None if there are none."""
        total: Array | None = None
        for use in self.drifts:
            v = use.step.drift(points, use, stage)
            total = v if total is None else v if v is None else total + v
        return total

    def bent(self, carried: Array | None, own: Array | None, points: Array, m: Moving) -> Array:
        """Drifts and a velocity of their own together, bent by what bends them. All (3, n), in m/s."""
        if carried is None:
            total = np.zeros_like(points) if own is None else own
        else:
            total = carried if own is None else own + carried
        for use in self.bends:
            total = use.step.bend(total, points, m, use)
        return total

    def integrated(self, m: Moving, carried: Array | None) -> tuple[Array, Array | None]:
        """Positions after each particle's own dt, and the drifts there, from those at their beginning. All (3, n), in m
        and m/s (Runge and Kutta: 4th order, midpoint, or Euler's; what drifts at the end is told from stages before,
        exact for what changes evenly)."""
        p, dt, half = m.position, m.dt, np.float32(0.5)
        k1 = self.bent(carried, m.mean, p, m)
        if self.integrator == "euler" or carried is None:
            return p + dt * k1, carried

        def stage(at: Array, name: Stage) -> tuple[Array, Array]:
            c = self.carried(at, name)
            assert c is not None
            return c, self.bent(c, m.mean, at, m)

        c2, k2 = stage(p + half * dt * k1, "middle")
        if self.integrator == "midpoint":
            return p + dt * k2, 2 * c2 - carried
        if self.integrator == "rk3":  # Ralston 1962
            c3, k3 = stage(p + np.float32(0.75) * dt * k2, "late")
            v = (2 * k1 + 3 * k2 + 4 * k3) * np.float32(1 / 9)
            return p + dt * v, carried + (c3 - carried) * np.float32(4 / 3)
        _, k3 = stage(p + half * dt * k2, "middle")
        c4, k4 = stage(p + dt * k3, "end")
        v = (k1 + 2 * k2 + 2 * k3 + k4) * np.float32(1 / 6)
        return p + dt * v, c4
