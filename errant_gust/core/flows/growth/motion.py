"""What moves the surface of a growing volume: Spread, Carry, Smooth, and Stop, which lets nothing move."""

from typing import Literal

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.growth.steps import GrowthStep, Work, added
from errant_gust.core.flows.moving import Holding
from errant_gust.core.flows.step import Placed, Pushes
from errant_gust.core.grids.level_set import Speeds
from errant_gust.core.study.parameters import FieldId, param


class Spread(GrowthStep, Pushes):
    """The surface moves outward along its normal, everywhere alike or as fast as a field says; below zero it melts.

    Several add up. A speed that changes from place to place, such as noise with a high contrast, makes tongues.
    """

    id = "spread"
    label = "Spread"
    family = "motion"
    yields = "growth along the normal"
    mistake = "A field that is zero at the surface of the seed starts nothing: look at it on a slice through the seed."
    headline = "speed"
    formula = "∂φ/∂t + speed |∇φ| = 0"
    wants = {"by": "scalar"}

    speed: float = param(0.25, unit="m/s", slider=(-1, 1), varies=True, help="Outward; below zero it melts")
    by: FieldId = param("", optional=True, label="Only where", help="A scalar lane: where, and how much")

    def motion(self, part: Placed, work: Work, points: Array, into: Speeds) -> None:
        made = work.only(self.by, work.number_at(part, "speed", points), points)
        added(into, "speed", made / np.float32(work.domain.voxel_size))


class Carry(GrowthStep, Pushes):
    """The surface is carried by a vector lane; or only outward by it, so that the volume grows along its streams and
    never draws back.

    Carried both ways and by nothing else, it keeps its volume and its edges: every place is looked up where it was.
    Along curl noise, only outward, it branches: streams that leave the surface draw arms out of it, and those that
    enter it do nothing.
    """

    id = "carry"
    label = "Carry"
    family = "motion"
    yields = "growth along a field"
    mistake = (
        "Carried both ways, what leaves on one side is lost on the other: that moves the volume and does not grow it. "
        "Arms thinner than two voxels tear off."
    )
    headline = "field"
    formula = "∂φ/∂t + u · ∇φ = 0   or   ∂φ/∂t + max(0, u · ∇φ) = 0"
    wants = {"field": "vector", "by": "scalar"}

    field: FieldId = param(help="A vector lane, in metres a second")
    amount: float = param(1.0, unit="×", slider=(0, 2), varies=True, help="How much of the field's velocity is taken")
    only: Literal["outward", "both ways"] = param(
        "outward", label="Moves it", help="It only grows along the field, or is carried by it"
    )
    by: FieldId = param("", optional=True, label="Only where", help="A scalar lane: where, and how much")

    def motion(self, part: Placed, work: Work, points: Array, into: Speeds) -> None:
        made = work.only(self.by, work.number_at(part, "amount", points) * work.at(self.field, points), points)
        name = "along" if self.only == "outward" else "flow"
        added(into, name, made / np.float32(work.domain.voxel_size))


class Smooth(GrowthStep):
    """The surface moves by its curvature: bumps sink, hollows fill, and what is thin draws back.

    A ball of radius r under both becomes smaller by 2 · rate / r a second.
    """

    id = "smooth"
    label = "Smooth"
    family = "change"
    yields = "a rounder surface"
    mistake = (
        "It takes many substeps with fine voxels: as many as rate · 6 / voxel² a second. Too much of it eats arms "
        "faster than they grow."
    )
    headline = "rate"
    formula = "∂φ/∂t = rate κ |∇φ|"

    rate: float = param(1e-3, unit="m²/s", range=(0, 1e3), slider=(0, 0.02), varies=True, help="How strongly")
    what: Literal["bumps and hollows", "bumps", "hollows"] = param(
        "bumps and hollows", label="Takes", help="Only bumps: edges become round; only hollows: gaps and cracks close"
    )

    def motion(self, part: Placed, work: Work, points: Array, into: Speeds) -> None:
        made = np.maximum(work.number_at(part, "rate", points), 0) / np.float32(work.domain.voxel_size**2)
        for name in ("bumps", "hollows"):
            added(into, name, made if name in self.what else np.zeros_like(made))


class Stop(Holding, GrowthStep):
    """A scalar field decides where the surface moves at all: on one side of the level it does, on the other it stands.

    It holds for all steps of the lane, wherever it is in it.
    """

    id = "stop"
    label = "Stop"
    family = "change"
    yields = "growth up to where a mask says"
    mistake = "With no soft edge it stops within a voxel, as a wall; with one it becomes slower and creeps on."
    formula = "speed' = speed · s((f − level) / soft)"

    moves: Literal["above", "below"] = param("below", label="Grows", help="On which side of the level")

    def share(self, part: Placed, work: Work, points: Array) -> Array | None:
        return self.share_left(work.at(self.by, points))
