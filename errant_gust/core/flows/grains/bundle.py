"""Grains as their loops take them: in blocks, in which each number of all grains stands side by side."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np

from errant_gust.core.blocks import share_out
from errant_gust.core.fields.samples import Array
from errant_gust.core.kernels import grains as kernels
from errant_gust.core.kernels.grains import MANY, ROW

AT_ONCE = 64 * MANY  # grains that one thread does at a time, at least


@dataclass
class Bundle:
    """`count` grains, a: blocks (b, ROW MANY), of which the last is filled up with noughts. `which` number of a grain
    is told as in `kernels.grains`: one of them, or a slice."""

    a: Array
    count: int

    @classmethod
    def of(cls, count: int, nought: bool = True) -> Bundle:
        """Grains whose numbers are all nought, or anything yet."""
        shape = -(-count // MANY), ROW * MANY
        made = cls(np.zeros(shape, np.float32) if nought else np.empty(shape, np.float32), count)
        made.a[-1:] = 0
        return made

    @classmethod
    def from_rows(cls, rows: Array) -> Bundle:
        """Grains from all their numbers, (ROW, n)."""
        made = cls.of(rows.shape[1])
        made.put(slice(0, ROW), rows)
        return made

    @property
    def _apart(self) -> Array:
        return self.a.reshape(-1, ROW, MANY)

    def get(self, which: Any, some: Any = None) -> Array:
        """Numbers of all grains, or of some by index: (n,), or (k, n) for a slice; a copy."""
        found = self._apart[:, which]
        if some is not None:
            block, lane = np.divmod(np.arange(self.count)[some], MANY)
            return np.ascontiguousarray(found[block, ..., lane].T)
        if found.ndim == 2:
            return np.ascontiguousarray(found.reshape(-1)[: self.count])
        return np.ascontiguousarray(found.swapaxes(0, 1).reshape(found.shape[1], -1)[:, : self.count])

    def put(self, which: Any, values: Any, some: Any = None) -> None:
        """Numbers of all grains, or of some by index, from (n,), (k, n) or one number."""
        to = self._apart[:, which]
        if some is not None:
            block, lane = np.divmod(np.arange(self.count)[some], MANY)
            to[block, ..., lane] = np.asarray(values).T
        elif np.ndim(values):
            whole = np.zeros((*np.shape(values)[:-1], len(self.a) * MANY), np.float32)
            whole[..., : self.count] = values
            to[...] = whole.reshape(*whole.shape[:-1], -1, MANY).swapaxes(0, -2)
        else:
            to[...] = values

    def some(self, order: Array) -> Bundle:
        """Grains by index, in that order. `order` (n,) of indices."""
        made = Bundle.of(len(order), False)
        share_out(partial(kernels.gather, self.a, order, made.a), len(order), block=AT_ONCE)
        return made

    def joined(self, rows: Array) -> Bundle:
        """These grains and others, whose numbers are (ROW, m)."""
        made = Bundle.of(self.count + rows.shape[1], False)
        made.a[: len(self.a)] = self.a
        made.put(slice(0, ROW), rows, slice(self.count, None))
        return made
