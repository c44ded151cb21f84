"""Grains: what sources bring, what moves and holds them, what is said of what cannot work."""

import math

import numpy as np
import pytest

from errant_gust.core.checks import findings, findings_on_frame
from errant_gust.core.errors import BudgetError, GustError
from errant_gust.core.flows.drawing import drawing_of
from errant_gust.core.flows.grains.flow import GrainFlow
from errant_gust.core.flows.grains.material import friction_of
from errant_gust.core.flows.grains.sources import CROWD
from errant_gust.core.flows.grains.steps import Work
from errant_gust.core.flows.kind import kind_of
from errant_gust.core.kernels import grains as kernels
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.study.building import lane
from errant_gust.core.study.document import dump, parse
from tests.grainy import SHUT, G, grains, run
from tests.liquids import ball, box
from tests.studies import plan

ROOM = ((-0.5, -0.5, 0), (0.5, 0.5, 1))
BLOB = ball("blob", 0.2, (0, 0, 0.5))
HEAP = box("heap", (-0.3, -0.3, 0), (0.3, 0.3, 0.2))
FILL = ("source", {"shape": "blob"})
FALLS = ("gravity", {})
F = np.float32


def constant(id, *vector):
    return lane(id, ("constant", {"vector": list(vector)}))


def scalar(id, value):
    return lane(id, ("constant", {"makes": "scalar", "value": value}))


# sources -------------------------------------------------------------------------------------------------------------


def test_a_shape_is_filled_by_its_volume_and_no_two_grains_lie_in_one_place():
    _, s = run(grains(FILL, spacing=0.02, room=ROOM, shapes=[BLOB]), 0)
    assert s.count * 0.02**3 == pytest.approx(4 / 3 * math.pi * 0.2**3, rel=0.03)
    apart = np.linalg.norm(s.position[:, :, None][:, :400] - s.position[:, None, :400], axis=0)
    assert apart[~np.eye(400, dtype=bool)].min() > 0.3 * 0.02
    assert (np.linalg.norm(s.position - F([0, 0, 0.5])[:, None], axis=0) < 0.2).all()
    assert len(set(s.id)) == s.count


def test_a_rate_is_a_volume_at_any_frame_rate_and_quality():
    """0.01 m³/s for a quarter of a second from a tenth on, and a burst of two litres before."""
    source = (
        "source",
        {"shape": "blob", "how": "at a rate", "rate": 0.01, "burst": 0.002, "begin": 0.1, "until": 0.35},
    )
    found = []
    for fps, quality in ((24, "full"), (60, "full"), (24, "preview")):
        p = grains(source, FALLS, spacing=0.02, room=ROOM, shapes=[BLOB], fps=fps, end=2 * fps)
        flow, s = run(p, fps // 2, quality=quality)
        assert s.refused == 0
        found.append(s.born * flow.spacing**3)
    assert found == pytest.approx([0.0045] * 3, rel=0.02)


def test_keys_change_a_rate_without_a_jump():
    rate = {"keys": [[0, 0.0], [0.5, 0.02]]}
    p = grains(("source", {"shape": "blob", "how": "at a rate", "rate": rate}), spacing=0.02, room=ROOM, shapes=[BLOB])
    _, s = run(p, 30)
    assert (s.born + s.refused) * 0.02**3 == pytest.approx(0.005, rel=0.01)


def test_a_stream_pours_what_falls_out_of_it():
    spout = box("spout", (-0.06, -0.06, 0.9), (0.06, 0.06, 0.98))
    p = grains(("source", {"shape": "spout", "how": "kept filled", "velocity": [0, 0, -1]}), spacing=0.02,
               room=((-0.5, -0.5, -3), (0.5, 0.5, 1)), shapes=[spout])  # fmt: skip
    _, s = run(p, 30)
    held = round(0.12**2 * 0.08 / 0.02**3)
    poured = (s.count - held) * 0.02**3
    assert poured == pytest.approx(0.12**2 * 0.5, rel=0.08)
    assert s.packing.max() < 1.3, "no grain is born into another"


def test_grains_born_in_one_another_are_pushed_apart_and_do_not_explode():
    p = grains(("source", {"shape": "blob", "how": "at a rate", "rate": 0, "burst": 0.09}), FALLS, spacing=0.02,
               room=ROOM, shapes=[BLOB], domain=SHUT)  # fmt: skip
    flow, s = run(p, 0)
    assert s.refused > 0, "more than there is room for"
    wide = []
    for n in range(1, 31):
        s = flow.next(s, n)
        wide.append(float(np.sort(np.linalg.norm(s.velocity, axis=0))[-5]))
    assert max(wide) < 1.5 * math.sqrt(2 * G * 0.5), "no faster than falling, with a little from below"
    assert np.median(s.packing) < 1.4
    assert s.count == s.born


def test_a_million_births_at_a_point_are_refused_and_said(tmp_path):
    pin = ball("pin", 0.005, (0, 0, 0.5))
    p = grains(("source", {"shape": "pin", "how": "at a rate", "rate": 0, "burst": 8.0}), FALLS, spacing=0.02,
               room=ROOM, shapes=[pin], end=3)  # fmt: skip
    store = compute(p.study, "w", tmp_path / "run")
    facts = store.facts(3)
    assert facts["born"] + facts["refused"] == 1_000_000
    assert facts["born"] <= 8 * CROWD * 8
    assert np.isfinite(store.read(3)["position"]).all()
    told = {f.code: f for f in findings_on_frame(p, "w", store, 1)}
    assert "found no room" in told["overlap"].what
    assert "overlap" in {f.code for f in findings(p)}


def test_moving_sources_give_their_motion_and_leave_no_gap():
    drop = ball("drop", 0.05, (0, 0, 0))
    drop["params"]["move"] = {"keys": [[0, [-0.4, 0, 0.5]], [0.25, [0.4, 0, 0.5]]], "between": "linear"}
    p = grains(("source", {"shape": "drop", "how": "at a rate", "rate": 0.006, "until": 0.25}), spacing=0.02,
               room=((-0.6, -0.5, 0), (3, 0.5, 1)), shapes=[drop], fps=24)  # fmt: skip
    _, s = run(p, 3)
    assert s.velocity[0].mean() == pytest.approx(3.2, rel=0.05)
    assert s.velocity[2].mean() == pytest.approx(0, abs=0.05)
    still = grains(("source", {"shape": "drop", "how": "at a rate", "rate": 0.006, "until": 0.25, "own_motion": 0}),
                   spacing=0.02, room=ROOM, shapes=[drop], fps=24)  # fmt: skip
    _, s = run(still, 6)
    bins = np.histogram(s.position[0], np.linspace(-0.35, 0.35, 8))[0]
    assert bins.min() > 0.5 * bins.mean(), "the same along its way"


def test_along_a_curve_in_a_layer_around_particles_and_by_a_field():
    curve = {"id": "line", "kind": "curve", "params": {"points": [[-0.3, 0, 0.5], [0.3, 0, 0.5]], "radius": 0.01}}
    rate = {"how": "at a rate", "rate": 0, "burst": 0.003}
    _, s = run(grains(("source", {"shape": "line", "where": "along", "radius": 0.06, **rate}), spacing=0.02, room=ROOM,
                      shapes=[curve]), 0)  # fmt: skip
    assert s.count > 300
    assert np.hypot(s.position[1], s.position[2] - 0.5).max() < 0.061
    _, s = run(grains(("source", {"shape": "blob", "where": "shell", "thickness": 0.06}), spacing=0.02, room=ROOM,
                      shapes=[BLOB]), 0)  # fmt: skip
    r = np.linalg.norm(s.position - F([0, 0, 0.5])[:, None], axis=0)
    assert r.min() > 0.199
    assert r.max() < 0.261
    half = lane("half", ("ramp", {"start": [0, 0, 0], "end": [1, 0, 0]}), ("threshold", {"level": 0.001}))
    _, s = run(grains(("source", {"shape": "blob", "by": "half"}), spacing=0.02, room=ROOM, shapes=[BLOB],
                      fields=[half]), 0)  # fmt: skip
    assert s.position[0].min() > -0.01
    born = {**lane("dots", ("emit", {"shape": "blob", "where": "volume", "timing": "all at once", "count": 40})),
            "kind": "particles"}  # fmt: skip
    p = grains(("source", {"where": "particles", "flow": "dots", "radius": 0.05}), spacing=0.02, room=ROOM,
               shapes=[BLOB])  # fmt: skip
    doc = dump(p.study)
    doc["flows"].append(born)
    _, s = run(plan_of(parse(doc)), 0)
    assert s.count > 500


# what moves ----------------------------------------------------------------------------------------------------------


def test_a_clump_falls_freely():
    _, s = run(grains(FILL, FALLS, spacing=0.025, room=((-0.5, -0.5, -5), (0.5, 0.5, 1)), shapes=[BLOB]), 30)
    assert s.position[2].mean() == pytest.approx(0.5 - 0.5 * G * 0.25, abs=0.03)
    assert s.velocity[2].mean() == pytest.approx(-G * 0.5, rel=1e-3)
    spread = np.linalg.norm(s.position - s.position.mean(axis=1, keepdims=True), axis=0).max()
    assert spread < 0.23, "it keeps together"


def test_a_force_gives_as_much_momentum_as_it_lasts_and_easing_a_share():
    wide = ((-3, -3, -3), (3, 3, 3))
    gust = constant("gust", 2, 0, 1)
    _, s = run(grains(FILL, ("push", {"field": "gust", "how": "force", "strength": 3}), spacing=0.03, room=wide,
                      shapes=[BLOB], fields=[gust]), 30)  # fmt: skip
    assert s.velocity.mean(axis=1) == pytest.approx([3, 0, 1.5], abs=2e-3)
    for fps in (24, 60):
        _, s = run(grains(FILL, ("push", {"field": "gust", "share": 0.3, "along_z": False}), spacing=0.03, room=wide,
                          shapes=[BLOB], fields=[gust], fps=fps), fps // 12)  # fmt: skip
        assert s.velocity.mean(axis=1) == pytest.approx([2 * (1 - 0.7**2), 0, 0], abs=2e-3)


def test_a_push_acts_only_where_a_mask_says_and_a_field_may_vary_it():
    right = lane("right", ("ramp", {"start": [0, 0, 0], "end": [0.01, 0, 0]}))
    sources = [("source", {"shape": id}) for id in "ab"]
    step = ("push", {"field": "gust", "how": "force", "by": "right", "strength": 5})
    two = [ball("a", 0.15, (-0.4, 0, 0)), ball("b", 0.15, (0.4, 0, 0))]
    p = grains(*sources, step, spacing=0.03, room=((-2, -2, -2), (2, 2, 2)),
               shapes=two, fields=[constant("gust", 0, 0, 1), right])  # fmt: skip
    _, s = run(p, 10)
    moved = s.velocity[2]
    assert moved[s.position[0] < 0] == pytest.approx(0, abs=1e-4)
    assert moved[s.position[0] > 0] == pytest.approx(5 / 6, rel=1e-3)


def test_axes_are_those_of_the_scene_in_a_turned_domain():
    step = ("push", {"field": "gust", "how": "force", "along_z": False})
    made = [run(grains(FILL, step, FALLS, spacing=0.03, room=((-1, -1, -1), (1, 1, 1.5)), shapes=[BLOB],
                       fields=[constant("gust", 1, 2, 9)], turn=turn), 10)[1]
            for turn in ((0, 0, 0), (20, 30, 40))]  # fmt: skip
    for s in made:
        assert s.velocity.mean(axis=1) == pytest.approx([1 / 6, 2 / 6, -G / 6], rel=2e-3)


def test_no_grain_is_faster_than_the_limit_hard_or_soft_and_drag_slows():
    gust = constant("gust", 50, 0, 0)
    push = ("push", {"field": "gust", "how": "force", "strength": 5})
    for soft in (0.0, 0.4):
        limit = ("speed_limit", {"most": 0.7, "soft": soft})
        p = grains(FILL, push, FALLS, limit, spacing=0.03, room=((-1, -1, -1), (3, 1, 1)), shapes=[BLOB], fields=[gust])
        flow, s = run(p, 0)
        for n in range(1, 21):
            s = flow.next(s, n)
            fastest = float(np.linalg.norm(s.velocity, axis=0).max())
            assert fastest <= 0.7 * 1.0001
        assert fastest > (0.69 if not soft else 0.6)
    _, s = run(grains(("source", {"shape": "blob", "velocity": [1, 0, 0]}), ("drag", {"rate": 3}), spacing=0.03,
                      room=((-1, -1, 0), (3, 1, 1)), shapes=[BLOB]), 30)  # fmt: skip
    assert s.velocity[0].mean() == pytest.approx(math.exp(-1.5), rel=1e-3)


def test_frames_a_second_and_slow_motion_change_no_trajectory():
    """The same half second in 12, 30, and four times as many frames: sand that slumps and is pushed."""
    swirl = lane("swirl", ("curl_noise", {"feature_size": 0.5, "strength": 2, "evolve": 1.0}))
    push = ("push", {"field": "swirl", "share": 0.2})
    found = []
    for fps, slow, frames in ((24, 1.0, 12), (60, 1.0, 30), (24, 4.0, 48)):
        p = grains(("source", {"shape": "heap"}), FALLS, push, spacing=0.025, room=((-2, -2, 0), (2, 2, 1)),
                   shapes=[HEAP], fields=[swirl], fps=fps, slow=slow)  # fmt: skip
        _, s = run(p, frames)
        order = np.argsort(s.id)
        found.append((s.position[:, order], s.velocity))
    moved = np.linalg.norm(found[0][0] - run(p, 0)[1].position, axis=0).mean()
    for other, _ in found[1:]:
        apart = np.linalg.norm(found[0][0] - other, axis=0)
        assert np.median(apart) < 0.1 * moved
        assert np.abs(found[0][0].mean(axis=1) - other.mean(axis=1)).max() < 0.02 * moved


# what holds ----------------------------------------------------------------------------------------------------------


def test_no_grain_is_inside_a_moving_obstacle_and_it_pushes_them():
    move = {"keys": [[0, [-0.5, 0, 0.26]], [1.5, [0.2, 0, 0.26]], [3.4, [-0.5, 0, 0.26]]], "between": "smooth"}
    turn = {"keys": [[0, [0, 0, 0]], [3.4, [0, 0, 90]]]}
    paddle = {"id": "paddle", "kind": "box", "params": {"size": [0.1, 0.5, 0.5], "move": move, "turn": turn}}
    p = grains(("source", {"shape": "heap"}), FALLS, ("collide", {"shapes": ["paddle"]}), spacing=0.03,
               room=((-1, -1, 0), (1, 1, 1)), shapes=[HEAP, paddle], domain=SHUT)  # fmt: skip
    deepest = []

    def look(s, t):
        d = p.at(t).shape("paddle").distance(np.ascontiguousarray(s.position))[0]
        deepest.append(float(d.min()))

    _, s = run(p, 200, look)
    assert min(deepest) > -1e-4
    assert s.count == s.born
    assert sum(s.left) == 0


def test_a_vessel_holds_what_is_in_it_and_what_sticks_is_carried():
    bowl = ball("bowl", 0.35, (0, 0, 0.5))
    p = grains(FILL, FALLS, ("collide", {"shapes": ["bowl"], "side": "inside"}), spacing=0.03, room=ROOM,
               shapes=[BLOB, bowl])  # fmt: skip
    _, s = run(p, 60)
    assert np.linalg.norm(s.position - F([0, 0, 0.5])[:, None], axis=0).max() < 0.3501
    floor = box("floor", (-1, -1, -0.2), (1, 1, 0.1))
    floor["params"]["move"] = {"keys": [[0, [0, 0, -0.05]], [1, [0.3, 0, -0.05]]], "between": "linear"}
    for stick, low, high in ((1.0, 0.28, 0.32), (0.0, -0.01, 0.1)):
        holds = ("collide", {"shapes": ["floor"], "stick": stick, "friction": 0})
        slab = box("slab", (-0.1, -0.1, 0.1), (0.1, 0.1, 0.16))
        p = grains(("source", {"shape": "slab"}), FALLS, holds, spacing=0.03, room=((-1, -1, -0.3), (1, 1, 0.6)),
                   shapes=[slab, floor])  # fmt: skip
        flow, s = run(p, 0)
        bottom = s.position[2] < 0.13
        ids, at = s.id[bottom], s.position[0, bottom].mean()
        for n in range(1, 61):
            s = flow.next(s, n)
        assert low < s.position[0, np.isin(s.id, ids)].mean() - at < high


def test_what_leaves_through_open_sides_is_counted_and_closed_ones_hold():
    p = grains(("source", {"shape": "blob", "velocity": [3, 0, 0]}), spacing=0.03, room=ROOM, shapes=[BLOB])
    _, s = run(p, 30)
    assert s.count == 0
    assert s.left[1] == s.born
    _, s = run(grains(("source", {"shape": "blob", "velocity": [3, 0, 0]}), spacing=0.03, room=ROOM, shapes=[BLOB],
                      domain=SHUT), 30)  # fmt: skip
    assert s.count == s.born
    assert s.position[0].max() < 0.53


def test_life_masks_and_age_take_grains():
    p = grains(
        ("source", {"shape": "blob", "life": 0.4, "life_variation": 0.5}), spacing=0.03, room=ROOM, shapes=[BLOB]
    )
    flow, s = run(p, 0)
    assert s.life.min() >= 0.2
    assert s.life.max() <= 0.6
    counts = [s.count]
    for n in range(1, 41):
        s = flow.next(s, n)
        counts.append(s.count)
    assert counts[11] == counts[0]
    assert counts[24] == pytest.approx(counts[0] / 2, rel=0.15)
    assert counts[37] == 0
    assert s.left[6] == s.born
    drain = ("thin_out", {"by": "half", "rate": 4})
    half = lane("half", ("ramp", {"start": [0, 0, 0], "end": [0.001, 0, 0]}))
    _, s = run(grains(FILL, drain, spacing=0.03, room=ROOM, shapes=[BLOB], fields=[half]), 30)
    _, first = run(grains(FILL, spacing=0.03, room=ROOM, shapes=[BLOB]), 0)
    right = [int((x.position[0] > 0.001).sum()) for x in (s, first)]
    assert right[0] / right[1] == pytest.approx(math.exp(-2), abs=0.05)
    assert (s.position[0] < 0).sum() == (first.position[0] < 0).sum()
    _, s = run(grains(FILL, ("thin_out", {"oldest": 0.2}), spacing=0.03, room=ROOM, shapes=[BLOB]), 13)
    assert s.count == 0


def test_cohesion_holds_a_bank_that_dry_sand_does_not():
    bank = box("bank", (-0.2, -0.2, 0), (0.2, 0.2, 0.3))
    tops = []
    for steps in ((), (("cohesion", {"strength": 4000}),)):
        _, s = run(grains(("source", {"shape": "bank"}), FALLS, *steps, spacing=0.03, room=ROOM, shapes=[bank]), 45)
        tops.append(float(np.percentile(np.abs(s.position[0]), 98)))
    assert tops[0] > 0.3
    assert tops[1] < 0.23


def test_friction_may_be_a_field():
    """Steep where x is above zero, like beads in oil where it is below."""
    angle = lane("angle", ("ramp", {"start": [-0.01, 0, 0], "end": [0.01, 0, 0]}), ("remap", {
        "from_range": [0, 1], "to_range": [5, 40]}))  # fmt: skip
    p = grains(("source", {"shape": "heap"}), FALLS, ("friction", {"angle": {"field": "angle"}}), spacing=0.025,
               room=((-1, -0.5, 0), (1, 0.5, 0.4)), shapes=[HEAP], fields=[angle])  # fmt: skip
    _, s = run(p, 60)
    left, right = np.percentile(-s.position[0], 98), np.percentile(s.position[0], 98)
    assert left > 1.4 * right
    assert friction_of(F(30)) > math.tan(math.radians(30))


# runs and results ----------------------------------------------------------------------------------------------------

SWIRL = lane("swirl", ("curl_noise", {"feature_size": 0.4, "strength": 1, "evolve": 0.5}))
WHOLE = (
    FILL, ("source", {"shape": "rock", "how": "at a rate", "rate": 0.004, "life": 0.3, "colour": [1, 0, 0]}), FALLS,
    ("push", {"field": "swirl", "share": 0.1}), ("friction", {"angle": 32}), ("cohesion", {"strength": 50}),
    ("colour", {}), ("speed_limit", {"most": 3}), ("collide", {"shapes": ["rock"]}), ("surface", {}),
)  # fmt: skip
ROCK = ball("rock", 0.12, (0.05, 0, 0.1))
SPRING = ball("spring", 0.06, (0.2, 0.1, 0.8))


def whole(**more):
    steps = [(op, {**params, "shape": "spring"} if params.get("how") else params) for op, params in WHOLE]
    return grains(*steps, spacing=0.03, room=ROOM, shapes=[BLOB, ROCK, SPRING], fields=[SWIRL], end=8, fps=24, **more)


def test_a_frame_offers_points_a_volume_and_a_surface(tmp_path):
    p = whole()
    store = compute(p.study, "w", tmp_path / "run")
    kind = kind_of("grains")
    points = kind.result("grains").read(store, 6)
    assert {"velocity", "age", "id", "pressure", "packing", "colour", "life"} <= set(points.channels)
    assert {"speed", "pressure", "packing", "age"} <= set(points.shown())
    assert "spread" not in points.shown()
    assert points.lived().max() <= 1
    volume = kind.result("packing").read(store, 6)
    packing = volume.grids["packing"]
    spacing = store.facts(6)["spacing"]
    assert packing.values.sum(dtype=float) * packing.region.voxel_size**3 == pytest.approx(
        points.count * spacing**3, rel=1e-4
    )
    inside = packing.sample(np.ascontiguousarray(points.position.T))
    assert np.corrcoef(inside, points.channels["packing"])[0, 1] > 0.9
    mesh = drawing_of(store, p, "w", 6).mesh
    assert {"velocity", "pressure", "packing", "age", "colour", "thickness"} <= set(mesh.channels)
    lower, upper = points.position.min(axis=0), points.position.max(axis=0)
    assert (mesh.vertices > lower - 0.1).all()
    assert (mesh.vertices < upper + 0.1).all()


def test_from_run_reads_the_packing_in_another_lane(tmp_path):
    p = grains(("source", {"shape": "heap"}), FALLS, spacing=0.025, room=ROOM, shapes=[HEAP], end=3)
    store = compute(p.study, "w", tmp_path / "run")
    packing = kind_of("grains").result("packing").read(store, 3).grids["packing"]
    inside, outside = packing.sample(np.float32([[0, 0], [0, 0], [0.1, 0.4]]))
    assert inside == pytest.approx(1, abs=0.08)
    assert outside == 0
    pressure = kind_of("grains").result("packing").read(store, 3).grids["pressure"]
    assert float(pressure.values.max()) > 500


def test_normals_of_a_heap_look_outward(tmp_path):
    p = grains(("source", {"shape": "heap"}), FALLS, spacing=0.025, room=ROOM, shapes=[HEAP], end=6)  # settled
    store = compute(p.study, "w", tmp_path / "run")
    points = kind_of("grains").result("grains").read(store, 6)
    out = points.channels["outward"]
    top = (points.position[:, 2] > 0.17) & (np.abs(points.position[:, :2]).max(axis=1) < 0.2)
    assert (out[top, 2] / np.linalg.norm(out[top], axis=1)).mean() > 0.95
    side = (points.position[:, 0] > 0.275) & (np.abs(points.position[:, 1]) < 0.15) & (points.position[:, 2] < 0.12)
    assert (out[side, 0] / np.linalg.norm(out[side], axis=1)).mean() > 0.8
    deep = np.linalg.norm(points.position - [0, 0, 0.1], axis=1) < 0.05
    assert np.linalg.norm(out[deep], axis=1).max() < 0.3 * np.linalg.norm(out[top], axis=1).mean()


def test_looks_and_drawing_are_no_part_of_a_run():
    entry = kind_of("grains").entry()
    blend = next(p for p in entry["looks"]["points"] if p["name"] == "blend")
    assert blend["default"] == "lit"
    assert (
        next(p for p in kind_of("particles").entry()["looks"]["points"] if p["name"] == "blend")["default"]
        == "additive"
    )


# words ---------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("steps", "words", "more"),
    [
        ((FALLS,), "nothing brings grains in", {}),
        ((FILL, ("domain", {"region": "pit"})), "two Domains", {}),
        ((("source", {"shape": "far"}),), "outside the domain", {}),
        ((("source", {"shape": "plane"}),), "half space", {}),
        ((("source", {"shape": "blob", "where": "along"}),), "no curves", {}),
        ((("source", {"where": "everywhere"}),), "no lane says where", {}),
        ((("source", {"where": "everywhere", "by": "s", "how": "at a rate"}),), "a rate needs a place", {}),
        ((FILL, ("push", {"field": "s"})), "takes a vector", {}),
        ((FILL, ("speed_limit", {"most": 0})), "greater than 0", {}),
        ((FILL, ("friction", {"angle": 80})), "angle", {}),
        ((FILL,), "spacing", {"spacing": 0}),
        ((FILL,), "too few", {"spacing": 0.4}),
        ((FILL,), "too many", {"spacing": 1e-5}),
        ((FILL,), "substeps a frame would be needed", {"domain": {"stiffness": 1e8}}),
        ((("source", {"shape": "blob", "colour": [2, 0, 0]}),), "from 0 to 1", {}),
    ],
)
def test_what_cannot_work_is_said_with_its_place(steps, words, more):
    shapes = [BLOB, ball("far", 0.1, (9, 9, 9)), {"id": "plane", "kind": "plane", "params": {}}]
    with pytest.raises(GustError) as error:
        run(grains(*steps, **{"spacing": 0.03, "room": ROOM, "shapes": shapes, "fields": [scalar("s", 1)],
                              **more}), 2)  # fmt: skip
    assert words in str(error.value)
    assert error.value.where


def test_a_push_that_is_no_number_is_an_error_and_keeps_the_frames(tmp_path, monkeypatch):
    gust = constant("gust", 1, 0, 0)
    p = grains(FILL, ("push", {"field": "gust"}), spacing=0.03, room=ROOM, shapes=[BLOB], fields=[gust], end=20)
    real = Work.at

    def broken(self, lane, points, scene=None):
        made = real(self, lane, points, scene)
        return made * F(np.nan) if self.begun > 0.1 else made

    monkeypatch.setattr(Work, "at", broken)
    with pytest.raises(GustError, match="'gust' is not a number") as error:
        compute(p.study, "w", tmp_path / "run")
    assert error.value.where.endswith(".field")
    assert len(RunStore(tmp_path / "run").frames()) >= 6
    flat, v = np.ones((4, 4), F), np.full((3, 2), np.nan, F)
    assert kernels.put_back(flat, np.array([0, 2]), v, F(9), 0, 2) == -1


def test_too_stiff_a_sand_stops_and_keeps_its_frames(tmp_path):
    keys = {"keys": [[0, 0.0], [0.2, 0.0], [0.21, 1e6]], "between": "linear"}
    wild = lane("wild", ("constant", {"vector": [1, 0, 0]}), ("gain", {"factor": keys}))
    p = grains(FILL, ("push", {"field": "wild", "how": "force"}), spacing=0.03, room=((-1, -1, 0), (9, 1, 1)),
               shapes=[BLOB], fields=[wild], end=40, domain={"most_substeps": 40})  # fmt: skip
    with pytest.raises(GustError, match="substeps") as error:
        compute(p.study, "w", tmp_path / "run")
    assert "Speed limit" in error.value.fix
    assert len(RunStore(tmp_path / "run").frames()) > 8


def test_too_many_for_memory_is_said_before_with_a_spacing_that_fits(monkeypatch):
    monkeypatch.setenv("ERRANT_GUST_BUDGET_MB", "40")
    with pytest.raises(BudgetError) as error:
        GrainFlow(grains(FILL, spacing=0.004, room=ROOM, shapes=[BLOB]), "w")
    fits = error.value.fits
    assert 0.004 < fits < 0.2
    flow = GrainFlow(grains(FILL, spacing=fits, room=ROOM, shapes=[BLOB]), "w")
    assert flow.estimate()[0] == pytest.approx(4 / 3 * math.pi * 0.2**3 / fits**3, rel=0.1)


def test_a_finer_version_costs_what_its_spacing_says():
    coarse = GrainFlow(grains(FILL, spacing=0.04, room=ROOM, shapes=[BLOB]), "w")
    fine = GrainFlow(grains(FILL, spacing=0.02, room=ROOM, shapes=[BLOB]), "w")
    seconds, count = fine.scale({}, coarse)
    assert count == 8
    assert seconds == pytest.approx(16, rel=0.05)


NOWHERE = constant("nowhere", 0, 0, 0)


@pytest.mark.parametrize(
    ("steps", "code", "where", "more"),
    [
        ((FILL, FALLS), "sinks", ".stiffness", {"domain": {"stiffness": 10}}),
        ((FILL, FALLS), "many_substeps", ".stiffness", {"domain": {"stiffness": 1e6}}),
        ((FILL, FALLS, ("speed_limit", {"most": 0.3})), "slow_fall", ".most", {}),
        ((("source", {"shape": "pin"}),), "thin_source", ".shape", {}),
        ((("source", {"shape": "blob", "colour": [1, 0, 0]}),), "colour_not_carried", ".colour", {}),
        ((FILL, ("collide", {"shapes": ["block"]})), "buried_source", ".shape", {}),
        ((FILL, ("collide", {"shapes": ["pin"]})), "thin_wall", "shapes.pin", {}),
        ((("source", {"shape": "pin", "how": "at a rate", "rate": 1}),), "overlap", ".rate", {}),
    ],
)
def test_what_is_likely_wrong_is_found_in_its_place_with_what_would_be_right(steps, code, where, more):
    shapes = [BLOB, ball("pin", 0.02, (0, 0, 0.8)), box("block", (-2, -2, -2), (2, 2, 2))]
    found = {f.code: f for f in findings(grains(*steps, spacing=0.03, room=ROOM, shapes=shapes, **more))}
    assert code in found
    assert where in found[code].where
    assert found[code].why
    if found[code].fix:
        assert list(found[code].fix["set"])


def test_a_click_mends_what_a_check_offers_to(tmp_path):
    """The fix is applied, and the finding is gone."""
    p = grains(FILL, FALLS, spacing=0.03, room=ROOM, shapes=[BLOB], domain={"stiffness": 10})
    fix = next(f.fix for f in findings(p) if f.code == "sinks")
    ((path, value),) = fix["set"].items()
    doc = dump(p.study)
    step = next(s for s in doc["flows"][0]["steps"] if s["id"] == path.split(".")[2])
    step["params"][path.split(".")[3]] = value
    mended = plan(**{k: doc[k] for k in ("flows", "shapes", "regions", "clock")})
    assert "sinks" not in {f.code for f in findings(mended)}


def test_what_a_frame_tells(tmp_path):
    p = grains(("source", {"shape": "blob", "velocity": [0, 0, 6]}), ("push", {"field": "nowhere"}), spacing=0.03,
               room=ROOM, shapes=[BLOB], fields=[NOWHERE], end=12)  # fmt: skip
    store = compute(p.study, "w", tmp_path / "run")
    found = {f.code: f for f in findings_on_frame(p, "w", store, 12)}
    assert {"leaves", "meets_nothing"} <= set(found)
    assert "above" in found["leaves"].what


def test_the_field_that_pushes_is_what_it_is_asked_for(tmp_path):
    """Between two looks a field changes evenly: at its slots it is exact."""
    rising = lane("rising", ("constant", {"makes": "scalar", "value": 1}), ("gain", {"factor": {
        "keys": [[0, 0], [1, 24]], "between": "linear"}}))  # fmt: skip
    up = lane("up", ("constant", {"vector": [0, 0, 1]}))
    _, s = run(grains(FILL, ("push", {"field": "up", "how": "force", "by": "rising"}), spacing=0.03,
                      room=((-1, -1, -1), (1, 1, 9)), shapes=[BLOB], fields=[rising, up], fps=48), 24)  # fmt: skip
    assert s.velocity[2].mean() == pytest.approx(24 * 0.5**2 / 2, rel=0.03)
