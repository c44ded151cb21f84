"""Source: what brings gas in."""

from collections.abc import Callable, Collection
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows.boxed import SHAPED, Fills
from errant_gust.core.flows.gas.cells import Box, cells_of, centres_of, channel_name, distances
from errant_gust.core.flows.gas.steps import COLOURS, GasStep, Work
from errant_gust.core.flows.step import Placed
from errant_gust.core.geometry.placed import PlacedShape
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.kernels.gas import scattered
from errant_gust.core.study.parameters import FieldId, FlowId, ShapeId, Vec3, param

How = Literal["add", "at least", "set"]
Each = Literal["as the rest", "add", "at least", "set", "off"]
ParticlesOf = Callable[[str, float], tuple[Array, Array]]
MOST_LOOKS = 48  # how often a moving source is looked at in a substep


@dataclass
class Reach:
    """What a source covers: a box of the window, how much of each of its cells (0 to 1) at one time or on the mean of
    several, at most at any of them, and the velocity of what it is made of (3, …) in m/s along the scene's axes, if
    that was asked for."""

    box: Box
    share: Array
    motion: Array | None = None
    most: Array | None = None

    def covered(self, how: str) -> Array:
        """How much of each cell counts: what is added in so much a second goes by the mean. (bx, by, bz) between 0
        and 1."""
        return self.share if how == "add" or self.most is None else self.most

    def within(self, box: Box, a: Array) -> Array:
        """An array (…) of this box in a larger box, zero outside. (…, bx, by, bz)."""
        whole = np.zeros((*a.shape[:-3], *(s.stop - s.start for s in box)), np.float32)
        x, y, z = (slice(s.start - b.start, s.stop - b.start) for s, b in zip(self.box, box, strict=True))
        whole[..., x, y, z] = a
        return whole


def together(reaches: list[Reach]) -> Reach:
    """What a source covers that was looked at several times: the mean, and the most."""
    if len(reaches) == 1:
        return reaches[0]
    x, y, z = (slice(min(r.box[a].start for r in reaches), max(r.box[a].stop for r in reaches)) for a in range(3))
    box = (x, y, z)
    size = tuple(s.stop - s.start for s in box)
    share, most = np.zeros(size, np.float32), np.zeros(size, np.float32)
    motion = None if reaches[0].motion is None else np.zeros((3, *size), np.float32)
    for reach in reaches:
        one = reach.within(box, reach.share)
        share += one / np.float32(len(reaches))
        if motion is not None and reach.motion is not None:
            np.copyto(motion, reach.within(box, reach.motion), where=one >= most)
        np.maximum(most, one, out=most)
    return Reach(box, share, motion, most)


class Source(GasStep, Fills):
    """Brings density, temperature, fuel, a channel and velocity in: where a shape is, where particles are, or where a
    field says.

    `add` gives so much a second (or so much, if it is all at once), `at least` fills up to the value, `set` puts it
    there; each channel may have its own operation. Amounts may be fields. Edges are a voxel soft, and what moves fills
    all that it sweeps, so that it leaves neither steps nor beads; what it brings does not depend on frames a second.
    Where the shape lies partly outside the domain, that part does nothing.
    """

    id = "source"
    label = "Source"
    family = "source"
    yields = "gas where a shape, particles or a field are"
    mistake = (
        "A source thinner than two voxels is hit or missed by chance: make it thicker, or the voxels smaller. Added "
        "every second it grows without end where nothing carries it away; 'at least' does not."
    )
    headline = "shape"

    where: Literal["inside", "shell", "particles", "everywhere"] = param(
        "inside", help="In a shape, in a layer on its surface, around particles, or wherever a lane says"
    )
    shape: ShapeId = param("", help="Where", when={"where": SHAPED})
    thickness: float = param(
        0.1, unit="m", above=0, slider=(0.01, 1), help="Of the layer, half inside and half outside",
        when={"where": ["shell"]},
    )  # fmt: skip
    flow: FlowId = param(
        "", label="Particles of", help="A lane that has points", when={"where": ["particles"]}, provides="points"
    )
    radius: float = param(
        0.1, unit="m", above=0, slider=(0.01, 1), help="Around each particle", when={"where": ["particles"]}
    )
    how: How = param("add", help="So much a second; filled up to; put there")
    density: float = param(4.0, slider=(0, 20), varies=True, help="Of smoke; 1 is thick")
    temperature: float = param(300.0, unit="K", slider=(0, 2000), varies=True, help="Above the air around")
    fuel: float = param(0.0, range=(0, 1e6), slider=(0, 10), varies=True, help="What a Burn step burns")
    by: FieldId = param("", optional=True, help="A scalar lane: how much of it, from place to place")
    channel: str = param("", help="A further channel that it fills, by name", group="A further channel")
    amount: float = param(1.0, slider=(0, 10), varies=True, help="Of that channel", group="A further channel")
    each: bool = param(
        False, label="Each its own way", help="An operation for each channel, or none", group="Operations"
    )
    density_how: Each = param(
        "as the rest", label="Density's way", help="Its operation", when={"each": ["true", "True"]}, group="Operations"
    )
    temperature_how: Each = param(
        "as the rest", label="Heat's way", help="Its operation", when={"each": ["true", "True"]}, group="Operations"
    )
    fuel_how: Each = param(
        "as the rest", label="Fuel's way", help="Its operation", when={"each": ["true", "True"]}, group="Operations"
    )
    amount_how: Each = param(
        "as the rest",
        label="The channel's way",
        help="Its operation",
        when={"each": ["true", "True"]},
        group="Operations",
    )
    colour: Vec3 = param(
        (1, 1, 1), help="Red, green and blue of the smoke, 0 to 1, in a lane that has Colour", group="Colour"
    )
    colour_by: FieldId = param(
        "", optional=True, label="Colour from", help="A vector lane: red, green and blue", group="Colour"
    )
    velocity: Vec3 = param(
        (0, 0, 0), unit="m/s", help="The gas is given this velocity, if it is not zero", group="Velocity"
    )
    velocity_by: FieldId = param(
        "",
        optional=True,
        label="Velocity from",
        help="A vector lane, added to it: m/s from place to place",
        group="Velocity",
    )
    velocity_how: Literal["set", "add"] = param(
        "set", label="Given", help="At once, or so much more a second", group="Velocity"
    )
    own_motion: float = param(
        0.0,
        range=(-2, 2),
        help="Share of its own velocity that the gas is given: moving, turning, growing",
        group="Velocity",
    )
    timing: Literal["as it goes", "all at once"] = param(
        "as it goes", help="From when it starts to when it stops, or in one moment when it starts", group="When"
    )
    begin: float = param(
        0.0, unit="s", moment=True, range=(-1e5, 1e5), slider=(0, 10), help="When it starts", group="When"
    )
    until: float = param(
        1e4, unit="s", moment=True, range=(-1e5, 1e5), slider=(0, 20), help="When it stops", group="When",
        when={"timing": ["as it goes"]},
    )  # fmt: skip

    wants = {"by": "scalar", "colour_by": "vector", "velocity_by": "vector"}
    names_channel = "channel"

    def names(self, varying: Collection[str] = ()) -> tuple[str, ...]:
        burns = self.fuel or "fuel" in varying
        return (*(("fuel",) if burns else ()), *super().names(varying))

    def check(self, scene: Scene, where: str) -> None:
        super().check(scene, where)
        channel_name(self.channel or "x", f"{where}.channel")
        self.check_place(scene, where)

    def alone(self, varying: Collection[str]) -> str:
        """The further channel that it brings in with nothing else, if it does."""
        return "" if varying or self.density or self.temperature or self.fuel else self.channel

    def reached(self, domain: GridRegion, scene: Scene, particles_of: ParticlesOf) -> tuple[Array, Array] | None:
        """Lower and upper cell in the domain that it may fill; None if it has no such bounds or is not there. Both
        (3,) int."""
        if self.where == "everywhere":
            return np.zeros(3, int), np.array(domain.shape)
        if self.where == "particles":
            points = particles_of(self.flow, scene.time)[0].T
            if not len(points):
                return None
            more = self.radius / domain.voxel_size
        else:
            shape, more = scene.shape(self.shape), 0.0
            if not shape.kind.bounded:
                return None
            lower, upper = shape.box
            points = np.array([[(lower, upper)[b][a] for a, b in enumerate(x)] for x in np.ndindex(2, 2, 2)])
        own = (points @ domain.axes - np.array(domain.lower)) / domain.voxel_size
        return np.floor(own.min(axis=0) - more).astype(int), np.ceil(own.max(axis=0) + more).astype(int)

    def source(self, part: Placed, work: Work) -> None:
        span = self._span(work)
        reach = None if span is None else self._swept(work, *span)
        if span is None or reach is None:
            return
        # what comes in one moment comes whole, however long the substep is
        box, seconds = reach.box, span[1] - span[0] if self.timing == "as it goes" else float(work.dt > 0)
        if self.by:
            by = np.maximum(work.lane(self.by)[box], 0)
            reach = replace(reach, share=reach.share * by, most=None if reach.most is None else reach.most * by)
        ways = {"density": self.density_how, "temperature": self.temperature_how, "fuel": self.fuel_how}
        amounts = {name: work.number(part, name) for name in ways}
        if self.channel:
            amounts[self.channel], ways[self.channel] = work.number(part, "amount"), self.amount_how
        amounts = {name: a[box] if np.ndim(a) else a for name, a in amounts.items()}
        how = self._way(self.density_how)
        if COLOURS[0] in work.state.names and (how == "add" or self._fills(work, *span)):
            self._tint(work, reach.covered(how), box, amounts, how)
            ways |= dict.fromkeys(COLOURS, self.density_how)
        for name, amount in amounts.items():
            how = self._way(ways[name])
            for kept in (name, *work.twins.get(name, ())):
                if how != "off" and how != "add" and not self._fills(work, *span):
                    continue
                if kept in work.state.names and how != "off" and (np.any(amount) or how == "set"):
                    _fill(work.state.channel(kept)[box], how, reach.covered(how), amount, seconds)
        if self.velocity_how == "add" or self._fills(work, *span):
            self._drive(work, reach, seconds)

    def _fills(self, work: Work, begun: float, ended: float) -> bool:
        """Whether what is not added up over time is put there in this substep: if the source is on at its end, for
        half of it, or never else."""
        on = not work.dt or work.scene.time < self.until or begun > work.scene.time - work.dt
        return on or ended - begun > (0.5 - 1e-6) * work.dt

    def _span(self, work: Work) -> tuple[float, float] | None:
        """The part of the substep in which the source is on, in seconds; None if there is none."""
        end = work.scene.time
        if self.timing == "all at once":
            now = end - work.dt - 1e-9 <= self.begin < end - 1e-9 if work.dt else abs(end - self.begin) <= 1e-9
            return (end - work.dt, end) if now else None
        if not work.dt:
            return (end, end) if self.begin <= end + 1e-9 < self.until else None
        begun, ended = max(end - work.dt, self.begin), min(end, self.until)
        return (begun, ended) if ended > begun + 1e-9 else None

    def _swept(self, work: Work, begun: float, ended: float) -> Reach | None:
        """What the source covers in a span of time: looked at so often that it moves half a voxel at most."""
        count = 1
        if ended > begun and self.where != "everywhere":
            way = self._way_of(work, begun, ended)
            count = int(np.clip(np.ceil(2 * way / work.state.domain.voxel_size - 1e-6), 1, MOST_LOOKS))
        # what stands is looked at once, at the end; what moves in the middle of equal parts
        times = [begun + (i + 0.5) * (ended - begun) / count for i in range(count)] if count > 1 else [ended]
        found = [self._reach(work, work.scene if t == work.scene.time else work.scene.sibling(t), t) for t in times]
        reaches = [reach for reach in found if reach is not None]
        if not reaches:
            return None
        if len(reaches) < len(found):  # for a part of the time it was outside
            first = reaches[0]
            nothing = None if first.motion is None else np.zeros_like(first.motion)
            absent = Reach(first.box, np.zeros_like(first.share), nothing)
            reaches += [absent] * (len(found) - len(reaches))
        return together(reaches)

    def _way_of(self, work: Work, begun: float, ended: float) -> float:
        """The longest way, in m, of anything of the source in a span of time."""
        if self.where == "particles":
            _, velocity = work.particles(self.flow, ended)
            fastest = float(np.sqrt((velocity * velocity).sum(axis=0).max())) if velocity.size else 0.0
            return fastest * (ended - begun)
        shapes = [work.scene.sibling(t).shape(self.shape) for t in (begun, ended)]
        if not all(s.kind.bounded for s in shapes):
            return 0.0
        signs = np.array(list(np.ndindex(2, 2, 2))) * 2 - 1
        corners = [m + (signs * half) @ turned.T for m, half, turned in (s.frame for s in shapes)]
        return float(np.linalg.norm(corners[1] - corners[0], axis=1).max())

    def _way(self, each: Each) -> str:
        return self.how if not self.each or each == "as the rest" else each

    def _tint(self, work: Work, share: Array, box: Box, amounts: dict[str, Array], how: str) -> None:
        """Colours come in as the density does; filled up, they take part by what is new."""
        if how == "off":
            return
        if self.colour_by:
            shares = np.moveaxis(np.clip(work.as_it_is(self.colour_by)[box], 0, 1), -1, 0)
        else:
            shares = np.array(self.colour, np.float32)
        if how != "at least":
            amounts |= {name: amounts["density"] * c for name, c in zip(COLOURS, shares, strict=True)}
            return
        new = np.maximum(share * amounts["density"] - work.state.channel("density")[box], 0)
        for name, c in zip(COLOURS, shares, strict=True):
            work.state.channel(name)[box] += new * c

    def _reach(self, work: Work, scene: Scene, time: float) -> Reach | None:
        if self.where == "particles":
            return self._around_particles(work, time)
        if self.where == "everywhere":
            size = work.state.window.shape
            return Reach((slice(0, size[0]), slice(0, size[1]), slice(0, size[2])), np.ones(size, np.float32))
        shape = scene.shape(self.shape)
        box = cells_of(work, shape, self.thickness if self.where == "shell" else 0.0)
        if box is None:
            return None
        d = distances(work, shape, box)
        if self.where == "shell":
            d = np.abs(d) - np.float32(0.5 * self.thickness)
        share = np.clip(np.float32(0.5) - d / np.float32(work.state.domain.voxel_size), 0, 1)
        return Reach(box, share, _motion(work, shape, box) if self.own_motion else None)

    def _around_particles(self, work: Work, time: float) -> Reach | None:
        position, velocity = work.particles(self.flow, time)
        window = work.state.window
        h = window.voxel_size
        cells = ((window.to_own(position) - np.array(window.lower, np.float32)[:, None]) / np.float32(h)).astype("f4")
        reach = self.radius / h + 1
        near = np.all((cells > -reach) & (cells < np.array(window.shape)[:, None] + reach), axis=0)
        if not near.any():
            return None
        cells, velocity = np.ascontiguousarray(cells[:, near]), np.ascontiguousarray(velocity[:, near])
        low = np.clip(np.floor(cells.min(axis=1) - reach).astype(int), 0, np.array(window.shape) - 1)
        high = np.clip(np.ceil(cells.max(axis=1) + reach).astype(int), low + 1, window.shape)
        box = (slice(low[0], high[0]), slice(low[1], high[1]), slice(low[2], high[2]))
        size = tuple(int(n) for n in high - low)
        share = np.zeros(size, np.float32)
        weight, sums = np.zeros(size, np.float32), np.zeros((3, *size), np.float32)
        cells -= low.astype(np.float32)[:, None]
        scattered(cells, velocity, np.float32(self.radius / h), share, weight, sums)
        return Reach(box, share, sums / np.maximum(weight, np.float32(1e-6)))

    def _drive(self, work: Work, reach: Reach, seconds: float) -> None:
        if not any(self.velocity) and not self.own_motion and not self.velocity_by:
            return
        share = np.clip(reach.covered(self.velocity_how), 0, 1)
        given: Array = np.array(self.velocity, np.float32)[:, None, None, None] * np.ones_like(share)
        if self.velocity_by:
            given = given + np.moveaxis(work.as_it_is(self.velocity_by)[reach.box], -1, 0)
        if self.own_motion and reach.motion is not None:
            given = given + np.float32(self.own_motion) * reach.motion
        if not np.any(given):
            return
        window, whole = work.state.window, (3, *work.state.values.shape[1:])
        own = np.tensordot(window.axes.T.astype(np.float32), given, 1)
        target, weight = np.zeros(whole, np.float32), np.zeros(whole[1:], np.float32)
        if self.velocity_how == "add":
            on = np.float32(seconds / work.dt) if work.dt else np.float32(1)  # the force acts for all of the substep
            target[(slice(None), *reach.box)] = own * share * on
            work.push(target)
            return
        target[(slice(None), *reach.box)] = own
        weight[reach.box] = share
        work.ease.append((target, weight))


def _fill(a: Array, how: str, share: Array, amount: Array, dt: float) -> None:
    if how == "add":
        a += share * np.float32(dt) * amount
    elif how == "at least":
        np.maximum(a, share * amount, out=a)
    else:
        a += np.clip(share, 0, 1) * (amount - a)


def _motion(work: Work, shape: PlacedShape, box: Box) -> Array:
    """Velocity (3, …) in m/s of a shape's matter: as a rigid body, and along its surface's normal what it grows or
    deforms by, from how the distance in its own frame changed over the step."""
    points = centres_of(work, box)
    r = points.astype(float) - np.array(shape.kind.move)[:, None]
    v: Array = np.asarray(np.array(shape.velocity)[:, None] + np.cross(np.array(shape.spin), r.T).T, np.float32)
    if work.before is not None and work.dt:
        shape = work.scene.shape(shape.id)
        was, own = work.before.shape(shape.id), shape.to_local(points)
        now, slope, _ = shape.distance(points, 1)
        then = was.kind.local(own, 0, was.geometry)[0]
        assert slope is not None
        v = v + ((then - now) / np.float32(work.dt)) * slope
    size = tuple(s.stop - s.start for s in box)
    return v.reshape(3, *size)
