"""The loops of grains: to nodes and back, how strains turn, what the law of yielding leaves of them."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from errant_gust.core.kernels import fours
from errant_gust.core.kernels import grains as kernels
from errant_gust.core.kernels.compiler import kernel

F = np.float32


def test_fours_are_what_they_say():
    @kernel
    def twice(flat, out):
        a = fours.load(flat, np.uint64(3))
        b = fours.madd(a, F(2), (F(1), F(0), F(-1), F(0.5)))
        fours.add_to(out, np.uint64(1), F(3), b)

    flat, out = np.arange(12, dtype=F), np.ones(6, F)
    twice(flat, out)
    right = 1 + 3 * (2 * flat[3:7] + F([1, 0, -1, 0.5]))
    assert out.tolist() == [1, *right.tolist(), 1]


def test_a_third_of_an_arc_sine():
    @kernel
    def third(x, s, c):
        for i in range(x.size):
            s[i], c[i] = kernels.lode_angle(x[i])

    x = np.linspace(-1, 1, 401, dtype=F)
    s, c = np.empty_like(x), np.empty_like(x)
    third(x, s, c)
    assert np.abs(s - np.sin(np.arcsin(x.astype(float)) / 3)).max() < 1e-4
    assert np.abs(c - np.cos(np.arcsin(x.astype(float)) / 3)).max() < 1e-4


SHAPE = (20, 18, 16)


def rows(rng, n, a=None, strain=0.0):
    """Grains anywhere in a box, with an affine motion, sorted by cell."""
    out = np.zeros((n, kernels.ROW), F)
    out[:, kernels.PLACE] = rng.uniform(4, 12, (n, 3))
    out = out[np.lexsort(tuple(out[:, kernels.PLACE].astype(int).T[::-1]))]
    if a is not None:
        out[:, kernels.MOVING] = (out[:, kernels.PLACE] - F(8)) @ a.T
        out[:, kernels.AFFINE] = a.ravel()
    out[:, 15:18] = strain
    out[:, kernels.SINE] = 0.5
    start = np.searchsorted(out[:, 0].astype(int), np.arange(SHAPE[0] + 1)).astype(np.int32)
    return out, start


def to_nodes(a, start, dt=0.0, stiff=0.0, shear=0.0):
    nodes = np.zeros((*SHAPE, 4), F)
    kernels.to_nodes(a, start, nodes.reshape(-1), SHAPE, F(dt), F(0.1), F(stiff), F(shear), F(0), 0, SHAPE[0])
    return nodes


def from_nodes(a, nodes, dt=0.0, h=0.1, bulk=100, shear=120):
    """Rows of grains after a step; what is told of them."""
    told = np.zeros((1, 2), F)
    numbers = (F(x) for x in (dt, h, bulk, shear, 1, 8, 99, 0))
    ends = F([0, 0, 0]), F(SHAPE)
    kernels.from_nodes(a, nodes.reshape(-1), SHAPE, *numbers, *ends, told, len(a), 0, len(a))
    return told[0]


@given(st.integers(0, 2**32 - 1))
def test_mass_and_momentum_are_kept_and_stress_adds_none(seed):
    rng = np.random.default_rng(seed)
    a, start = rows(rng, 2000, rng.normal(size=(3, 3)).astype(F), strain=-0.01)
    nodes = to_nodes(a, start, dt=1e-3, stiff=100, shear=100).astype(float)
    assert nodes[..., 3].sum() == pytest.approx(2000, rel=1e-5)
    for axis in range(3):
        assert nodes[..., axis].sum() == pytest.approx(a[:, 3 + axis].sum(dtype=float), abs=0.05)


@given(st.integers(0, 2**32 - 1))
def test_an_affine_motion_comes_back_unchanged(seed):
    rng = np.random.default_rng(seed)
    matrix = rng.uniform(-1, 1, (3, 3)).astype(F)
    a, start = rows(rng, 3000, matrix)
    nodes = to_nodes(a, start)
    flat = nodes.reshape(-1, 4)
    at = np.flatnonzero(flat[:, 3] > 0)
    v = np.empty((3, at.size), F)
    kernels.velocities(flat, at, v, 0, at.size)
    assert kernels.put_back(flat, at, v, F(1e6), 0, at.size) == 0
    before = a.copy()
    told = from_nodes(a, nodes)
    assert np.abs(a[:, kernels.MOVING] - before[:, kernels.MOVING]).max() < 1e-4
    assert np.abs(a[:, kernels.AFFINE] - before[:, kernels.AFFINE]).max() < 1e-3
    fastest = np.linalg.norm(before[:, kernels.MOVING], axis=1).max()
    assert math.sqrt(told[0]) == pytest.approx(fastest, rel=1e-3)


@pytest.mark.parametrize("sine", [0.2, 0.5, 0.8])
def test_what_is_left_of_a_strain_is_on_or_in_mohr_and_coulombs_law(sine, rng):
    """Principal stresses of every grain after a step that strains it at random: (σ1 − σ3) ≤ (σ1 + σ3) sin φ."""
    a, _ = rows(rng, 4000)
    a[:, 15:18] = rng.uniform(-0.02, -0.01, (4000, 3))
    a[:, 18:21] = rng.normal(0, 0.01, (4000, 3))
    # at rest its tangent is by three tenths more
    a[:, kernels.SINE] = math.sin(math.atan(math.tan(math.asin(sine)) / 1.3))
    nodes = np.zeros((*SHAPE, 4), F)
    nodes[..., 3] = 8
    from_nodes(a, nodes, dt=1e-6)
    e = np.zeros((4000, 3, 3))
    for c, (i, j) in enumerate(((0, 0), (1, 1), (2, 2), (0, 1), (0, 2), (1, 2))):
        e[:, i, j] = e[:, j, i] = a[:, 15 + c]
    third = np.trace(e, axis1=1, axis2=2)[:, None, None] / 3 * np.eye(3)
    stress = -(100 * 3 * third + 120 * (e - third))  # pressed together counts above zero
    low, _, high = np.linalg.eigvalsh(stress).T
    held = (high - low) / (high + low)
    assert held.max() < sine * 1.002
    assert (held > sine * 0.998).sum() > 100, "many of them yield"
    pressure = stress.trace(axis1=1, axis2=2) / 3
    assert np.abs(a[:, kernels.PRESSURE] - pressure).max() < 1e-3


def test_a_strain_turns_with_the_sand(rng):
    """Half a turn in small steps, nothing else: an elastic strain comes back to itself, a quarter swaps its axes."""
    a, _ = rows(rng, 16)
    a[:, 15:21] = F([-0.012, -0.008, -0.010, 0.001, 0, 0])
    a[:, kernels.SINE] = 0.95
    first = a[:, kernels.STRAIN].copy()
    nodes = np.zeros((*SHAPE, 4), F)
    x, y = np.meshgrid(np.arange(20, dtype=F) - 8, np.arange(18, dtype=F) - 8, indexing="ij")
    nodes[..., 0], nodes[..., 1], nodes[..., 3] = -y[:, :, None], x[:, :, None], 8
    steps = 400
    for _ in range(steps):
        a[:, kernels.PLACE] = 8
        from_nodes(a, nodes, dt=math.pi / 2 / steps, h=1.0)
    quarter = a[:, kernels.STRAIN]
    assert quarter[0, :2] == pytest.approx(first[0, 1::-1], abs=4e-5)
    assert quarter[0, 3] == pytest.approx(-first[0, 3], abs=4e-5)
