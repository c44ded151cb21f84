"""Liquid lanes: what their steps do, the same bits however they are run, and words for what cannot work."""

import numpy as np
import pytest

from errant_gust.core.checks import findings, findings_on_frame
from errant_gust.core.errors import BudgetError, GustError, StudyError
from errant_gust.core.flows.drawing import drawing_of
from errant_gust.core.flows.kind import kind_of
from errant_gust.core.flows.liquid.flow import LiquidFlow
from errant_gust.core.flows.particles.flow import ParticleFlow
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.study.building import lane
from errant_gust.core.study.document import dump, parse
from tests.liquids import CLOSED, G, ball, box, liquid, once, run

F = np.float32
ROOM = ((-0.5, -0.5, 0), (0.5, 0.5, 1))
FALLS = ("gravity", {})
BLOB = ball("blob", 0.2, (0, 0, 0.5))


def constant(id, *vector):
    return lane(id, ("constant", {"vector": list(vector)}))


# sources -------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("along", [2, 3])
def test_a_source_fills_its_shape_with_so_many_particles_a_voxel(along):
    _, s = run(liquid(once("blob"), h=0.05, room=ROOM, shapes=[BLOB], domain={"along": along}), 0)
    volume = 4 / 3 * np.pi * 0.2**3
    assert s.count * (0.05 / along) ** 3 == pytest.approx(volume, rel=0.04)
    assert s.pace["volume"] == pytest.approx(volume, rel=0.04)
    assert len(np.unique(s.id)) == s.count
    assert np.linalg.norm(s.position - np.array([[0], [0], [0.5]]), axis=0).max() < 0.2


def test_it_pours_area_times_speed():
    """Within 4 % at four voxels across, 1 % at eight."""
    for h, share in ((0.05, 0.04), (0.025, 0.01)):
        tap = ("source", {"shape": "tap", "velocity": [0, 0, -1]})
        born = []
        p = liquid(tap, h=h, room=((-0.3, -0.3, 0), (0.3, 0.3, 1.5)), domain={"below": True}, end=60,
                   shapes=[box("tap", (-0.1, -0.1, 1.2), (0.1, 0.1, 1.4))])  # fmt: skip
        run(p, 18, lambda s, t, born=born: born.append(s.sourced))
        rate = (born[-1] - born[0]) * h**3 / 8 / (17 / 24)
        assert rate == pytest.approx(0.2 * 0.2 * 1, rel=share)


def test_two_sources_at_one_place_make_no_two_layers():
    """Nor does one that goes on: what is full stays as full as it was."""
    p = liquid(
        ("source", {"shape": "blob"}), ("source", {"shape": "blob", "seed": 7}), h=0.05, room=ROOM, shapes=[BLOB]
    )
    _, s = run(p, 6)
    single = run(liquid(once("blob"), h=0.05, room=ROOM, shapes=[BLOB]), 0)[1]
    assert s.count <= 1.1 * single.count
    assert s.grid["fill"].max() < 1.6
    assert "same_place" in {x.code for x in findings(p)}


def test_what_moves_fills_all_that_it_sweeps_and_gives_its_own_motion():
    path = {"keys": [[0, [-0.35, 0, 0.5]], [0.25, [0.35, 0, 0.5]]], "between": "linear"}
    mover = {"id": "m", "kind": "sphere", "params": {"radius": 0.1, "move": path}}
    p = liquid(("source", {"shape": "m", "until": 0.25}), h=0.04, room=ROOM, shapes=[mover])
    _, s = run(p, 2)
    fast = s.velocity[:, s.age < 0.03].mean(axis=1)
    assert fast == pytest.approx([2.8, 0, 0], abs=0.4)
    gaps = np.sort(s.position[0])
    assert np.diff(gaps).max() < 0.03, "no beads"
    still = liquid(("source", {"shape": "m", "until": 0.25, "own_motion": 0}), h=0.04, room=ROOM, shapes=[mover])
    assert np.abs(run(still, 2)[1].velocity).max() < 0.3


def test_what_a_field_says_at_birth_stays_with_the_particle():
    halves = lane("halves", ("ramp", {"start": [-0.01, 0, 0], "end": [0.01, 0, 0]}),
                  ("remap", {"from_range": [0, 1], "to_range": [0.001, 0.1]}))  # fmt: skip
    p = liquid(
        once("blob", viscosity={"field": "halves"}), FALLS, ("channel", {"name": "side", "what": "field at birth",
        "field": "halves"}), h=0.05, room=ROOM, shapes=[BLOB], fields=[halves], end=40,
    )  # fmt: skip
    _, first = run(p, 0)
    begun = dict(zip(first.id.tolist(), zip(first.viscosity, first.more["side"], strict=True), strict=True))
    _, s = run(p, 12)
    for i in range(0, s.count, 97):
        if int(s.id[i]) in begun:
            assert (s.born_viscosity[i], s.more["side"][i]) == begun[int(s.id[i])]
    assert {round(float(v), 4) for v in np.quantile(s.viscosity, [0.1, 0.9])} == {0.001, 0.1}


def test_a_source_stops_when_it_should_at_any_frame_rate():
    for fps in (10, 24):
        tap = ("source", {"shape": "tap", "velocity": [0, 0, -1], "until": 0.5})
        p = liquid(tap, h=0.05, room=((-0.3, -0.3, 0), (0.3, 0.3, 1.5)), domain={"below": True}, fps=fps, end=60,
                   shapes=[box("tap", (-0.1, -0.1, 1.2), (0.1, 0.1, 1.4))])  # fmt: skip
        _, s = run(p, int(0.8 * fps))
        assert s.sourced * 0.05**3 / 8 == pytest.approx(0.04 * 0.2 + 0.04 * 0.5, rel=0.12)


# motion --------------------------------------------------------------------------------------------------------------


def test_a_blob_falls_freely():
    _, s = run(liquid(once("blob"), FALLS, h=0.05, room=ROOM, shapes=[BLOB], fps=48, end=60), 8)
    t = 8 / 48
    assert s.velocity[2].mean() == pytest.approx(-G * t, rel=0.02)
    assert s.position[2].mean() == pytest.approx(0.5 - G * t * t / 2, abs=0.02)


OPEN = dict.fromkeys(("west", "east", "south", "north", "below", "above"), True)


@pytest.mark.parametrize("h", [0.05, 0.08])
@pytest.mark.parametrize("steps", [(), (("collide", {"shapes": ["rock"]}),)], ids=["nothing near", "an obstacle"])
def test_with_all_sides_open_it_is_born_falls_and_leaves(h, steps):
    shapes = [BLOB, ball("rock", 0.1, (0.35, 0.35, 0.2))]
    p = liquid(once("blob"), FALLS, *steps, h=h, room=ROOM, shapes=shapes, domain=OPEN, fps=48, end=60)
    _, first = run(p, 0)
    assert first.count * (h / 2) ** 3 == pytest.approx(4 / 3 * np.pi * 0.2**3, rel=0.06)
    _, s = run(p, 8)
    closed = liquid(once("blob"), FALLS, *steps, h=h, room=ROOM, shapes=shapes, fps=48, end=60)
    assert s.count == run(closed, 8)[1].count
    assert s.velocity[2].mean() == pytest.approx(-G * 8 / 48, rel=0.02)
    assert run(p, 40)[1].count == 0, "it has fallen out"


def test_a_push_eases_acts_only_where_and_along_the_axes_it_is_given():
    wind = constant("wind", 1, 0.5, 0.25)
    east = lane("east", ("ramp", {"start": [0.0, 0, 0], "end": [0.001, 0, 0]}))

    def pushed(**more):
        p = liquid(once("blob"), ("push", {"field": "wind", "share": 0.5, **more}), h=0.05, room=ROOM, shapes=[BLOB],
                   fields=[wind, east])  # fmt: skip
        return run(p, 1)[1]

    assert pushed().velocity.mean(axis=1) == pytest.approx([0.5, 0.25, 0.125], rel=0.05)
    assert pushed(along_z=False, along_y=False).velocity.mean(axis=1) == pytest.approx([0.5, 0, 0], abs=0.02)
    half = pushed(by="east")
    right, left = half.position[0] > 0.1, half.position[0] < -0.1
    assert half.velocity[0, right].mean() > 3 * abs(half.velocity[0, left].mean())
    force = pushed(how="force", strength=2.4)
    assert force.velocity.mean(axis=1) == pytest.approx([0.1, 0.05, 0.025], rel=0.06)
    assert force.pace["met"] == {"flows.w.s2": 1.0}


def test_axes_are_those_of_the_scene_in_a_turned_domain():
    p = liquid(
        once("blob"), ("push", {"field": "wind", "share": 0.5, "along_y": False, "along_z": False}), h=0.05,
        room=((-0.8, -0.8, 0), (0.8, 0.8, 1)), shapes=[BLOB], fields=[constant("wind", 1, 1, 1)], turn=(0, 0, 30),
    )  # fmt: skip
    assert run(p, 1)[1].velocity.mean(axis=1) == pytest.approx([0.5, 0, 0], abs=0.04)


def test_drag_and_a_speed_limit():
    v = [2, 0, 0]
    _, s = run(liquid(once("blob", velocity=v), ("drag", {"rate": 3}), h=0.05, room=ROOM, shapes=[BLOB]), 2)
    assert s.velocity[0].mean() == pytest.approx(2 * np.exp(-3 * 2 / 24), rel=0.05)
    _, s = run(liquid(once("blob", velocity=v), ("speed_limit", {"most": 0.7}), h=0.05, room=ROOM, shapes=[BLOB]), 2)
    assert np.linalg.norm(s.velocity, axis=0).max() < 0.7001


def test_viscosity_thickens_with_age_and_with_a_channel():
    steps = (
        once("blob", viscosity=0.01, channel="heat", amount=2),
        ("channel", {"name": "heat", "fades": 6}),
        ("viscosity", {"changes": "with age", "over": [0, 0.25], "with_factor": 100}),
    )
    _, s = run(liquid(*steps, h=0.05, room=ROOM, shapes=[BLOB]), 3)
    # ages are those at the beginning of the last substep
    assert np.log10(s.viscosity / 0.01).max() == pytest.approx(2 * (2 / 24) / 0.25, abs=0.01)
    assert s.more["heat"] == pytest.approx(2 * np.exp(-6 * 3 / 24), rel=1e-4)
    cold = ("viscosity", {"changes": "with a channel", "channel": "heat", "over": [2, 0.5], "with_factor": 1000})
    with pytest.raises(StudyError):
        run(liquid(once("blob"), cold, h=0.05, room=ROOM, shapes=[BLOB]), 0)
    warm = ("viscosity", {"how": "set", "value": 0.5, "changes": "with a channel", "over": [0, 2], "with_factor": 0.01})
    _, s = run(liquid(*steps[:2], warm, h=0.05, room=ROOM, shapes=[BLOB]), 1)
    assert np.median(s.viscosity) == pytest.approx(0.005, rel=0.01)


def test_colours_meet_and_mix():
    steps = (
        once("left", colour=[1, 0, 0]), once("right", colour=[0, 0, 1]), ("colour", {"mixes": 50}),
    )  # fmt: skip
    shapes = [box("left", (-0.2, -0.2, 0.3), (0, 0.2, 0.7)), box("right", (0, -0.2, 0.3), (0.2, 0.2, 0.7))]
    _, s = run(liquid(*steps, h=0.05, room=ROOM, shapes=shapes), 4)
    c = s.more["colour"]
    assert c.sum(axis=0) == pytest.approx(1, abs=0.01)
    near = np.abs(s.position[0]) < 0.02
    assert c[0, near].mean() == pytest.approx(0.5, abs=0.12)
    assert c[0, s.position[0] < -0.15].mean() > 0.9


def test_a_formula_may_use_the_place_the_motion_and_a_lane():
    steps = (once("blob", velocity=[0, 0, 2]), ("channel", {
        "name": "mark", "what": "formula", "expression": "vz + 10 * f + 0 * x", "field": "half"}))  # fmt: skip
    half = lane("half", ("constant", {"makes": "scalar", "value": 0.5}))
    _, s = run(liquid(*steps, h=0.05, room=ROOM, shapes=[BLOB], fields=[half]), 1)
    assert s.more["mark"] == pytest.approx(s.velocity[2] + 5, abs=1e-4)


def test_a_drain_takes_what_comes_there_and_age_takes_the_rest():
    low = lane("low", ("ramp", {"start": [0, 0, 0.1], "end": [0, 0, 0.099]}))
    p = liquid(once("blob"), FALLS, ("thin_out", {"by": "low", "rate": 200}), h=0.05, room=ROOM, shapes=[BLOB],
               fields=[low], end=60)  # fmt: skip
    _, s = run(p, 24)
    assert s.left[6] > 0.9 * s.sourced
    assert s.pace["gained"] == pytest.approx(0, abs=0.05)
    _, s = run(liquid(once("blob"), ("thin_out", {"oldest": 0.1}), h=0.05, room=ROOM, shapes=[BLOB]), 4)
    assert s.count == 0
    assert run(liquid(once("blob"), ("thin_out", {"oldest": 9}), h=0.05, room=ROOM, shapes=[BLOB]), 2)[1].left[6] == 0


def test_stick_holds_thick_liquid_and_friction_slows_thin():
    floor = box("floor", (-3, -3, -1), (3, 3, 0.1))
    column = box("c", (-0.2, -0.2, 0.1), (0.2, 0.2, 0.4))

    def width(viscosity, **collide):
        p = liquid(once("c", viscosity=viscosity), FALLS, ("collide", {"shapes": ["floor"], **collide}), h=0.05,
                   room=((-1, -1, 0), (1, 1, 0.8)), shapes=[floor, column], end=60)  # fmt: skip
        return np.quantile(np.abs(run(p, 12)[1].position[:2]), 0.99)

    slides, holds = width(0.05), width(0.05, stick=1.0)
    assert holds < 0.85 * slides
    assert width(1e-6, friction=0.9) < 0.9 * width(1e-6)


def test_no_liquid_is_inside_a_moving_obstacle_and_it_is_carried_along():
    path = {"keys": [[0, [-0.5, 0, 0.2]], [0.5, [0.5, 0, 0.2]]]}
    rock = {"id": "rock", "kind": "sphere", "params": {"radius": 0.2, "move": path}}
    p = liquid(
        once("fill"), FALLS, ("collide", {"shapes": ["rock"], "friction": 0.3}), h=0.05, end=60,
        room=((-0.8, -0.4, 0), (0.8, 0.4, 0.8)), shapes=[box("fill", (-2, -2, -1), (2, 2, 0.3)), rock],
    )  # fmt: skip
    depths = []

    def each(s, t):
        d = p.at(t).shape("rock").distance(np.ascontiguousarray(s.position))[0]
        depths.append(float(d.min()))

    _, s = run(p, 14, each)
    assert min(depths) > -1e-3
    assert np.abs(s.pace["gained"]) < 0.01
    _, s = run(p, 7)
    ahead = (s.position[0] > 0.1) & (s.position[2] < 0.3)
    assert s.velocity[0, ahead].mean() > 0.1


def test_a_vessel_that_turns_keeps_what_is_in_it():
    tilt = {"keys": [[0, [0, 0, 0]], [0.5, [50, 0, 0]]]}
    params = {"radius": 0.3, "height": 0.8, "move": [0, 0, 0.5], "turn": tilt}
    jar = {"id": "jar", "kind": "cylinder", "params": params}
    p = liquid(once("blob"), FALLS, ("collide", {"shapes": ["jar"], "side": "inside"}), h=0.05,
               room=((-0.7, -0.7, 0), (0.7, 0.7, 1)), shapes=[BLOB, jar], end=60)  # fmt: skip
    _, s = run(p, 12)
    d = p.at(0.5).shape("jar").distance(np.ascontiguousarray(s.position))[0]
    assert d.max() < 2e-3
    assert sum(s.left) == 0


def test_an_obstacle_that_closes_over_liquid_is_survived():
    """Two plates meet with liquid between them: it is squeezed, and stays numbers."""

    def plate(id, x):
        keys = {"keys": [[0, [x, 0, 0.3]], [0.25, [x / 6, 0, 0.3]]]}
        return {"id": id, "kind": "box", "params": {"size": [0.2, 2, 2], "move": keys}}

    p = liquid(once("blob"), FALLS, ("collide", {"shapes": ["a", "b"]}), h=0.05, room=ROOM, end=40,
               shapes=[BLOB, plate("a", -0.35), plate("b", 0.35)], domain={"most_substeps": 256})  # fmt: skip
    _, s = run(p, 8)
    assert s.count > 0
    assert np.isfinite(s.position).all()
    assert np.abs(s.position[0]).max() < 0.5


def test_the_window_holds_the_liquid_and_costs_what_is_wet():
    p = liquid(once("blob"), FALLS, h=0.05, room=((-4, -4, 0), (4, 4, 4)), shapes=[BLOB])
    flow, s = run(p, 2)
    assert s.window.voxels < 0.02 * flow.domain.voxels
    low, high = np.array(s.window.lower)[:, None], np.array(s.window.upper)[:, None]
    assert ((s.position > low) & (s.position < high)).all()


# runs ----------------------------------------------------------------------------------------------------------------

SWIRL = lane("swirl", ("curl_noise", {"feature_size": 0.3, "evolve": 1, "strength": 0.5}))
WHOLE = (
    ("source", {"shape": "blob", "velocity": [0, 0, -1], "until": 0.15, "viscosity": 0.05, "channel": "heat"}),
    FALLS,
    ("push", {"field": "swirl", "along_z": False}),
    ("channel", {"name": "heat", "mixes": 3}),
    ("viscosity", {"changes": "with age", "over": [0, 0.3], "with_factor": 20}),
    ("surface_tension", {"tension": 1e-3}),
    ("collide", {"shapes": ["rock"], "stick": 0.5, "friction": 0.2}),
    ("foam_points", {"over": [0.3, 1.0], "share": 0.8}),
    ("surface", {}),
)
ROCK = ball("rock", 0.15, (0.05, 0, 0.1))


def whole(**more):
    return liquid(*WHOLE, h=0.06, room=ROOM, shapes=[BLOB, ROCK], fields=[SWIRL], end=8, **more)


def test_a_frame_offers_points_a_volume_foam_and_a_surface(tmp_path):
    p = whole()
    store = compute(p.study, "w", tmp_path / "run")
    kind = kind_of("liquid")
    points = kind.result("particles").read(store, 6)
    assert {"velocity", "age", "id", "viscosity", "heat"} <= set(points.channels)
    volume = kind.result("volume").read(store, 6)
    assert set(volume.grids) == {"distance", "viscosity", "fill", "vel"}
    inside = volume.grids["distance"].sample(np.ascontiguousarray(points.position.T[:, ::7]))
    assert np.mean(inside < 0) > 0.9, "the surface encloses their volume: of some that are outermost it is in front"
    assert np.mean(inside < 0.5 * 0.06) > 0.99
    foam = kind.result("foam").read(store, 6)
    assert 0 < foam.count < points.count
    assert kind.result("foam").read(compute(liquid(once("blob"), h=0.06, room=ROOM, shapes=[BLOB], end=2).study, "w",
                                            tmp_path / "calm"), 2).count == 0  # fmt: skip
    mesh = drawing_of(store, p, "w", 6).mesh
    assert {"velocity", "thickness", "viscosity", "heat", "age"} <= set(mesh.channels)
    assert mesh.channels["velocity"].shape == mesh.vertices.shape
    near = store.facts(6)["voxel_size"]
    lower, upper = points.position.min(axis=0), points.position.max(axis=0)
    assert (mesh.vertices > lower - near).all()
    assert (mesh.vertices < upper + near).all()


def test_foam_is_what_another_lane_is_born_from():
    p = whole()
    lanes = [
        p.study.flows[0].model_dump(),
        {**lane("spray", ("emit", {"where": "particles", "flow": "w:foam", "rate": 4000, "life": 5, "inherit": 1}),
                ("gravity", {})), "kind": "particles"},
    ]  # fmt: skip
    doc = {**dump(p.study), "flows": lanes}
    both = plan_of(parse(doc))
    flow = ParticleFlow(both, "spray")
    state = flow.first()
    for n in range(1, 7):
        state = flow.next(state, n)
    assert state.count > 100
    water = run(whole(), 6)[1]
    fastest = np.linalg.norm(water.velocity, axis=0)
    assert fastest[water.foam].mean() > fastest.mean()
    lanes[1]["steps"][0]["params"]["flow"] = "w:mist"
    wrong = plan_of(parse({**doc, "flows": lanes}))
    with pytest.raises(StudyError, match="no result 'mist'"):
        ParticleFlow(wrong, "spray")


# words ---------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("steps", "words", "more"),
    [
        ((FALLS,), "nothing brings liquid in", {}),
        ((once("blob"), ("domain", {"region": "tank"})), "two Domains", {}),
        ((once("far"),), "outside the domain", {}),
        ((once("plane"),), "half space", {}),
        ((once("nothing"),), "greater than 0", {}),
        ((once("blob", viscosity=-1),), "viscosity", {}),
        ((once("blob", viscosity=1e12),), "viscosity", {}),
        ((once("blob", viscosity=float("nan")),), "finite number", {}),
        ((once("blob"), ("push", {"field": "s"})), "takes a vector", {}),
        ((once("blob"), ("channel", {"name": "Up"})), "cannot be the name", {}),
        ((once("blob"), ("channel", {"name": "age"})), "cannot be the name", {}),
        ((once("blob"), ("channel", {"what": "formula", "expression": "spee"})), "spee", {}),
        ((("source", {"where": "everywhere"}),), "no lane says where", {}),
        ((once("blob", colour=[2, 0, 0]),), "from 0 to 1", {}),
        ((once("blob"),), "too few", {"h": 0.4}),
        ((once("blob"), ("collide", {"shapes": ["all"]})), "fill the whole domain", {}),
    ],
)
def test_what_cannot_work_is_said_with_its_place(steps, words, more):
    shapes = [
        BLOB, ball("far", 0.1, (9, 9, 9)), {"id": "plane", "kind": "plane", "params": {}}, ball("all", 9, (0, 0, 0)),
        {"id": "nothing", "kind": "sphere", "params": {"radius": 0}},
    ]  # fmt: skip
    s = lane("s", ("constant", {"makes": "scalar", "value": 1}))
    with pytest.raises(GustError) as error:
        run(liquid(*steps, **{"h": 0.05, "room": ROOM, "shapes": shapes, "fields": [s], **more}), 1)
    assert words in str(error.value)
    assert error.value.where


def test_a_push_that_would_throw_it_out_is_an_error_and_keeps_the_frames(tmp_path):
    p = liquid(once("blob"), ("push", {"field": "wild", "how": "force", "strength": 1e5}), h=0.05, room=ROOM,
               shapes=[BLOB], fields=[constant("wild", 1, 0, 0)], end=20)  # fmt: skip
    with pytest.raises(GustError, match="substeps") as error:
        compute(p.study, "w", tmp_path / "run")
    assert "Speed limit" in error.value.fix
    assert RunStore(tmp_path / "run").frames()[:1] == [1]


def test_too_large_for_memory_is_said_before_with_a_voxel_size_that_fits(monkeypatch):
    monkeypatch.setenv("ERRANT_GUST_BUDGET_MB", "40")
    with pytest.raises(BudgetError) as error:
        LiquidFlow(liquid(once("blob"), h=0.01, room=ROOM, shapes=[BLOB]), "w")
    fits = error.value.fits
    assert 0.01 < fits < 0.2
    LiquidFlow(liquid(once("blob"), h=fits, room=ROOM, shapes=[BLOB]), "w")


PUSH = ("push", {"field": "nowhere"})
NOWHERE = lane("nowhere", ("constant", {"vector": [0, 0, 0]}))


@pytest.mark.parametrize(
    ("steps", "code", "where", "domain"),
    [
        ((once("blob"),), "few_particles", ".along", {"along": 1}),
        ((once("blob", viscosity=1e-5),), "grid_dominates", ".viscosity", {}),
        ((once("blob", viscosity=1e6),), "one_piece", ".viscosity", {}),
        ((once("pin"),), "thin_source", ".shape", {}),
        ((once("blob", colour=[1, 0, 0]),), "colour_not_carried", ".colour", {}),
        ((once("blob"), ("collide", {"shapes": ["block"]})), "buried_source", ".shape", {}),
        ((once("block"),), "full_domain", ".shape", {}),
        ((once("blob"), ("collide", {"shapes": ["pin"]})), "thin_wall", "shapes.pin", {}),
        ((once("blob"), once("blob")), "same_place", ".shape", {}),
    ],
)
def test_what_is_likely_wrong_is_found_in_its_place_with_what_would_be_right(steps, code, where, domain):
    shapes = [BLOB, ball("pin", 0.02, (0, 0, 0.8)), box("block", (-2, -2, -2), (2, 2, 2))]
    found = {f.code: f for f in findings(liquid(*steps, h=0.05, room=ROOM, shapes=shapes, domain=domain))}
    assert code in found
    assert where in found[code].where
    assert found[code].why
    if found[code].fix:
        assert list(found[code].fix["set"])


def test_what_a_frame_tells(tmp_path):
    p = liquid(once("blob", velocity=[0, 0, 3]), PUSH, h=0.05, room=((-0.5, -0.5, 0), (0.5, 0.5, 0.8)), shapes=[BLOB],
               fields=[NOWHERE], end=8)  # fmt: skip
    store = compute(p.study, "w", tmp_path / "run")
    found = {f.code: f for f in findings_on_frame(p, "w", store, 8)}
    assert {"leaves", "meets_nothing"} <= set(found)
    assert "above" in found["leaves"].what
    assert found["leaves"].fix["set"] == {"flows.w.s0.above": False}
    assert found["meets_nothing"].where == "flows.w.s2"
    sound = liquid(once("blob"), FALLS, h=0.05, room=ROOM, shapes=[BLOB], end=4, domain=CLOSED)
    store = compute(sound.study, "w", tmp_path / "sound")
    assert not findings_on_frame(sound, "w", store, 4)
    assert not [f for f in findings(sound) if f.where.startswith("flows")]


def test_a_source_all_at_once_fills_its_shape_once():
    """What falls away is not replaced: as many particles as were born on the first frame."""
    shapes = [box("block", (-0.3, -0.3, 0.5), (0.3, 0.3, 1.1))]
    p = liquid(
        ("source", {"shape": "block", "timing": "all at once"}), ("gravity", {}),
        h=0.1, room=((-1, -1, 0), (1, 1, 2)), shapes=shapes, domain=CLOSED,
    )  # fmt: skip
    counts = []
    run(p, 8, lambda state, _time: counts.append(state.count))
    assert counts[0] > 500
    assert len(set(counts)) == 1
