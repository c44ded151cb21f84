"""The state of a liquid flow: particles, and the grid that their motion was last solved on."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.boxed_points import of_points, told_of, turned
from errant_gust.core.flows.results import Channel
from errant_gust.core.grids.region import GridRegion

GRID, FOAM = "grid.", "foam."
BASE = ("position", "velocity", "lag", "affine", "age", "id", "viscosity", "born_viscosity")
ABOUT = (
    Channel("velocity", "m/s", 3, True, "Of the liquid there"),
    Channel("age", "s", help="Since it came out of a source"),
    Channel("id", help="Of its own, for good"),
    Channel("viscosity", "m²/s", help="Kinematic: water 1e-6, oil 1e-4, honey 1e-2, molten glass 1"),
    Channel("colour", components=3, help="Red, green and blue"),
    Channel("affine", "m/s", 9, True, "How the velocity changes in a voxel, along the domain's axes", internal=True),
    Channel("lag", "m/s", 3, True, "How far the velocity that the next step begins with is behind", internal=True),
    Channel("born_viscosity", "m²/s", help="As it came out of its source", internal=True),
)
GRID_ABOUT = (
    Channel(
        "distance",
        "m",
        signed=True,
        help="To the surface that is drawn, below zero in the liquid; told up to three voxels away",
        level_set=True,
    ),
    Channel("viscosity", "m²/s", help="Kinematic"),
    Channel("fill", help="Particles there, as a share of those that fill it"),
)
"""What is known of channels; those of a Channel step have no unit."""


@dataclass
class LiquidState:
    """position, velocity (3, n) in the scene, both at the frame, and `lag` (3, n): velocity less that in the middle of
    the last step, rounded to half a number (see `flow`); affine (9, n) in m/s a voxel along the domain's axes; age,
    viscosity, born_viscosity (n,); id (n,) uint32; `more`: channels, (n,) or (3, n).

    born: how many there have been, and sourced: how many of them came out of sources; left: how many went out of each
    side (−x, +x, −y, +y, −z, +z) and through drains.
    lasted: seconds of the last step. grid: what is stored of the grid, in the box `window`.
    """

    position: Array
    velocity: Array
    lag: Array
    affine: Array
    age: Array
    id: Array
    viscosity: Array
    born_viscosity: Array
    more: dict[str, Array] = field(default_factory=dict)
    born: int = 0
    sourced: int = 0
    left: tuple[int, ...] = (0,) * 7
    lasted: float = 0.0
    grid: dict[str, Array] = field(default_factory=dict)
    window: GridRegion | None = None
    pace: dict[str, float] = field(default_factory=dict)
    """How the frame was come to, and what was found on the way; not part of the state."""

    @classmethod
    def none(cls, keeps: dict[str, int]) -> "LiquidState":
        """Not a particle; `keeps`: channels and how many numbers each has."""
        f = np.float32
        more = {k: np.zeros((n, 0) if n > 1 else 0, f) for k, n in keeps.items()}
        return cls(
            np.zeros((3, 0), f), np.zeros((3, 0), f), np.zeros((3, 0), f), np.zeros((9, 0), f), np.zeros(0, f),
            np.zeros(0, np.uint32), np.zeros(0, f), np.zeros(0, f), more,
        )  # fmt: skip

    @property
    def count(self) -> int:
        """How many particles there are."""
        return int(self.id.size)

    @property
    def foam(self) -> Array:
        """Which particles are foam, by index. (k,)."""
        return np.flatnonzero(self.more["foam"] > 0) if "foam" in self.more else np.zeros(0, np.int64)

    def arrays(self) -> dict[str, Array]:
        """Everything that a particle has, (n,) or (k, n), by name."""
        return {n: getattr(self, n) for n in BASE} | self.more

    def channels(self) -> dict[str, Array]:
        """Arrays as they are stored: of particles (n, c) and (n,), of the grid, and of foam."""
        plain = turned(self.arrays())
        foam = {}
        if "foam" in self.more:
            foam = {FOAM + k: plain[k][self.foam] for k in ("position", "velocity", "age", "id")}
        return plain | {GRID + k: v for k, v in self.grid.items()} | foam

    def facts(self) -> dict[str, Any]:
        """What is written beside the arrays of a frame."""
        return {
            "count": self.count, "born": self.born, "sourced": self.sourced, "gone": list(self.left),
            "lasted": self.lasted, **self.pace, **told_of(self.window),
        }  # fmt: skip

    @classmethod
    def from_channels(cls, arrays: dict[str, Array], facts: dict[str, Any]) -> "LiquidState":
        """The state as it was stored; the grid is made anew in the next step. Arrays (n,) or (n, k)."""
        base, more = of_points(arrays, BASE)
        told = {"born": facts["born"], "sourced": facts["sourced"], "left": tuple(facts["gone"])}
        return cls(**base, more=more, **told, lasted=facts["lasted"])
