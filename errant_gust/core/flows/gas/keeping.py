"""Keep amounts: what carrying lost or made of a channel is put back, and nothing is moved by it."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.gas.state import GasState
from errant_gust.core.grids.staggered.faces import Triple

Sides = Sequence[bool]
MOST = 0.1  # of the amount that one step may put back: more is no error of carrying


@dataclass(frozen=True)
class Amounts:
    """Of every channel: what has to be there after a step, in voxels times value; NaN where that is not asked."""

    wanted: Array

    @classmethod
    def after(cls, state: GasState, carrier: Triple, low: Sides, high: Sides, dt: float) -> "Amounts":
        """What there is now, less what velocities on the faces carry out through open sides in dt seconds."""
        values, h = state.values, state.window.voxel_size
        there = values.sum(axis=(1, 2, 3), dtype=np.float64)
        for axis, faces in enumerate(carrier):
            for side, is_open, sign in ((0, low[axis], -1), (-1, high[axis], 1)):
                if not is_open:
                    continue
                out = np.clip(sign * faces.take(side, axis=axis) * np.float32(dt / h), 0, 1)
                there -= (values.take(side, axis=axis + 1) * out).sum(axis=(1, 2), dtype=np.float64)
        signed = values.min(axis=(1, 2, 3)) < 0
        return cls(np.where(signed, np.nan, there))

    def restore(self, state: GasState, solid: Array | None) -> None:
        """Multiplies every channel so that its amount is what is wanted, within MOST; cells inside walls hold none.
        `solid` (nx, ny, nz) bool."""
        if solid is not None:
            state.values[:, solid] = 0
        there = state.values.sum(axis=(1, 2, 3), dtype=np.float64)
        for channel, wanted, found in zip(state.values, self.wanted, there, strict=True):
            if np.isfinite(wanted) and wanted > 0 and found > 0:
                channel *= np.float32(np.clip(wanted / found, 1 - MOST, 1 + MOST))
