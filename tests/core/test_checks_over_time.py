"""Checks look at the whole clock, and errors speak plainly."""

import pytest

from errant_gust.core.checks import findings
from errant_gust.core.checks.find import times_to_look
from errant_gust.core.errors import StudyError
from errant_gust.core.flows.particles.flow import ParticleFlow
from errant_gust.core.study.document import parse
from tests.core.test_particles import flow
from tests.studies import data, lane, plan

CLOCK = {"fps": 24, "start": 1, "end": 97}


def of(found, code):
    return [f for f in found if f.code == code]


def test_what_breaks_later_than_on_the_first_frame_is_told_with_its_time():
    size = {"keys": [[0, 1.0], [2, -0.5], [4, 1.0]], "between": "linear"}
    p = plan(lane("a", ("noise", {"feature_size": size})), clock=CLOCK)
    (found,) = of(findings(p), "cannot_be_built")
    assert found.where == "fields.a.s0.feature_size" or found.where.startswith("fields.a.")
    assert "at 2 s" in found.what
    assert "above 0 m" in found.why


def test_a_lane_that_is_zero_only_at_first_is_not_called_silent():
    fades = {"keys": [[0, 0.0], [3, 1.0]], "between": "linear"}
    p = plan(lane("a", ("wind", {}), ("gain", {"factor": fades})), clock=CLOCK)
    assert not of(findings(p), "zero_everywhere")
    still = plan(lane("a", ("wind", {}), ("gain", {"factor": 0})), clock=CLOCK)
    assert of(findings(still), "zero_everywhere")


def test_times_are_those_of_the_keys_and_quarters_of_the_clock():
    keys = {"keys": [[0, 0.0], [0.7, 1.0], [99, 1.0]]}
    study = plan(lane("a", ("wind", {"speed": keys})), clock=CLOCK).study
    assert times_to_look(study) == pytest.approx([0.7, 1, 2, 3, 4])
    many = {"keys": [[0.01 * n, 1.0] for n in range(300)]}
    assert len(times_to_look(plan(lane("a", ("wind", {"speed": many})), clock=CLOCK).study)) <= 12


def test_a_missing_emitter_is_told_at_the_step():
    broken = flow({"shape": "bal"})
    with pytest.raises(StudyError, match=r"^flows\.p\.s0\.shape: there is no shape 'bal'; did you mean 'ball'"):
        ParticleFlow(broken, "p")


@pytest.mark.parametrize(
    ("document", "words"),
    [
        ({**data(), "shapes": [{"id": "a"}]}, "shapes.a.kind: is missing"),
        ({**data(), "shapes": [{"id": "a", "kind": "box", "colour": 1}]}, "shapes.a.colour: is not known here"),
        ({**data(), "regions": [{"id": "r", "bounds": {"fit": []}}]}, "regions.r.bounds: bounds need either"),
    ],
)
def test_no_words_of_a_library_are_passed_on(document, words):
    with pytest.raises(StudyError) as found:
        parse(document)
    assert words in str(found.value)
    assert "Value error" not in str(found.value)
    assert "Field required" not in str(found.value)


@pytest.mark.parametrize(
    ("params", "words"),
    [
        ({"speed": -1}, "right would be from 0 to 500 m/s"),
        ({"gust": 3}, "right would be from 0 to "),
        ({"speed": "fast"}, "should be a valid number, unable to parse string as a number, got 'fast'"),
    ],
)
def test_limits_are_told_without_gaps(params, words):
    with pytest.raises(StudyError) as found:
        plan(lane("a", ("wind", params))).at(0).lane("a")
    assert words in str(found.value), str(found.value)
    assert "  " not in str(found.value)


def test_a_region_over_all_frames_holds_a_moving_shape():
    ball = {
        "id": "ball",
        "kind": "sphere",
        "params": {"radius": 0.5, "move": {"keys": [[0, [0, 0, 0]], [4, [3, 0, 0]]]}},
    }
    region = {"id": "room", "bounds": {"fit": ["ball"], "padding": 0.1}, "voxel_size": 0.1}
    first = plan(lane("a", ("wind", {})), shapes=[ball], regions=[region], clock=CLOCK)
    assert first.at(0).region("room").upper[0] == pytest.approx(0.6, abs=0.06)
    (found,) = of(findings(first), "fitted_to_first_frame")
    assert found.fix["set"] == {"regions.room.over": "all frames"}
    whole = plan(lane("a", ("wind", {})), shapes=[ball], regions=[{**region, "over": "all frames"}], clock=CLOCK)
    for time in (0.0, 2.0, 4.0):
        box = whole.at(time).region("room")
        assert box.upper[0] == pytest.approx(3.6, abs=0.06)
        assert box.lower[0] == pytest.approx(-0.6, abs=0.06)
    assert not of(findings(whole), "fitted_to_first_frame")


def test_sliding_in_the_place_of_the_potential_is_told_in_check_and_reading():
    from errant_gust.core.fields.extent import domain
    from errant_gust.core.fields.readings import reading

    noise = ("noise", {"makes": "vector"})
    p = plan(lane("a", noise, ("steer_around", {"shape": "ball"})))
    (found,) = of(findings(p), "steers_by_sliding")
    assert "slides along the shape" in found.what
    n = p.at(0).lane("a")
    assert reading(n, *domain(n.scene), side=6).remark == "by sliding: what comes in has no potential"
    two = plan(lane("a", ("wind", {}), ("steer_around", {"shape": "ball"}), ("steer_around", {"shape": "block"})))
    assert not of(findings(two), "steers_by_sliding")
    n = two.at(0).lane("a")
    assert reading(n, *domain(n.scene), side=6).remark == "by the potential, around ball, block together"
