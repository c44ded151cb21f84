"""Another flow that has points, stepped along with the one that needs them; a dear one is read from its run."""

from typing import Any

import numpy as np

from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.kind import kind_of, offering, open_flow
from errant_gust.core.flows.random import uniform
from errant_gust.core.flows.results import PointsResult
from errant_gust.core.study.parameters import flow_of


class Alongside:
    """Points of a flow, frame after frame, at the same quality. Going back begins anew: the states are the same
    however they are asked."""

    def __init__(self, plan: Plan, id: str, quality: str, where: str) -> None:
        found = offering(plan.study, id, "points", where)
        assert isinstance(found, PointsResult)
        self.result, self.clock = found, plan.study.clock
        self.plan, self.id, self.quality, self.where = plan, flow_of(id), quality, where
        self.dear = kind_of(plan.study.find("flows", self.id, where).kind, where).dear
        self.flow = open_flow(plan, self.id, quality)
        self._frame = self.clock.start
        self._state: Any = None
        self._points: tuple[Array, Array, Array, Array] | None = None

    def _at(self, frame: int) -> tuple[Array, Array, Array, Array]:
        """Positions and velocities (3, n), ages and ids (n,) on a frame of the clock (the first one before it)."""
        arrays = self._stored(frame) if self.dear else self._stepped(frame)
        if self._points is None:
            p = self.result.of(arrays)
            n = p.count
            age = p.channels.get("age", np.full(n, np.inf, np.float32))
            id = p.channels.get("id", np.arange(n))
            self._points = (np.ascontiguousarray(p.position.T), np.ascontiguousarray(p.velocity.T), age, id)
        return self._points

    def _stepped(self, frame: int) -> dict[str, Array]:
        if self._state is None or frame < self._frame:
            self._state, self._frame, self._points = self.flow.first(), self.clock.start, None
        while self._frame < frame:
            self._state = self.flow.next(self._state, self._frame)
            self._frame, self._points = self._frame + 1, None
        return self._state.channels() if self._points is None else {}

    def _stored(self, frame: int) -> dict[str, Array]:
        if self._points is not None and frame == self._frame:
            return {}
        self._frame, self._points = frame, None
        scene = self.plan.at(self.clock.seconds(frame))
        return self.plan.data.frame_at(scene, self.id, self.quality, frame, self.where)[0]

    def _frame_after(self, time: float) -> int:
        return self.clock.frame_after(time)

    def at(self, time: float) -> tuple[Array, Array]:
        """Where its points are at a time in seconds, and their velocities, (3, n) each."""
        frame = self._frame_after(time)
        position, velocity, age, _ = self._at(frame)
        back = np.float32(self.clock.seconds(frame) - time)
        born = age >= back
        moving = np.ascontiguousarray(velocity[:, born])
        return position[:, born] - back * moving, moving

    def places(self, seed: int, use: int, numbers: Array, times: Array, end: float) -> tuple[Array, Array, Array]:
        """For each number a point of the flow: where it is at its time (n, 3), its velocity (n, 3), and whether
        there is one (n,).

        `times` (n,) lie in the frame that ends at or after `end` (seconds); points go straight within it.
        """
        frame = self._frame_after(end)
        position, velocity, age, id = self._at(frame)
        n, count = len(numbers), position.shape[1]
        if not count:
            return np.zeros((n, 3), np.float32), np.zeros((n, 3), np.float32), np.zeros(n, bool)
        order = np.argsort(id, kind="stable")  # not the order in memory, which may change
        picked = order[np.minimum((uniform(seed, numbers, use) * count).astype(np.int64), count - 1)]
        before = np.minimum(self.clock.seconds(frame) - times, age[picked]).astype(np.float32)
        moving = velocity[:, picked]
        return (position[:, picked] - before * moving).T, moving.T, np.ones(n, bool)
