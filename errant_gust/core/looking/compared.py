"""Two runs against each other on a frame, to look at."""

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.looking.heads import (
    PointsCompared,
    PointsDifference,
    VolumeDifference,
    VolumesCompared,
)
from errant_gust.core.looking.texels import MOST, as_bytes, packed, place_of, thinned
from errant_gust.core.runs.compare import channel_of, compared_by, difference, points_apart
from errant_gust.core.runs.export import kind_of_run
from errant_gust.core.runs.frame_store import RunStore


def _held(store: RunStore, frame: int, name: str) -> str:
    """A channel if its volumes have it, else their distance."""
    there = kind_of_run(store).result(form="volume").channels(store.names(frame))
    return name if name in [c.name for c in there] else next((c.name for c in there if c.level_set), "")


def compared_to_look(
    a: RunStore, b: RunStore, frame: int, of: str, to: str
) -> tuple[VolumesCompared | PointsCompared, dict[str, Array]]:
    """b − a: of volumes as texels of the channel `of` of a and `to` of b (the same if it is not named), and numbers;
    of points numbers only. Texels (nz, ny, nx) of bytes. Raises FileError for runs that cannot be compared."""
    if compared_by(a, b, frame, of) == "points":
        return PointsCompared(form="points", numbers=PointsDifference(**points_apart(a, b, frame))), {}
    if kind_of_run(a).results[0].form == "mesh":  # surfaces are compared by what they are the surface of
        of = to = _held(a, frame, of) if to in ("", of) else _held(a, frame, "")
    grid, found = difference(channel_of(a, frame, of), channel_of(b, frame, to or of))
    small, side = thinned(grid.values, MOST)
    top = max(float(np.abs(small).max(initial=0)), 1e-9)
    high = top * 128 / 127  # so that 127 is exactly zero
    head = VolumesCompared(
        identity=f"{b.folder.name}-{a.folder.name}", frame=frame, form="volume", channel="difference", low=-top,
        high=high, count=int(grid.region.voxels), names=[],
        tops={"density": 1.0, "light": 1.0, "temperature": 1.0, "channel": high},
        numbers=VolumeDifference(**found.as_dict()), **place_of(grid.region, small.shape, side),
    )  # fmt: skip
    return head, {"channel": packed(as_bytes(small, -top, high))}
