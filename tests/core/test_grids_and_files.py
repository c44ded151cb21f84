"""Grids against SciPy, and every volume format read back by somebody else."""

import json
import re
import shutil
import struct
import subprocess
import xml.etree.ElementTree as ET

import numpy as np
import pytest
from scipy import ndimage

from errant_gust.core.errors import FileError
from errant_gust.core.fields.sampling import sample
from errant_gust.core.files.vdb import read_vdb, write_vdb
from errant_gust.core.files.volume_files import write_npz, write_vti, writer_for
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion
from tests.studies import lane, node, plan, values

REGION = GridRegion((-1.0, -2.0, 0.5), (21, 150, 13), 0.1)


@pytest.fixture
def grids(rng):
    vel = rng.normal(size=(*REGION.shape, 3)).astype(np.float32)
    density = rng.random(REGION.shape).astype(np.float32)
    density[:, 40:120] = 0  # whole leaves of background
    return {"vel": Grid(REGION, vel), "density": Grid(REGION, density)}


@pytest.mark.parametrize(("outside", "mode"), [("clamp", "nearest"), ("repeat", "grid-wrap")])
def test_sampling_agrees_with_scipy(grids, outside, mode, rng):
    points = rng.uniform([-1.4, -3, 0.2], [1.5, 14, 2.2], (5000, 3)).astype(np.float32)
    where = ((points - REGION.lower) / REGION.voxel_size - 0.5).T
    for grid in grids.values():
        ours = Grid(grid.region, grid.values, outside).sample(np.ascontiguousarray(points.T))
        channels = np.moveaxis(grid.values, -1, 0) if grid.is_vector else grid.values[None]
        expected = np.stack([ndimage.map_coordinates(c, where, order=1, mode=mode) for c in channels])
        assert np.allclose(ours, expected.squeeze(), atol=2e-4)


def test_zero_outside_and_the_interpolants_gradient(grids, rng):
    g = grids["density"]
    far = np.float32([[-9, 0, 1], [0, 99, 1]]).T.copy()
    assert (g.sample(far) == 0).all()
    points = rng.uniform([-0.9, -1.9, 0.6], [1.0, 12.9, 1.7], (2000, 3)).astype(np.float32).T.copy()
    _, slope = g.sample_with_gradient(points)
    ahead, behind = points.copy(), points.copy()
    ahead[1] += np.float32(5e-4)
    behind[1] -= np.float32(5e-4)
    numeric = (g.sample(ahead) - g.sample(behind)) / (ahead[1] - behind[1])
    assert np.quantile(np.abs(numeric - slope[1]), 0.95) < 0.02 * np.abs(slope[1]).max()


def test_bake_step_equals_its_source_at_voxel_middles(rng):
    source = lane("v", ("curl_noise", {"octaves": 2}))
    n = node(("use_field", {"field": "v"}), ("bake", {"region": "room"}), others=(source,))
    region = n.scene.region("room")
    middles = region.centres(0, region.voxels).T[rng.choice(region.voxels, 2000)]
    exact, _ = sample(n.scene.lane("v"), middles)
    assert np.allclose(values(n, middles), exact, atol=2e-4)
    assert (values(n, np.float32([[9, 9, 9]])) == 0).all()


def test_bake_over_budget_is_refused_with_a_size_that_fits(monkeypatch):
    monkeypatch.setenv("ERRANT_GUST_BUDGET_MB", "0.2")
    n = plan(lane("a", ("wind",), ("bake", {"region": "room"}))).at(0.0).lane("a")
    with pytest.raises(Exception, match=r"budget is .* would fit"):
        values(n, np.zeros((1, 3)))


def test_our_vdb_reader_reads_what_we_wrote(tmp_path, grids):
    write_vdb(tmp_path / "a.vdb", grids)
    back = read_vdb(tmp_path / "a.vdb")
    for name, grid in grids.items():
        at = np.float32([[0, 0.05, 0.4], [-1.95, 3.0, 12.5], [0.6, 1.1, 1.7]])
        assert np.allclose(back[name].sample(at), grid.sample(at), atol=1e-5)


def test_the_real_library_reads_our_vdb(tmp_path, grids):
    assert shutil.which("vdb_print"), "./gust test installs Debian's libopenvdb-tools"
    path = tmp_path / "a.vdb"
    write_vdb(path, grids)
    said = subprocess.run(["vdb_print", "-l", str(path)], capture_output=True, text=True, check=True).stdout
    assert "Tree_vec3s_5_4_3" in said
    assert "40,950" in said
    assert re.search(r"voxel size: 0\.1\b", said)
    script = (
        "import json, sys, openvdb_or_py as o\n".replace("openvdb_or_py as o", "pyopenvdb as o")
        + f"grids, _ = o.readAll({str(path)!r})\n"
        "out = {}\n"
        "for g in grids:\n"
        "    a = g.getConstAccessor()\n"
        "    out[g.name] = {'box': g.evalActiveVoxelBoundingBox(), 'count': g.activeVoxelCount(),\n"
        "        'origin': g.transform.indexToWorld((0, 0, 0)),\n"
        "        'values': [a.getValue(p) for p in ((0, 0, 0), (20, 149, 12), (3, 7, 5), (11, 130, 8))]}\n"
        "print(json.dumps(out))\n"
    )
    read = subprocess.run(["/usr/bin/python3", "-c", script], capture_output=True, text=True, check=True)
    out = json.loads(read.stdout)
    for name, grid in grids.items():
        expected = [grid.values[p] for p in ((0, 0, 0), (20, 149, 12), (3, 7, 5), (11, 130, 8))]
        assert np.allclose(out[name]["values"], expected, rtol=1e-6)
        assert np.allclose(out[name]["origin"], np.array(REGION.lower) + 0.05)
    assert out["vel"]["box"] == [[0, 0, 0], [20, 149, 12]]
    assert out["density"]["count"] < 40_950, "leaves of pure background are left out"


@pytest.mark.parametrize("cut", [10, 60, 400, 5000, -200])
def test_a_truncated_vdb_is_an_error_not_a_crash(tmp_path, grids, cut):
    path = tmp_path / "a.vdb"
    write_vdb(path, grids)
    path.write_bytes(path.read_bytes()[:cut])
    with pytest.raises(FileError) as found:
        read_vdb(path)
    assert "a.vdb" in str(found.value)


def test_npz_and_vti_hold_the_same_numbers(tmp_path, grids):
    write_npz(tmp_path / "a.npz", grids)
    with np.load(tmp_path / "a.npz") as z:
        assert np.array_equal(z["vel"], grids["vel"].values)
        assert np.allclose(z["vel.origin"], np.array(REGION.lower) + 0.05)
        assert float(z["vel.voxel_size"]) == REGION.voxel_size
    write_vti(tmp_path / "a.vti", grids)
    raw = (tmp_path / "a.vti").read_bytes()
    at = raw.index(b'<AppendedData encoding="raw">_') + len(b'<AppendedData encoding="raw">_')
    head = ET.fromstring(raw[:at].decode() + "</AppendedData></VTKFile>")
    image = head.find("ImageData")
    assert image.get("WholeExtent") == "0 20 0 149 0 12"
    assert np.allclose(list(map(float, image.get("Origin").split())), [-0.95, -1.95, 0.55])
    for array in head.iter("DataArray"):
        offset = at + int(array.get("offset"))
        (size,) = struct.unpack_from("<Q", raw, offset)
        components = int(array.get("NumberOfComponents"))
        read = np.frombuffer(raw, "<f4", size // 4, offset + 8).reshape(13, 150, 21, components)
        grid = grids[array.get("Name")]
        assert np.array_equal(read.transpose(2, 1, 0, 3).squeeze(), grid.values)


def test_an_unknown_ending_or_folder_is_refused_and_nothing_written(tmp_path):
    with pytest.raises(FileError, match="no volume format"):
        writer_for(tmp_path / "a.xyz")
    with pytest.raises(FileError, match="folder does not exist"):
        writer_for(tmp_path / "none" / "a.vdb")
    assert not list(tmp_path.iterdir())
