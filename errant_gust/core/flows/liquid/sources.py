"""Source: what brings liquid in."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

import numpy as np

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows.boxed import SHAPED, Fills
from errant_gust.core.flows.channels import channel_name
from errant_gust.core.flows.liquid.state import BASE
from errant_gust.core.flows.liquid.steps import THICK, LiquidStep, Work
from errant_gust.core.flows.random import uniform
from errant_gust.core.flows.step import Placed
from errant_gust.core.geometry.placed import PlacedShape
from errant_gust.core.grids import transfer
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.kernels.seeding import free_places
from errant_gust.core.study.parameters import FieldId, FlowId, ShapeId, Vec3, param

ROOM = 0.8
"""Of a full voxel: where particles weigh less, there is room for another."""
APART = 0.15  # voxels, at least, between a new particle and any other, at eight in a voxel
JITTER = 0.68  # of the space that a particle has
MOST_LOOKS = 24  # at a moving source in a substep
MOST_PLACES = 40_000_000
USE_PLACE = 61


class Source(LiquidStep, Fills):
    """Brings liquid in: fills a shape, a layer on its surface, the surroundings of particles, or wherever a lane says,
    and keeps it filled until it stops, or once. What moves fills all that it sweeps.

    Nothing is born where there is liquid already, so that two sources at one place do not make two layers. Velocity,
    viscosity and colour are looked up once, where and when a particle is born: a field in their place varies the
    liquid from particle to particle.
    """

    id = "source"
    label = "Source"
    family = "source"
    yields = "liquid where a shape, particles or a field are"
    mistake = (
        "A source stops pouring where the liquid cannot get away: give it a velocity, or lift it above the surface. "
        "One that is thinner than two voxels drips."
    )
    headline = "shape"

    where: Literal["inside", "shell", "particles", "everywhere"] = param(
        "inside", help="In a shape, in a layer on its surface, around particles, or wherever a lane says"
    )
    shape: ShapeId = param("", help="Where", when={"where": SHAPED})
    thickness: float = param(
        0.1, unit="m", above=0, slider=(0.01, 1), help="Of the layer, outside of the surface", when={"where": ["shell"]}
    )
    flow: FlowId = param(
        "", label="Particles of", help="A lane that has points", when={"where": ["particles"]}, provides="points"
    )
    radius: float = param(
        0.1, unit="m", above=0, slider=(0.01, 1), help="Around each particle", when={"where": ["particles"]}
    )
    by: FieldId = param("", optional=True, label="Only where", help="A scalar lane: above ½ it pours")
    velocity: Vec3 = param((0, 0, 0), unit="m/s", help="That liquid is born with", group="Velocity")
    velocity_by: FieldId = param(
        "", optional=True, label="Velocity from", help="A vector lane in m/s, added to it", group="Velocity"
    )
    own_motion: float = param(
        1.0, range=(-2, 2), help="Share of the shape's own velocity that it is given: moving, turning, growing",
        group="Velocity",
    )  # fmt: skip
    viscosity: float = param(
        1e-6, unit="m²/s", range=(0, THICK), slider=(0, 1), varies=True,
        help="Kinematic: water 1e-6, oil 1e-4, honey 1e-2, molten glass 1; a field varies it at birth",
    )  # fmt: skip
    colour: Vec3 = param((1, 1, 1), help="Red, green and blue, 0 to 1, in a lane that has Colour", group="Colour")
    colour_by: FieldId = param(
        "", optional=True, label="Colour from", help="A vector lane at birth: red, green and blue", group="Colour"
    )
    channel: str = param("", help="A channel that it gives, by name", group="A channel")
    amount: float = param(1.0, slider=(0, 10), varies=True, help="Of that channel, at birth", group="A channel")
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
    seed: int = param(1, range=(0, 2**31 - 1), help="Another number, other places", group="When")

    wants = {"by": "scalar", "velocity_by": "vector", "colour_by": "vector"}

    def keeps(self) -> dict[str, int]:
        return {self.channel: 1} if self.channel else {}

    def check(self, scene: Scene, where: str) -> None:
        super().check(scene, where)
        self.check_place(scene, where)
        if self.channel:
            channel_name(self.channel, f"{where}.channel", BASE)
        if not self.shaped:
            return
        if not self.shape:
            raise StudyError("no shape is chosen", where=f"{where}.shape", fix="choose what the liquid comes out of")
        shape = scene.shape(self.shape)
        lower, upper = shape.box
        if shape.kind.bounded and float((upper - lower).max()) <= 0:
            raise StudyError(
                "has no size, so nothing comes out of it", where=f"shapes.{self.shape}", fix="make it larger"
            )

    def pours(self, begun: float, ended: float) -> bool:
        """Whether it is on in a span of time (or at its end, if it has no length)."""
        if self.timing == "all at once":
            now = self.begin <= ended + 1e-9
            return now if ended <= begun else now and self.begin > begun + 1e-9
        if ended <= begun:
            return self.begin <= ended + 1e-9 < self.until
        return min(ended, self.until) > max(begun, self.begin) + 1e-9

    def reached(self, domain: GridRegion, scenes: list[Scene], particles_of: Any) -> tuple[Array, Array] | None:
        """Lower and upper cell in the domain that it may fill in these scenes; None if it is nowhere. Both (3,) int."""
        boxes = [b for b in (self._box(domain, scene, particles_of) for scene in scenes) if b is not None]
        if not boxes:
            return None
        low = np.min([b[0] for b in boxes], axis=0)
        high = np.max([b[1] for b in boxes], axis=0)
        low, high = np.clip(low, 0, domain.shape), np.clip(high, 0, domain.shape)
        return (low, high) if (high > low).all() else None

    def _box(self, domain: GridRegion, scene: Scene, particles_of: Any) -> tuple[Array, Array] | None:
        if self.where == "everywhere":
            return np.zeros(3, int), np.array(domain.shape)
        more = 1.0
        if self.where == "particles":
            points = particles_of(self.flow, scene.time)[0].T
            if not len(points):
                return None
            more += self.radius / domain.voxel_size
        else:
            shape = scene.shape(self.shape)
            if not shape.kind.bounded:
                return np.zeros(3, int), np.array(domain.shape)
            lower, upper = shape.box
            points = np.array([[(lower, upper)[b][a] for a, b in enumerate(x)] for x in np.ndindex(2, 2, 2)])
            more += self.thickness / domain.voxel_size if self.where == "shell" else 0.0
        own = (points @ domain.axes - np.array(domain.lower)) / domain.voxel_size
        return np.floor(own.min(axis=0) - more).astype(int), np.ceil(own.max(axis=0) + more).astype(int)

    # births ------------------------------------------------------------------------------------------------------

    def source(self, part: Placed, work: Work) -> None:
        end = work.scene.time
        if not self.pours(work.begun, end):
            return
        span = (max(work.begun, self.begin), min(end, self.until)) if work.dt else (end, end)
        scenes = self.looks(work, *span)
        reach = self.reached(work.domain, scenes, work.flow.particles_of)
        if reach is None:
            return
        places, moving = self._places(work, reach, scenes)
        if not places.shape[1]:
            return
        a = work.a
        q = np.ascontiguousarray(a["q"] - work.origin[:, None].astype(np.float32))
        order = transfer.order_by_cell(q, work.window.shape)
        own = np.ascontiguousarray(places - work.origin[:, None].astype(np.float32))
        taken = np.empty(places.shape[1], bool)
        there = order.sorted(q)
        mine = self._held(work, np.ascontiguousarray(a["q"][:, order.order]), reach, scenes)
        apart = np.float32(APART * 2 / work.flow.along)
        free_places(own, there, mine, order.start, work.window.shape, np.float32(ROOM), apart, taken)
        if taken.any():
            self._join(part, work, np.ascontiguousarray(places[:, taken]), moving[:, taken])

    def _held(self, work: Work, q: Array, reach: tuple[Array, Array], scenes: list[Scene]) -> Array:
        """Which particles (3, n), in cells of the domain, are in the source."""
        low, high = (np.asarray(end, np.float32)[:, None] for end in reach)
        inside = np.zeros(q.shape[1], bool)
        near = np.flatnonzero(((q >= low) & (q < high)).all(axis=0))
        if len(near):
            points = work.points(np.ascontiguousarray(q[:, near]))
            for scene in scenes:
                inside[near] |= self._inside(work, scene, points)[0]
        return inside

    def looks(self, work: Work, begun: float, ended: float) -> list[Scene]:
        """Scenes at which the source is looked at: so many that it moves half a voxel at most between two."""
        if ended <= begun or self.where == "everywhere":
            return [work.scene]
        count = 1
        if self.where == "particles":
            _, velocity = work.flow.particles_of(self.flow, ended)
            way = float(np.sqrt((velocity**2).sum(axis=0).max())) * (ended - begun) if velocity.size else 0.0
        else:
            ends = [work.scene.sibling(t).shape(self.shape) for t in (begun, ended)]
            way = _way(*ends)
        count = int(np.clip(np.ceil(2 * way / work.domain.voxel_size - 1e-6), 1, MOST_LOOKS))
        times = [begun + (i + 1) * (ended - begun) / count for i in range(count)]
        return [work.scene if t == work.scene.time else work.scene.sibling(t) for t in times]

    def _places(self, work: Work, reach: tuple[Array, Array], scenes: list[Scene]) -> tuple[Array, Array]:
        """Where particles could be born: (3, m) in cells of the domain, inside the source and outside obstacles; and
        the velocity (3, m) in the scene of what they come out of."""
        low, high = reach
        cells = int(np.prod(high - low))
        full, along = work.flow.full, work.flow.along
        if cells * full > MOST_PLACES:
            raise StudyError(
                f"{cells * full:,} places are too many to be filled at once", where=f"flows.{work.flow.id}",
                fix="larger voxels, or a smaller source",
            )  # fmt: skip
        index = np.stack(np.unravel_index(np.arange(cells), tuple(high - low))) + low[:, None]
        number = np.ravel_multi_index(tuple(index), work.domain.shape).astype(np.uint64)
        near = self._near(work, index, scenes)
        index, number = index[:, near], number[near]
        slot = np.stack(np.meshgrid(*[np.arange(along)] * 3, indexing="ij")).reshape(3, -1)
        ids = (number[:, None] * np.uint64(full) + np.arange(full, dtype=np.uint64)).ravel()
        turn = np.uint64(work.born & 0xFFFFFF) << np.uint64(38)  # other places the next time
        jitter = np.stack([uniform(self.seed, ids ^ turn, USE_PLACE + i) for i in range(3)]) - 0.5
        q = (index[:, :, None] + (slot[:, None, :] + 0.5) / along).reshape(3, -1)
        q = np.ascontiguousarray(q + JITTER / along * jitter, np.float32)
        inside = np.zeros(q.shape[1], bool)
        moving = np.zeros((3, q.shape[1]), np.float32)
        points = work.points(q)
        for scene in scenes:
            left = np.flatnonzero(~inside)
            if not len(left):
                break
            here, velocity = self._inside(work, scene, np.ascontiguousarray(points[:, left]))
            inside[left[here]] = True
            moving[:, left[here]] = velocity[:, here]
        if self.by and inside.any():
            inside[inside] = work.at(self.by, np.ascontiguousarray(points[:, inside])) > 0.5
        inside &= work.flow.in_the_open(work, q)
        return np.ascontiguousarray(q[:, inside]), np.ascontiguousarray(moving[:, inside])

    def _near(self, work: Work, index: Array, scenes: list[Scene]) -> Array:
        """Which cells may hold places at all: by the distance of their middles."""
        if not self.shaped:
            return np.ones(index.shape[1], bool)
        points = work.points(np.ascontiguousarray(index + 0.5, np.float32))
        reach = 0.9 * work.domain.voxel_size + (self.thickness if self.where == "shell" else 0.0)
        near = np.zeros(index.shape[1], bool)
        for scene in scenes:
            near |= scene.shape(self.shape).distance(points)[0] < reach
        return near

    def _inside(self, work: Work, scene: Scene, points: Array) -> tuple[Array, Array]:
        from scipy.spatial import cKDTree

        if self.where == "everywhere":
            return np.ones(points.shape[1], bool), np.zeros_like(points)
        if self.where == "particles":
            there, velocity = work.flow.particles_of(self.flow, scene.time)
            if not there.shape[1]:
                return np.zeros(points.shape[1], bool), np.zeros_like(points)
            d, which = cKDTree(there.T).query(points.T, distance_upper_bound=self.radius)
            inside = np.isfinite(d)
            return inside, np.where(inside, velocity[:, np.minimum(which, there.shape[1] - 1)], 0)
        shape = scene.shape(self.shape)
        d = shape.distance(points)[0]
        inside = (d >= 0) & (d < self.thickness) if self.where == "shell" else d < 0
        return inside, shape.surface_velocity(points) if shape.moves else np.zeros_like(points)

    def _join(self, part: Placed, work: Work, q: Array, moving: Array) -> None:
        n, points = q.shape[1], work.points(q)
        velocity = np.array(self.velocity, np.float32)[:, None] + np.float32(self.own_motion) * moving
        if self.velocity_by:
            velocity = velocity + work.at(self.velocity_by, points)
        velocity = velocity - np.float32(0.5 * work.before) * work.flow.falling(work.begun)[:, None]
        thick = np.clip(np.broadcast_to(work.number_at(part, "viscosity", points), n), 0, THICK).astype(np.float32)
        if not np.isfinite(thick).all():
            raise StudyError(
                "the viscosity is not a number everywhere", where=f"{part.where}.viscosity", fix="look at its lane"
            )
        made: dict[str, Array] = {
            "q": q, "velocity": work.along(velocity), "lag": np.zeros((3, n), np.float32),
            "affine": np.zeros((9, n), np.float32),
            "age": np.zeros(n, np.float32), "viscosity": thick, "born_viscosity": thick.copy(),
            "id": np.arange(work.born, work.born + n, dtype=np.int64).astype(np.uint32),
        }  # fmt: skip
        for name, at_birth in work.flow.at_birth.items():
            made[name] = at_birth(work, points)
        if self.channel:
            made[self.channel] = np.array(np.broadcast_to(work.number_at(part, "amount", points), n), np.float32)
        if "colour" in work.a:
            tint = work.at(self.colour_by, points) if self.colour_by else np.array(self.colour)[:, None]
            made["colour"] = np.clip(np.broadcast_to(tint, (3, n)), 0, 1).astype(np.float32)
        for name, a in work.a.items():
            fresh = made.get(name)
            if fresh is None:
                fresh = np.zeros((*a.shape[:-1], n), a.dtype)
            work.a[name] = np.concatenate([a, fresh.astype(a.dtype)], axis=-1)
        work.born += n
        work.sourced += n


AtBirth = Callable[[Work, Array], Array]


def _way(before: PlacedShape, after: PlacedShape) -> float:
    """The longest way, in m, of a corner of a shape between two times."""
    if not (before.kind.bounded and after.kind.bounded):
        return 0.0
    signs = np.array(list(np.ndindex(2, 2, 2))) * 2 - 1
    corners = [m + (signs * half) @ turned.T for m, half, turned in (s.frame for s in (before, after))]
    return float(np.linalg.norm(corners[1] - corners[0], axis=1).max())
