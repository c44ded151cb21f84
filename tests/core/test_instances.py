"""Instances on particles and spread points: places, sizes, turns, choices, and their way into USD."""

import numpy as np
import pytest
import trimesh
from hypothesis import given
from hypothesis import strategies as st
from pxr import Usd, UsdGeom

from errant_gust.core.errors import StudyError
from errant_gust.core.flows.drawing import Prototype, drawing_of
from errant_gust.core.flows.particles.instances import _times, _toward
from errant_gust.core.runs.export import export_run
from tests.core.test_drawn import made
from tests.core.test_motion import BURST, WIND
from tests.studies import lane

SHAPES = [
    {"id": "ball", "kind": "sphere", "params": {"radius": 1}},
    {"id": "west", "kind": "sphere", "params": {"radius": 0.6, "move": [-1, 0, 0]}},
    {"id": "east", "kind": "sphere", "params": {"radius": 0.6, "move": [1, 0, 0]}},
    {"id": "slab", "kind": "box", "params": {"size": [1, 2, 4], "turn": [0, 0, 90]}},
    {"id": "floor", "kind": "plane", "params": {}},
]
WHICH = lane(
    "which",
    ("mask_shape", {"shapes": ["west", "east"], "fade_over": 0.5, "several": "which one", "threshold": 0.1}),
)
STOOD = {**BURST, "count": 3000}


def drawn(tmp_path, *steps, fields=(*WIND, WHICH), emit=STOOD, frame=1):
    store, p = made(tmp_path, *steps, fields=fields, emit=emit, shapes=SHAPES)
    return drawing_of(store, p, "p", frame).instanced, store.read(frame), p


def turned(q, v):
    """The vector v turned by quaternions (n, 4)."""
    w, u = q[:, :1].astype(float), q[:, 1:].astype(float)
    v = np.broadcast_to(np.asarray(v, float), u.shape)
    return v + 2 * np.cross(u, np.cross(u, v) + w * v)


def test_one_sits_on_every_particle_and_looks_where_it_goes(tmp_path):
    found, now, _ = drawn(tmp_path, ("instances", {"size": 0.2, "variation": 0.5}), frame=4)
    assert np.array_equal(found.points, now["position"])
    assert turned(found.turns, [1, 0, 0]) == pytest.approx(np.broadcast_to([1, 0, 0], found.points.shape), abs=1e-5)
    assert found.sizes.min() >= 0.1
    assert found.sizes.max() <= 0.3
    assert found.sizes.std() == pytest.approx(0.2 / np.sqrt(12), rel=0.05), "evenly spread"
    ball = found.prototypes[0]
    assert np.linalg.norm(ball.vertices, axis=1) == pytest.approx(0.5, abs=1e-6)
    assert found.triangles(found.prototypes) == 3000 * len(ball.faces)


def test_sizes_turns_and_choices_belong_to_the_particle(tmp_path):
    step = ("instances", {"form": "shapes", "shapes": ["ball", "slab"], "turn": "at random"})
    store, p = made(tmp_path, step, fields=(*WIND, WHICH), emit=STOOD, shapes=SHAPES)
    a, b = (drawing_of(store, p, "p", f).instanced for f in (2, 9))
    first, second = np.argsort(a.channels["id"]), np.argsort(b.channels["id"])
    for name in ("sizes", "turns", "which"):
        assert np.array_equal(getattr(a, name)[first], getattr(b, name)[second]), name
    assert np.bincount(a.which) == pytest.approx([1500, 1500], abs=150)
    axes = turned(a.turns, [1, 0, 0])
    assert np.abs(axes.mean(axis=0)).max() < 0.05, "turned evenly over the sphere"
    assert np.linalg.norm(a.turns, axis=1) == pytest.approx(1, abs=1e-5)


def test_shapes_are_scaled_to_their_largest_side_and_keep_their_own_turn(tmp_path):
    step = ("instances", {"form": "shapes", "shapes": ["slab"], "turn": "as they are"})
    slab = drawn(tmp_path, step)[0].prototypes[0]
    assert np.ptp(slab.vertices, axis=0) == pytest.approx([0.5, 0.25, 1.0], abs=1e-6)
    assert slab.vertices.mean(axis=0) == pytest.approx([0, 0, 0], abs=1e-6)


def test_the_strongest_mask_shape_chooses_and_where_there_is_none_there_is_nothing(tmp_path):
    step = {"form": "shapes", "shapes": ["ball", "slab"], "choose": "by field", "chosen_by": "which"}
    found, now, _ = drawn(tmp_path, ("instances", step))
    assert set(found.which) == {0, 1}
    to_west = np.linalg.norm(found.points - [-1, 0, 0], axis=1)
    to_east = np.linalg.norm(found.points - [1, 0, 0], axis=1)
    assert np.array_equal(found.which, (to_east < to_west).astype(int))
    near = np.minimum(to_west, to_east)
    assert near.max() <= 1.1 + 1e-5, "faded over 0.5 outside a radius of 0.6"
    p = now["position"]
    away = np.minimum(np.linalg.norm(p - [-1, 0, 0], axis=1), np.linalg.norm(p - [1, 0, 0], axis=1))
    assert len(found.points) < len(p)
    assert (away < 0.9).sum() <= len(found.points), "all that are well within a mask have one"


def test_a_field_gives_sizes_and_directions(tmp_path):
    ramp = lane("r", ("ramp", {"start": [-1, 0, 0], "end": [1, 0, 0]}))
    up = lane("up", ("constant", {"vector": [0, 0, 3]}))
    step = {"size": {"field": "r"}, "variation": 0, "turn": "along field", "toward": "up", "roll": True}
    found, now, _ = drawn(tmp_path, ("instances", step), fields=(*WIND, ramp, up))
    assert found.sizes == pytest.approx((now["position"][:, 0] + 1) / 2, abs=1e-5)
    assert turned(found.turns, [1, 0, 0])[:, 2] == pytest.approx(1, abs=1e-5)
    side = turned(found.turns, [0, 1, 0])
    assert np.abs(side.mean(axis=0)).max() < 0.06, "rolled evenly about it"


def test_discs_sit_on_spread_points_along_a_trail(tmp_path):
    steps = (
        ("trail", {"length": 0.5}),
        ("spread_along", {"spacing": 0.25}),
        ("instances", {"on": "spread points", "form": "disc"}),
    )
    store, p = made(tmp_path, *steps, fields=WIND, emit={**STOOD, "count": 50}, shapes=SHAPES)
    d = drawing_of(store, p, "p", 9)
    assert np.array_equal(d.instanced.points, d.spread.points)
    assert turned(d.instanced.turns, [1, 0, 0])[:, 0] == pytest.approx(1, abs=1e-4), "discs face the way of the motion"
    none = made(tmp_path / "b", ("instances", {"on": "spread points"}), fields=WIND, shapes=SHAPES)
    assert len(drawing_of(none[0], none[1], "p", 3).instanced.points) == 0


@pytest.mark.parametrize(
    ("step", "words"),
    [
        ({"form": "shapes"}, "no shapes are chosen"),
        ({"form": "shapes", "shapes": ["floor"]}, "has no end"),
        ({"form": "shapes", "shapes": ["ball", "slab"], "choose": "by field"}, "no lane chooses"),
        ({"form": "shapes", "shapes": ["ball"], "choose": "by field", "chosen_by": "v"}, "takes a scalar"),
        ({"turn": "along field"}, "no lane turns them"),
        ({"turn": "along field", "toward": "which"}, "takes a vector"),
    ],
)
def test_what_is_missing_is_said_with_its_place(tmp_path, step, words):
    with pytest.raises(StudyError, match=words) as said:
        drawn(tmp_path, ("instances", step))
    assert said.value.where.startswith(("flows.p.", "shapes.floor"))


def test_usd_holds_a_point_instancer_that_others_read(tmp_path):
    step = {"form": "shapes", "shapes": ["ball", "slab"], "turn": "at random", "size": 0.2}
    store, p = made(tmp_path, ("instances", step), fields=(*WIND, WHICH), emit={**STOOD, "count": 40}, shapes=SHAPES)
    export_run(store, tmp_path / "u", format="usd", plan=p)
    stage = Usd.Stage.Open(str(tmp_path / "u" / "p.usda"))
    instancer = UsdGeom.PointInstancer(stage.GetPrimAtPath("/p/Instances"))
    found = drawing_of(store, p, "p", 6).instanced
    assert np.array_equal(np.array(instancer.GetPositionsAttr().Get(6)), found.points)
    assert np.array_equal(np.array(instancer.GetProtoIndicesAttr().Get(6)), found.which)
    assert len(instancer.GetPrototypesRel().GetTargets()) == 2
    matrices = instancer.ComputeInstanceTransformsAtTime(6, 6)
    for i in (0, 7, 39):
        m = np.array(matrices[i])  # row vectors
        assert m[3, :3] == pytest.approx(found.points[i], abs=1e-5)
        want = turned(found.turns[i : i + 1], [1, 0, 0])[0] * found.sizes[i]
        assert m[0, :3] == pytest.approx(want, abs=2e-3 * float(found.sizes[i])), "orientations are of half precision"
    files = export_run(store, tmp_path / "n", format="npz", what="instances", plan=p, frames=(6, 6))
    with np.load(files[0][0]) as z:
        assert np.array_equal(z["which"], found.which)
        assert np.array_equal(np.stack([z[f"turn_{a}"] for a in "wxyz"], axis=1), found.turns)


@pytest.mark.parametrize("cells", [24, 10, 5])
def test_what_is_thin_does_not_vanish_when_it_is_made_coarser(cells):
    blade = trimesh.creation.cylinder(radius=0.02, height=1, sections=48)
    whole = Prototype("blade", np.asarray(blade.vertices, np.float32), np.asarray(blade.faces, np.int32))
    made = whole.coarser(cells)
    assert len(made.faces) >= 12
    assert np.ptp(made.vertices, axis=0) == pytest.approx(np.ptp(whole.vertices, axis=0), rel=0.35)
    area = trimesh.Trimesh(made.vertices, made.faces, process=False).area
    assert 0.5 * blade.area < area < 1.2 * blade.area


def test_many_instances_are_coarser_in_the_view_and_keep_their_size(tmp_path):
    found, _, _ = drawn(tmp_path, ("instances", {"form": "shapes", "shapes": ["ball", "slab"], "turn": "as they are"}))
    seen = found.to_look_at(300_000)
    assert found.triangles(found.prototypes) > 1_000_000
    assert found.triangles(seen) <= 300_000
    assert seen[1] is found.prototypes[1], "a box has few as it is"
    assert np.ptp(seen[0].vertices, axis=0) == pytest.approx([1, 1, 1], abs=0.25)
    assert seen[0].faces.max() < len(seen[0].vertices)
    assert found.to_look_at(10**9) is found.prototypes


@given(st.lists(st.tuples(*[st.floats(-5, 5)] * 3), min_size=1, max_size=20))
def test_the_shortest_turn_brings_x_to_any_direction(vectors):
    v = np.array(vectors)
    q = _toward(v)
    assert np.linalg.norm(q, axis=1) == pytest.approx(1, abs=1e-9)
    long = np.linalg.norm(v, axis=1) > 1e-6
    want = v[long] / np.linalg.norm(v[long], axis=1, keepdims=True)
    assert turned(q, [1, 0, 0])[long] == pytest.approx(want, abs=1e-4)
    assert np.allclose(_times(q, q * [1, -1, -1, -1]), [1, 0, 0, 0], atol=1e-9)
