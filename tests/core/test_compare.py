"""Runs against each other in numbers, what a run will cost, and gas frames as Zarr files."""

import numpy as np
import pytest
import zarr

from errant_gust.core.errors import FileError
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.runs import stepping
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.compare import channel_of, difference, numbers_of, on_one_grid, points_apart
from errant_gust.core.runs.compute import compute
from errant_gust.core.runs.cost import cost_of
from errant_gust.core.runs.export import export_run
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.study.building import lane
from errant_gust.core.study.document import parse
from tests.core.test_gas import PUFF, gas

GLOW = ("channel", {"name": "glow", "copies": "temperature", "rate": 0.2})


def grid(lower, shape, h, f, turn=(0.0, 0.0, 0.0)):
    region = GridRegion(tuple(map(float, lower)), shape, h, turn)
    points = region.centres(0, region.voxels)
    return Grid(region, f(*points).astype(np.float32).reshape(shape))


def test_numbers_of_a_channel_are_integrals():
    ball = grid((-1, -1, -1), (40, 40, 40), 0.05, lambda x, y, z: 2.0 * ((x - 0.2) ** 2 + y**2 + z**2 < 0.36))
    found = numbers_of(ball)
    volume = 4 / 3 * np.pi * 0.6**3
    assert found.cover == pytest.approx(volume, rel=0.01)
    assert found.total == pytest.approx(2 * volume, rel=0.01)
    assert (found.low, found.high, found.mean) == (0, 2, 2)
    assert found.centre == pytest.approx((0.2, 0, 0), abs=2e-3)
    empty = numbers_of(Grid(ball.region, np.zeros((40, 40, 40), np.float32)))
    assert empty.centre is None
    assert empty.mean == 0


def test_windows_in_other_places_are_put_together_voxel_by_voxel():
    a = grid((0, 0, 0), (4, 4, 4), 0.5, lambda x, y, z: x + 10)
    b = grid((1, 0, -0.5), (4, 4, 4), 0.5, lambda x, y, z: x + 10)
    one, two = on_one_grid(a, b)
    assert one.region == two.region
    assert one.region.lower == (0, 0, -0.5)
    assert one.region.shape == (6, 4, 5)
    d, found = difference(a, b)
    both = (slice(2, 4), slice(0, 4), slice(1, 4))
    assert not d.values[both].any(), "where both are they agree"
    assert found.greatest == pytest.approx(12.75), "b alone, at its far side"
    assert found.at[0] == pytest.approx(2.75)
    assert not found.same
    assert difference(a, a)[1].same


def test_other_voxel_sizes_are_compared_on_the_larger_and_a_refinement_is_no_difference():
    fine = grid((0, 0, 0), (32, 32, 32), 0.25, lambda x, y, z: x + 2 * y - z)
    coarse = grid((0, 0, 0), (16, 16, 16), 0.5, lambda x, y, z: x + 2 * y - z)
    d, found = difference(fine, coarse)
    assert d.region.voxel_size == 0.5
    assert np.abs(d.values[1:-1, 1:-1, 1:-1]).max() < 1e-4
    assert found.rms < 0.5
    turned = grid((0, 0, 0), (4, 4, 4), 0.5, lambda x, y, z: x, turn=(0.0, 0.0, 30.0))
    with pytest.raises(FileError, match="turned differently"):
        on_one_grid(coarse, turned)


def test_two_channels_and_two_runs_of_gas(tmp_path):
    p = gas(PUFF, ("rise", {}), ("cool", {"rate": 2}), GLOW, end=8)
    q = gas(PUFF, ("rise", {}), ("cool", {"rate": 2}), GLOW, ("thin_out", {"rate": 1}), end=8)
    a, b = (compute(each.study, "g", tmp_path / n) for each, n in ((p, "a"), (q, "b")))
    heat, glow = channel_of(a, 8, "temperature"), channel_of(a, 8, "glow")
    d, found = difference(heat, glow)
    np.testing.assert_array_equal(d.values, glow.values - heat.values)
    assert found.mean > 1, "the copy cools more slowly"
    thinner = difference(channel_of(a, 8, "density"), channel_of(b, 8, "density"))[1]
    assert thinner.mean < 0
    assert difference(heat, channel_of(b, 8, "temperature"))[1].same, "density has no weight here"
    assert channel_of(a, 8, "vel").values.ndim == 3
    with pytest.raises(FileError, match=r"frame 9 is not there.*1 to 8"):
        channel_of(a, 9, "density")
    with pytest.raises(FileError, match=r"no channel 'glov'.*glow"):
        channel_of(a, 8, "glov")


def test_particles_are_matched_by_number(tmp_path):
    def study(speed):
        emit = ("emit", {"shape": "ball", "where": "volume", "timing": "all at once", "count": 50, "preview_share": 1,
                         "life": 99})  # fmt: skip
        p = gas(PUFF, end=9, fields=(lane("wind", ("constant", {"vector": [speed, 0, 0]})),))
        data = p.study.model_dump(mode="json", by_alias=True)
        for f in data["fields"]:
            f.pop("on", None)
        data["flows"].append({**lane("p", emit, ("carry", {"field": "wind"})), "name": "P", "kind": "particles"})
        return plan_of(parse(data)).study

    a, b = (compute(study(v), "p", tmp_path / n) for v, n in ((1.0, "a"), (1.5, "b")))
    found = points_apart(a, b, 7)
    assert found["both"] == 50
    assert found["mean"] == pytest.approx(0.5 * 6 / 24, rel=1e-4)
    assert found["greatest"] == pytest.approx(found["mean"], rel=1e-3)


# what a run costs --------------------------------------------------------------------------------------------------


def test_a_run_costs_what_its_preview_took_times_voxels_and_substeps(tmp_path):
    p = gas(PUFF, ("rise", {"lift": 0.1}), h=0.05, domain={"follow": False, "longest": 1.0}, end=16)
    assert cost_of(p, "g", "full", [RunStore(tmp_path / "none")]).seconds is None, "nothing measured, nothing said"
    preview = compute(p.study, "g", tmp_path / "preview", quality="preview")
    facts = {int(k): v for k, v in ((n, preview.facts(n)) for n in preview.frames())}
    assert facts[12]["substeps"] >= 1
    assert facts[12]["fastest"] > 0.1
    full = compute(p.study, "g", tmp_path / "full")
    theirs = {int(k): v for k, v in ((n, full.facts(n)) for n in full.frames())}
    found = cost_of(p, "g", "full", [preview])
    assert found.basis == "the preview run"
    assert found.measured == 15
    assert found.frames == 16
    steps = sum(f["substeps"] for k, f in theirs.items() if k > 1)
    mean = sum(facts[k]["seconds"] / facts[k]["substeps"] for k in range(2, 17)) / 15
    assert found.seconds == pytest.approx(8 * mean * steps * 16 / 15, rel=0.5), "eight times the voxels, more substeps"
    size = sum(f.stat().st_size for f in (tmp_path / "full" / "frames").rglob("*") if f.is_file())
    assert found.disk == pytest.approx(size, rel=0.5)
    assert found.count == 40 * 40 * 40
    # what is there already is not counted again
    assert cost_of(p, "g", "full", [full]).frames == 0
    assert cost_of(p, "g", "full", [full]).seconds == 0
    begun = compute(p.study, "g", tmp_path / "begun", last=2)
    assert cost_of(p, "g", "full", [begun, preview]).basis == "the preview run", "two frames tell too little"


def test_frames_that_nobody_measured_are_taken_to_be_like_the_last_ones(tmp_path):
    p = gas(PUFF, ("rise", {}), domain={"follow": False}, end=41)
    part = compute(p.study, "g", tmp_path / "part", last=11)
    found = cost_of(p, "g", "full", [part])
    assert found.basis == "this run"
    assert found.frames == 30
    mean = np.mean([v["seconds"] for k, v in ((n, part.facts(n)) for n in part.frames()) if int(k) > 1])
    assert found.seconds == pytest.approx(30 * mean, rel=0.9)
    assert found.measured == 10


# Zarr ----------------------------------------------------------------------------------------------------------------


def test_frames_as_zarr_are_what_the_run_holds_and_never_half_written(tmp_path, monkeypatch):
    p = gas(PUFF, ("rise", {}), GLOW, end=3)
    run = compute(p.study, "g", tmp_path / "run")
    made = export_run(run, tmp_path / "out", format="zarr", frames=(2, 3))
    assert [path.name for path, _ in made] == ["g.0002.zarr.zip", "g.0003.zarr.zip"]
    group = zarr.open_group(zarr.storage.ZipStore(made[1][0], mode="r"), mode="r")
    assert sorted(group.array_keys()) == ["density", "glow", "temperature", "vel"]
    stored = run.read(3)
    np.testing.assert_array_equal(group["glow"][...], stored["glow"])
    vel = group["vel"][...]
    np.testing.assert_allclose(vel[..., 2], 0.5 * (stored["w"][:, :, 1:] + stored["w"][:, :, :-1]), atol=1e-6)
    assert tuple(group["vel"].metadata.dimension_names) == ("x", "y", "z", "component")
    region = run.facts(3)["region"]
    assert group["density"].attrs["voxel_size"] == region["voxel_size"]
    np.testing.assert_allclose(group["density"].attrs["origin"], np.array(region["lower"]) + 0.05)
    with pytest.raises(FileError, match="is there already"):
        export_run(run, tmp_path / "out", format="zarr", frames=(3, 3))
    monkeypatch.setattr(
        zarr.Group, "create_array", lambda *a, **k: (_ for _ in ()).throw(OSError(28, "No space left on device"))
    )
    with pytest.raises(FileError, match="No space left"):
        export_run(run, tmp_path / "other", format="zarr", frames=(1, 1))
    assert not list((tmp_path / "other").iterdir())


def test_the_time_left_is_told_by_the_last_frames_not_by_the_first(tmp_path, monkeypatch):
    """A clock of its own: the first frame takes 100 s (everything is loaded in it), the n-th takes n seconds."""
    now, real = [0.0], stepping.open_flow

    class Slow:
        def __init__(self, *of):
            self.flow = real(*of)

        def first(self):
            now[0] += 100
            return self.flow.first()

        def next(self, state, frame, *more, **options):
            now[0] += frame + 1
            return self.flow.next(state, frame, *more, **options)

    monkeypatch.setattr(stepping, "open_flow", Slow)
    monkeypatch.setattr(stepping.time, "perf_counter", lambda: now[0])
    said = []
    compute(gas(PUFF, end=12).study, "g", tmp_path / "run", report=said.append)
    left = {done.frame: done.left for done in said}
    assert left[1] == 100 * 11, "nothing else is known yet"
    assert left[2] == 2 * 10
    assert left[11] == pytest.approx(np.mean(range(4, 12)))
    assert left[12] == 0
