"""The demo studies do what their how-to says, and are what the builder makes."""

import json

import numpy as np
import pytest
from scipy.spatial import cKDTree

from errant_gust.core.api import open_study
from errant_gust.core.checks import findings
from errant_gust.core.demos import DEMOS
from errant_gust.core.fields.extent import domain
from errant_gust.core.fields.readings import reading
from errant_gust.core.fields.sampling import sample
from errant_gust.core.flows.particles.flow import ParticleFlow
from tests.studies import DEMO


@pytest.mark.parametrize("name", sorted(DEMOS))
def test_a_demo_is_as_the_builder_makes_it_has_no_error_adds_what_fits_and_has_a_page(name):
    path = DEMO / f"{name}.gust.json"
    assert json.loads(path.read_text()) == json.loads(json.dumps(DEMOS[name]()))
    wrong = [f for f in findings(open_study(path)) if f.level == "error" or f.code in ("units_differ", "no_speed")]
    assert not wrong
    assert "Try:" in (DEMO / f"{name}.md").read_text()
    assert (DEMO / f"{name}.png").read_bytes().startswith(b"\x89PNG")


def frames(name, flow, last):
    """(time, state) on every 20th frame of a preview."""
    plan = open_study(DEMO / f"{name}.gust.json")
    made = ParticleFlow(plan, flow, quality="preview")
    state = made.first()
    for frame in range(1, last):
        state = made.next(state, frame)
        if frame % 20 == 0:
            yield plan.at(plan.study.clock.seconds(frame + 1)), state


def test_no_ember_touches_the_wall_of_the_flue():
    seen = 0
    for scene, state in frames("flue_embers", "embers", 90):
        flue = scene.shape("flue")
        near = flue.kind.curves(flue.geometry).nearest(state.position)
        inside = (near.s > 0) & (near.s < near.length - 0.15)
        assert flue.distance(state.position)[0][inside].max() < 0
        seen = max(seen, int(inside.sum()))
    assert seen > 5000


def test_beads_stay_on_the_skin_of_the_globe_while_it_breathes():
    for scene, state in frames("globe_skin", "beads", 42):
        away = np.abs(scene.shape("globe").distance(state.position)[0])
        assert np.quantile(away, 0.99) < 0.04
        assert state.count > 2000


@pytest.mark.slow("runs two demos")
def test_sparks_leave_the_bubbles_and_go_round_them_while_they_change():
    seen, boxes = 0, []
    for scene, state in frames("blown_bubbles", "sparks", 60):
        bubbles = scene.shape("bubbles")
        away = bubbles.distance(state.position)[0]
        assert (away > -0.01).mean() > 0.98
        assert np.median(away[state.age < 0.05]) < 0.05, "they come out of it"
        seen = max(seen, state.count)
        boxes.append(np.concatenate(bubbles.box))
    assert seen > 2000
    assert np.abs(np.diff(boxes, axis=0)).max() > 0.02, "it changes"


def test_shards_keep_apart_on_the_heap_and_a_mask_that_wanders_chooses_them():
    chosen = []
    for scene, state in frames("grass_of_cullet", "shards", 62):
        assert cKDTree(state.position.T).query(state.position.T, k=2)[0][:, 1].min() >= 0.017 - 1e-6
        assert np.abs(scene.shape("heap").distance(state.position)[0]).max() < 0.03
        which = sample(scene.lane("which"), np.ascontiguousarray(state.position.T))[0]
        assert set(np.unique(which)) == {1.0, 2.0, 3.0}
        chosen.append(state.position[0, which == 3].mean())
    assert state.count > 8000
    assert np.diff(chosen).min() > 0.1, "the swath goes along x"


def test_plain_noise_gathers_and_its_curl_does_not():
    scene = open_study(DEMO / "lagoon_mist.gust.json").at(1.0)
    low, high = domain(scene)
    for pattern in ("clouds", "cells", "waves"):
        plain, curl = (
            reading(scene.lane(f"{pattern}_{k}"), low, high, gathers=True).bunching for k in ("plain", "curl")
        )
        assert plain > 20
        assert curl == pytest.approx(1, abs=0.02)
