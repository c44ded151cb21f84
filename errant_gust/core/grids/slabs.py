"""Rows of a grid shared out over threads: fixed borders, so that results do not depend on who is quicker."""

import itertools
from collections.abc import Callable
from functools import partial
from typing import TypeVar

from errant_gust.core.blocks import threads
from errant_gust.core.helpers import at_once

T = TypeVar("T")


def slabs_of(rows: int, count: int) -> list[tuple[int, int]]:
    """Borders [a, b) of at most so many slabs, none of them empty."""
    cuts = [round(rows * i / count) for i in range(count + 1)]
    return [(a, b) for a, b in itertools.pairwise(cuts) if b > a]


def each_slab(rows: int, work: Callable[[int, int], T], count: int) -> list[T]:
    """work(a, b) of every slab; returns when all are done, in order."""
    return together(work, slabs_of(rows, count))


def on_all(rows: int, work: Callable[[int, int], T]) -> list[T]:
    """work(a, b) of slabs on all threads that this process may use; see `each_slab`."""
    return each_slab(rows, work, threads())


def together(work: Callable[[int, int], T], slabs: list[tuple[int, int]]) -> list[T]:
    """work(a, b) of slabs at the same time, the first of them here; results in order."""
    return at_once([partial(work, a, b) for a, b in slabs]) if slabs else []
