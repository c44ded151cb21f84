"""The state of a growth flow."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.boxed_points import told_of
from errant_gust.core.flows.results import Channel
from errant_gust.core.grids.region import GridRegion

ABOUT = (
    Channel("distance", "m", signed=True, help="To the surface, below zero in the volume", level_set=True),
    Channel("age", "s", help="Since the growth reached it; 0 where it is not"),
)


@dataclass
class GrowthState:
    """distance (m) and age (s) (nx, ny, nz) float32 in the box `window`; how it was come to."""

    distance: Array
    age: Array
    window: GridRegion
    owed: float = 0.0
    """Volume (voxels) that is still to be made good."""
    pace: dict[str, Any] = field(default_factory=dict)
    """What is said of the frame; not part of the state."""

    @property
    def count(self) -> int:
        """Voxels inside."""
        return int(np.count_nonzero(self.distance < 0))

    def channels(self) -> dict[str, Array]:
        """What is stored: `distance` and `age`, (nx, ny, nz)."""
        return {"distance": self.distance, "age": self.age}

    def facts(self) -> dict[str, Any]:
        """What is stored beside them."""
        return {"count": self.count, "owed": self.owed, **self.pace, **told_of(self.window)}
