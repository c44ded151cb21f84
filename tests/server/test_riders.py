"""Particles that ride a gas: both runs end done, whoever computes the gas; a failure says why in the checks."""

import json
import threading
import time

import pytest
from django.db import connection

from errant_gust.core.runs.carried import plan_of, run_with
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.study.document import parse
from errant_gust.server import runs
from errant_gust.server.models import Run
from tests.server.test_api import api
from tests.studies import data, lane

pytestmark = pytest.mark.django_db(transaction=True)
assert api
END = 10


def document():
    smoke = lane("smoke", ("domain", {"region": "room"}), ("source", {"shape": "ball"}), ("rise", {}))
    riders = [
        lane(f"sparks_{n}", ("emit", {"shape": "ball", "rate": 200}), ("carry", {"field": "wind"})) for n in (1, 2)
    ]
    fields = lane("wind", ("from_run", {"flow": "smoke"}))
    kinds = [{**smoke, "kind": "gas"}, *({**r, "kind": "particles"} for r in riders)]
    return data(fields, flows=kinds, clock={"fps": 24, "start": 1, "end": END})


def ended(identity, seconds=120):
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        run = Run.objects.get(identity=identity)
        if run.state not in ("running", "waiting"):
            return run
        time.sleep(0.1)
    raise AssertionError("the run never ended")


@pytest.mark.parametrize("ridden_first", [True, False])
def test_gas_and_its_riders_end_done_while_somebody_looks_at_the_gas(api, ridden_first):
    """The gas is computed here by a look while its own run begins: one waits for the other, none fails."""
    study = api("POST", "/studies", {"document": document()})
    scene = plan_of(parse(study["document"])).at(0.0)

    def look():
        run_with(scene, "smoke", "preview", END, "look")
        connection.close()

    looking = threading.Thread(target=look)
    looking.start()
    flows = ["smoke", "sparks_1", "sparks_2"]
    started = [
        api("POST", "/runs", {"study": study["key"], "flow": flow, "quality": "preview"})["identity"]
        for flow in (flows if ridden_first else flows[::-1])
    ]
    for identity in started:
        run = ended(identity)
        assert (run.state, run.message) == ("done", "")
        assert RunStore(runs.folder_of(identity)).frames() == list(range(1, END + 1))
    looking.join()


def test_what_is_done_keeps_no_words_of_the_stop_that_ended_it(api):
    """Somebody who looked computed its last frame: the stop that a shorter clock needs ended the run's own job."""
    study = api("POST", "/studies", {"document": {**document(), "clock": {"fps": 26, "start": 1, "end": 3}}})
    run = ended(api("POST", "/runs", {"study": study["key"], "flow": "smoke", "quality": "preview"})["identity"])
    runs._finished(run.identity, {"state": "stopped", "message": "stopped; the frames so far are kept"})
    run.refresh_from_db()
    assert (run.state, run.message) == ("done", "")
    Run.objects.filter(pk=run.pk).update(last=5)
    runs._finished(run.identity, {"state": "stopped", "message": "stopped; the frames so far are kept"})
    run.refresh_from_db()
    assert (run.state, run.message) == ("stopped", "stopped; the frames so far are kept")


def test_a_failed_run_says_why_in_the_checks(api):
    made = document()
    made["flows"][1]["steps"] = made["flows"][1]["steps"][1:]  # no emitter
    study = api("POST", "/studies", {"document": made})
    run = api("POST", "/runs", {"study": study["key"], "flow": "sparks_1", "quality": "preview"})
    assert ended(run["identity"]).state == "failed"
    found = api("POST", "/look/checks", {"study": study["key"], "document": made})
    (told,) = [f for f in found if f["code"] == "run_failed"]
    assert told["where"] == "flows.sparks_1"
    assert "nothing is emitted; add an Emit step" in told["what"]


def test_seconds_a_frame_and_seconds_left_never_contradict_each_other(api, monkeypatch):
    """ "27 ms each · 15 s left" with 90 frames to go: each is of the last frame, left of the last eight."""
    from errant_gust.core.runs import job

    told = []
    monkeypatch.setattr(job, "write_atomically", lambda path, text: told.append(json.loads(text)))
    fresh = document()
    fresh["clock"]["fps"] = 25  # a run of its own
    study = api("POST", "/studies", {"document": fresh})
    ended(api("POST", "/runs", {"study": study["key"], "flow": "smoke", "quality": "preview"})["identity"])
    assert told.pop(0).keys() == {"worker", "job", "memory"}, "who has taken it up"
    assert len(told) == END
    for said in told[:-1]:
        assert said["each"] * (said["total"] - said["done"]) == pytest.approx(said["left"])


def test_many_may_begin_one_run_at_the_same_moment(tmp_path):
    """Two threads wrote one manifest under one name aside, and one found a folder without it."""
    for turn in range(20):
        faults = []
        begin = threading.Barrier(6)

        def create(folder=tmp_path / str(turn), begin=begin, faults=faults):
            begin.wait()
            try:
                RunStore(folder).create({"identity": "one"})
            except Exception as error:
                faults.append(error)

        threads = [threading.Thread(target=create) for _ in range(6)]
        [t.start() for t in threads]
        [t.join() for t in threads]
        assert not faults
        assert sorted(p.name for p in (tmp_path / str(turn)).iterdir()) == ["frames", "manifest.json"]
