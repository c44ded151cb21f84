"""Places on lines: by their length, and as where particles are born on the lines that another lane draws."""

from typing import Any

import numpy as np

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.drawing import DrawnResult
from errant_gust.core.flows.kind import kind_of
from errant_gust.core.flows.random import uniform
from errant_gust.core.flows.results import Lines

GOLDEN = 0.6180339887498949
"""Shares n · GOLDEN, less their whole part, are spread evenly for any n in a row (Weyl)."""
BACK = "back"
"""A channel of lines that go back in time: they are walked the other way."""


class Measured:
    """Lines with their lengths: `ends` (m,) is the length from the very first point on to each, `start` and `length`
    (k,) those of each line."""

    def __init__(self, lines: Lines) -> None:
        self.lines = lines
        way = np.linalg.norm(np.diff(lines.points, axis=0), axis=1) if len(lines.points) else np.zeros(0)
        owner = np.repeat(np.arange(len(lines.counts)), lines.counts)
        way = np.where(owner[1:] == owner[:-1], way, 0)
        self.ends = np.concatenate([[0], np.cumsum(way)])
        self.start = self.ends[lines.starts] if len(lines.counts) else np.zeros(0)
        self.length = (self.ends[lines.starts + lines.counts - 1] if len(lines.counts) else self.start) - self.start

    def at(self, owner: Array, want: Array) -> tuple[Array, Array, dict[str, Array]]:
        """Places (n, 3) on lines `owner` (n,) at lengths `want` (n,) from the very first point on; the way along each
        (n, 3), as long as its piece; and channels (n,)."""
        lines = self.lines
        first, last = lines.starts[owner], lines.starts[owner] + lines.counts[owner] - 2
        piece = np.clip(np.searchsorted(self.ends, want, side="right") - 1, first, last)
        long = np.maximum(self.ends[piece + 1] - self.ends[piece], 1e-30)
        t = ((want - self.ends[piece]) / long).clip(0, 1).astype(np.float32)
        a, b = lines.points[piece], lines.points[piece + 1]
        channels = {k: v[piece] + t * (v[piece + 1] - v[piece]) for k, v in lines.channels.items()}
        return a + t[:, None] * (b - a), a - b if BACK in lines.channels else b - a, channels


class OnLines:
    """Where particles are born on the lines that a lane draws, frame after frame, at the same quality."""

    def __init__(self, plan: Plan, id: str, quality: str, where: str, *, evenly: bool) -> None:
        kind = kind_of(plan.study.find("flows", id, where).kind, where)
        if not any(isinstance(r, DrawnResult) and r.form == "lines" for r in kind.results):
            raise StudyError(f"'{id}' draws no lines: it is {kind.label}", where=where, fix="choose a particle lane")
        self.plan, self.id, self.quality, self.where, self.evenly = plan, id, quality, where, evenly
        self._frame, self._lines = -1, Measured(Lines(np.zeros((0, 3), np.float32), np.zeros(0, np.int32)))

    def _at(self, frame: int) -> Measured:
        if frame != self._frame:
            scene = self.plan.at(self.plan.study.clock.seconds(frame))
            found: Lines = self.plan.data.lines_at(scene, self.id, self.quality, frame, self.where)
            self._frame, self._lines = frame, Measured(found)
        return self._lines

    def places(self, seed: int, use: int, numbers: Array, times: Array, end: float) -> tuple[Array, Array, Array]:
        """For each number a place on the lines (n, 3), how fast and which way the line goes there (n, 3), in m/s, and
        whether there is one (n,): those of the frame that ends at or after `end` (seconds). `times`: of no matter."""
        clock = self.plan.study.clock
        m = self._at(min(clock.frame_after(end), clock.end))
        n, total = len(numbers), float(m.length.sum())
        if not total > 0:
            none: Any = np.zeros((n, 3), np.float32)
            return none, none, np.zeros(n, bool)
        if self.evenly:
            share = (uniform(seed, np.zeros(1, np.int64), use)[0] + GOLDEN * (numbers % (1 << 40))) % 1.0
        else:
            share = uniform(seed, numbers, use)
        sums = np.concatenate([[0], np.cumsum(m.length)])
        owner = np.clip(np.searchsorted(sums, share * total, side="right") - 1, 0, len(m.length) - 1)
        place, way, channels = m.at(owner, m.start[owner] + share * total - sums[owner])
        speed = channels.get("speed", np.zeros(n, np.float32))
        way /= np.maximum(np.linalg.norm(way, axis=1, keepdims=True), np.float32(1e-20))
        return place.astype(np.float32), way * speed[:, None], np.ones(n, bool)
