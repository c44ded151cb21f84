"""Another flow that particles are born from, stepped along with the one that needs it."""

from typing import TYPE_CHECKING

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.particles.state import Particles
from errant_gust.core.flows.random import uniform

if TYPE_CHECKING:
    from errant_gust.core.flows.particles.flow import ParticleFlow


class Source:
    """States of a flow, frame after frame. Going back begins anew: the states are the same however they are asked."""

    def __init__(self, flow: "ParticleFlow") -> None:
        self.flow = flow
        self._frame = flow.clock.start
        self._state: Particles | None = None

    def at(self, frame: int) -> Particles:
        """The state on a frame of the clock (the first one before it)."""
        start = self.flow.clock.start
        if self._state is None or frame < self._frame:
            self._state, self._frame = self.flow.first(), start
        while self._frame < frame:
            self._state = self.flow.next(self._state, self._frame)
            self._frame += 1
        return self._state

    def places(self, seed: int, use: int, numbers: Array, times: Array, end: float) -> tuple[Array, Array, Array]:
        """For each number a particle of the flow: where it is at its time (n, 3), its velocity (n, 3), and whether
        there is one (n,).

        `times` (n,) lie in the frame that ends at or after `end` (seconds); particles go straight within it.
        """
        clock = self.flow.clock
        frame = clock.start + max(0, int(np.ceil(end * clock.fps * clock.slow_motion - 1e-6)))
        state = self.at(frame)
        n = len(numbers)
        if not state.count:
            return np.zeros((n, 3), np.float32), np.zeros((n, 3), np.float32), np.zeros(n, bool)
        order = np.argsort(state.id, kind="stable")  # not the order in memory, which may change
        picked = order[np.minimum((uniform(seed, numbers, use) * state.count).astype(np.int64), state.count - 1)]
        before = np.minimum(clock.seconds(frame) - times, state.age[picked]).astype(np.float32)
        velocity = state.velocity[:, picked]
        return (state.position[:, picked] - before * velocity).T, velocity.T, np.ones(n, bool)
