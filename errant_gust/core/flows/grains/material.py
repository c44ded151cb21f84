"""What sand is made of: Friction, Cohesion, Channel of colour, Thin out."""

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.grains.steps import GrainStep, Work
from errant_gust.core.flows.moving import Waning
from errant_gust.core.flows.random import uniform
from errant_gust.core.flows.step import Placed
from errant_gust.core.kernels import grains as kernels
from errant_gust.core.study.parameters import param

ANGLE = 30.0
"""Degrees: of sand that no Friction step says more of."""
STEEPEST = 42.0
"""Degrees: a law of yielding that knows sines holds no steeper ones."""


ASKED, SINES = (0.0, 20.0, 30.0, 40.0, 42.0), (0.0, 0.395, 0.668, 0.905, 0.925)
"""Angles of repose in degrees, and the sine of the inner friction with which heaps that are poured stand so, measured.

Sand that shears without growing bears only the sine of its inner angle along the plane it shears on (Davis 1968), so
that an endless slope of the angle needs one whose sine is its tangent: 0.364, 0.577, 0.839; heaps a dozen grains high
a little more.
"""


def friction_of(degrees: Array | np.float32) -> Array:
    """Sine that the law of yielding takes, for the angle at which a slope just holds."""
    return np.asarray(np.interp(degrees, ASKED, SINES), np.float32)


class Friction(GrainStep):
    """How steep a slope of the sand holds: the angle of repose, one for all or from place to place.

    Without it that is 30°. Dry round sand 28, sharp sand 34, gravel 40; 10 runs like beads in oil. A field is looked
    up for every grain, once a frame.
    """

    id = "friction"
    label = "Friction"
    family = "change"
    yields = "steeper or flatter slopes"
    mistake = (
        "Sand that slides off a floor as one piece needs friction there: it is of the Domain's sides, and of every "
        "shape in Collide."
    )
    headline = "angle"
    formula = "|τ| = σ sin φ,  sin φ = tan(angle)"

    angle: float = param(
        ANGLE, unit="°", range=(0, STEEPEST), slider=(10, 43), varies=True, help="Of the steepest slope that holds"
    )

    def material(self, part: Placed, work: Work, some: Array) -> None:
        points = self._points(part, work, some)
        work.sand.put(kernels.SINE, friction_of(work.number_at(part, "angle", points)), some)

    @staticmethod
    def _points(part: Placed, work: Work, some: Array) -> Array:
        if not part.varying:
            return np.zeros((3, 0), np.float32)
        return work.points(work.sand.get(kernels.PLACE, some))


class Cohesion(GrainStep):
    """Grains hold to each other as moist sand does: it stands in steep banks and breaks in lumps.

    Told as the stress it takes to pull the sand apart. A field is looked up for every grain, once a frame.
    """

    id = "cohesion"
    label = "Cohesion"
    family = "change"
    yields = "sand that holds together"
    mistake = (
        "A bank stands about as high as four times the cohesion by the sand's weight a metre: 1 kPa holds a quarter "
        "of a metre of it."
    )
    headline = "strength"
    formula = "|τ| = (σ + strength) sin φ"

    strength: float = param(
        500.0, unit="Pa", range=(0, 1e7), slider=(0, 5000), varies=True, help="What it bears being pulled"
    )

    def material(self, part: Placed, work: Work, some: Array) -> None:
        points = Friction._points(part, work, some)
        strength = np.maximum(work.number_at(part, "strength", points), 0)
        work.sand.put(kernels.TENSION, strength / np.float32(work.flow.bulk * work.flow.density), some)


class Colour(GrainStep):
    """Grains keep the colour of the Source that they came from."""

    id = "colour"
    label = "Colour"
    family = "change"
    yields = "grains in the colours of their sources"
    mistake = "All grains are white until a Source is given another colour."

    def keeps(self) -> dict[str, int]:
        return {"colour": 3}


class ThinOut(Waning, GrainStep):
    """Takes grains away: where a scalar lane says, a share of them a second; or what is older than a time. What has
    lived its life, as its Source gave it, goes without this step."""

    id = "thin_out"
    family = "change"
    yields = "grains that go"
    mistake = "What lay on them falls in: keep the mask thin, or the rate low."

    def taken(self, part: Placed, work: Work) -> Array | None:
        gone = np.zeros(work.count, bool)
        if self.by and (self.rate or part.varying):
            points = work.points()
            rate = np.maximum(work.number_at(part, "rate", points), 0) * np.maximum(work.at(self.by, points), 0)
            step = round(work.scene.time * 7919)  # another number every time, the same in every run
            chance = 1 - np.exp(-np.float64(rate) * work.flow.clock.step)
            gone |= uniform(step & 0x7FFFFFFF, work.own["id"], 71) < chance
        if self.oldest:
            gone |= work.own["age"] > self.oldest
        return gone
