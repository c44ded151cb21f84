"""The Poisson solver and what is solved with it, against known answers."""

import tracemalloc

import numpy as np
import pytest

from errant_gust.core.errors import BudgetError, StudyError
from errant_gust.core.fields.gridded import KEPT
from errant_gust.core.fields.sampling import sample
from errant_gust.core.fields.solved import solved_of
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.grids.staggered.faces import FaceGrid, face_points, open_shares, project
from errant_gust.core.grids.staggered.poisson import BYTES_A_VOXEL, Poisson
from tests.studies import lane, node, plan

F = np.float32


def closed_box(n):
    shares = [np.ones(s, F) for s in ((n + 1, n, n), (n, n + 1, n), (n, n, n + 1))]
    for axis, s in enumerate(shares):
        s[(slice(None),) * axis + (0,)] = 0
        s[(slice(None),) * axis + (-1,)] = 0
    return shares


def corners_of(n, half, distance):
    axis = np.linspace(-half, half, n + 1)
    x, y, z = np.meshgrid(axis, axis, axis, indexing="ij")
    return GridRegion((-half,) * 3, (n, n, n), 2 * half / n), distance(x, y, z).astype(F)


def torus_and_sphere(x, y, z):
    ring = np.sqrt((np.sqrt((x - 0.3) ** 2 + (y + 0.2) ** 2) - 1.1) ** 2 + (z - 0.5) ** 2) - 0.25
    return np.minimum(np.sqrt(x**2 + y**2 + z**2) - 0.5, ring)


@pytest.mark.parametrize("direct", [True, False])
def test_a_manufactured_solution_converges_with_second_order(direct):
    errors = []
    for n in (12, 24, 48):
        x, y, z = np.meshgrid(*[(np.arange(n) + 0.5) / n] * 3, indexing="ij")
        exact = np.cos(np.pi * x) * np.cos(2 * np.pi * y) * np.cos(np.pi * z)
        solver = Poisson(*closed_box(n))
        assert solver.plain
        if not direct:
            shares = closed_box(n)
            shares[0][n // 2] *= 1 - 1e-6  # not quite whole faces: the iterative solver takes over
            solver = Poisson(*shares)
            assert not solver.plain
        p = solver.solve((6 * np.pi**2 * exact / n**2).astype(F), tolerance=1e-5)
        errors.append(np.sqrt(np.mean((p - p.mean() - exact) ** 2)))
    assert errors[0] / errors[1] == pytest.approx(4, rel=0.15)
    assert errors[1] / errors[2] == pytest.approx(4, rel=0.15)


def test_divergence_is_gone_and_iterations_do_not_grow_with_resolution():
    rng = np.random.default_rng(2)
    counts = []
    for n in (24, 48, 72):
        region, corners = corners_of(n, 2.0, torus_and_sphere)
        shares = open_shares(region, corners)
        wild = FaceGrid(region, *(rng.normal(size=s.shape).astype(F) for s in shares))
        solved = project(wild, shares, open_low=(True,) * 3, open_high=(False, True, True))
        assert solved.after < 1e-5
        assert solved.before > 0.5
        counts.append(solved.iterations)
    assert max(counts) <= min(counts) + 2, counts
    assert max(counts) <= 12


def test_a_sealed_pocket_with_its_own_null_space_is_solved():
    n = 24
    region, corners = corners_of(n, 1.0, lambda x, y, z: np.abs(np.sqrt(x**2 + y**2 + z**2) - 0.6) - 0.12)
    shares = open_shares(region, corners)
    rng = np.random.default_rng(3)
    solved = project(FaceGrid(region, *(rng.normal(size=s.shape).astype(F) for s in shares)), shares)
    assert solved.after < 1e-5
    assert np.isfinite(solved.grid.u).all()


@pytest.mark.parametrize(("kind", "top"), [("sphere", 1.5), ("cylinder", 2.0)])
def test_potential_flow_past_a_body_is_the_analytic_one(kind, top):
    """The exact flow is put in at the sides; the solver must find it everywhere inside."""
    errors, fastest = [], []
    radius = 0.5

    def exact(points):
        x, y, z = points.astype(np.float64)
        if kind == "sphere":
            r = np.sqrt(x * x + y * y + z * z)
            s = radius**3 / 2 / r**3
            return np.stack([1 + s * (1 - 3 * x * x / r**2), -3 * s * x * y / r**2, -3 * s * x * z / r**2])
        r2 = x * x + y * y
        s = radius**2 / r2**2
        return np.stack([1 - s * (x * x - y * y), -2 * s * x * y, np.zeros_like(x)])

    def distance(x, y, z):
        return np.sqrt(x * x + y * y + (z * z if kind == "sphere" else 0)) - radius

    for n in (24, 48):
        region, corners = corners_of(n, 1.2, distance)
        shares = open_shares(region, corners)
        parts, truth = [], []
        for axis, share in enumerate(shares):
            points = face_points(region, axis, np.arange(share.size))
            points[:, np.abs(points).sum(axis=0) == 0] = 1e-6
            full = exact(points)[axis].reshape(share.shape)
            start = np.full(share.shape, 1.0 if axis == 0 else 0.0)
            for side in (0, -1):
                at = (slice(None),) * axis + (side,)
                start[at] = full[at]
            parts.append(start.astype(F))
            truth.append(full)
        solved = project(FaceGrid(region, *parts), shares)
        found = (solved.grid.u, solved.grid.v, solved.grid.w)
        whole = [s > 0.99 for s in shares]
        squares = np.concatenate([((f - t)[w]) ** 2 for f, t, w in zip(found, truth, whole, strict=True)])
        errors.append(np.sqrt(squares.mean()))
        fastest.append(solved.grid.u[whole[0]].max())
    assert errors[1] < 0.02
    assert errors[0] / errors[1] > 1.7
    assert fastest[1] == pytest.approx(top, rel=0.06)
    assert abs(fastest[1] - top) < abs(fastest[0] - top)


def test_the_step_has_no_divergence_between_the_voxels_either(rng):
    n = node(
        ("noise", {"makes": "vector", "feature_size": 0.8, "octaves": 2}),
        ("divergence_free", {"region": "room"}),
    )
    points = rng.uniform(-1.8, 1.8, (4000, 3)).astype(F)
    v, slope = sample(n, points, gradient=True)
    speed = np.sqrt((v**2).sum(1).mean())
    trace = np.abs(np.trace(slope, axis1=1, axis2=2))
    assert np.quantile(trace, 0.99) * 0.1 / speed < 1e-3
    _, before = sample(n.incoming, points, gradient=True)
    assert np.abs(np.trace(before, axis1=1, axis2=2)).mean() * 0.1 / speed > 0.1


def test_a_potential_flow_step_goes_around_a_mesh_and_beyond_is_the_stream(rng):
    n = node(("potential_flow", {"region": "room", "obstacles": ["ball"], "stream": [2, 0, 0]}))
    way = rng.normal(size=(3000, 3))
    way /= np.linalg.norm(way, axis=1, keepdims=True)
    v, _ = sample(n, (way * 0.62).astype(F))
    assert np.abs((v * way).sum(1)).mean() < 0.12 * 2
    assert np.linalg.norm(v, axis=1).max() == pytest.approx(1.5 * 2, rel=0.12)
    far, _ = sample(n, F([[5, 0, 0]]))
    assert far[0] == pytest.approx([2, 0, 0])
    assert solved_of(n).after < 1e-5


def test_a_moving_obstacle_pushes_the_flow_in_front_of_it():
    moving = [{"id": "ball", "kind": "sphere", "params": {
        "radius": 0.5, "move": {"keys": [[0, [-1, 0, 0]], [2, [1, 0, 0]]], "between": "linear"}}}]  # fmt: skip
    p = plan(
        lane("v", ("potential_flow", {"region": "room", "obstacles": ["ball"], "stream": [0, 0, 0]})), shapes=moving
    )
    v, _ = sample(p.at(1.0).lane("v"), F([[0.56, 0, 0], [-0.56, 0, 0], [0, 0.6, 0]]))
    dipole = (0.5 / 0.56) ** 3  # of the speed of the ball, on its axis
    assert v[0, 0] == pytest.approx(dipole, abs=0.08)
    assert v[1, 0] == pytest.approx(dipole, abs=0.08)
    assert v[2, 0] < 0, "beside the ball the flow goes back"


def test_a_closed_mesh_with_inlet_and_outlet_carries_the_same_flux_through_every_section():
    shapes = [
        {"id": "duct", "kind": "cone", "params": {"low": 0.8, "high": 0.5, "height": 3}},
        {"id": "in", "kind": "cylinder", "params": {"radius": 0.75, "height": 0.3, "move": [0, 0, -1.3]}},
        {"id": "out", "kind": "cylinder", "params": {"radius": 0.45, "height": 0.3, "move": [0, 0, 1.3]}},
    ]
    params = {"region": "room", "inlets": ["in"], "outlets": ["out"], "flux": 0.7}
    same = sample(node(("potential_flow", {**params, "inside": ["duct"]}), shapes=shapes), np.zeros((1, 3)))[0]
    n = node(("bore_flow", {**params, "curve": "duct"}), shapes=shapes)
    assert sample(n, np.zeros((1, 3)))[0] == pytest.approx(same)
    solved = solved_of(n)
    flux = (solved.grid.w * solved.shares[2]).sum(axis=(0, 1)) * 0.1**2
    middle = flux[12:-12]
    assert np.allclose(middle, 0.7, rtol=0.01), middle
    with pytest.raises(StudyError, match="solved on a region"):
        sample(node(("bore_flow", {"curve": "duct"}), shapes=shapes), np.zeros((1, 3)))
    with pytest.raises(StudyError, match="an inlet and an outlet"):
        sample(node(("potential_flow", {"region": "room", "inside": ["duct"]}), shapes=shapes), np.zeros((1, 3)))


def test_turned_regions_solve_the_same_flow(rng):
    turned = [{"id": "room", "bounds": {"lower": [-2] * 3, "upper": [2] * 3}, "voxel_size": 0.1, "turn": [20, -30, 40]}]
    params = {"region": "room", "obstacles": ["ball"], "stream": [1, 0, 0], "sides": "open"}
    points = rng.uniform(-1, 1, (800, 3)).astype(F)
    points = points[np.linalg.norm(points, axis=1) > 0.75]
    straight, _ = sample(node(("potential_flow", params)), points)
    slanted, _ = sample(node(("potential_flow", params), regions=turned), points)
    assert np.sqrt(np.mean((straight - slanted) ** 2)) < 0.03


def test_memory_is_as_stated_and_refused_beforehand(monkeypatch):
    KEPT.clear()
    n = 64
    region, corners = corners_of(n, 2.0, torus_and_sphere)
    shares = open_shares(region, corners)
    grid = FaceGrid(region, *(np.ones(s.shape, F) for s in shares))
    tracemalloc.start()
    project(grid, shares)
    peak = tracemalloc.get_traced_memory()[1] / n**3
    tracemalloc.stop()
    assert peak < BYTES_A_VOXEL, f"{peak:.0f} bytes a voxel"
    monkeypatch.setenv("ERRANT_GUST_BUDGET_MB", "3")
    with pytest.raises(BudgetError, match="would fit"):
        sample(node(("potential_flow", {"region": "room"})), np.zeros((1, 3)))
