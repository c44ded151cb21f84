"""Motion steps that change a particle's own velocity: Push, Ease, Drag, Gravity. All exact for constant input.

Each changes `own` at the end of the step in time and its `mean` over it, so that the way is right too: free fall is an
exact parabola, and easing at any rate never overshoots.
"""

from typing import Literal

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.moving import SHARE_TIME
from errant_gust.core.flows.particles.steps import Moving, ParticleStep, Use
from errant_gust.core.flows.step import Pushes
from errant_gust.core.study.parameters import FieldId, Vec3, param


class Inertial(ParticleStep, Pushes):
    """A step that gives particles a velocity of their own."""

    family = "motion"
    keeps = ("own",)


def accelerate(m: Moving, a: Array) -> None:
    """Constant acceleration (3, n) or (3, 1) over the step."""
    assert m.own is not None
    assert m.mean is not None
    gained = a * m.dt
    m.mean += gained * np.float32(0.5)
    m.own += gained


def relax(m: Moving, toward: Array | float, rate: Array) -> None:
    """Exponential approach to a velocity at a rate (n,) or number in 1/s: dv/dt = rate (toward − v)."""
    assert m.own is not None
    assert m.mean is not None
    x = np.minimum(np.asarray(rate, np.float64) * m.dt, 1e3)
    left = np.exp(-x)
    mean = np.where(x > 1e-6, (1 - left) / np.maximum(x, 1e-12), 1 - x / 2)
    m.mean[:] = toward + (m.mean - toward) * mean.astype(np.float32)
    m.own[:] = toward + (m.own - toward) * left.astype(np.float32)


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

    def push(self, m: Moving, use: Use) -> None:
        accelerate(m, use.field("field", m.position) * use.number("amount", m.position))


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

    def push(self, m: Moving, use: Use) -> None:
        if self.how == "rate":
            k = np.maximum(use.number("rate", m.position), 0)
        else:
            share = np.clip(np.float64(use.number("share", m.position)), 0, 1 - 1e-9)
            k = -np.log1p(-share) / SHARE_TIME
        relax(m, use.field("field", m.position), k)


class Drag(Inertial):
    """Still air: a particle's own velocity dies away, by a share per second that does not depend on the frame rate."""

    id = "drag"
    label = "Drag"
    yields = "motion that dies away"
    mistake = "It slows what particles have of their own; what carries them is not slowed. For that, turn Carry down."
    headline = "rate"
    formula = "dv/dt = −rate · v"

    rate: float = param(1.0, unit="/s", range=(0, 1e6), slider=(0, 10), varies=True, help="How soon motion dies away")

    def push(self, m: Moving, use: Use) -> None:
        relax(m, 0.0, np.maximum(use.number("rate", m.position), 0))


class Gravity(Inertial):
    """Everything falls alike."""

    id = "gravity"
    label = "Gravity"
    yields = "a constant acceleration"
    mistake = "Smoke and mist hardly fall: a tenth of it with some drag looks right; embers rise with a negative one."
    headline = "acceleration"
    formula = "dv/dt = g"

    acceleration: Vec3 = param((0, 0, -9.81), unit="m/s²", help="Metres a second squared")

    def push(self, m: Moving, use: Use) -> None:
        accelerate(m, np.array(self.acceleration, np.float32)[:, None])
