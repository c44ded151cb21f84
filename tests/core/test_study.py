"""The study document: strict reading, values, links, cycles, upgrade, content hash."""

import itertools
import json
import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from errant_gust.core.errors import BudgetError, FileError, StudyError
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.identity import run_identity
from errant_gust.core.study import document
from errant_gust.core.study.document import content_hash, parse
from errant_gust.core.study.values import Keys
from tests.studies import DEMO, data, lane, plan


def build(*lanes, **more):
    p = plan(*lanes, **more)
    return [p.at(0.0).lane(item["id"]) for item in lanes]


@pytest.mark.parametrize(
    ("lanes", "where", "words"),
    [
        ([lane("a", ("crul_noise",))], "fields.a.s0.op", "did you mean 'curl_noise'"),
        ([lane("a", ("wind", {"sped": 1}))], "fields.a.s0.sped", "did you mean 'speed'"),
        ([lane("a", ("wind", {"speed": -1}))], "fields.a.s0.speed", "from 0"),
        ([lane("a", ("wind", {"speed": "fast"}))], "fields.a.s0.speed", "number"),
        ([lane("a", ("use_field", {"field": "bb"}))], "fields.a.s0.field", "no field 'bb'"),
        ([lane("a", ("use_field", {"field": "b"})), lane("b", ("use_field", {"field": "a"}))], "fields.a", "a → b → a"),
        ([lane("a", ("distance", {"shape": "bal"}))], "fields.a.s0.shape", "did you mean 'ball'"),
        ([lane("a", ("gain", {"factor": 2}))], "fields.a.s0", "put a start before it"),
        ([lane("a", ("wind",), ("wind",))], "fields.a.s1", "put it first"),
        ([lane("a", ("wind",), ("remap",))], "fields.a.s1", "takes a scalar, and a vector comes in"),
        ([lane("a", ("wind",), ("add", {"field": "b"})), lane("b", ("noise",))], "fields.a.s1", "cannot be added"),
        ([lane("a", ("wind",), ("mask", {"by": "b"})), lane("b", ("wind",))], "fields.a.s1", "must be a scalar"),
        ([lane("a", ("wind", {"speed": {"link": "fields.a.s0.speed"}}))], "fields.a.s0.speed", "circle"),
        (
            [lane("a", ("wind", {"speed": {"link": "regions.rom.voxel_size"}}))],
            "fields.a.s0.speed",
            "did you mean 'room'",
        ),
        (
            [lane("a", ("wind", {"gust": {"field": "b"}})), lane("b", ("noise",))],
            "fields.a.s0.gust",
            "cannot be a field",
        ),
        ([lane("a")], "fields.a", "no step that is on"),
        ([lane("a", ("distance",))], "fields.a.s0", "missing"),
    ],
)
def test_what_is_wrong_is_said_with_its_place_and_what_would_be_right(lanes, where, words):
    with pytest.raises(StudyError) as error:
        build(*lanes)
    assert error.value.where.startswith(where)
    assert words in str(error.value)
    assert "\n" not in str(error.value)


@pytest.mark.parametrize("bad", [math.nan, math.inf, {"keys": [[0, math.nan]]}, [1.0, math.nan, 0.0]])
def test_nan_and_infinity_are_refused_where_they_stand(bad):
    with pytest.raises(StudyError, match=r"fields.a.s0.speed"):
        parse(data(lane("a", ("wind", {"speed": bad}))))


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"format": "other"}, "format"),
        ({"version": 99}, "version 99"),
        ({"colour": 1}, "colour"),
        ({"looks": {"a": {"exposure": math.nan}}}, "looks.a"),
        ({"fields": [lane("a"), lane("a")]}, "two lanes have the id 'a'"),
        ({"fields": [{"id": "../etc", "name": "x", "steps": []}]}, "fields.../etc.id"),
        ({"clock": {"fps": 24, "start": 10, "end": 1}}, "before the first"),
        ({"regions": [{"id": "r", "bounds": {}}]}, "bounds need either"),
        ({"regions": [{"id": "r", "bounds": {"lower": [0, 0, 0], "upper": [1, 1, 0]}}]}, "upper corner"),
    ],
)
def test_a_broken_document_is_refused(change, words):
    with pytest.raises(StudyError) as error:
        parse({**data(), **change})
    assert words in str(error.value)


def test_files_that_are_not_studies(tmp_path):
    path = tmp_path / "x.gust.json"
    path.write_text("{ not json")
    with pytest.raises(FileError, match="not valid JSON"):
        document.load(path)
    path.write_text("[" * 100_000)
    with pytest.raises(FileError):
        document.load(path)
    with pytest.raises(FileError, match="cannot be read"):
        document.load(tmp_path / "missing.json")


def test_an_older_version_is_upgraded():
    old = {**data(), "version": 0, "fps": 30, "start": 5, "end": 9}
    old.pop("clock", None)
    study = parse(old)
    assert study.version == document.VERSION
    assert (study.clock.fps, study.clock.start, study.clock.end) == (30, 5, 9)


def test_links_follow_what_they_name_and_defaults_count():
    steps = ("steer_around", {"shape": "ball", "reach": {"link": "regions.room.voxel_size", "times": 6, "plus": 0.05}})
    (node,) = build(lane("a", ("wind",), steps))
    assert node.step.reach == pytest.approx(0.65)
    a, b = build(
        lane("a", ("wind", {"speed": {"link": "fields.b.s0.feature_size", "times": 3}})), lane("b", ("noise",))
    )
    assert a.step.speed == pytest.approx(3.0 * b.step.feature_size)


@given(
    st.lists(st.tuples(st.floats(0, 20), st.floats(-5, 5)), min_size=1, max_size=6, unique_by=lambda k: round(k[0], 2)),
    st.sampled_from(["smooth", "linear", "hold"]),
    st.floats(0, 25),
)
def test_the_integral_of_keys_is_the_area_under_them(keys, between, time):
    keys = sorted((round(t, 2), v) for t, v in keys)
    k = Keys(keys=keys, between=between)
    ends = [0.0, *(t for t, _ in keys if 0 < t < time), time]
    area = 0.0
    for low, high in itertools.pairwise(ends):  # between two keys it is smooth
        share = (np.arange(200) + 0.5) / 200
        area += np.mean([k.at(low + (high - low) * s) for s in share]) * (high - low)
    assert k.total(time) == pytest.approx(area, abs=1e-3 * (1 + abs(area)))


def test_a_region_of_a_trillion_voxels_is_refused_before_anything_is_allocated():
    regions = [{"id": "r", "bounds": {"lower": [0, 0, 0], "upper": [100, 100, 100]}, "voxel_size": 0.01}]
    region = plan(regions=regions).at(0).region("r")
    assert region.voxels == 10**12
    with pytest.raises(BudgetError, match="would fit") as error:
        region.check(3, "regions.r.voxel_size", limit=4_000_000_000)
    fits = GridRegion.over(np.zeros(3), np.full(3, 100.0), error.value.fits)
    assert fits.bytes(3) <= 4_000_000_000
    assert fits.bytes(3) > 1_500_000_000, "the voxel size that is named should not be far coarser than needed"


def test_only_what_a_flow_depends_on_changes_its_identity():
    study = document.load(DEMO / "harbour_gust.gust.json")
    assets = Assets(DEMO)

    def identity(change) -> str:
        raw = json.loads(json.dumps(document.dump(study)))
        change(raw)
        return run_identity(parse(raw), "spray", "full", assets)

    base = identity(lambda d: None)
    same = [
        lambda d: d["looks"].update(spray={"size": 9}),
        lambda d: d.update(name="Other", note="…"),
        lambda d: d["fields"].append(lane("unused", ("wind",))),
        lambda d: d["clock"].update(end=500),
        lambda d: d["fields"][2]["steps"][3]["params"].update(most=2),  # a step that is off
        lambda d: d["shapes"][1].update(shown=False),
    ]
    other = [
        lambda d: d["fields"][0]["steps"][0]["params"].update(fade_over=1.3),  # two lanes away
        lambda d: d["regions"][0].update(voxel_size=0.11),  # through a link
        lambda d: d["shapes"][0]["params"].update(move=[0.1, 0, 0]),
        lambda d: d["clock"].update(fps=25),
        lambda d: d["flows"][0]["steps"][0]["params"].update(seed=2),
    ]
    assert {identity(c) for c in same} == {base}
    assert base not in {identity(c) for c in other}


def test_asset_names_are_never_paths(tmp_path):
    (tmp_path / "in").mkdir()
    (tmp_path / "secret.obj").write_text("v 0 0 0\n")
    shapes = [{"id": "m", "kind": "mesh", "params": {"file": "../secret.obj"}}]
    found = plan_of(parse(data(shapes=shapes)), Assets(tmp_path / "in")).problems()
    assert "not a plain file name" in str(found[0])


def test_a_hash_does_not_depend_on_how_zero_is_written():
    """JavaScript writes -0 as 0: the same study would have another identity after an edit in the browser."""
    assert content_hash([-0.0, {"a": 0}]) == content_hash([0, {"a": -0.0}]) == content_hash([0.0, {"a": 0.0}])
    assert content_hash([1]) != content_hash([0])
