"""Flows of points in a box, all out of sources: how they go from frame to frame, and how their frames are stored."""

from typing import Any, ClassVar

import numpy as np

from errant_gust.core.blocks import Cancel
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.boxed import BoxedFlow
from errant_gust.core.grids.region import GridRegion


class BoxedPoints(BoxedFlow):
    """A lane whose state is points, all of which came out of its sources."""

    state: ClassVar[Any]
    """Its class of states: `none(keeps)` and `from_channels(arrays, facts)`."""
    keeps: dict[str, int]
    """Channels that its steps need, and how many components each has."""

    def compared(self, start: Any, whole: Any, halves: Any) -> tuple[Array, Array, Array]:
        """See `kind.LaneFlow`: places (3, n) of the points that are in all three."""
        ids = np.intersect1d(np.intersect1d(start.id, whole.id), halves.id)
        a, b, c = (s.position[:, np.argsort(s.id)[np.searchsorted(np.sort(s.id), ids)]] for s in (start, whole, halves))
        return a.astype(float), b.astype(float), c.astype(float)

    def load(self, arrays: dict[str, Array], facts: dict[str, Any]) -> Any:
        """The state as it was stored. Arrays (n,) and (n, 3) of points as `store` gives them."""
        return self.state.from_channels(arrays, facts)

    def first(self) -> Any:
        """What the sources hold at once."""
        return self._advanced(self.state.none(self.keeps), 0.0, 0.0, None)

    def next(self, state: Any, frame: int, cancel: Cancel | None = None, keep: bool = True) -> Any:
        """The state on frame + 1 from that on `frame`, which is kept in any case."""
        return self._advanced(state, self.clock.seconds(frame), self.clock.seconds(frame + 1), cancel)

    def falling(self, time: float) -> Array:
        """What everything falls with at a time, (3,) m/s² along the scene's axes."""
        falls = [p.step.acceleration for p in self.parts(time) if p.step.id == "gravity"]
        return np.asarray(np.sum(falls, axis=0) if falls else np.zeros(3), np.float32)

    def _advanced(self, state: Any, start: float, end: float, cancel: Cancel | None) -> Any:
        """The state at `end`, in seconds, from that at `start`; if these are the same, what sources hold at once."""
        raise NotImplementedError


def as_stored(lag: Array) -> Array:
    """How far velocities are behind, (3, n) in m/s, rounded to two bytes a number: who goes on without a file has it as
    well, and comes to the same bits."""
    return np.nan_to_num(lag.astype(np.float16).astype(np.float32), posinf=0.0, neginf=0.0)


def turned(arrays: dict[str, Array]) -> dict[str, Array]:
    """Arrays (c, n), as they are worked on, as (n, c), as they are stored; or the other way. Those (n,) stay."""
    return {k: np.ascontiguousarray(v.T) if v.ndim == 2 else v for k, v in arrays.items()}


def of_points(arrays: dict[str, Array], base: tuple[str, ...]) -> tuple[dict[str, Any], dict[str, Array]]:
    """From the arrays of a frame those of its points, as they are worked on: those of `base`, and the others. (n,)
    and (n, 3) become (n,) and (3, n)."""
    own = turned({k: v for k, v in arrays.items() if "." not in k})
    return {k: own[k] for k in base}, {k: v for k, v in own.items() if k not in base}


def told_of(window: GridRegion | None) -> dict[str, Any]:
    """The box of a frame's grid among its facts."""
    if window is None:
        return {}
    w = window
    place = {"lower": list(w.lower), "shape": list(w.shape), "voxel_size": w.voxel_size, "turn": list(w.turn)}
    return {"region": place}
