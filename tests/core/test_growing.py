"""Obstacles that grow or deform push what is around them: flux against the growth of their volume, speed at them."""

import numpy as np
import pytest

from errant_gust.core.demos.geometry import write_obj
from errant_gust.core.fields.sampling import sample
from errant_gust.core.fields.solved import solved_of
from errant_gust.core.geometry.shapes import Assets
from tests.core.test_gas import gas, run
from tests.studies import node

GROWS = {"keys": [[0, 0.4], [1, 0.6]], "between": "linear"}
BALL = {"id": "ball", "kind": "sphere", "params": {"radius": GROWS}}
SIDES = {"keys": [[0, [0.6, 0.8, 1.0]], [1, [1.0, 0.8, 0.8]]], "between": "linear"}
SLAB = {"id": "slab", "kind": "box", "params": {"size": SIDES, "turn": [0, 0, 25]}}
TIME = 0.5
BALL_GROWTH = 4 * np.pi * 0.5**2 * 0.2
SLAB_GROWTH = 0.4 * 0.8 * 0.9 - 0.2 * 0.8 * 0.8  # by the product rule at half the time
STEPS = {
    "potential_flow": [("potential_flow", {"region": "room", "stream": [0.3, 0, 0], "sides": "open"})],
    "divergence_free": [("wind", {"speed": 0.3}), ("divergence_free", {"region": "room"})],
}


def flux(n, half=0.9, count=40):
    """Outward through the sides of a cube about the origin, in m³/s."""
    side = (np.arange(count) + 0.5) / count * 2 * half - half
    a, b = (m.ravel() for m in np.meshgrid(side, side, indexing="ij"))
    total = 0.0
    for axis in range(3):
        for sign in (-1, 1):
            points = np.stack([np.full_like(a, sign * half), a, b])[np.argsort([axis, (axis + 1) % 3, (axis + 2) % 3])]
            total += sign * float(sample(n, points.T)[0][:, axis].mean()) * (2 * half) ** 2
    return total


@pytest.mark.parametrize("kind", list(STEPS))
@pytest.mark.parametrize(("shape", "growth"), [(BALL, BALL_GROWTH), (SLAB, SLAB_GROWTH)], ids=["ball", "slab"])
def test_the_flux_around_an_obstacle_is_what_it_grows_by(kind, shape, growth):
    regions = [{"id": "room", "bounds": {"lower": [-1.2] * 3, "upper": [1.2] * 3}, "voxel_size": 0.05}]
    *first, (op, params) = STEPS[kind]
    n = node(*first, (op, {**params, "obstacles": [shape["id"]]}), time=TIME, shapes=[shape], regions=regions)
    assert flux(n) == pytest.approx(growth, rel=0.03)
    assert solved_of(n).after < 1e-4


def blown(folder):
    """A globe a frame, its radius growing by 0.01 m."""
    u, v = np.meshgrid(np.linspace(0, 2 * np.pi, 49)[:-1], np.linspace(0, np.pi, 25), indexing="ij")
    ball = np.stack([np.cos(u) * np.sin(v), np.sin(u) * np.sin(v), np.cos(v)], axis=-1).reshape(-1, 3)
    a = np.arange(48 * 25).reshape(48, 25)
    b = np.roll(a, -1, axis=0)
    quads = np.stack([a[:, :-1], a[:, 1:], b[:, 1:], b[:, :-1]], axis=-1).reshape(-1, 4)
    faces = np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]])
    for frame in range(1, 6):
        write_obj(folder / f"globe.{frame:04d}.obj", ball * (0.4 + 0.01 * frame), faces, "test")
    return {"id": "ball", "kind": "mesh", "params": {"file": "globe.0001.obj", "sequence": True}}


def test_a_mesh_sequence_pushes_as_it_deforms(tmp_path):
    shape = blown(tmp_path)
    regions = [{"id": "room", "bounds": {"lower": [-1.2] * 3, "upper": [1.2] * 3}, "voxel_size": 0.05}]
    step = ("potential_flow", {"region": "room", "obstacles": ["ball"], "stream": [0, 0, 0], "sides": "open"})
    n = node(step, time=2 / 24, shapes=[shape], regions=regions, assets=Assets(tmp_path))
    assert flux(n) == pytest.approx(4 * np.pi * 0.43**2 * 0.01 * 24, rel=0.03)


@pytest.mark.parametrize("method", ["by the potential", "by sliding"])
def test_steering_gives_what_touches_a_growing_shape_its_speed(method, rng):
    way = rng.normal(size=(2000, 3))
    way /= np.linalg.norm(way, axis=1, keepdims=True)
    steps = (("curl_noise", {}), ("steer_around", {"shape": "ball", "reach": 0.4, "method": method}))
    n = node(*steps, time=TIME, shapes=[BALL])
    outward = (sample(n, 0.5 * way)[0] * way).sum(axis=1)
    assert outward == pytest.approx(0.2, abs=4e-3)
    assert n.has_potential == "none"


def test_gas_is_pushed_out_of_a_growing_obstacle():
    shapes = (
        BALL | {"params": {"radius": GROWS, "move": [0, 0, 1]}},
        {"id": "puff", "kind": "sphere", "params": {"radius": 0.1, "move": [0.8, 0, 1]}},
    )
    p = gas(("source", {"shape": "puff", "temperature": 0}), ("collide", {"shapes": ["ball"]}), shapes=shapes,
            domain={"follow": False, "below": True}, h=0.05)  # fmt: skip
    _f, state = run(p, 12)
    assert state.u[-1].sum() * 0.05**2 - state.u[0].sum() * 0.05**2 + state.v[:, -1].sum() * 0.05**2 - state.v[
        :, 0
    ].sum() * 0.05**2 + state.w[:, :, -1].sum() * 0.05**2 - state.w[:, :, 0].sum() * 0.05**2 == pytest.approx(
        BALL_GROWTH, rel=0.03
    )


def test_particles_inherit_what_a_growing_shape_does():
    from errant_gust.core.flows.particles.flow import ParticleFlow
    from tests.core.test_particles import flow

    emit = {"shape": "ball", "timing": "all at once", "count": 500, "begin": 0.5, "inherit": 1, "life": 99}
    f = ParticleFlow(flow(emit, ("drag", {"rate": 0}), shapes=[BALL]), "p")
    state = f.first()
    for k in range(1, 13):
        state = f.next(state, k)
    assert np.linalg.norm(state.more["own"], axis=0) == pytest.approx(0.2, abs=3e-3)
