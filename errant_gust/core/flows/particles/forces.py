"""Motion steps that change a particle's own velocity, Push, Ease, Drag, Gravity, and the step in time that they take
together.

Each says what it adds to dv/dt = S − K v; the sum is solved exactly for S and K as they are in the middle of the step,
where the particle then is. Without drag that is the position form of Verlet's method (1967), which keeps the energy of
a spring; with it an exponential one (Hochbruck and Ostermann 2010): of second order, and exact for constant input, so
that free fall is a parabola and terminal speeds are right at any frame rate. Easing at any rate never overshoots.
"""

from typing import Any, Literal

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.moving import SHARE_TIME
from errant_gust.core.flows.particles.steps import Force, Moving, ParticleStep, Use
from errant_gust.core.flows.step import Pushes
from errant_gust.core.study.parameters import FieldId, Vec3, param


class Inertial(ParticleStep, Pushes):
    """A step that gives particles a velocity of their own."""

    family = "motion"
    keeps = ("own",)


MOST_RATE = 1e3
"""Of K dt: nothing is left of a velocity long before."""


def look_about(uses: list[Use]) -> bool:
    """Whether a force among them is another from place to place."""
    return any(u.varying or u.step.wants for u in uses)


def together(m: Moving, at: Array, uses: list[Use]) -> None:
    """Change `m.own` (3, n) over `m.dt` and set its `mean`, by all forces as they are at places (3, n) in the middle of
    the step."""
    assert m.own is not None
    assert m.mean is not None
    gain: Any = np.float32(0)
    rate: Array | None = None
    for use in uses:
        s, k = use.step.force(at, use)
        gain = gain if s is None else gain + s
        rate = rate if k is None else np.asarray(k, np.float64) + (0 if rate is None else rate)
    before = m.own
    if rate is None:
        change = gain * m.dt
        m.mean += change * np.float32(0.5)
        m.own = before + change  # not in its place, which is the state's
        return
    one = rate.ndim == 0 and m.dt.size > 1 and bool((m.dt == m.dt[0]).all())
    dt = m.dt[:1] if one else m.dt  # the same for all, as for what is not new
    x = rate * dt
    over = np.maximum(1, x / MOST_RATE)
    x, share = np.minimum(x, MOST_RATE), (dt / over).astype(np.float32)
    # (1 − exp(−x)) / x, and the mean of what is gained: their series where the difference would cancel
    small = x < 1e-3
    safe = np.where(small, 1.0, x)
    first = np.where(small, 1 - x / 2 + x * x / 6, -np.expm1(-safe) / safe)
    second = np.where(small, 0.5 - x / 6 + x * x / 24, (1 - first) / safe)
    first, second, left = (v.astype(np.float32) for v in (first, second, np.exp(-x)))
    gained = gain * share
    m.mean = before * first + gained * second
    m.own = before * left + gained * first


class Push(Inertial):
    """A force field: particles are accelerated by it and keep their own motion."""

    id = "push"
    label = "Push"
    yields = "acceleration by a field"
    mistake = (
        "Without drag the speed only grows. Add Drag or Ease behind it; and mind that a metre a second squared for "
        "four seconds are four metres a second."
    )
    headline = "field"
    formula = "dv/dt = amount · f(x, t)"
    wants = {"field": "vector"}

    field: FieldId = param(help="A vector lane, taken as metres a second squared")
    amount: float = param(1.0, unit="×", slider=(0, 10), varies=True, help="How strongly")

    def force(self, points: Array, use: Use) -> Force:
        return use.field("field", points, "middle") * use.number("amount", points, "middle"), None


class Ease(Inertial):
    """The velocity is drawn toward the field: not at all leaves a particle its own motion, wholly carries it."""

    id = "ease"
    label = "Ease"
    yields = "motion drawn toward a field"
    mistake = (
        "A share of 1 is Carry at its dearest. For light things 0.3 to 0.7, for heavy ones a rate of 1 to 3 per second."
    )
    headline = "share"
    formula = "dv/dt = k (u(x, t) − v),  k = −24 ln(1 − share)"
    wants = {"field": "vector"}

    field: FieldId = param(help="A vector lane, in metres a second")
    how: Literal["share", "rate"] = param("share", help="A share within a 24th of a second, or a rate per second")
    share: float = param(
        0.3, range=(0, 1), varies=True, when={"how": ["share"]}, help="0 keeps its own motion, 1 is carried"
    )
    rate: float = param(
        4.0, unit="/s", range=(0, 1e6), slider=(0, 20), varies=True, when={"how": ["rate"]}, help="How soon it follows"
    )

    def force(self, points: Array, use: Use) -> Force:
        if self.how == "rate":
            k = np.maximum(use.number("rate", points, "middle"), 0)
        else:
            share = np.clip(np.float64(use.number("share", points, "middle")), 0, 1 - 1e-9)
            k = -np.log1p(-share) / SHARE_TIME
        return use.field("field", points, "middle") * np.float32(k), k


class Drag(Inertial):
    """Still air: a particle's own velocity dies away, by a share per second that does not depend on the frame rate."""

    id = "drag"
    label = "Drag"
    yields = "motion that dies away"
    mistake = "It slows what particles have of their own; what carries them is not slowed. For that, turn Carry down."
    headline = "rate"
    formula = "dv/dt = −rate · v"

    rate: float = param(1.0, unit="/s", range=(0, 1e6), slider=(0, 10), varies=True, help="How soon motion dies away")

    def force(self, points: Array, use: Use) -> Force:
        return None, np.maximum(use.number("rate", points, "middle"), 0)


class Gravity(Inertial):
    """Everything falls alike."""

    id = "gravity"
    label = "Gravity"
    yields = "a constant acceleration"
    mistake = "Smoke and mist hardly fall: a tenth of it with some drag looks right; embers rise with a negative one."
    headline = "acceleration"
    formula = "dv/dt = g"

    acceleration: Vec3 = param((0, 0, -9.81), unit="m/s²", help="Metres a second squared")

    def force(self, points: Array, use: Use) -> Force:
        return np.array(self.acceleration, np.float32)[:, None], None
