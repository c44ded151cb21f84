"""The loops of grains: to nodes and back, how strains turn, what the law of yielding leaves of them."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from errant_gust.core.flows.grains.bundle import Bundle
from errant_gust.core.kernels import grains as kernels
from errant_gust.core.kernels import node_lines as lines
from errant_gust.core.kernels.compiler import kernel

F = np.float32


def lines_kernels():
    @kernel
    def there(nodes, records, sums, at, line, plane):
        lines.give(sums, records, 0)
        lines.put(nodes, at, line, plane, sums)

    @kernel
    def back(nodes, records, at, line, plane):
        lines.take(nodes, at, line, plane, records, 0)

    @kernel
    def turned(a, out):
        lines.turned(a, 3, 20, out, 5, 16)

    return there, back, turned


def test_lines_of_nodes_are_what_they_say(rng):
    """What is given to 27 nodes, and taken from them, against sums by whole arrays."""
    there, back, turned = lines_kernels()
    shape = (5, 4, 6)
    w = rng.uniform(0.1, 1, (3, 3)).astype(F)  # along x, y, z
    value, change = rng.normal(size=4).astype(F), rng.normal(size=(3, 4)).astype(F)
    record = np.zeros(lines.RECORD, F)
    record[:16] = np.concatenate([value, change.ravel()])
    record[lines.WEIGHTS : lines.WEIGHTS + 3] = w[2]
    record[lines.SHARES : lines.SHARES + 9] = np.outer(w[0], w[1]).ravel()
    weight = np.einsum("i,j,k->ijk", *w.astype(float))
    away = np.stack(np.meshgrid(*[[-1, 0, 1]] * 3, indexing="ij"))
    nodes, sums = rng.normal(size=4 * math.prod(shape) + 4).astype(F), np.zeros(lines.SUMS, F)
    before = nodes[:-4].reshape(*shape, 4).astype(float)
    at, line, plane = 4 * ((1 * shape[1] + 1) * shape[2] + 2), 4 * shape[2], 4 * shape[2] * shape[1]
    there(nodes, record, sums, at, line, plane)
    right = before.copy()
    right[1:4, 1:4, 2:5] += weight[..., None] * (value + np.einsum("aijk,ac->ijkc", away, change))
    assert np.abs(nodes[:-4].reshape(*shape, 4) - right).max() < 1e-5
    assert not sums.any()
    back(nodes, record, at, line, plane)
    found = weight[..., None] * right[1:4, 1:4, 2:5]
    assert np.abs(record[:4] - found.sum(axis=(0, 1, 2))).max() < 1e-5
    moments = np.einsum("aijk,ijkc->ac", away, found)
    assert np.abs(record[4:16].reshape(3, 4) - moments).max() < 1e-5
    a, out = rng.normal(size=400).astype(F), np.zeros(300, F)
    turned(a, out)
    square = np.array([a[3 + 20 * n : 19 + 20 * n] for n in range(16)])
    assert np.array_equal(out[5:261].reshape(16, 16), square.T)
    assert not out[:5].any()
    assert not out[261:].any()


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


def grains(rng, n, a=None, strain=0.0):
    """Numbers (ROW, n) of grains anywhere in a box, with an affine motion, sorted by their first node; and where those
    of each plane begin."""
    out = np.zeros((kernels.ROW, n), F)
    out[kernels.PLACE] = rng.uniform(4, 12, (3, n))
    first = np.floor(out[kernels.PLACE] - F(0.5)).astype(int)
    out = np.ascontiguousarray(out[:, np.lexsort(tuple(first[::-1]))])
    if a is not None:
        out[kernels.MOVING] = a @ (out[kernels.PLACE] - F(8))
        out[kernels.AFFINE] = a.reshape(9, 1)
    out[15:18] = strain
    out[kernels.SINE] = 0.5
    start = np.searchsorted(np.floor(out[0] - F(0.5)).astype(int), np.arange(SHAPE[0] + 1)).astype(np.int32)
    return out, start


def to_nodes(a, start, dt=0.0, stiff=0.0, shear=0.0):
    flat = np.zeros(4 * math.prod(SHAPE) + 4, F)
    blocks = Bundle.from_rows(a).a
    kernels.to_nodes(blocks, start, flat, SHAPE, F(dt), F(0.1), F(stiff), F(shear), F(0), 0, SHAPE[0])
    return flat


def four(flat):
    """Nodes (nx, ny, nz, 4) of the flat array that the loops take."""
    return flat[:-4].reshape(*SHAPE, 4)


def from_nodes(a, flat, dt=0.0, h=0.1, bulk=100, shear=120):
    """Numbers of grains after a step, in place; what is told of them."""
    told = np.zeros((1, 2), F)
    numbers = (F(x) for x in (dt, h, bulk, shear, 1, 8, 99, 0))
    ends, sand = (F([0, 0, 0]), F(SHAPE)), Bundle.from_rows(a)
    kernels.from_nodes(sand.a, flat, SHAPE, *numbers, *ends, told, a.shape[1], 0, a.shape[1])
    a[...] = sand.get(slice(0, kernels.ROW))
    return told[0]


@given(st.integers(0, 2**32 - 1))
def test_mass_and_momentum_are_kept_and_stress_adds_none(seed):
    rng = np.random.default_rng(seed)
    a, start = grains(rng, 2000, rng.normal(size=(3, 3)).astype(F), strain=-0.01)
    nodes = four(to_nodes(a, start, dt=1e-3, stiff=100, shear=100)).astype(float)
    assert nodes[..., 3].sum() == pytest.approx(2000, rel=1e-5)
    for axis in range(3):
        assert nodes[..., axis].sum() == pytest.approx(a[3 + axis].sum(dtype=float), abs=0.05)


@given(st.integers(0, 2**32 - 1))
def test_an_affine_motion_comes_back_unchanged(seed):
    rng = np.random.default_rng(seed)
    matrix = rng.uniform(-1, 1, (3, 3)).astype(F)
    a, start = grains(rng, 3000, matrix)
    nodes = to_nodes(a, start)
    flat = nodes[:-4].reshape(-1, 4)
    at = np.flatnonzero(flat[:, 3] > 0)
    v = np.empty((3, at.size), F)
    kernels.velocities(flat, at, v, 0, at.size)
    assert kernels.put_back(flat, at, v, F(1e6), 0, at.size) == 0
    before = a.copy()
    told = from_nodes(a, nodes)
    assert np.abs(a[kernels.MOVING] - before[kernels.MOVING]).max() < 1e-4
    assert np.abs(a[kernels.AFFINE] - before[kernels.AFFINE]).max() < 1e-3
    fastest = np.linalg.norm(before[kernels.MOVING], axis=0).max()
    assert math.sqrt(told[0]) == pytest.approx(fastest, rel=1e-3)


@pytest.mark.parametrize("sine", [0.2, 0.5, 0.8])
def test_what_is_left_of_a_strain_is_on_or_in_mohr_and_coulombs_law(sine, rng):
    """Principal stresses of every grain after a step that strains it at random: (σ1 − σ3) ≤ (σ1 + σ3) sin φ."""
    a, _ = grains(rng, 4000)
    a[15:18] = rng.uniform(-0.02, -0.01, (3, 4000))
    a[18:21] = rng.normal(0, 0.01, (3, 4000))
    # at rest its tangent is by three tenths more
    a[kernels.SINE] = math.sin(math.atan(math.tan(math.asin(sine)) / 1.3))
    flat = np.zeros(4 * math.prod(SHAPE) + 4, F)
    four(flat)[..., 3] = 8
    from_nodes(a, flat, dt=1e-6)
    e = np.zeros((4000, 3, 3))
    for c, (i, j) in enumerate(((0, 0), (1, 1), (2, 2), (0, 1), (0, 2), (1, 2))):
        e[:, i, j] = e[:, j, i] = a[15 + c]
    third = np.trace(e, axis1=1, axis2=2)[:, None, None] / 3 * np.eye(3)
    stress = -(100 * 3 * third + 120 * (e - third))  # pressed together counts above zero
    low, _, high = np.linalg.eigvalsh(stress).T
    held = (high - low) / (high + low)
    assert held.max() < sine * 1.002
    assert (held > sine * 0.998).sum() > 100, "many of them yield"
    pressure = stress.trace(axis1=1, axis2=2) / 3
    assert np.abs(a[kernels.PRESSURE] - pressure).max() < 1e-3


def test_a_strain_turns_with_the_sand(rng):
    """Half a turn in small steps, nothing else: an elastic strain comes back to itself, a quarter swaps its axes."""
    a, _ = grains(rng, 16)
    a[15:21] = F([[-0.012], [-0.008], [-0.010], [0.001], [0], [0]])
    a[kernels.SINE] = 0.95
    first = a[kernels.STRAIN].copy()
    flat = np.zeros(4 * math.prod(SHAPE) + 4, F)
    nodes = four(flat)
    x, y = np.meshgrid(np.arange(20, dtype=F) - 8, np.arange(18, dtype=F) - 8, indexing="ij")
    nodes[..., 0], nodes[..., 1], nodes[..., 3] = -y[:, :, None], x[:, :, None], 8
    steps = 400
    for _ in range(steps):
        a[kernels.PLACE] = 8
        from_nodes(a, flat, dt=math.pi / 2 / steps, h=1.0)
    quarter = a[kernels.STRAIN]
    assert quarter[:2, 0] == pytest.approx(first[1::-1, 0], abs=4e-5)
    assert quarter[3, 0] == pytest.approx(-first[3, 0], abs=4e-5)
