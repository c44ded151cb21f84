"""What brings gas in and what it is made into: operations, particles, fields, growth, formulas; and bad input."""

import numpy as np
import pytest

from errant_gust.core.api import open_study
from errant_gust.core.errors import GustError, StudyError
from errant_gust.core.flows.gas.flow import GasFlow
from errant_gust.core.flows.gas.sources import _motion
from errant_gust.core.flows.gas.steps import Work
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.study.building import lane
from errant_gust.core.study.document import parse
from tests.core.test_gas import BALL, CLOSED, PUFF, gas, run

assert open_study
STILL = {**CLOSED, "follow": False}


def one_step(*steps, **more):
    more.setdefault("domain", STILL)
    return run(gas(*steps, **more), 1)[1]


@pytest.mark.parametrize(("how", "twice"), [("add", 2.0), ("at least", 1.0), ("set", 1.0)])
def test_two_sources_in_one_place_add_or_fill_or_set(how, twice):
    source = ("source", {"shape": "ball", "how": how, "density": 1 if how != "add" else 24, "temperature": 0})
    one, two = one_step(source), one_step(source, source)
    top = one.channel("density").max()
    assert top == pytest.approx(1, rel=1e-4)
    assert two.channel("density").max() == pytest.approx(twice * top, rel=1e-4)


def test_each_channel_may_have_an_operation_of_its_own_or_none():
    source = {"shape": "ball", "how": "at least", "density": 1, "temperature": 480, "fuel": 2, "each": True,
              "temperature_how": "add", "fuel_how": "off"}  # fmt: skip
    state = one_step(("source", source))
    assert state.channel("density").max() == pytest.approx(1)
    assert state.channel("temperature").max() == pytest.approx(480 / 24, rel=1e-4)
    assert not state.channel("fuel").any()
    plain = one_step(("source", {**source, "each": False}))
    assert plain.channel("fuel").max() == pytest.approx(2), "the switch decides"


def test_taking_one_source_out_leaves_the_other_as_it_was():
    other = {"id": "other", "kind": "sphere", "params": {"radius": 0.2, "move": [0.6, 0.6, 1.4]}}
    both = one_step(PUFF, ("source", {"shape": "other"}), shapes=(BALL, other))
    left = one_step(PUFF, shapes=(BALL, other))
    near = (slice(0, 14), slice(0, 14), slice(0, 9))
    np.testing.assert_array_equal(both.channel("density")[near], left.channel("density")[near])
    assert not left.channel("density")[14:, 14:, 12:].any()


def test_amounts_may_be_fields_and_a_field_alone_may_be_a_source():
    ramp = lane("ramp", ("ramp", {"start": [0, 0, 0], "end": [0, 0, 2]}))
    state = one_step(
        ("source", {"where": "everywhere", "by": "ramp", "how": "set", "density": {"field": "ramp"}, "temperature": 0}),
        fields=(ramp,), domain=STILL,
    )  # fmt: skip
    z = (np.arange(20) + 0.5) / 20
    first = z * z  # set once at the first frame: share of the way from 0 to the ramp
    second = first + z * (z - first)  # and once more a step later
    np.testing.assert_allclose(state.channel("density")[5, 5], second, atol=2e-3)


def test_colour_and_velocity_may_come_from_fields():
    fields = (
        lane("hues", ("ramp", {}), ("formula", {"expression": "where(x < 0, 1, 0), where(x < 0, 0, 1), 2"})),
        lane("shear", ("ramp", {}), ("formula", {"expression": "z, 0, 0"})),
    )
    source = ("source", {"shape": "ball", "how": "at least", "density": 1, "temperature": 0, "colour_by": "hues",
                         "velocity_by": "shear", "velocity": [0, 0.5, 0]})  # fmt: skip
    state = one_step(source, ("colour", {}), fields=fields, domain={**dict.fromkeys(CLOSED, True), "follow": False})
    left, right = (9, 10, 4), (11, 10, 4)  # x = −0.05 and 0.15
    assert [state.channel(c)[left] for c in ("red", "green", "blue")] == pytest.approx([1, 0, 1], abs=0.02)
    assert [state.channel(c)[right] for c in ("red", "green", "blue")] == pytest.approx([0, 1, 1], abs=0.1)
    part = GasFlow(gas(source, ("colour", {}), fields=fields), "g").parts(0)[1]
    flow = GasFlow(gas(source, ("colour", {}), fields=fields, domain=STILL), "g")
    work = Work(flow.first(), flow.plan.at(1 / 24), 1 / 24, 1)
    part.step.source(part, work)
    target, share = work.ease[0]
    inside = share > 0.99
    z = np.broadcast_to((np.arange(20) + 0.5) * 0.1, share.shape)
    np.testing.assert_allclose(target[0][inside], z[inside], atol=1e-5)
    np.testing.assert_allclose(target[1][inside], 0.5, atol=1e-6)


def test_particles_bring_gas_and_their_motion():
    p = gas(
        ("source", {"where": "particles", "flow": "sparks", "radius": 0.15, "how": "at least", "density": 1,
                    "temperature": 0, "own_motion": 1}), domain={"follow": True},
    )  # fmt: skip
    data = p.study.model_dump(mode="json", by_alias=True)
    emit = {"shape": "ball", "where": "points", "timing": "all at once", "count": 1, "preview_share": 1, "life": 99}
    wind = lane("wind", ("constant", {"makes": "vector", "vector": [0.9, 0, 0.6]}))
    for f in data["fields"]:
        f.pop("on", None)
    data["fields"].append({"name": "wind", **wind})
    data["flows"].append(
        {**lane("sparks", ("emit", emit), ("carry", {"field": "wind"})), "name": "Sparks", "kind": "particles"}
    )
    f, state = run(plan_of(parse(data)), 12)
    at, velocity = f.particles_of("sparks", f.clock.seconds(13))
    np.testing.assert_allclose(velocity[:, 0], [0.9, 0, 0.6], atol=1e-5)
    index = np.unravel_index(np.argmax(state.channel("density")), state.values.shape[1:])
    h = state.domain.voxel_size
    here = np.array(state.window.lower) + (np.array(index) + 0.5) * h
    assert np.linalg.norm(here - at[:, 0]) < 2 * h
    assert state.u[index] == pytest.approx(0.9, abs=0.35), "the gas is taken along"
    half = f.particles_of("sparks", f.clock.seconds(12) + 0.5 / 24)[0]
    np.testing.assert_allclose(half[:, 0], at[:, 0] - 0.5 / 24 * np.array([0.9, 0, 0.6]), atol=1e-5)


def test_a_growing_shape_pushes_the_gas_outward():
    grows = {"id": "ball", "kind": "sphere", "params": {
        "radius": {"keys": [[0, 0.3], [1, 0.8]], "between": "linear"}, "move": [0, 0, 1]}}  # fmt: skip
    p = gas(("source", {"shape": "ball", "own_motion": 1, "temperature": 0}), shapes=(grows,),
            domain={**dict.fromkeys(CLOSED, True), "follow": False})  # fmt: skip
    f, state = run(p, 4)
    r = 0.3 + 0.5 * f.clock.seconds(5)
    # before the projection the target is the growth along the normal: half a metre a second at the surface
    t = f.clock.seconds(5)
    scene = f.plan.at(t)
    box = (slice(0, 20), slice(0, 20), slice(0, 20))
    made = _motion(Work(state, scene, 1 / 24, 1, before=f.plan.at(t - 1 / 24)), scene.shape("ball"), box)
    x = (np.arange(20) + 0.5) * 0.1 - 1
    points = np.stack(np.meshgrid(x, x, x, indexing="ij"))
    d = np.sqrt((points**2).sum(axis=0))
    shell = np.abs(d - r) < 0.1
    np.testing.assert_allclose((made * points / d).sum(axis=0)[shell], 0.5, atol=0.01)


def test_gas_is_kept_inside_a_shape():
    jar = {"id": "jar", "kind": "sphere", "params": {"radius": 0.7, "move": [0, 0, 0.7]}}
    p = gas(PUFF, ("rise", {"lift": 0.2}), ("collide", {"shapes": ["jar"], "side": "inside"}), shapes=(BALL, jar),
            domain={**STILL}, end=80)  # fmt: skip
    f, state = run(p, 40)
    h = 0.1
    x = (np.arange(20) + 0.5) * h
    points = np.stack(np.meshgrid(x - 1, x - 1, x - 0.7, indexing="ij"))
    outside = np.sqrt((points**2).sum(axis=0)) > 0.7 + 0.9 * h
    density = state.channel("density")
    assert density[~outside].max() > 0.2
    assert density[outside].max() == 0
    assert float((density * (points[2] > 0.2)).sum()) > 1, "it has risen to the lid"
    assert f._kept[1].closed


def test_a_copy_cools_at_its_own_pace_and_changes_nothing_else():
    source = {"shape": "ball", "how": "at least", "density": 1, "temperature": 200, "fuel": 1, "until": 0.01}
    burn = ("burn", {"ignition": 0, "rate": 4, "heat": 300})
    steps = (("source", source), burn, ("cool", {"rate": 2.0}), ("rise", {}))
    copy = ("channel", {"name": "glow", "copies": "temperature", "how": "share", "rate": 0.5})
    alone, both = run(gas(*steps), 12)[1], run(gas(*steps, copy), 12)[1]
    for name in ("density", "temperature"):
        np.testing.assert_array_equal(both.channel(name), alone.channel(name))
    assert both.channel("glow").sum() > 1.5 * both.channel("temperature").sum()
    same = ("channel", {"name": "glow", "copies": "temperature", "how": "share", "rate": 2.0})
    twin = run(gas(*steps, same, domain=STILL), 6)[1]
    np.testing.assert_allclose(twin.channel("glow"), twin.channel("temperature"), rtol=2e-3, atol=0.5)


def test_a_formula_makes_a_channel_and_clamps_it():
    formula = ("formula", {"channel": "shown", "expression": "temperature / 100 - z", "clamp": "between", "high": 1.2})
    state = one_step(PUFF, formula)
    z = (np.arange(20) + 0.5) * 0.1
    wanted = np.clip(state.channel("temperature") / 100 - z, 0, 1.2)
    np.testing.assert_allclose(state.channel("shown"), wanted, atol=1e-5)
    assert state.channel("shown").max() == pytest.approx(1.2)
    without = one_step(PUFF)
    np.testing.assert_array_equal(without.channel("temperature"), state.channel("temperature"))
    wired = one_step(PUFF, ("formula", {"channel": "temperature", "expression": "temperature * 0.5"}))
    assert wired.channel("temperature").max() == pytest.approx(100, rel=0.01)


def scalar(name, expression):
    return lane(name, ("formula", {"expression": expression}))


BAD = [
    (("source", {"shape": "ball", "where": "everywhere"}), "no lane says where", "by"),
    (("source", {"where": "particles"}), "no particles are chosen", "flow"),
    (("source", {"where": "particles", "flow": "g"}), "made from each other in a circle (g → g)", "flow"),
    (("channel", {"name": "glow", "copies": "hat"}), "there is no channel 'hat'", "copies"),
    (("channel", {"name": "glow", "copies": "glow"}), "copies itself", "copies"),
    (("formula", {"expression": "temprature * 2"}), "temprature", "expression"),
    (("formula", {"expression": "1, 2"}), "has 2 parts", "expression"),
    (("formula", {"expression": "f"}), "none is chosen", "field"),
    (("formula", {"channel": "vel"}), "cannot be the name", "channel"),
    (("formula", {"clamp": "between", "low": 2, "high": 1}), "not above the least", "high"),
    (("source", {"shape": "ball", "temperature": float("nan")}), "", "temperature"),
    (("source", {"shape": "ball", "density": float("inf")}), "", "density"),
]


@pytest.mark.parametrize(("step", "what", "where"), BAD)
def test_bad_steps_say_what_and_where(step, what, where):
    with pytest.raises(StudyError) as found:
        GasFlow(gas(PUFF, step), "g")
    assert what in str(found.value)
    assert where in found.value.where


def test_gas_that_stops_being_numbers_stops_the_run_and_keeps_the_frames(tmp_path, monkeypatch):
    p = gas(PUFF)
    real = GasFlow._filled

    def broken(self, state, start, *rest):
        work = real(self, state, start, *rest)
        if start > 3 / 24:
            work.state.channel("temperature")[3, 3, 3] = np.nan
        return work

    monkeypatch.setattr(GasFlow, "_filled", broken)
    with pytest.raises(GustError, match="'temperature' is no longer numbers"):
        compute(p.study, "g", tmp_path / "run")
    frames = RunStore(tmp_path / "run").frames()
    assert frames == list(range(1, len(frames) + 1))
    assert len(frames) >= 3


@pytest.mark.parametrize("fps", [12, 24, 48])
def test_what_a_source_brings_does_not_depend_on_frames_a_second(fps):
    """On from 0.1 s to 0.53 s, neither of which is a frame: 0.43 s times its rate, whatever is between."""
    source = {"shape": "ball", "how": "add", "density": 2, "temperature": 0, "begin": 0.1, "until": 0.53}
    state = run(gas(("source", source), domain=STILL, fps=fps), fps)[-1]
    cells = float(state.channel("density").sum())
    whole = run(gas(("source", {**source, "begin": 0, "until": 9}), domain=STILL, fps=fps), fps)[-1]
    assert cells / float(whole.channel("density").sum()) == pytest.approx(0.43, rel=1e-3)


@pytest.mark.parametrize("how", ["add", "at least", "set"])
def test_a_fast_source_leaves_a_trail_without_beads(how):
    """A ball of 0.08 m at 4.5 m/s goes more than its width in a frame."""
    path = {"keys": [[0, [-0.8, 0, 1]], [0.355, [0.8, 0, 1]]], "between": "linear"}
    ball = {"id": "ball", "kind": "sphere", "params": {"radius": 0.08, "move": path}}
    source = {"shape": "ball", "how": how, "density": 4, "temperature": 0}
    study = gas(("source", source), shapes=(ball,), domain=STILL, h=0.04)
    along = run(study, 8)[-1].channel("density")
    line = along.max(axis=(1, 2))
    reached = np.flatnonzero(line > 0.3 * line.max())
    inner = line[reached[3] : reached[-3]]
    assert len(inner) > 20
    assert inner.min() > 0.8 * inner.max()


@pytest.mark.parametrize("fps", [6, 24, 96])
def test_all_at_once_adds_its_amount_once_however_the_time_is_cut(fps):
    step = ("source", {"shape": "ball", "how": "add", "density": 2, "temperature": 0, "timing": "all at once"})
    p = gas(step, domain=STILL, h=0.05, fps=fps)
    _, first = run(p, 1)
    _, later = run(p, 6)
    volume = 4 / 3 * np.pi * 0.25**3
    total = [float(s.channel("density").sum(dtype=float)) * 0.05**3 for s in (first, later)]
    assert total[0] == pytest.approx(2 * volume, rel=0.03)
    assert total[1] == pytest.approx(total[0], rel=1e-3), "nothing comes after it"


def test_all_at_once_comes_when_it_is_told():
    step = ("source", {"shape": "ball", "how": "add", "density": 2, "timing": "all at once", "begin": 0.1})
    p = gas(step)
    assert run(p, 2)[1].channel("density").max() == 0
    assert run(p, 3)[1].channel("density").max() > 0.5
