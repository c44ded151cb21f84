"""Shapes that lanes move: along a field, along the normal, carried; flaws that are found; what is refused."""

import numpy as np
import pytest

from errant_gust.core.checks import findings
from errant_gust.core.errors import GustError, StudyError
from errant_gust.core.fields.gridded import KEPT
from errant_gust.core.fields.plan import Plan
from errant_gust.core.study.building import lane, study
from errant_gust.core.study.document import parse
from tests.liquids import ball, box

BALL = ball("ball", 0.5, (0, 0, 0))
ALONG = lane("v", ("constant", {"vector": [0.3, 0, 0.1]}))


def deformed(**params):
    return {"id": "s", "kind": "deformed", "params": {"shape": "ball", "field": "v", "edges": 0.1, **params}}


def made(*fields, shapes=(BALL,), clock=None, **params):
    return Plan(parse(study("S", *fields, shapes=[*shapes, deformed(**params)],
                            **({"clock": clock} if clock else {}))))  # fmt: skip


def constant(value, id="m"):
    return lane(id, ("constant", {"makes": "scalar", "value": value}))


def turning(rate=2.0, id="v"):
    """A rigid turn about z, by arithmetic."""
    return lane(id, ("constant", {"vector": [0, 0, 0]}), ("formula", {"expression": f"0 - {rate}*y, {rate}*x, 0"}))


def volume(shape):
    vertices, faces = shape.surface
    a, b, c = vertices[faces].astype(float).transpose(1, 0, 2)
    return float(np.einsum("ni,ni->n", a, np.cross(b, c)).sum() / 6)


def test_along_a_field_it_is_where_the_field_puts_it():
    shape = made(ALONG, amount=2).at(0).shape("s")
    middle = np.float32([0.6, 0, 0.2])
    points = np.random.default_rng(2).uniform(-0.8, 0.8, (3, 4000)).astype(np.float32) + middle[:, None]
    d = shape.distance(points)[0]
    right = np.linalg.norm(points - middle[:, None], axis=0) - 0.5
    assert np.abs(d - right)[np.abs(right) < 0.2].max() < 0.02
    assert volume(shape) == pytest.approx(4 / 3 * np.pi * 0.125, rel=0.02)
    assert shape.box[0] == pytest.approx(middle - 0.5, abs=0.01)


def test_along_the_normal_by_a_scalar_and_a_vector_and_only_where_a_mask_says():
    radius = np.linalg.norm(made(constant(0.2, "v"), how="along the normal").at(0).shape("s").surface[0], axis=1)
    assert radius == pytest.approx(0.7, abs=0.005)
    outward = lane("v", ("distance", {"shape": "ball"}), ("gradient", {}))
    radius = np.linalg.norm(made(outward, how="along the normal", amount=0.1).at(0).shape("s").surface[0], axis=1)
    assert radius == pytest.approx(0.6, abs=0.005)
    half = lane("half", ("ramp", {"start": [0, 0, 0], "end": [0.001, 0, 0]}))
    vertices = made(constant(0.2, "v"), half, how="along the normal", by="half").at(0).shape("s").surface[0]
    radius = np.linalg.norm(vertices, axis=1)
    assert radius[vertices[:, 0] > 0.02] == pytest.approx(0.7, abs=0.01)
    assert radius[vertices[:, 0] < -0.02] == pytest.approx(0.5, abs=0.005)


def test_carried_along_a_turn_it_turns_to_the_fourth_order_and_keeps_its_volume():
    block = box("ball", (0.3, -0.1, -0.1), (0.9, 0.1, 0.1))
    errors = []
    for steps in (4, 8):
        plan = made(turning(), shapes=[block], how="carried", seconds=np.pi / 4, steps=steps)
        vertices = plan.at(0).shape("s").surface[0]
        errors.append(abs(vertices[:, 1].max() - 0.9))
        assert volume(plan.at(0).shape("s")) == pytest.approx(0.6 * 0.2 * 0.2, rel=2e-3)
    assert errors[0] / errors[1] > 10, "half the step, a sixteenth of the error"
    assert vertices[:, 1] == pytest.approx(0.6, abs=0.31)
    assert np.abs(vertices[:, 0]).max() < 0.11, "a quarter of a turn"


def test_carried_on_from_frame_to_frame_is_a_straight_run_at_any_frame_asked_for():
    clock = {"fps": 24, "start": 1, "end": 25}
    plan = made(turning(1.0), how="carried since the first frame", shapes=[ball("ball", 0.2, (0.5, 0, 0))], clock=clock)
    for time in (1.0, 0.25, 0.0):
        middle = plan.at(time).shape("s").surface[0].mean(axis=0)
        assert middle == pytest.approx([0.5 * np.cos(time), 0.5 * np.sin(time), 0], abs=2e-3)
    again = made(
        turning(1.0), how="carried since the first frame", shapes=[ball("ball", 0.2, (0.5, 0, 0))], clock=clock
    )
    assert np.array_equal(again.at(0.5).shape("s").surface[0], plan.at(0.5).shape("s").surface[0])
    shape = plan.at(0.5).shape("s")
    assert shape.moves
    front = (shape.box[0] + shape.box[1])[:, None] / 2 + 0.2 * np.array([[-np.sin(0.5)], [np.cos(0.5)], [0]])
    speed = np.linalg.norm(shape.surface_velocity(front.astype(np.float32)))
    assert speed == pytest.approx(0.5, rel=0.15), "what lies before it is pushed"


def test_carried_on_begins_with_the_shape_and_the_mask_of_the_first_frame_whatever_was_asked_for():
    moving = ball("ball", 0.2, (0.5, 0, 0))
    moving["params"]["move"] = {"keys": [[0, [0.5, 0, 0]], [1, [0.5, 0, 3]]], "between": "linear"}
    fades = lane("m", ("constant", {"makes": "scalar", "value": {"keys": [[0, 1], [1, 0]], "between": "linear"}}))
    clock = {"fps": 24, "start": 1, "end": 25}
    found = []
    for times in ((1.0,), (0.0, 0.5, 1.0)):
        KEPT.clear()
        plan = made(turning(1.0), fades, how="carried since the first frame", by="m", shapes=[moving], clock=clock)
        for time in times:
            vertices = plan.at(time).shape("s").surface[0]
        found.append(vertices)
    assert np.array_equal(*found)
    assert found[0].mean(axis=0) == pytest.approx([0.5 * np.cos(1), 0.5 * np.sin(1), 0], abs=2e-3)


def test_a_fold_does_not_make_all_of_it_thicker():
    rough = lane("v", ("curl_noise", {"feature_size": 0.6}))
    shape = made(rough, amount=0.1, edges=0.05, shapes=[ball("ball", 0.3, (0, 0, 0))]).at(0).shape("s")
    assert shape.kind.made(shape.geometry).flaws["folded"] > 20
    points = np.random.default_rng(4).uniform(-0.6, 0.6, (3, 100_000)).astype(np.float32)
    filled = float((shape.distance(points)[0] < 0).mean()) * 1.2**3
    assert filled == pytest.approx(volume(shape), rel=0.2)


def test_a_box_bends_because_its_edges_are_made_shorter():
    block = box("ball", (-0.5, -0.1, -0.1), (0.5, 0.1, 0.1))
    bend = lane("v", ("constant", {"vector": [0, 0, 0]}), ("formula", {"expression": "0, 0, x*x"}))
    vertices, faces = made(bend, shapes=[block], edges=0.05).at(0).shape("s").surface
    assert len(faces) > 1000
    ends, middle = vertices[np.abs(vertices[:, 0]) > 0.49], vertices[np.abs(vertices[:, 0]) < 0.03]
    assert ends[:, 2].max() == pytest.approx(0.35, abs=0.01)
    assert middle[:, 2].max() == pytest.approx(0.1, abs=0.01)


def test_what_is_folded_goes_through_itself_or_is_inside_out_is_told():
    def told(*fields, **params):
        return {f.code for f in findings(made(*fields, **params)) if f.where.startswith("shapes.s")}

    assert told(ALONG) == set()
    # two ends of a bar pushed through each other
    cross = lane("v", ("constant", {"vector": [0, 0, 0]}), ("formula", {"expression": "0 - 1.6*x, 0, 0.3*x"}))
    assert "inside_out" in told(cross)
    rough = lane("v", ("noise", {"feature_size": 0.08, "strength": 1}))
    assert {"folded", "through_itself"} & told(rough, how="along the normal", amount=0.6)


@pytest.mark.parametrize(
    ("fields", "more", "words"),
    [
        ((constant(1, "v"),), {}, "a vector is needed"),
        ((ALONG, lane("m", ("wind", {}))), {"by": "m"}, "a scalar is needed"),
        ((ALONG,), {"shape": "plane"}, "has no end"),
        ((ALONG,), {"shape": "none"}, "there is no shape 'none'"),
        ((ALONG,), {"edges": 1e-5}, "triangles"),
        ((ALONG,), {"edges": 0}, "edges"),
        ((lane("v", ("distance", {"shape": "s"}), ("gradient", {})),), {}, "s → v → s"),
    ],
)
def test_what_cannot_be_deformed_is_said_with_its_place(fields, more, words):
    shapes = [BALL, {"id": "plane", "kind": "plane", "params": {}}]
    with pytest.raises(GustError) as error:
        made(*fields, shapes=shapes, **more).at(0).shape("s").distance(np.zeros((3, 1), np.float32))
    assert words in str(error.value)
    assert error.value.where


def test_deformed_by_itself_through_another_is_a_circle():
    other = {"id": "t", "kind": "deformed", "params": {"shape": "s", "field": "v"}}
    plan = Plan(parse(study("S", ALONG, shapes=[deformed(shape="t"), other])))
    with pytest.raises(StudyError, match="s → t → s"):
        _ = plan.at(0).shape("s").box
