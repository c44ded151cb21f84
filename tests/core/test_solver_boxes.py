"""The Poisson solver in boxes of any proportion: what remains is tested, and too much is an error, never an answer."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from errant_gust.core.checks import findings
from errant_gust.core.errors import SolverError
from errant_gust.core.fields.sampling import sample
from errant_gust.core.fields.solved import solved_of
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.grids.staggered.faces import BOUND, FaceGrid, open_shares, project
from errant_gust.core.grids.staggered.poisson import Poisson
from errant_gust.core.study.building import lane
from tests.studies import node, plan

F = np.float32
STRETCHED = (("constant", {"makes": "vector"}), ("formula", {"expression": "1 + 0.3*x, 0, 0"}))
BALL = [{"id": "ball", "kind": "sphere", "params": {"radius": 0.4}}]


def room(x, y, z, h):
    upper = [0.5 * x, 0.5 * y, 0.5 * z]
    return {"regions": [{"id": "room", "bounds": {"lower": [-v for v in upper], "upper": upper}, "voxel_size": h}]}


def free(sides, **more):
    return ("divergence_free", {"region": "room", "sides": sides, **more})


@pytest.mark.parametrize("sides", ["closed", "open", "flow through"])
@pytest.mark.parametrize("size", [(20, 2, 2, 0.1), (24, 24, 1, 0.1), (20, 2, 2, 0.05)])
def test_long_and_flat_boxes_are_solved(size, sides, rng):
    n = node(*STRETCHED, free(sides, obstacles=["ball"]), shapes=BALL, **room(*size))
    half = 0.5 * np.array(size[:3]) - size[3]
    v = sample(n, rng.uniform(-half, half, (20_000, 3)))[0]
    assert solved_of(n).after < 1e-4
    # the field is the gradient of x + 0.15 x²: shut in, nothing remains of it; else it hurries past the ball at most
    assert np.linalg.norm(v, axis=1).max() < (1e-3 if sides == "closed" else 8)


def test_a_stream_in_a_plate_of_one_voxel_passes_a_cylinder_at_twice_its_speed(rng):
    n = node(
        ("potential_flow", {"region": "room", "obstacles": ["post"], "stream": [1.5, 0, 0]}),
        shapes=[{"id": "post", "kind": "cylinder", "params": {"radius": 0.5, "height": 10}}], **room(8, 8, 0.1, 0.025),
    )  # fmt: skip
    points = rng.uniform(-1, 1, (20_000, 3)) * [3.9, 3.9, 0.04]
    points = points[np.linalg.norm(points[:, :2], axis=1) > 0.5]
    assert np.linalg.norm(sample(n, points)[0], axis=1).max() == pytest.approx(3.0, rel=0.05)
    assert solved_of(n).after < 1e-5


def wild(region, shares, seed):
    made = np.random.default_rng(seed)
    return FaceGrid(region, *(made.normal(size=s.shape).astype(F) for s in shares))


def test_parts_that_only_a_closed_face_divides_are_known_as_two():
    """A sheet without thickness: no cell is inside it, all its faces are closed."""
    region = GridRegion((0, 0, 0), (24, 10, 10), 0.1)
    shares = open_shares(region, None)
    shares[0][7] = 0
    solved = project(wild(region, shares, 4), shares)
    assert solved.after < 1e-4
    for axis, side in ((0, 0), (0, -1), (1, 0), (1, -1), (2, 0), (2, -1)):
        shares[axis][(slice(None),) * axis + (side,)] = 0
    solver = Poisson(*shares)
    assert solver.several
    p = solver.solve(np.random.default_rng(1).normal(size=region.shape).astype(F))
    assert abs(p[:7].mean()) < 1e-3 * p.std()
    assert abs(p[7:].mean()) < 1e-3 * p.std()


def test_many_pockets_at_once():
    """Cells in checks of eight, walls between them."""
    region = GridRegion((0, 0, 0), (33, 33, 17), 0.1)
    shares = open_shares(region, None)
    for axis, s in enumerate(shares):
        s[(slice(None),) * axis + (slice(0, None, 4),)] = 0
    solved = project(wild(region, shares, 5), shares)
    assert solved.after < 1e-4


@settings(max_examples=25, deadline=None)
@given(
    shape=st.tuples(st.integers(2, 90), st.integers(2, 30), st.integers(2, 30)).flatmap(st.permutations),
    opened=st.tuples(*[st.booleans()] * 6), seed=st.integers(0, 10**6), balls=st.integers(0, 4),
)  # fmt: skip
def test_random_boxes_are_solved_whatever_stands_in_them(shape, opened, seed, balls):
    made = np.random.default_rng(seed)
    region = GridRegion((0, 0, 0), tuple(shape), 1.0)
    corner = np.stack(np.meshgrid(*[np.arange(n + 1) for n in shape], indexing="ij"), axis=-1)
    d = np.full(corner.shape[:3], np.inf)
    for _ in range(balls):
        middle, radius = made.uniform(0, shape), made.uniform(0.5, max(1.0, 0.5 * min(shape)))
        d = np.minimum(d, np.sqrt(((corner - middle) ** 2).sum(axis=-1)) - radius)
    if not (d > 0).any():
        return
    shares = open_shares(region, d.astype(F) if balls else None)
    solved = project(wild(region, shares, seed), shares, open_low=opened[:3], open_high=opened[3:])
    assert solved.after <= BOUND
    speeds = np.concatenate(
        [f[s > 0] for f, s in zip((solved.grid.u, solved.grid.v, solved.grid.w), shares, strict=False)]
    )
    assert np.sqrt(np.mean(speeds.astype(float) ** 2)) < 3, "a projection shortens, it never adds energy but at sides"


def test_what_remains_too_large_is_an_error_with_words_and_a_check(monkeypatch):
    fields = [lane("bad", *STRETCHED, free("open", obstacles=["ball"]))]
    monkeypatch.setattr(Poisson, "padded", lambda self, b, **_: np.zeros([n + 2 for n in self.shape], F))
    study = plan(*fields, shapes=BALL, **room(4, 2, 2, 0.2))
    with pytest.raises(SolverError, match=r"fields\.bad\..*could not be made free of divergence.*a region less long"):
        sample(study.at(0).lane("bad"), np.zeros((1, 3)))
    told = [f for f in findings(study) if f.level == "error"]
    assert told
    assert told[0].where.startswith("fields.bad.")
    assert "free of divergence" in told[0].what
