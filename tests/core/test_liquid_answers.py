"""Liquid against known answers. The figures are in docs/verification.md; finer ones come from `./gust bench`."""

import itertools

import numpy as np
import pytest
from scipy.optimize import curve_fit

from errant_gust.core.study.building import lane
from tests.liquids import CLOSED, G, ball, box, liquid, once, run

pytestmark = pytest.mark.slow("known answers of whole simulations")

F = np.float32
FALLS = ("gravity", {})


def test_a_still_tank_stays_still_and_level():
    """Speeds below 0.3 % of √(g depth) after a second, the surface where it was within a fifth of a voxel."""
    tank = ((-0.5, -0.25, 0), (0.5, 0.25, 1))
    for viscosity in (1e-6, 0.01):
        p = liquid(
            once("fill", viscosity=viscosity), FALLS, h=0.05, room=tank, shapes=[box("fill", (-1, -1, -1), (1, 1, 0.5))]
        )
        _, s = run(p, 24)
        rms = np.sqrt((s.velocity**2).sum(axis=0).mean())
        assert rms < 0.003 * np.sqrt(G * 0.5)
        assert s.position[2].max() == pytest.approx(0.5, abs=0.01)
        assert s.position[2].mean() == pytest.approx(0.25, abs=0.005)


def test_the_first_sloshing_mode_has_the_period_of_the_dispersion_relation():
    """ω² = g k tanh(k d) with k = π / L: 1.2 % at 40 voxels a length (2 % asked); it hardly dies away."""
    length, depth = 1.0, 0.5
    k = np.pi / length
    period = 2 * np.pi / np.sqrt(G * k * np.tanh(k * depth))
    tilt = np.arctan(0.1)
    fill = {"id": "fill", "kind": "box", "params": {
        "size": [4, 4, 4], "turn": [0, float(np.degrees(tilt)), 0],
        "move": [2 * float(np.sin(tilt)), 0, depth - 2 * float(np.cos(tilt))],
    }}  # fmt: skip
    p = liquid(once("fill"), FALLS, h=0.025, room=((-0.5, -0.1, 0), (0.5, 0.1, 1)), fps=60, end=400, shapes=[fill])
    log = []
    run(p, int(2.3 * period * 60), lambda s, t: log.append((t, s.position[0].mean())))
    t, x = np.array(log).T
    i = np.flatnonzero(x[1:] * x[:-1] < 0)
    crossings = t[i] - x[i] * (t[i + 1] - t[i]) / (x[i + 1] - x[i])
    assert 2 * np.diff(crossings).mean() == pytest.approx(period, rel=0.02)
    peaks = [np.abs(x[a:b]).max() for a, b in itertools.pairwise(i)]
    assert peaks[-1] > 0.9 * peaks[0]


# T and Z of the front, τ and H of the column, for a column twice as high as wide (Martin, Moyce 1952)
FRONT = ((1.19, 1.44), (1.83, 2.11), (2.32, 2.78), (2.83, 3.44))
COLUMN = ((0.93, 0.83), (1.28, 0.72), (1.66, 0.61), (2.0, 0.50))


def test_a_dam_breaks_as_in_the_experiment():
    """The column sinks within 4 % of its height; the front runs as in the experiment, by a gate's opening earlier."""
    a = 0.5
    p = liquid(
        once("fill"), FALLS, h=0.05, room=((0, -0.1, 0), (3, 0.1, 1.5)), fps=96, end=400, domain={"flip": 0.9},
        shapes=[box("fill", (-1, -1, -1), (a, 1, 2 * a))],
    )  # fmt: skip
    log = []

    def each(s, t):
        near = s.position[2][s.position[0] < 0.1 * a]
        log.append((t * np.sqrt(G / a), np.quantile(s.position[0], 0.9995) / a, np.quantile(near, 0.98) / (2 * a)))

    run(p, 46, each)
    tau, front, height = np.array(log).T
    for time, h in COLUMN:
        assert np.interp(time, tau, height) == pytest.approx(h, abs=0.045)
    early = [time - np.sqrt(2) * np.interp(z, front, tau) for time, z in FRONT]
    assert 0.1 < np.mean(early) < 0.55
    assert np.ptp(early) < 0.2, "the same front, shifted in time"


def spinning(viscosity, n, fps=24):
    """How a ball of 0.5 m that turns at 2 / s in empty space turns after frames, as a share of what it began with."""
    spin = lane("spin", ("constant", {"makes": "vector"}), ("formula", {"expression": "0 - 2*y, 2*x, 0"}))
    p = liquid(
        once("b", viscosity=viscosity, velocity_by="spin"), h=0.05, room=((-1, -1, -1), (1, 1, 1)), fields=[spin],
        shapes=[ball("b", 0.5, (0, 0, 0))], fps=fps, end=400, domain={"above": False},
    )  # fmt: skip
    log = []

    def each(s, t):
        x, v = s.position, s.velocity
        log.append((x[0] * v[1] - x[1] * v[0]).sum() / (x[0] ** 2 + x[1] ** 2).sum() / 2)

    _, s = run(p, n, each)
    return np.array(log), s


def test_a_stiff_ball_turns_on():
    """Turning is no strain: viscosity takes nothing from it, at the surface either, where faces have as much mass as
    particles bring. What is lost in half a turn is what a splitting of first order loses, θ² / 2 a substep: .90, .94,
    .95 are left at 24, 48, 96 frames a second (.83, .82, .75 while faces beside the surface had mass of their own)."""
    turned, s = spinning(100.0, 37)
    assert turned[-1] / turned[0] > 0.99 * (1 - (2 / 24) ** 2 / 2) ** 36
    assert np.sqrt((s.position**2).sum(axis=0)).max() < 0.505, "it keeps its size"
    finer, _ = spinning(100.0, 50, fps=96)
    assert (finer[-1] / finer[0]) ** (150 / 49) > 0.94


FLOOR = box("floor", (-3, -3, -1), (3, 3, 0))
STUCK = ("collide", {"shapes": ["floor"], "stick": 1.0})


def spread(column, *, h, off, room, fps, frames, nu=1.0):
    """Times, and the front of a column (width, height) that spreads on a floor `off` of a voxel above a face, over
    x = 1.411 (g q³ t / 3ν)^⅕ per width (Huppert 1982)."""
    lift = off * h
    p = liquid(
        once("c", viscosity=nu), FALLS, STUCK, h=h, room=((0, -2 * h, -4 * h), (room[0], 2 * h, room[1])), fps=fps,
        end=400, shapes=[box("c", (-1, -1, 0), (column[0], 1, column[1] + lift)), floor(lift)],
    )  # fmt: skip
    log = []
    _, s = run(p, frames, lambda s, t: log.append((t, np.quantile(s.position[0], 0.999))))
    t, x = np.array(log).T
    filled = s.count * (h / 2) ** 3 / (4 * h)
    return x / (1.411 * (G * filled**3 * t / (3 * nu)) ** 0.2)


def floor(lift, turn=0.0):
    """A floor whose top is `lift` along its normal above the origin, turned about y by degrees."""
    n = np.array([np.sin(np.radians(turn)), 0, np.cos(np.radians(turn))])
    move = [float(v) for v in n * (lift - 0.5)]
    return {"id": "floor", "kind": "box", "params": {"size": [6, 6, 1], "move": move, "turn": [0, turn, 0]}}


def test_a_viscous_column_spreads_by_the_similarity_law():
    """From what a column is at first the front comes up to the law, at 0.94 of it after 7.5 s, on any floor."""
    for off in (0.0, 0.75):
        front = spread((0.2, 0.4), h=0.025, off=off, room=(1.2, 0.6), fps=12, frames=90)
        assert front[-1] == pytest.approx(0.94, abs=0.03)
        assert (np.diff(front[6:]) > -2e-3).all(), "it comes up to the law"


@pytest.mark.parametrize("off", [0.25, 0.5])
def test_a_thin_layer_spreads_about_as_fast_wherever_its_floor_is(off):
    """Three voxels thick after ten seconds: 0.87 and 0.96 of the law (it ran ahead by 30 and 56 %)."""
    front = spread((0.4, 0.2), h=0.033, off=off, room=(1.4, 0.4), fps=4, frames=40)
    assert front[-1] == pytest.approx(1, abs=0.16)


@pytest.mark.parametrize(
    ("off", "turn", "deep"),
    [(0, 0, 0.2), (0.25, 0, 0.2), (0.5, 0, 0.2), (0.75, 0, 0.2), (0.95, 0, 0.2), (0.75, 0, 0.1), (0.5, 10, 0.2),
     (0.25, 20, 0.2), (0, 30, 0.2)],
)  # fmt: skip
def test_a_film_runs_down_an_incline_as_nusselt_has_it(off, turn, deep):
    """u(z) = g sin α (2 d z − z²) / 2ν, with two and four voxels a depth, on floors at any height within a voxel, and
    turned; d is what there is of it after two thirds of a second."""
    h, nu, alpha = 0.05, 0.05, np.radians(10)
    normal = np.array([np.sin(np.radians(turn)), 0, np.cos(np.radians(turn))])
    along, lift = np.array([normal[2], 0, -normal[0]]), off * h
    top = G * np.sin(alpha) * deep * deep / (2 * nu)
    z = f"({normal[0]}*x+{normal[2]}*z-{lift})"
    u = f"{top}*(2*{z}/{deep} - ({z}/{deep})*({z}/{deep}))"
    film = lane("film", ("constant", {"makes": "vector"}), ("formula", {
        "expression": f"{along[0]}*{u}, 0, {along[2]}*{u}"}))  # fmt: skip
    pull = [float(v) for v in G * (np.sin(alpha) * along - np.cos(alpha) * normal)]
    filled = {"size": [1.9, 2, deep], "move": [float(v) for v in normal * (lift + deep / 2)], "turn": [0, turn, 0]}
    p = liquid(
        ("source", {"shape": "in", "viscosity": nu, "velocity_by": "film"}), ("gravity", {"acceleration": pull}), STUCK,
        h=h, room=((-1.2, -2 * h, -1.4), (1.2, 2 * h, 1.2)), fields=[film], end=200,
        domain={"east": True, "below": True, "west": True},
        shapes=[{"id": "in", "kind": "box", "params": filled}, floor(lift, turn)],
    )  # fmt: skip
    _, s = run(p, 16)
    height, place, speed = normal @ s.position - lift, along @ s.position, along @ s.velocity
    middle = np.abs(place) < 0.35
    d = middle.sum() * (h / 2) ** 3 / (0.7 * 4 * h)
    law = top * (2 * height[middle] * d / deep**2 - (height[middle] / deep) ** 2)
    assert d == pytest.approx(deep, rel=0.08)
    assert speed[middle].mean() == pytest.approx(law.mean(), rel=0.08)
    assert np.sqrt(((speed[middle] - law) ** 2).mean()) < 0.08 * top


def test_the_stiff_half_stays_while_the_thin_half_runs():
    h = 0.05
    p = liquid(
        once("a", viscosity=1000.0), once("b", viscosity=1e-6), FALLS, STUCK, h=h, end=200,
        room=((-0.5, -0.25, -4 * h), (2, 0.25, 0.8)),
        shapes=[box("a", (-1, -1, 0), (0, 1, 0.5)), box("b", (0, -1, 0), (0.5, 1, 0.5)), FLOOR],
    )  # fmt: skip
    first = {}

    def each(s, t):
        if not first:
            first.update(zip(s.id.tolist(), s.position.T.copy(), strict=True))

    _, s = run(p, 24, each)
    stiff = np.flatnonzero(s.born_viscosity > 1)
    known = [i for i in stiff if int(s.id[i]) in first]
    begun = np.array([first[int(s.id[i])] for i in known])
    moved = np.linalg.norm(s.position[:, known].T - begun, axis=1) / h
    assert len(known) > 0.98 * len(stiff)
    assert moved[begun[:, 0] < -0.25].mean() < 0.3, "voxels"
    assert moved.mean() < 0.5
    assert s.position[0][s.born_viscosity < 1].max() > 1.8, "the thin half has run to the wall"


def drop(r, voxels, flip=0.0, **more):
    """A drop of so many voxels a radius, with nothing but its surface tension of 1 m³/s²."""
    room = ((-2 * r, -2 * r, -2 * r), (2 * r, 2 * r, 2 * r))
    rate = 0.8 * (0.2 / r) ** 1.5
    return liquid(
        once("d", **more), ("surface_tension", {"tension": 1.0}), h=r / voxels, fps=120, end=9000, room=room,
        shapes=[ball("d", r, (0, 0, 0))], domain={"above": False, "most_substeps": 256, "flip": flip},
        fields=[lane("squeeze", ("constant", {"makes": "vector"}), (
            "formula", {"expression": f"{0 - rate}*x, {0 - rate}*y, {2 * rate}*z"}))],
    )  # fmt: skip


@pytest.mark.parametrize(("r", "voxels", "frames"), [(0.2, 7, 50), (0.2, 4, 50), (0.3, 4, 90)])
def test_a_drop_swings_and_more_slowly_the_larger_it_is(r, voxels, frames):
    """Rayleigh's period 2π √(R³ / 8σ), of the sine that fits its swings: 1.02 times as long at seven voxels a radius,
    1.03 at four."""
    log = []

    def each(s, t):
        x = s.position
        log.append((t, (x[2] ** 2).mean() - 0.5 * ((x[0] ** 2).mean() + (x[1] ** 2).mean())))

    run(drop(r, voxels, velocity_by="squeeze"), frames, each)
    t, x = np.array(log).T
    rate = np.sqrt(8 / r**3)
    (_, swings, *_), _ = curve_fit(
        lambda t, size, w, fade, phase, rest: size * np.exp(-fade * t) * np.sin(w * (t - t[0]) + phase) + rest,
        t, x / r**2, p0=[0.03, rate, 1, 0, 0],
    )  # fmt: skip
    assert rate / swings == pytest.approx(1.05, abs=0.05)


@pytest.mark.parametrize(("flip", "voxels", "frames"), [(0.0, 7, 50), (0.0, 4, 100), (0.95, 4, 100)])
def test_a_drop_that_rests_stays_as_it_is(flip, voxels, frames):
    """Two to four periods of its swing, at a hundredth of the speed of its waves, with no way outward. (What is loose
    at the surface was blown away before: speeds of 0.17, 0.5 and 1.2 of that of its waves after 40 frames.)"""
    r, speed = 0.2, np.sqrt(1 / 0.2)
    p = drop(r, voxels, flip)
    _, s = run(p, frames)
    away = np.sqrt(((s.position - s.position.mean(axis=1, keepdims=True)) ** 2).sum(axis=0))
    drift = s.velocity.mean(axis=1)
    assert np.sqrt(((s.velocity - drift[:, None]) ** 2).sum(axis=0).mean()) < 0.03 * speed
    assert np.linalg.norm(drift) < (0.1 if flip else 0.02) * speed, "0.05 with FLIP on four voxels: what is left"
    assert np.quantile(away, 0.999) < 1.15 * r
    assert away.mean() == pytest.approx(0.75 * r, rel=0.02)


@pytest.mark.parametrize("flip", [0.0, 0.95])
def test_ten_seconds_of_sloshing_keep_the_volume(flip):
    """Within 1 % of what was filled and did not splash out; the liquid that rests is not thinner than it was."""
    p = liquid(
        once("fill"), FALLS, h=0.08, room=((-1, -0.24, 0), (1, 0.24, 1.6)), end=300, domain={"flip": flip, **CLOSED},
        shapes=[box("fill", (-1.2, -1, -1), (-0.2, 1, 0.8))],
    )  # fmt: skip
    gained = []
    _, s = run(p, 240, lambda s, t: gained.append(s.pace["gained"]))
    assert np.abs(gained).max() < 0.01
    assert sum(s.left) == 0
    assert 0.18 < s.position[2].mean() < 0.24, "0.2 m when it is level"


def test_frames_a_second_change_no_more_than_the_substeps_do():
    fronts, levels = [], []
    for fps in (12, 24, 48):
        p = liquid(
            once("fill"), FALLS, h=0.05, room=((0, -0.1, 0), (3, 0.1, 1)), fps=fps, end=200,
            shapes=[box("fill", (-1, -1, -1), (0.5, 1, 0.5))],
        )  # fmt: skip
        _, s = run(p, fps // 2)
        fronts.append(np.quantile(s.position[0], 0.999))
        levels.append(s.position[2].mean())
    assert np.ptp(fronts) < 0.05 * fronts[0]
    assert np.ptp(levels) < 0.05 * levels[0]


def test_a_thick_sheet_folds_where_it_lands():
    """A plane jet 0.05 m wide that falls 0.7 m slowly (Reynolds 0.06, fourteen widths) buckles (Cruickshank 1988: below
    0.56 and above 8.8 widths); its half wave is between two and six widths, 0.22 m at four voxels across."""
    wide, high, h = 0.05, 0.7, 0.0125
    jet = ("source", {"shape": "slot", "viscosity": 0.5, "velocity": [0.01, 0, -0.6]})
    p = liquid(
        jet, ("gravity", {"acceleration": [0, 0, -1.0]}), STUCK, h=h, end=200,
        room=((-0.5, -2 * h, -4 * h), (0.5, 2 * h, 0.85)),
        shapes=[box("slot", (-wide / 2, -1, high), (wide / 2, 1, high + 0.06)), FLOOR],
    )  # fmt: skip
    _, s = run(p, 64)
    x, z = s.position[0], s.position[2]
    heights = np.arange(0.12, 0.66, 0.02)
    line = np.array([x[np.abs(z - at) < 0.01].mean() for at in heights])
    assert np.ptp(line) > wide, "it swings by more than its width"
    half = abs(heights[line.argmax()] - heights[line.argmin()])
    assert 0.12 < half < 0.28
