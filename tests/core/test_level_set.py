"""The level set against known answers."""

from functools import partial

import numpy as np
import pytest

from errant_gust.core.grids.level_set import REACH, LevelSet, Speeds
from errant_gust.core.grids.region import GridRegion
from tests.level_sets import (
    apart,
    begun,
    block,
    carried,
    cube,
    moved,
    notched,
    sphere,
    spreading,
    vertices,
    with_nothing,
)  # fmt: skip


def test_a_sphere_keeps_its_radius_while_it_grows_by_forty_voxels() -> None:
    level = begun(cube(128), sphere(10), 10)
    moved(level, spreading(1.0), 40.0)
    radius = np.linalg.norm(vertices(level), axis=1)
    assert np.abs(radius - 50).max() < 0.1  # half a voxel was asked for


def test_a_sphere_melts_at_its_speed() -> None:
    level = begun(cube(96), sphere(30), 30)
    moved(level, spreading(-1.0), 20.0)
    assert np.abs(np.linalg.norm(vertices(level), axis=1) - 10).max() < 0.1


def test_a_box_grows_round_edges_of_the_right_radius() -> None:
    level = begun(cube(96), block(8), 8)
    moved(level, spreading(1.0), 24.0)
    v = vertices(level)
    off = block(8)(v.T) - 24
    sides = (np.abs(v) > 8).sum(axis=1)
    assert np.abs(off[sides == 1]).max() < 0.1  # faces
    edge = v[(sides == 2) & (np.abs(v[:, 2]) < 6)]  # the rounded edge between faces of x and y
    corner = np.abs(edge[:, :2])
    fitted = np.linalg.lstsq(np.c_[2 * corner, np.ones(len(corner))], (corner**2).sum(axis=1), rcond=None)[0]
    radius = np.sqrt(fitted[2] + (fitted[:2] ** 2).sum())
    assert radius == pytest.approx(24, abs=1.1)  # edges of voxels are about a voxel round to begin with
    assert np.abs(off).max() < 1.0


def test_curvature_shrinks_a_sphere_as_the_law_says_and_leaves_hollows_if_it_takes_bumps_only() -> None:
    def bending(p, t):  # type: ignore[no-untyped-def]
        one = np.ones(p.shape[1], np.float32)
        return Speeds(bumps=one, hollows=0 * one, **with_nothing(p.shape[1]))

    level = begun(cube(64), sphere(20), 20)
    moved(level, bending, 50.0)
    assert np.linalg.norm(vertices(level), axis=1).mean() == pytest.approx(np.sqrt(400 - 4 * 50), abs=0.1)

    def hollow(p):  # type: ignore[no-untyped-def]
        return np.maximum(np.linalg.norm(p, axis=0) - 24, 14 - np.linalg.norm(p, axis=0))

    level = begun(cube(64), hollow, 24)
    moved(level, bending, 20.0)
    radius = np.linalg.norm(vertices(level), axis=1)
    assert radius[radius < 19].mean() == pytest.approx(14, abs=0.1)  # the inner side is hollow
    assert radius[radius > 19].mean() == pytest.approx(np.sqrt(24**2 - 4 * 20), abs=0.15)


@pytest.mark.parametrize("hold", [False, True])
def test_zalesaks_ball_comes_back_after_a_turn(hold: bool) -> None:
    n, at = 64, (0.0, 16.0, 0.0)
    ball = notched(9.6, at)
    level = begun(cube(n), ball, 10, at)
    before = level.volume()
    moved(level, carried(lambda p, t: np.stack([-p[1], p[0], 0 * p[0]])), 2 * np.pi, hold=hold)
    volume, shape = apart(level, ball)
    assert abs(level.volume() / before - 1) < (1e-4 if hold else 0.02)
    assert abs(volume) < 0.02
    assert shape < 0.1


@pytest.mark.slow("a known answer of a whole simulation")
def test_what_a_vortex_draws_out_keeps_its_volume_if_it_is_held() -> None:
    """LeVeque's (1996): drawn out to a sheet thinner than a voxel and back."""
    n, at = 56, (-8.4, -8.4, -8.4)

    def vortex(p, t):  # type: ignore[no-untyped-def]
        x, y, z = p.astype(float) / n + 0.5
        s, d = lambda a: np.sin(np.pi * a) ** 2, lambda a: np.sin(2 * np.pi * a)
        u = np.stack([2 * s(x) * d(y) * d(z), -d(x) * s(y) * d(z), -d(x) * d(y) * s(z)])
        return u * np.cos(np.pi * t / 3) * n

    level = begun(cube(n), sphere(8.4, at), 9, at)
    before = level.volume()
    moved(level, carried(vortex), 3.0, hold=True, still=False, most=0.02)
    assert abs(level.volume() / before - 1) < 0.01
    assert apart(level, sphere(8.4, at))[1] < 0.6


def at_time(speeds, time, p):  # type: ignore[no-untyped-def]
    return speeds(p, time)


def looked_up(level, velocity, seconds, frames):  # type: ignore[no-untyped-def]
    """Carries it only, as a lane does: so many frames, of which each has the velocity of its middle."""
    speeds, anew = carried(velocity), 0
    for frame in range(frames):
        level.forget()
        now = (frame + 0.5) * seconds / frames
        fill = partial(at_time, speeds, now)
        level.ask(fill, level.around())
        parts = max(1, int(np.ceil(seconds / frames * level.pace()[0] / REACH)))
        for _ in range(parts):
            level.carry(seconds / frames / parts, 0.0)
            level.find()
            level.ask(fill, level.around())
            anew += level.origin is None
        level.tidy()
    return anew


@pytest.mark.parametrize(("half", "frames"), [((7.5, 6, 5), 24), ((7.5, 6, 5), 96), ((3, 9, 4), 30)])
def test_a_box_that_is_only_carried_keeps_its_volume_and_its_edges(half, frames) -> None:  # type: ignore[no-untyped-def]
    """Fifteen by twelve by ten voxels kept 0.8 of their volume in a turn, with edges round by four voxels."""
    at = np.array([[0.0], [10.0], [0.0]], np.float32)

    def slab(p):  # type: ignore[no-untyped-def]
        q = np.abs(p - at) - np.array(half, np.float32)[:, None]
        return np.linalg.norm(np.maximum(q, 0), axis=0) + np.minimum(q.max(axis=0), 0)

    level = begun(cube(48), slab, 14, (0, 10, 0))
    assert looked_up(level, lambda p, t: np.stack([-p[1], p[0], 0 * p[0]]), 2 * np.pi, frames) == 0
    volume, shape = apart(level, slab)
    assert abs(volume) < 0.1 / min(half) ** 1.5, "the thinner, the more of it is edges"
    assert shape < 0.1 / min(half) ** 1.5
    assert np.abs(slab(vertices(level).T)).max() < 0.15, "edges too"


def test_what_a_vortex_draws_out_comes_back_if_it_is_only_carried() -> None:
    n = 40
    at = (-0.15 * n,) * 3

    def vortex(p, t):  # type: ignore[no-untyped-def]
        x, y, z = p.astype(float) / n + 0.5
        s, d = lambda a: np.sin(np.pi * a) ** 2, lambda a: np.sin(2 * np.pi * a)
        u = np.stack([2 * s(x) * d(y) * d(z), -d(x) * s(y) * d(z), -d(x) * d(y) * s(z)])
        return u * np.cos(np.pi * t / 3) * n

    level = begun(cube(n), sphere(0.15 * n, at), 0.15 * n + 1, at)
    looked_up(level, vortex, 3.0, 72)
    volume, shape = apart(level, sphere(0.15 * n, at))
    assert abs(volume) < 0.1
    assert shape < 0.35


def test_what_is_only_carried_shears_and_swells_as_it_should() -> None:
    level = begun(cube(64), sphere(10), 11)
    looked_up(level, lambda p, t: np.stack([1.5 * p[1], 0 * p[0], 0 * p[0]]), 1.0, 24)
    window = level.window
    x, y, z = window.centres(0, window.voxels)
    inside = np.linalg.norm(np.stack([x - 1.5 * y, y, z]), axis=0) < 10
    assert ((level.grid() < 0).reshape(-1) != inside).mean() * inside.size < 0.003 * inside.sum()
    for swells, radius in ((0.7, 10.0), (-0.7, 24.0)):
        level = begun(cube(64), sphere(radius), radius + 1)
        looked_up(level, lambda p, t, a=swells: a * p, 1.0, 24)
        found = np.linalg.norm(vertices(level), axis=1)
        assert np.abs(found - radius * np.exp(swells)).max() < 0.1


def test_what_is_only_carried_goes_on_with_the_same_bits() -> None:
    def swirl(p, t):  # type: ignore[no-untyped-def]
        return np.stack([-p[1], p[0] + 0.3 * p[2], 0.2 * p[1]])

    level = begun(cube(64), block(6), 11, (0, 0, 0))
    looked_up(level, swirl, 1.0, 8)
    assert level.origin is not None
    window, phi, age, origin = level.stored()
    again = LevelSet.restored(level.domain, window, phi, age, origin)
    again.find()
    for one in (level, again):
        looked_up(one, swirl, 1.0, 8)
    one, two = level.stored(), again.stored()
    for a, b in zip((*one[1:3], *one[3][:2]), (*two[1:3], *two[3][:2]), strict=True):
        assert np.array_equal(a, b)


def test_relaxing_does_not_move_the_surface_and_makes_distances() -> None:
    def steep(p):  # type: ignore[no-untyped-def]
        return sphere(12)(p) * (1.5 + 0.4 * np.sin(p[0] / 3)).astype(np.float32)

    level = begun(cube(48), steep, 20)
    was = vertices(level)
    level.forget()
    for _ in range(30):
        level.ask(lambda p: spreading(0.0)(p, 0.0))
        level.step(0.01, 0.0)
        level.find()
    now = vertices(level)
    assert np.abs(np.linalg.norm(now, axis=1) - 12).max() < 0.12
    assert np.abs(np.linalg.norm(was, axis=1) - 12).max() < 0.12
    slope = np.linalg.norm(np.gradient(level.grid()), axis=0)
    band = (np.abs(level.grid()) < 4.5) & (np.abs(level.grid()) > 1.5)
    assert np.abs(slope[band] - 1).mean() < 0.02


def test_growth_along_a_field_only_goes_outward() -> None:
    level = begun(cube(64), sphere(8), 8)

    def along(p, t):  # type: ignore[no-untyped-def]
        v = np.zeros((3, p.shape[1]), np.float32)
        v[0] = 1.0
        return Speeds(along=v, **with_nothing(p.shape[1]))

    moved(level, along, 12.0)
    v = vertices(level)
    assert v[:, 0].max() == pytest.approx(20, abs=0.2)  # it has grown along x
    assert v[:, 0].min() == pytest.approx(-8, abs=0.1)  # and never draws back
    assert np.abs(np.hypot(v[:, 1], v[:, 2])).max() < 8.1


def test_cost_follows_the_surface_and_not_the_box() -> None:
    small, large = (begun(cube(n), sphere(12), 12) for n in (64, 256))
    for level in (small, large):
        moved(level, spreading(1.0), 2.0)
    assert len(small.near) == len(large.near)
    assert len(small.wide) == len(large.wide)
    assert large.phi.size <= 1.5 * small.phi.size


def test_a_turned_domain_grows_alike() -> None:
    straight = begun(cube(48), sphere(8), 8)
    turned = begun(GridRegion((-24, -24, -24), (48, 48, 48), 1.0, (20, 30, 40)), sphere(8), 8)
    for level in (straight, turned):
        moved(level, spreading(1.0), 6.0)
    assert straight.volume() == pytest.approx(turned.volume(), rel=1e-3)


def test_sides_of_the_domain_stop_it() -> None:
    domain = GridRegion((-12, -12, -12), (24, 21, 24), 1.0)
    level = begun(domain, sphere(6, (0, 0, 0)), 6)

    def within(p, t):  # type: ignore[no-untyped-def]
        made = spreading(1.0)(p, t)
        low, high = (np.array(c, np.float32)[:, None] for c in (domain.lower, domain.upper))
        made.floor = np.maximum(low - p, p - high).max(axis=0)
        made.free = (made.floor <= 0).astype(np.float32)
        return made

    moved(level, within, 40.0)
    v = vertices(level)
    assert v.min(axis=0) == pytest.approx(domain.lower, abs=0.05)
    assert v.max(axis=0) == pytest.approx(domain.upper, abs=0.05)
    assert level.volume() == pytest.approx(24 * 21 * 24, rel=0.02)


def test_what_is_stored_goes_on_with_the_same_bits() -> None:
    level = begun(cube(64), block(6), 6)
    moved(level, spreading(1.0), 5.0)
    window, phi, age, _ = level.stored()
    again = LevelSet.restored(level.domain, window, phi, age)
    again.find()
    for one in (level, again):
        moved(one, spreading(1.0), 7.0)
    a, b = level.stored(), again.stored()
    assert a[0] == b[0]
    assert np.array_equal(a[1], b[1])
    assert np.array_equal(a[2], b[2])
