"""Steps of a grain lane: what one is, what it works on, and the Domain."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar, Literal

import numpy as np

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import StudyError
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.sampling import sample
from errant_gust.core.flows.boxed import Sides
from errant_gust.core.flows.grains.bundle import Bundle
from errant_gust.core.flows.step import FlowStep, Placed
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.kernels import grains as kernels
from errant_gust.core.study.parameters import RegionId, param

if TYPE_CHECKING:
    from errant_gust.core.fields.scene import Scene
    from errant_gust.core.flows.grains.flow import GrainFlow

SORT = "grains"
SLOT = 1 / 48
"""Seconds of scene time between two looks at a field: in between it changes evenly. The same at any frame rate."""


@dataclass
class Work:
    """The grains while they are stepped, and what the steps of the lane do with them.

    sand: their numbers, places in cells of the window; own: other arrays by name, (n,) or (c, n), in
    the same order. The window is a box of nodes whose first is node `origin` of the domain; `active` are the flat
    indices (k,) of those that have grains about them, and `v` (3, k) their velocities along the domain's axes. scene:
    at the end of the substep of dt seconds, which begins at `begun`; before: seconds of the one before; kick: for how
    long forces act, from the middle of that to the middle of this one.
    """

    flow: GrainFlow
    scene: Scene
    sand: Bundle
    own: dict[str, Array]
    origin: Array
    shape: tuple[int, int, int]
    dt: float = 0.0
    before: float = 0.0
    kick: float = 0.0
    begun: float = 0.0
    lasts: float = 0.0
    """Seconds of the frame that is being computed; none for the first, which shows what sources hold."""
    cancel: Cancel | None = None
    born: int = 0
    refused: int = 0
    left: list[int] = field(default_factory=lambda: [0] * 7)
    active: Array = field(default_factory=lambda: np.zeros(0, np.int64))
    v: Array = field(default_factory=lambda: np.zeros((3, 0), np.float32))
    drift: float = np.inf
    """Cells that a grain went at most since they were sorted."""
    speed: float = 0.0
    """The greatest, in m/s."""
    start: Array = field(default_factory=lambda: np.zeros(1, np.int32))
    met: dict[str, float] = field(default_factory=dict)
    """Of pushes, by their place: how much of the sand they reached (0 … 1)."""
    sources: dict[str, list[int]] = field(default_factory=dict)
    """Of sources, by their place: how many they wanted to bring, had no room for, and would have put into a wall."""
    capped: int = 0
    """Nodes that a push wanted to be faster than a step in time can follow."""
    _lanes: dict[Any, Any] = field(default_factory=dict)

    @property
    def domain(self) -> GridRegion:
        """The region that the grains stay in."""
        return self.flow.domain

    @property
    def count(self) -> int:
        """How many grains there are."""
        return self.sand.count

    def points(self, q: Array | None = None) -> Array:
        """Places (3, n) in the scene of grains, or of places in cells of the window."""
        if q is None:
            q = self.sand.get(kernels.PLACE)
        h = np.float32(self.domain.voxel_size)
        low = np.array(self.domain.lower, np.float32)[:, None] + h * self.origin[:, None].astype(np.float32)
        return self.domain.to_scene(np.ascontiguousarray(q * h + low))

    def along(self, vectors: Array) -> Array:
        """Vectors (3, n) of the scene along the domain's axes."""
        return self.domain.to_own(np.ascontiguousarray(vectors, np.float32))

    def velocities(self) -> Array:
        """Velocities (3, n) of grains in the scene: in the middle of the last substep, at a frame's end at its own
        time."""
        made = self.domain.to_scene(self.sand.get(kernels.MOVING))
        return np.asarray(made + self.own["lag"]) if "lag" in self.own else made

    def at(self, lane: str, points: Array, scene: Scene | None = None) -> Array:
        """A field lane at points (3, n) of the scene: (n,) or (3, n) along the scene's axes."""
        made = sample((scene or self.scene).lane(lane), np.ascontiguousarray(points.T), cancel=self.cancel)[0]
        return np.ascontiguousarray(made.T)

    def number_at(self, part: Placed, name: str, points: Array) -> Any:
        """A number of a step, or what the field in its place is at points (3, n)."""
        lane = part.varying.get(name)
        return self.at(lane, points) if lane else np.float32(getattr(part.step, name))

    # nodes -------------------------------------------------------------------------------------------------------

    def node_points(self, at: Array) -> Array:
        """Places (3, k) in the scene of nodes by their flat index."""
        return self.points(np.stack(np.unravel_index(at, self.shape)).astype(np.float32))

    def lane(self, lane: str, where: str) -> Array:
        """A field lane at the active nodes, (k,) or (3, k) along the domain's axes: looked up every 48th of a second
        and once a node, and evenly in between; as it is when the substep begins."""
        slot = int(np.floor(self.begun / SLOT + 1e-6))
        share = np.float32(np.clip(self.begun / SLOT - slot, 0, 1))
        before, after = (self._looked_up(lane, n, where) for n in (slot, slot + 1))
        return before + share * (after - before)

    def _looked_up(self, lane: str, slot: int, where: str) -> Array:
        vector = self.scene.lane(lane).kind == "vector"
        known, values = self._lanes.get((lane, slot), (None, None))
        if known is None:
            for key in [k for k in self._lanes if k[0] == lane and abs(k[1] - slot) > 1]:
                del self._lanes[key]
            size = int(np.prod(self.shape))
            known, values = np.zeros(size, bool), np.zeros((3, size) if vector else size, np.float32)
            self._lanes[lane, slot] = known, values
        at = self.active
        new = at[~known[at]]
        if new.size:
            made = self.at(lane, self.node_points(new), self.flow.scene_at(slot * SLOT))
            if not np.isfinite(made).all():
                raise StudyError(
                    f"'{lane}' is not a number everywhere in the sand", where=where, fix="look at its lane"
                )
            values[..., new] = self.along(made) if vector else made
            known[new] = True
        return np.asarray(values[..., at])

    def number(self, part: Placed, name: str) -> Any:
        """A number of a step, or what the field in its place is at the active nodes."""
        lane = part.varying.get(name)
        return self.lane(lane, f"{part.where}.{name}") if lane else np.float32(getattr(part.step, name))

    def join(self, made: Array, own: dict[str, Array]) -> None:
        """New grains: their numbers (ROW, m) and other arrays."""
        self.sand = self.sand.joined(made)
        for name, a in self.own.items():
            fresh = own.get(name)
            if fresh is None:
                fresh = np.zeros((*a.shape[:-1], made.shape[1]), a.dtype)
            self.own[name] = np.concatenate([a, fresh.astype(a.dtype)], axis=-1)
        self.born += made.shape[1]
        self.drift = np.inf

    def keep(self, some: Array) -> None:
        """Only some (n,) of the grains are left."""
        self.sand = self.sand.some(np.flatnonzero(some))
        self.own = {k: np.ascontiguousarray(v[..., some]) for k, v in self.own.items()}
        self.drift = np.inf

    def moved(self) -> None:
        """The window is another: what was looked up in it is no longer known."""
        self._lanes.clear()


class GrainStep(FlowStep):
    """One operation in a grain lane. A subclass declares its parameters and does its part; the rest follows."""

    sort = SORT
    family: ClassVar[Literal["domain", "source", "force", "change", "solid", "drawn"]]

    def keeps(self) -> dict[str, int]:
        """Channels that this step needs, and how many components each has."""
        return {}

    def understood(self, channels: tuple[str, ...], where: str) -> None:
        """Raise a StudyError if it names a channel that is not there."""

    def source(self, part: Placed, work: Work) -> None:
        """Bring grains in."""

    def material(self, part: Placed, work: Work, some: Array) -> None:
        """Set what grains (by index) are made of. `some` (n,)."""

    def pushes(self, part: Placed, work: Work) -> None:
        """Change the velocities of nodes over dt."""

    def change(self, part: Placed, work: Work) -> None:
        """Change channels, once a frame."""

    def taken(self, part: Placed, work: Work) -> Array | None:
        """Which grains (n,) go."""
        return None


class Domain(GrainStep, Sides):
    """Where grains are computed, how far apart they stand, and which sides they leave through.

    The spacing is the quality dial: half of it is eight times as many grains and sixteen times the time. Only the part
    of the region that holds grains costs anything. How stiff the sand is follows from the height of the region and its
    spacing: so stiff that it does not sink under its own weight, and no stiffer, since steps in time grow short with
    it.
    """

    id = "domain"
    label = "Domain"
    family = "domain"
    yields = "the space that grains are in"
    mistake = (
        "A region far higher than the heap makes the sand stiffer than it has to be, and slower: fit it to the action. "
        "A heap of fewer than ten grains in height is too coarse to keep its slope."
    )
    headline = "spacing"

    region: RegionId = param(help="The box that holds them")
    spacing: float = param(
        0.02, unit="m", above=0, slider=(0.002, 0.2), help="How far grains stand apart: the quality dial"
    )
    preview_spacing: float = param(2.0, unit="×", range=(1, 8), label="In a preview", help="Times as far apart")
    density: float = param(1600.0, unit="kg/m³", above=0, slider=(100, 3000), help="Of settled sand; scales pressure")
    stiffness: float = param(
        0.0, unit="kPa", range=(0, 1e9), slider=(0, 2000),
        help="How hard it is to press together; 0 finds what the height needs. Four times as stiff takes twice as long",
    )  # fmt: skip
    west: bool = param(True, label="Open at −x", help="Grains leave through this side", group="Open sides")
    east: bool = param(True, label="Open at +x", help="Grains leave through this side", group="Open sides")
    south: bool = param(True, label="Open at −y", help="Grains leave through this side", group="Open sides")
    north: bool = param(True, label="Open at +y", help="Grains leave through this side", group="Open sides")
    below: bool = param(False, label="Open below", help="If not, its floor is a wall", group="Open sides")
    above: bool = param(True, label="Open above", help="Grains leave through this side", group="Open sides")
    friction: float = param(
        0.6, range=(0, 10), slider=(0, 1.5), label="Sides' friction", group="Closed sides",
        help="Coefficient: 0 slides, 0.6 is sand on wood, above the sand's own it holds",
    )  # fmt: skip
    longest: float = param(
        0.4, unit="voxels", range=(0.05, 0.9), help="Longest way in a substep", group="Steps in time"
    )
    most_substeps: int = param(
        400, range=(1, 10_000), help="More than these in a frame is an error, not a wait", group="Steps in time"
    )
