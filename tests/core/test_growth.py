"""Growth: what its steps do, what its frames offer, what is said where it cannot work."""

import subprocess

import numpy as np
import pytest
import trimesh

from errant_gust.core.checks import findings, findings_on_frame
from errant_gust.core.errors import BudgetError, GustError
from errant_gust.core.flows.drawing import drawing_of
from errant_gust.core.flows.growth.flow import GrowthFlow
from errant_gust.core.flows.kind import kind_of
from errant_gust.core.flows.particles.flow import ParticleFlow
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.export import export_run
from errant_gust.core.study.building import lane
from errant_gust.core.study.document import dump, parse
from tests.growths import growth, inside, run
from tests.interrupted import has_the_same_bits
from tests.liquids import ball, box

SEED = ball("seed", 0.2, (0, 0, 0))
FROM = ("seed", {"shape": "seed"})
SPREAD = ("spread", {"speed": 0.5})


def constant(id, x, y, z):
    return lane(id, ("constant", {"vector": [x, y, z]}))


def scalar(id, value):
    return lane(id, ("constant", {"makes": "scalar", "value": value}))


SLOPE = lane("slope", ("ramp", {"start": [-1, 0, 0], "end": [1, 0, 0]}))  # 0 at x = −1, 1 at x = 1


# motion --------------------------------------------------------------------------------------------------------------


def test_it_spreads_at_its_speed_and_melts_below_zero():
    _, state = run(growth(FROM, SPREAD, shapes=[SEED]), 12)
    radius = 0.2 + 0.5 * 12 / 24
    assert state.pace["volume"] == pytest.approx(4 / 3 * np.pi * radius**3, rel=0.03)
    big = ball("seed", 0.6, (0, 0, 0))
    _, state = run(growth(FROM, ("spread", {"speed": -0.5}), shapes=[big]), 12)
    assert state.pace["volume"] == pytest.approx(4 / 3 * np.pi * 0.35**3, rel=0.05)


def test_a_field_says_how_fast_and_another_where():
    p = growth(FROM, ("spread", {"speed": {"field": "slope"}}), shapes=[SEED], fields=[SLOPE], h=0.04)
    points = inside(run(p, 12)[1])
    assert points[0].max() > 0.5
    assert points[0].min() > -0.4
    p = growth(FROM, ("spread", {"speed": 0.5, "by": "slope"}), shapes=[SEED], fields=[SLOPE], h=0.04)
    points = inside(run(p, 12)[1])
    assert points[0].max() - 0.2 > 1.8 * (-points[0].min() - 0.2)


def test_a_speed_by_keys_is_taken_in_the_middle_of_frames():
    keys = {"keys": [[0, 0.0], [1.0, 1.0]]}
    state = run(growth(FROM, ("spread", {"speed": keys}), shapes=[SEED]), 12)[1]
    assert state.pace["volume"] == pytest.approx(
        4 / 3 * np.pi * (0.2 + 0.5**3 - 0.5**4 / 2) ** 3, rel=0.05
    )  # keys ease in and out


def test_carried_both_ways_it_moves_and_outward_it_only_grows():
    wind = constant("wind", 1, 0, 0)
    moved = inside(
        run(growth(FROM, ("carry", {"field": "wind", "only": "both ways"}), shapes=[SEED], fields=[wind]), 12)[1]
    )
    assert moved.mean(axis=1) == pytest.approx([0.5, 0, 0], abs=0.02)
    grown = inside(run(growth(FROM, ("carry", {"field": "wind"}), shapes=[SEED], fields=[wind]), 12)[1])
    assert grown[0].min() == pytest.approx(-0.175, abs=0.03)
    assert grown[0].max() == pytest.approx(0.675, abs=0.03)


def test_directions_are_those_of_the_scene_in_a_turned_domain():
    wind = constant("wind", 1, 0, 0)
    p = growth(FROM, ("carry", {"field": "wind", "only": "both ways"}), shapes=[SEED], fields=[wind], turn=(0, 0, 35))
    assert inside(run(p, 12)[1]).mean(axis=1) == pytest.approx([0.5, 0, 0], abs=0.02)


def test_smoothing_hollows_fills_a_gap_and_leaves_the_outside():
    two = [ball("seed", 0.3, (-0.27, 0, 0)), ball("other", 0.3, (0.27, 0, 0))]
    steps = (FROM, ("seed", {"shape": "other"}), ("smooth", {"rate": 0.02, "what": "hollows"}))
    before, after = (run(growth(*steps, shapes=two, h=0.04), n)[1] for n in (0, 24))
    waist = [np.abs(inside(s)[:, np.abs(inside(s)[0]) < 0.03][1]).max() for s in (before, after)]
    assert waist[1] > waist[0] + 0.05
    ends = [np.abs(inside(s)[0]).max() for s in (before, after)]
    assert ends[1] == pytest.approx(ends[0], abs=0.02)


def test_it_stops_where_a_mask_says_and_takes_up_no_room_beyond():
    stop = ("stop", {"by": "slope", "level": 0.65})
    points = inside(run(growth(FROM, SPREAD, stop, shapes=[SEED], fields=[SLOPE], h=0.04), 24)[1])
    assert points[0].max() < 0.3 + 0.04
    assert points[0].min() < -0.6
    other = ("stop", {"by": "slope", "level": 0.65, "moves": "above"})
    points = inside(run(growth(FROM, SPREAD, other, shapes=[SEED], fields=[SLOPE], h=0.04), 24)[1])
    assert points[0].max() < 0.25  # it stands everywhere at the seed


WALL = box("wall", (0.35, -0.4, -2), (0.6, 0.4, 2))


@pytest.mark.parametrize("turn", [(0, 0, 0), (10, 20, 30)])
def test_no_voxel_of_it_is_inside_what_it_keeps_off_by_any_term(turn):
    wind = constant("wind", 1.5, 0, 0)
    swirl = lane("swirl", ("curl_noise", {"feature_size": 0.4, "strength": 1.5}))
    steps = (
        FROM, SPREAD, ("carry", {"field": "wind"}), ("carry", {"field": "swirl", "only": "both ways"}),
        ("smooth", {"rate": 0.005, "what": "hollows"}), ("keep_off", {"shapes": ["wall"], "gap": 0.03}),
    )  # fmt: skip
    p = growth(*steps, shapes=[SEED, WALL], fields=[wind, swirl], h=0.04, turn=turn)
    _, state = run(p, 16)
    points = inside(state)
    d = p.at(0).shape("wall").distance(points)[0]
    assert len(d) > 2000
    assert d.min() > 0.03 - 1e-5
    assert points[0].max() > 0.65  # it has gone round
    assert ((points[0] < 0.33) & (d < 0.08)).any()  # and lies against it


def test_it_stays_inside_and_a_moving_shape_takes_what_it_meets():
    room = ball("room_shape", 0.5, (0, 0, 0))
    p = growth(FROM, SPREAD, ("keep_off", {"shapes": ["room_shape"], "side": "inside"}), shapes=[SEED, room])
    assert np.linalg.norm(inside(run(p, 24)[1]), axis=0).max() < 0.5
    move = {"keys": [[0, [2, 0, 0]], [1.0, [0, 0, 0]]]}
    sweeping = {"id": "fist", "kind": "sphere", "params": {"radius": 0.3, "move": move}}
    p = growth(FROM, SPREAD, ("keep_off", {"shapes": ["fist"]}), shapes=[SEED, sweeping])
    _, state = run(p, 22)
    points = inside(state)
    assert p.at(p.study.clock.seconds(23)).shape("fist").distance(points)[0].min() > 0
    assert len(points.T) > 1000


def test_seeds_come_later_stay_or_stand_around_points():
    later = growth(FROM, ("seed", {"shape": "other", "begin": 0.25}), shapes=[SEED, ball("other", 0.2, (0.6, 0, 0))])
    assert inside(run(later, 5)[1])[0].max() < 0.3
    assert inside(run(later, 7)[1])[0].max() > 0.7
    move = {"keys": [[0, [-0.6, 0, 0]], [0.5, [0.6, 0, 0]]]}
    drawn = {"id": "pen", "kind": "sphere", "params": {"radius": 0.12, "move": move}}
    points = inside(run(growth(("seed", {"shape": "pen", "stays": True}), shapes=[drawn]), 12)[1])
    assert points[0].min() < -0.6  # what it swept is left
    assert points[0].max() > 0.6
    dots = {**lane("dots", ("emit", {"shape": "seed", "where": "surface", "timing": "all at once", "count": 6,
                                     "life": 99, "apart": 0.1, "preview_share": 1})), "kind": "particles"}  # fmt: skip
    p = growth(("seed", {"where": "points", "flow": "dots", "radius": 0.1}), shapes=[SEED], flows=[dots])
    points = inside(run(p, 0)[1])
    away = np.abs(np.linalg.norm(points, axis=0) - 0.2)
    assert away.max() < 0.1
    larger = growth(("seed", {"shape": "seed", "larger": 0.2}), shapes=[SEED])
    assert np.linalg.norm(inside(run(larger, 0)[1]), axis=0).max() == pytest.approx(0.39, abs=0.03)


def test_age_is_the_time_since_it_was_reached():
    _, state = run(growth(FROM, SPREAD, shapes=[SEED], h=0.04), 24)
    points = state.window.centres(0, state.window.voxels)
    radius, age = np.linalg.norm(points, axis=0), state.age.reshape(-1)
    there = (radius > 0.25) & (radius < 0.66)
    assert age[there] == pytest.approx(1.0 - (radius[there] - 0.2) / 0.5, abs=0.04)
    assert age[radius < 0.15] == pytest.approx(1.0, abs=1e-4)
    assert (age[state.distance.reshape(-1) >= 0] == 0).all()


# runs ----------------------------------------------------------------------------------------------------------------

CURL = lane("curl", ("curl_noise", {"feature_size": 0.5, "evolve": 0.4}))
WHOLE = (
    FROM, ("spread", {"speed": {"field": "slope"}}), ("carry", {"field": "curl"}), ("smooth", {"rate": 0.001}),
    ("keep_off", {"shapes": ["wall"]}), ("stop", {"by": "slope", "level": 0.9, "soft": 0.2}), ("surface", {}),
)  # fmt: skip


def whole(curl=CURL, **more):
    return growth(*WHOLE, shapes=[SEED, WALL], fields=[SLOPE, curl], end=8, **more)


@pytest.mark.parametrize("evolve", [0.0, 0.4])
def test_same_bits_on_any_threads_and_after_a_stop(tmp_path, monkeypatch, evolve):
    """With speeds that change, and with those that are kept from frame to frame."""
    curl = lane("curl", ("curl_noise", {"feature_size": 0.5, "evolve": evolve}))
    has_the_same_bits(whole(curl, domain={"hold": True}).study, "g", tmp_path, monkeypatch)


ROUND = lane("round", ("vortex", {"core": 5.0, "circulation": 987.0}))  # a turn a second
BOTH = ("carry", {"field": "round", "only": "both ways"})


def test_what_is_only_carried_has_the_same_bits_on_any_threads_and_after_a_stop(tmp_path, monkeypatch):
    """With what it keeps off, which takes some of it away, and a seed that comes while it is carried."""
    later, carried = ("seed", {"shape": "late", "begin": 4 / 24}), ("carry", {"field": "curl", "only": "both ways"})
    shapes = [ball("seed", 0.25, (0.2, -0.3, 0)), ball("late", 0.2, (-0.5, 0, 0)), WALL]
    steps = (FROM, later, carried, ("keep_off", {"shapes": ["wall"]}))
    p = growth(*steps, shapes=shapes, fields=[SLOPE, CURL], end=9)
    has_the_same_bits(p.study, "g", tmp_path, monkeypatch)


def test_a_box_carried_by_a_lane_keeps_its_volume_held_or_not():
    """And where something else moves it too, it is not looked up where it was."""
    block = box("seed", (0.3, -0.12, -0.1), (0.6, 0.12, 0.1))
    for hold in (False, True):
        p = growth(FROM, BOTH, shapes=[block], fields=[ROUND], h=0.02, domain={"hold": hold})
        flow = GrowthFlow(p, "g")
        state = flow.first()
        for n in range(1, 25):
            state = flow.next(state, n)
        assert state.origin is not None
        assert state.pace["volume"] == pytest.approx(0.3 * 0.24 * 0.2, rel=0.03)
    spread = run(growth(FROM, BOTH, ("spread", {"speed": 0.01}), shapes=[block], fields=[ROUND]), 2)[1]
    assert spread.origin is None


def test_frames_offer_a_mesh_and_a_volume_and_a_step_draws_a_smoother_one(tmp_path):
    p = growth(FROM, SPREAD, ("surface", {"smooth": 2}), shapes=[SEED], end=8)
    store = compute(p.study, "g", tmp_path / "run")
    kind = kind_of("growth")
    mesh = kind.result().read(store, 8)
    radius = 0.2 + 0.5 * 7 / 24
    assert np.linalg.norm(mesh.vertices, axis=1) == pytest.approx(radius, abs=0.01)
    speed = np.linalg.norm(mesh.channels["velocity"], axis=1)
    assert speed == pytest.approx(0.5, abs=0.06)
    assert (np.einsum("ij,ij->i", mesh.channels["velocity"], mesh.normals) > 0).all()
    assert mesh.channels["thickness"] == pytest.approx(2 * radius, abs=0.08)
    assert (np.einsum("ij,ij->i", mesh.normals, mesh.vertices) > 0).all()
    assert trimesh.Trimesh(mesh.vertices, mesh.faces, process=False).is_watertight
    smooth = drawing_of(store, p, "g", 8).mesh
    assert set(smooth.channels) == {"age", "thickness", "velocity"}
    assert smooth.vertices.shape != mesh.vertices.shape or not np.allclose(smooth.vertices, mesh.vertices)
    volume = kind.result("volume").read(store, 8)
    assert set(volume.grids) == {"distance", "age"}


def test_it_leaves_as_meshes_and_as_level_sets_that_others_read(tmp_path):
    p = growth(FROM, SPREAD, shapes=[SEED], end=4)
    store = compute(p.study, "g", tmp_path / "run")
    for format in ("obj", "ply", "usd", "npz", "stl"):
        made = export_run(store, tmp_path / format, format=format)
        assert made
    read = trimesh.load(tmp_path / "ply" / "g.0004.ply")
    assert np.linalg.norm(read.vertices, axis=1) == pytest.approx(0.2 + 0.5 * 3 / 24, abs=0.01)
    export_run(store, tmp_path / "vdb", what="volume", format="vdb")
    said = subprocess.run(
        ["vdb_print", "-l", str(tmp_path / "vdb" / "g.volume.0004.vdb")], capture_output=True, text=True
    )
    assert "level set" in said.stdout
    assert "distance" in said.stdout


def test_what_has_grown_is_a_shape_that_others_are_born_from(tmp_path, monkeypatch):
    monkeypatch.setenv("ERRANT_GUST_HOME", str(tmp_path / "home"))
    p = growth(FROM, SPREAD, shapes=[SEED], end=8, h=0.05)
    doc = dump(p.study)
    doc["fields"] = [
        lane("grown", ("from_run", {"flow": "g", "kind": "scalar", "channel": "distance", "quality": "full"}))
    ]
    doc["shapes"].append({"id": "frost", "kind": "field_surface", "params": {"field": "grown", "region": "room"}})
    sparks = lane("sparks", ("emit", {"shape": "frost", "where": "surface", "rate": 3000, "preview_share": 1}))
    doc["flows"].append({**sparks, "kind": "particles"})
    plan = plan_of(parse(doc))
    flow = ParticleFlow(plan, "sparks")
    state = flow.first()
    for n in range(1, 6):
        state = flow.next(state, n)
    age = state.age
    born = plan.study.clock.seconds(6) - age
    radius = np.linalg.norm(state.position, axis=0 if state.position.shape[0] == 3 else 1)
    assert len(radius) > 300
    assert radius == pytest.approx(0.2 + 0.5 * born, abs=0.035)  # as the frame before it was


# what cannot work, and what is likely wrong --------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("steps", "words", "more"),
    [
        ((SPREAD,), "nothing brings", {}),
        ((("seed", {}), SPREAD), "no shape is chosen", {}),
        ((("seed", {"shape": "plane"}), SPREAD), "half space", {}),
        ((("seed", {"shape": "far"}), SPREAD), "outside the domain", {}),
        ((("seed", {"where": "points"}), SPREAD), "no points are chosen", {}),
        ((FROM, ("carry", {"field": "s"})), "takes a vector", {}),
        ((FROM, ("spread", {"speed": 1e6})), "substeps a frame would be needed", {}),
        ((FROM, SPREAD), "too few", {"h": 0.8}),
    ],
)
def test_what_cannot_work_is_said_with_its_place(steps, words, more):
    shapes = [SEED, {"id": "plane", "kind": "plane", "params": {}}, ball("far", 0.1, (9, 9, 9))]
    with pytest.raises(GustError) as error:
        run(growth(*steps, shapes=shapes, fields=[scalar("s", 1)], **more), 1)
    assert words in str(error.value)
    assert error.value.where


def test_a_box_too_large_for_memory_is_said_before_with_a_voxel_size_that_fits(monkeypatch):
    monkeypatch.setenv("ERRANT_GUST_BUDGET_MB", "20")
    with pytest.raises(BudgetError) as error:
        GrowthFlow(growth(FROM, SPREAD, shapes=[SEED], h=0.01), "g")
    GrowthFlow(growth(FROM, SPREAD, shapes=[SEED], h=error.value.fits), "g")


@pytest.mark.parametrize(
    ("steps", "code", "where"),
    [
        ((FROM,), "nothing_grows", "flows.g"),
        ((("seed", {"shape": "pin"}), SPREAD), "thin_source", ".shape"),
        ((FROM, SPREAD, ("keep_off", {"shapes": ["all"]})), "buried_source", ".shape"),
        ((FROM, ("spread", {"speed": {"field": "none"}})), "stands_still", ".shape"),
        ((FROM, SPREAD, ("stop", {"by": "none", "level": -1})), "stands_still", "flows.g.s3"),
    ],
)
def test_what_is_likely_wrong_is_found_in_its_place(steps, code, where):
    shapes = [SEED, ball("pin", 0.03, (0, 0, 0)), box("all", (-2, -2, -2), (2, 2, 2))]
    found = {f.code: f for f in findings(growth(*steps, shapes=shapes, fields=[scalar("none", 0)]))}
    assert code in found
    assert where in found[code].where
    assert found[code].why
    assert not [f for f in findings(growth(FROM, SPREAD, shapes=[SEED])) if f.where.startswith("flows")]


def test_what_a_frame_tells(tmp_path):
    p = growth(FROM, ("spread", {"speed": 2}), shapes=[SEED], end=12, room=((-0.5, -1, -1), (1, 1, 1)))
    store = compute(p.study, "g", tmp_path / "run")
    found = {f.code: f for f in findings_on_frame(p, "g", store, 8)}
    assert "−x" in found["reaches_end"].what
    p = growth(FROM, ("spread", {"speed": -1}), shapes=[SEED], end=12)
    store = compute(p.study, "g", tmp_path / "gone")
    assert "nothing_left" in {f.code for f in findings_on_frame(p, "g", store, 12)}
    assert kind_of("growth").result().read(store, 12).vertices.shape == (0, 3)


def test_points_that_it_grows_from_need_no_motion():
    dots = {**lane("dots", ("emit", {"shape": "seed", "timing": "all at once", "count": 6})), "kind": "particles"}
    p = growth(("seed", {"where": "points", "flow": "dots", "radius": 0.1}), SPREAD, shapes=[SEED], flows=[dots])
    assert "nothing_carries" not in [f.code for f in findings(p)]
    alone = growth(FROM, SPREAD, shapes=[SEED], flows=[dots])
    assert "nothing_carries" in [f.code for f in findings(alone)]
