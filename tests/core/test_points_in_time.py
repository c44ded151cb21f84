"""Liquid and grains are of second order in time: they fall as far as what falls does, forces that change and drag are
taken in the middle, at any number of frames a second and in slow motion; a frame shows velocities at its own time."""

import math

import numpy as np
import pytest

from errant_gust.core.flows.boxed_points import BoxedPoints
from errant_gust.core.flows.grains.flow import GrainFlow
from errant_gust.core.flows.liquid.flow import LiquidFlow
from tests.grainy import grains
from tests.liquids import CLOSED, G, ball, box, liquid, once
from tests.studies import lane

ROOM = ((-1, -1, -2), (1, 1, 2))
FALLS = ("gravity", {})
KINDS = ["liquid", "grains"]


def flow_of(kind, *steps, fps, slow=1.0, shapes=None, source=None, **more) -> BoxedPoints:
    """A ball of 0.2 m in an empty room, unless other shapes and another source are given."""
    shapes = shapes or [ball("blob", 0.2, (0, 0, 1.4))]
    own = {"shape": shapes[0]["id"], **(source or {})}
    if kind == "liquid":
        own = {"until": 0.001, **own}
        p = liquid(("source", own), *steps, h=0.05, room=ROOM, shapes=shapes, fps=fps, end=900, **more)
        p.study.clock.slow_motion = slow
        return LiquidFlow(p, "w")
    p = grains(("source", own), *steps, spacing=0.04, room=ROOM, shapes=shapes, fps=fps, end=900, slow=slow, **more)
    return GrainFlow(p, "w")


def after(flow, seconds):
    """Its first state, and that after so many seconds."""
    first = state = flow.first()
    for n in range(1, round(seconds / flow.clock.step) + 1):
        state = flow.next(state, n)
    return first, state


def middle(state):
    return state.position.mean(axis=1, dtype=float)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize(("fps", "slow"), [(12, 1.0), (24, 1.0), (48, 1.0), (24, 2.0)])
def test_it_falls_as_far_and_as_fast_as_what_falls(kind, fps, slow):
    first, s = after(flow_of(kind, FALLS, fps=fps, slow=slow), 0.5)
    assert (middle(first) - middle(s))[2] == pytest.approx(G / 8, rel=0.002)
    assert s.velocity[2].mean() == pytest.approx(-G / 2, rel=0.002)
    assert np.abs(s.velocity[:2]).max() < 0.02


@pytest.mark.parametrize("fps", [12, 24, 48])
def test_what_pours_out_falls_from_when_it_came(fps):
    """A source that goes on: places and speeds of what is below it belong together, v² = 2 g z."""
    flow = flow_of(
        "liquid", FALLS, fps=fps, source={"until": 10.0}, shapes=[box("slab", (-0.2, -0.2, 1.4), (0.2, 0.2, 1.6))]
    )
    _, s = after(flow, 0.5)
    fallen = 1.4 - s.position[2]
    low = fallen > 0.4
    assert low.sum() > 100
    square = s.velocity[2][low].astype(float) ** 2
    head = square / (2 * G) - fallen[low]  # where it began, above the lower side of the source
    assert -0.01 < np.median(head) < 0.21
    first = fallen.max()
    assert first == pytest.approx(G / 8, abs=0.03), "what came first has fallen for half a second"


def swung(kind, fps):
    """How far a force that swings takes it in half a second: ∫∫ 8 cos 9 t."""
    wind = lane("wind", ("constant", {"makes": "vector"}), ("formula", {"expression": "8*cos(9*t), 0, 0"}))
    flow = flow_of(kind, ("push", {"field": "wind", "how": "force"}), fps=fps, fields=[wind])
    first, s = after(flow, 0.5)
    exact = 8 / 81 * (1 - math.cos(4.5))
    fast = 8 / 9 * math.sin(4.5)
    return (middle(s) - middle(first))[0] - exact, s.velocity[0].mean() - fast


@pytest.mark.parametrize("kind", KINDS)
def test_a_force_that_changes_is_of_second_order(kind):
    """Half the step, a quarter of the error, in places and in the velocities that are shown. Grains have as many steps
    at any number of frames a second as their stiffness asks for."""
    errors = np.abs([swung(kind, fps) for fps in (12, 24, 48)])
    if kind == "grains":
        assert errors[:, 0].max() < 0.0003
        assert errors[:, 1].max() < 0.006
    else:
        assert errors[2, 0] < 0.0006
        assert np.log2(errors[:-1] / errors[1:]).min() > 1.6


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("rate", [2.0, 8.0])
def test_weight_against_drag_gives_the_terminal_speed(kind, rate):
    """g / k at 12, 24 and 48 frames a second, however the two stand in the lane."""
    weight, drag = ("gravity", {"acceleration": [0, 0, -0.5]}), ("drag", {"rate": rate})
    for fps in (12, 24, 48):
        for steps in ((weight, drag), (drag, weight)):
            _, s = after(flow_of(kind, *steps, fps=fps), 1.0)
            exact = 0.5 / rate * (1 - math.exp(-rate))
            assert -s.velocity[2].mean() == pytest.approx(exact, rel=0.002 + (rate / fps) ** 2 / 10)


@pytest.mark.parametrize("kind", KINDS)
def test_what_rests_shows_no_speed_of_its_weight(kind):
    """Half a step of weight is 0.2 m/s at 24 frames a second: what holds it is taken for half a step as well."""
    shapes = [box("fill", (-1.2, -1.2, -1.2), (1.2, 1.2, 0.3))]
    room = ((-0.3, -0.3, 0), (0.3, 0.3, 1))
    more = {"room": room, "shapes": shapes, "domain": CLOSED, "end": 99}
    if kind == "liquid":
        flow = LiquidFlow(liquid(once("fill"), FALLS, h=0.05, **more), "w")
    else:
        flow = GrainFlow(grains(("source", {"shape": "fill"}), FALLS, spacing=0.04, fps=24, **more), "w")
    _, s = after(flow, 0.5)
    assert np.abs(s.velocity).mean() < 0.005
    assert np.quantile(np.abs(s.velocity[2]), 0.99) < 0.03
