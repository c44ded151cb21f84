"""Motion steps that give or change the velocity of everything together: Carry, Speed limit, Scatter direction, Hold."""

from typing import Literal

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.moving import Holding
from errant_gust.core.flows.particles.steps import Moving, ParticleStep, Stage, Use
from errant_gust.core.flows.random import uniform, unit_vectors
from errant_gust.core.flows.step import Carries, Limits
from errant_gust.core.study.parameters import FieldId, param

TINY = np.float32(1e-20)


class Carry(ParticleStep, Carries):
    """The velocity of a particle is the field where it is. Several Carry steps add up.

    Midpoint, Ralston's third-order method and the classic fourth-order one follow curved paths far better than Euler
    for their cost (orders 1, 2, 3, 4; Ralston 1962).
    """

    id = "carry"
    label = "Carry"
    family = "motion"
    yields = "motion along a field"
    mistake = (
        "A field given in other units than m/s throws everything away in one frame. Read its range, and set "
        "substeps so that a step is no longer than a voxel."
    )
    headline = "field"
    formula = "dx/dt = amount · v(x, t)"

    field: FieldId = param(help="A vector lane, in metres a second")
    amount: float = param(1.0, unit="×", slider=(0, 2), varies=True, help="How much of the field's velocity is taken")
    integrator: Literal["midpoint", "euler", "rk3", "rk4"] = param(
        "midpoint", help="How a step along the field is taken"
    )
    substeps: int = param(1, range=(1, 64), help="Steps a frame; more for fast or finely swirling fields")
    longest: float = param(
        0.0, unit="m", range=(0, 1e6), slider=(0, 1), help="Longest way in a step: as many more substeps; 0 leaves it"
    )

    wants = {"field": "vector"}

    def drift(self, points: Array, use: Use, stage: Stage) -> Array | None:
        v = use.field("field", points, stage)
        if "amount" not in use.varying and self.amount == 1:
            return v
        return v * use.number("amount", points)


class StepsInTime(ParticleStep):
    """How finely time is taken: a frame in so many substeps, whatever moves the particles.

    Forces and Carry are of second order: half a step has a quarter of the error. What *Half steps* tells for this step
    is that error. Steps that are taken finer are of use for springs that swing within a few frames, thin layers of a
    field, and collisions at speed; drag at any rate needs none.
    """

    id = "steps_in_time"
    label = "Steps in time"
    family = "motion"
    yields = "a frame in several steps"
    mistake = "It costs as many times the work. Read Half steps first: most lanes are within a millimetre without it."
    headline = "substeps"

    substeps: int = param(2, range=(1, 64), help="Steps a frame, of all motion steps of the lane")
    longest: float = param(
        0.0, unit="m", range=(0, 1e6), slider=(0, 1), help="Longest way in a step: as many more substeps; 0 leaves it"
    )


class SpeedLimit(ParticleStep, Limits):
    """No particle is faster than the limit, whatever the field asks."""

    id = "speed_limit"
    label = "Speed limit"
    family = "motion"
    yields = "a bound on speed"
    mistake = "It bounds the motion of all steps before it. Put it last among the motion steps."
    headline = "most"
    formula = "v' = v · min(1, most / |v|)"

    most: float = param(5.0, unit="m/s", above=0, slider=(0.1, 20), varies=True, help="Largest speed")

    def bend(self, velocity: Array, points: Array, m: Moving, use: Use) -> Array:
        return velocity * self._share(velocity, points, use)

    def correct(self, m: Moving, use: Use) -> None:
        if m.own is not None:
            m.own *= self._share(m.own, m.position, use)

    def _share(self, velocity: Array, points: Array, use: Use) -> Array:
        speed = np.sqrt((velocity * velocity).sum(axis=0))
        return np.minimum(1, np.maximum(use.number("most", points), 0) / np.maximum(speed, TINY)).astype(np.float32)


class ScatterDirection(ParticleStep):
    """Every particle goes a little beside the direction it is given: a bundle becomes a spray, speed stays.

    The deviation belongs to the particle, for its whole life or for a while.
    """

    id = "scatter_direction"
    label = "Scatter direction"
    family = "motion"
    yields = "directions that differ"
    mistake = (
        "It turns the motion of the steps before it, also into walls: keep Stay out behind it. With a short 'anew "
        "every' the deviations cancel out over time."
    )
    headline = "angle"
    formula = "v' = |v| (cos θ v̂ + sin θ r̂),  θ ≤ angle"

    angle: float = param(10.0, unit="°", range=(0, 180), slider=(0, 60), help="Largest deviation")
    every: float = param(0.0, unit="s", range=(0, 1e5), slider=(0, 5), label="Anew every", help="0 keeps it for life")
    seed: int = param(1, range=(0, 2**31 - 1), help="Another number, other deviations")

    def bend(self, velocity: Array, points: Array, m: Moving, use: Use) -> Array:
        ids = m.id.astype(np.uint64)
        if self.every > 0:
            ids = ids + ((m.age / np.float32(self.every)).astype(np.uint64) << np.uint64(32))
        theta = np.radians(self.angle) * np.sqrt(uniform(self.seed, ids, 40))
        r = unit_vectors(self.seed, ids, 41)
        speed = np.maximum(np.sqrt((velocity * velocity).sum(axis=0)), TINY)
        along = velocity / speed
        across = r - along * (along * r).sum(axis=0)
        across /= np.maximum(np.sqrt((across * across).sum(axis=0)), TINY)
        turned = np.cos(theta) * along + np.sin(theta) * across
        return (turned * speed).astype(np.float32)


class Hold(Holding, ParticleStep, Limits):
    """A scalar field decides who stays: above the level particles move, below they keep still (or the other way).

    With a memory, who has once been let go stays free, wherever it comes. Several with a memory share it.
    """

    id = "hold"
    family = "motion"
    yields = "particles that keep still"
    mistake = (
        "A mask that never passes the level holds everything for ever. Look at its range, and set the level inside "
        "it; a soft edge lets them slow down instead of stopping dead."
    )

    memory: bool = param(False, label="Once free, free", help="What has been let go stays free, until it is born again")

    def needs(self) -> tuple[str, ...]:
        return ("released",) if self.memory else ()

    def bend(self, velocity: Array, points: Array, m: Moving, use: Use) -> Array:
        return velocity * self._share(points, m, use)

    def correct(self, m: Moving, use: Use) -> None:
        if m.own is not None:
            m.own *= self._share(m.position, m, use)

    def _share(self, points: Array, m: Moving, use: Use) -> Array:
        left = self.share_left(use.field("by", points))
        return np.maximum(left, m.kept["released"]) if self.memory else left

    @property
    def records(self) -> bool:
        return self.memory

    def record(self, part: dict[str, Array], use: Use) -> Array | None:
        return np.maximum(part["released"], self.share_left(use.field("by", part["position"], "end")))
