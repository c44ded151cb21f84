"""The error of a half step, against motions that are known."""

import numpy as np
import pytest

from errant_gust.core.flows.halving import between
from errant_gust.core.flows.kind import open_flow
from errant_gust.core.study.building import lane
from tests.studies import plan


def turning(integrator, substeps=1, **emit):
    """Particles that are carried round the z axis at 2 rad/s."""
    born = {"shape": "ball", "where": "volume", "timing": "all at once", "count": 400, "life": 10.0, **emit}
    return plan(
        lane("spin", ("wind", {}), ("formula", {"expression": "-2 * y, 2 * x, 0"})),
        flows=[{**lane("dust", ("emit", born), ("carry", {"field": "spin", "integrator": integrator,
                                                           "substeps": substeps})), "kind": "particles"}],
        clock={"fps": 24, "start": 1, "end": 12},
    )  # fmt: skip


def halved(p, frames=3):
    flow = open_flow(p, "dust", "full")
    state = flow.first()
    for frame in range(1, frames):
        state = flow.next(state, frame)
    return flow.halved(state, frames), state


@pytest.mark.parametrize(("integrator", "order"), [("euler", 1), ("midpoint", 2)])
def test_half_steps_show_the_order_of_the_scheme(integrator, order):
    (one, two), _ = halved(turning(integrator))
    assert (one.substeps, two.substeps) == (1, 2)
    assert one.middle / two.middle == pytest.approx(2**order, rel=0.15)
    assert one.most / two.most == pytest.approx(2**order, rel=0.15)


def test_the_error_of_euler_in_a_turn_is_what_geometry_says():
    """A step of angle a leaves the circle by a²/2 of the radius; two of a/2 by half of that, so they are a²/4 apart."""
    (one, _), state = halved(turning("euler"))
    radius = np.sqrt((state.position[:2] ** 2).sum(axis=0))
    angle = 2.0 / 24
    assert one.most == pytest.approx(0.25 * angle**2 * radius.max(), rel=0.02)
    assert one.way == pytest.approx(angle * np.median(radius), rel=0.02)
    assert one.count == 400


def test_what_dies_or_is_born_again_on_the_way_is_left_out():
    made, state = halved(turning("midpoint", life=3.5 / 24, life_variation=0.9), frames=3)
    assert made[0].count < state.count
    assert made[0].most < 0.01, "nothing jumped back to its emitter"
    assert between(1, np.zeros((3, 0)), np.zeros((3, 0)), np.zeros((3, 0))) is None


def test_kinds_that_choose_their_steps_say_nothing():
    from errant_gust.core.demos.beginnings import BEGINNINGS
    from errant_gust.core.runs.carried import plan_of
    from errant_gust.core.study.document import parse

    p = plan_of(parse(BEGINNINGS["sand"]()))
    flow = open_flow(p, p.study.flows[0].id, "preview")
    assert flow.halved(None, 1) == []
