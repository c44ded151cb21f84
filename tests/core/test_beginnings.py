"""What a study may begin with works as it is: it can be read, nothing is found wrong, and its flow has something."""

import pytest

from errant_gust.core.checks import findings
from errant_gust.core.demos.beginnings import BEGINNINGS, about
from errant_gust.core.flows.kind import kind_of
from errant_gust.core.listing import catalogue
from errant_gust.core.looking.frames import frame_to_look
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.compute import compute
from errant_gust.core.study.document import dump, parse

WORKING = [id for id in BEGINNINGS if id != "blank"]


@pytest.mark.parametrize("id", WORKING)
def test_a_beginning_is_a_working_study(id):
    study = parse(BEGINNINGS[id]())
    assert dump(parse(dump(study))) == dump(study)
    assert not [f for f in findings(plan_of(study)) if f.level == "error"]
    assert about(id).endswith(".")
    parts = len(study.shapes) + len(study.regions) + sum(len(lane.steps) for lane in [*study.fields, *study.flows])
    assert 6 <= parts <= 16, "it can be taken in at once"


def test_there_is_a_beginning_for_every_kind_of_flow():
    begun = {lane.kind for id in WORKING for lane in parse(BEGINNINGS[id]()).flows}
    assert begun == {kind["id"] for kind in catalogue()["kinds"]}


@pytest.mark.parametrize("id", WORKING)
def test_its_flow_has_something_to_see_after_a_few_frames(id, tmp_path):
    study = parse(BEGINNINGS[id]())
    store = compute(study, study.flows[0].id, tmp_path / "run", quality="preview", last=4)
    result = kind_of(study.flows[0].kind).results[0]
    head, arrays = frame_to_look(store, 4, result)
    if result.form == "volume":
        assert arrays["density"].any() or arrays["temperature"].any()
    else:
        assert head.count > 0
