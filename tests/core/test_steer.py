"""Steer around: nothing points into the shape, no sinks, moving shapes push."""

import numpy as np
import pytest

from errant_gust.core.fields.sampling import bake, sample
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.grids.region import GridRegion
from tests.studies import DEMO, central_differences, lane, node, plan, values

FLOW = lane("v", ("curl_noise", {"octaves": 2}))


def on_sphere(rng, count: int, radius: float):
    n = rng.normal(size=(count, 3))
    n /= np.linalg.norm(n, axis=1, keepdims=True)
    return (n * radius).astype(np.float32), n


def test_no_speed_into_a_sphere_and_a_wind_passes_it(rng):
    n = node(
        ("wind", {"speed": 2}),
        ("add", {"field": "v"}),
        ("steer_around", {"shape": "ball", "reach": 0.5}),
        others=(FLOW,),
    )
    points, normal = on_sphere(rng, 4000, 0.6 * 1.0001)
    v = values(n, points)
    assert np.abs((v * normal).sum(1)).max() < 5e-3
    assert np.linalg.norm(v, axis=1).max() > 1.0, "it must slide past, not stop"


def test_beyond_the_reach_the_field_is_untouched(rng):
    points, _ = on_sphere(rng, 500, 1.3)
    steered = values(node(("wind", {"speed": 2}), ("steer_around", {"shape": "ball", "reach": 0.5})), points)
    assert np.allclose(steered, [2, 0, 0], atol=1e-6)


def test_steered_flow_has_no_sinks(rng):
    n = node(("wind", {"speed": 2}), ("add", {"field": "v"}), ("steer_around", {"shape": "ball"}), others=(FLOW,))
    points = rng.uniform(-1.5, 1.5, (20_000, 3)).astype(np.float32)
    points = points[np.linalg.norm(points, axis=1) > 0.65]
    speed = np.linalg.norm(values(n, points), axis=1)
    j = central_differences(n, points, 0.005)
    relative = np.abs(np.trace(j, axis1=1, axis2=2)) * n.feature / speed.mean()
    assert np.median(relative) < 1e-3
    assert np.quantile(relative, 0.99) < 1e-2


def test_a_tall_pillar_is_passed_sideways():
    n = node(("wind", {"speed": 1}), ("steer_around", {"shape": "pillar", "reach": 0.5}))
    side = np.float32([[0.2, 0.1 + 0.401, 0.0], [0.2, 0.1 - 0.401, 0.5]])
    v = values(n, side)
    assert (v[:, 0] > 1.3).all()
    assert np.abs(v[:, 2]).max() < 0.3


def test_sliding_also_keeps_out(rng):
    n = node(("noise", {"makes": "vector"}), ("steer_around", {"shape": "ball", "method": "by sliding"}))
    points, normal = on_sphere(rng, 2000, 0.6)
    assert np.abs((values(n, points) * normal).sum(1)).max() < 1e-4


def test_a_moving_shape_pushes_what_it_touches(rng):
    moving = [
        {
            "id": "ball",
            "kind": "sphere",
            "params": {"radius": 0.5, "move": {"keys": [[0, [0, 0, 0]], [2, [3, 0, 0]]], "between": "linear"}},
        }
    ]
    n = plan(lane("lane", ("curl_noise",), ("steer_around", {"shape": "ball"})), shapes=moving).at(1.0).lane("lane")
    assert n.scene.shape("ball").velocity == pytest.approx((1.5, 0, 0), abs=1e-3)
    points, normal = on_sphere(rng, 2000, 0.5001)
    v = values(n, points + np.float32([1.5, 0, 0]))
    assert np.abs((v * normal).sum(1) - 1.5 * normal[:, 0]).max() < 1e-2


def test_nothing_points_into_an_imported_mesh(rng):
    shapes = [{"id": "tower", "kind": "mesh", "params": {"file": "light_tower.obj"}}]
    p = plan(
        FLOW,
        lane("lane", ("wind",), ("add", {"field": "v"}), ("steer_around", {"shape": "tower", "reach": 0.5})),
        shapes=shapes,
        assets=Assets(DEMO),
    )
    n = p.at(0.0).lane("lane")
    tower = p.at(0.0).shape("tower")
    points = rng.uniform([-0.8, -0.8, 0.1], [0.8, 0.8, 3], (60_000, 3)).astype(np.float32)
    d, g, _ = tower.distance(np.ascontiguousarray(points.T), 1)
    near = np.abs(d) < 2e-3
    assert near.sum() > 100
    v = values(n, points[near])
    into = (v * g.T[near]).sum(1)
    assert np.abs(into).max() < 0.06 * np.linalg.norm(v, axis=1).max()


def test_divergence_of_the_baked_field_is_small():
    n = node(("wind", {"speed": 1}), ("add", {"field": "v"}), ("steer_around", {"shape": "ball"}), others=(FLOW,))
    region = GridRegion((-1.5, -1.5, -1.5), (96, 96, 96), 3 / 96)
    v = bake(n, region).astype(np.float64)
    h = region.voxel_size
    div = sum((np.roll(v[..., a], -1, a) - np.roll(v[..., a], 1, a)) / (2 * h) for a in range(3))[2:-2, 2:-2, 2:-2]
    centres = region.centres(0, region.voxels).T.reshape(96, 96, 96, 3)[2:-2, 2:-2, 2:-2]
    outside = np.linalg.norm(centres, axis=-1) > 0.6 + 2 * h
    speed = np.linalg.norm(v, axis=-1).mean()
    assert np.sqrt((div[outside] ** 2).mean()) * h / speed < 0.01


def test_masking_by_the_potential_has_no_sinks_and_by_the_value_has(rng):
    points = rng.uniform(-1.6, 1.6, (8000, 3))
    mask = lane("m", ("mask_shape", {"shapes": ["ball"], "fade_over": 0.7}))
    found = {}
    for method in ("by the potential", "by the value"):
        n = node(("curl_noise",), ("mask", {"by": "m", "method": method}), others=(mask,))
        _, slope = sample(n, points, gradient=True)
        found[method] = np.sqrt((np.trace(slope, axis1=1, axis2=2) ** 2).mean())
    assert found["by the potential"] < 0.02 * found["by the value"]


PAIR = [
    {"id": "one", "kind": "sphere", "params": {"radius": 0.5}},
    {"id": "two", "kind": "box", "params": {"size": [0.8, 0.8, 0.8], "move": [1.25, 0.1, 0], "turn": [0, 0, 30]}},
    {"id": "three", "kind": "sphere", "params": {"radius": 0.3, "move": [-3, 0, 0]}},
]


def steered(*ids, start=("wind", {"speed": 2}), shapes=PAIR, others=(), reach=0.6):
    steps = [("steer_around", {"shape": id, "reach": reach}) for id in ids]
    return node(start, *steps, shapes=shapes, others=others)


def into(n, id, rng, count=4000):
    """Speeds through the surface of a shape, by the fastest there."""
    shape = n.scene.shape(id)
    low, high = shape.box
    points = rng.uniform(low - 0.02, high + 0.02, (80 * count, 3)).astype(np.float32)
    d, g, _ = shape.distance(np.ascontiguousarray(points.T), 1)
    near = np.abs(d) < 0.02
    points, d, g = points[near][:count], d[near][:count], g[:, near][:, :count]
    points = points - (d * g).T + 1e-4 * g.T
    for other in n.scene.study.shapes:  # not where another stands
        if other.id != id:
            clear = n.scene.shape(other.id).distance(np.ascontiguousarray(points.T))[0] > 1e-3
            points, g = points[clear], g[:, clear]
    v = values(n, points)
    return np.abs((v * g.T).sum(axis=1)) / np.quantile(np.linalg.norm(v, axis=1), 0.99)


@pytest.mark.parametrize("start", [("wind", {"speed": 2}), ("curl_noise", {"octaves": 2})], ids=["wind", "noise"])
def test_a_second_body_does_not_let_the_flow_into_the_first(start, rng):
    n = steered("one", "two", "three", start=start)
    for id in ("one", "two", "three"):
        assert np.quantile(into(n, id, rng), 0.99) < 0.01, id
    points = rng.uniform([-1.2, -1.2, -1.2], [2.4, 1.3, 1.2], (20_000, 3)).astype(np.float32)
    clear = np.minimum(*(n.scene.shape(i).distance(np.ascontiguousarray(points.T))[0] for i in ("one", "two"))) > 0.05
    j = central_differences(n, points[clear], 0.004)
    speed = np.linalg.norm(values(n, points[clear]), axis=1).mean()
    assert np.median(np.abs(np.trace(j, axis1=1, axis2=2))) * 0.5 / speed < 2e-3


def test_bodies_far_apart_are_steered_around_as_if_alone(rng):
    points = rng.uniform([-4, -1, -1], [1, 1, 1], (5000, 3)).astype(np.float32)
    both = values(steered("one", "three"), points)
    alone = np.where(points[:, :1] > -1.5, values(steered("one"), points), values(steered("three"), points))
    assert np.allclose(both, alone, atol=2e-6)
    assert np.allclose(values(steered("three", "one"), points), both, atol=2e-6)


def test_a_body_on_the_ground_lets_nothing_into_either(rng):
    shapes = [PAIR[0], {"id": "ground", "kind": "plane", "params": {"move": [0, 0, -0.3]}}]
    n = steered("one", "ground", shapes=shapes, start=("curl_noise", {"octaves": 1}), reach=0.5)
    assert np.quantile(into(n, "one", rng), 0.99) < 0.01
    flat = np.concatenate([rng.uniform(-1.5, 1.5, (4000, 2)), np.full((4000, 1), -0.2999)], axis=1)
    flat = flat[np.linalg.norm(flat, axis=1) > 0.51]
    v = values(n, flat)
    assert np.abs(v[:, 2]).max() < 0.01 * np.linalg.norm(v, axis=1).max()
    assert np.linalg.norm(v, axis=1).max() < 8
