"""Source: what brings grains in."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows import scattered
from errant_gust.core.flows.boxed import SHAPED, Fills
from errant_gust.core.flows.channels import channel_name
from errant_gust.core.flows.grains.state import BASE
from errant_gust.core.flows.grains.steps import GrainStep, Work
from errant_gust.core.flows.random import uniform
from errant_gust.core.flows.step import Placed
from errant_gust.core.geometry.curve_shape import Tube
from errant_gust.core.geometry.placed import PlacedShape
from errant_gust.core.grids import transfer
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.kernels import grains as kernels
from errant_gust.core.kernels.seeding import free_places
from errant_gust.core.study.parameters import FieldId, FlowId, ShapeId, Vec3, param

if TYPE_CHECKING:
    from errant_gust.core.flows.grains.flow import GrainFlow

FULL = 8.0
"""Grains in a voxel of settled sand: two along each side."""
CROWD = 2.0
"""Times as tight as settled: no grain is born where it would get tighter."""
JITTER = 0.5  # of the spacing
ROOM = 0.8
"""Of a full cell: where grains weigh less, there is room for another."""
APART = 0.15  # cells, at least, between a new grain and any other, in a source that is kept filled
LOOSE = 5.0
"""Log of the room that a grain born apart from others has: it is as much as there is about it."""
MOST_PLACES = 40_000_000
TRIED = 4000  # points, to tell how much a source holds
USE_LIFE, USE_JITTER = 1, 61
ON_A_CURVE = "along"
SHAPES = [*SHAPED, ON_A_CURVE]
FILLED = ["filled once", "kept filled"]


class Source(GrainStep, Fills):
    """Brings grains in: a shape is filled once, or kept filled while they pour out of it, or grains come out of it at a
    rate, at random places inside, in a layer on its surface, or along its curves.

    Grains that are born in one another are pushed apart before they bear anything, and none is born where it would be
    twice as tight as settled sand, so that nothing flies apart. How much comes is told as a volume: a preview with
    larger grains pours as much. Velocity and colour are looked up once, where and when a grain is born.
    """

    id = "source"
    label = "Source"
    family = "source"
    yields = "grains where a shape, a curve or a field is"
    mistake = (
        "A source that is buried has no room left and stops: lift it above the heap. At a rate that its place is too "
        "small for, most grains are refused: enlarge it, or give it a velocity."
    )
    headline = "shape"

    where: Literal["inside", "shell", "along", "particles", "everywhere"] = param(
        "inside", help="In a shape, in a layer on its surface, along its curves, around particles, or where a lane says"
    )
    shape: ShapeId = param("", help="Where", when={"where": SHAPES})
    thickness: float = param(
        0.05,
        unit="m",
        above=0,
        slider=(0.01, 1),
        help="Of the layer, outside of the surface",
        when={"where": ["shell"]},
    )
    flow: FlowId = param(
        "", label="Particles of", help="A lane that has points", when={"where": ["particles"]}, provides="points"
    )
    radius: float = param(
        0.05, unit="m", above=0, slider=(0.01, 1), help="Around each particle, or around the curve",
        when={"where": ["particles", "along"]},
    )  # fmt: skip
    by: FieldId = param("", optional=True, label="Only where", help="A scalar lane: above ½ they are born")
    how: Literal["filled once", "kept filled", "at a rate"] = param(
        "filled once", help="A heap or a column; a stream; or grains here and there"
    )
    rate: float = param(
        0.005, unit="m³/s", range=(0, 1e4), slider=(0, 0.05), rate=True, help="Of sand as it settles",
        when={"how": ["at a rate"]},
    )  # fmt: skip
    burst: float = param(
        0.0, unit="m³", range=(0, 1e4), slider=(0, 1), help="At once when it begins, besides",
        when={"how": ["at a rate"]},
    )  # fmt: skip
    velocity: Vec3 = param((0, 0, 0), unit="m/s", help="That grains are born with", group="Velocity")
    velocity_by: FieldId = param(
        "", optional=True, label="Velocity from", help="A vector lane in m/s, added to it", group="Velocity"
    )
    own_motion: float = param(
        1.0, range=(-2, 2), help="Share of the shape's own velocity that they are given: moving, turning, growing",
        group="Velocity",
    )  # fmt: skip
    colour: Vec3 = param((1, 1, 1), help="Red, green and blue, 0 to 1, in a lane that has Colour", group="Colour")
    colour_by: FieldId = param(
        "", optional=True, label="Colour from", help="A vector lane at birth: red, green and blue", group="Colour"
    )
    channel: str = param("", help="A channel that it gives, by name", group="A channel")
    amount: float = param(1.0, slider=(0, 10), varies=True, help="Of that channel, at birth", group="A channel")
    life: float = param(
        0.0, unit="s", range=(0, 1e5), slider=(0, 20), help="Mean time from birth until it goes; 0 stays", group="Life"
    )
    life_variation: float = param(0.25, range=(0, 1), help="Lives differ by this share, more or less", group="Life")
    begin: float = param(
        0.0, unit="s", moment=True, range=(-1e5, 1e5), slider=(0, 10), help="When it starts", group="When"
    )
    until: float = param(
        1e4, unit="s", moment=True, range=(-1e5, 1e5), slider=(0, 20), help="When it stops", group="When"
    )
    seed: int = param(1, range=(0, 2**31 - 1), help="Another number, other places", group="When")

    wants = {"by": "scalar", "velocity_by": "vector", "colour_by": "vector"}

    @property
    def shaped(self) -> bool:
        return self.where in SHAPES

    def keeps(self) -> dict[str, int]:
        return {self.channel: 1} if self.channel else {}

    def check(self, scene: Scene, where: str) -> None:
        super().check(scene, where)
        self.check_place(scene, where)
        if self.channel:
            channel_name(self.channel, f"{where}.channel", BASE)
        if self.where == "everywhere" and self.how == "at a rate":
            raise StudyError(
                "a rate needs a place to come from", where=f"{where}.where", fix="choose a shape, or keep it filled"
            )
        if not self.shaped:
            return
        if not self.shape:
            raise StudyError("no shape is chosen", where=f"{where}.shape", fix="choose what the grains come out of")
        shape = scene.shape(self.shape)
        if self.where == ON_A_CURVE and not isinstance(shape.kind, Tube):
            raise StudyError("has no curves", where=f"shapes.{self.shape}", fix="choose a curve, or another place")
        lower, upper = shape.box
        if shape.kind.bounded and float((upper - lower).max()) <= 0:
            raise StudyError(
                "has no size, so nothing comes out of it", where=f"shapes.{self.shape}", fix="make it larger"
            )

    # when --------------------------------------------------------------------------------------------------------

    def pours(self, begun: float, ended: float) -> bool:
        """Whether it brings anything in a span of time (or at its end, if it has no length)."""
        first = self.begin <= ended + 1e-9 if ended <= begun else begun < self.begin <= ended + 1e-9
        if ended <= begun:
            return first and ended + 1e-9 < self.until
        if self.how == "filled once":
            return first
        return min(ended, self.until) > max(begun, self.begin) + 1e-9

    # where -------------------------------------------------------------------------------------------------------

    @property
    def margin(self) -> float:
        """How far from its shape or points it reaches, in m."""
        return {"shell": self.thickness, "particles": self.radius, "along": self.radius}.get(self.where, 0.0)

    def reached(self, domain: GridRegion, scene: Scene, particles_of: Any) -> tuple[Array, Array] | None:
        """Lower and upper cell in the domain that it may fill; None if it is nowhere. Both (3,) int."""
        if self.where == "everywhere":
            return np.zeros(3, int), np.array(domain.shape)
        if self.where == "particles":
            points = particles_of(self.flow, scene.time)[0].T
            if not len(points):
                return None
        else:
            shape = scene.shape(self.shape)
            if not shape.kind.bounded:
                return np.zeros(3, int), np.array(domain.shape)
            lower, upper = shape.box
            points = np.array([[(lower, upper)[b][a] for a, b in enumerate(x)] for x in np.ndindex(2, 2, 2)])
        own = (points @ domain.axes - np.array(domain.lower)) / domain.voxel_size
        more = self.margin / domain.voxel_size + 0.5
        low = np.clip(np.floor(own.min(axis=0) - more).astype(int), 0, domain.shape)
        high = np.clip(np.ceil(own.max(axis=0) + more).astype(int), 0, domain.shape)
        return (low, high) if (high > low).all() else None

    def holds(self, domain: GridRegion, scene: Scene) -> float:
        """About how much, in m³, of the domain it fills."""
        reach = self.reached(domain, scene, lambda *_: (np.zeros((3, 0), np.float32),) * 2)
        if reach is None:
            return 0.0
        low, high = reach
        whole = float(np.prod((high - low) * domain.voxel_size))
        if not self.shaped or self.where == ON_A_CURVE:
            return whole
        own = np.random.default_rng(7).uniform(low, high, (TRIED, 3)).T * domain.voxel_size
        points = domain.to_scene(np.ascontiguousarray(own + np.array(domain.lower)[:, None], np.float32))
        d = scene.shape(self.shape).distance(points)[0]
        inside = (d >= 0) & (d < self.thickness) if self.where == "shell" else d < 0
        return whole * float(inside.mean())

    def mouth(self, domain: GridRegion, scene: Scene) -> float:
        """About how wide, in m², it is where grains pour out."""
        return self.holds(domain, scene) ** (2 / 3)

    def source(self, part: Placed, work: Work) -> None:
        end = work.scene.time
        if not self.pours(work.begun, end):
            return
        if self.how == "at a rate":
            places, numbers = self._at_a_rate(part, work)
        else:
            reach = self.reached(work.domain, work.scene, work.flow.particles_of)
            if reach is None:
                return
            places, numbers = self._to_fill(work, reach)
        if not places.shape[1]:
            return
        told = work.sources.setdefault(part.where, [0, 0, 0])
        told[0] += places.shape[1]
        clear = work.flow.in_the_open(work, places)
        told[2] += int((~clear).sum())
        if self.by and clear.any():
            clear[clear] = work.at(self.by, work.points(np.ascontiguousarray(places[:, clear]))) > 0.5
        places, numbers = np.ascontiguousarray(places[:, clear]), numbers[clear]
        if self.how == "at a rate":
            room = self._room(work, places)
            told[1] += int((~room).sum())
            work.refused += int((~room).sum())
            places, numbers = np.ascontiguousarray(places[:, room]), numbers[room]
        if places.shape[1]:
            self._join(part, work, places, numbers)

    def _to_fill(self, work: Work, reach: tuple[Array, Array]) -> tuple[Array, Array]:
        """Free places (3, m) in cells of the window, two along each side of a cell, inside the source; and a number for
        each."""
        low, high = reach
        size = 2 * (high - low)
        many = int(np.prod(size.astype(np.int64)))
        if many > MOST_PLACES:
            raise StudyError(
                f"{many:,} places are too many to be filled at once", where=f"flows.{work.flow.id}",
                fix="a larger spacing, or a smaller source",
            )  # fmt: skip
        cube = np.stack(np.unravel_index(np.arange(many), tuple(size)))
        number = np.ravel_multi_index(
            tuple(cube + 2 * low[:, None]), tuple(2 * np.array(work.domain.shape, np.int64))
        ).astype(np.uint64)
        turn = np.uint64(work.born & 0xFFFFFF) << np.uint64(38)  # other places the next time
        jitter = np.stack([uniform(self.seed, number ^ turn, USE_JITTER + i) for i in range(3)]) - 0.5
        at = np.asarray((cube + 0.5 + JITTER * jitter) / 2 + (low - work.origin)[:, None], np.float32)
        at = np.ascontiguousarray(at[:, self._inside(work, work.scene, work.points(np.ascontiguousarray(at)))])
        if work.count and at.shape[1]:
            at = np.ascontiguousarray(at[:, self._free(work, at)])
        return at, np.arange(work.born, work.born + at.shape[1])

    def _free(self, work: Work, places: Array) -> Array:
        """Which of the places (3, m) have room: where the grains that are in the source are not as close as it fills
        them."""
        q = work.sand.get(kernels.PLACE)
        order = transfer.order_by_cell(q, work.shape)
        q = order.sorted(q)
        own, margin = np.zeros(q.shape[1], bool), np.float32(1)
        low, high = places.min(axis=1)[:, None] - margin, places.max(axis=1)[:, None] + margin
        near = np.flatnonzero(((q >= low) & (q <= high)).all(axis=0))
        if near.size:
            own[near] = self._inside(work, work.scene, work.points(np.ascontiguousarray(q[:, near])))
        taken = np.empty(places.shape[1], bool)
        free_places(places, q, own, order.start, work.shape, np.float32(ROOM), np.float32(APART), taken)
        return taken

    def _inside(self, work: Work, scene: Scene, points: Array) -> Array:
        from scipy.spatial import cKDTree

        if self.where == "everywhere":
            return np.ones(points.shape[1], bool)
        if self.where == "particles":
            there, _ = work.flow.particles_of(self.flow, scene.time)
            if not there.shape[1]:
                return np.zeros(points.shape[1], bool)
            return np.isfinite(cKDTree(there.T).query(points.T, distance_upper_bound=self.radius)[0])
        shape = scene.shape(self.shape)
        if self.where == ON_A_CURVE:
            line = shape.to_scene(scattered.along_curves(shape, self.seed, np.arange(4096)))
            return np.isfinite(cKDTree(line).query(points.T, distance_upper_bound=self.radius)[0])
        d = shape.distance(points)[0]
        return (d >= 0) & (d < self.thickness) if self.where == "shell" else d < 0

    # at a rate ---------------------------------------------------------------------------------------------------

    def count_by(self, part: Placed, flow: GrainFlow, time: float) -> int:
        """How many grains it has wanted to bring by a time."""
        if time < self.begin:
            return 0
        total = flow.total_of(part, "rate")
        volume = self.burst + max(0.0, total(min(time, self.until)) - total(self.begin))
        return int(np.floor(volume / flow.spacing**3 + 1e-6))

    def _at_a_rate(self, part: Placed, work: Work) -> tuple[Array, Array]:
        """Places (3, m) in cells of the window where grains come out in this substep, and their numbers."""
        end = work.scene.time
        # what begins with the first frame was brought on it
        began = work.dt == 0 or (self.begin > 0 and work.begun <= self.begin + 1e-9)
        first = 0 if began else self.count_by(part, work.flow, work.begun)
        last = self.count_by(part, work.flow, end)
        if last - first > MOST_PLACES:
            raise StudyError(
                f"{last - first:,} grains at once are too many", where=f"{part.where}.rate",
                fix="a lower rate, or a larger spacing",
            )  # fmt: skip
        numbers = np.arange(first, last)
        if not numbers.size:
            return np.zeros((3, 0), np.float32), numbers
        share = np.linspace(0, 1, numbers.size + 1)[1:]
        points = self._scattered(work, numbers, share)
        h, low = work.domain.voxel_size, np.array(work.domain.lower, np.float32)[:, None]
        own = work.domain.to_own(np.ascontiguousarray(points.T, np.float32))
        return np.ascontiguousarray((own - low) / np.float32(h) - work.origin[:, None].astype(np.float32)), numbers

    def _scattered(self, work: Work, numbers: Array, share: Array) -> Array:
        """Places (n, 3) in the scene of grains with these numbers, born `share` of the way through the substep."""
        if self.where == "particles":
            there, _ = work.flow.particles_of(self.flow, work.scene.time)
            if not there.shape[1]:
                return np.full((len(numbers), 3), np.inf)
            which = (uniform(self.seed, numbers, USE_JITTER) * there.shape[1]).astype(int)
            return np.asarray(there.T[which] + self._about(numbers))
        after = work.scene.shape(self.shape)
        before = work.scene.sibling(work.begun).shape(self.shape) if work.dt else after
        if self.where == ON_A_CURVE:
            local = scattered.along_curves(before, self.seed, numbers)
        elif self.where == "shell":
            local = scattered.on_surface(before, self.seed, numbers)
        else:
            local = scattered.in_volume(before, self.seed, numbers)
        points = scattered.between(before, after, local, share)
        if self.where == "inside":
            return points
        if self.where == ON_A_CURVE:
            return np.asarray(points + self._about(numbers))
        _, normal, _ = after.distance(np.ascontiguousarray(points.T), 1)
        assert normal is not None
        out = self.thickness * uniform(self.seed, numbers, USE_JITTER + 3)
        return np.asarray(points + out[:, None] * normal.T)

    def _about(self, numbers: Array) -> Array:
        """Places (n, 3) evenly in a ball of the radius about nothing."""
        z = 2 * uniform(self.seed, numbers, USE_JITTER + 4) - 1
        turn = 2 * np.pi * uniform(self.seed, numbers, USE_JITTER + 5)
        r = self.radius * np.cbrt(uniform(self.seed, numbers, USE_JITTER + 6))
        flat = np.sqrt(np.maximum(1 - z * z, 0))
        return np.stack([r * flat * np.cos(turn), r * flat * np.sin(turn), r * z], axis=1)

    def _room(self, work: Work, places: Array) -> Array:
        """Which of the places (3, m) are in cells that hold fewer grains than is too tight, those before them counted
        in."""
        shape = work.shape
        cell = np.floor(places).astype(np.int64)
        inside = ((cell >= 0) & (cell < np.array(shape)[:, None])).all(axis=0)
        room = np.zeros(places.shape[1], bool)
        flat = np.ravel_multi_index(tuple(cell[:, inside]), shape)
        there = np.floor(work.sand.get(kernels.PLACE)).astype(np.int64)
        held = np.bincount(np.ravel_multi_index(tuple(there), shape), minlength=int(np.prod(shape)))
        order = np.argsort(flat, kind="stable")
        run = flat[order]
        first = np.searchsorted(run, run)
        turn = np.empty(len(run), np.int64)
        turn[order] = np.arange(len(run)) - first
        room[inside] = held[flat] + turn < CROWD * FULL
        return room

    # births ------------------------------------------------------------------------------------------------------

    def _join(self, part: Placed, work: Work, q: Array, numbers: Array) -> None:
        n, points = q.shape[1], work.points(q)
        velocity = np.broadcast_to(np.array(self.velocity, np.float32)[:, None], (3, n)).copy()
        if self.own_motion:
            velocity += np.float32(self.own_motion) * self._moving(work, points)
        if self.velocity_by:
            velocity = velocity + work.at(self.velocity_by, points)
        velocity -= np.float32(0.5 * work.before) * work.flow.falling(work.begun)[:, None]
        if not np.isfinite(velocity).all():
            raise StudyError(
                "the velocity is not a number everywhere", where=f"{part.where}.velocity_by", fix="look at its lane"
            )
        fresh = np.zeros((kernels.ROW, n), np.float32)
        fresh[kernels.PLACE] = q
        fresh[kernels.MOVING] = work.along(velocity)
        fresh[kernels.SPREAD] = LOOSE if self.how == "at a rate" else 0
        own: dict[str, Array] = {
            "id": np.arange(work.born, work.born + n, dtype=np.int64).astype(np.uint32),
            "age": np.zeros(n, np.float32), "life": self._lives(numbers),
        }  # fmt: skip
        if "colour" in work.own:
            tint = work.at(self.colour_by, points) if self.colour_by else np.array(self.colour)[:, None]
            own["colour"] = np.clip(np.broadcast_to(tint, (3, n)), 0, 1).astype(np.float32)
        for name, looked_up in work.flow.at_birth.items():
            own[name] = np.asarray(looked_up(work, points), np.float32)
        if self.channel:
            own[self.channel] = np.array(np.broadcast_to(work.number_at(part, "amount", points), n), np.float32)
        work.join(fresh, own)

    def _lives(self, numbers: Array) -> Array:
        if not self.life:
            return np.zeros(len(numbers), np.float32)
        u = uniform(self.seed, numbers, USE_LIFE)
        return np.asarray(self.life * (1 + self.life_variation * (2 * u - 1)), np.float32)

    def _moving(self, work: Work, points: Array) -> Array:
        """Velocity (3, n) in the scene of what grains at points (3, n) come out of."""
        from scipy.spatial import cKDTree

        if self.where == "particles":
            there, velocity = work.flow.particles_of(self.flow, work.scene.time)
            if not there.shape[1]:
                return np.zeros_like(points)
            return np.asarray(velocity[:, cKDTree(there.T).query(points.T)[1]])
        if not self.shaped:
            return np.zeros_like(points)
        shape: PlacedShape = work.scene.shape(self.shape)
        return shape.surface_velocity(points) if shape.moves else np.zeros_like(points)
