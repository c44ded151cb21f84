"""Known answers of pictures without a screen: rays, light, smoke, water, lines, colours; and what cannot be drawn."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from errant_gust.core.errors import Cancelled, GustError
from errant_gust.core.kernels.rays import what_is_met
from errant_gust.core.kernels.wet import bent, mirrored
from errant_gust.core.pictures import cloud as clouds
from errant_gust.core.pictures.bodies import body_colour, body_colours
from errant_gust.core.pictures.camera import FILLS, FRONT, Camera, View
from errant_gust.core.pictures.cloud import Cloud, finer, octaves
from errant_gust.core.pictures.colours import coloured, hexed, linear
from errant_gust.core.pictures.developing import developed
from errant_gust.core.pictures.mesh import Mesh, tree_of
from errant_gust.core.pictures.render import Balls, Staged, Streaks, light_of, render
from errant_gust.core.pictures.setting import FIRE, KEY, SMOKE, SURFACE, Setting
from errant_gust.core.pictures.taking import check_size

BOX = np.full(3, -1.0), np.full(3, 1.0)
DARK = Setting(0, 0, 0, 150, 40, 0, 0.5, (0.25, 0.5, 1.0), (0.25, 0.5, 1.0), bloom=0)
"""Nothing but a sky that is the same everywhere and lights nothing."""
FACES = np.array([[0, 1, 2], [0, 2, 3]], np.int32)


def front(size=(48, 32)):
    return Camera.around(BOX, FRONT, size)


def sheet(corners, colour=(0.5, 0.5, 0.5)):
    return Mesh(np.array(corners, np.float32), FACES, np.tile(np.float32(colour), (4, 1)))


def fog(sigma, shape=(8, 8, 8), h=0.25, lower=(-1, -1, -1), tint=0.0, **more):
    facts = {"kelvin": None, "tinted": None, "glow": 0, "cold": 200, "hot": 1200, "warm": 1, "onward": 0.0, **more}
    thick = np.full(shape, sigma, np.float32)
    return Cloud(np.array(lower, float), np.eye(3), h, thick, tint=np.full(3, tint), **facts)


# rays ----------------------------------------------------------------------------------------------------------------


def brute(corner, origin, way):
    """The nearest triangle that a ray meets, by solving for each."""
    best, which = np.inf, -1
    for n, (a, b, c) in enumerate(corner.astype(float)):
        system = np.column_stack([-way, b - a, c - a])
        if abs(np.linalg.det(system)) < 1e-12:
            continue
        t, u, v = np.linalg.solve(system, origin - a)
        if t > 0 and u >= 0 and v >= 0 and u + v <= 1 and t < best:
            best, which = t, n
    return best, which


@settings(max_examples=25, deadline=None)
@given(seed=st.integers(0, 10_000), count=st.integers(0, 60), flat=st.booleans())
def test_a_ray_meets_what_is_nearest(seed, count, flat):
    dice = np.random.default_rng(seed)
    corner = dice.uniform(-1, 1, (count, 3, 3)).astype(np.float32)
    if flat:  # all in one plane, and some the same
        corner[:, :, 2] = 0
        corner[: count // 3] = corner[count // 2 : count // 2 + 1]
    origins = dice.uniform(-2, 2, (20, 3)).astype(np.float32)
    ways = dice.normal(0, 1, (20, 3)).astype(np.float32)
    ways[0] = (0, 0, -1)
    distance, which = np.empty(20, np.float32), np.empty(20, np.int32)
    tree = tree_of(corner)
    what_is_met(tree, origins, ways, np.float32(3e38), np.empty(64, np.int32), distance, which)
    for i in range(20):
        far, n = brute(corner, origins[i].astype(float), ways[i].astype(float))
        if n < 0:
            assert which[i] < 0
        else:
            assert distance[i] == pytest.approx(far, rel=1e-3, abs=1e-4)


# cameras -------------------------------------------------------------------------------------------------------------


@settings(max_examples=40, deadline=None)
@given(
    azimuth=st.floats(-360, 360), height=st.floats(-80, 90), wide=st.integers(40, 400), high=st.integers(40, 400),
    size=st.tuples(*[st.floats(0.01, 5)] * 3),
)  # fmt: skip
def test_a_box_is_whole_in_a_picture_and_fills_it(azimuth, height, wide, high, size):
    box = np.array([3.0, -2, 1]), np.array([3.0, -2, 1]) + size
    made = Camera.around(box, View(azimuth, height), (wide, high))
    numbers = made.numbers((wide, high)).astype(float)
    eye, ahead, right, up = (numbers[3 * k : 3 * k + 3] for k in range(4))
    off = np.array([[box[i][0], box[j][1], box[k][2]] for i in (0, 1) for j in (0, 1) for k in (0, 1)]) - eye
    z = off @ ahead
    x, y = off @ right / z / (right @ right), off @ up / z / (up @ up)
    assert (z > 0).all()
    reach = max(np.abs(x).max(), np.abs(y).max())
    assert reach == pytest.approx(FILLS, rel=1e-3)


def test_what_no_camera_can_be_is_said():
    with pytest.raises(GustError, match="nowhere"):
        Camera((np.nan, 0, 0), (0, 0, 0))
    with pytest.raises(GustError, match="lens"):
        Camera((0, 0, 0), (0, 1, 0), 0)
    for size in ((0, 100), (100_000, 100), (8000, 8000)):
        with pytest.raises(GustError, match="pixels"):
            check_size(size)


# smoke ---------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("sigma", [0.05, 0.4, 1.3])
def test_light_through_a_slab_is_what_beer_and_lambert_say(sigma):
    made = light_of(Staged(BOX, None, clouds=[fog(sigma)]), front(), DARK, (48, 32))
    middle = made[16, 24] / np.array([0.25, 0.5, 1.0])
    assert middle == pytest.approx(np.exp(-2 * sigma) * np.ones(3), rel=2e-3)
    assert made[0, 0] == pytest.approx([0.25, 0.5, 1.0], rel=1e-5)


@pytest.mark.parametrize("at", [-0.93, -0.31, 0.17, 0.77])
def test_smoke_before_a_wall_ends_where_the_wall_stands(at):
    """Wherever it stands in a voxel: what is behind it is not added."""
    wall = sheet([(-9, at, -9), (9, at, -9), (9, at, 9), (-9, at, 9)])
    lit = Setting(0, 1, 0, 150, 40, 0, 0.5, (1, 1, 1), (1, 1, 1), bloom=0)
    alone = light_of(Staged(BOX, None, [wall]), front(), lit, (48, 32))[16, 24]
    within = light_of(Staged(BOX, None, [wall], clouds=[fog(0.8)]), front(), lit, (48, 32))[16, 24]
    assert alone.min() > 0.01
    assert within / alone == pytest.approx(np.exp(-0.8 * (at + 1)) * np.ones(3), rel=5e-3)


@pytest.mark.parametrize("way", [(0, 0, 1), (0.3, -0.2, 1), (1, 0.4, 0.1), (-0.2, -1, 0.5)])
def test_depth_toward_the_light_is_that_of_a_slab(way):
    """In the middle of a slab that is wide against its thickness: τ = σ z / cos."""
    way = np.array(way) / np.linalg.norm(way)
    axis = int(np.argmax(np.abs(way)))
    shape = [41, 41, 41]
    shape[axis] = 8
    thick = np.full(shape, 0.1, np.float32)
    found = clouds._toward(thick, way)
    middle = [n // 2 for n in shape]
    for k in range(8):
        middle[axis] = k
        layers = (8 - k if way[axis] > 0 else k + 1) - 0.5
        assert found[tuple(middle)] == pytest.approx(0.1 * layers / abs(way[axis]), rel=1e-4)


def test_the_phase_sends_on_what_comes_in():
    """In the mean over all ways it is 1, whatever the onward share; and each octave is weaker by its factor."""
    a = 0.30 + 0.62 * (0.8 - 0.7)
    for onward in (-0.6, 0.0, 0.35, 0.9):
        table = octaves(onward, 4001, 0.8)
        mean = np.trapezoid(table[:, 0], np.linspace(-1, 1, 4001)) / 2
        assert mean == pytest.approx(0.8 * (1 - a**8) / (1 - a), rel=2e-3)
    forward = octaves(0.5, 3, 0.8)[:, 0]
    assert forward[2] > 2 * forward[1] > 2 * forward[0]


def test_smoke_is_brighter_toward_a_light_behind_it_the_more_it_scatters_onward():
    behind, before = (Setting(1, 0, 0, turn, 10, 0, 0.5, (0, 0, 0), (0, 0, 0), bloom=0) for turn in (180, 0))
    thin = {n: fog(0.05, tint=0.8, onward=n) for n in (0.0, 0.6)}
    light = {
        (n, s is behind): light_of(Staged(BOX, None, clouds=[thin[n]]), front(), s, (48, 32))[16, 24, 0]
        for n in thin for s in (behind, before)
    }  # fmt: skip
    assert light[0.0, True] == pytest.approx(light[0.0, False], rel=0.02)
    assert light[0.6, True] > 3 * light[0.0, True]
    assert light[0.6, False] < 0.6 * light[0.0, False]


def test_twice_as_fine_goes_through_what_is_even_and_keeps_its_sum():
    ramp = np.broadcast_to(np.arange(12, dtype=np.float32)[:, None, None], (12, 3, 4))
    made = finer(ramp)
    assert made.shape == (24, 6, 8)
    assert made[4:20, 2, 3] == pytest.approx(np.arange(4, 20) / 2 - 0.25, abs=1e-5)
    x = np.mgrid[-1:1:14j, -1:1:14j, -1:1:14j]
    puff = np.exp(-8 * (x**2).sum(0)).astype(np.float32)
    assert finer(puff).sum() == pytest.approx(8 * puff.sum(), rel=2e-3)


def test_fire_lights_what_stands_beside_it_as_the_square_of_the_distance():
    glowing = {"kelvin": np.full((8, 8, 8), 900.0, np.float32), "glow": 1.0}
    fire = fog(0.0, h=0.02, lower=(-0.08, -0.08, 0.5 - 0.08), **glowing)
    near, far = (
        light_of(Staged(BOX, z, clouds=[fire]), Camera((0.3, 0, z + 0.2), (0, 0, z), 60), DARK, (32, 32))[16, 16, 0]
        for z in (0.0, -0.5)
    )
    assert near > 0
    assert near / far == pytest.approx(4, rel=0.12)


# surfaces ------------------------------------------------------------------------------------------------------------


def test_a_surface_takes_the_key_as_lambert_says():
    lit = Setting(1, 0, 0, 30, 50, 0, 0.5, (0, 0, 0), (0, 0, 0), bloom=0)
    numbers = lit.numbers(-90, None)
    way = numbers[:3].astype(float)
    for normal in ((0, -1, 0), (0.5, -1, 0.3), (-0.6, -1, 0.9), (0.2, -1, -2)):
        n = np.array(normal) / np.linalg.norm(normal)
        a = np.cross(n, (0, 0, 1))
        b = np.cross(n, a)
        wall = sheet([x * a + y * b for x, y in ((-1, -1), (1, -1), (1, 1), (-1, 1))], (0.2, 0.4, 0.6))
        made = light_of(Staged(BOX, None, [wall]), front(), lit, (48, 32))[16, 24]
        assert made == pytest.approx(np.array([0.2, 0.4, 0.6]) * KEY * max(n @ way, 0), rel=2e-3, abs=1e-4)


def test_a_ball_is_as_dark_as_its_side_looks_away():
    lit = Setting(1, 0, 0, 0, 10, 0, 0.5, (0, 0, 0), (0, 0, 0), bloom=0)
    mesh = fine_ball(1.0)
    made = light_of(Staged(BOX, None, [mesh]), front((96, 64)), lit, (96, 64))
    camera = front((96, 64))
    numbers = camera.numbers((96, 64)).astype(float)
    key = lit.numbers(-90, None)[:3]
    for j, i in ((20, 40), (32, 48), (30, 60), (45, 50)):
        way = numbers[3:6] + ((i + 0.5) / 48 - 1) * numbers[6:9] + (1 - (j + 0.5) / 32) * numbers[9:]
        b, eye = way @ numbers[:3], numbers[:3]
        t = (-b - np.sqrt(b * b - (way @ way) * (eye @ eye - 1))) / (way @ way)
        n = eye + t * way
        assert made[j, i, 0] == pytest.approx(0.5 * 0.95 * max(n @ key, 0), abs=0.012)


def fine_ball(radius):
    """A fine sphere of triangles."""
    u, v = np.meshgrid(np.linspace(0, 2 * np.pi, 97), np.linspace(0.0, np.pi, 49), indexing="ij")
    points = radius * np.stack([np.sin(v) * np.cos(u), np.sin(v) * np.sin(u), np.cos(v)], -1).reshape(-1, 3)
    a = np.arange(96 * 48) // 48 * 49 + np.arange(96 * 48) % 48
    faces = np.concatenate([np.column_stack([a, a + 49, a + 50]), np.column_stack([a, a + 50, a + 1])])
    return Mesh(points.astype(np.float32), faces.astype(np.int32), np.full((len(points), 3), 0.5, np.float32))


def test_a_shadow_lies_where_the_light_is_stopped():
    """A plate half a metre over the ground, lit from 45°: its shadow begins half a metre further."""
    lit = Setting(1, 0, 0, 0, 45, 0, 0.5, (0, 0, 0), (0, 0, 0), bloom=0)
    plate = sheet([(-0.4, -0.4, 0.5), (0.4, -0.4, 0.5), (0.4, 0.4, 0.5), (-0.4, 0.4, 0.5)])
    size = (160, 160)
    camera = Camera((0, -0.001, 6), (0, 0, 0), 72)  # from above; +y is up, the key comes from −y
    made = light_of(Staged(BOX, 0.0, [plate]), camera, lit, size)[:, :, 0]
    metres = 6 * 0.5 * 36 / 72 / 80  # a pixel on the ground
    row = lambda y: 80 - y / metres  # noqa: E731
    column = made[:, 80]
    lit_there = column[int(row(1.3))]
    assert column[int(row(0.75))] < 0.1 * lit_there, "in the shadow only what comes back from below"
    dark = np.flatnonzero(column < 0.5 * lit_there)
    assert dark.min() == pytest.approx(row(0.9), abs=1.5)


def test_grains_shade_each_other_and_the_ground():
    lit = Setting(1, 0.5, 0, 0, 45, 0, 0.5, (0, 0, 0), (0, 0, 0), bloom=0)
    places = np.random.default_rng(1).uniform((-0.4, -0.4, 0.1), (0.4, 0.4, 0.9), (4000, 3))
    heap = Balls(places, np.full(4000, 0.03), np.full((4000, 3), 0.5))
    camera = Camera((0, -0.001, 6), (0, 0, 0), 72)
    made = light_of(Staged(BOX, 0.0, balls=heap), camera, lit, (80, 80))[:, :, 0]
    behind, beside = made[40 - 24, 40], made[40 + 24, 40]  # 0.9 m to the far side of the key, and to its own
    assert behind < 0.35 * beside


# water ---------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("degrees", [0.01, 45.0, 80.0])
def test_as_much_is_mirrored_as_fresnel_says(degrees):
    """By the other form of his equations: sines and tangents of sums and differences."""
    i = np.radians(degrees)
    t = np.arcsin(np.sin(i) / 1.33)
    crossed = (np.sin(i - t) / np.sin(i + t)) ** 2
    along = (np.tan(i - t) / np.tan(i + t)) ** 2
    assert mirrored(np.float32(np.cos(i)), np.float32(1.33)) == pytest.approx(0.5 * (crossed + along), rel=1e-3)
    assert mirrored(np.float32(0.1), np.float32(1 / 1.33)) == 1, "out of water at a grazing angle nothing leaves"


def test_light_is_bent_as_snell_says():
    i = np.radians(50)
    x, _, z = bent(*(np.float32(v) for v in (np.sin(i), 0, -np.cos(i), 0, 0, 1, 1.33)))
    assert x == pytest.approx(np.sin(i) / 1.33, rel=1e-4)
    assert z == pytest.approx(-np.sqrt(1 - x * x), rel=1e-4)


def test_what_lies_under_water_is_seen_higher():
    """A ruler's edge on the ground, through half a metre of water: moved by d (tan i − tan t)."""
    lit = Setting(0, 1, 0, 0, 60, 0, 0.0, (0, 0, 0), (0, 0, 0), bloom=0)
    ruler = sheet([(-1, 0, 0.0), (1, 0, 0.0), (1, 3, 0.0), (-1, 3, 0.0)], (0.8, 0.8, 0.8))
    box = np.array([[x, y, z] for x in (-2, 2) for y in (-2, 2) for z in (-0.01, 0.5)], np.float32)
    faces = np.array([[0, 2, 3], [0, 3, 1], [4, 5, 7], [4, 7, 6], [0, 1, 5], [0, 5, 4], [2, 6, 7], [2, 7, 3],
                      [1, 3, 7], [1, 7, 5], [0, 4, 6], [0, 6, 2]], np.int32)  # fmt: skip
    water = Mesh(box, faces, np.ones((8, 3), np.float32))
    camera, size = Camera((0, -4, 4.5), (0, 0, 0.5), 400), (32, 320)
    made = light_of(Staged(BOX, None, [ruler], water=water, deep=1e6), camera, lit, size)[:, 16, 0]
    dry = light_of(Staged(BOX, None, [ruler]), camera, lit, size)[:, 16, 0]
    edges = [int(np.argmax(np.abs(np.diff(c)))) for c in (made, dry)]
    numbers = camera.numbers(size).astype(float)

    def met(row, height):
        way = numbers[3:6] + (1 - (row + 1) / 160) * numbers[9:]
        return numbers[:3] + (height - numbers[2]) / way[2] * way, way / np.linalg.norm(way)

    assert met(edges[1], 0.0)[0][1] == pytest.approx(0, abs=0.01)
    top, way = met(edges[0], 0.5)
    sine = way[1] / 1.33
    assert top[1] + 0.5 * sine / np.sqrt(1 - sine * sine) == pytest.approx(0, abs=0.015)


# lines and colours ---------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("turn", [0, 17, 45, 90])
def test_a_line_covers_as_much_as_it_is_wide_and_long(turn):
    a = np.radians(turn)
    way = np.array([[np.cos(a), 0, np.sin(a)]])
    camera, size = Camera((0, -5, 0), (0, 0, 0), 90), (200, 200)
    scale = 100 / (5 * 18 / 90)
    streaks = Streaks(-0.4 * way, 0.4 * way, np.full((1, 3), 7.0), 3 * 960 / 200, False)
    sky = Setting(1, 0, 0, 0, 0, 0, 0.5, (0, 0, 0), (0, 0, 0), bloom=0)
    made = light_of(Staged(BOX, None, streaks=[streaks]), camera, sky, size)[:, :, 0]
    covered = made.sum() / made.max()
    assert covered == pytest.approx(3 * 0.8 * scale + np.pi * 1.5**2, rel=0.025)


def test_what_glows_adds_the_same_light_however_long_its_streak():
    camera, size = Camera((0, -5, 0), (0, 0, 0), 90), (200, 200)
    dark = Setting(0, 0, 0, 0, 0, 0, 0.5, (0, 0, 0), (0, 0, 0), bloom=0)
    sums = []
    for long in (0.1, 0.4, 0.8):
        streaks = Streaks(np.array([[-long / 2, 0, 0]]), np.array([[long / 2, 0, 0]]), np.ones((1, 3)), 20.0, True)
        sums.append(light_of(Staged(BOX, None, streaks=[streaks]), camera, dark, size).sum())
    assert max(sums) < 1.2 * min(sums)


@pytest.mark.parametrize(("kelvin", "x", "y"), [(3000, 0.4369, 0.4041), (4000, 0.3805, 0.3768), (6500, 0.3135, 0.3237)])
def test_a_black_body_has_the_colour_of_its_temperature(kelvin, x, y):
    """Chromaticities of Planck's law seen by the observer of 1931, as tables of it have them."""
    to_xyz = np.array([[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]])
    found = to_xyz @ body_colour(kelvin)
    assert found[:2] / found.sum() == pytest.approx([x, y], abs=0.003)
    assert body_colours(np.array([float(kelvin)]))[0] == pytest.approx(body_colour(kelvin), abs=0.003)


@pytest.mark.parametrize("sigma", [0.2, 1.0])
def test_smoke_before_sparks_leaves_of_them_what_beer_and_lambert_say(sigma):
    """Two metres of smoke that sends no light, and sparks behind, within and before it."""
    camera = Camera((0, -9, 0), (0, 0, 0))
    for y, depth in ((2.0, 2.0), (0.0, 1.0), (-2.0, 0.0)):
        spark = Streaks(np.array([[-0.05, y, 0]]), np.array([[0.05, y, 0]]), np.ones((1, 3)), 3.0, True)
        dark = replace(DARK, above=(0, 0, 0), horizon=(0, 0, 0))
        alone = light_of(Staged(BOX, None, streaks=[spark]), camera, dark, (96, 60)).max()
        veiled = light_of(Staged(BOX, None, clouds=[fog(sigma)], streaks=[spark]), camera, dark, (96, 60)).max()
        assert veiled / alone == pytest.approx(np.exp(-sigma * depth), rel=0.02), f"at y = {y}"


def test_of_two_clouds_the_nearer_covers_the_other_in_whatever_order_they_are_named():
    thin, thick = fog(0.5, lower=(-1, 1.5, -1)), fog(1.0, lower=(-1, -3.5, -1))
    camera = Camera((0, -12, 0), (0, 0, 0))
    box = np.array([-1.0, -3.5, -1]), np.array([1.0, 3.5, 1])
    made = [light_of(Staged(box, None, clouds=c), camera, DARK, (48, 32)) for c in ([thin, thick], [thick, thin])]
    assert (made[0] == made[1]).all()
    assert made[0][16, 24] == pytest.approx(np.exp(-3.0) * np.array(DARK.above), rel=0.02), "both take their part"


def test_a_cloud_lies_in_the_shade_of_another():
    """Lit from above through another one of an optical depth of 1.6."""
    # wide: the borders of its shade are as soft as the cells that shade is counted in
    above, below = fog(0.8, (24, 24, 8), lower=(-3, -3, 2)), fog(0.02, tint=0.8)
    lit = replace(DARK, key=1.0, height=90.0, above=(0, 0, 0), horizon=(0, 0, 0))
    box = np.array([-1.0, -1, -1]), np.array([1.0, 1, 4])
    camera = Camera((0, -9, 0), (0, 0, 0))
    free = light_of(Staged(box, None, clouds=[below]), camera, lit, (64, 64))[32, 32]
    shaded = light_of(Staged(box, None, clouds=[below, above]), camera, lit, (64, 64))[32, 32]
    assert shaded / free == pytest.approx(np.full(3, np.exp(-1.6)), rel=0.03)


def bare(**said):
    """A setting that shows light as it is, but for what is said."""
    return replace(SMOKE, **({"exposure": 0.0, "bloom": 0.0} | said))


def seen(light, setting):
    """Light that a screen shows of light (n, 3), each over a whole small picture: the mean of its bytes, undone."""
    made = [developed(np.broadcast_to(np.float32(one), (16, 16, 3)).copy(), setting) for one in light]
    return np.array([linear(m.reshape(-1, 3).mean(axis=0) / 255) for m in made])


def test_a_curve_keeps_what_is_dark_and_never_reaches_white():
    light = np.linspace(0, 40, 120)[:, None] * np.array([1.0, 0.6, 0.2])
    dark = np.array([[0.01, 0.1, 0.3], [0.45, 0.2, 0.1], [0.2, 0.499, 0.3]])
    assert seen(dark, bare()) == pytest.approx(dark, abs=0.004)
    made = seen(light, bare())
    assert made.max() < 1
    assert (np.diff(made[:, 0]) >= -0.002).all()
    # by the strongest, but for 0.15 of it: (1 - 0.15) u 0.6 / 1 + 0.15 b(0.6 u), u = b(8), b = p to a half, then bent
    u, green = 0.5 + 0.5 * 15 / 16, 0.5 + 0.5 * 8.6 / 9.6
    assert seen(np.array([[8.0, 4.8, 0]]), bare())[0, 1] == pytest.approx(0.85 * 0.6 * u + 0.15 * green, abs=0.006)
    assert seen(np.array([[0.7, 0.2, 0.1]]), bare(plain=True))[0] == pytest.approx([0.7, 0.2, 0.1], abs=0.005)


def test_contrast_turns_about_a_middle_grey_and_edges_darken():
    light = np.array([[0.18, 0.18, 0.18], [0.09, 0.045, 0], [0.36, 0.1, 0]])
    made = seen(light, bare(contrast=2.0, plain=True))
    assert made[0] == pytest.approx(light[0], abs=0.003)
    assert made[1] == pytest.approx(light[1] / 2, abs=0.003)
    assert made[2] == pytest.approx(light[2] * 2, abs=0.006, rel=0.03)
    even = np.full((90, 160, 3), 0.4, np.float32)
    fallen = linear(developed(even, bare(edges=0.5)) / 255)
    assert fallen[45, 80] == pytest.approx(0.4, abs=0.006)
    # over the square of 1 + e r², r one in the corners
    assert fallen[:2, :2].mean() == pytest.approx(0.4 / 1.5**2, abs=0.006)


def test_colours_are_those_of_the_map():
    made = coloured(np.array([0.0, 5.0, 10.0, np.nan]), 0.0, 10.0, "sequential", "", "")
    assert made[0] == pytest.approx(linear(np.array([13, 27, 62]) / 255))
    assert made[2] == pytest.approx(linear(np.array([255, 236, 120]) / 255))
    assert made[1] == pytest.approx(linear(np.array([118, 123, 116]) / 255))
    mixed = coloured(np.array([1.0, 1.0]), None, None, "mix", "#000000", "#ffffff")
    assert mixed == pytest.approx(np.zeros((2, 3)))
    assert hexed("nonsense") == pytest.approx(hexed("#b2b2b2"), abs=0.01)


# all together --------------------------------------------------------------------------------------------------------


def everything():
    dice = np.random.default_rng(4)
    hot = dice.uniform(0, 1200, (12, 10, 8)).astype(np.float32)
    burning = fog(0.7, (12, 10, 8), 0.1, (-0.5, -0.4, -0.3), 0.8, kelvin=hot, glow=1.0, onward=0.3)
    water = fine_ball(0.4)
    water = Mesh(water.vertices + np.float32([0.6, -0.6, 0]), water.faces, water.colours)
    places = dice.uniform(-1, 1, (300, 3))
    streaks = Streaks(places, places + 0.1, dice.uniform(0, 1, (300, 3)), 2.0, True)
    balls = Balls(dice.uniform(-1, 0, (200, 3)), np.full(200, 0.05), dice.uniform(0, 1, (200, 3)))
    return Staged(BOX, -1.0, [fine_ball(0.3)], balls, [burning], [streaks], water, 0.2)


def test_a_picture_has_the_same_bits_on_any_number_of_threads(monkeypatch):
    made = []
    for threads in (1, 2, 3):
        monkeypatch.setenv("ERRANT_GUST_THREADS", str(threads))
        made.append(render(everything(), front((97, 61)), FIRE, (97, 61)))
    assert (made[0] == made[1]).all()
    assert (made[0] == made[2]).all()
    assert len(np.unique(made[0].reshape(-1, 3), axis=0)) > 500


@pytest.mark.parametrize(
    ("eye", "target"),
    [
        ((0, 0, 0), (1, 0, 0)),
        ((0, 0, 0), (0, 0, -1)),
        ((0, 0, -3), (0, 0, 0)),
        ((0.3, 0, 0), (0.3, 0, 0)),
        ((1e6, 0, 9), (0, 0, 0)),
    ],
)
def test_a_camera_may_stand_anywhere(eye, target):
    """In smoke, in a shape, below the ground, on what it looks at, far off."""
    made = render(everything(), Camera(eye, target), FIRE, (64, 40))
    assert made.shape == (40, 64, 3)
    light = light_of(everything(), Camera(eye, target), FIRE, (64, 40))
    assert np.isfinite(light).all()
    assert (light >= 0).all()


def test_a_triangle_that_goes_past_the_camera_is_cut_there():
    ground = sheet([(-50, -50, -1), (50, -50, -1), (50, 50, -1), (-50, 50, -1)])
    made = light_of(Staged(BOX, None, [ground]), Camera((0, 0, 0), (0, 1, 0)), DARK, (64, 40))
    assert (made[25:] == 0).all(), "below the horizon it is seen, and nothing lights it"
    assert made[:18] == pytest.approx(np.broadcast_to(np.float32([0.25, 0.5, 1.0]), (18, 64, 3)))


def test_what_stands_nowhere_is_left_out():
    bad = everything()
    bad.balls.centre[::7] = np.nan
    bad.balls.centre[1::7] = np.inf
    bad.streaks[0].begin[::5] = np.nan
    bad.streaks[0].end[1::5] = 1e30
    bad.meshes[0].vertices[::9] = np.nan
    made = light_of(bad, front((64, 40)), FIRE, (64, 40))
    assert np.isfinite(made).all()


def test_smoke_in_a_good_light_does_not_clip():
    x = np.mgrid[-1:1:24j, -1:1:24j, -1:1:24j]
    puff = Cloud(np.full(3, -1.0), np.eye(3), 2 / 24, (14 * np.maximum(1 - (x**2).sum(0), 0)).astype(np.float32), None,
                 np.full(3, 0.87), None, 0, 200, 1200, 1, 0.35)  # fmt: skip
    made = render(Staged(BOX, -1.0, clouds=[puff]), Camera.around(BOX, View(), (96, 60)), SMOKE, (96, 60))
    assert (made.min(axis=2) >= 254).mean() <= 0.02
    assert made[20:40, 40:56].mean() > 80, "and is no grey haze"


def test_a_picture_is_stopped():
    calls = iter([False, False, True])
    with pytest.raises(Cancelled):
        render(everything(), front(), SURFACE, (48, 32), cancel=lambda: next(calls))


def test_what_is_no_number_is_black():
    assert (developed(np.full((4, 4, 3), np.nan, np.float32), SMOKE) <= 1).all()
