"""How exact every kind's steps are in time, and in space: small runs at several frames a second and voxel sizes against
what is known of them. `gust bench --orders` prints them; the handbook's page is what it wrote last.

Orders are those of the fall of the error from one run to the next, the median of them (Richardson 1911).
"""

import itertools
import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.gas.kind import GasKind
from errant_gust.core.flows.grains.kind import GrainKind
from errant_gust.core.flows.growth.kind import GrowthKind
from errant_gust.core.flows.kind import FlowKind, open_flow
from errant_gust.core.flows.liquid.kind import LiquidKind
from errant_gust.core.flows.particles.kind import ParticleKind
from errant_gust.core.study.building import lane, study
from errant_gust.core.study.document import parse

RATES = (12, 24, 48, 96)
"""Frames a second that are tried."""
FINEST, ACROSS = 240, 32  # frames a second that gas is held against, voxels across it
HALF = 0.5  # seconds that are looked at
FAST, STRONG = 9.0, 8.0  # radians a second and m/s² of the force that swings
LEAST = 2e-6  # share of the way below which rounding is all that is left
SHUT = dict.fromkeys(("west", "east", "south", "north", "below", "above"), False)
ROOM = ((-1.0, -1.0, -2.0), (1.0, 1.0, 2.0))


@dataclass(frozen=True)
class Order:
    """One line of the table. `errors` are shares of the way (or of the speed) at each of `tried`: frames a second in
    time, millimetres a voxel in space; `order` is None where the error is rounding, or goes up and down."""

    kind: str
    what: str
    of: str
    tried: tuple[float, ...]
    errors: tuple[float, ...]
    order: float | None

    @property
    def usual(self) -> float:
        """The error at 24 frames a second, or with the middle one of the voxel sizes."""
        return self.errors[1]

    def words(self) -> str:
        """What that is, for people."""
        share = 100 * self.usual
        said = "less than 0.001 %" if share < 0.001 else f"{share:.2g} %"
        at = "24 frames a second" if self.of == "time" else f"voxels of {self.tried[1]:g} mm"
        return f"{self.what}: {said} off at {at}"


def _order(kind: type[FlowKind], what: str, of: str, tried: tuple[float, ...], errors: list[float]) -> Order:
    ratios = [math.log2(a / b) for a, b in itertools.pairwise(errors) if b > LEAST]
    order = float(np.median(ratios)) if len(ratios) >= 2 and min(ratios) > 0 else None
    return Order(kind.label, what, of, tried, tuple(errors), order)


def _plan(made: dict[str, Any], *, fps: float = 24, h: float = 0.05, room: Any = ROOM, fields: Any = (),
          radius: float = 0.2, at: float = 1.4) -> Plan:  # fmt: skip
    ball = {"id": "ball", "kind": "sphere", "params": {"radius": radius, "move": [0, 0, at]}}
    region = {"id": "room", "bounds": {"lower": list(room[0]), "upper": list(room[1])}, "voxel_size": h}
    clock = {"fps": fps, "start": 1, "end": 3000}
    return Plan(parse(study("Order", *fields, flows=[made], shapes=[ball], regions=[region], clock=clock)))


def _after(plan: Plan, seconds: float) -> tuple[Any, Any]:
    """The first state of its flow, and that after so many seconds."""
    flow: Any = open_flow(plan, "f")
    first = state = flow.first()
    for n in range(1, round(seconds / flow.clock.step) + 1):
        state = flow.next(state, n)
    return first, state


def _lane(kind: type[FlowKind], *steps: Any) -> dict[str, Any]:
    return {**lane("f", *steps), "kind": kind.id}


def _formula(text: str) -> dict[str, Any]:
    return lane("wind", ("constant", {"makes": "vector"}), ("formula", {"expression": text}))


def _source(kind: type[FlowKind]) -> tuple[Any, ...]:
    if kind is ParticleKind:
        return (("emit", {"shape": "ball", "timing": "all at once", "count": 400, "life": 99}),)
    more = {"spacing": 0.04} if kind is GrainKind else {}
    until = {"until": 0.001} if kind is LiquidKind else {}
    return ("domain", {"region": "room", **more}), ("source", {"shape": "ball", **until})


def _way(first: Any, state: Any) -> Array:
    return (state.position.mean(axis=1, dtype=float) - first.position.mean(axis=1, dtype=float)).astype(float)


def fallen(kind: type[FlowKind], fps: float) -> float:
    """Error of g t² / 2 after half a second, as a share of it: particles, liquid, grains."""
    gone = _way(*_after(_plan(_lane(kind, *_source(kind), ("gravity", {})), fps=fps), HALF))
    return abs(float(-gone[2]) / (9.81 * HALF * HALF / 2) - 1)


def swung(kind: type[FlowKind], fps: float) -> float:
    """Error of the way that a force of 8 cos 9t m/s² takes them in half a second, as a share of the largest way."""
    push = ("push", {"field": "wind"} if kind is ParticleKind else {"field": "wind", "how": "force"})
    made = _lane(kind, *_source(kind), push)
    gone = _way(*_after(_plan(made, fps=fps, fields=[_formula(f"{STRONG}*cos({FAST}*t), 0, 0")]), HALF))
    exact = STRONG / FAST**2 * (1 - math.cos(FAST * HALF))
    return abs(float(gone[0]) - exact) / (2 * STRONG / FAST**2)


def carried(fps: float) -> float:
    """Error of the place of particles that a swinging wind carries round a wheel, as a share of the way: they follow
    v = (−y, x) 4 cos 3t, whose way is known."""
    made = _lane(ParticleKind, *_source(ParticleKind), ("carry", {"field": "wind"}))
    first, state = _after(_plan(made, fps=fps, fields=[_formula("-4*y*cos(3*t), 4*x*cos(3*t), 0")]), HALF)
    turn = 4 / 3 * math.sin(3 * HALF)
    x, y = first.position[:2].astype(float)
    c, s = math.cos(turn), math.sin(turn)
    off = np.hypot(state.position[0] - (c * x - s * y), state.position[1] - (s * x + c * y))
    return float(off.mean() / (np.hypot(x, y) * turn).mean())


def grown(fps: float, h: float = 0.05) -> float:
    """Error of the middle of a volume that a swinging wind carries, as a share of the way: growth."""
    made = _lane(GrowthKind, ("domain", {"region": "room"}), ("seed", {"shape": "ball"}),
                 ("carry", {"field": "wind", "only": "both ways"}))  # fmt: skip
    plan = _plan(made, fps=fps, h=h, fields=[_formula("1.5*cos(6*t), 0, 0")])
    first, state = _after(plan, HALF)

    def middle(s: Any) -> float:
        inside = np.clip(0.5 - s.distance / s.window.voxel_size, 0, 1).astype(float)
        x = s.window.centres(0, s.window.voxels)[0]
        return float((inside.reshape(-1) * x).sum() / inside.sum())

    exact = 1.5 / 6 * math.sin(6 * HALF)
    return abs(middle(state) - middle(first) - exact) / (1.5 / 6)


def _vortices(fps: float, n: int, steady: bool) -> tuple[Array, Array]:
    """Velocities (u and v in one row) of closed gas of n × n × 8 voxels over 2 × 2 m before and after half a second."""
    waves = [(1 / math.pi, 2, 2)] if steady else [(1 / math.pi, 2, 2), (1.6 / math.pi, 1, 1), (0.6 / math.pi, 3, 1)]
    source = ("source", {"shape": "ball", "density": 0.01, "temperature": 0, "velocity": [0, 0, 0]})
    plan = _plan(_lane(GasKind, ("domain", {"region": "room", "follow": False, **SHUT}), source), fps=fps, h=2 / n,
                 room=((-1, -1, 0), (1, 1, 16 / n)), radius=0.05, at=0.1)  # fmt: skip
    flow: Any = open_flow(plan, "f")
    state = flow.first()
    edge = np.arange(n + 1) / n * np.pi
    psi = sum(c * np.outer(np.sin(a * edge), np.sin(b * edge)) for c, a, b in waves)
    state.u[:] = (np.diff(psi, axis=1) * n / 2)[..., None]
    state.v[:] = (-np.diff(psi, axis=0) * n / 2)[..., None]
    before = np.concatenate([state.u[..., 4].ravel(), state.v[..., 4].ravel()]).astype(float)
    for k in range(1, round(HALF * fps) + 1):
        state = flow.next(state, k)
    return before, np.concatenate([state.u[..., 4].ravel(), state.v[..., 4].ravel()]).astype(float)


def blown(fps: float) -> float:
    """Error of the speed of open gas that a force of 8 cos 9t m/s² pushes for half a second, as a share of the
    greatest speed."""
    source = ("source", {"shape": "ball", "density": 0.01, "temperature": 0, "velocity": [0, 0, 0]})
    push = ("push", {"field": "wind", "how": "force", "only_gas": False})
    made = _lane(GasKind, ("domain", {"region": "room", "follow": False, **dict.fromkeys(SHUT, True)}), source, push)
    fields = [_formula(f"{STRONG}*cos({FAST}*t), 0, 0")]
    _, state = _after(_plan(made, fps=fps, h=0.1, room=((-0.8, -0.8, 0.6), (0.8, 0.8, 2.2)), fields=fields), HALF)
    middle = float(state.u[6:-6, 4:-4, 4:-4].mean(dtype=float))
    return abs(middle - STRONG / FAST * math.sin(FAST * HALF)) / (STRONG / FAST)


def whirled(rates: tuple[int, ...] = RATES) -> list[float]:
    """Errors of vortices that change, against steps of `FINEST` frames a second: root mean square, as a share of that
    of the velocity."""
    _, exact = _vortices(FINEST, ACROSS, steady=False)
    norm = float(np.sqrt((exact**2).mean()))
    return [float(np.sqrt(((_vortices(fps, ACROSS, steady=False)[1] - exact) ** 2).mean())) / norm for fps in rates]


def whirled_on(sizes: tuple[int, ...]) -> list[float]:
    """Errors of rows of vortices that stand still, at 96 frames a second, on so many voxels across 2 m."""
    found = []
    for n in sizes:
        before, after = _vortices(96, n, steady=True)
        found.append(float(np.sqrt(((after - before) ** 2).mean() / (before**2).mean())))
    return found


def baked(h: float) -> float:
    """Error of the place of particles that are carried for half a second by a wind that was baked, as a share of the
    way, against the wind itself."""
    wind = lane("wind", ("curl_noise", {"feature_size": 1.0, "octaves": 1, "strength": 1.0}))
    stored = _with_steps(wind, ("bake", {"region": "room"}))
    room = ((-1.5, -1.5, 0.2), (1.5, 1.5, 2.6))
    made = _lane(ParticleKind, *_source(ParticleKind), ("carry", {"field": "wind"}))
    ends = [_after(_plan(made, fps=48, h=h, room=room, fields=[w]), HALF) for w in (wind, stored)]
    (first, exact), (_, found) = ends
    off = np.sqrt(((found.position - exact.position) ** 2).sum(axis=0)).mean()
    return float(off / np.sqrt(((exact.position - first.position) ** 2).sum(axis=0)).mean())


def _with_steps(made: dict[str, Any], *more: tuple[str, dict[str, Any]]) -> dict[str, Any]:
    """The same lane with steps at its end."""
    added = lane(made["id"], *more)["steps"]
    taken = {s["id"] for s in made["steps"]}
    return {
        **made,
        "steps": [*made["steps"], *({**s, "id": f"{s['id']}_end"} if s["id"] in taken else s for s in added)],
    }


def _rates(kind: type[FlowKind], what: str, one: Callable[[float], float]) -> Order:
    return _order(kind, what, "time", RATES, [one(fps) for fps in RATES])


ROWS: dict[str, Callable[[], Order]] = {
    "particles fall": lambda: _rates(ParticleKind, "what falls for half a second", lambda f: fallen(ParticleKind, f)),
    "particles pushed": lambda: _rates(ParticleKind, "what a swinging force pushes", lambda f: swung(ParticleKind, f)),
    "particles carried": lambda: _rates(ParticleKind, "what a wind carries round", carried),
    "gas whirls": lambda: _order(GasKind, "vortices that change", "time", RATES, whirled()),
    "gas pushed": lambda: _rates(GasKind, "the speed of what a swinging force pushes", blown),
    "liquid falls": lambda: _rates(LiquidKind, "what falls for half a second", lambda f: fallen(LiquidKind, f)),
    "liquid pushed": lambda: _rates(LiquidKind, "what a swinging force pushes", lambda f: swung(LiquidKind, f)),
    "grains fall": lambda: _rates(GrainKind, "what falls for half a second", lambda f: fallen(GrainKind, f)),
    "grains pushed": lambda: _rates(GrainKind, "what a swinging force pushes", lambda f: swung(GrainKind, f)),
    "growth": lambda: _rates(GrowthKind, "what a swinging wind carries", grown),
    "particles, baked": lambda: _order(
        ParticleKind, "what a baked wind carries", "space", (200, 100, 50), [baked(h) for h in (0.2, 0.1, 0.05)]
    ),
    "gas, voxels": lambda: _order(
        GasKind, "vortices that stand still", "space", (125, 62.5, 31.25), whirled_on((16, 32, 64))
    ),
    "growth, voxels": lambda: _order(
        GrowthKind, "what a swinging wind carries", "space", (100, 50, 25), [grown(96, h) for h in (0.1, 0.05, 0.025)]
    ),
}
"""Lines of the table, by name."""
