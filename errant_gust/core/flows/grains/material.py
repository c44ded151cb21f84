"""What sand is made of: Friction, Cohesion, Channel, Colour, Thin out."""

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows.channels import Carrying
from errant_gust.core.flows.grains.state import BASE
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
    """Sine that the law of yielding takes, for the angle at which a slope just holds. Any shape, in degrees; no
    unit."""
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
        """Set the friction of the grains `some` (n,), by index."""
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
        """Set how much tension the grains `some` (n,), by index, bear: Pa over the bulk modulus."""
        points = Friction._points(part, work, some)
        strength = np.maximum(work.number_at(part, "strength", points), 0)
        work.sand.put(kernels.TENSION, strength / np.float32(work.flow.bulk * work.flow.density), some)


class GrainChannel(Carrying, GrainStep):
    """Something more that grains carry: what their Source gave them, a field at birth, or a formula; it may fade.

    A formula may use age and life in seconds, id, pressure in Pa, packing, speed and vx vy vz in m/s, x y z in metres,
    t in seconds, f (the lane, if one is chosen), and channels kept before it by name. It is worked out on every frame,
    can colour the grains and is written with them.
    """

    id = "channel"
    family = "change"
    mistake = (
        "'Field at birth' is looked up once, where a grain comes out: it keeps it. For a value of the place where it "
        "is now take the formula f."
    )

    def check(self, scene: Scene, where: str) -> None:
        super().check(scene, where)
        self.named_well(where, BASE)

    def understood(self, channels: tuple[str, ...], where: str) -> None:
        self.read_well(where, ("age", "life", "id", "pressure", "packing", *channels))

    def born(self, work: Work, points: Array) -> Array | None:
        """What new grains at points (3, n) have of it, if it is looked up at birth."""
        return work.at(self.field, points) if self.what == "field at birth" else None

    def change(self, part: Placed, work: Work) -> None:
        if not work.count:
            return
        own = work.own
        if self.what == "formula":
            p, sand = work.points(), work.sand
            channels = own | {
                "packing": sand.get(kernels.PACKING),
                "pressure": sand.get(kernels.PRESSURE) * np.float32(work.flow.density),
            }
            f = work.at(self.field, p) if self.field else None
            own[self.name] = self.worked_out(p, work.velocities(), work.scene.time, channels, f)
        own[self.name] = self.faded(own[self.name], work.lasts)


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
            chance = 1 - np.exp(-np.float64(rate) * work.lasts)
            gone |= uniform(step & 0x7FFFFFFF, work.own["id"], 71) < chance
        if self.oldest:
            gone |= work.own["age"] > self.oldest
        return gone
