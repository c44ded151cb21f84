"""Small things that somebody stumbled over once: each said or done where it is met."""

import numpy as np
import pytest

from errant_gust.core.checks.find import findings
from errant_gust.core.demos.beginnings import BEGINNINGS
from errant_gust.core.fields import look
from errant_gust.core.fields.sampling import sample
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.study.building import lane
from errant_gust.core.study.document import parse
from tests.studies import data, node, plan

TUBE = {"id": "tube", "kind": "curve", "params": {"points": [[-1, 0, 0], [1, 0, 0]], "widths": [[0, 0.5], [1, 2.0]]}}
FLOW = ("spline_flow", {"curve": "tube", "reach": 0.5, "inward": 0.0, "ends": "run on"})


def reached(steps, x, shapes=(TUBE,)):
    """How far from the curve the stream still moves, at a place along it."""
    n = plan(lane("a", steps), shapes=list(shapes)).at(0.0).lane("a")
    r = np.linspace(0.0, 2.0, 401)
    speed = np.linalg.norm(sample(n, np.column_stack([np.full_like(r, x), r, 0 * r]).astype(np.float32))[0], axis=1)
    return r[speed > 1e-3].max()


def test_a_spline_flow_is_as_wide_as_its_tube_unless_told_otherwise():
    assert reached(FLOW, -0.9) < 0.4 < 0.8 < reached(FLOW, 0.9)
    own = (FLOW[0], {**FLOW[1], "with_tube": False})
    assert reached(own, -0.9) == pytest.approx(reached(own, 0.9), abs=0.01)


def test_documents_of_version_1_keep_the_width_that_they_had():
    old = {**data(lane("a", FLOW), lane("b", ("wind", {})), shapes=[TUBE]), "version": 1}
    study = parse(old)
    assert study.version == 2
    assert study.fields[0].steps[0].params["with_tube"] is False
    assert "with_tube" not in old["fields"][0]["steps"][0]["params"], "what was read is left as it is"
    even = {**TUBE, "params": {"points": [[-1, 0, 0], [1, 0, 0]]}}
    assert "with_tube" not in parse({**old, "shapes": [even]}).fields[0].steps[0].params
    assert parse(data(lane("a", FLOW), shapes=[TUBE])).fields[0].steps[0].params.get("with_tube") is None


def test_a_curl_after_axes_says_that_it_leaves_the_plane():
    flat = node(("curl_noise", {}), ("axes", {"scale": [1, 1, 0]}), ("gain", {}), ("curl", {}))
    assert flat.step.remark(flat).startswith("leaves the plane: what comes in has no z")
    points = np.random.default_rng(1).uniform(-1, 1, (50, 3)).astype(np.float32)
    assert np.abs(sample(flat, points)[0][:, 2]).max() > 0.1, "and so it does"
    plain = node(("curl_noise", {}), ("curl", {}))
    assert plain.step.remark(plain) == ""


def test_a_stencil_is_seen_from_its_front_where_the_slice_shows_nothing_of_it():
    words = ("stencil", {"text": "GUST", "height": 0.4, "depth": 0.1, "soft": 0.02, "centre": [0, 0, 1.2],
                         "turn": [0, 0, 90]})  # fmt: skip
    scene = plan(lane("a", words, ("gain", {"factor": 2.0}))).at(0.0)
    nodes = [n for _, n in scene.steps("a")]
    nodes[-1].prepare()
    common = look.Window((-2, -2, -1), (4, 0, 0), (0, 4, 0))
    first, second = look.swatches(nodes, common, 64)
    inked = float((first > 0.5).mean())
    assert 0.03 < inked < 0.4, "letters, not nothing and not a block"
    np.testing.assert_allclose(second, 2 * first, rtol=1e-5)
    through = look.Window((-2, -2, 1.2), (4, 0, 0), (0, 4, 0))
    assert np.ptp(look.swatches(nodes, through, 64)[0]) > 0.5
    assert float((look.swatches(nodes, through, 64)[0] > 0.5).mean()) < 0.05, "a slice that meets it stays the slice"


def smoke(**source):
    made = BEGINNINGS["smoke"]()
    made["fields"].append(lane("word", ("stencil", {"height": source.pop("height", 0.4), "centre": [0, 0, 1]})))
    for step in made["flows"][0]["steps"]:
        if step["op"] == "source":
            step["params"]["by"] = "word"
    return made


def codes(made):
    return {f.code: f for f in findings(plan_of(parse(made)))}


def test_letters_that_a_preview_blurs_are_told():
    said = codes(smoke())["blurred_outline"]
    assert said.where.endswith(".by")
    assert "1.0 voxels of a preview, 2.0 of a full run" in said.what
    assert "blurred_outline" not in codes(smoke(height=4.0))


def test_voxels_that_are_keyed_under_a_flow_are_told():
    made = BEGINNINGS["smoke"]()
    region = made["regions"][0]
    region["voxel_size"] = {"keys": [[0, 0.05], [1, 0.1]]}
    assert codes(made)["voxels_are_keyed"].where == f"regions.{region['id']}.voxel_size"
    region["voxel_size"] = 0.05
    made["regions"].append({**region, "id": "alike", "voxel_size": {"link": f"regions.{region['id']}.voxel_size"}})
    assert "voxels_are_keyed" not in codes(made)
    assert plan_of(parse(made)).at(0.0).region("alike").voxel_size == 0.05
