"""The state of a particle flow: what is known of every living particle."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.results import Channel

KEPT: dict[str, tuple[int, Any]] = {
    "own": (3, np.float32),  # velocity of its own in m/s, besides what carries it
    "start": (3, np.float32),  # where it was born, m
    "travelled": (1, np.float32),  # length of its way since then, m
    "again": (1, np.uint32),  # how often it has been born again
    "released": (1, np.float32),  # what share of its motion a Hold has ever let it have
}
"""Channels that are kept only where a step of the lane needs them: components and type. Others are named by a
Channel step: one float32 a particle."""
ABOUT = (
    Channel("velocity", "m/s", 3, True, "Of all motion together"),
    Channel("age", "s", help="Since birth"),
    Channel("life", "s", help="From birth to death"),
    Channel("id", help="Of its own, for good"),
    Channel("own", "m/s", 3, True, "Besides what carries it", internal=True),
    Channel("start", "m", 3, True, "Where it was born", internal=True),
    Channel("again", help="How often it has been born again", internal=True),
    Channel("released", help="What share of its motion Hold has let it have, at most: 0 is held yet"),
    Channel("travelled", "m", help="Length of its way since birth"),
)
"""What is known of channels; those of a Channel step have no unit."""


BASE = ("position", "velocity", "age", "life", "id")


@dataclass(frozen=True)
class Particles:
    """State of all living particles: positions and velocities (3, n), age and life in seconds (n,), id (n,) uint32.

    `more` holds the kept channels, (3, n) or (n,).
    """

    position: Array
    velocity: Array
    age: Array
    life: Array
    id: Array
    more: dict[str, Array] = field(default_factory=dict)

    @classmethod
    def none(cls, keeps: tuple[str, ...] = ()) -> "Particles":
        """Not a particle; `keeps`: channels that they would have."""
        return cls.born(np.empty((3, 0), np.float32), np.empty(0), np.empty(0), np.empty(0, np.uint32), keeps)

    @classmethod
    def born(cls, position: Array, age: Array, life: Array, id: Array, keeps: tuple[str, ...]) -> "Particles":
        """At rest where they are; the kept channels at zero, `start` at the position. `position` (3, n) in m, `age`
        and `life` (n,) in s."""
        n = position.shape[1]
        kinds = {k: KEPT.get(k, (1, np.float32)) for k in keeps}
        more = {k: np.zeros((3, n) if size == 3 else n, kind) for k, (size, kind) in kinds.items()}
        if "start" in more:
            more["start"] = position.copy()
        f = np.float32
        return cls(position, np.zeros((3, n), f), age.astype(f), life.astype(f), id.astype(np.uint32), more)

    @property
    def count(self) -> int:
        """How many there are."""
        return int(self.id.size)

    def arrays(self) -> dict[str, Array]:
        """Everything that a particle has, (n,) or (3, n), by name."""
        return {n: getattr(self, n) for n in BASE} | self.more

    @classmethod
    def of(cls, arrays: dict[str, Array]) -> "Particles":
        """From arrays (n,) and (3, n) by name."""
        more = {k: v for k, v in arrays.items() if k not in BASE}
        a = arrays
        return cls(a["position"], a["velocity"], a["age"], a["life"], a["id"], more)

    def channels(self) -> dict[str, Array]:
        """Arrays as they are stored: (n, 3) and (n,)."""
        return {k: np.ascontiguousarray(v.T) if v.ndim == 2 else v for k, v in self.arrays().items()}

    def facts(self) -> dict[str, Any]:
        """What is written beside the arrays of a frame."""
        return {"count": self.count}

    @classmethod
    def from_channels(cls, c: dict[str, Array]) -> "Particles":
        """From what was stored: (n,) and (n, 3)."""
        return cls.of({k: np.ascontiguousarray(v.T) if v.ndim == 2 else v for k, v in c.items()})

    def joined(self, other: "Particles") -> "Particles":
        """These, then others."""
        mine, theirs = self.arrays(), other.arrays()
        return Particles.of({k: np.concatenate([v, theirs[k]], axis=-1) for k, v in mine.items()})

    def kept(self, keep: Array) -> "Particles":
        """Those where `keep` (n,) is true, or of these indices."""
        return Particles.of({k: np.ascontiguousarray(v[..., keep]) for k, v in self.arrays().items()})


def sorted_by_place(state: Particles) -> Particles:
    """The same particles, neighbours in space next to each other in memory: sampling grids is then much quicker."""
    low = state.position.min(axis=1, keepdims=True)
    span = np.maximum(state.position.max(axis=1, keepdims=True) - low, np.float32(1e-6))
    cell = ((state.position - low) / span * np.float32(63.99)).astype(np.int32)
    return state.kept(np.argsort((cell[0] << 12) | (cell[1] << 6) | cell[2], kind="stable"))
