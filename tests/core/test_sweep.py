"""Sweeps: values, versions, readings, the contact sheet."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from errant_gust.core.errors import GustError
from errant_gust.core.flows.kind import kind_of
from errant_gust.core.looking.contact_sheet import Tile, contact_sheet
from errant_gust.core.pictures.camera import FRONT
from errant_gust.core.pictures.stage import Stage
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.run_readings import readings_of
from errant_gust.core.runs.sweep import Vary, combinations, label, read_vary, variable, variant
from errant_gust.core.study.building import lane
from errant_gust.core.study.document import parse
from tests.studies import data

FLOW = {
    **lane("dust", ("emit", {"shape": "ball", "where": "volume", "timing": "all at once", "count": 4000, "life": 9.0}),
           ("carry", {"field": "wind"})),
    "kind": "particles",
}  # fmt: skip


def study(**more):
    return parse(data(
        lane("swirl", ("curl_noise", {"seed": 1})), lane("wind", ("wind", {"speed": 1.5, "toward": 0})),
        flows=[FLOW], clock={"fps": 24, "start": 1, "end": 4}, **more,
    ))  # fmt: skip


@pytest.mark.parametrize(
    ("text", "values"),
    [
        ("fields.a.b.seed=1,2,3", (1, 2, 3)),
        ("fields.a.b.size=0.5, 1e-1", (0.5, 0.1)),
        ("fields.a.b.size=0.2:2:4", (0.2, 0.8, 1.4, 2.0)),
        ("fields.a.b.basis=simplex,waves", ("simplex", "waves")),
        ("fields.a.b.even=on,off", (True, False)),
        ("fields.a.b.drift=[0 0 1],[1, 0, 0]", ([0.0, 0.0, 1.0], [1.0, 0.0, 0.0])),
    ],
)
def test_values_are_read(text, values):
    made = read_vary(text)
    assert made.values == values
    assert made.path == text.split("=")[0]


@pytest.mark.parametrize("text", ["", "fields.a.b.seed", "=1,2", "fields.a.b.size=0:1:1", "fields.a.b.size=0:1:2.5"])
def test_what_varies_nothing_is_told(text):
    with pytest.raises(GustError):
        read_vary(text)


def test_all_values_with_all_others():
    made = combinations([Vary("a", (1, 2)), Vary("b", ("x", "y", "z"))])
    assert len(made) == 6
    assert made[:2] == [{"a": 1, "b": "x"}, {"a": 1, "b": "y"}]
    with pytest.raises(GustError, match="varies twice"):
        combinations([Vary("a", (1, 2)), Vary("a", (3,))])
    with pytest.raises(GustError, match="10,000 runs"):
        combinations([Vary("a", tuple(range(100))), Vary("b", tuple(range(100)))])
    with pytest.raises(GustError, match="without a number"):
        combinations([Vary("a", (), (0.0, 1.0))])


@given(st.integers(2, 60), st.integers(0, 1000), st.floats(-5, 5), st.floats(0.1, 20))
def test_a_latin_hypercube_meets_every_part_of_every_range_once(count, seed, low, span):
    high = low + span
    made = combinations([Vary("a", (), (low, high)), Vary("b", (), (high, low)), Vary("c", (1, 2))], count, seed)
    assert made == combinations(
        [Vary("a", (), (low, high)), Vary("b", (), (high, low)), Vary("c", (1, 2))], count, seed
    )
    for path, (start, end) in (("a", (low, high)), ("b", (high, low))):
        share = (np.array([m[path] for m in made]) - start) / (end - start) * count
        # values are rounded to six digits: one at an edge may fall on it
        parts = np.clip(np.floor(share + 1e-3 * 0.5), 0, count - 1)
        assert len({*parts.astype(int).tolist()}) >= count - 1
    twos = sum(m["c"] == 2 for m in made)
    assert abs(2 * twos - count) <= 1


def test_a_version_has_its_values_and_nothing_else():
    s = study()
    made = variant(s, {"fields.swirl.s0.seed": 5, "shapes.ball.radius": 0.25, "regions.room.voxel_size": 0.3})
    assert made.fields[0].steps[0].params == {"seed": 5}
    assert next(p for p in made.shapes if p.id == "ball").params["radius"] == 0.25
    assert made.regions[0].voxel_size == 0.3
    assert s.fields[0].steps[0].params == {"seed": 1}, "what it was made of is left as it is"
    assert label({"fields.swirl.s0.feature_size": 0.5, "shapes.ball.radius": 1}, s) == "feature size 0.5 m, radius 1 m"


@pytest.mark.parametrize(
    ("path", "words"),
    [
        ("fields.swirl.s0.sead", "did you mean 'seed'"),
        ("fields.swirl.s9.seed", "has no step 's9'"),
        ("fields.nowhere.s0.seed", "there is no field 'nowhere'"),
        ("shapes.ball.radios", "did you mean 'radius'"),
        ("regions.room.size", "voxel_size, padding or turn"),
        ("clock.end", "not the path of a parameter"),
    ],
)
def test_a_path_that_is_none_is_told(path, words):
    with pytest.raises(GustError, match=words):
        variant(study(), {path: 1})


def test_what_may_be_varied_is_what_the_flow_depends_on():
    paths = {path for path, _, _ in variable(study(), "dust")}
    assert {"fields.wind.s0.speed", "flows.dust.s0.count", "shapes.ball.radius"} <= paths
    assert not any(p.startswith("fields.swirl") for p in paths)


def test_readings_of_a_ball_that_is_carried_are_what_geometry_says(tmp_path):
    store = compute(study(), "dust", tmp_path / "run")
    result = kind_of("particles").result()
    made = readings_of(store, 4, result)
    assert made["amount"] == 4000
    assert made["top"] == pytest.approx(0.6, abs=0.02)
    assert made["spread"] == pytest.approx(0.6 * np.sqrt(3 / 5), rel=0.02)  # of a full ball
    assert made["fastest"] == pytest.approx(1.5, rel=1e-3)
    assert made["mean speed"] == pytest.approx(1.5, rel=1e-3)


def glowing(picture):
    """How much brighter than the blue of what is around, (h, w)."""
    return np.maximum(picture[..., :2].max(axis=2) - 40, 0)


def test_the_sheet_shows_all_from_one_place(tmp_path):
    """A ball that is carried far stands farther to the right than one that is not, and as large."""
    result = kind_of("particles").result()
    tiles = []
    for speed in (0.0, 12.0):
        made = variant(study(), {"fields.wind.s0.speed": speed})
        tiles.append(Tile(Stage(compute(made, "dust", tmp_path / f"{speed}")), result, f"speed {speed:g}", ""))
    tiles.append(Tile(Stage(RunStore(tmp_path / "0.0")), result, "again", ""))
    sheet = np.asarray(contact_sheet(tiles[:2], 4, (160, 100), FRONT)).astype(float)
    assert sheet.shape == (8 + 100 + 34 + 8, 2 * 168 + 8, 3)
    pictures = [sheet[8:108, 8 + 168 * n : 168 + 168 * n] for n in range(2)]
    columns = [np.nonzero((glowing(p) > 60).any(axis=0))[0] for p in pictures]
    assert columns[1].mean() > columns[0].mean() + 20
    tall = [np.ptp(np.nonzero((glowing(p) > 0.4 * glowing(p).max()).any(axis=1))[0]) for p in pictures]
    assert abs(tall[0] - tall[1]) < 0.25 * tall[0], "they are as far from the eye"
    assert np.sort(glowing(pictures[0]))[-40:].mean() < np.sort(glowing(pictures[1]))[-40:].mean() - 20, "one mapping"
    missing = np.asarray(contact_sheet(tiles, 99, (160, 100)))
    assert missing.shape[0] > 100, "a frame that nobody has is said, not an error"
