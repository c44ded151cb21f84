"""What liquid is made of: Viscosity, Channel, Colour, Thin out, Foam points."""

from typing import Literal

import numpy as np

from errant_gust.core.errors import StudyError, nearest
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows.channels import Carrying
from errant_gust.core.flows.liquid.state import BASE
from errant_gust.core.flows.liquid.steps import THICK, LiquidStep, Work
from errant_gust.core.flows.moving import Waning
from errant_gust.core.flows.random import uniform
from errant_gust.core.flows.step import Placed
from errant_gust.core.grids import transfer
from errant_gust.core.study.parameters import Range, param


class Viscosity(LiquidStep):
    """How thick the liquid is: as it was born, times a factor, or set anew from place to place; it may thicken or thin
    with age, or with a channel.

    Without it liquid keeps the viscosity of its Source. Kinematic: water 1e-6 m²/s, oil 1e-4, honey 1e-2, molten
    glass 1, at rest like pitch 100.
    """

    id = "viscosity"
    label = "Viscosity"
    family = "change"
    yields = "thicker or thinner liquid"
    mistake = (
        "Below a few millionths of a square metre a second the voxels are more viscous than the liquid. A patch that "
        "is a thousand times as thick as what is around it is carried like a stone."
    )
    headline = "factor"
    formula = "ν = ν₀ · factor · (1 + (with_factor − 1) s),  s = (a − from) / (to − from) in 0 … 1"

    how: Literal["as born", "set"] = param("as born", help="Of its source, or given here")
    value: float = param(
        0.01, unit="m²/s", range=(0, THICK), slider=(0, 1), varies=True, help="Kinematic", when={"how": ["set"]}
    )
    factor: float = param(1.0, unit="×", range=(0, 1e6), slider=(0, 10), varies=True, help="Times that")
    changes: Literal["no", "with age", "with a channel"] = param("no", help="Thickens or thins as it goes")
    channel: str = param("heat", help="A channel of the lane", when={"changes": ["with a channel"]})
    over: Range = param(
        (0.0, 2.0), label="From … to", help="Seconds, or values of the channel, over which it changes",
        when={"changes": ["with age", "with a channel"]},
    )  # fmt: skip
    with_factor: float = param(
        10.0, unit="×", range=(0, 1e9), slider=(0, 100), label="Then", help="Times as thick at the end",
        when={"changes": ["with age", "with a channel"]},
    )  # fmt: skip

    def understood(self, channels: tuple[str, ...], where: str) -> None:
        if self.changes == "with a channel" and self.channel not in channels:
            raise StudyError(
                f"there is no channel '{self.channel}'", where=f"{where}.channel", fix=nearest(self.channel, channels)
            )

    def thicken(self, part: Placed, work: Work) -> None:
        a = work.a
        points = work.points() if part.varying else np.zeros((3, 0), np.float32)
        if self.how == "set":
            a["viscosity"] = np.array(np.broadcast_to(work.number_at(part, "value", points), work.count), np.float32)
        made = a["viscosity"] * work.number_at(part, "factor", points)
        if self.changes != "no":
            by = a["age"] if self.changes == "with age" else a[self.channel]
            low, high = self.over
            s = np.clip((by - np.float32(low)) / np.float32(high - low), 0, 1)
            # in proportion: as much thicker in every equal span
            made = made * np.float32(max(self.with_factor, 1e-9)) ** s
        a["viscosity"] = np.clip(made, 0, THICK).astype(np.float32)


class LiquidChannel(Carrying, LiquidStep):
    """Something more that particles carry: what their Source gave them, a field at birth, or a formula; it may mix
    between neighbours, and fade.

    A formula may use age in seconds, id, viscosity, speed and vx vy vz in m/s, x y z in metres, t in seconds, f (the
    lane, if one is chosen), and channels kept before it by name. It can colour the liquid, thicken it, is written with
    it and is on its surface.
    """

    id = "channel"
    family = "change"
    mistake = (
        "'Field at birth' is looked up once, where a particle comes out: liquid keeps it. For a value of the place "
        "where it is now take the formula f."
    )

    mixes: float = param(
        0.0, unit="1/s", range=(0, 1e4), slider=(0, 10), help="How quickly it mixes between neighbours"
    )

    def check(self, scene: Scene, where: str) -> None:
        super().check(scene, where)
        self.named_well(where, BASE)

    def understood(self, channels: tuple[str, ...], where: str) -> None:
        self.read_well(where, ("age", "id", "viscosity", *channels))

    def born(self, work: Work, points: Array) -> Array | None:
        """What new particles at points (3, n) have of it, if it is looked up at birth."""
        return work.at(self.field, points) if self.what == "field at birth" else None

    def change(self, part: Placed, work: Work) -> None:
        a = work.a
        if not work.count:
            return
        if self.what == "formula":
            p, v = work.points(), work.domain.to_scene(a["velocity"])
            a[self.name] = self.worked_out(p, v, work.scene.time, a, work.at(self.field, p) if self.field else None)
        if self.mixes:
            mix(work, self.name, self.mixes)
        a[self.name] = self.faded(a[self.name], work.dt)


def mix(work: Work, name: str, rate: float) -> None:
    """Draw a channel toward the mean of what is around each particle, at a rate in 1/s."""
    a = work.a[name]
    rows = a.reshape(-1, a.shape[-1])
    q = np.ascontiguousarray(work.a["q"] - work.origin[:, None].astype(np.float32))
    order = transfer.order_by_cell(q, work.window.shape)
    sums, _ = transfer.onto_cells(order.sorted(q), order.sorted(rows), order.start, work.window.shape)
    share = np.float32(1 - np.exp(-rate * work.dt))
    for row, mean in zip(rows, sums, strict=True):
        row += share * (transfer.at_places(mean, q, middles=True) - row)


class Colour(LiquidStep):
    """Liquid carries the colour of the Source that it came from; where two meet they mix as fast as you say."""

    id = "colour"
    label = "Colour"
    family = "change"
    yields = "liquid in the colours of its sources"
    mistake = "All liquid is white until a Source is given another colour."
    headline = "mixes"

    mixes: float = param(
        0.5, unit="1/s", range=(0, 1e4), slider=(0, 10), help="How quickly it mixes between neighbours"
    )

    def keeps(self) -> dict[str, int]:
        return {"colour": 3}

    def change(self, part: Placed, work: Work) -> None:
        if self.mixes and work.count:
            mix(work, "colour", self.mixes)


class ThinOut(Waning, LiquidStep):
    """Drains liquid: where a scalar lane says, a share of it a second goes, or all that comes there; or what is older
    than a time."""

    id = "thin_out"
    family = "change"
    yields = "liquid that goes"
    mistake = "Liquid above a drain falls in and is gone as well: keep the mask thin, or the rate low."

    def drained(self, part: Placed, work: Work) -> Array | None:
        a, gone = work.a, np.zeros(work.count, bool)
        if self.rate or part.varying:
            points = work.points()
            rate = np.maximum(work.number_at(part, "rate", points), 0)
            if self.by:
                rate = rate * np.maximum(work.at(self.by, points), 0)
            elif self.oldest:
                rate = np.float32(0)
            step = round(work.scene.time * 7919)  # another number in every step, the same in every run
            gone |= uniform(step & 0x7FFFFFFF, a["id"], 71) < 1 - np.exp(-np.float64(rate) * work.dt)
        if self.oldest:
            gone |= a["age"] > self.oldest
        return gone


class FoamPoints(LiquidStep):
    """Some particles are foam: the fastest, or those where the liquid is most torn and stretched. They are a result of
    their own, which looks like spray, is written as points and can be what another lane is born from.

    Every particle has one level of its own, so that neighbours do not turn to foam all at once.
    """

    id = "foam_points"
    label = "Foam points"
    family = "change"
    yields = "points of foam"
    mistake = "None is there while nothing is fast enough: look at the speeds of the liquid and set the range in them."
    headline = "over"

    what: Literal["fast", "stretched"] = param("fast", help="By speed in m/s, or by how it is torn, in 1/s")
    over: Range = param((2.0, 6.0), label="From … to", help="None is foam below, all above")
    share: float = param(0.3, range=(0, 1), help="Share of the particles that may be foam at all")

    def keeps(self) -> dict[str, int]:
        return {"foam": 1}

    def change(self, part: Placed, work: Work) -> None:
        a = work.a
        if self.what == "fast":
            how = np.sqrt((a["velocity"] ** 2).sum(axis=0))
        else:
            c = a["affine"].reshape(3, 3, -1) / np.float32(work.domain.voxel_size)
            strain = 0.5 * (c + c.transpose(1, 0, 2))
            how = np.sqrt(2 * (strain * strain).sum(axis=(0, 1)))
        low, high = self.over
        level = uniform(3, a["id"], 72)
        s = np.clip((how - low) / (high - low), 0, 1)
        a["foam"] = (s * self.share > level).astype(np.float32)
