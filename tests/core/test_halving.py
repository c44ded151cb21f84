"""The error of a half step, against motions that are known."""

import numpy as np
import pytest

from errant_gust.core.demos.beginnings import BEGINNINGS
from errant_gust.core.errors import Cancelled
from errant_gust.core.flows.halving import Finer, between
from errant_gust.core.flows.kind import open_flow
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.study.building import lane
from errant_gust.core.study.document import parse
from tests.liquids import ball, liquid, once
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
    assert between(1, np.zeros((3, 0)), np.zeros((3, 0)), np.zeros((3, 0)), "grains") is None


def begun(beginning, frames):
    """A flow as it begins from nothing, after so many frames of a preview."""
    p = plan_of(parse(BEGINNINGS[beginning]()))
    flow = open_flow(p, p.study.flows[0].id, "preview")
    state = flow.first()
    for frame in range(1, frames):
        state = flow.next(state, frame)
    return flow, state, frames


@pytest.mark.parametrize("beginning", ["smoke", "fire", "sand", "liquid", "growth"])
def test_every_kind_tells_what_half_steps_change(beginning):
    """Of kinds that choose their steps the frame is computed as it is, and in twice as many; nothing of it stays."""
    flow, state, frame = begun(beginning, 4)
    before = {k: a.copy() for k, a in state.channels().items()}
    (told,) = flow.halved(state, frame)
    plain = flow.next(state, frame)
    assert told.substeps == plain.pace["substeps"], "as many as the frame takes"
    assert told.count > 50
    assert 0 < told.middle <= told.most
    few = max(0.1 * told.way, 0.005 * flow.domain.voxel_size)
    assert told.middle < few, "halves change a tenth of the way at most, or what is nothing"
    assert told.share == told.middle / told.way
    assert told.of in told.line()
    for name, a in state.channels().items():
        np.testing.assert_array_equal(a, before[name])


def falling(fps):
    """A blob of liquid that a swinging force pushes: its substeps are whole frames."""
    return liquid(
        once("d"), ("push", {"field": "wind", "how": "force"}), h=0.1, fps=fps, end=900, room=((-2, -2, -2), (2, 2, 2)),
        shapes=[ball("d", 0.3, (0, 0, 0))], domain={"above": False},
        fields=[lane("wind", ("constant", {"makes": "vector"}), ("formula", {"expression": "8*cos(9*t), 0, 0"}))],
    )  # fmt: skip


def test_halves_of_liquid_tell_the_error_and_its_order():
    """What half steps change in a frame falls by eight as frames are halved: a frame of a second-order scheme is off by
    the third power of its length."""
    told = []
    for fps in (12, 24, 48):
        flow = open_flow(falling(fps), "w")
        state = flow.first()
        for frame in range(1, fps // 4):
            state = flow.next(state, frame)
        (one,) = flow.halved(state, fps // 4)
        assert one.substeps == 1
        told.append(one.middle)
    orders = np.log2(np.array(told[:-1]) / told[1:])
    assert orders.mean() == pytest.approx(3, abs=0.7)


def test_steps_are_parted_evenly_and_asked_for_once():
    finer, asked = Finer(), []
    finer.times = 3

    def choose():
        asked.append(len(asked))
        return 0.3

    assert [finer.of(choose) for _ in range(6)] == pytest.approx([0.1] * 6)
    assert len(asked) == 2


def test_who_gave_up_gets_no_halves():
    flow, state, frame = begun("sand", 2)
    with pytest.raises(Cancelled):
        flow.halved(state, frame, lambda: True)
    assert flow.finer.times == 1, "what follows is computed as ever"
