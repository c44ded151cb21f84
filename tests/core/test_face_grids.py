"""Sampling of face velocities and of grids by brick; the Poisson operator as a matrix."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.grids.staggered.faces import FaceGrid, face_points, open_shares, project, spread_into_walls
from errant_gust.core.grids.staggered.poisson import NONE, Poisson
from errant_gust.core.kernels import poisson as kernels

F = np.float32
REGION = GridRegion((-0.7, -0.5, 0.1), (14, 11, 9), 0.1)


def faces(function, region=REGION):
    """Velocities on faces from a function of places (3, n) in the region's own axes."""
    parts = []
    for axis in range(3):
        shape = list(region.shape)
        shape[axis] += 1
        points = face_points(region, axis, np.arange(np.prod(shape)))
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
    tips = np.empty((nx, ny), np.int32)
    kernels.set_up(*shares, dinv, lo, hi, tips, NONE)
    x, y, ax, ay = (np.zeros_like(dinv) for _ in range(4))
    x[1:-1, 1:-1, 1:-1], y[1:-1, 1:-1, 1:-1] = rng.normal(size=(2, *shape))
    kernels.apply(x, *shares, dinv, lo, hi, tips, NONE, ax, 0, nx)
    kernels.apply(y, *shares, dinv, lo, hi, tips, NONE, ay, 0, nx)
    assert (ax * y).sum() == pytest.approx((x * ay).sum(), abs=1e-3 * float(np.abs(ax).sum()))
    assert (ax * x).sum() > -1e-4
    below = np.zeros([(n + 1) // 2 + 2 for n in shape], F)
    kernels.restrict(x, ay, *shares, dinv, lo, hi, tips, NONE, below, 0, below.shape[0] - 2)
    left = np.pad((ay - ax)[1:-1, 1:-1, 1:-1], [(0, n % 2) for n in shape])
    children = left.reshape([v for n in below.shape for v in (n - 2, 2)]).sum(axis=(1, 3, 5))
    assert np.allclose(below[1:-1, 1:-1, 1:-1], 0.5 * children, atol=1e-4)


def relaxed_one_by_one(p, b, shares, colour):
    """A Gauss–Seidel sweep over the cells of one colour, written down as in a book."""
    wx, wy, wz = shares
    for i, j, k in np.ndindex(*[n - 2 for n in p.shape]):
        weights = [wx[i, j, k], wx[i + 1, j, k], wy[i, j, k], wy[i, j + 1, k], wz[i, j, k], wz[i, j, k + 1]]
        near = [(0, 1, 1), (2, 1, 1), (1, 0, 1), (1, 2, 1), (1, 1, 0), (1, 1, 2)]
        if (i + j + k + colour) % 2 == 0 and sum(weights) > 0:
            flows = sum(w * p[i + a, j + c, k + e] for w, (a, c, e) in zip(weights, near, strict=True))
            p[i + 1, j + 1, k + 1] = (b[i + 1, j + 1, k + 1] + flows) / sum(weights)


def test_rows_beside_closed_sides_and_in_empty_parts_keep_the_constant_stencil():
    shares = [s.copy() for s in open_shares(GridRegion((0, 0, 0), (6, 5, 7), 0.1), None)]
    for axis, s in enumerate(shares):
        s[(slice(None),) * axis + (0,)] = 0
    shares[1][2, 2, 3] = F(0.4)
    dinv, spans = np.zeros((8, 7, 9), F), [np.empty((6, 5), np.int32) for _ in range(3)]
    kernels.set_up(*shares, dinv, *spans, NONE)
    lo, hi, tips = spans
    cut = np.argwhere(hi > lo).tolist()
    assert cut == [[2, 1], [2, 2]], "the two rows beside the one narrowed face"
    assert (lo[2, 1], hi[2, 1]) == (3, 4)
    assert tips[3, 3] == 1
    assert tips[0, 3] == 5
    assert tips[0, 0] == 9


@pytest.mark.parametrize("slabs", [[(0, 23)], [(0, 12), (12, 23)]])
def test_several_sweeps_at_once_are_the_sweeps_one_after_the_other(rng, slabs):
    shape = nx, ny, nz = 23, 4, 5
    sizes = ((nx + 1, ny, nz), (nx, ny + 1, nz), (nx, ny, nz + 1))
    shares = [np.where(rng.random(s) < 0.2, 0, np.where(rng.random(s) < 0.5, 1, rng.random(s))) for s in sizes]
    shares = [s.astype(F) for s in shares]
    for share in shares:  # plain rows with closed ends in the other half
        share[14:] = 1
    shares[2][14:, :, 0] = shares[2][18:, :, -1] = shares[1][14:, 0] = shares[0][-1] = 0
    dinv = np.zeros([n + 2 for n in shape], F)
    lo, hi = np.empty((nx, ny), np.int32), np.empty((nx, ny), np.int32)
    tips = np.empty((nx, ny), np.int32)
    kernels.set_up(*shares, dinv, lo, hi, tips, NONE)
    on = dinv > 0

    def staged(work):
        for a, b in slabs:
            work(a, b, True)
        for a, _ in slabs[1:]:
            work(a, a, False)

    b, p = np.zeros_like(dinv), np.full_like(dinv, 7)
    b[on], p[~on] = rng.normal(size=int(on.sum())), 0
    staged(lambda a, c, whole: kernels.descend(p, b, *shares, dinv, lo, hi, tips, NONE, a, c, whole))
    known = np.zeros(dinv.shape)
    for colour in (0, 1, 0, 1):
        relaxed_one_by_one(known, b, shares, colour)
    assert np.allclose(p, known, atol=1e-5)

    coarse = np.zeros([(n + 1) // 2 + 2 for n in shape], F)
    coarse[1:-1, 1:-1, 1:-1] = rng.normal(size=[n - 2 for n in coarse.shape])
    totals, sums = np.zeros(nx), np.zeros(nx)
    staged(
        lambda a, c, whole: kernels.ascend(coarse, p, b, *shares, dinv, lo, hi, tips, NONE, totals, sums, a, c, whole)
    )
    fine = coarse[1:-1, 1:-1, 1:-1]
    for axis, n in enumerate(shape):
        fine = np.repeat(fine, 2, axis=axis)
        fine = np.take(fine, range(n), axis=axis)
    known += np.where(on, np.pad(fine, 1), 0)
    for colour in (1, 0, 1, 0):
        relaxed_one_by_one(known, b, shares, colour)
    assert np.allclose(p, known, atol=1e-5)
    assert totals.sum() == pytest.approx((b * p).sum(), rel=1e-4)
    assert sums.sum() == pytest.approx(p.sum(), rel=1e-4)

    d, q = np.zeros_like(dinv), np.zeros_like(dinv)
    d[on] = rng.normal(size=int(on.sum()))
    want, out = np.where(on, p - F(0.1) + F(0.3) * d, 0), np.zeros_like(dinv)
    staged(
        lambda a, c, whole: kernels.turn(
            d, p, F(0.1), F(0.3), *shares, dinv, lo, hi, tips, NONE, q, totals, a, c, whole
        )
    )
    kernels.apply(d, *shares, dinv, lo, hi, tips, NONE, out, 0, nx)
    assert np.allclose(d, want, atol=1e-6)
    assert np.array_equal(q, out)
    assert totals.sum() == pytest.approx(float((q.astype(float) * d).sum()), rel=1e-5)


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
