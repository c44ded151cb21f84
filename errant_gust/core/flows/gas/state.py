"""The state of a gas flow."""

from dataclasses import dataclass, field
from typing import Any, Self

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.results import Channel
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.grids.staggered.faces import Triple
from errant_gust.core.grids.staggered.window import FACES, Window, shifted

ABOUT = (
    Channel("density", help="Of smoke; 1 is thick"),
    Channel("temperature", "K", signed=True, help="Above the air around"),
    Channel("fuel", help="What burns"),
    Channel("red", help="Density times the share of red"),
    Channel("green", help="Density times the share of green"),
    Channel("blue", help="Density times the share of blue"),
)
"""What is known of channels; further ones have no unit."""
KEPT = "last."
"""Arrays that a step keeps for the next have a dot in their names: no result has them among its channels."""


def packed(a: Array) -> Array:
    """The upper halves of float32, rounded to eight bits of a number: uint16. Of any shape; the array given is used
    up."""
    bits = a.view(np.uint32)
    bits += np.uint32(0x8000)
    bits >>= np.uint32(16)
    return bits.astype(np.uint16)


def unpacked(bits: Array) -> Array:
    """Numbers of `packed`, float32. Any shape."""
    whole = bits.astype(np.uint32)
    whole <<= np.uint32(16)
    return whole.view(np.float32)


@dataclass(frozen=True)
class Last:
    """What a step leaves for the next one (see `midway`): the pressure over all of it, in m/s² a voxel (nx, ny, nz),
    0 where it is not known; by how much it changed the velocities on faces, in m/s, packed (see `packed`); its length
    in s."""

    pressure: Array
    change: Triple
    dt: float

    @classmethod
    def of(cls, pressure: Array, before: Triple, after: Triple, dt: float) -> "Last":
        """From the pressure (nx, ny, nz) and velocities on faces before and after a step."""
        u, v, w = (packed(b - a) for a, b in zip(before, after, strict=True))
        return cls(pressure, (u, v, w), dt)

    def ahead(self, faces: Triple, share: float) -> Triple:
        """Velocities on faces, (nx+1, ny, nz) and so on, further on by a share of the change."""
        made = []
        for f, bits in zip(faces, self.change, strict=True):
            a = unpacked(bits)
            a *= np.float32(share)
            a += f
            made.append(a)
        return made[0], made[1], made[2]

    @property
    def most(self) -> float:
        """The largest change of a component, in m/s."""
        return max(float(np.abs(unpacked(bits)).max()) for bits in self.change)

    def arrays(self) -> dict[str, Array]:
        """As they are stored in a frame: (nx, ny, nz), and one more along each axis."""
        return {f"{KEPT}p": self.pressure} | {KEPT + k: a for k, a in zip(FACES, self.change, strict=True)}


@dataclass
class GasState(Window):
    """Velocities and channels within the window. Density has no unit (1 is thick smoke), temperature is in kelvin
    above the air around."""

    last: Last | None = field(default=None, kw_only=True)
    """None before the first step, and after one that leaves nothing."""

    def channels(self) -> dict[str, Array]:
        """See `Window`, (nx, ny, nz) and faces; and what the next step needs."""
        return super().channels() | (self.last.arrays() if self.last else {})

    def facts(self) -> dict[str, Any]:
        """See `Window`; and the length of the last step."""
        return super().facts() | ({"last_dt": self.last.dt} if self.last else {})

    @classmethod
    def from_channels(cls, arrays: dict[str, Array], facts: dict[str, Any], domain: GridRegion) -> Self:
        """See `Window`: (nx, ny, nz) and faces. Frames of runs that were made before steps kept anything are read as
        well."""
        made = super().from_channels({k: a for k, a in arrays.items() if "." not in k}, facts, domain)
        if f"{KEPT}p" in arrays and facts.get("last_dt"):
            u, v, w = (arrays[KEPT + k] for k in FACES)
            made.last = Last(arrays[f"{KEPT}p"], (u, v, w), float(facts["last_dt"]))
        return made

    def moved_to(self, origin: Any, shape: Any) -> Self:
        """See `Window`: where the window is new there was no pressure, and nothing has changed."""
        made = super().moved_to(origin, shape)
        if made is not self and self.last is not None:
            by = [int(a - b) for a, b in zip(self.origin, made.origin, strict=True)]
            cells, faces = made.values.shape[1:], (made.u, made.v, made.w)
            pressure = shifted(self.last.pressure, cells, by)
            u, v, w = (shifted(a, f.shape, by) for a, f in zip(self.last.change, faces, strict=True))
            made.last = Last(pressure, (u, v, w), self.last.dt)
        return made

    def become(self, other: Window) -> None:
        """See `Window`."""
        super().become(other)
        self.last = getattr(other, "last", None)
