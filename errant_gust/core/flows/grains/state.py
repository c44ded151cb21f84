"""The state of a flow of grains, and what is known of its channels."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.boxed_points import of_points, told_of, turned
from errant_gust.core.flows.results import Channel
from errant_gust.core.grids.region import GridRegion

GRID = "grid."
BASE = (
    "position", "velocity", "lag", "affine", "strain", "spread", "age", "life", "id", "pressure", "packing", "outward",
)  # fmt: skip
ABOUT = (
    Channel("velocity", "m/s", 3, True, "Of the grain"),
    Channel("age", "s", help="Since it came out of a source"),
    Channel("life", "s", help="How long it stays; 0 for good"),
    Channel("id", help="Of its own, for good"),
    Channel("pressure", "Pa", help="What weighs on it"),
    Channel("packing", help="How tightly it lies: 1 is settled sand, less is loose or beside the surface"),
    Channel("colour", components=3, help="Red, green and blue"),
    Channel("outward", "1/m", 3, True, "Slope of the packing, outward: where a heap's surface looks", internal=True),
    Channel("affine", "m/s", 9, True, "How the velocity changes in a voxel, along the domain's axes", internal=True),
    Channel("lag", "m/s", 3, True, "How far the velocity that the next step begins with is behind", internal=True),
    Channel("strain", "", 6, True, "Elastic log strain, along the domain's axes", internal=True),
    Channel("spread", help="Log of how far it has come apart without bearing anything", internal=True),
)
GRID_ABOUT = (
    Channel("packing", help="Grains there, as a share of settled sand"),
    Channel("pressure", "Pa", help="What weighs on them"),
)
"""What is known of channels."""


@dataclass
class GrainState:
    """position, velocity, outward (3, n) in the scene, at the frame, and `lag` (3, n): velocity less that in the
    middle of the last substep; affine (9, n) in m/s a voxel and strain (6, n) along the
    domain's axes; spread, age, life, pressure, packing (n,); id (n,) uint32; `more`: channels, (n,) or (3, n).

    born: how many there have been; refused: for how many there was no room; left: how many went out of each side (−x,
    +x, −y, +y, −z, +z) and were taken away. grid: what is stored of the grid, in the box `window`.
    """

    position: Array
    velocity: Array
    lag: Array
    affine: Array
    strain: Array
    spread: Array
    age: Array
    life: Array
    id: Array
    pressure: Array
    packing: Array
    outward: Array
    more: dict[str, Array] = field(default_factory=dict)
    born: int = 0
    refused: int = 0
    left: tuple[int, ...] = (0,) * 7
    lasted: float = 0.0
    """Seconds of the last substep."""
    grid: dict[str, Array] = field(default_factory=dict)
    window: GridRegion | None = None
    pace: dict[str, Any] = field(default_factory=dict)
    """How the frame was come to, and what was found on the way; not part of the state."""

    @classmethod
    def none(cls, keeps: dict[str, int]) -> "GrainState":
        """Not a grain; `keeps`: channels and how many numbers each has."""

        def rows(n: int) -> Array:
            return np.zeros((n, 0) if n > 1 else 0, np.float32)

        return cls(
            rows(3), rows(3), rows(3), rows(9), rows(6), rows(1), rows(1), rows(1), np.zeros(0, np.uint32), rows(1),
            rows(1), rows(3), {k: rows(n) for k, n in keeps.items()},
        )  # fmt: skip

    @property
    def count(self) -> int:
        """How many grains there are."""
        return int(self.id.size)

    def arrays(self) -> dict[str, Array]:
        """Everything that a grain has, (n,) or (k, n), by name."""
        return {n: getattr(self, n) for n in BASE} | self.more

    def channels(self) -> dict[str, Array]:
        """Arrays as they are stored: of grains (n, c) and (n,), and of the grid."""
        return turned(self.arrays()) | {GRID + k: v for k, v in self.grid.items()}

    def facts(self) -> dict[str, Any]:
        """What is written beside the arrays of a frame."""
        return {
            "count": self.count, "born": self.born, "refused": self.refused, "gone": list(self.left),
            "lasted": self.lasted, **self.pace,
            **told_of(self.window),
        }  # fmt: skip

    @classmethod
    def from_channels(cls, arrays: dict[str, Array], facts: dict[str, Any]) -> "GrainState":
        """The state as it was stored; the grid is made anew in the next step. Arrays (n,) or (n, k)."""
        base, more = of_points(arrays, BASE)
        told = {"born": facts["born"], "refused": facts["refused"], "left": tuple(facts["gone"])}
        return cls(**base, more=more, **told, lasted=facts["lasted"])
