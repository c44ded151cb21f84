"""Steps of a growth lane: what one is, what it works on, and the Domain."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar, Literal

import numpy as np

from errant_gust.core.blocks import Cancel
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.sampling import sample
from errant_gust.core.flows.step import FlowStep, Placed
from errant_gust.core.grids.level_set import Speeds
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.study.parameters import RegionId, param

if TYPE_CHECKING:
    from errant_gust.core.fields.scene import Scene
    from errant_gust.core.flows.growth.flow import GrowthFlow

SORT = "growth"


@dataclass
class Work:
    """What steps need to tell how the surface moves in a frame. scene: at its middle in time."""

    flow: GrowthFlow
    scene: Scene
    cancel: Cancel | None = None

    @property
    def domain(self) -> GridRegion:
        """The region that it grows in."""
        return self.flow.domain

    def at(self, lane: str, points: Array) -> Array:
        """A field lane at points (3, n) of the scene: (n,), or (3, n) along the domain's axes."""
        made = np.ascontiguousarray(
            sample(self.scene.lane(lane), np.ascontiguousarray(points.T), cancel=self.cancel)[0].T
        )
        return self.domain.to_own(made) if made.ndim == 2 else made

    def number_at(self, part: Placed, name: str, points: Array) -> Array:
        """A number of a step, or what the field in its place is, at points (3, n): (n,) float32."""
        lane = part.varying.get(name)
        if lane:
            return self.at(lane, points)
        return np.full(points.shape[1], getattr(part.step, name), np.float32)

    def only(self, by: str, values: Array, points: Array) -> Array:
        """Values (n,) or (3, n) times a scalar lane, if one is named; below zero it counts as none."""
        return values * np.maximum(self.at(by, points), 0) if by else values


class GrowthStep(FlowStep):
    """One operation in a growth lane. A subclass declares its parameters and does its part; the rest follows."""

    sort = SORT
    family: ClassVar[Literal["domain", "source", "motion", "change", "solid", "drawn"]]

    def motion(self, part: Placed, work: Work, points: Array, into: Speeds) -> None:
        """Add to how the surface moves at points (3, n) of the scene."""

    def share(self, part: Placed, work: Work, points: Array) -> Array | None:
        """What share (n,) of all motion it leaves at points (3, n), or None for all."""
        return None


class Domain(GrowthStep):
    """Where the volume may grow, and how finely.

    The box costs nothing: only voxels near the surface are worked on. Its sides stop the growth like walls.
    """

    id = "domain"
    label = "Domain"
    family = "domain"
    yields = "the space to grow in"
    mistake = (
        "What is thinner than two voxels is lost, and edges become round where more than a Carry moves it. Twice as "
        "fine costs eight times the time: four times the voxels at the surface, and twice the substeps."
    )
    headline = "region"

    region: RegionId = param(help="The box and the voxel size")
    preview_voxels: float = param(2.0, unit="×", range=(1, 8), help="Size of voxels in a preview run")
    hold: bool = param(
        False, label="Hold the volume",
        help="What the voxels lose where thin parts fold and tear is put back: for a Carry along a field that has no "
        "divergence",
    )  # fmt: skip
    longest: float = param(0.5, unit="voxels", range=(0.1, 0.9), help="Longest way in a substep", group="Steps in time")
    most_substeps: int = param(
        200, range=(1, 5000), help="More than these in a frame is an error, not a wait", group="Steps in time"
    )


def added(into: Speeds, name: str, values: Array) -> None:
    """Add to one of the speeds. `values` (n,) in m/s."""
    held: Any = getattr(into, name)
    values = np.asarray(values, np.float32)
    setattr(into, name, held + values if held.size else values)
