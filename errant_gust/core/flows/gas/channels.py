"""What happens to the gas's channels: Cool, Thin out, Burn, Channel, Formula."""

import re
from typing import ClassVar, Literal

import numpy as np

from errant_gust.core.errors import StudyError, nearest
from errant_gust.core.fields.expression import Broken, arithmetic, parse
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows.gas.cells import channel_name
from errant_gust.core.flows.gas.steps import COLOURS, GasStep, Work, decay
from errant_gust.core.flows.looks import ChannelName
from errant_gust.core.flows.step import Placed
from errant_gust.core.kernels.advection import middles
from errant_gust.core.study.parameters import FieldId, param

How = Literal["share", "amount"]
TINY = np.float32(1e-12)
OTHERS = ("speed", "x", "y", "z", "t", "dt", "f", "pi")


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

    def change(self, part: Placed, work: Work) -> None:
        rate = work.number(part, "rate" if self.how == "share" else "amount") * work.masked(part, "by")
        a = work.state.channel(self.fades)
        a[:] = self.left(work, a, decay(a, self.how, rate, work.dt))

    def left(self, work: Work, before: Array, after: Array) -> Array:
        """What is left of it; a place to change what belongs to it. Both (bx, by, bz) of the cells that it reaches."""
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
        """What is left, (bx, by, bz): the colour, which is an amount, goes with the density."""
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
    carries = COLOURS

    fade: float = param(0.0, unit="1/s", range=(0, 1e4), slider=(0, 2), help="Share lost to grey a second")

    def change(self, part: Placed, work: Work) -> None:
        if not self.fade or not work.dt:
            return
        colours = [work.state.channel(name) for name in COLOURS]
        grey = sum(colours[1:], colours[0]) / np.float32(3)
        for a in colours:
            a[:] = grey + decay(a - grey, "share", np.float32(self.fade), work.dt)


class GasChannel(GasStep):
    """One more channel that is carried along, fading at a pace of its own: filled by a Source that names it, or by
    whatever fills another channel (a copy of the temperature, say, that cools more slowly).

    It is there to be looked at and written, and changes nothing of the motion.
    """

    id = "channel"
    label = "Channel"
    family = "change"
    yields = "one more channel, carried along"
    mistake = (
        "It stays empty until a Source names it under Channel, or it copies another. The window follows smoke, heat "
        "and fuel only: where a channel outlasts all of them it is cut off, unless 'Follow the gas' is off."
    )
    headline = "name"
    names_channel = "name"

    name: str = param("glow", help="Small letters; it is called so in files")
    copies: ChannelName = param(
        "", optional=True, help="A channel: what brings that in (sources, fire) brings this in too, say temperature"
    )
    how: How = param("share", help="A share of it, or an amount, is lost a second")
    rate: float = param(0.5, range=(0, 1e4), slider=(0, 5), varies=True, help="How much is lost a second")
    wants = {}

    def check(self, scene: Scene, where: str) -> None:
        super().check(scene, where)
        channel_name(self.name, f"{where}.name")
        if self.copies == self.name:
            raise StudyError("copies itself", where=f"{where}.copies", fix="name another channel, or none")

    @property
    def copied(self) -> tuple[str, str] | None:
        return (self.copies, self.name) if self.copies else None

    def understood(self, channels: tuple[str, ...], where: str) -> None:
        if self.copies and self.copies not in channels:
            raise StudyError(
                f"there is no channel '{self.copies}'", where=f"{where}.copies", fix=nearest(self.copies, channels)
            )

    def change(self, part: Placed, work: Work) -> None:
        a = work.state.channel(self.name)
        a[:] = decay(a, self.how, work.number(part, "rate"), work.dt)


class GasFormula(GasStep):
    """Works a channel out from the others in every cell, after everything was brought in: for display (a channel of
    its own) or for the solver (temperature, density, fuel), which then goes on from it.

    Names: every channel; speed in m/s; x y z in metres, t in seconds, dt the step; f, the lane, if one is chosen.
    Functions are those of the Formula step of fields.
    """

    id = "formula"
    label = "Formula"
    family = "change"
    yields = "a channel worked out from others"
    mistake = (
        "It acts every substep: 'temperature * 0.99' cools faster where the gas is faster. Write "
        "'temperature * exp(-0.5 * dt)', or into a channel of its own."
    )
    headline = "expression"
    names_channel = "channel"
    formula = "c' = clamp(expression(channels, speed, x, y, z, t, dt, f))"

    channel: str = param("display", help="What is set: a channel of its own, or one of the solver's")
    expression: str = param("temperature / 1000", label="Formula", help="For example max(temperature - 200, 0)")
    field: FieldId = param("", optional=True, help="A scalar lane, used as f")
    clamp: Literal["no", "at least", "between"] = param(
        "at least", help="What is too small or too large is set to the end"
    )
    low: float = param(0.0, slider=(-10, 10), help="The least", when={"clamp": ["at least", "between"]})
    high: float = param(1.0, slider=(-10, 10), help="The most", when={"clamp": ["between"]})

    wants = {"field": "scalar"}

    def check(self, scene: Scene, where: str) -> None:
        super().check(scene, where)
        channel_name(self.channel, f"{where}.channel")
        if self.clamp == "between" and self.high <= self.low:
            raise StudyError("the most is not above the least", where=f"{where}.high", fix=f"above {self.low:g}")
        if not self.field and re.search(r"\bf\b", self.expression):
            raise StudyError("f stands for a lane, and none is chosen", where=f"{where}.field", fix="choose one")

    def understood(self, channels: tuple[str, ...], where: str) -> None:
        try:
            parts = parse(self.expression, frozenset({*channels, *OTHERS}))
            if len(parts) != 1:
                raise Broken(f"has {len(parts)} parts; right would be one")
        except Broken as error:
            raise StudyError(str(error), where=f"{where}.expression") from None

    def finish(self, part: Placed, work: Work) -> None:
        s = work.state
        used = set(re.findall(r"[A-Za-z_]\w*", self.expression))
        n = s.count
        values = {name: s.channel(name).ravel() for name in s.names}
        if used & {"x", "y", "z"}:
            values |= dict(zip("xyz", s.window.centres(0, n), strict=True))
        if "speed" in used:
            out = np.empty((*s.window.shape, 3), np.float32)
            middles(s.u, s.v, s.w, out, 0, out.shape[0])
            values["speed"] = np.sqrt((out * out).sum(axis=-1)).ravel()
        if self.field:
            values["f"] = work.lane(self.field).ravel()
        values |= {k: np.full(n, v, np.float32) for k, v in (("t", work.scene.time), ("dt", work.dt)) if k in used}
        made = arithmetic(self.expression, values)
        if self.clamp != "no":
            made = np.clip(made, self.low, self.high if self.clamp == "between" else None)
        s.channel(self.channel)[:] = made.reshape(s.window.shape)


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
    carries = ("fuel",)
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

    def change(self, part: Placed, work: Work) -> None:
        if not work.dt:
            return
        s = work.state
        fuel, heat = s.channel("fuel"), s.channel("temperature")
        hot = heat >= work.number(part, "ignition")
        burnt = np.where(hot, fuel * (1 - np.exp(-work.number(part, "rate") * np.float32(work.dt))), 0)
        fuel -= burnt
        given = {"temperature": np.float32(self.heat) * burnt, "density": np.float32(self.soot) * burnt}
        for name, amount in given.items():
            for kept in (name, *work.twins.get(name, ())):
                s.channel(kept)[:] += amount
        if self.expansion:
            work.expand(np.asarray(np.float32(self.expansion / work.dt) * burnt, np.float32))
