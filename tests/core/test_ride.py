"""Ride: points keep their place on a surface that moves, grows, turns or is deformed."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from errant_gust.core.checks import findings
from errant_gust.core.errors import StudyError
from errant_gust.core.flows.particles.flow import ParticleFlow
from errant_gust.core.flows.particles.riding import barycentric
from errant_gust.core.geometry.mesh import Mesh
from errant_gust.core.study.building import lane
from tests.liquids import ball, box
from tests.studies import plan


def riders(shape, *steps, ride=None, shapes=(), fields=(), emit=None, regions=()):
    """Points on a shape that ride on it."""
    born = {"shape": shape["id"], "timing": "all at once", "count": 300, "life": 99, "life_variation": 0,
            "preview_share": 1, **(emit or {})}  # fmt: skip
    made = lane("p", ("emit", born), *steps, ("ride", {"shape": shape["id"], **(ride or {})}))
    return plan(*fields, flows=[{**made, "kind": "particles"}], shapes=[*shapes, shape], regions=list(regions),
                clock={"fps": 24, "start": 1, "end": 24})  # fmt: skip


def run(p, frames):
    flow = ParticleFlow(p, "p")
    state = flow.first()
    for n in range(1, frames + 1):
        state = flow.next(state, n)
    return state


KEYED = {"keys": [[0, [0, 0, 0]], [1, [2, 1, 0]]]}
TURNED = {"keys": [[0, [0, 0, 0]], [1, [0, 0, 90]]]}


def test_points_keep_their_place_on_what_moves_and_turns():
    p = riders(box("b", (-0.5, -0.4, -0.3), (0.5, 0.4, 0.3)))
    doc = p.study.shapes[0].params
    doc["move"], doc["turn"] = KEYED, TURNED
    first, last = run(p, 0), run(p, 12)
    one, two = (p.at(p.study.clock.seconds(n)).shape("b") for n in (1, 13))
    assert two.to_local(last.position) == pytest.approx(one.to_local(first.position), abs=2e-5)
    moved = np.abs(last.position - first.position).max()
    assert moved > 0.5
    speed = (last.position - run(p, 11).position) * 24
    assert last.velocity == pytest.approx(speed, abs=1e-3)


@pytest.mark.slow("a run on a deformed shape")
def test_on_a_deformed_shape_they_stay_on_their_triangles():
    swirl = lane("swirl", ("curl_noise", {"feature_size": 0.8, "strength": 0.4, "evolve": 0.5}))
    made = {"id": "d", "kind": "deformed", "params": {"shape": "b", "field": "swirl"}}
    p = riders(made, shapes=[ball("b", 0.6, (0, 0, 0))], fields=[swirl], emit={"apart": 0.05})
    first, last = run(p, 0), run(p, 12)
    surfaces = [p.at(p.study.clock.seconds(n)).shape("d").surface for n in (1, 13)]
    assert np.array_equal(surfaces[0][1], surfaces[1][1])
    shares = []
    for (vertices, faces), state in zip(surfaces, (first, last), strict=True):
        mesh = Mesh(vertices, faces, watertight=True)
        away, on, which = mesh.closest(state.position.T)
        assert away.max() < 2e-4
        corners = mesh.faces[mesh.order[which]]
        shares.append((corners, barycentric(vertices[corners].astype(float), on)))
    same = (shares[0][0] == shares[1][0]).all(axis=1)
    assert same.mean() > 0.95  # those on an edge may count for either side
    assert shares[0][1][same] == pytest.approx(shares[1][1][same], abs=5e-3)
    assert np.abs(last.position - first.position).max() > 0.05


def test_what_is_off_the_surface_stays_as_far_off_and_near_ones_alone_may_ride():
    growing = {"id": "g", "kind": "sphere", "params": {"radius": {"keys": [[0, 0.5], [1, 1.0]]}}}
    p = riders(growing, shapes=[ball("b", 0.7, (0, 0, 0))], emit={"shape": "b"})
    radius = np.linalg.norm(run(p, 23).position, axis=0)
    end = float(p.at(p.study.clock.seconds(24)).shape("g").kind.radius)
    assert radius == pytest.approx(end + 0.2, abs=0.02)
    p = riders(growing, shapes=[ball("b", 0.7, (0, 0, 0))], emit={"shape": "b"}, ride={"reach": 0.05})
    assert np.linalg.norm(run(p, 3).position, axis=0) == pytest.approx(0.7, abs=1e-3)
    half = riders(growing, emit={"where": "surface"}, ride={"share": 0.5})
    assert np.linalg.norm(run(half, 23).position, axis=0).mean() < 0.5 + 0.75 * (end - 0.5)


def test_births_within_a_frame_ride_from_their_moment_on():
    moving = box("b", (-0.5, -0.5, -0.5), (0.5, 0.5, 0.5))
    p = riders(moving, emit={"timing": "rate", "rate": 2000, "count": 1})
    p.study.shapes[0].params["move"] = {"keys": [[0, [0, 0, 0]], [1, [3, 0, 0]]]}
    state = run(p, 12)
    shape = p.at(p.study.clock.seconds(13)).shape("b")
    assert np.abs(shape.distance(state.position)[0]).max() < 2e-3
    assert state.count > 900


def test_a_surface_made_anew_is_refused_with_what_would_do():
    field = lane("d", ("distance", {"shape": "b"}), ("add", {"field": "n"}))
    noise = lane("n", ("noise", {"feature_size": 0.4, "strength": 0.2, "evolve": 2}))
    made = {"id": "s", "kind": "field_surface", "params": {"field": "d", "region": "r"}}
    regions = [{"id": "r", "bounds": {"lower": [-1] * 3, "upper": [1] * 3}, "voxel_size": 0.1}]
    p = riders(made, shapes=[ball("b", 0.6, (0, 0, 0))], fields=[noise, field], regions=regions)
    with pytest.raises(StudyError, match="other triangles") as error:
        run(p, 2)
    assert "Stay out" in error.value.fix
    assert error.value.where == "flows.p.s1.shape"


def test_it_counts_as_motion_and_a_shape_that_stands_still_costs_nothing():
    p = riders(ball("b", 0.5, (0, 0, 0)))
    assert "nothing_carries" not in [f.code for f in findings(p)]
    assert np.array_equal(run(p, 0).position, run(p, 4).position)


@given(st.integers(0, 2**31 - 1))
@settings(max_examples=50, deadline=None)
def test_shares_of_corners_give_the_point_back(seed):
    rng = np.random.default_rng(seed)
    corners = rng.uniform(-1, 1, (20, 3, 3))
    shares = rng.dirichlet(np.ones(3), 20)
    points = np.einsum("nk,nkc->nc", shares, corners)
    assert barycentric(corners, points) == pytest.approx(shares, abs=1e-5)
    flat = np.zeros((1, 3, 3))
    assert barycentric(flat, np.zeros((1, 3))) == pytest.approx(1 / 3)
