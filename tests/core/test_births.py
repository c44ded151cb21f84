"""Births from other particles, within frames, and channels by arithmetic."""

import numpy as np
import pytest

from errant_gust.core.errors import Cancelled, StudyError
from errant_gust.core.flows.particles.flow import ParticleFlow
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.identity import run_identity
from tests.core.test_motion import BURST, WIND
from tests.core.test_particles import flow
from tests.studies import lane, plan

CLOCK = {"fps": 10, "start": 1, "end": 20}
STILL = lane("still", ("constant", {"vector": [0, 0, 0]}))


def pair(second=None, first=None, *motion, clock=CLOCK, fields=(*WIND, STILL)):
    """Rockets that go straight, and sparks that are born at them and stay."""
    lanes = [
        {**lane("rockets", ("emit", {"shape": "ball", **BURST, "count": 3, **(first or {})}),
                ("carry", {"field": "v"})), "kind": "particles"},
        {**lane("sparks", ("emit", {"where": "particles", "flow": "rockets", "rate": 600, "life": 99,
                                    "life_variation": 0, **(second or {})}),
                *(motion or [("carry", {"field": "still"})])), "kind": "particles"},
    ]  # fmt: skip
    return plan(*fields, flows=lanes, clock=clock)


def states(p, id, last, quality="full"):
    f = ParticleFlow(p, id, quality=quality)
    made = [f.first()]
    for n in range(1, last):
        made.append(f.next(made[-1], n))
    return made


def test_they_are_born_on_the_way_of_the_others_without_gaps():
    p = pair()
    sparks, rockets = states(p, "sparks", 11)[-1], states(p, "rockets", 11)[-1]
    assert sparks.count == 600
    starts = rockets.position - 2.0 * np.float32([[1], [0], [0]])  # 2 m/s for 1 s
    off = np.abs(sparks.position[1:, :, None] - starts[1:, None, :]).max(axis=0).min(axis=1)
    assert off.max() < 1e-5, "on one of the three lines"
    nearest = np.abs(sparks.position[1:, :, None] - starts[1:, None, :]).max(axis=0).argmin(axis=1)
    along = sparks.position[0] - starts[0, nearest]
    assert along == pytest.approx(2 * (1 - sparks.age), abs=2e-3), "where the other was at the moment of birth"
    gaps = np.diff(np.sort(along))
    assert gaps.max() < 0.02, "spread within the frame, not in clumps of 0.2 m"


def test_inheriting_and_shooting_along_the_way_of_the_others():
    still = ("drag", {"rate": 0})
    inherit = states(pair({"inherit": 0.5}, None, still), "sparks", 6)[-1]
    assert inherit.more["own"][0] == pytest.approx(1, abs=1e-5), "half of 2 m/s"
    shot = states(pair({"speed": 3, "spread": 20}, None, still), "sparks", 6)[-1].more["own"]
    assert np.linalg.norm(shot, axis=0) == pytest.approx(3, abs=1e-4)
    assert shot[0].min() >= 3 * np.cos(np.radians(20)) - 1e-4
    assert shot[0].std() > 0.01


def test_there_are_none_before_the_others_and_none_after_them():
    p = pair(None, {"begin": 0.45, "life": 0.5})
    counts = [s.count for s in states(p, "sparks", 20)]
    assert counts[:5] == [0] * 5
    assert counts[6] > 0
    assert counts[12:] == [counts[12]] * len(counts[12:]), "the others are gone"


def test_the_same_after_a_stop_and_at_preview(tmp_path):
    p = pair()
    whole = compute(p.study, "sparks", tmp_path / "a", quality="full")
    calls = iter(range(99))
    with pytest.raises(Cancelled):
        compute(p.study, "sparks", tmp_path / "b", quality="full", cancel=lambda: next(calls) > 6)
    continued = compute(p.study, "sparks", tmp_path / "b", quality="full")
    assert continued.frames() == whole.frames()
    for name, values in whole.read(20).items():
        assert np.array_equal(values, continued.read(20)[name]), name
    assert states(p, "sparks", 5, "preview")[-1].count > 0


def test_what_the_others_do_is_part_of_the_run():
    a, b = pair(), pair(None, {"count": 4})
    assert run_identity(a.study, "sparks", "full", a.assets) != run_identity(b.study, "sparks", "full", b.assets)


def test_circles_missing_and_wrong_flows_say_so():
    with pytest.raises(StudyError, match="no flow is chosen"):
        ParticleFlow(pair({"flow": ""}), "sparks")
    with pytest.raises(StudyError, match="sparks → sparks"):
        ParticleFlow(pair({"flow": "sparks"}), "sparks")
    with pytest.raises(StudyError, match="rocket"):
        ParticleFlow(pair({"flow": "rocket"}), "sparks")
    with pytest.raises(StudyError, match="no shape is chosen"):
        ParticleFlow(pair({"where": "surface"}), "sparks")


def test_a_range_of_frames_bounds_births_whatever_the_frame_rate():
    for fps in (8, 24, 60):
        clock = {"fps": fps, "start": 1, "end": 200}
        emit = {"rate": 1000, "begin": 0.25, "until": 0.75, "life": 99, "life_variation": 0}
        f = ParticleFlow(flow(emit, fields=WIND, clock=clock), "p")
        state, counts = f.first(), []
        for n in range(1, fps + 1):
            state = f.next(state, n)
            counts.append(state.count)
        assert counts[-1] == 500
        assert counts[int(0.25 * fps) - 1] == 0


def test_a_channel_by_arithmetic_uses_what_is_kept_and_a_lane():
    fields = (*WIND, lane("m", ("ramp", {"start": [-10, 0, 0], "end": [10, 0, 0]})))
    steps = (
        ("carry", {"field": "v"}),
        ("channel", {"what": "field", "name": "heat", "field": "m"}),
        ("channel", {"what": "formula", "name": "glow", "expression": "2*heat + speed * (1 - age/life) + t"}),
        ("channel", {"what": "formula", "name": "own_f", "expression": "where(x > 0, f, 0 - f)", "field": "m"}),
    )
    f = ParticleFlow(flow({**BURST, "life": 4}, *steps, fields=fields), "p")
    state = f.first()
    for n in range(1, 25):
        state = f.next(state, n)
    m = state.more
    assert m["glow"] == pytest.approx(2 * m["heat"] + 2 * (1 - state.age / state.life) + 1, rel=1e-4)
    assert m["own_f"] == pytest.approx(np.sign(state.position[0]) * m["heat"], abs=1e-5)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("spead", "did you mean|speed"),
        ("f * 2", "f stands for a lane"),
        ("1, 2, 3", "3 parts"),
        ("__import__", "not known"),
    ],
)
def test_a_formula_that_cannot_be_used_says_why_and_where(text, words):
    with pytest.raises(StudyError, match=words) as said:
        ParticleFlow(flow(BURST, ("channel", {"what": "formula", "name": "q", "expression": text}), fields=WIND), "p")
    assert "channel" in said.value.where or said.value.where.startswith("flows.p.")


@pytest.mark.parametrize("fps", [12, 24, 48])
@pytest.mark.parametrize("step", [{"aged": True}, {"aged": False, "farther": 0.6}, {"aged": False, "leaving": "room"}])
def test_how_often_they_are_born_again_does_not_depend_on_frames_a_second(fps, step):
    """A life of 0.3 s; 0.6 m at 2 m/s; or the way to the region's side: 10 s hold 33.3 of them."""
    emit = {**BURST, "count": 200, "life": 0.3 if step["aged"] else 99, "life_variation": 0}
    regions = [{"id": "room", "bounds": {"lower": [-2, -2, -2], "upper": [0.6, 2, 2]}, "voxel_size": 0.1}]
    dot = [{"id": "ball", "kind": "sphere", "params": {"radius": 1e-4}}]
    p = flow(emit, ("carry", {"field": "v"}), ("respawn", step), fields=WIND, shapes=dot, regions=regions,
             clock={"fps": fps, "start": 1, "end": 10 * fps + 1})  # fmt: skip
    f = ParticleFlow(p, "p")
    state = f.first()
    for n in range(1, 10 * fps + 1):
        state = f.next(state, n)
    assert state.more["again"].mean() == pytest.approx(10 / 0.3 - 0.5, abs=0.51)
    assert state.age == pytest.approx(10 - 33 * 0.3, abs=5e-3)
    assert state.position[0] == pytest.approx(2 * state.age, abs=2e-3), "carried on for what is left of the frame"


@pytest.mark.parametrize("fps", [12, 24])
def test_what_begins_before_the_first_frame_is_as_old_as_it_then_is(fps):
    emit = {"shape": "ball", "rate": 100, "begin": -1, "life": 99, "life_variation": 0}
    p = flow(emit, ("carry", {"field": "v"}), fields=WIND, clock={"fps": fps, "start": 1, "end": 9})
    f = ParticleFlow(p, "p")
    state = f.first()
    assert state.count == 100
    assert np.sort(state.age) == pytest.approx(np.arange(100) / 100, abs=0.012), "evenly within a frame"
    assert np.linalg.norm(state.position - np.float32([[2], [0], [0]]) * state.age, axis=0) == pytest.approx(
        0.6, abs=1e-3
    )
    assert f.next(state, 1).count == 100 + 100 // fps


def test_an_outburst_before_the_first_frame_and_lives_that_ended_before_it():
    still = ("carry", {"field": "still"})
    early = {"shape": "ball", "timing": "all at once", "count": 50, "begin": -0.5, "life": 9, "life_variation": 0}
    p = flow(early, still, fields=(STILL,))
    assert ParticleFlow(p, "p").first().age == pytest.approx(0.5)
    assert ParticleFlow(p, "p").first().count == 50
    long_ago = flow(
        {"shape": "ball", "rate": 100, "begin": -1e5, "life": 2, "life_variation": 0}, still, fields=(STILL,)
    )
    first = ParticleFlow(long_ago, "p").first()
    assert first.count == pytest.approx(200, abs=1), "the rest is dead by then"
    assert first.age.max() <= 2
    assert ParticleFlow(flow({**early, "begin": -9.5}, still, fields=(STILL,)), "p").first().count == 0
    again = flow({"shape": "ball", "rate": 100, "begin": -1e5, "life": 2}, still, ("respawn", {}), fields=(STILL,))
    with pytest.raises(StudyError, match=r"before the first one.*begin at -100 s or later"):
        ParticleFlow(again, "p").first()
