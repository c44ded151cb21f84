"""What gives nothing, or not what was meant, is said: by check, and by run without being asked."""

import json
import subprocess
import sys

import pytest

from errant_gust.core.checks import findings, findings_of
from errant_gust.core.fields.plan import Plan
from errant_gust.core.study import document
from tests.robust.test_apart import study


def changed(steps=None, lane=None, region=False, end=48):
    made = study("Said", end=end)
    made["flows"][0]["steps"][0]["params"].update(steps or {})
    if lane:
        made["fields"][0]["steps"] = lane
    if region:
        bounds = {"lower": [-0.2, -1, -1], "upper": [1, 1, 1]}
        made["regions"] = [{"id": "room", "name": "Room", "voxel_size": 0.1, "bounds": bounds}]
    return made


FINE = [{"id": "a", "op": "curl_noise", "params": {"feature_size": 0.02, "strength": 20.0, "octaves": 1}}]
BAKED = [
    {"id": "a", "op": "wind", "params": {"speed": 1}}, {"id": "b", "op": "bake", "params": {"region": "room"}},
]  # fmt: skip
ONCE = {"timing": "all at once", "count": 500, "life": 0.5}


@pytest.mark.parametrize(
    ("document_", "code", "words"),
    [
        (changed(ONCE), "die_early", "all are dead after 0.625 s, and the clock has 1.96 s"),
        (changed(lane=FINE), "long_steps", "the field's detail 0.02 m"),
        (changed(lane=BAKED, region=True), "born_outside", "births lie outside of the region 'room'"),
    ],
    ids=["die", "steps", "outside"],
)
def test_what_goes_wrong_in_silence_is_found(document_, code, words):
    plan = Plan(document.parse(document_))
    for found in (findings(plan), findings_of(plan, "p")):
        (one,) = [f for f in found if f.code == code]
        assert words in one.what


def test_what_is_as_it_should_be_is_not_found():
    slow = [{"id": "a", "op": "curl_noise", "params": {"feature_size": 0.5, "strength": 0.5}}]
    whole = changed(lane=BAKED, region=True)
    whole["regions"][0]["bounds"]["lower"] = [-1, -1, -1]
    whole["regions"][0]["bounds"]["upper"] = [4, 1, 1]
    for made in (changed({**ONCE, "life": 9.0}), changed({"life": 0.5}), changed(lane=slow), whole):
        codes = {f.code for f in findings(Plan(document.parse(made)))}
        assert not codes & {"die_early", "long_steps", "born_outside"}


def test_run_says_what_check_says(tmp_path):
    path = tmp_path / "said.gust.json"
    path.write_text(json.dumps(changed(lane=BAKED, region=True, end=3)))
    done = subprocess.run(
        [sys.executable, "-m", "errant_gust.cli.main", "run", str(path), "--flow", "p", "--out", str(tmp_path / "run")],
        capture_output=True, text=True, timeout=120, check=True,
    )  # fmt: skip
    assert done.stderr.count("births lie outside of the region 'room'") == 1
    assert "3 frames" in done.stdout
