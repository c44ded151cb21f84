"""What one version changed against another, in words."""

import copy

import numpy as np

from errant_gust.core.pictures.camera import FRONT
from errant_gust.core.pictures.stage import Stage
from errant_gust.core.pictures.taking import box_of
from errant_gust.core.pictures.taking import picture as taken
from errant_gust.core.runs.compute import compute
from errant_gust.core.study.building import lane
from errant_gust.core.study.changes import changes
from errant_gust.core.study.document import parse
from tests.studies import data

FLOW = {
    **lane("dust", ("emit", {"shape": "ball", "rate": 4000}), ("carry", {"field": "wind"})),
    "name": "Dust", "kind": "particles",
}  # fmt: skip
NOISE = ("curl_noise", {"feature_size": 0.5, "seed": 1})


def made(*steps, more=(), **rest):
    wind = {**lane("wind", *(steps or (("wind", {"speed": 1.5}), ("add", {"field": "swirl"})))), "name": "Wind"}
    fields = [{**lane("swirl", NOISE), "name": "Swirl"}, wind, *more]
    return copy.deepcopy(data(*fields, flows=[FLOW], **{"clock": {"fps": 24, "start": 1, "end": 12}, **rest}))


def words(a, b, flow=""):
    return [c.words for c in changes(parse(a), parse(b), flow)]


def test_a_version_against_itself_changed_nothing():
    assert words(made(), made()) == []


def test_parameters_are_told_with_label_unit_and_default():
    a, b = made(), made()
    b["fields"][0]["steps"][0]["params"] = {"feature_size": 0.25, "seed": 7, "octaves": 3}  # 3 is the default
    assert words(a, b) == ["Swirl ▸ Curl noise ▸ Feature size 0.5 m → 0.25 m", "Swirl ▸ Curl noise ▸ Seed 1 → 7"]
    (first, _) = changes(parse(a), parse(b))
    assert first.where == "fields.swirl.s0.feature_size"


def test_steps_lanes_shapes_regions_and_clock():
    a = made()
    b = made(("add", {"field": "swirl"}), ("wind", {"speed": 1.5}), more=[{**lane("lone", NOISE), "name": "Lone"}])
    b["fields"][1]["steps"] = [{**a["fields"][1]["steps"][0], "on": False}]
    b["shapes"] = [{**s, "params": {**s["params"], "radius": 0.9}} if s["id"] == "ball" else s for s in a["shapes"]][
        :-1
    ]
    b["regions"] = [{**a["regions"][0], "voxel_size": {"keys": [[0, 0.1], [1, 0.2]]}}]
    b["clock"] = {**a["clock"], "end": 24}
    said = words(a, b)
    assert "Wind ▸ Wind ▸ off" in said
    assert "Wind ▸ Add removed" in said
    assert "field Lone added" in said
    assert "shape Shape removed" in said
    assert any("Radius 0.6 m → 0.9 m" in w for w in said)
    assert any("voxel size 0.1 m → 2 keys" in w for w in said)
    assert "Clock ▸ end 12 → 24" in said
    order = made()
    order["fields"][1]["steps"].reverse()
    assert "Wind ▸ steps in another order" in words(a, order)


def test_only_what_the_flow_depends_on_is_told():
    a = made(more=[{**lane("lone", NOISE), "name": "Lone"}])
    b = made(more=[{**lane("lone", ("curl_noise", {"feature_size": 2.0})), "name": "Lone"}])
    assert words(a, b) != []
    assert words(a, b, "dust") == []
    b["fields"][0]["steps"][0]["params"]["seed"] = 3  # through Add of the lane that carries
    assert words(a, b, "dust") == ["Swirl ▸ Curl noise ▸ Seed 1 → 3"]


def test_a_thumbnail_shows_where_things_are(tmp_path):
    store = compute(parse(made(("wind", {"speed": 2, "toward": 0}))), "dust", tmp_path / "run", last=12)
    stage, box = Stage(store), (np.array([-2.0, -1, -1]), np.array([2.0, 1, 1]))
    early, late = (taken(stage, frame, (160, 100), FRONT, box=box).astype(float) for frame in (2, 12))
    assert early.shape == (100, 160, 3)
    columns = [np.nonzero(standing_out(p) > 30)[1] for p in (early, late)]
    assert columns[1].max() > columns[0].max() + 20, "the wind carries them to the right"
    assert abs((columns[0].min() + columns[0].max()) / 2 - 83) < 4, "a ball about the origin, carried for a moment"
    lower, upper = box_of(stage, 12)
    assert lower[0] < -0.5
    assert upper[0] > 0.6


def standing_out(picture):
    """How much brighter than what its row is, (h, w)."""
    light = picture.max(axis=2)
    return light - np.median(light, axis=1, keepdims=True)


def test_a_thumbnail_of_smoke_is_where_the_smoke_is(tmp_path):
    """A puff in the left third of the box, seen from the front, and larger where the box is smaller."""
    from errant_gust.core.demos.beginnings import BEGINNINGS
    from errant_gust.core.runs.carried import plan_of

    study = parse(BEGINNINGS["smoke"]())
    flow = study.flows[0].id
    store = compute(study, flow, tmp_path / "run", quality="preview", last=12)
    stage = Stage(store)
    shape = plan_of(study).at(0.0).shape(next(s.params["shape"] for s in study.flows[0].steps if s.op == "source"))
    lower, upper = box_of(stage, 12)
    middle = 0.5 * (shape.box[0] + shape.box[1])
    half = np.array([1.0, 1.0, 0.625])
    box = middle - half, middle + half
    picture = taken(stage, 12, (160, 100), FRONT, box=box).astype(float)
    lit = standing_out(picture) > 25
    column = np.nonzero(lit)[1]
    assert lit.any()
    assert abs(np.median(column) - 80) < 25, "about the source, which is in the middle of the picture"
    assert (lower <= box[1]).all()
    assert (upper >= box[0]).all()
