"""Grains in blocks: numbers that are put in come out, whatever their count."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from errant_gust.core.flows.grains.bundle import Bundle
from errant_gust.core.kernels import grains as kernels
from errant_gust.core.kernels.grains import MANY, ROW


def filled(n: int) -> tuple[Bundle, np.ndarray]:
    rows = np.arange(ROW * n, dtype=np.float32).reshape(ROW, n)
    return Bundle.from_rows(rows), rows


@pytest.mark.parametrize("n", [0, 1, MANY - 1, MANY, MANY + 1, 1000])
def test_what_is_put_in_comes_out(n):
    sand, rows = filled(n)
    assert sand.a.shape == (-(-n // MANY), ROW * MANY)
    assert np.array_equal(sand.get(slice(0, ROW)), rows)
    assert np.array_equal(sand.get(kernels.PLACE), rows[:3])
    assert np.array_equal(sand.get(kernels.SINE), rows[kernels.SINE])
    sand.put(kernels.TENSION, 7)
    assert (sand.get(kernels.TENSION) == 7).all()
    if n:
        beyond = sand.a.reshape(-1, ROW, MANY)[-1, :21, (n - 1) % MANY + 1 :]
        assert not beyond.any(), "what fills up the last block is nought"


@given(st.integers(1, 300), st.integers(0, 2**32 - 1))
def test_some_of_them_by_index(n, seed):
    rng = np.random.default_rng(seed)
    sand, rows = filled(n)
    some = rng.integers(0, n, rng.integers(0, 2 * n))
    assert np.array_equal(sand.some(some).get(slice(0, ROW)), rows[:, some])
    assert np.array_equal(sand.get(kernels.MOVING, some), rows[kernels.MOVING][:, some])
    apart = np.unique(some)
    values = rng.normal(size=(3, apart.size)).astype(np.float32)
    sand.put(kernels.PLACE, values, apart)
    rows[kernels.PLACE][:, apart] = values
    assert np.array_equal(sand.get(slice(0, ROW)), rows)
    more = rng.normal(size=(ROW, 40)).astype(np.float32)
    assert np.array_equal(sand.joined(more).get(slice(0, ROW)), np.concatenate([rows, more], axis=1))
