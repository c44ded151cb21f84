"""The surface of a run as a shape: of what grows, and of what a lane draws; it emits, is deformed, and is refused."""

import numpy as np
import pytest

from errant_gust.core.errors import StudyError
from errant_gust.core.flows.particles.flow import ParticleFlow
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.identity import run_identity
from errant_gust.core.study.building import lane
from errant_gust.core.study.document import dump, parse
from tests.growths import growth
from tests.liquids import ball, liquid, once

SEED = ball("seed", 0.2, (0, 0, 0))
MESH = {"id": "m", "kind": "run_mesh", "params": {"flow": "g", "quality": "full"}}


@pytest.fixture(autouse=True)
def own_home(tmp_path, monkeypatch):
    monkeypatch.setenv("ERRANT_GUST_HOME", str(tmp_path / "home"))


def grown(*more, shapes=(MESH,), flows=(), fields=()):
    doc = dump(growth(("seed", {"shape": "seed"}), ("spread", {"speed": 0.5}), *more, shapes=[SEED], end=8).study)
    doc["shapes"] += shapes
    doc["flows"] += flows
    doc["fields"] = list(fields)
    return plan_of(parse(doc))


def test_it_is_the_surface_of_each_frame_with_a_distance_and_a_speed():
    p = grown()
    for frame in (1, 6):
        shape = p.at(p.study.clock.seconds(frame)).shape("m")
        radius = 0.2 + 0.5 * (frame - 1) / 24
        assert np.linalg.norm(shape.surface[0], axis=1) == pytest.approx(radius, abs=0.01)
        points = np.random.default_rng(1).uniform(-0.5, 0.5, (3, 500)).astype(np.float32)
        away = np.linalg.norm(points, axis=0) - radius
        assert shape.distance(points)[0] == pytest.approx(away, abs=0.015)
    there = np.float32([[0.3], [0], [0]])
    assert shape.surface_velocity(there)[0] == pytest.approx(0.5, abs=0.08)


def test_particles_are_born_on_it_and_a_deformed_shape_is_made_of_it():
    sparks = lane("sparks", ("emit", {"shape": "m", "rate": 3000, "preview_share": 1, "life": 9}))
    bent = {"id": "d", "kind": "deformed", "params": {"shape": "m", "field": "wind", "edges": 0.1}}
    wind = lane("wind", ("constant", {"vector": [0, 0, 0.4]}))
    p = grown(shapes=(MESH, bent), flows=[{**sparks, "kind": "particles"}], fields=[wind])
    flow = ParticleFlow(p, "sparks")
    state = flow.first()
    for n in range(1, 6):
        state = flow.next(state, n)
    born = p.study.clock.seconds(6) - state.age
    assert np.linalg.norm(state.position, axis=0) == pytest.approx(0.2 + 0.5 * born, abs=0.03)
    vertices = p.at(p.study.clock.seconds(4)).shape("d").surface[0]
    assert vertices.mean(axis=0) == pytest.approx([0, 0, 0.4], abs=0.01)


def test_a_surface_that_a_lane_draws_serves_as_well_and_how_it_is_drawn_counts():
    def poured(**surface):
        p = liquid(once("blob"), ("surface", surface), h=0.05, room=((-0.5, -0.5, 0), (0.5, 0.5, 1)), end=3,
                   shapes=[ball("blob", 0.2, (0, 0, 0.5))])  # fmt: skip
        doc = dump(p.study)
        doc["shapes"].append({"id": "m", "kind": "run_mesh", "params": {"flow": "w", "quality": "full"}})
        sparks = {**lane("sparks", ("emit", {"shape": "m"})), "kind": "particles"}
        return plan_of(parse({**doc, "flows": [*doc["flows"], sparks]}))

    p = poured()
    vertices = p.at(0.0).shape("m").surface[0]
    assert np.linalg.norm(vertices - [0, 0, 0.5], axis=1).mean() == pytest.approx(0.2, abs=0.03)
    names = [run_identity(q.study, "sparks", "full", q.assets) for q in (p, poured(smooth=9))]
    assert names[0] != names[1]


def test_what_has_no_surface_is_refused_with_its_place():
    dots = {**lane("dots", ("emit", {"shape": "seed"})), "kind": "particles"}
    p = grown(shapes=[{**MESH, "params": {"flow": "dots"}}], flows=[dots])
    with pytest.raises(StudyError, match="has no surface") as error:
        _ = p.at(0).shape("m").surface
    assert error.value.where == "shapes.m.flow"
    assert "Growth" in error.value.fix
    none = grown(shapes=[{**MESH, "params": {"flow": "nobody"}}])
    with pytest.raises(StudyError):
        _ = none.at(0).shape("m").surface
    round_about = grown(("keep_off", {"shapes": ["m"]}))
    with pytest.raises(StudyError, match=r"circle|made from"):
        _ = round_about.at(0).shape("m").surface
