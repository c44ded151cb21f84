"""What a study may begin with works as it is: it can be read, nothing is found wrong, and its flow has something."""

import numpy as np
import pytest

from errant_gust.core.checks import findings
from errant_gust.core.demos.beginnings import BEGINNINGS, about
from errant_gust.core.flows.kind import open_flow
from errant_gust.core.listing import catalogue
from errant_gust.core.runs.carried import plan_of
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
def test_its_flow_has_something_after_a_few_frames(id):
    plan = plan_of(parse(BEGINNINGS[id]()))
    lane = plan.study.flows[0]
    flow = open_flow(plan, lane.id, quality="preview")
    state = flow.first()
    for frame in range(1, 4):
        state = flow.next(state, frame)
    held = [a for a in vars(state).values() if isinstance(a, np.ndarray)]
    assert getattr(state, "count", 0) > 0 or any(np.any(a) for a in held)
