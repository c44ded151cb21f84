"""Detail: finer gas carried by a coarse run. Flux, mass, height, walls, energy, identity, going on, bad input."""

import numpy as np
import pytest

from errant_gust.core.api import open_study
from errant_gust.core.errors import StudyError
from errant_gust.core.flows.gas.refined import DetailFlow
from errant_gust.core.flows.kind import open_flow
from errant_gust.core.grids.staggered.refine import across, along, finer_faces
from errant_gust.core.home import home
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.identity import run_identity
from errant_gust.core.study.building import lane
from errant_gust.core.study.document import parse
from tests.core.test_gas import BALL, CLOSED, PUFF, ROCK, gas, height, run

assert open_study


@pytest.fixture(autouse=True)
def own_home(tmp_path, monkeypatch):
    monkeypatch.setenv("ERRANT_GUST_HOME", str(tmp_path / "home"))


def fine(p, *more, id="fine", **detail):
    data = p.study.model_dump(mode="json", by_alias=True)
    for f in data["fields"]:
        f.pop("on", None)
    steps = ("detail", {"flow": "g", **detail}), *more
    data["flows"].append({**lane(id, *steps), "name": "Fine", "kind": "gas"})
    return plan_of(parse(data))


def alone(rows, work):
    work(0, rows)


@pytest.mark.parametrize("times", [2, 3, 4])
def test_what_is_free_of_divergence_stays_so_on_smaller_voxels(times):
    """To rounding, away from the outermost cells; and what is not free of it is not."""
    rng = np.random.default_rng(times)
    a, b, c = (rng.normal(size=s).astype(np.float32) for s in ((9, 8, 8), (8, 9, 8), (8, 8, 9)))
    pot = [rng.normal(size=s) for s in ((8, 9, 9), (9, 8, 9), (9, 9, 8))]
    u = np.diff(pot[2], axis=1) - np.diff(pot[1], axis=2)
    v = np.diff(pot[0], axis=2) - np.diff(pot[2], axis=0)
    w = np.diff(pot[1], axis=0) - np.diff(pot[0], axis=1)
    faces = tuple(np.ascontiguousarray(f, np.float32) for f in (u, v, w))
    inner = (slice(2 * times, -2 * times),) * 3

    def out(f):
        return np.diff(f[0], axis=0) + np.diff(f[1], axis=1) + np.diff(f[2], axis=2)

    assert np.abs(out(faces)).max() < 1e-5
    made = finer_faces(faces, times, alone)
    assert made[0].shape == (8 * times + 1, 8 * times, 8 * times)
    assert np.abs(out(made)[inner]).max() < 2e-6 * np.abs(made[0]).max() * times
    other = finer_faces((a, b, c), times, alone)
    assert np.abs(out(other)[inner]).max() > 0.01
    for n, weights in ((8, across(8, times)), (8, along(8, times))):
        np.testing.assert_allclose(weights[1].sum(axis=1), 1, atol=1e-6)
        assert len(weights[0]) in (n * times, n * times + 1)


def test_a_linear_field_is_refined_exactly():
    x = np.arange(9, dtype=np.float32)
    u = np.broadcast_to(2 * x[:, None, None], (9, 8, 8)).copy()
    v = np.broadcast_to(-x[None, :, None], (8, 9, 8)).copy()
    w = np.broadcast_to(-x[None, None, :], (8, 8, 9)).copy()
    made = finer_faces((u, v, w), 3, alone)
    s = np.arange(25) / 3
    inner = slice(3, -3)
    np.testing.assert_allclose(made[0][inner, 10, 10], 2 * s[inner], atol=1e-5)
    np.testing.assert_allclose(made[2][10, 10, inner], -s[inner], atol=1e-5)


def test_without_eddies_it_is_the_same_smoke_on_smaller_voxels():
    p = fine(gas(PUFF, ("rise", {})), strength=0)
    f, state = detailed(p, 18)
    coarse = f._coarse(19)
    assert state.domain.voxel_size == pytest.approx(0.05)
    assert height(state) == pytest.approx(height(coarse), rel=0.05)
    assert amount(state) == pytest.approx(amount(coarse), rel=0.08)
    assert sharpness(state) > 1.15 * sharpness(coarse), "edges are steeper on smaller voxels"


def detailed(p, frames):
    f = open_flow(p, "fine")
    assert isinstance(f, DetailFlow)
    state = f.first()
    for n in range(1, frames + 1):
        state = f.next(state, n)
    return f, state


def amount(state):
    return float(state.channel("density").sum(dtype=float)) * state.domain.voxel_size**3


def sharpness(state):
    """Mean slope of the density in 1/m where there is smoke."""
    d = state.channel("density")
    slope = np.sqrt(sum(g * g for g in np.gradient(d, state.domain.voxel_size)))
    return float(slope[d > 0.05].mean())


def test_added_eddies_have_no_divergence_and_grow_with_strength():
    shapes = (BALL,)
    speeds = []
    for strength in (1.0, 2.0):
        p = fine(gas(PUFF, ("rise", {"lift": 0.1}), shapes=shapes), strength=strength)
        f, state = detailed(p, 12)
        before, after = f._coarse(12), f._coarse(13)
        _, _, eddies = f._motion(state, before, after, f.parts(0.5), 0.5)
        out = np.diff(eddies[0], axis=0) + np.diff(eddies[1], axis=1) + np.diff(eddies[2], axis=2)
        rms = [float(np.sqrt((e * e).mean())) for e in eddies]
        assert np.abs(out).max() < 2e-5 * max(np.abs(e).max() for e in eddies)
        assert max(rms) < 2 * min(rms), "no direction stands out"
        speeds.append(np.mean(rms))
        inner = (slice(4, -4),) * 3
        d = state.faces.divergence()[inner]
        assert np.sqrt((d * d).mean()) < 1e-3 * np.sqrt((state.w**2).mean())
    assert speeds[1] == pytest.approx(2 * speeds[0], rel=0.05)


def test_it_stays_out_of_obstacles_and_the_eddies_do_not_blow_through_walls():
    p = fine(gas(PUFF, ("rise", {"lift": 0.1}), ("collide", {"shapes": ["rock"]}), shapes=(BALL, ROCK)), strength=2)
    f, state = detailed(p, 20)
    rock = f.plan.at(0).shape("rock")
    d = rock.distance(state.window.centres(0, state.count))[0].reshape(state.window.shape)
    density = state.channel("density")
    assert density.max() > 0.3
    assert density[d < -state.domain.voxel_size].max(initial=0) == 0
    _, _, eddies = f._motion(state, f._coarse(20), f._coarse(21), f.parts(0.8), 0.8)
    middle = 0.5 * (eddies[2][:, :, 1:] + eddies[2][:, :, :-1])
    assert np.abs(middle[d < -0.05]).max(initial=0) < 0.04 * np.abs(middle).max()


def test_its_own_steps_change_the_fine_gas_only():
    p = fine(
        gas(PUFF, ("rise", {})),
        ("thin_out", {"rate": 3}),
        ("formula", {"channel": "haze", "expression": "density * z"}),
    )
    f, state = detailed(p, 8)
    plain = detailed(fine(gas(PUFF, ("rise", {}))), 8)[1]
    assert amount(state) < 0.9 * amount(plain)
    assert "haze" in state.names
    assert "haze" not in f._coarse(9).names


def test_the_coarse_run_is_not_computed_again_and_names_the_fine_one():
    p, q = (fine(gas(PUFF, ("rise", {}), end=6), strength=s) for s in (1.0, 1.5))
    ids = [run_identity(each.study, id, "preview", each.assets) for each in (p, q) for id in ("g", "fine")]
    assert ids[0] == ids[2]
    assert ids[1] != ids[3], "another strength, another run"
    stronger = fine(gas(PUFF, ("rise", {"lift": 0.2}), end=6))
    assert run_identity(stronger.study, "fine", "preview", p.assets) not in ids, "what the coarse gas does counts"
    compute(p.study, "fine", home() / "runs" / ids[1], quality="preview")
    store = RunStore(home() / "runs" / ids[0])
    times = {f: store.path(f).stat().st_mtime_ns for f in store.frames()}
    assert list(times) == [1, 2, 3, 4, 5, 6]
    compute(q.study, "fine", home() / "runs" / ids[3], quality="preview")
    assert times == {f: store.path(f).stat().st_mtime_ns for f in store.frames()}


def test_going_on_and_other_threads_give_the_same_bits(tmp_path, monkeypatch):
    p = fine(gas(PUFF, ("rise", {}), end=7))
    straight = compute(p.study, "fine", tmp_path / "a", quality="preview")
    compute(p.study, "fine", tmp_path / "b", quality="preview", last=3)
    monkeypatch.setenv("ERRANT_GUST_THREADS", "1")
    gone_on = compute(p.study, "fine", tmp_path / "b", quality="preview")
    for name in ("density", "temperature", "u", "v", "w"):
        np.testing.assert_array_equal(straight.read(7, (name,))[name], gone_on.read(7, (name,))[name])


@pytest.mark.parametrize(
    ("detail", "more", "what"),
    [
        ({"flow": ""}, (), "no gas is chosen"),
        ({"flow": "fine"}, (), "is no gas to refine"),
        ({"flow": "nowhere"}, (), "nowhere"),
        ({"finer": "9"}, (), "2"),
        ({}, (("rise", {}),), "has no effect in a lane that begins with Detail"),
        ({}, (("domain", {"region": "room"}),), "has no effect"),
    ],
)
def test_a_lane_that_cannot_work_says_why(detail, more, what):
    with pytest.raises(StudyError, match=what):
        open_flow(fine(gas(PUFF), *more, **detail), "fine")


def test_gas_cannot_be_pushed_by_what_is_made_from_it(tmp_path):
    fields = (lane("own", ("from_run", {"flow": "g"})),)
    p = gas(PUFF, ("push", {"field": "own"}), fields=fields)
    with pytest.raises(StudyError, match="made from it"):
        compute(p.study, "g", tmp_path / "run", quality="preview", last=3)


def test_three_times_finer_carries_the_same_smoke():
    _, state = detailed(fine(gas(PUFF, ("rise", {})), finer="3", strength=0), 8)
    coarse = run(gas(PUFF, ("rise", {})), 8)[1]
    assert state.domain.voxel_size == pytest.approx(0.1 / 3)
    assert amount(state) == pytest.approx(amount(coarse), rel=0.08)


def test_a_finer_copy_of_a_gas_that_keeps_amounts_keeps_them_too():
    puff = ("source", {"shape": "ball", "how": "set", "density": 1, "temperature": 300, "until": 0.001})
    found = {}
    for keep in (False, True):
        domain = {**CLOSED, "follow": False, "keep": keep}
        p = fine(gas(puff, ("rise", {}), ("collide", {"shapes": ["rock"]}), domain=domain, shapes=(BALL, ROCK), end=25))
        f = open_flow(p, "fine")
        state = f.first()
        begun, amounts = float(state.channel("density").sum()), []
        for n in range(1, 25):
            state = f.next(state, n)
            amounts.append(float(state.channel("density").sum()))
        found[keep] = np.abs(np.array(amounts) / begun - 1).max()
    assert found[True] < 0.005
    assert found[False] > 4 * found[True]
