"""Known answers of steps that a formula gives: vortex, radial, ramp, joins of fields and shapes, bunching, profiles."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.interpolate import PchipInterpolator

from errant_gust.core.fields.bunching import bunching
from errant_gust.core.fields.sampling import sample
from errant_gust.core.study.building import lane
from errant_gust.core.study.profile import profile
from errant_gust.core.study.turns import rotation, turn_of
from tests.studies import central_differences, node, values

F = np.float32
S = lane("s", ("noise", {"octaves": 1, "seed": 5}))
M = lane("m", ("mask_shape", {"shapes": ["ball"], "fade_over": 0.7}))
V = lane("v", ("curl_noise", {"octaves": 1, "seed": 6}))
OTHERS = (S, M, V)


@pytest.fixture
def points(rng):
    return rng.uniform(-1.8, 1.8, (1500, 3)).astype(F)


def of(*steps, **more):
    return node(*steps, others=OTHERS, **more)


@pytest.mark.parametrize("radius", [0.2, 0.5, 2.0, 9.0])
def test_the_circulation_of_a_vortex_is_that_of_its_core(radius):
    gamma, core = 3.0, 0.5
    a = (np.arange(720) + 0.5) / 720 * 2 * np.pi
    ring = np.stack([radius * np.cos(a), radius * np.sin(a), 0.3 + 0 * a], axis=1)
    along = np.stack([-np.sin(a), np.cos(a), 0 * a], axis=1)
    v = values(node(("vortex", {"circulation": gamma, "core": core, "lift": 0.7})), ring)
    around = (v * along).sum(1).mean() * 2 * np.pi * radius
    assert around == pytest.approx(gamma * (1 - np.exp(-(radius**2) / core**2)), rel=1e-4)
    assert v[:, 2] == pytest.approx(0.7 * np.exp(-(radius**2) / core**2), abs=1e-5)


@pytest.mark.parametrize("axis", [[0, 0, 1], [1, -1, 0.5]])
def test_a_vortex_is_the_curl_of_its_potential_and_has_no_divergence(axis, points):
    n = node(("vortex", {"axis": axis, "lift": 0.6, "core": 0.7}))
    p = n.potential(np.ascontiguousarray(points.T), None).slope
    curl = np.stack([p[2, 1] - p[1, 2], p[0, 2] - p[2, 0], p[1, 0] - p[0, 1]], axis=1)
    v, slope = sample(n, points, gradient=True)
    assert np.allclose(v, curl, atol=2e-4)
    assert np.abs(np.trace(slope, axis1=1, axis2=2)).max() < 1e-4


def test_a_vortex_steered_around_a_ball_does_not_enter_it(rng):
    way = rng.normal(size=(2000, 3))
    way /= np.linalg.norm(way, axis=1, keepdims=True)
    n = node(("vortex", {"centre": [1.2, 0, 0], "core": 0.4}), ("steer_around", {"shape": "ball", "reach": 0.4}))
    v = values(n, (way * 0.6001).astype(F))
    assert np.abs((v * way).sum(1)).max() < 5e-3 * np.linalg.norm(v, axis=1).max()


def test_an_inverse_square_source_sends_the_same_flux_through_every_sphere(rng):
    way = rng.normal(size=(400, 3))
    way /= np.linalg.norm(way, axis=1, keepdims=True)
    n = node(("radial", {"centre": [0, 0, 0], "falloff": "inverse square", "strength": 2, "reach": 1}))
    flux = [(values(n, (r * way).astype(F)) * way).sum(1).mean() * 4 * np.pi * r**2 for r in (0.8, 2.0, 5.0)]
    assert flux == pytest.approx([2 * 4 * np.pi] * 3, rel=0.01)
    inward = node(("radial", {"centre": [0, 0, 0], "way": "inward", "falloff": "even", "strength": 1.5}))
    assert values(inward, (3 * way).astype(F)) == pytest.approx(-1.5 * way, abs=1e-3)


def test_a_ramp_and_a_clock_are_linear_in_place_and_time(points):
    n = node(("ramp", {"start": [-1, 0, 0], "end": [1, 0, 0]}))
    assert values(n, points) == pytest.approx(np.clip((points[:, 0] + 1) / 2, 0, 1), abs=1e-5)
    assert values(node(("clock", {"rate": 2, "offset": 0.5}), time=1.5), points) == pytest.approx(3.5)
    keyed = {"keys": [[0, 0], [2, 4]], "between": "linear"}
    assert values(node(("clock", {"rate": keyed}), time=1.0), points) == pytest.approx(1.0, abs=1e-6)


def test_pointwise_joins_are_what_numpy_makes_of_both(points):
    f, g = values(of(("noise", {})), points), values(of(("use_field", {"field": "s"})), points)
    m = values(of(("use_field", {"field": "m"})), points)
    start = ("noise", {})
    for step, expected in (
        (("subtract", {"field": "s"}), f - g),
        (("mix", {"field": "s", "weight": 0.3}), 0.7 * f + 0.3 * g),
        (("replace", {"field": "s", "where": "m"}), f + m * (g - f)),
        (("least", {"field": "s"}), np.minimum(f, g)),
        (("greatest", {"field": "s"}), np.maximum(f, g)),
        (("strongest", {"field": "s"}), np.where(np.abs(f) >= np.abs(g), f, g)),
        (("flip",), -f), (("invert",), 1 - f), (("multiply", {"field": "m"}), f * m),
        (("threshold", {"level": 0.1, "soft": 0}), (f > 0.1).astype(F)),
        (("threshold", {"level": 0.1, "soft": 0, "keep": "the value"}), np.where(f > 0.1, f, 0)),
    ):  # fmt: skip
        assert values(of(start, step), points) == pytest.approx(expected, abs=2e-6), step


def test_vector_joins_obey_their_identities(points):
    u, w = values(of(("curl_noise", {})), points), values(of(("use_field", {"field": "v"})), points)
    start = ("curl_noise", {})
    crossed = values(of(start, ("cross", {"field": "v"})), points)
    assert crossed == pytest.approx(np.cross(u, w), abs=1e-5)
    assert np.abs((crossed * u).sum(1)).max() < 1e-4
    assert values(of(start, ("dot", {"field": "v"})), points) == pytest.approx((u * w).sum(1), abs=1e-5)
    size = np.linalg.norm(u, axis=1)
    assert values(of(start, ("magnitude",)), points) == pytest.approx(size, rel=1e-5)
    assert values(of(start, ("component", {"axis": "y"})), points) == pytest.approx(u[:, 1])
    units = np.linalg.norm(values(of(start, ("unit_length", {"floor": 1e-4})), points), axis=1)
    assert units == pytest.approx(1, abs=1e-3)
    stronger = values(of(start, ("strongest", {"field": "v"})), points)
    assert np.linalg.norm(stronger, axis=1) == pytest.approx(np.maximum(size, np.linalg.norm(w, axis=1)), rel=1e-5)


@pytest.mark.parametrize("seam", ["sharp", "round", "bevel"])
def test_joined_shapes_are_right_away_from_the_seam_and_only_rounded_at_it(seam, points):
    ball, floor = (values(node(("distance", {"shape": s})), points) for s in ("ball", "ground"))
    d2 = lane("d2", ("distance", {"shape": "ground"}))
    k = 0.3
    for how, sharp, sign in (
        ("union", np.minimum(ball, floor), -1), ("common", np.maximum(ball, floor), 1),
        ("cut", np.maximum(ball, -floor), 1),
    ):  # fmt: skip
        step = ("join", {"field": "d2", "how": how, "seam": seam, "width": k})
        d = values(node(("distance", {"shape": "ball"}), step, others=(d2,)), points)
        assert (sign * (d - sharp) > -1e-5).all(), "a union only grows at its seam, the others only shrink"
        other = -floor if how == "cut" else floor
        away = np.abs(ball - other) > 1.3 * k
        near_surface = away & (np.abs(sharp) < 0.1)
        if seam == "round":
            assert away.sum() > 100
            assert np.abs(d - sharp)[away].max() < 1e-5
            assert np.abs(d - sharp).max() <= k / 4 + 1e-5
        elif seam == "sharp":
            assert np.abs(d - sharp).max() < 1e-5
        else:
            assert np.abs(d - sharp)[near_surface].max(initial=0) < 1e-5


def test_offset_grows_a_shape_and_a_shell_is_hollow(points):
    d = values(node(("distance", {"shape": "ball"})), points)
    grown = node(("distance", {"shape": "ball"}), ("offset", {"by": 0.2}))
    shell = node(("distance", {"shape": "ball"}), ("offset", {"by": 0.1, "shell": True}))
    assert values(grown, points) == pytest.approx(d - 0.2, abs=1e-6)
    assert values(shell, points) == pytest.approx(np.abs(d) - 0.1, abs=1e-6)
    assert values(shell, F([[0, 0, 0]]))[0] > 0


def test_roughness_is_only_near_the_surface_and_no_deeper_than_asked(points):
    d = values(node(("distance", {"shape": "ball"})), points)
    rough = values(node(("distance", {"shape": "ball"}), ("roughen", {"depth": 0.1})), points)
    assert np.abs(rough - d).max() <= 0.1
    assert np.abs(rough - d)[np.abs(d) > 0.4].max() == 0
    assert np.abs(rough - d).max() > 0.02


def test_nothing_leaves_a_shape_that_keeps_inside(rng):
    way = rng.normal(size=(2000, 3))
    way /= np.linalg.norm(way, axis=1, keepdims=True)
    n = node(("wind", {"speed": 2}), ("keep_inside", {"shape": "ball", "reach": 0.3, "back": 1.0}))
    outward = (values(n, (0.6 * way).astype(F)) * way).sum(1)
    assert outward.max() < 1e-4
    back = (values(n, (0.95 * way).astype(F)) * way).sum(1)
    assert back.max() < -0.9, "outside it is led back"
    middle = values(n, F([[0, 0, 0]]))
    assert middle[0] == pytest.approx([2, 0, 0], abs=1e-5)


def test_placing_turns_vectors_with_the_field_and_twisting_keeps_their_size(points):
    turn = [20, -40, 70]
    r = rotation((20, -40, 70)).astype(F)
    placed = values(node(("curl_noise", {}), ("place", {"turn": turn, "move": [0.3, 0, 0]})), points)
    local = ((points - F([0.3, 0, 0])) @ r).astype(F)
    assert placed == pytest.approx(values(node(("curl_noise", {})), local) @ r.T, abs=1e-4)
    twisted = node(("wind", {"speed": 1.5}), ("twist", {"rate": 90}))
    v = values(twisted, points)
    angle = np.radians(90 * points[:, 2])
    assert v == pytest.approx(1.5 * np.stack([np.cos(angle), np.sin(angle), 0 * angle], axis=1), abs=1e-4)


def test_warping_by_a_constant_is_moving(points):
    push = lane("push", ("constant", {"vector": [0.5, 0, -0.2]}))
    warped = node(("noise", {}), ("warp", {"by": "push", "amount": 2}), others=(push,))
    moved = values(node(("noise", {})), (points - F([1.0, 0, -0.4])).astype(F))
    assert values(warped, points) == pytest.approx(moved, abs=1e-5)


@pytest.mark.parametrize("k", [0.5, -0.5])
def test_the_bunching_figure_of_an_even_squeeze_is_known(k, rng):
    """v = (1, 0, 0) − k (y, z) squeezes by e^(2kt) while it travels; beside it, a stream alone stays at 1."""
    planes = [{"id": "y", "kind": "plane", "params": {"turn": [-90, 0, 0]}}, {"id": "z", "kind": "plane", "params": {}}]
    fields = (
        lane("y", ("distance", {"shape": "y"})), lane("z", ("distance", {"shape": "z"})),
        lane("vy", ("constant", {"vector": [0, -k, 0]}), ("multiply", {"field": "y"})),
        lane("vz", ("constant", {"vector": [0, 0, -k]}), ("multiply", {"field": "z"})),
    )  # fmt: skip
    n = node(
        ("constant", {"vector": [1, 0, 0]}), ("add", {"field": "vy"}), ("add", {"field": "vz"}),
        others=fields, shapes=planes,
    )  # fmt: skip
    points = rng.uniform(-0.1, 0.1, (500, 3)).astype(F)
    found = bunching(n, points, travel=1.0)
    assert found.figure == pytest.approx(np.exp(2 * k), rel=0.02)
    assert bunching(node(("wind", {"speed": 1})), points, travel=1.0).figure == pytest.approx(1)
    assert bunching(node(("constant", {"vector": [0, 0, 0]})), points, travel=1.0) is None


curve_points = st.lists(st.floats(-5, 5), min_size=2, max_size=7).map(
    lambda ys: [(float(i), y) for i, y in enumerate(ys)]
)


@given(curve_points, st.floats(-1, 8))
def test_profiles_are_monotone_cubics_with_their_true_slope(points, at):
    s = np.array([at], F)
    value, slope, _ = profile(points, s)
    low, high = min(y for _, y in points), max(y for _, y in points)
    assert low - 1e-3 <= value[0] <= high + 1e-3, "it never overshoots its points"
    if len(points) > 2 and 0 < at < len(points) - 1:
        x, y = np.array(points).T
        exact = PchipInterpolator(x, y)
        assert value[0] == pytest.approx(float(exact(at)), abs=2e-3)
        assert slope[0] == pytest.approx(float(exact(at, 1)), abs=2e-2)
    if at < -1e-5 or at > len(points) - 1 + 1e-5:
        assert slope[0] == 0


@given(st.tuples(st.floats(-179, 179), st.floats(-89, 89), st.floats(-179, 179)))
def test_a_turn_comes_back_from_its_rotation(turn):
    r = rotation(turn)
    assert np.allclose(r @ r.T, np.eye(3), atol=1e-12)
    assert np.linalg.det(r) == pytest.approx(1)
    assert np.allclose(rotation(turn_of(r)), r, atol=1e-9)


def test_divergence_and_curl_agree_with_differences_of_the_field(points):
    start = ("noise", {"makes": "vector", "octaves": 1})
    jacobian = central_differences(node(start), points, 4e-3)
    divergence = values(node(start, ("divergence",)), points)
    assert divergence == pytest.approx(np.trace(jacobian, axis1=1, axis2=2), abs=5e-3)
    curl = values(node(start, ("curl",)), points)
    expected = np.stack([jacobian[:, b, a] - jacobian[:, a, b] for a, b in ((1, 2), (2, 0), (0, 1))], axis=1)
    assert curl == pytest.approx(expected, abs=5e-3)


def test_a_curl_after_axes_says_that_it_leaves_the_plane():
    flat = node(("curl_noise", {}), ("axes", {"scale": [1, 1, 0]}), ("gain", {}), ("curl", {}))
    assert flat.step.remark(flat).startswith("leaves the plane: what comes in has no z")
    points = np.random.default_rng(1).uniform(-1, 1, (50, 3)).astype(np.float32)
    assert np.abs(sample(flat, points)[0][:, 2]).max() > 0.1, "and so it does"
    plain = node(("curl_noise", {}), ("curl", {}))
    assert plain.step.remark(plain) == ""
