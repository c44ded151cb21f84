"""Grids from files, fields from particles, distances back to meshes, mesh sequences, turned regions, checks."""

import json
import subprocess

import numpy as np
import pytest
import trimesh

from errant_gust.core.checks import findings
from errant_gust.core.errors import FileError, GustError, StudyError
from errant_gust.core.fields.sampling import bake, sample
from errant_gust.core.files.vdb import read_vdb, write_vdb
from errant_gust.core.files.volume_files import read_volume, write_npz, write_vti, writer_for
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion
from tests.studies import lane, node, plan, values

F = np.float32
TURNED = GridRegion((-0.5, -0.4, 0.1), (9, 8, 7), 0.1, (20, -10, 35))


@pytest.fixture
def folder(tmp_path, rng):
    grids = {
        "heat": Grid(TURNED, rng.normal(size=TURNED.shape).astype(F)),
        "vel": Grid(TURNED, rng.normal(size=(*TURNED.shape, 3)).astype(F)),
    }
    write_vdb(tmp_path / "a.vdb", grids)
    write_npz(tmp_path / "a.npz", grids)
    write_vti(tmp_path / "a.vti", grids)
    return tmp_path, grids


@pytest.mark.parametrize("ending", ["vdb", "npz", "vti"])
@pytest.mark.parametrize("how", ["linear", "cubic"])
def test_a_turned_grid_comes_back_from_every_format_exactly(folder, ending, how):
    path, grids = folder
    middles = TURNED.centres(0, TURNED.voxels).T
    for name, kind in (("heat", "scalar"), ("vel", "vector")):
        step = {"file": f"a.{ending}", "channel": name, "kind": kind, "interpolation": how}
        found = values(node(("from_grid", step), assets=Assets(path)), middles)
        assert np.allclose(found, grids[name].values.reshape(found.shape), atol=3e-5)
        assert (values(node(("from_grid", step), assets=Assets(path)), F([[9, 9, 9]])) == 0).all()


def test_the_real_library_places_a_turned_grid_where_we_do(folder):
    path, _ = folder
    script = (
        "import json, sys, pyopenvdb as o\n"
        "g = [g for g in o.readAll(sys.argv[1])[0] if g.name == 'heat'][0]\n"
        "print(json.dumps([g.transform.indexToWorld(p) for p in ((0, 0, 0), (8, 7, 6), (3, 1, 5))]))\n"
    )
    run = ["/usr/bin/python3", "-c", script, str(path / "a.vdb")]
    said = json.loads(subprocess.run(run, capture_output=True, text=True, check=True).stdout)
    index = np.array([(0, 0, 0), (8, 7, 6), (3, 1, 5)])
    ours = (np.array(TURNED.lower) + (index + 0.5) * 0.1) @ TURNED.axes.T
    assert np.allclose(said, ours)


@pytest.mark.parametrize(("step", "words"), [
    ({"file": "a.npz", "channel": "heal"}, "did you mean 'heat'"), ({"file": "a.npz", "channel": "vel"}, "vector grid"),
    ({"file": "none.vdb"}, "is missing"), ({"file": "../a.npz"}, "plain file name"), ({}, "no file"),
])  # fmt: skip
def test_what_a_file_does_not_hold_is_said(folder, step, words):
    with pytest.raises(GustError, match=words):
        values(node(("from_grid", step), assets=Assets(folder[0])), np.zeros((1, 3)))


@pytest.mark.parametrize("ending", ["vdb", "npz", "vti"])
@pytest.mark.parametrize("cut", [0.3, 0.7, 0.97])
def test_truncated_grid_files_are_clear_errors(folder, ending, cut):
    path, _ = folder
    whole = (path / f"a.{ending}").read_bytes()
    (path / f"b.{ending}").write_bytes(whole[: int(len(whole) * cut)])
    with pytest.raises(FileError) as found:
        read_volume(path / f"b.{ending}")
    assert f"b.{ending}" in str(found.value)


def test_another_grid_type_and_values_that_are_no_numbers_are_refused(folder):
    path, grids = folder
    script = "import sys, pyopenvdb as o\ng = o.BoolGrid()\ng.fill((0,0,0),(3,3,3),True)\no.write(sys.argv[1], [g])\n"
    subprocess.run(["/usr/bin/python3", "-c", script, str(path / "bool.vdb")], check=True, capture_output=True)
    with pytest.raises(FileError, match="is of type"):
        read_vdb(path / "bool.vdb")
    bad = grids["heat"].values.copy()
    bad[2, 2, 2] = np.nan
    write_npz(path / "nan.npz", {"heat": Grid(TURNED, bad)})
    with pytest.raises(StudyError, match="not numbers"):
        values(node(("from_grid", {"file": "nan.npz"}), assets=Assets(path)), np.zeros((1, 3)))


def flow_plan(field):
    flow = {**lane("p", ("emit", {"shape": "ball", "timing": "all at once", "count": 8000, "where": "volume",
            "preview_share": 1.0}), ("carry", {"field": "wind"})), "kind": "particles"}  # fmt: skip
    return plan(lane("wind", ("wind", {"speed": 1})), lane("f", ("from_particles", field)), flows=[flow])


def test_particles_spread_on_a_region_are_as_many_as_there_are_and_move_with_them():
    for time, middle in ((0.0, 0.0), (0.5, 0.5)):
        p = flow_plan({"flow": "p", "region": "room", "radius": 0.15})
        grid = bake(p.at(time).lane("f"), p.at(time).region("room"))
        assert grid.sum() * 0.1**3 == pytest.approx(8000, rel=0.01)
        x = p.at(time).region("room").centres(0, grid.size)[0]
        assert (x * grid.ravel()).sum() / grid.sum() == pytest.approx(middle, abs=0.03)
    p = flow_plan({"flow": "p", "region": "room", "what": "velocity"})
    assert values(p.at(0.5).lane("f"), F([[0.5, 0, 0]]))[0] == pytest.approx([1, 0, 0], abs=1e-3)


def test_a_flow_carried_by_a_field_made_from_it_is_refused():
    flow = {**lane("p", ("emit", {"shape": "ball", "timing": "all at once", "count": 50}), ("carry", {"field": "f"})),
            "kind": "particles"}  # fmt: skip
    field = ("from_particles", {"flow": "p", "region": "room", "what": "velocity"})
    with pytest.raises(StudyError, match="made from it"):
        values(plan(lane("f", field), flows=[flow]).at(0.2).lane("f"), np.zeros((1, 3)))


@pytest.mark.parametrize("ending", ["obj", "ply", "stl"])
def test_a_distance_becomes_a_closed_mesh_again(tmp_path, ending):
    n = node(("distance", {"shape": "ball"}), ("join", {"field": "cap", "seam": "round", "width": 0.2}),
             others=(lane("cap", ("distance", {"shape": "pillar"})),))  # fmt: skip
    region = n.scene.region("room")
    path = tmp_path / f"a.{ending}"
    writer_for(path)(path, {"shape": Grid(region, bake(n, region))})
    mesh = trimesh.load(path, force="mesh")
    assert mesh.is_watertight
    d, _ = sample(n, mesh.vertices.astype(F))
    assert np.abs(d).max() < 0.02
    assert mesh.volume > 4 / 3 * np.pi * 0.6**3
    with pytest.raises(FileError, match="nowhere zero"):
        writer_for(path)(tmp_path / "b.obj", {"shape": Grid(region, np.ones(region.shape, F))})


def test_a_mesh_sequence_deforms_and_the_field_follows(tmp_path):
    for frame, size in ((1, 0.4), (2, 0.6), (4, 0.9)):
        trimesh.creation.icosphere(3, size).export(tmp_path / f"glass.{frame:04d}.obj")
    shapes = [{"id": "glass", "kind": "mesh", "params": {"file": "glass.0001.obj", "sequence": True}}]
    p = plan(
        lane("d", ("distance", {"shape": "glass"})), lane("s", ("surface_drift", {"shape": "glass", "reach": 0.08})),
        shapes=shapes, assets=Assets(tmp_path), clock={"fps": 10, "start": 1, "end": 9},
    )  # fmt: skip
    for time, size in ((0.0, 0.4), (0.1, 0.6), (0.25, 0.6), (0.3, 0.9), (5.0, 0.9)):
        assert values(p.at(time).lane("d"), F([[1, 0, 0]]))[0] == pytest.approx(1 - size, abs=0.02)
        on, off = values(p.at(time).lane("s"), F([[0, 0, size], [0, 0, 1.3]]))
        assert np.linalg.norm(on) > 0.5
        assert np.linalg.norm(off) == 0
    shapes[0]["params"]["file"] = "glass.obj"
    with pytest.raises(StudyError, match="no number"):
        values(plan(lane("d", ("distance", {"shape": "glass"})), shapes=shapes).at(0).lane("d"), np.zeros((1, 3)))


def test_a_self_intersecting_mesh_still_has_an_inside(tmp_path):
    a, b = trimesh.creation.icosphere(3, 0.5), trimesh.creation.icosphere(3, 0.5)
    b.apply_translation([0.5, 0, 0])
    trimesh.util.concatenate([a, b]).export(tmp_path / "two.obj")
    shapes = [{"id": "two", "kind": "mesh", "params": {"file": "two.obj"}}]
    n = node(("distance", {"shape": "two"}), shapes=shapes, assets=Assets(tmp_path))
    d, g = sample(n, F([[0.25, 0, 0], [0, 0, 0], [0.5, 0, 0], [1.5, 0, 0], [0.25, 1, 0]]), gradient=True)
    assert (d[:3] < 0).all()
    assert d[3:] == pytest.approx([0.5, np.hypot(0.25, 1) - 0.5], abs=0.03)
    assert np.isfinite(g).all()


def codes(p):
    return {f.code: f for f in findings(p)}


def test_the_check_names_the_term_that_points_into_the_obstacle():
    found = codes(
        plan(
            lane("gusts", ("curl_noise", {"strength": 0.4})),
            lane("push", ("wind", {"speed": 2})),
            lane(
                "v", ("use_field", {"field": "gusts"}), ("steer_around", {"shape": "ball"}), ("add", {"field": "push"}),
            ),
        )
    )  # fmt: skip
    assert "'push' points into 'ball'" in found["points_into_shape"].what
    assert found["points_into_shape"].where == "fields.v.s2"
    assert "added_after_steering" in found
    good = plan(
        lane("gusts", ("curl_noise", {"strength": 0.4})),
        lane("v", ("wind", {"speed": 2}), ("add", {"field": "gusts"}), ("steer_around", {"shape": "ball"})),
    )
    assert not codes(good)


def test_checks_on_voxels_zero_steps_and_regions_that_drift_apart():
    room = {"id": "room", "bounds": {"lower": [-1] * 3, "upper": [1] * 3}, "voxel_size": 0.1}
    wall = {**room, "id": "wall", "voxel_size": 0.12}
    found = codes(
        plan(
            lane("fine", ("curl_noise", {"feature_size": 0.3, "octaves": 2}), ("bake", {"region": "room"})),
            lane("none", ("noise", {}), ("gain", {"factor": 0}), ("flip",)),
            regions=[room, wall],
        )
    )
    assert found["detail_lost"].where == "fields.fine.s1"
    assert found["detail_lost"].fix["set"] == {"regions.room.voxel_size": 0.075}
    assert found["zero_everywhere"].where == "fields.none.s1", "the first step from which it is zero"
    assert found["voxel_sizes_differ"].fix["set"] == {"regions.wall.voxel_size": {"link": "regions.room.voxel_size"}}


def test_a_region_that_follows_moves_with_its_shape():
    moving = [
        {"id": "ball", "kind": "sphere", "params": {"radius": 0.5, "move": {"keys": [[0, [0, 0, 0]], [1, [4, 0, 0]]]}}}
    ]
    region = {"id": "room", "bounds": {"fit": ["ball"], "padding": 0.5}, "voxel_size": 0.1}
    for follow, x in ((True, 4.0), (False, 0.0)):
        p = plan(
            lane("d", ("distance", {"shape": "ball"}), ("bake", {"region": "room"})),
            shapes=moving, regions=[{**region, "follow": follow}],
        )  # fmt: skip
        box = p.at(1.0).region("room")
        assert 0.5 * (box.lower[0] + box.upper[0]) == pytest.approx(x)
        there = values(p.at(1.0).lane("d"), F([[4, 0, 0]]))[0]
        assert there == (pytest.approx(-0.5, abs=0.1) if follow else 0)
