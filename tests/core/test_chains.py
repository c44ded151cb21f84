"""Steps of a lane evaluated together give what each gives alone."""

import numpy as np
import pytest

from errant_gust.core.fields.node import remembering
from errant_gust.core.fields.samples import Samples
from errant_gust.core.fields.sampling import sample, sample_chain
from errant_gust.core.fields.steps.starts import Constant
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.study.building import lane, study
from errant_gust.core.study.document import parse

DOC = study(
    "Chain",
    lane("m", ("mask_shape", {"shapes": ["b"], "fade_over": 1.0})),
    lane(
        "n", ("curl_noise", {"octaves": 2, "evolve": 0.2}), ("mask", {"by": "m"}), ("gain", {"factor": {"field": "m"}}),
        ("add", {"field": "w"}), ("steer_around", {"shape": "b"}), ("twist", {}), ("warp", {"by": "w", "amount": 0.2}),
        ("curl", {}), ("magnitude", {}), ("remap", {}), ("threshold", {"soft": 0.1}),
    ),
    lane("w", ("wind", {})),
    shapes=[{"id": "b", "kind": "sphere", "params": {"radius": 0.6}}],
)  # fmt: skip


@pytest.mark.parametrize("count", [1, 17, 500, 9000])
def test_all_steps_at_once_are_the_same_as_each_alone(rng, count):
    nodes = [node for _, node in plan_of(parse(DOC)).at(0.5).steps("n")]
    points = rng.uniform(-1.5, 1.5, (count, 3))
    for node, together in zip(nodes, sample_chain(nodes, points), strict=True):
        alone = sample(node, points)[0]
        # a value that came along with its gradient may differ in the last bits from one without
        assert np.allclose(together, alone, rtol=1e-4, atol=1e-4 * np.abs(alone).max()), node.where


def test_what_is_remembered_cannot_be_changed(rng, monkeypatch):
    """A step that writes into what it was given is found out instead of spoiling the others."""
    scene = plan_of(parse(study("S", lane("a", ("constant", {"value": 2}), ("gain", {}))))).at(0)
    points = np.zeros((3, 16), np.float32)

    def spoils(self, at):
        made = at.incoming()
        made.value[:] = 0
        return Samples(made.value)

    node = scene.lane("a")
    monkeypatch.setattr(type(node.step), "evaluate", spoils)
    with remembering(), pytest.raises(ValueError, match="read-only"):
        node.evaluate(points)


def test_a_step_is_evaluated_once_at_the_same_block(monkeypatch):
    scene = plan_of(parse(study("S", lane("a", ("constant", {"value": 2}), ("gain", {}), ("gain", {}))))).at(0)
    nodes = [node for _, node in scene.steps("a")]
    calls = []
    plain = Constant.evaluate
    monkeypatch.setattr(Constant, "evaluate", lambda self, at: calls.append(at.n) or plain(self, at))
    made = sample_chain(nodes, np.zeros((40, 3)))
    assert len(calls) == 1
    assert [m.shape for m in made] == [(40, 3)] * 3
