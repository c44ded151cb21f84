"""Flows on surfaces: tangent, even, smooth, following what moves; never NaN."""

import numpy as np
import pytest

from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.geometry.surface_samples import surface_samples
from tests.studies import DEMO, lane, node, plan, values

F = np.float32


def on_ball(rng, count=2000, radius=0.6):
    way = rng.normal(size=(count, 3))
    way /= np.linalg.norm(way, axis=1, keepdims=True)
    return (radius * way).astype(F), way


@pytest.mark.parametrize("step", [
    ("surface_swirl", {"shape": "ball", "octaves": 2}),
    ("surface_swirl", {"shape": "ball", "around": "a point", "point": [0, 0, 2]}),
    ("surface_drift", {"shape": "ball", "toward": [1, 0.3, 0]}),
    ("surface_drift", {"shape": "ball", "way": "across"}),
])  # fmt: skip
def test_what_clings_to_a_ball_is_tangent_to_it(step, rng):
    points, way = on_ball(rng)
    v = values(node(step), points)
    speed = np.linalg.norm(v, axis=1)
    assert speed.mean() > 0.2
    assert np.abs((v * way).sum(1)).mean() < 0.03 * speed.mean()


def test_a_swirl_from_noise_neither_gathers_nor_leaves(rng):
    """Its divergence on the surface, by differences along two tangents, is small against its swirl."""
    points, way = on_ball(rng, 600)
    n = node(("surface_swirl", {"shape": "ball", "octaves": 1, "feature_size": 0.5, "nearest": 48}))
    a = np.cross(way, [0.3, 0.4, 0.5])
    a /= np.linalg.norm(a, axis=1, keepdims=True)
    b = np.cross(way, a)
    h = 0.03
    jacobian = {}
    for i, e in enumerate((a, b)):
        change = (values(n, (points + h * e).astype(F)) - values(n, (points - h * e).astype(F))) / (2 * h)
        jacobian[i] = ((change * a).sum(1), (change * b).sum(1))
    divergence, curl = jacobian[0][0] + jacobian[1][1], jacobian[0][1] - jacobian[1][0]
    assert np.sqrt(np.mean(divergence**2)) < 0.25 * np.sqrt(np.mean(curl**2))


def test_unit_length_is_even_and_the_reach_ends_it(rng):
    points, _ = on_ball(rng)
    even = {"shape": "ball", "even": True, "speed": 2, "reach": 0.4, "octaves": 1}
    speed = np.linalg.norm(values(node(("surface_swirl", even)), points), axis=1)
    assert np.quantile(speed, [0.05, 0.95]) == pytest.approx([2, 2], abs=0.15)
    away = values(node(("surface_swirl", even)), (points * (1.05 / 0.6)).astype(F))
    assert np.abs(away).max() == 0


def test_averaging_over_more_samples_is_smoother(rng):
    line = np.stack([np.full(400, 0.61), np.linspace(-0.2, 0.2, 400), np.zeros(400)], axis=1).astype(F)
    line *= (0.61 / np.linalg.norm(line, axis=1))[:, None]
    rough, smooth = (
        values(node(("surface_drift", {"shape": "ball", "toward": [0, 1, 0.4], "nearest": k})), line) for k in (1, 40)
    )
    wiggle = [np.abs(np.diff(v, 2, axis=0)).mean() for v in (rough, smooth)]
    assert wiggle[1] < 0.25 * wiggle[0]


def test_never_nan_at_the_middle_on_the_surface_or_far_away(rng):
    points = np.concatenate([np.zeros((1, 3)), rng.uniform(-3, 3, (500, 3)), on_ball(rng, 200)[0], [[1e4, 0, 0]]])
    for step in ("surface_swirl", "surface_drift"):
        for toward in ([0, 0, 0], [1, 0, 0]):
            more = {"toward": toward} if step == "surface_drift" else {"around": "a point", "point": [0.6, 0, 0]}
            assert np.isfinite(values(node((step, {"shape": "ball", **more})), points)).all()


def test_degenerate_triangles_have_no_say_in_the_normals():
    v = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [2, 0, 0.0], [0.5, 0, 0]])
    points, normals = surface_samples(v, np.array([[0, 1, 2], [0, 1, 4], [1, 1, 1], [0, 1, 3]]), 500)
    assert np.isfinite(normals).all()
    assert np.allclose(normals, [0, 0, 1])
    assert points[:, 2].max() == 0
    with pytest.raises(ValueError, match="no surface"):
        surface_samples(v, np.array([[0, 1, 4]]), 10)


def test_the_flow_follows_a_mesh_that_moves_and_breathes(rng):
    params = {"file": "glass_globe.obj", "move": {"keys": [[0, [0, 0, 0]], [1, [3, 0, 0]]], "between": "linear"},
              "scale": {"keys": [[0, 1.0], [1, 1.5]], "between": "linear"}}  # fmt: skip
    p = plan(
        lane("v", ("surface_swirl", {"shape": "globe", "reach": 0.15})),
        shapes=[{"id": "globe", "kind": "mesh", "params": params}], assets=Assets(DEMO),
    )  # fmt: skip
    way = on_ball(rng, 500, 1)[0]
    before, after = p.at(0.0).lane("v"), p.at(1.0).lane("v")
    assert np.linalg.norm(values(before, way * F(0.8)), axis=1).mean() > 0.2
    assert np.linalg.norm(values(after, way * F(0.8)), axis=1).mean() < 0.01
    assert np.linalg.norm(values(after, way * F(1.2) + F([3, 0, 0])), axis=1).mean() > 0.2


def test_a_feature_size_by_a_field_is_the_detail_and_leaves_the_speed(rng):
    points, _ = on_ball(rng, 1500)
    swirl = {"shape": "ball", "octaves": 1}
    sizes = lane("sizes", ("clock", {"rate": 0, "offset": 0.2}))
    by_field = {**swirl, "feature_size": {"field": "sizes"}}
    plain, varied = (node(("surface_swirl", p), others=(sizes,)) for p in ({**swirl, "feature_size": 0.2}, by_field))
    a, b = (np.sqrt((values(n, points) ** 2).sum(axis=1).mean()) for n in (plain, varied))
    assert b == pytest.approx(a, rel=0.02)
    assert (plain.feature, varied.feature) == pytest.approx((0.2, 0.2))
    growing = lane("growing", ("ramp", {"start": [-2, 0, 0], "end": [2, 0, 0], "curve": [[0, 0.1], [1, 1]]}))
    noise = node(("noise", {"feature_size": {"field": "growing"}, "octaves": 1}), others=(growing,))
    assert noise.feature == pytest.approx(0.1, rel=0.05), "the finest anywhere in the region"
