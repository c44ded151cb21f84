"""What moves gas: Rise, Push, Curl up, Drag, Expand."""

from typing import Literal

import numpy as np

from errant_gust.core.flows.gas.midway import layered
from errant_gust.core.flows.gas.steps import GasStep, Work
from errant_gust.core.flows.step import Limits, Placed, Pushes
from errant_gust.core.grids.slabs import each_slab
from errant_gust.core.grids.staggered.faces import kept
from errant_gust.core.kernels.gas import confine, spins
from errant_gust.core.study.parameters import FieldId, param


class Rise(GasStep, Pushes):
    """Hot gas rises, heavy gas sinks: an acceleration of lift times temperature less weight times density.

    Air at 20 °C has a lift of 9.81 / 293 = 0.0335 m/s² a kelvin (Boussinesq).
    """

    id = "rise"
    label = "Rise"
    family = "force"
    yields = "buoyancy"
    mistake = (
        "Without it hot gas stays where it is. A source of 1000 K accelerates at three times gravity: lower it, or the "
        "lift, if smoke shoots up."
    )
    headline = "lift"
    formula = "a = (lift · T − weight · ρ) up"

    lift: float = param(0.0335, unit="m/s²/K", slider=(0, 0.1), varies=True, help="Upward acceleration a kelvin")
    weight: float = param(0.0, unit="m/s²", slider=(0, 5), varies=True, help="Downward acceleration of density 1")

    def pushes(self, part: Placed, work: Work) -> None:
        s = work.state
        a = work.number(part, "lift") * s.channel("temperature")
        if self.weight or "weight" in part.varying:
            a -= work.number(part, "weight") * s.channel("density")
        if work.forces_only:
            work.swings += layered(a, work.up(), s.domain.voxel_size, work.solid)
        work.push_along(work.up(), a)


class Push(GasStep, Pushes):
    """A vector lane pushes the gas: as a force, or as a wind that it is eased into at a rate."""

    id = "push"
    label = "Push"
    family = "force"
    yields = "motion by a field"
    mistake = (
        "As a force it speeds gas up for as long as it acts; a wind of 3 m/s as a force is 3 m/s every second. Ease "
        "stops at the field's own speed."
    )
    headline = "field"
    formula = "a = strength · v   or   v' = v + (f − v)(1 − e^(−rate dt))"

    field: FieldId = param(help="A vector lane")
    how: Literal["ease", "force"] = param("ease", help="Toward the field's velocity, or by it as an acceleration")
    rate: float = param(
        2.0, unit="1/s", range=(0, 1e4), slider=(0, 20), varies=True, help="How quickly it is taken along",
        when={"how": ["ease"]},
    )  # fmt: skip
    strength: float = param(
        1.0, unit="×", slider=(-5, 5), varies=True, help="Times the field, in m/s²", when={"how": ["force"]}
    )
    by: FieldId = param("", optional=True, help="A scalar lane: where, and how much")
    only_gas: bool = param(True, label="Only where gas is", help="Clear air around it is left alone")

    wants = {"field": "vector", "by": "scalar"}

    def pushes(self, part: Placed, work: Work) -> None:
        if work.forces_only and self.how == "ease":
            return
        target = np.moveaxis(work.lane(self.field), -1, 0)
        share = work.masked(part, "by")
        if self.only_gas:
            share = share * np.clip(np.abs(work.state.channel("density")) * np.float32(4), 0, 1)
        if self.how == "force":
            work.push(np.asarray(work.number(part, "strength") * share * target, np.float32))
        else:
            rate = np.maximum(work.number(part, "rate") * share, 0)
            each = np.broadcast_to(1 - np.exp(-rate * np.float32(work.dt)), target.shape[1:])
            work.ease.append((np.ascontiguousarray(target), np.ascontiguousarray(each, np.float32)))


class CurlUp(GasStep, Pushes):
    """Vorticity confinement: gives back to small eddies what the grid takes from them (Fedkiw, Stam, Jensen 2001)."""

    id = "curl_up"
    label = "Curl up"
    family = "force"
    yields = "livelier eddies"
    mistake = (
        "More than about 1 makes smoke boil like foam. A field in its place keeps it to where it should be lively."
    )
    headline = "strength"
    formula = "a = strength · h (N × ω),  N = ∇|ω| / |∇|ω||"

    strength: float = param(0.3, range=(0, 100), slider=(0, 2), varies=True, help="How much is given back")

    def pushes(self, part: Placed, work: Work) -> None:
        s = work.state
        h, strength = np.float32(s.domain.voxel_size), work.number(part, "strength")
        each = kept(strength if np.ndim(strength) else None)
        amount = h if np.ndim(strength) else h * np.float32(strength)
        size, scale = work.lend(3, s.values.shape[1:], np.float32), np.float32(0.5) / h
        force = [work.pushed(axis) for axis in range(3)]
        rows = s.values.shape[1]
        each_slab(rows, lambda a, b: spins(s.u, s.v, s.w, scale, size, a, b), work.threads)
        each_slab(rows, lambda a, b: confine(s.u, s.v, s.w, scale, size, amount, each, *force, a, b), work.threads)


class GasDrag(GasStep, Limits):
    """Takes the gas's speed at a rate, everywhere or where a scalar lane says."""

    id = "drag"
    label = "Drag"
    family = "force"
    yields = "slower gas"
    mistake = "It also slows what a Push drives. Mask it to keep it to one place."
    headline = "rate"
    formula = "v' = v e^(−rate dt)"

    rate: float = param(
        0.5, unit="1/s", range=(0, 1e4), slider=(0, 10), varies=True, help="Share of speed lost a second"
    )
    by: FieldId = param("", optional=True, help="A scalar lane: where, and how much")

    wants = {"by": "scalar"}

    def pushes(self, part: Placed, work: Work) -> None:
        if work.forces_only:
            return
        shape = work.state.values.shape[1:]
        rate = np.maximum(work.number(part, "rate") * work.masked(part, "by"), 0)
        share = np.ascontiguousarray(np.broadcast_to(1 - np.exp(-rate * np.float32(work.dt)), shape), np.float32)
        work.ease.append((np.zeros((3, *shape), np.float32), share))


class Expand(GasStep, Pushes):
    """Gas swells or shrinks by a scalar lane: so much volume a second in every volume. Smoke rolls outward from it."""

    id = "expand"
    label = "Expand"
    family = "force"
    yields = "gas that swells"
    mistake = "1 a second doubles the volume nearly every second. Where all sides are closed there is no room to swell."
    headline = "amount"
    formula = "∇·v = amount"

    amount: float = param(0.5, unit="1/s", slider=(-2, 5), varies=True, help="Volume a second and volume")
    by: FieldId = param("", optional=True, help="A scalar lane: where, and how much")
    only_gas: bool = param(True, label="Only where gas is", help="Times the density up to 1")

    wants = {"by": "scalar"}

    def pushes(self, part: Placed, work: Work) -> None:
        if work.forces_only:
            return
        share = work.number(part, "amount") * work.masked(part, "by")
        if self.only_gas:
            share = share * np.clip(work.state.channel("density"), 0, 1)
        work.expand(np.asarray(np.broadcast_to(share, work.state.values.shape[1:]), np.float32))
