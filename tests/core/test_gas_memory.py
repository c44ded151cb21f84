"""Memory of gas: no more than is stated, lent without a trace, and a state that is kept stays as it was."""

import tracemalloc

import numpy as np
import pytest

from errant_gust.core.flows.gas.flow import GasFlow
from errant_gust.core.flows.gas.refined import DetailFlow
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.grids.staggered.faces import open_shares
from errant_gust.core.grids.staggered.poisson import Poisson
from errant_gust.core.runs import job
from errant_gust.core.runs.manifest import begin
from errant_gust.core.study.building import lane
from tests.core.test_gas import BALL, PUFF, ROCK, gas, run
from tests.core.test_solver import torus_and_sphere
from tests.studies import plan

F = np.float32
STILL = {"follow": False}
MOVING = {
    "id": "rock",
    "kind": "sphere",
    "params": {"radius": 0.3, "move": {"keys": [[0, [0, 0, 1.1]], [2, [1, 0, 1]]]}},
}
BUSY = (PUFF, ("rise", {}), ("curl_up", {}), ("push", {"field": "gust"}), ("expand", {"amount": 0.2}))
GUST = lane("gust", ("curl_noise", {}))


def peak(p, frames=2):
    """The flow, and the bytes a voxel that a step takes at most with everything kept between steps."""
    run(p, 2)  # kernels are loaded before anything is counted
    tracemalloc.start()
    flow = GasFlow(p, "g")
    state = flow.next(flow.first(), 1, keep=False)
    for n in range(2, 2 + frames):
        tracemalloc.reset_peak()
        state = flow.next(state, n, keep=False)
    most = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    return flow, most / flow.domain.voxels


def test_smoke_and_heat_past_an_obstacle_take_what_is_stated():
    steps = (PUFF, ("rise", {}), ("curl_up", {}), ("collide", {"shapes": ["rock"]}))
    _, most = peak(gas(*steps, h=1 / 32, domain=STILL, shapes=(BALL, ROCK)))
    assert 80 < most < 104 * (66 / 64) ** 3, "104 bytes a voxel, and a layer of ghosts all round"


@pytest.mark.parametrize("reflect", [False, True])
def test_the_stated_memory_holds_with_a_push_expansion_and_a_moving_obstacle(reflect):
    domain = {**STILL, "reflect": reflect}
    p = gas(*BUSY, ("collide", {"shapes": ["rock"]}), h=1 / 24, domain=domain, shapes=(BALL, MOVING), fields=(GUST,))
    flow, most = peak(p)
    voxels, stated = flow.estimate()
    assert 0.75 * stated / voxels < most < stated / voxels


def arrays(state):
    return {k: a.copy() for k, a in state.channels().items()}


@pytest.mark.parametrize("domain", [{}, STILL])
@pytest.mark.parametrize("obstacle", [MOVING, ROCK, {"id": "rock", "kind": "box", "params": {"size": [1.9, 1.9, 0.1]}}])
def test_a_kept_state_stays_as_it_was_and_a_used_up_one_gives_the_same(domain, obstacle):
    p = gas(*BUSY, ("collide", {"shapes": ["rock"]}), domain=domain, shapes=(BALL, obstacle), fields=(GUST,))
    flow, state = run(p, 3)
    was = arrays(state)
    kept = flow.next(state, 4)
    again = arrays(state)
    assert all(np.array_equal(was[k], again[k]) for k in was), "the state given is not touched"
    used = flow.next(state, 4, keep=False)
    assert all(np.array_equal(a, kept.channels()[k]) for k, a in used.channels().items())


def test_a_detail_state_is_kept_or_used_up_alike():
    p = gas(PUFF, ("rise", {}), end=12)
    data = p.study.model_dump(mode="json", by_alias=True)
    data["flows"].append({**lane("d", ("detail", {"flow": "g"})), "kind": "gas", "name": "Detail"})
    p = plan(**{k: data[k] for k in ("flows", "shapes", "regions", "clock")})
    base = GasFlow(p, "g")
    coarse = {1: base.first()}
    for n in range(1, 5):
        coarse[n + 1] = base.next(coarse[n], n)
    flow = DetailFlow(p, "d")
    flow._coarse = lambda frame, cancel=None: coarse[frame]
    state = flow.next(flow.first(), 1)
    was = arrays(state)
    kept = flow.next(state, 2)
    assert all(np.array_equal(a, state.channels()[k]) for k, a in was.items())
    used = flow.next(state, 2, keep=False)
    assert all(np.array_equal(a, kept.channels()[k]) for k, a in used.channels().items())


@pytest.fixture(params=[(40, 40, 40), (43, 31, 37), (61, 33, 9)], ids=str)
def cut(request):
    """Face shares of a box with obstacles, open at every side but one."""
    nx, ny, nz = request.param
    x, y, z = np.meshgrid(*(np.linspace(-2, 2, n + 1) for n in (nx, ny, nz)), indexing="ij")
    shares = open_shares(GridRegion((0, 0, 0), (nx, ny, nz), 0.1), torus_and_sphere(x, y, z).astype(F))
    shares[2][:, :, 0] = 0
    return shares


def right_side(shares, rng):
    return rng.normal(size=(shares[1].shape[0], shares[0].shape[1], shares[0].shape[2])).astype(F)


def test_lent_memory_leaves_no_trace_in_what_is_solved(cut, rng):
    solver, b = Poisson(*cut), right_side(cut, rng)
    nx, ny, nz = b.shape
    first = solver.solve(b)
    for index in range(5):
        solver.lend(index, (nx + 1, ny, nz)).fill(np.nan)
        assert solver.lend(index, (nx, ny, nz + 1), np.int32).dtype == np.int32
    assert np.array_equal(solver.solve(b), first)
    assert np.abs(first).max() > 0


@pytest.mark.parametrize("nothing", [0.0, np.nan])
def test_nothing_to_solve_and_what_is_no_number_give_zero_not_what_was_lent(cut, nothing):
    solver = Poisson(*cut)
    for index in range(5):
        solver.lend(index, solver.shape).fill(7)
    assert not solver.solve(np.full(solver.shape, nothing, F)).any()


def test_the_number_of_threads_changes_no_bit_of_what_is_solved(cut, rng):
    b = right_side(cut, rng)
    solvers = [Poisson(*cut, threads=n) for n in (1, 2, 4)]
    assert len(solvers[0].levels[0].slabs) == 1 < len(solvers[1].levels[0].slabs) <= len(solvers[2].levels[0].slabs)
    one, two, four = (s.solve(b) for s in solvers)
    assert np.array_equal(one, two)
    assert np.array_equal(one, four)


@pytest.mark.parametrize(
    ("kind", "words"), [("gas", "larger voxels would fit"), ("particles", "fewer particles would fit")]
)
def test_a_run_that_finds_no_memory_says_what_would_fit_its_kind(kind, words, tmp_path, monkeypatch):
    steps = (PUFF,) if kind == "gas" else (("emit", {"shape": "ball"}), ("gravity", {}))
    study = gas(PUFF).study if kind == "gas" else plan(flows=[{**lane("g", *steps), "kind": kind}]).study
    identity = begin(study, "g", "full", tmp_path, Assets())

    def full(*_, **__):
        raise MemoryError

    monkeypatch.setattr(job, "compute", full)
    result = job.work(str(tmp_path / identity), 3)
    assert result["state"] == "failed"
    assert words in result["message"]
