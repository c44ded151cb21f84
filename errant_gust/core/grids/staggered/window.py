"""A window of whole blocks within a domain: velocities on faces and channels in cells, which follow what is there."""

from dataclasses import dataclass, field
from typing import Any, Self

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.grids.region import GridRegion
from errant_gust.core.grids.staggered.faces import FaceGrid

Array = NDArray[Any]
FACES = ("u", "v", "w")
BLOCK = 8  # cells; the window grows and shrinks by whole blocks


@dataclass
class Window:
    """values (c, nx, ny, nz) float32 by `names`; u, v, w in m/s on the faces of the window that begins at `origin`."""

    domain: GridRegion
    origin: tuple[int, int, int]
    names: tuple[str, ...]
    values: Array
    u: Array
    v: Array
    w: Array
    pace: dict[str, float] = field(default_factory=dict, kw_only=True)
    """How the frame was come to: `substeps`, and `fastest` in m/s; not part of the state."""

    @property
    def count(self) -> int:
        """Cells of the window."""
        return int(np.prod(self.values.shape[1:]))

    @property
    def window(self) -> GridRegion:
        """Its place in the scene: the region of its cells."""
        h = self.domain.voxel_size
        x, y, z = (low + h * o for low, o in zip(self.domain.lower, self.origin, strict=True))
        nx, ny, nz = self.values.shape[1:]
        return GridRegion((x, y, z), (nx, ny, nz), h, self.domain.turn)

    @property
    def faces(self) -> FaceGrid:
        """Its velocities, as a grid of faces."""
        return FaceGrid(self.window, self.u, self.v, self.w)

    def channel(self, name: str) -> Array:
        """A channel by its name, (nx, ny, nz), to be read and written."""
        return self.values[self.names.index(name)]

    @classmethod
    def empty(cls, domain: GridRegion, origin: Any, shape: Any, names: tuple[str, ...]) -> Self:
        """One of zeros: `origin` its first cell in the domain, `shape` its cells."""
        nx, ny, nz = shape
        f = np.float32
        return cls(
            domain, tuple(int(o) for o in origin), names, np.zeros((len(names), nx, ny, nz), f),  # type: ignore[arg-type]
            np.zeros((nx + 1, ny, nz), f), np.zeros((nx, ny + 1, nz), f), np.zeros((nx, ny, nz + 1), f),
        )  # fmt: skip

    def channels(self) -> dict[str, Array]:
        """Arrays as they are stored: every channel (nx, ny, nz), and the faces."""
        return {n: self.values[i] for i, n in enumerate(self.names)} | {k: getattr(self, k) for k in FACES}

    def facts(self) -> dict[str, Any]:
        """What is written beside the arrays of a frame."""
        w = self.window
        place = {"lower": list(w.lower), "shape": list(w.shape), "voxel_size": w.voxel_size, "turn": list(w.turn)}
        return {"count": self.count, "origin": list(self.origin), "region": place, **self.pace}

    @classmethod
    def from_channels(cls, arrays: dict[str, Array], facts: dict[str, Any], domain: GridRegion) -> Self:
        """From what was stored: channels (nx, ny, nz), velocities on faces (nx+1, ny, nz) and so on."""
        names = tuple(k for k in arrays if k not in FACES)
        values = np.stack([arrays[k] for k in names])
        x, y, z = facts["origin"]
        return cls(domain, (x, y, z), names, values, *(arrays[k] for k in FACES))

    def moved_to(self, origin: Any, shape: Any) -> Self:
        """The same in another window; what is new is still and empty."""
        if tuple(origin) == self.origin and tuple(shape) == self.values.shape[1:]:
            return self
        made = self.empty(self.domain, origin, shape, self.names)
        shift = [int(a - b) for a, b in zip(self.origin, origin, strict=True)]
        for to, came in [(made.values, self.values), *((getattr(made, k), getattr(self, k)) for k in FACES)]:
            _shift(came, to, shift)
        return made

    def become(self, other: "Window") -> None:
        """Take over the window and the arrays of another state; its own are free then."""
        self.origin, self.values = other.origin, other.values
        self.u, self.v, self.w = other.u, other.v, other.w


def _shift(came: Array, to: Array, by: list[int]) -> None:
    """Copies what is within both, `by` cells on along each of the last three axes."""
    first = to.ndim - 3
    ours, theirs = [slice(None)] * first, [slice(None)] * first
    for axis in range(3):
        s, n, m = by[axis], to.shape[first + axis], came.shape[first + axis]
        low, high = max(0, s), min(n, s + m)
        ours.append(slice(low, max(low, high)))
        theirs.append(slice(low - s, max(low, high) - s))
    to[tuple(ours)] = came[tuple(theirs)]


def shifted(came: Array, shape: tuple[int, ...], by: list[int]) -> Array:
    """An array (nx, ny, nz) in another window, `by` cells on along each axis; zero where it was not."""
    to = np.zeros(shape, came.dtype)
    _shift(came, to, by)
    return to


def around(state: Window, thresholds: dict[str, float], margin: int, also: list[Any]) -> tuple[Array, Array]:
    """Origin and shape of the window that holds all above the thresholds, the boxes `also` (lower and upper cell in
    the domain), and `margin` cells more, in whole blocks within the domain. Both (3,)."""
    whole = np.array(state.domain.shape)
    low, high = whole.copy(), np.zeros(3, int)
    busy = np.zeros(state.values.shape[1:], bool)
    for name, least in thresholds.items():
        busy |= np.abs(state.channel(name)) > least
    for axis in range(3):
        line = np.flatnonzero(busy.any(axis=tuple(a for a in range(3) if a != axis)))
        if len(line):
            low[axis] = state.origin[axis] + line[0] - margin
            high[axis] = state.origin[axis] + line[-1] + 1 + margin
    for a, b in also:
        low, high = np.minimum(low, np.asarray(a) - margin), np.maximum(high, np.asarray(b) + margin)
    if (high <= low).any():
        low, high = whole // 2 - BLOCK // 2, whole // 2 + BLOCK // 2
    low = np.clip(low // BLOCK * BLOCK, 0, np.maximum(whole - BLOCK, 0))
    high = np.minimum(-(-high // BLOCK) * BLOCK, whole)
    return low, np.maximum(high - low, np.minimum(whole, BLOCK))
