"""Sampling of face velocities and of grids by brick; the Poisson operator as a matrix."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from errant_gust.core.grids.faces import FaceGrid, face_points, open_shares, project, spread_into_walls
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.poisson import Poisson
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.kernels import poisson as kernels

F = np.float32
REGION = GridRegion((-0.7, -0.5, 0.1), (14, 11, 9), 0.1)


def faces(function, region=REGION):
    """Velocities on faces from a function of places (3, n) in the region's own axes."""
    parts = []
    for axis in range(3):
        shape = list(region.shape)
        shape[axis] += 1
        points = face_points(region, axis, 0, int(np.prod(shape)))
        v = region.axes.T @ function(points)
        parts.append(v[axis].reshape(shape).astype(F))
    return FaceGrid(region, *parts)


def inside(rng, count=800, margin=0.15):
    low, high = np.array(REGION.lower) + margin, np.array(REGION.upper) - margin
    return rng.uniform(low, high, (count, 3)).astype(F).T.copy()


def test_a_linear_velocity_is_reproduced_exactly_with_its_gradient(rng):
    a = rng.normal(size=(3, 3))
    b = rng.normal(size=3)
    grid = faces(lambda p: a @ p + b[:, None])
    points = inside(rng)
    v, slope = grid.sample(points, gradient=True)
    assert np.allclose(v, a @ points + b[:, None], atol=2e-5)
    assert np.allclose(slope, a[:, :, None], atol=2e-4)


def test_a_turned_face_grid_gives_the_same_velocity_in_the_scene(rng):
    a, b = rng.normal(size=(3, 3)), rng.normal(size=3)
    turned = GridRegion((-1, -1, -1), (20, 20, 20), 0.1, (30, 10, -50))
    grid = faces(lambda p: a @ p + b[:, None], turned)
    points = rng.uniform(-0.4, 0.4, (3, 300)).astype(F)
    v, slope = grid.sample(points, gradient=True)
    assert np.allclose(v, a @ points + b[:, None], atol=3e-5)
    assert np.allclose(slope, a[:, :, None], atol=5e-4)


def test_the_divergence_between_cells_is_interpolated_from_the_cells(rng):
    wild = [rng.normal(size=s.shape).astype(F) for s in open_shares(REGION, None)]
    grid = FaceGrid(REGION, *wild)
    points = inside(rng)
    _, slope = grid.sample(points, gradient=True)
    cells = Grid(REGION, np.ascontiguousarray(grid.divergence() / REGION.voxel_size, F))
    assert np.allclose(np.trace(slope), cells.sample(points), atol=1e-3 * np.abs(cells.values).max())


def test_spreading_into_walls_keeps_what_is_open_and_fills_what_is_not(rng):
    _, corners = REGION, np.zeros([n + 1 for n in REGION.shape], F)
    corners[:] = np.linspace(-0.35, 1.05, REGION.shape[0] + 1)[:, None, None]
    shares = open_shares(REGION, corners)
    grid = faces(lambda p: np.stack([0 * p[0], 1 + 0 * p[0], 0 * p[0]]))
    full = spread_into_walls(grid, shares, layers=3)
    known = shares[1] >= 0.35
    assert np.array_equal(full.v[known], grid.v[known])
    first_open = int(np.argmax(known.any(axis=(1, 2))))
    assert (full.v[first_open - 2] == 1).all(), "the flow beside the wall reaches into it"


@given(st.integers(0, 1000), st.tuples(*[st.integers(3, 9)] * 3))
def test_the_operator_is_symmetric_and_positive_for_any_shares(seed, shape):
    rng = np.random.default_rng(seed)
    nx, ny, nz = shape
    sizes = ((nx + 1, ny, nz), (nx, ny + 1, nz), (nx, ny, nz + 1))
    shares = [
        np.where(rng.random(s) < 0.2, 0, np.where(rng.random(s) < 0.5, 1, rng.random(s))).astype(F) for s in sizes
    ]
    dinv = np.zeros((nx + 2, ny + 2, nz + 2), F)
    lo, hi = np.empty((nx, ny), np.int32), np.empty((nx, ny), np.int32)
    kernels.set_up(*shares, dinv, lo, hi)
    x, y, ax, ay = (np.zeros_like(dinv) for _ in range(4))
    x[1:-1, 1:-1, 1:-1], y[1:-1, 1:-1, 1:-1] = rng.normal(size=(2, *shape))
    xx = kernels.apply(x, *shares, dinv, lo, hi, ax, 0, nx)
    kernels.apply(y, *shares, dinv, lo, hi, ay, 0, nx)
    assert (ax * y).sum() == pytest.approx((x * ay).sum(), abs=1e-3 * float(np.abs(ax).sum()))
    assert xx == pytest.approx(float((ax * x).sum()), rel=1e-4)
    assert xx > -1e-4
    r = np.zeros_like(dinv)
    kernels.residual(x, ay, *shares, dinv, lo, hi, r, 0, nx)
    assert np.allclose(r, ay - ax, atol=1e-4)


@given(st.integers(0, 1000))
def test_any_cut_box_is_solved_and_threads_do_not_matter(seed):
    rng = np.random.default_rng(seed)
    shape = tuple(int(n) for n in rng.integers(6, 15, 3))
    region = GridRegion((0, 0, 0), shape, 0.1)
    middle = rng.uniform(0.3, 0.9, 3)
    axes = [np.arange(n + 1) * 0.1 for n in shape]
    x, y, z = np.meshgrid(*axes, indexing="ij")
    corners = np.sqrt((x - middle[0]) ** 2 + (y - middle[1]) ** 2 + (z - middle[2]) ** 2) - rng.uniform(0.05, 0.4)
    shares = open_shares(region, corners.astype(F))
    wild = FaceGrid(region, *(rng.normal(size=s.shape).astype(F) for s in shares))
    sides = tuple(bool(b) for b in rng.random(3) < 0.5)
    one, two = (project(wild, shares, open_low=sides, threads=t) for t in (1, 2))
    assert one.after < 1e-4
    assert np.allclose(one.grid.u, two.grid.u, atol=1e-5)


def test_faces_of_a_plane_through_cells_are_open_by_the_right_share():
    corners = np.zeros([n + 1 for n in REGION.shape], F)
    z = np.arange(REGION.shape[2] + 1)
    corners[:] = (z - 3.25)[None, None, :]
    wx, wy, wz = open_shares(REGION, corners)
    assert wx[2, 2] == pytest.approx([0, 0, 0, 0.75, *[1] * 5], abs=1e-6)
    assert wy[2, 2] == pytest.approx([0, 0, 0, 0.75, *[1] * 5], abs=1e-6)
    assert wz[2, 2].tolist() == [0] * 4 + [1] * 6


@given(st.integers(0, 1000), st.sampled_from(["zero", "clamp", "repeat"]))
def test_sampling_by_brick_is_sampling(seed, outside):
    rng = np.random.default_rng(seed)
    shape = tuple(int(n) for n in rng.integers(1, 22, 3))
    turn = (0.0, 0.0, 0.0) if seed % 2 else (10.0, 20.0, 30.0)
    grid = Grid(GridRegion((0, 0, 0), shape, 0.1, turn), rng.normal(size=(*shape, 3)).astype(F), outside)
    points = rng.uniform(-1, 3, (500, 3)).astype(F)
    assert np.array_equal(grid.sample_many(points), grid.sample(np.ascontiguousarray(points.T)).T)


def test_closed_boxes_of_odd_sizes_reach_the_coarsest_level():
    for shape in ((1, 7, 5), (3, 3, 3), (17, 5, 2), (6, 6, 31)):
        region = GridRegion((0, 0, 0), shape, 0.1)
        shares = open_shares(region, None)
        shares[0][:] *= F(0.5)  # no plain cell: the iterative solver
        rng = np.random.default_rng(1)
        solved = project(FaceGrid(region, *(rng.normal(size=s.shape).astype(F) for s in shares)), shares)
        assert solved.after < 1e-4, shape
    assert Poisson(*(np.zeros_like(s) for s in shares)).solve(np.ones(shape, F)).max() == 0, (
        "no open face: nothing to do"
    )
