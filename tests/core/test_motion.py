"""Motion steps of a particle lane against their known answers."""

import itertools

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from errant_gust.core.errors import Cancelled, StudyError
from errant_gust.core.flows.particles.flow import ParticleFlow
from errant_gust.core.flows.particles.state import Particles
from errant_gust.core.flows.random import unit_vectors
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.study.registry import steps_of
from tests.core.test_particles import flow, rotation_lanes
from tests.studies import lane

STILL = {"timing": "all at once", "count": 0}
BURST = {"timing": "all at once", "count": 500, "preview_share": 1, "life": 50, "life_variation": 0}
WIND = (lane("v", ("constant", {"vector": [2, 0, 0]})),)


def at(*places, own=None, keeps=("own",)):
    """A flow's state by hand: one particle a place."""
    p = np.float32(places).T
    made = Particles.born(p, np.zeros(p.shape[1]), np.full(p.shape[1], 99), np.arange(p.shape[1]), keeps)
    if own is not None:
        made.more["own"][:] = np.float32(own).T
    return made


def run(f, state, frames):
    for n in range(1, 1 + frames):
        state = f.next(state, n)
    return state


def seconds(p):
    return p.plan.study.clock.step


@pytest.mark.parametrize("fps", [3, 24, 100])
def test_free_fall_is_an_exact_parabola_at_any_frame_rate(fps):
    f = ParticleFlow(flow(STILL, ("gravity", {}), fields=WIND, clock={"fps": fps, "start": 1, "end": 400}), "p")
    state = run(f, at([0, 0, 0], own=[[1, 0, 4]]), fps)
    assert state.position[:, 0] == pytest.approx([1, 0, 4 - 9.81 / 2], abs=2e-4)
    assert state.more["own"][:, 0] == pytest.approx([1, 0, 4 - 9.81], abs=1e-4)


@pytest.mark.parametrize("fps", [5, 24, 90])
def test_drag_and_ease_are_exact_exponentials_at_any_frame_rate(fps):
    clock = {"fps": fps, "start": 1, "end": 400}
    slowed = run(
        ParticleFlow(flow(STILL, ("drag", {"rate": 2}), fields=WIND, clock=clock), "p"),
        at([0, 0, 0], own=[[3, 0, 0]]),
        fps,
    )
    assert slowed.more["own"][0, 0] == pytest.approx(3 * np.exp(-2), rel=1e-4)
    assert slowed.position[0, 0] == pytest.approx(3 * (1 - np.exp(-2)) / 2, rel=1e-4)
    eased = run(
        ParticleFlow(flow(STILL, ("ease", {"field": "v", "how": "rate", "rate": 3}), fields=WIND, clock=clock), "p"),
        at([0, 0, 0]),
        fps,
    )
    assert eased.more["own"][0, 0] == pytest.approx(2 * (1 - np.exp(-3)), rel=1e-4)
    assert eased.position[0, 0] == pytest.approx(2 * (1 - (1 - np.exp(-3)) / 3), rel=1e-4)


@pytest.mark.parametrize(("share", "speed"), [(0, 0.5), (0.5, 1.25), (1, 2)])
def test_a_share_of_ease_is_reached_in_a_24th_of_a_second(share, speed):
    f = ParticleFlow(flow(STILL, ("ease", {"field": "v", "share": share}), fields=WIND), "p")
    state = f.next(at([0, 0, 0], own=[[0.5, 0, 0]]), 1)
    assert state.more["own"][0, 0] == pytest.approx(speed, rel=1e-5)


def moved(steps, state, fps, seconds, fields=WIND, slow_motion=1.0, shapes=None):
    """A state after so many seconds of what happens, at frames a second of film."""
    clock = {"fps": fps, "start": 1, "end": 4000, "slow_motion": slow_motion}
    f = ParticleFlow(flow(STILL, *steps, fields=fields, clock=clock, **({"shapes": shapes} if shapes else {})), "p")
    return run(f, state, round(seconds * fps * slow_motion))


@pytest.mark.parametrize("fps", [6, 12, 24, 48])
@pytest.mark.parametrize("rate", [0.5, 2, 10, 30, 400])
def test_what_falls_with_drag_reaches_its_terminal_speed_at_any_rate(fps, rate):
    steps = ("push", {"field": "v", "amount": 3}), ("gravity", {}), ("drag", {"rate": rate})
    for order in (steps, steps[::-1]):
        own = moved(order, at([0, 0, 0]), fps, 8 / min(rate, 8)).more["own"][:, 0]
        assert own == pytest.approx([6 / rate, 0, -9.81 / rate], rel=1e-3, abs=1e-6)


@pytest.mark.parametrize(("fps", "slow_motion"), [(12, 1), (24, 1), (48, 1), (24, 4)])
def test_what_falls_with_drag_is_where_it_is_exactly(fps, slow_motion):
    state = moved((("gravity", {}), ("drag", {"rate": 3})), at([0, 0, 0]), fps, 0.5, slow_motion=slow_motion)
    left = np.exp(-1.5)
    assert state.more["own"][2, 0] == pytest.approx(-9.81 / 3 * (1 - left), rel=1e-5)
    assert state.position[2, 0] == pytest.approx(-9.81 / 3 * (0.5 - (1 - left) / 3), rel=1e-5)
    assert state.velocity[:, 0] == pytest.approx(state.more["own"][:, 0])


def formula(id, *parts):
    return lane(id, ("constant", {"vector": [0, 0, 0]}), ("formula", {"expression": ", ".join(parts)}))


@pytest.mark.parametrize(
    ("fps", "slow_motion", "allowed"), [(24, 1, 0.01), (12, 1, 0.02), (48, 1, 0.0025), (24, 2, 0.0025)]
)
def test_a_spring_keeps_its_energy_and_comes_back(fps, slow_motion, allowed):
    spring = (formula("v", "0 - 9*x", "0 - 9*y", "0 - 9*z"),)
    clock = {"fps": fps, "start": 1, "end": 4000, "slow_motion": slow_motion}
    f = ParticleFlow(flow(STILL, ("push", {"field": "v"}), fields=spring, clock=clock), "p")
    state, energies, farthest = at([1, 0, 0]), [], 0.0
    for n in range(1, round(10 * 2 * np.pi / 3 * fps * slow_motion) + 1):
        state = f.next(state, n)
        energies.append(float((state.more["own"] ** 2).sum() + 9 * (state.position**2).sum()) / 9)
        farthest = max(farthest, float(np.abs(state.position).max()))
    assert energies == pytest.approx(np.ones(len(energies)), abs=allowed)
    assert farthest == pytest.approx(1, abs=allowed)


MIXED = (
    formula("pull", "0 - 5*x*(1 + z*z)", "0 - 4*y", "0 - 3*z + sin(2*t)"),
    formula("along", "0 - 0.8*y", "0.8*x", "0.2*sin(t)"),
    lane("air", ("distance", {"shape": "ball"}), ("formula", {"expression": "0.5 + x*x"})),
)


@pytest.mark.parametrize(
    "steps",
    [
        (("push", {"field": "pull"}),),
        (("push", {"field": "pull"}), ("drag", {"rate": {"field": "air"}})),
        (("push", {"field": "pull"}), ("ease", {"field": "along", "how": "rate", "rate": 2})),
        (("carry", {"field": "along"}), ("push", {"field": "pull"}), ("drag", {"rate": 1})),
    ],
    ids=["push", "push and a drag that varies", "push and ease", "carried, pushed and slowed"],
)
def test_forces_are_of_second_order_together_and_the_velocity_is_that_of_the_place(steps):
    starts = at([1, 0.2, 0.5], [0.3, -0.8, 0.1], own=[[0, 1, 0], [0.5, 0, -1]])
    ends = [moved(steps, starts, fps, 2, fields=MIXED) for fps in (12, 24, 48, 96)]
    for name in ("position", "velocity"):
        found = [np.asarray(getattr(s, name), np.float64) for s in ends]
        apart = [np.abs(a - b).max() for a, b in itertools.pairwise(found)]
        orders = np.log2(np.array(apart[:-1]) / apart[1:])
        assert (orders > 1.7).all(), (name, apart)
        assert apart[1] < 0.01, "24 frames a second against 48"


@pytest.mark.parametrize("integrator", ["midpoint", "rk3", "rk4"])
def test_the_velocity_of_what_is_carried_is_that_of_where_it_came_to(integrator):
    shapes, lanes = rotation_lanes()
    steps = (("carry", {"field": "v", "integrator": integrator}),)
    state = moved(steps, at([1, 0, 0], keeps=()), 24, 1, fields=lanes, shapes=shapes)
    x, y, _ = state.position[:, 0]
    assert state.velocity[:, 0] == pytest.approx([-y, x, 0], abs=1e-3)


def test_steps_in_time_take_all_motion_finer_and_half_a_step_has_a_quarter_of_the_error():
    swings = (("push", {"field": "v"}),)
    spring = (formula("v", "0 - 80*x", "0 - 80*y", "0 - 80*z"),)
    errors = []
    for n in (1, 2, 4):
        steps = (*swings, ("steps_in_time", {"substeps": n}))
        x = moved(steps, at([1, 0, 0]), 24, 0.5, fields=spring).position[0, 0]
        errors.append(abs(x - np.cos(np.sqrt(80) / 2)))
    assert np.log2(errors[0] / errors[1]) == pytest.approx(2, abs=0.5)
    assert np.log2(errors[1] / errors[2]) == pytest.approx(2, abs=0.3)
    steps = (*swings, ("steps_in_time", {"substeps": 2}))
    f = ParticleFlow(flow(STILL, *steps, fields=spring), "p")
    told = f.halved(at([1, 0, 0]), 1)
    assert [h.substeps for h in told] == [2, 4]
    assert told[0].middle / told[1].middle == pytest.approx(4, rel=0.3)
    bound = ParticleFlow(flow(STILL, ("gravity", {}), ("steps_in_time", {"substeps": 1, "longest": 0.02})), "p")
    moving = at([0, 0, 0])
    moving.velocity[0] = 2.3  # nearly a tenth of a metre a frame
    assert bound.substeps(moving, 0, 1 / 24) == 5


def test_ralstons_method_is_of_third_order():
    shapes, lanes = rotation_lanes()
    errors = []
    for substeps in (2, 4):
        p = flow(
            STILL, ("carry", {"field": "v", "integrator": "rk3", "substeps": substeps}),
            fields=lanes, shapes=shapes, clock={"fps": 1.0, "start": 1, "end": 3},
        )  # fmt: skip
        state = ParticleFlow(p, "p").next(at([1, 0, 0], keeps=()), 1)
        errors.append(np.hypot(state.position[0, 0] - np.cos(1), state.position[1, 0] - np.sin(1)))
    assert np.log2(errors[0] / errors[1]) == pytest.approx(3, abs=0.3)


def test_own_motion_and_carrying_add_up():
    f = ParticleFlow(
        flow(STILL, ("carry", {"field": "v"}), ("gravity", {"acceleration": [0, 0, -2]}), fields=WIND), "p"
    )
    state = run(f, at([0, 0, 0], own=[[0, 1, 0]]), 24)
    assert state.position[:, 0] == pytest.approx([2, 1, -1], abs=1e-4)
    assert state.velocity[:, 0] == pytest.approx([2, 1, -2], abs=0.05)


@pytest.mark.parametrize("angle", [5.0, 40.0])
def test_scattered_directions_keep_speed_and_stay_in_their_cone(angle):
    f = ParticleFlow(flow(BURST, ("carry", {"field": "v"}), ("scatter_direction", {"angle": angle}), fields=WIND), "p")
    state = f.next(f.first(), 1)
    speed = np.linalg.norm(state.velocity, axis=0)
    beside = np.degrees(np.arccos(np.clip(state.velocity[0] / speed, -1, 1)))
    assert np.allclose(speed, 2, rtol=1e-4)
    assert beside.max() <= angle + 0.05
    assert beside.max() > 0.9 * angle
    assert np.abs(state.velocity[1:].mean(axis=1)).max() < 0.1 * angle / 20, "no side is preferred"
    later = f.next(state, 2)
    order = np.argsort(later.id), np.argsort(state.id)
    assert np.allclose(later.velocity[:, order[0]], state.velocity[:, order[1]], atol=1e-4), "for life"


def test_held_particles_keep_still_and_the_others_move():
    fields = (*WIND, lane("m", ("ramp", {"start": [0, -1, 0], "end": [0, 1, 0]})))
    f = ParticleFlow(flow(STILL, ("carry", {"field": "v"}), ("hold", {"by": "m", "level": 0.5}), fields=fields), "p")
    state = f.next(at([0, -0.5, 0], [0, 0.5, 0], keeps=()), 1)
    assert state.position[0] == pytest.approx([0, 2 / 24], abs=1e-5)


@pytest.mark.parametrize("integrator", ["euler", "midpoint"])
def test_nothing_is_inside_a_moving_obstacle_after_200_frames(integrator):
    shapes = [
        {"id": "ball", "kind": "box", "params": {"size": [6, 3, 3]}},
        {
            "id": "rock",
            "kind": "sphere",
            "params": {"radius": 0.7, "move": {"keys": [[0, [3, 0, 0]], [4, [-3, 0.5, 0]], [8.4, [3, 0, 0.4]]]}},
        },
    ]
    p = flow(
        {**BURST, "where": "volume", "count": 3000}, ("carry", {"field": "v", "integrator": integrator}),
        ("gravity", {"acceleration": [0, 0, -0.1]}),
        ("stay_out", {"shape": "rock"}),
        fields=(lane("v", ("curl_noise", {"feature_size": 1.5, "strength": 0.6})),), shapes=shapes,
        clock={"fps": 24, "start": 1, "end": 201},
    )  # fmt: skip
    f = ParticleFlow(p, "p")
    state, worst = f.first(), 0.0
    for n in range(1, 201):
        state = f.next(state, n)
        d, _, _ = p.at(p.study.clock.seconds(n + 1)).shape("rock").distance(state.position, 0)
        worst = min(worst, float(d.min()))
    assert state.count == 3000
    assert worst > -1e-4


def test_a_wall_takes_the_speed_into_it_gives_bounce_and_friction():
    shapes = [{"id": "ball", "kind": "sphere", "params": {}}, {"id": "floor", "kind": "plane", "params": {}}]
    made = {}
    for bounce, friction in ((0, 0), (0.5, 0), (0, 1)):
        step = ("stay_out", {"shape": "floor", "bounce": bounce, "friction": friction})
        f = ParticleFlow(flow(STILL, ("gravity", {"acceleration": [0, 0, 0]}), step, fields=WIND, shapes=shapes), "p")
        state = f.next(at([0, 0, 0.01], own=[[1, 0, -2]]), 1)
        assert state.position[2, 0] == pytest.approx(0, abs=1e-5)
        made[bounce, friction] = state.more["own"][:, 0]
    assert made[0, 0] == pytest.approx([1, 0, 0], abs=1e-5)
    assert made[0.5, 0] == pytest.approx([1, 0, 1], abs=1e-5)
    assert made[0, 1] == pytest.approx([0, 0, 0], abs=1e-5)


def test_stay_in_keeps_everything_inside():
    shapes = [{"id": "ball", "kind": "sphere", "params": {"radius": 1}}]
    emit = {**BURST, "where": "volume"}
    f = ParticleFlow(
        flow(emit, ("carry", {"field": "v"}), ("stay_in", {"shape": "ball", "gap": 0.1}), fields=WIND, shapes=shapes),
        "p",
    )
    state = run(f, f.first(), 60)
    assert state.count == 500
    assert np.linalg.norm(state.position, axis=0).max() <= 0.9 + 1e-4


def test_respawned_particles_keep_their_number_and_start_on_the_emitter():
    shapes = [{"id": "ball", "kind": "sphere", "params": {"radius": 0.5}}]
    step = ("respawn", {"farther": 1.0, "aged": True})
    emit = {**BURST, "life": 0.4, "life_variation": 0.5}
    f = ParticleFlow(flow(emit, ("carry", {"field": "v"}), step, fields=WIND, shapes=shapes), "p")
    state = f.first()
    ids = np.sort(state.id)
    fresh = 0
    for n in range(1, 60):
        state = f.next(state, n)
        assert np.array_equal(np.sort(state.id), ids)
        away = np.linalg.norm(state.position - state.more["start"], axis=0)
        assert away.max() <= 1.0 + 1e-5
        new = (state.age < 1 / 24) & (state.more["again"] > 0)
        fresh += new.sum()
        assert np.allclose(np.linalg.norm(state.more["start"][:, new], axis=0), 0.5, atol=1e-4)
    assert fresh > 1000
    assert state.more["again"].max() > 2


def test_a_field_says_who_is_born_again_and_where():
    """Wind along x; where x is above 1 they are born again, anew on the ball or where they first were."""
    shapes = [{"id": "ball", "kind": "sphere", "params": {"radius": 0.5}}]
    far = lane("far", ("ramp", {"start": [0.5, 0, 0], "end": [1.5, 0, 0]}))  # one half at x = 1
    emit = {**BURST, "life": 1e4}
    for place in ("anew", "where they were born"):
        step = ("respawn", {"aged": False, "where": "far", "place": place})
        f = ParticleFlow(flow(emit, ("carry", {"field": "v"}), step, fields=[*WIND, far], shapes=shapes), "p")
        state = f.first()
        first = state.position[:, np.argsort(state.id)]
        for n in range(1, 72):
            state = f.next(state, n)
            assert state.position[0].max() <= 1.0 + 1e-4
        order = np.argsort(state.id)
        assert np.array_equal(state.id[order], np.arange(state.count))
        assert state.more["again"].min() >= 1
        across = state.position[1:, order]  # the wind leaves y and z alone
        same = np.abs(across - first[1:]).max(axis=0) < 1e-4
        assert same.all() if place != "anew" else same.mean() < 0.05


def test_who_has_once_been_let_go_stays_free_if_hold_remembers():
    """Held but where x is between −0.1 and 0.1: with a memory they leave that strip, without it they stop behind it."""
    shapes = [{"id": "ball", "kind": "sphere", "params": {"radius": 0.5}}]
    rise = ("ramp", {"start": [-0.11, 0, 0], "end": [-0.09, 0, 0]})
    fall = lane("fall", ("ramp", {"start": [0.11, 0, 0], "end": [0.09, 0, 0]}))
    strip = lane("strip", rise, ("multiply", {"field": "fall"}))
    ends = []
    for memory in (False, True):
        f = ParticleFlow(
            flow({**BURST, "life": 1e4}, ("carry", {"field": "v"}), ("hold", {"by": "strip", "memory": memory}),
                 fields=[*WIND, fall, strip], shapes=shapes), "p",
        )  # fmt: skip
        state = f.first()
        first = state.position[0, np.argsort(state.id)]
        for n in range(1, 25):
            state = f.next(state, n)
        ends.append(state.position[0, np.argsort(state.id)] - first)
    within = np.abs(first) < 0.09
    assert ends[0][np.abs(first) > 0.12].max() == 0
    assert ends[1][np.abs(first) > 0.12].max() == 0, "who was never let go is held"
    assert (first + ends[0])[within].max() < 0.16, "it stops where the strip ends"
    assert ends[1][within].min() > 0.9, "a second at two metres a second"
    assert set(np.unique(state.more["released"])) <= {0.0, 1.0}


def test_those_that_leave_a_region_or_a_shape_are_born_again():
    shapes = [
        {"id": "ball", "kind": "sphere", "params": {"radius": 0.5}},
        {"id": "room", "kind": "box", "params": {"size": [3, 3, 3]}},
    ]
    for step in ({"leaving": "r"}, {"outside": "room"}):
        p = flow(
            BURST, ("carry", {"field": "v"}), ("respawn", step), fields=WIND, shapes=shapes,
            regions=[{"id": "r", "bounds": {"lower": [-1.5, -1.5, -1.5], "upper": [1.5, 1.5, 1.5]}}],
        )  # fmt: skip
        f = ParticleFlow(p, "p")
        state = run(f, f.first(), 48)
        assert state.count == 500
        assert state.position[0].max() <= 1.5 + 1e-5
        assert state.more["again"].max() > 0


def test_substeps_follow_the_fastest_particle():
    f = ParticleFlow(flow(BURST, ("carry", {"field": "v", "longest": 0.02}), fields=WIND), "p")
    state = f.next(f.first(), 1)
    assert f.substeps(state, 0, 1 / 24) == np.ceil(2 / 24 / 0.02)
    assert f.substeps(f.first(), 0, 1 / 24) >= 1


def test_births_along_a_curve_on_a_grid_and_by_weight():
    shapes = [
        {"id": "ball", "kind": "curve", "params": {"points": [[0, 0, 0], [1, 0, 0], [4, 0, 0]], "form": "straight"}},
        {"id": "b", "kind": "box", "params": {"size": [1, 1, 0.5]}},
    ]
    line = ParticleFlow(flow({**BURST, "where": "line", "count": 4000}, fields=WIND, shapes=shapes), "p").first()
    assert np.abs(line.position[1:]).max() < 1e-6
    counts = np.histogram(line.position[0], bins=8, range=(0, 4))[0]
    assert counts == pytest.approx(500, rel=0.2), "evenly by length, not by point"
    grid = ParticleFlow(
        flow({**BURST, "shape": "b", "where": "grid", "spacing": 0.25, "count": 75}, fields=WIND, shapes=shapes), "p"
    ).first()
    places = {tuple(p) for p in np.round(grid.position.T, 4).tolist()}
    assert len(places) == 5 * 5 * 3
    fields = (*WIND, lane("m", ("ramp", {"start": [0, 0, 0], "end": [4, 0, 0]})))
    some = ParticleFlow(
        flow({**BURST, "where": "line", "count": 4000, "weight": "m"}, fields=fields, shapes=shapes), "p"
    ).first()
    share = (
        np.histogram(some.position[0], bins=4, range=(0, 4))[0]
        / np.histogram(line.position[0], bins=4, range=(0, 4))[0]
    )
    assert share == pytest.approx([1 / 8, 3 / 8, 5 / 8, 7 / 8], abs=0.06)


def test_births_start_along_the_normal_and_inherit_motion():
    shapes = [
        {
            "id": "ball",
            "kind": "sphere",
            "params": {"radius": 1, "move": {"keys": [[0, [0, 0, 0]], [2, [6, 0, 0]]], "between": "linear"}},
        }
    ]
    emit = {**BURST, "timing": "rate", "rate": 24_000, "speed": 2.0, "spread": 20.0, "inherit": 0.5}
    p = flow(emit, ("gravity", {"acceleration": [0, 0, 0]}), fields=WIND, shapes=shapes)
    f = ParticleFlow(p, "p")
    state = f.next(f.first(), 1)
    relative = state.more["own"] - np.float32([[1.5], [0], [0]])
    assert np.linalg.norm(relative, axis=0) == pytest.approx(2, rel=1e-3)
    still = ParticleFlow(
        flow({**emit, "inherit": 0, "spread": 0}, ("drag", {"rate": 0}), fields=WIND, shapes=shapes[:1]), "p"
    )
    straight = still.next(still.first(), 1)
    normal = straight.position - np.float32([[6 / 48], [0], [0]])
    normal /= np.linalg.norm(normal, axis=0)
    assert (normal * straight.more["own"]).sum(axis=0).min() > 2 * 0.98


def test_a_lane_of_the_wrong_kind_says_what_would_fit():
    fields = (*WIND, lane("m", ("clock", {})))
    for step, takes in ((("push", {"field": "m"}), "vector"), (("hold", {"by": "v"}), "scalar")):
        with pytest.raises(StudyError, match=f"takes a {takes}") as said:
            ParticleFlow(flow(BURST, step, fields=fields), "p")
        assert said.value.where.startswith("flows.p.")


@given(st.integers(0, 2**31 - 1), st.integers(1, 400))
def test_unit_vectors_are_unit_and_by_counter(seed, count):
    ids = np.arange(count, dtype=np.uint64)
    v = unit_vectors(seed, ids, 7)
    assert np.allclose(np.linalg.norm(v, axis=0), 1, atol=1e-5)
    assert np.array_equal(v[:, ::-1], unit_vectors(seed, ids[::-1], 7))


def test_every_motion_step_can_be_switched_on_with_its_defaults():
    """With every step in one lane the flow still runs, keeps what it needs and gives finite numbers."""
    fields = (*WIND, lane("m", ("clock", {})))
    needed = {"field": "v", "by": "m", "shape": "ball"}
    steps = [
        (id, {n: needed[n] for n in cls.model_fields if n in needed and cls.model_fields[n].is_required()})
        for id, cls in steps_of("particles").items()
        if cls.family == "motion"
    ]
    f = ParticleFlow(flow(BURST, *steps, fields=fields), "p")
    state = run(f, f.first(), 3)
    assert {"own", "again"} <= set(f.keeps)
    assert all(np.isfinite(a).all() for a in state.arrays().values())


def test_channels_keep_the_way_and_a_field_where_particles_are():
    fields = (*WIND, lane("m", ("ramp", {"start": [-10, 0, 0], "end": [10, 0, 0]})))
    steps = (("channel", {}), ("channel", {"what": "field", "name": "heat", "field": "m"}))
    f = ParticleFlow(flow(BURST, ("carry", {"field": "v"}), *steps, fields=fields), "p")
    state = run(f, f.first(), 24)
    assert state.more["travelled"] == pytest.approx(2, rel=1e-4)
    assert state.more["heat"] == pytest.approx((state.position[0] + 10) / 20, abs=1e-4)
    assert set(state.channels()) == {"position", "velocity", "age", "life", "id", "travelled", "heat"}
    for bad in ("age", "Heat", "own", "1x"):
        with pytest.raises(StudyError, match="cannot be the name"):
            ParticleFlow(flow(BURST, ("channel", {"what": "field", "name": bad, "field": "m"}), fields=fields), "p")


def test_every_motion_step_gives_the_same_bits_on_any_threads_and_after_a_stop(tmp_path, monkeypatch):
    """Walls, respawn, scatter, own motion and channels together; births go on while others are born again."""
    fields = (*WIND, lane("m", ("ramp", {"start": [-3, 0, 0], "end": [3, 0, 0]})), lane("n", ("curl_noise", {})))
    shapes = [
        {"id": "ball", "kind": "sphere", "params": {}},
        {"id": "rock", "kind": "sphere", "params": {"radius": 0.6, "move": {"keys": [[0, [2, 0, 0]], [2, [1, 1, 0]]]}}},
    ]
    steps = (
        ("carry", {"field": "n", "amount": {"field": "m"}}), ("push", {"field": "v"}), ("drag", {"rate": 0.5}),
        ("scatter_direction", {"every": 0.3}), ("hold", {"by": "m", "level": 0.2, "soft": 0.1}),
        ("stay_out", {"shape": "rock", "friction": 0.4}), ("respawn", {"farther": 1.1}),
        ("channel", {}), ("channel", {"what": "formula", "name": "glow", "expression": "speed * travelled"}),
    )  # fmt: skip
    emit = {"rate": 60_000, "life": 0.5, "speed": 1, "spread": 30, "weight": "m", "inherit": 1}
    p = flow(emit, *steps, fields=fields, shapes=shapes, clock={"fps": 24, "start": 1, "end": 14})
    monkeypatch.setenv("ERRANT_GUST_THREADS", "1")
    one = compute(p.study, "p", tmp_path / "one")
    monkeypatch.setenv("ERRANT_GUST_THREADS", "2")
    calls = iter(range(10**9))
    with pytest.raises(Cancelled):
        compute(p.study, "p", tmp_path / "two", cancel=lambda: next(calls) > 30)
    assert 0 < len(RunStore(tmp_path / "two").frames()) < 14
    two = compute(p.study, "p", tmp_path / "two")
    last = one.read(14)
    assert last["again"].max() > 0
    assert len(last["id"]) > 5000
    for name, values in last.items():
        assert np.array_equal(values, two.read(14)[name]), name
