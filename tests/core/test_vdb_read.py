"""OpenVDB files as the real library writes them: compressions, tiles, half floats, instances, places; crafted ones."""

import contextlib
import struct
import subprocess
import zlib

import numpy as np
import pytest
from numcodecs import blosc

from errant_gust.core.errors import BudgetError, FileError
from errant_gust.core.files.vdb import read_vdb, write_vdb
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion


def library(script, path):
    """Runs a script with the real library as `o` and the path as `path` under the system's Python."""
    head = "import sys\nimport numpy as np\nimport pyopenvdb as o\npath = sys.argv[1]\n"
    subprocess.run(["/usr/bin/python3", "-c", head + script, str(path)], check=True, capture_output=True)
    return path


def sphere(radius, h):
    return f"g = o.createLevelSetSphere({radius}, (0.3, 0.1, -0.2), {h}, 3)\ng.name = 'd'\n"


def columns(points):
    return np.ascontiguousarray(points.T, np.float32)


MIDDLE = np.array([0.3, 0.1, -0.2])


def test_a_level_set_as_written_by_default_is_right_on_both_sides(tmp_path, rng):
    """Blosc, and inside it tiles of minus the background: they read +0.15 before, where −0.15 is right."""
    grid = read_vdb(library(sphere(2.0, 0.05) + "o.write(path, grids=[g])\n", tmp_path / "a.vdb"))["d"]
    points = rng.uniform(-1.9, 1.9, (4000, 3)) + MIDDLE
    d = np.linalg.norm(points - MIDDLE, axis=1) - 2.0
    found = grid.sample(columns(points))
    assert found == pytest.approx(np.clip(d, -0.15, 0.15), abs=0.06 * 0.15 + 0.004)
    assert (found[d < -0.3] < -0.149).all()
    header = (tmp_path / "a.vdb").read_bytes()
    assert b"Tree_float_5_4_3" in header


def test_tiles_active_and_inactive_come_back(tmp_path):
    script = (
        "g = o.FloatGrid(0.25)\ng.name = 't'\ng.fill((0, 0, 0), (127, 15, 7), 2.0, True)\n"
        "g.fill((16, 0, 0), (23, 7, 7), -3.0, False)\ng.fill((40, 3, 1), (41, 3, 1), 9.0, True)\n"
        "o.write(path, grids=[g])\n"
    )
    grid = read_vdb(library(script, tmp_path / "a.vdb"))["t"]
    assert grid.region.shape[0] >= 128
    low = np.array(grid.region.lower) + 0.5

    def at(*index):
        i = (np.array(index) - low).astype(int)
        return grid.values[tuple(i)]

    assert [at(0, 0, 0), at(127, 15, 7), at(20, 3, 3), at(40, 3, 1), at(42, 3, 1)] == [2.0, 2.0, -3.0, 9.0, 2.0]


@pytest.mark.parametrize("half", [False, True])
def test_half_floats_vectors_and_other_grids_beside(tmp_path, half, rng):
    values = rng.normal(size=(20, 9, 13, 3)).astype(np.float32)
    np.save(tmp_path / "v.npy", values)
    script = (
        f"v = o.Vec3SGrid()\nv.name = 'vel'\nv.copyFromArray(np.load({str(tmp_path / 'v.npy')!r}))\n"
        f"v.saveFloatAsHalf = {half}\nb = o.BoolGrid()\nb.name = 'mask'\nb.fill((0, 0, 0), (3, 3, 3), True)\n"
        "d = o.FloatGrid()\nd.name = 'mask'\nd.copyFromArray(np.full((4, 4, 4), 0.5))\no.write(path, grids=[b, v, d])\n"
    )
    grids = read_vdb(library(script, tmp_path / "a.vdb"))
    assert set(grids) == {"vel", "mask"}
    low = -(np.array(grids["vel"].region.lower) + 0.5).astype(int)
    got = grids["vel"].values[tuple(slice(a, a + n) for a, n in zip(low, values.shape[:3], strict=True))]
    assert got == pytest.approx(values, abs=2e-3 if half else 0, rel=1e-3 if half else 0)
    assert (grids["mask"].values[:4, :4, :4] == 0.5).all()


def test_an_instance_has_the_tree_of_its_parent_and_a_place_of_its_own(tmp_path):
    script = (
        sphere(0.5, 0.1) + "c = g.copy()\nc.name = 'copy'\nc.transform = o.createLinearTransform(0.2)\n"
        "o.write(path, grids=[g, c])\n"
    )
    grids = read_vdb(library(script, tmp_path / "a.vdb"))
    assert np.array_equal(grids["copy"].values, grids["d"].values)
    assert grids["copy"].region.voxel_size == pytest.approx(0.2)
    assert grids["d"].region.voxel_size == pytest.approx(0.1)


TURNED = np.array([[0.8, 0.6, 0], [-0.6, 0.8, 0], [0, 0, 1]])
MATRICES = {
    "mirrored": np.diag([-0.2, 0.2, 0.2]),
    "mirrored and turned": 0.2 * np.diag([1, 1, -1]) @ TURNED,
    "not cubes": np.diag([0.1, 0.2, 0.15]),
    "not cubes, turned and mirrored": np.diag([0.2, -0.1, 0.15]) @ TURNED,
    "sheared": np.array([[0.1, 0, 0], [0.04, 0.1, 0], [0, 0.02, 0.12]]),
}


@pytest.mark.parametrize("name", MATRICES)
def test_any_affine_transform_puts_the_values_where_they_are(tmp_path, name, rng):
    """A field that is linear in the scene, so that sampling anew changes nothing of it."""
    matrix, origin = MATRICES[name], np.array([1.0, -2.0, 0.5])
    index = np.stack(np.meshgrid(*map(np.arange, (16, 24, 16)), indexing="ij"), axis=-1)
    world = index @ matrix + origin
    slope = np.array([1.0, -2.0, 0.5])
    np.save(tmp_path / "v.npy", (world @ slope).astype(np.float32))
    rows = [[*row, 0.0] for row in matrix.tolist()] + [[*origin.tolist(), 1.0]]
    script = (
        f"g = o.FloatGrid()\ng.name = 'f'\ng.copyFromArray(np.load({str(tmp_path / 'v.npy')!r}))\n"
        f"g.transform = o.createLinearTransform({rows})\no.write(path, grids=[g])\n"
    )
    grid = read_vdb(library(script, tmp_path / "a.vdb"))["f"]
    points = rng.uniform(2, [13, 21, 13], (500, 3)) @ matrix + origin
    assert grid.sample(columns(points)) == pytest.approx(points @ slope, abs=2e-4)


def test_a_frustum_is_refused_in_words(tmp_path):
    script = sphere(0.5, 0.1) + (
        "g.transform = o.createFrustumTransform((0, 0, 0), (100, 100, 100), 0.5, 10.0, 0.1)\no.write(path, grids=[g])\n"
    )
    with pytest.raises(FileError, match="lies in a camera's frustum; sample it"):
        read_vdb(library(script, tmp_path / "a.vdb"))


@pytest.mark.parametrize("compression", ["blosc", "zip", "none"])
def test_the_real_library_reads_what_we_write_with_every_compression(tmp_path, compression, rng):
    region = GridRegion((-1, -1, 0), (21, 30, 13), 0.1)
    values = rng.normal(size=region.shape).astype(np.float32)
    values[:8] = 0
    path = tmp_path / "a.vdb"
    write_vdb(path, {"d": Grid(region, values)}, compression)
    script = (
        f"g = o.read(path, 'd')\na = np.zeros({region.shape}, np.float32)\ng.copyToArray(a)\n"
        f"np.save({str(tmp_path / 'back.npy')!r}, a)\n"
    )
    library(script, path)
    assert np.array_equal(np.load(tmp_path / "back.npy"), values)
    back = read_vdb(path)["d"].sample(region.centres(0, region.voxels))
    assert back == pytest.approx(values.ravel(), abs=1e-5)


# crafted ---------------------------------------------------------------------------------------------------------


def sound(tmp_path, compression="zip"):
    region = GridRegion((0, 0, 0), (8, 8, 8), 1.0)
    write_vdb(tmp_path / "a.vdb", {"d": Grid(region, np.ones((8, 8, 8), np.float32))}, compression)
    return (tmp_path / "a.vdb").read_bytes()


@pytest.mark.parametrize("count", [2**31 - 1, -1, 1001])
def test_a_count_of_grids_is_bounded(tmp_path, count):
    data = bytearray(sound(tmp_path))
    at = data.index(struct.pack("<i", 1) + struct.pack("<I", 1) + b"d")
    data[at : at + 4] = struct.pack("<i", count)
    (tmp_path / "a.vdb").write_bytes(data)
    with pytest.raises(FileError, match=r"grids|ends too early"):
        read_vdb(tmp_path / "a.vdb")


def test_a_place_that_goes_round_in_a_circle_is_refused(tmp_path):
    data = bytearray(sound(tmp_path))
    at = data.index(struct.pack("<i", 1) + struct.pack("<I", 1) + b"d")
    data[at : at + 4] = struct.pack("<i", 900)
    end = data.index(b"Tree_float_5_4_3") + len(b"Tree_float_5_4_3") + 4
    data[end + 16 : end + 24] = struct.pack("<q", at + 4)
    (tmp_path / "a.vdb").write_bytes(data)
    with pytest.raises(FileError, match="makes no sense"):
        read_vdb(tmp_path / "a.vdb")


@pytest.mark.parametrize("compression", ["zip", "blosc"])
def test_values_that_expand_without_end_are_not_expanded(tmp_path, compression):
    import tracemalloc

    data = bytearray(sound(tmp_path, compression))
    huge = np.zeros(200 << 20, np.uint8)
    bomb = zlib.compress(huge.tobytes(), 9) if compression == "zip" else bytes(blosc.compress(huge, b"lz4", 9, 1))
    tail = data.rindex(struct.pack("<Q", 0xFFFFFFFFFFFFFFFF)) + 8
    (tmp_path / "a.vdb").write_bytes(bytes(data[:tail]) + b"\0" + struct.pack("<q", len(bomb)) + bomb)
    del huge
    tracemalloc.start()
    try:
        with pytest.raises(FileError, match=r"wrong number of values|damaged"):
            read_vdb(tmp_path / "a.vdb")
        assert tracemalloc.get_traced_memory()[1] < 20 << 20
    finally:
        tracemalloc.stop()


def test_active_voxels_far_apart_are_refused_before_memory_is_taken(tmp_path):
    script = (
        "g = o.FloatGrid()\na = g.getAccessor()\na.setValueOn((0, 0, 0), 1.0)\n"
        "a.setValueOn((900000, 900000, 90000), 1.0)\n"
        "o.write(path, grids=[g])\n"
    )
    with pytest.raises(BudgetError, match="voxels need"):
        read_vdb(library(script, tmp_path / "a.vdb"))


def test_flipped_bits_are_an_error_or_other_numbers_never_a_crash(tmp_path, rng):
    script = sphere(0.5, 0.1) + "o.write(path, grids=[g])\n"
    data = np.frombuffer(library(script, tmp_path / "a.vdb").read_bytes(), np.uint8)
    for _ in range(60):
        broken = data.copy()
        at = rng.integers(0, len(broken), 6)
        broken[at] ^= rng.integers(1, 255, 6).astype(np.uint8)
        (tmp_path / "b.vdb").write_bytes(broken.tobytes())
        with contextlib.suppress(FileError, BudgetError):
            read_vdb(tmp_path / "b.vdb")
