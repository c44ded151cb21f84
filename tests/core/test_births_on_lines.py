"""Particles born on trails and flow lines of another lane, anew on each frame, carried by a share of a field."""

import numpy as np
import pytest

from errant_gust.core.errors import StudyError
from errant_gust.core.flows.on_lines import Measured
from errant_gust.core.flows.particles.flow import ParticleFlow
from errant_gust.core.flows.results import Lines
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.identity import run_identity
from errant_gust.core.study.building import lane, study
from errant_gust.core.study.document import parse
from tests.liquids import ball

SEEDS = ("emit", {"shape": "ball", "where": "grid", "spacing": 0.2, "timing": "all at once", "count": 27, "life": 99,
                  "life_variation": 0, "preview_share": 1})  # fmt: skip
WIND = lane("wind", ("constant", {"vector": [2, 0, 0]}))
RISE = lane("rise", ("constant", {"vector": [0, 0, 1]}))


@pytest.fixture(autouse=True)
def own_home(tmp_path, monkeypatch):
    monkeypatch.setenv("ERRANT_GUST_HOME", str(tmp_path / "home"))


def lines(*born, drawn=("flow_lines", {"field": "wind", "length": 1.0, "spacing": 0.1}), end=8):
    """A lane `thread` that draws lines, and `dew` that is born on them and does the steps given."""
    flows = [
        {**lane("thread", SEEDS, ("carry", {"field": "wind"}), drawn), "kind": "particles"},
        {**lane("dew", *born), "kind": "particles"},
    ]
    made = study("Lines", WIND, RISE, shapes=[ball("ball", 0.3, (0, 0, 0))], flows=flows)
    return plan_of(parse({**made, "clock": {"fps": 24, "start": 1, "end": end}}))


def on(**more):
    return "emit", {"where": "lines", "lines": "thread", "rate": 2400, "life": 99, "preview_share": 1, **more}


def run(p, frames):
    flow = ParticleFlow(p, "dew")
    state = flow.first()
    for n in range(1, frames + 1):
        state = flow.next(state, n)
    return state


def test_places_are_on_the_lines_and_go_along_them():
    two = Lines(np.float32([[0, 0, 0], [1, 0, 0], [5, 0, 0], [5, 2, 0], [5, 2, 1]]), np.int32([2, 3]),
                {"speed": np.float32([1, 3, 0, 0, 4])})  # fmt: skip
    m = Measured(two)
    assert m.length == pytest.approx([1, 3])
    place, way, channels = m.at(np.array([0, 1, 1]), m.start[[0, 1, 1]] + np.array([0.25, 1.0, 2.5]))
    assert place == pytest.approx(np.float32([[0.25, 0, 0], [5, 1, 0], [5, 2, 0.5]]))
    assert way == pytest.approx(np.float32([[1, 0, 0], [0, 2, 0], [0, 0, 1]]))
    assert channels["speed"] == pytest.approx([1.5, 0, 2])


def test_new_ones_are_born_on_the_lines_as_they_are_on_each_frame():
    state = run(lines(on()), 6)
    assert state.count == pytest.approx(2400 * 6 / 24, abs=2)
    x, y, z = state.position
    place = [(np.floor(a / 0.2) + 0.5) * 0.2 for a in (y, z)]
    assert y == pytest.approx(place[0], abs=1e-5)  # lines run along x from the places of the grid
    assert z == pytest.approx(place[1], abs=1e-5)
    frame = np.ceil((6 / 24 - state.age) * 24 - 1e-3)  # that they were born on
    start = x - 2 * frame / 24  # the lines begin where their particles were then
    assert start.min() > -0.31
    assert start.max() < 1.31
    assert np.ptp(start[frame == 6]) > 1.0


def test_half_of_the_field_is_half_way_between_staying_and_following():
    for share in (0.0, 0.5, 1.0):
        state = run(lines(on(), ("carry", {"field": "rise", "amount": share})), 6)
        z = state.position[2] - share * state.age
        up = state.position[2] - (np.floor(z / 0.2) + 0.5) * 0.2
        assert up == pytest.approx(share * state.age, abs=1e-4)


def test_evenly_they_leave_no_gaps_and_at_random_they_do():
    def gaps(places):
        state = run(lines(on(rate=0, timing="all at once", count=400, places=places)), 0)
        x, y, z = state.position
        key = np.floor(y / 0.2).astype(int) * 10 + np.floor(z / 0.2).astype(int)
        widest = [np.diff(np.sort(x[key == k])).max() for k in np.unique(key) if (key == k).sum() > 2]
        return max(widest), state.count

    even, count = gaps("evenly")
    uneven, _ = gaps("at random")
    assert count == 400
    assert even < 0.06
    assert uneven > 1.25 * even


def test_they_may_inherit_the_way_of_the_line_and_trails_serve_as_well():
    p = lines(on(inherit=1.0), drawn=("trail", {"length": 0.25}))
    state = run(p, 8)
    late = state.age < 0.1
    assert late.sum() > 100
    speed = state.velocity[:, late]
    assert speed[0] == pytest.approx(2.0, abs=0.05)  # forward, though a trail goes back in time
    assert np.abs(speed[1:]).max() < 1e-4


def test_what_the_other_lane_draws_is_part_of_the_run_and_its_looks_are_not():
    def named(**drawn):
        p = lines(on(), drawn=("flow_lines", {"field": "wind", **drawn}))
        return [run_identity(p.study, flow, "full", p.assets) for flow in ("thread", "dew")]

    assert named()[0] == named(length=3)[0]
    assert named()[1] != named(length=3)[1]


def test_same_frames_whether_straight_or_again(tmp_path):
    p = lines(on(), ("carry", {"field": "rise", "amount": 0.5}))
    one = compute(p.study, "dew", tmp_path / "one", assets=p.assets).read(8)
    state = run(p, 7)
    assert np.array_equal(one["position"], state.position.T)


def test_what_cannot_be_is_said():
    with pytest.raises(StudyError, match="no lane is chosen"):
        ParticleFlow(lines(on(lines="")), "dew")
    p = lines(on(), drawn=("gravity", {}))
    with pytest.raises(StudyError, match="draws no lines") as error:
        run(p, 1)
    assert "Trail" in error.value.fix
    with pytest.raises(StudyError, match="circle"):
        ParticleFlow(lines(on(lines="dew"), ("trail", {})), "dew")
