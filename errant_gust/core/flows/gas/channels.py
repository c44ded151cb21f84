"""What happens to the gas's channels: Cool, Thin out, Burn, Channel."""

from typing import ClassVar, Literal

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows.gas.sources import channel_name
from errant_gust.core.flows.gas.steps import COLOURS, GasStep, Part, Work, decay
from errant_gust.core.study.parameters import FieldId, param

How = Literal["share", "amount"]
TINY = np.float32(1e-12)


class Fading(GasStep):
    """A channel that falls toward zero: by a share or by an amount a second, everywhere or where a lane says."""

    family = "change"
    headline = "rate"
    wants = {"by": "scalar"}
    fades: ClassVar[str]
    """The channel."""

    how: How = param("share", help="A share of it, or an amount, is lost a second")
    rate: float = param(
        0.5, unit="1/s", range=(0, 1e4), slider=(0, 5), varies=True, help="Share", when={"how": ["share"]}
    )
    by: FieldId = param("", optional=True, help="A scalar lane: where, and how much")

    def change(self, part: Part, work: Work) -> None:
        rate = part.number("rate" if self.how == "share" else "amount", work) * part.masked("by", work)
        a = work.state.channel(self.fades)
        a[:] = self.left(work, a, decay(a, self.how, rate, work.dt))

    def left(self, work: Work, before: Array, after: Array) -> Array:
        """What is left of it; a place to change what belongs to it."""
        return after


class Cool(Fading):
    """Temperature falls toward that of the air around: by a share or by so many kelvin a second."""

    id = "cool"
    label = "Cool"
    yields = "gas that cools"
    mistake = "By an amount, thin hot gas turns cold at once; by a share it never quite does. Try the share first."
    formula = "T' = T e^(−rate dt)   or   T − amount dt"
    fades = "temperature"

    amount: float = param(
        100.0, unit="K/s", range=(0, 1e6), slider=(0, 1000), varies=True, help="Amount", when={"how": ["amount"]}
    )


class ThinOut(Fading):
    """Density fades: by a share or by an amount a second."""

    id = "thin_out"
    label = "Thin out"
    yields = "smoke that fades"
    mistake = "Left out, smoke never fades and the domain fills. An amount clears thin veils and keeps dense cores."
    formula = "ρ' = ρ e^(−rate dt)   or   ρ − amount dt"
    fades = "density"

    amount: float = param(
        0.2, unit="1/s", range=(0, 1e6), slider=(0, 2), varies=True, help="Amount", when={"how": ["amount"]}
    )

    def left(self, work: Work, before: Array, after: Array) -> Array:
        if COLOURS[0] in work.state.names:  # the colour of what is left stays
            share = np.divide(after, before, out=np.zeros_like(before), where=np.abs(before) > TINY)
            for name in COLOURS:
                work.state.channel(name)[:] *= share
        return after


class Colour(GasStep):
    """Smoke carries the colour of the Source that it came from; where two meet they mix as their densities do.

    Soot has no colour of its own, so burning darkens. It is written as the channels red, green and blue: density
    times the share of each.
    """

    id = "colour"
    label = "Colour"
    family = "change"
    yields = "smoke in the colours of its sources"
    mistake = "All smoke is white until a Source is given another colour."
    headline = "fade"

    fade: float = param(0.0, unit="1/s", range=(0, 1e4), slider=(0, 2), help="Share lost to grey a second")

    def names(self) -> tuple[str, ...]:
        return COLOURS

    def change(self, part: Part, work: Work) -> None:
        if not self.fade or not work.dt:
            return
        colours = [work.state.channel(name) for name in COLOURS]
        grey = sum(colours[1:], colours[0]) / np.float32(3)
        for a in colours:
            a[:] = grey + decay(a - grey, "share", np.float32(self.fade), work.dt)


class GasChannel(GasStep):
    """One more channel that is carried along: filled by a Source that names it, fading at a pace of its own.

    It is there to be looked at and written, and changes nothing of the motion.
    """

    id = "channel"
    label = "Channel"
    family = "change"
    yields = "one more channel, carried along"
    mistake = "It stays empty until a Source names it under Channel."
    headline = "name"

    name: str = param("glow", help="Small letters; it is called so in files")
    how: How = param("share", help="A share of it, or an amount, is lost a second")
    rate: float = param(0.5, range=(0, 1e4), slider=(0, 5), varies=True, help="How much is lost a second")
    wants = {}

    def names(self) -> tuple[str, ...]:
        return (self.name,)

    def check(self, scene: Scene, where: str) -> None:
        super().check(scene, where)
        channel_name(self.name, f"{where}.name")

    def change(self, part: Part, work: Work) -> None:
        a = work.state.channel(self.name)
        a[:] = decay(a, self.how, part.number("rate", work), work.dt)


class Burn(GasStep):
    """Fuel that is hot enough burns: into heat, soot and expansion. With an ignition at or below 0 K it lights itself.

    So much of the fuel there burns a second; each unit gives `heat` kelvin, `soot` density, and swells the gas by
    `expansion` volumes (Feldman, O'Brien, Arikan 2003).
    """

    id = "burn"
    label = "Burn"
    family = "change"
    yields = "fire from fuel"
    mistake = (
        "Nothing burns: the fuel is colder than the ignition. Bring a hot source near, or set the ignition to 0. A "
        "burn rate above 10 a second is a flash."
    )
    headline = "rate"
    formula = (
        "b = fuel (1 − e^(−rate dt)) where T ≥ ignition;  T' = T + heat b;  ρ' = ρ + soot b;  ∇·v = expansion b / dt"
    )

    ignition: float = param(
        150.0, unit="K", slider=(0, 1000), varies=True, help="Temperature above the air that lights it"
    )
    rate: float = param(
        3.0, unit="1/s", range=(0, 1e4), slider=(0, 20), varies=True, help="Share of the fuel that burns"
    )
    heat: float = param(900.0, unit="K", range=(0, 1e6), slider=(0, 3000), help="Given by a unit of fuel")
    soot: float = param(0.6, range=(0, 1e6), slider=(0, 5), help="Density left by a unit of fuel")
    expansion: float = param(1.0, range=(0, 1e4), slider=(0, 10), help="Volumes that a unit of fuel swells by")

    def names(self) -> tuple[str, ...]:
        return ("fuel",)

    def change(self, part: Part, work: Work) -> None:
        if not work.dt:
            return
        s = work.state
        fuel, heat = s.channel("fuel"), s.channel("temperature")
        hot = heat >= part.number("ignition", work)
        burnt = np.where(hot, fuel * (1 - np.exp(-part.number("rate", work) * np.float32(work.dt))), 0)
        fuel -= burnt
        heat += np.float32(self.heat) * burnt
        s.channel("density")[:] += np.float32(self.soot) * burnt
        if self.expansion:
            work.expand(np.asarray(np.float32(self.expansion / work.dt) * burnt, np.float32))
