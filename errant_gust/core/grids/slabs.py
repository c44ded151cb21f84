"""Rows of a grid shared out over threads: fixed borders, so that results do not depend on who is quicker."""

import itertools
from collections.abc import Callable
from functools import partial
from typing import TypeVar

from errant_gust.core.helpers import at_once

T = TypeVar("T")


def slabs_of(rows: int, threads: int) -> list[tuple[int, int]]:
    """Borders [a, b) of at most so many slabs, none of them empty."""
    cuts = [round(rows * i / threads) for i in range(threads + 1)]
    return [(a, b) for a, b in itertools.pairwise(cuts) if b > a]


def each_slab(rows: int, work: Callable[[int, int], T], threads: int) -> list[T]:
    """work(a, b) of every slab; returns when all are done, in order."""
    return together(work, slabs_of(rows, threads))


def together(work: Callable[[int, int], T], slabs: list[tuple[int, int]]) -> list[T]:
    """work(a, b) of slabs at the same time, the first of them here; results in order."""
    return at_once([partial(work, a, b) for a, b in slabs]) if slabs else []
