"""Rows of pictures and of volumes on all threads."""

from collections.abc import Callable

from errant_gust.core.blocks import threads
from errant_gust.core.grids.slabs import each_slab


def over_rows(rows: int, work: Callable[[int, int], object]) -> None:
    """work(a, b) of every slab of rows; returns when all are done."""
    each_slab(rows, work, threads())
