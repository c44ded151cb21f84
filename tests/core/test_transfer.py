"""Points shared among nodes: nothing is lost, nothing moves."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from errant_gust.core.grids.transfer import onto_nodes

SHAPE = (7, 5, 6)


@given(st.integers(0, 2**32 - 1), st.integers(1, 400))
def test_amount_and_middle_are_kept(seed, count):
    rng = np.random.default_rng(seed)
    q = (rng.random((3, count)) * (np.array(SHAPE)[:, None] - 1)).astype(np.float32)
    weight = rng.random(count).astype(np.float32)
    made = onto_nodes(q, weight, SHAPE).astype(float)
    assert made.sum() == pytest.approx(weight.sum(dtype=float), rel=1e-5)
    for axis, n in enumerate(SHAPE):
        line = made.sum(axis=tuple(a for a in range(3) if a != axis))
        assert (line * np.arange(n)).sum() == pytest.approx((q[axis] * weight).sum(dtype=float), rel=1e-4, abs=1e-5)


def test_what_lies_beyond_is_left_out_and_a_node_takes_all_of_what_is_on_it():
    q = np.float32([[2, -3, 6.5], [1, 0, 1], [4, 0, 1]])
    made = onto_nodes(q, np.float32([2, 5, 4]), SHAPE)
    assert made[2, 1, 4] == 2
    assert made[6, 1, 1] == pytest.approx(2), "half of it is within"
    assert made.sum() == pytest.approx(4)
