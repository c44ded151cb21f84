"""Steps of a liquid lane: what one is, what it works on, and the Domain."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar, Literal

import numpy as np

from errant_gust.core.blocks import Cancel
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.sampling import sample
from errant_gust.core.flows.boxed import Sides
from errant_gust.core.flows.step import FlowStep, Placed
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.grids.staggered.faces import Triple
from errant_gust.core.study.parameters import RegionId, param

if TYPE_CHECKING:
    from errant_gust.core.fields.scene import Scene
    from errant_gust.core.flows.liquid.flow import LiquidFlow

SORT = "liquid"
THIN, THICK = 0.0, 1e9
"""m²/s: what a viscosity may be."""
LEAST = np.float32(1e-12)
"""m²/s: less counts as none; so that it has a logarithm."""


@dataclass
class Work:
    """One step in time, and what the steps of the lane do in it.

    a: arrays of the particles by name, `q` their places (3, n) in cells of the domain, `velocity` along the domain's
    axes, in the middle of the step before. scene: at the step's end, but at its beginning while forces act; dt in
    seconds (0 when the first frame is filled). before: seconds of the step before; kick: for how long forces act, from
    the middle of that to the middle of this one. The grid is that of `window`, whose first cell in the domain is
    `origin`; phi, faces and near (flat indices of the cells by the liquid) are known once particles were taken onto it.
    """

    flow: LiquidFlow
    scene: Scene
    a: dict[str, Array]
    dt: float
    begun: float
    window: GridRegion
    origin: Array
    cancel: Cancel | None = None
    before: float = 0.0
    phi: Array | None = None
    faces: Triple | None = None
    near: Array | None = None
    tension: float = 0.0
    born: int = 0
    sourced: int = 0
    left: list[int] = field(default_factory=lambda: [0] * 7)
    met: dict[str, float] = field(default_factory=dict)
    """Of pushes, by their place: how much of the liquid they reached (0 … 1)."""
    kept: dict[str, Array] = field(default_factory=dict)
    fronts: Any = None
    """Boundaries of this step: see `flow.Fronts`."""

    def __post_init__(self) -> None:
        self.kick = 0.5 * (self.before + self.dt) if self.dt else 0.0

    @property
    def domain(self) -> GridRegion:
        """The region that the liquid stays in."""
        return self.flow.domain

    @property
    def gained(self) -> int:
        """How many particles there are beyond those that came out of sources and did not leave."""
        return self.count - self.sourced + sum(self.left)

    @property
    def count(self) -> int:
        """How many particles there are."""
        return int(self.a["id"].size)

    def points(self, q: Array | None = None) -> Array:
        """Places (3, n) in the scene of particles, or of places in cells of the domain."""
        q = self.a["q"] if q is None else q
        own = q * np.float32(self.domain.voxel_size) + np.array(self.domain.lower, np.float32)[:, None]
        return self.domain.to_scene(np.ascontiguousarray(own))

    def along(self, vectors: Array) -> Array:
        """Vectors (3, n) of the scene along the domain's axes."""
        return self.domain.to_own(np.ascontiguousarray(vectors, np.float32))

    def at(self, lane: str, points: Array) -> Array:
        """A field lane at points (3, n) of the scene: (n,) or (3, n) along the scene's axes."""
        made = sample(self.scene.lane(lane), np.ascontiguousarray(points.T), cancel=self.cancel)[0]
        return np.ascontiguousarray(made.T)

    def number_at(self, part: Placed, name: str, points: Array) -> Any:
        """A number of a step, or what the field in its place is at points (3, n)."""
        lane = part.varying.get(name)
        return self.at(lane, points) if lane else np.float32(getattr(part.step, name))

    def lane(self, lane: str) -> Array:
        """A field lane in the cells by the liquid, (nx, ny, nz) or (3, nx, ny, nz) along the window's axes; zero
        elsewhere."""
        if lane not in self.kept:
            assert self.near is not None
            made = self.at(lane, self.window.centres_at(self.near))
            if made.ndim == 2:
                made = self.along(made)
            out = np.zeros((*made.shape[:-1], self.window.voxels), np.float32)
            out[..., self.near] = made
            self.kept[lane] = out.reshape(*made.shape[:-1], *self.window.shape)
        return self.kept[lane]

    def number(self, part: Placed, name: str) -> Any:
        """A number of a step, or what the field in its place is in every cell by the liquid."""
        lane = part.varying.get(name)
        return self.lane(lane) if lane else np.float32(getattr(part.step, name))

    def up(self) -> Array:
        """The scene's z along the window's axes (3,)."""
        return np.asarray(self.domain.axes.T @ np.array([0.0, 0.0, 1.0]), np.float32)


class LiquidStep(FlowStep):
    """One operation in a liquid lane. A subclass declares its parameters and does its part; the rest follows."""

    sort = SORT
    family: ClassVar[Literal["domain", "source", "force", "change", "solid", "drawn"]]

    def keeps(self) -> dict[str, int]:
        """Channels that this step needs, and how many components each has."""
        return {}

    def understood(self, channels: tuple[str, ...], where: str) -> None:
        """Raise a StudyError if it names a channel that is not there."""

    def source(self, part: Placed, work: Work) -> None:
        """Bring liquid in."""

    def thicken(self, part: Placed, work: Work) -> None:
        """Change the viscosity of particles."""

    def pushes(self, part: Placed, work: Work) -> None:
        """Change the velocities on the faces over dt."""

    def limit(self, part: Placed, work: Work) -> None:
        """Change the velocities of particles before they are carried."""

    def change(self, part: Placed, work: Work) -> None:
        """Change channels after the particles were carried."""

    def drained(self, part: Placed, work: Work) -> Array | None:
        """Which particles (n,) go."""
        return None


class Domain(LiquidStep, Sides):
    """Where the liquid is computed, how finely, and which sides it runs out of.

    A closed side is a wall without friction; through an open one liquid leaves for good. Only the part of the region
    that holds liquid costs anything. A voxel that is full holds so many particles: 8 is what the accuracy is measured
    with.
    """

    id = "domain"
    label = "Domain"
    family = "domain"
    yields = "the space that liquid is in"
    mistake = (
        "Sheets thinner than a voxel tear into drops, films on the floor stay a voxel thick: make voxels a third of "
        "what should be seen. Twice as fine costs sixteen times the time."
    )
    headline = "region"

    region: RegionId = param(help="The box and the voxel size")
    preview_voxels: float = param(2.0, unit="×", range=(1, 8), help="Size of voxels in a preview run")
    along: int = param(
        2, range=(1, 4), label="Particles along a voxel", help="2 are eight in a voxel, 3 are twenty-seven"
    )
    flip: float = param(
        0.0, range=(0, 1), label="FLIP share",
        help="Livelier and noisier splashes: particles keep their own motion by so much. For thick liquid 0",
    )  # fmt: skip
    hold: bool = param(
        True, label="Hold the volume", help="What is crowded spreads and what is thinned out closes, gently"
    )
    reseed: bool = param(
        True, help="Deep inside, voxels that have run empty are filled and crowded ones thinned, once a frame"
    )
    west: bool = param(False, label="Open at −x", help="Liquid leaves through this side", group="Open sides")
    east: bool = param(False, label="Open at +x", help="Liquid leaves through this side", group="Open sides")
    south: bool = param(False, label="Open at −y", help="Liquid leaves through this side", group="Open sides")
    north: bool = param(False, label="Open at +y", help="Liquid leaves through this side", group="Open sides")
    below: bool = param(False, label="Open below", help="If not, its floor is a wall", group="Open sides")
    above: bool = param(True, label="Open above", help="Liquid leaves through this side", group="Open sides")
    stick: float = param(
        0.0, range=(0, 1), label="Sides stick", help="How viscous liquid sticks to closed sides: 0 slides, 1 holds",
        group="Closed sides",
    )  # fmt: skip
    friction: float = param(
        0.0, range=(0, 1), label="Sides' friction", group="Closed sides",
        help="Share of the speed along a side that a touch of a 24th of a second takes",
    )  # fmt: skip
    longest: float = param(2.0, unit="voxels", range=(0.25, 4), help="Longest way in a substep", group="Steps in time")
    most_substeps: int = param(
        32, range=(1, 512), help="More than these in a frame is an error, not a wait", group="Steps in time"
    )

    @property
    def full(self) -> int:
        """Particles in a full voxel."""
        return self.along**3
