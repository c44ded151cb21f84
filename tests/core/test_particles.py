"""Particles: integrator orders, orbits, births, determinism, kill and resume."""

import numpy as np
import pytest
import trimesh

from errant_gust.core.checks import findings
from errant_gust.core.errors import BudgetError, FileError, StudyError
from errant_gust.core.flows.particles.findings import frame_findings
from errant_gust.core.flows.particles.flow import ParticleFlow
from errant_gust.core.flows.particles.state import Particles, sorted_by_place
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.export import export_run
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.study import document
from errant_gust.core.study.document import parse
from tests.studies import DEMO, lane, plan


def flow(emit=None, *motion, fields=(), **more):
    """A study with one particle lane."""
    steps = [("emit", {"shape": "ball", **(emit or {})}), *(motion or [("carry", {"field": "v"})])]
    made = {**lane("p", *steps), "kind": "particles"}
    return plan(*(fields or (lane("v", ("wind", {"speed": 1})),)), flows=[made], **more)


def rotation_lanes():
    """Rigid rotation about z, made from steps: the curl of -½ρ² ẑ, by way of a product of plane distances."""
    shapes = [
        {"id": "px", "kind": "plane", "params": {"turn": [0, 90, 0]}},
        {"id": "py", "kind": "plane", "params": {"turn": [-90, 0, 0]}},
        {"id": "ball", "kind": "sphere", "params": {}},
    ]
    lanes = (
        lane("x", ("distance", {"shape": "px"})),
        lane("y", ("distance", {"shape": "py"})),
        lane("vx", ("constant", {"vector": [0, 1, 0]}), ("multiply", {"field": "x"})),
        lane("v", ("constant", {"vector": [-1, 0, 0]}), ("multiply", {"field": "y"}), ("add", {"field": "vx"})),
    )
    return shapes, lanes


@pytest.mark.parametrize(("integrator", "order"), [("euler", 1), ("midpoint", 2), ("rk4", 4)])
def test_integrators_have_their_order_on_rigid_rotation(integrator, order):
    shapes, lanes = rotation_lanes()
    errors = []
    for substeps in (2, 4):
        p = flow(
            {"timing": "all at once", "count": 0},
            ("carry", {"field": "v", "integrator": integrator, "substeps": substeps}),
            fields=lanes, shapes=shapes, clock={"fps": 1.0, "start": 1, "end": 3},
        )  # fmt: skip
        f = ParticleFlow(p, "p")
        one = np.ones(1, np.float32)
        state = Particles(np.float32([[1], [0], [0]]), np.zeros((3, 1), np.float32), 0 * one, 99 * one, np.uint32([1]))
        state = f.next(state, 1)
        errors.append(np.hypot(state.position[0, 0] - np.cos(1), state.position[1, 0] - np.sin(1)))
    assert np.log2(errors[0] / errors[1]) == pytest.approx(order, abs=0.45)


def test_orbits_stay_closed():
    shapes, lanes = rotation_lanes()
    p = flow(
        {"timing": "all at once", "count": 0},
        ("carry", {"field": "v", "integrator": "rk4"}),
        fields=lanes,
        shapes=shapes,
    )
    f = ParticleFlow(p, "p")
    state = Particles(
        np.float32([[1], [0], [0]]),
        np.zeros((3, 1), np.float32),
        np.zeros(1, np.float32),
        np.full(1, 99, np.float32),
        np.uint32([1]),
    )
    for frame in range(1, 151):  # one turn of 2 pi seconds at 24 fps
        state = f.next(state, frame)
    assert np.hypot(*state.position[:2, 0]) == pytest.approx(1, abs=1e-5)


def test_a_constant_wind_carries_exactly():
    p = flow(
        {"timing": "all at once", "count": 500, "life": 50}, fields=(lane("v", ("constant", {"vector": [1, 2, 0.5]})),)
    )
    f = ParticleFlow(p, "p")
    first = state = f.first()
    for frame in range(1, 25):
        state = f.next(state, frame)
    moved = state.position - first.position
    assert np.allclose(moved, np.float32([[1], [2], [0.5]]), atol=1e-5)
    assert np.allclose(state.velocity, np.float32([[1], [2], [0.5]]), atol=1e-6)
    assert np.allclose(state.age, 1.0, atol=1e-5)


@pytest.mark.parametrize("fps", [12.0, 24.0, 60.0])
def test_frames_per_second_change_neither_births_nor_lifetimes(fps):
    p = flow({"rate": 3000, "life": 0.5, "life_variation": 0.4}, clock={"fps": fps, "start": 1, "end": 200})
    f = ParticleFlow(p, "p")
    state = f.first()
    for frame in range(1, int(2 * fps) + 1):
        state = f.next(state, frame)
    assert state.count == pytest.approx(1500, rel=0.06)
    assert state.life.min() >= 0.3 - 1e-6
    assert state.life.max() <= 0.7 + 1e-6
    assert state.id.max() == 2 * 3000 - 1, "6,000 born in two seconds whatever the frame rate"


def test_a_fast_source_leaves_no_gaps_between_frames():
    moving = [
        {
            "id": "ball",
            "kind": "sphere",
            "params": {"radius": 0.01, "move": {"keys": [[0, [0, 0, 0]], [1, [24, 0, 0]]], "between": "linear"}},
        }
    ]
    p = flow({"rate": 2400, "life": 9}, fields=(lane("v", ("constant", {"vector": [0, 0, 0]})),), shapes=moving)
    f = ParticleFlow(p, "p")
    state = f.first()
    for frame in range(1, 25):
        state = f.next(state, frame)
    x = np.sort(state.position[0])
    assert len(x) == 2400
    assert np.diff(x).max() < 0.1, "a metre a frame, a hundred births a frame"


@pytest.mark.parametrize("where", ["surface", "volume", "points"])
@pytest.mark.parametrize("shape", ["ball", "block", "pillar"])
def test_births_are_where_they_are_asked_for(where, shape):
    p = flow({"shape": shape, "where": where, "timing": "all at once", "count": 4000})
    state = ParticleFlow(p, "p").first()
    d = p.at(0).shape(shape).distance(state.position)[0]
    if where == "volume":
        assert (d < 1e-5).all()
        assert d.min() < -0.2
    else:
        assert np.abs(d).max() < 2e-3
    assert state.count == 4000


def test_speed_limit_bounds_every_particle():
    p = flow(
        {"rate": 5000},
        ("carry", {"field": "v"}),
        ("speed_limit", {"most": 0.3}),
        fields=(lane("v", ("curl_noise", {"strength": 5})),),
    )
    f = ParticleFlow(p, "p")
    state = f.next(f.first(), 1)
    assert np.linalg.norm(state.velocity, axis=0).max() <= 0.3 + 1e-5


@pytest.mark.slow("a demo, whole")
def test_no_particle_gets_into_the_tower_of_the_demo(tmp_path):
    study = document.load(DEMO / "harbour_gust.gust.json")
    store = compute(study, "spray", tmp_path / "run", quality="preview", assets=Assets(DEMO), last=60)
    p = plan_of_demo(study)
    positions = store.read(60)["position"]
    assert len(positions) > 10_000
    tower = trimesh.load(DEMO / "light_tower.obj")
    near = np.hypot(positions[:, 0], positions[:, 1]) < 0.7
    assert near.sum() > 100, "the test must see particles at the tower"
    inside = tower.contains(positions[near]) if tower.is_watertight else np.zeros(1)
    assert inside.sum() == 0
    assert not [f for f in frame_findings(p, "spray", study.clock.seconds(60), positions) if f.code == "inside_shape"]


def plan_of_demo(study):
    from errant_gust.core.runs.carried import plan_of

    return plan_of(study, Assets(DEMO))


def demo_study(**emit):
    raw = document.dump(document.load(DEMO / "harbour_gust.gust.json"))
    raw["clock"]["end"] = 14
    raw["flows"][0]["steps"][0]["params"].update(emit)
    return parse(raw)


def frames_of(store, frame):
    return store.read(frame)


def test_a_half_written_frame_is_never_seen(tmp_path, monkeypatch):
    store = RunStore(tmp_path / "run")
    store.create({"identity": "x", "flow": "p"})
    store.write(1, {"position": np.zeros((5, 3), np.float32)}, {"count": 5})
    monkeypatch.setattr(
        "errant_gust.core.files.zarr_arrays.sync",
        lambda folder: (_ for _ in ()).throw(OSError(28, "No space left on device")),
    )
    with pytest.raises(FileError, match=r"frame 2 could not be written \(No space left.*frames before it are kept"):
        store.write(2, {"position": np.zeros((5, 3), np.float32)}, {"count": 5})
    assert store.frames() == [1]
    assert len(store.read(1)["position"]) == 5
    with pytest.raises(FileError, match="another run"):
        store.create({"identity": "y", "flow": "p"})


def test_what_a_killed_writer_left_is_taken_away_by_who_goes_on(tmp_path, monkeypatch):
    store = RunStore(tmp_path / "run")
    store.create({"identity": "x", "flow": "p"})
    with monkeypatch.context() as patch:
        patch.setattr(
            "errant_gust.core.files.zarr_arrays.sync", lambda folder: (_ for _ in ()).throw(KeyboardInterrupt)
        )
        with pytest.raises(KeyboardInterrupt):
            store.write(1, {"position": np.zeros((5, 3), np.float32)}, {"count": 5})
    assert list(store.frames_folder.iterdir()), "as a kill leaves it"
    store.clean()
    assert not list(store.frames_folder.iterdir())


@pytest.mark.parametrize("steps", [(("carry", {"field": "v"}),), (("gravity", {}),), (("drag", {"rate": 3}),)])
def test_a_step_leaves_the_state_before_it_as_it_was(steps):
    f = ParticleFlow(flow({"rate": 3000, "speed": 1}, *steps), "p")
    state = f.next(f.first(), 1)
    before = {k: v.copy() for k, v in state.arrays().items()}
    f.next(state, 2)
    for name, values in state.arrays().items():
        assert np.array_equal(values, before[name]), name


def test_too_many_particles_are_refused_with_what_would_fit(monkeypatch):
    monkeypatch.setenv("ERRANT_GUST_BUDGET_MB", "1")
    with pytest.raises(BudgetError, match=r"particles need .* would fit"):
        ParticleFlow(flow({"rate": 50_000, "life": 2}), "p")


def test_a_scalar_cannot_carry_and_says_what_can():
    with pytest.raises(StudyError, match="take its gradient or curl"):
        ParticleFlow(flow({}, fields=(lane("v", ("noise",)),)), "p")


def test_sorting_by_place_keeps_every_particle(rng):
    n = 5000
    f = np.float32
    state = Particles(
        rng.normal(size=(3, n)).astype(f),
        rng.normal(size=(3, n)).astype(f),
        rng.random(n).astype(f),
        np.ones(n, f),
        np.arange(n, dtype=np.uint32),
    )
    after = sorted_by_place(state)
    back = np.argsort(after.id)
    assert np.array_equal(after.position[:, back], state.position)
    assert np.array_equal(after.age[back], state.age)


def test_ply_is_read_by_another_reader(tmp_path):
    study = demo_study()
    store = compute(study, "spray", tmp_path / "run", assets=Assets(DEMO), last=5)
    made = export_run(store, tmp_path / "out")
    assert len(made) == 5
    cloud = trimesh.load(made[-1][0])
    data5 = store.read(5)
    assert np.allclose(cloud.vertices, data5["position"], atol=1e-6)
    raw = cloud.metadata["_ply_raw"]["vertex"]["data"]
    assert np.array_equal(raw["id"].ravel(), data5["id"])
    assert np.array_equal(raw["vx"].ravel(), data5["velocity"][:, 0])
    assert np.array_equal(raw["age"].ravel(), data5["age"])
    with pytest.raises(FileError, match="is there already"):
        export_run(store, tmp_path / "out")
    stripped = export_run(store, tmp_path / "few", channels=("age",), frames=(2, 2))
    names = trimesh.load(stripped[0][0]).metadata["_ply_raw"]["vertex"]["properties"]
    assert list(names) == ["x", "y", "z", "age"]


def codes(p) -> set[str]:
    return {f.code for f in findings(p)}


def test_checks_name_what_is_wrong_and_offer_a_fix():
    far = [{"id": "far", "kind": "sphere", "params": {"move": [90, 0, 0]}}]
    dead = plan(lane("a", ("mask_shape", {"shapes": ["far"], "fade_over": 0.5})), shapes=far)
    assert "zero_everywhere" in codes(dead)
    mask = lane("m", ("mask_shape", {"shapes": ["ball"], "fade_over": 0.5}))
    bunching = flow({}, fields=(mask, lane("v", ("curl_noise",), ("mask", {"by": "m", "method": "by the value"}))))
    found = {f.code: f for f in findings(bunching)}
    assert found["bunching"].fix == {"label": "Use the potential", "set": {"fields.v.s1.method": "by the potential"}}
    late = flow(
        {},
        fields=(
            lane("n", ("curl_noise",)),
            lane("v", ("wind",), ("steer_around", {"shape": "ball"}), ("add", {"field": "n"})),
        ),
    )
    assert "added_after_steering" in codes(late)
    remap = plan(lane("a", ("noise",), ("remap", {"from_range": [5, 9]})))
    assert next(f for f in findings(remap) if f.code == "range_outside_data").fix
    broken = plan(lane("a", ("crul",)))
    assert findings(broken)[0].level == "error"
    assert codes(flow({}, fields=(lane("v", ("wind",)), lane("w", ("wind",))))) == {"never_used"}


def test_particles_inside_a_shape_are_counted():
    p = flow(
        {"where": "volume", "timing": "all at once", "count": 300},
        fields=(lane("v", ("wind",), ("steer_around", {"shape": "ball"})),),
    )
    positions = ParticleFlow(p, "p").first().position.T
    found = {f.code: f for f in frame_findings(p, "p", 0.0, positions)}
    assert "300 of 300" in found["inside_shape"].what
