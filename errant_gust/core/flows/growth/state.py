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
    origin: tuple[Array, Array, list[int]] | None = None
    """Where it comes from while it is only carried: ways (nx, ny, nz, 3) in the window and distances (mx, my, mz) as
    that began, in voxels; the first block (3) of the latter in the domain."""
    pace: dict[str, Any] = field(default_factory=dict)
    """What is said of the frame; not part of the state."""

    @property
    def count(self) -> int:
        """Voxels inside."""
        return int(np.count_nonzero(self.distance < 0))

    def channels(self) -> dict[str, Array]:
        """What is stored: `distance` and `age`, (nx, ny, nz); while it is only carried also `way` and `base`."""
        made = {"distance": self.distance, "age": self.age}
        return made if self.origin is None else {**made, "way": self.origin[0], "base": self.origin[1]}

    def facts(self) -> dict[str, Any]:
        """What is stored beside them."""
        begun = {} if self.origin is None else {"begun": self.origin[2]}
        return {"count": self.count, "owed": self.owed, **begun, **self.pace, **told_of(self.window)}
