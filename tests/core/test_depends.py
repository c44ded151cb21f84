"""The one walk over dependencies, and what goes by it; frames with their facts beside them."""

import json

import numpy as np
import pytest
import zarr

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.files.zarr_arrays import chunks_of
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.study.building import lane
from errant_gust.core.study.depends import Depends, check_circles, used_lanes
from errant_gust.core.study.document import parse
from tests.studies import data, values


def small(*more_fields, carry="wind"):
    spray = {**lane("p", ("emit", {"shape": "ball", "rate": 200, "preview_share": 1}), ("carry", {"field": carry})),
             "kind": "particles"}  # fmt: skip
    fields = (lane("wind", ("wind", {})), lane("spread", ("from_particles", {"flow": "p", "region": "room"})))
    return data(*fields, *more_fields, flows=[spray], clock={"fps": 24, "start": 1, "end": 6})


def test_a_walk_holds_what_a_flow_depends_on_and_nothing_else():
    walk = Depends(parse(small(lane("alone", ("noise", {})))))
    walk.flow("p")
    assert set(walk.parts) == {"flow:p", "field:wind", "shape:ball"}
    assert walk.kinds == ["particles"]
    walk = Depends(parse(small()))
    walk.field("spread")
    assert {"flow:p", "region:room", "field:wind"} <= set(walk.parts)


def test_files_of_shapes_and_steps_are_found_wherever_they_are_named():
    shapes = [{"id": "ball", "kind": "mesh", "params": {"file": "ball.0001.obj", "sequence": True}}]
    raw = {**small(lane("grid", ("from_grid", {"file": "smoke.vdb"}))), "shapes": shapes}
    raw["fields"][-1]["steps"][0]["on"] = False
    found = {(f.name, f.sequence) for f in Depends(parse(raw)).everything().files}
    assert found == {("ball.0001.obj", True), ("smoke.vdb", False)}
    on = Depends(parse(raw))
    on.flow("p")
    assert [f.name for f in on.files] == ["ball.0001.obj"], "a step that is off is no part of a run"


@pytest.mark.parametrize(
    ("fields", "carry", "path"),
    [
        ((), "spread", "p → spread → p"),
        ((lane("via", ("use_field", {"field": "spread"})),), "via", "p → via → spread → p"),
        ((lane("m", ("noise", {"makes": "vector"}), ("mask", {"by": "spread"})),), "m", "p → m → spread → p"),
    ],
)
def test_a_circle_is_told_with_its_path_before_anything_is_computed(fields, carry, path):
    study = parse(small(*fields, carry=carry))
    with pytest.raises(StudyError, match=path):
        check_circles(study, "p")


def test_lanes_that_are_used_are_those_that_a_step_names():
    study = parse(small(lane("alone", ("noise", {})), lane("by", ("noise", {"strength": {"field": "spread"}}))))
    assert used_lanes(study) == {"wind", "spread"}


def test_what_is_made_from_a_flow_stays_when_another_lane_changes():
    names = []
    for strength in (1, 2):
        p = plan_of(parse(small(lane("alone", ("noise", {"strength": strength})))))
        names.append(p.at(0.1).lane("spread").identity())
    assert names[0] == names[1]
    raw = small()
    raw["flows"][0]["steps"][0]["params"]["rate"] = 300
    assert plan_of(parse(raw)).at(0.1).lane("spread").identity() != names[0]


def test_a_plan_without_flows_says_so():
    with pytest.raises(StudyError, match="the flow 'p' cannot be asked here"):
        values(Plan(parse(small())).at(0.0).lane("spread"), np.zeros((1, 3), np.float32))


def test_a_parameter_is_read_once_and_the_right_one_after_a_change():
    study = parse(small())
    keys = {"keys": [[0, 1.0], [1, 2.0]]}
    first = study.value(keys, "x")
    assert study.value(keys, "x") is first
    assert study.value({"keys": [[0, 5.0]]}, "x").at(0) == 5
    assert study.value(3, "x") == 3


def test_the_manifest_is_written_once_and_facts_stand_beside_the_arrays(tmp_path):
    study = parse(small())
    store = compute(study, "p", tmp_path / "run", last=2)
    written = store.manifest_path.read_bytes()
    compute(study, "p", tmp_path / "run")
    assert store.manifest_path.read_bytes() == written
    assert "frames" not in json.loads(written)
    assert store.facts(6)["count"] == len(store.read(6, ("id",))["id"])
    assert dict(zarr.open_group(store.path(6), mode="r").attrs) == store.facts(6), "as any reader of Zarr finds them"


@pytest.mark.parametrize(
    ("shape", "chunks"),
    [
        ((0,), (1,)),
        ((10,), (10,)),
        ((10**6, 3), (10**6, 3)),
        ((1_200_000, 3), (600_000, 3)),
        ((300, 64, 200), (100, 64, 100)),
        ((0, 3), (1, 3)),
    ],
)
def test_chunks_follow_from_what_an_array_is(shape, chunks):
    assert chunks_of(shape) == chunks


def test_a_large_window_is_stored_in_cubes_and_read_back_as_it_was(tmp_path):
    store = RunStore(tmp_path / "run")
    store.create({"identity": "x"})
    cells = np.random.default_rng(1).random((150, 20, 130)).astype(np.float32)
    store.write(1, {"density": cells}, {"count": cells.size})
    assert zarr.open_group(store.path(1), mode="r")["density"].chunks == (75, 20, 65)
    np.testing.assert_array_equal(store.read(1)["density"], cells)
