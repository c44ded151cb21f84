"""Steps of a particle lane: Emit, Carry, Speed limit."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from errant_gust.core.fields.catalogue import FLOW_STEPS
from errant_gust.core.study.parameters import FieldId, Parameters, ShapeId, param, summary

PARTICLE_STEPS: dict[str, type[ParticleStep]] = FLOW_STEPS.setdefault("particles", {})


class ParticleStep(Parameters):
    """One operation in a particle lane; a subclass declares its parameters and is in the catalogue by that."""

    family: ClassVar[Literal["emit", "motion"]]

    def __init_subclass__(cls, **kwargs: Any) -> None:
        super().__init_subclass__(**kwargs)
        if "id" in cls.__dict__:
            PARTICLE_STEPS[cls.id] = cls

    @classmethod
    def entry(cls) -> dict[str, Any]:
        return {**summary(cls), "kind": cls.family, "accepts": "particles", "formula": ""}


class Emit(ParticleStep):
    """Particles are born on or in a shape, at a rate or all at once, and live for a while.

    Births are spread within the frame along the shape's motion, so that a fast source leaves no gaps. How many have
    been born by a time is the integral of the rate: the same at any frame rate.
    """

    id = "emit"
    label = "Emit"
    family = "emit"
    yields = "particles born on a shape"
    mistake = (
        "Rate and life together give the count: 4000 a second living 4 s are 16 000 at once. A preview run "
        "has a quarter of them unless told otherwise."
    )
    headline = "rate"

    shape: ShapeId = param(label="From", help="The shape they are born on")
    where: Literal["surface", "volume", "points"] = param(
        "surface", help="On its surface, inside it, or at its vertices"
    )
    timing: Literal["rate", "all at once"] = param("rate", help="So many a second, or all in one moment")
    rate: float = param(
        4000,
        unit="/s",
        range=(0, 1e8),
        slider=(0, 50_000),
        rate=True,
        help="Births a second",
        when={"timing": ["rate"]},
    )
    count: int = param(
        20_000, range=(0, 20_000_000), slider=(0, 200_000), help="How many", when={"timing": ["all at once"]}
    )
    begin: float = param(0.0, unit="s", range=(-1e5, 1e5), slider=(0, 10), help="When it starts")
    until: float = param(
        1e4, unit="s", range=(-1e5, 1e5), slider=(0, 20), help="When it stops", when={"timing": ["rate"]}
    )
    life: float = param(4.0, unit="s", above=0, slider=(0.1, 20), help="Mean time from birth to death")
    life_variation: float = param(0.25, range=(0, 1), help="Lives differ by this share, more or less")
    seed: int = param(1, range=(0, 2**31 - 1), help="Another number, other places and lives")
    preview_share: float = param(0.25, range=(0, 1), help="Share of the particles that a preview run has")


class Carry(ParticleStep):
    """The velocity of a particle is the field where it is. Several Carry steps add up.

    Midpoint and RK4 follow curved paths far better than Euler for their cost (order 2 and 4).
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

    field: FieldId = param(help="A vector lane, in metres a second")
    amount: float = param(1.0, unit="×", slider=(0, 2), help="How much of the field's velocity is taken")
    integrator: Literal["midpoint", "euler", "rk4"] = param("midpoint", help="How a step along the field is taken")
    substeps: int = param(1, range=(1, 64), help="Steps a frame; more for fast or finely swirling fields")


class SpeedLimit(ParticleStep):
    """No particle is faster than the limit, whatever the field asks."""

    id = "speed_limit"
    label = "Speed limit"
    family = "motion"
    yields = "a bound on speed"
    mistake = "As the first step it limits nothing that is added after it. Put it last among the motion steps."
    headline = "most"

    most: float = param(5.0, unit="m/s", above=0, slider=(0.1, 20), help="Largest speed")
