"""Where shapes lie in the window, and what channels may be called."""

import re

import numpy as np

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.gas.steps import Work
from errant_gust.core.geometry.placed import PlacedShape
from errant_gust.core.grids.staggered.window import FACES

Box = tuple[slice, slice, slice]


def channel_name(name: str, where: str) -> None:
    """Raises StudyError for a name that a channel cannot have: it is taken, or has other characters than names do."""
    if not re.fullmatch(r"[a-z][a-z0-9_]{0,30}", name) or name in FACES or name == "vel":
        raise StudyError(
            f"'{name}' cannot be the name of a channel",
            where=where,
            fix="small letters, digits and _; not u, v, w, vel",
        )


def cells_of(work: Work, shape: PlacedShape, thickness: float) -> tuple[slice, slice, slice] | None:
    """Cells of the window that the shape may touch; None if it is outside."""
    window = work.state.window
    h = window.voxel_size
    if not shape.kind.bounded:
        low, high = np.zeros(3, int), np.array(window.shape)
    else:
        lower, upper = shape.box
        corners = np.array([[(lower, upper)[b][a] for a, b in enumerate(bits)] for bits in np.ndindex(2, 2, 2)])
        own = corners @ window.axes
        first = (own.min(axis=0) - 0.5 * thickness - np.array(window.lower)) / h
        last = (own.max(axis=0) + 0.5 * thickness - np.array(window.lower)) / h
        low = np.clip(np.floor(first).astype(int) - 1, 0, window.shape)
        high = np.clip(np.ceil(last).astype(int) + 1, 0, window.shape)
    if (high <= low).any():
        return None
    return slice(low[0], high[0]), slice(low[1], high[1]), slice(low[2], high[2])


def centres_of(work: Work, box: tuple[slice, ...]) -> Array:
    """Middles (3, n) in the scene of the cells of a box of the window."""
    window = work.state.window
    axes = [
        (np.arange(s.start, s.stop) + 0.5) * window.voxel_size + low for s, low in zip(box, window.lower, strict=True)
    ]
    grid = np.stack(np.meshgrid(*axes, indexing="ij")).reshape(3, -1).astype(np.float32)
    return window.to_scene(np.ascontiguousarray(grid))


def distances(work: Work, shape: PlacedShape, box: tuple[slice, ...]) -> Array:
    """Signed distance of every cell's middle of a box, (bx, by, bz) float32 in m. `box`: cells of the window along
    each axis."""
    size = tuple(s.stop - s.start for s in box)
    return shape.distance(centres_of(work, box))[0].reshape(size)
