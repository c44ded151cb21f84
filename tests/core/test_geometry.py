"""Distances of primitives and meshes, broken and open meshes, limits."""

import numpy as np
import pytest
import trimesh
from hypothesis import given
from hypothesis import strategies as st

from errant_gust.core.errors import FileError
from errant_gust.core.geometry import mesh as meshes
from errant_gust.core.geometry import primitives
from errant_gust.core.geometry.mesh import make_mesh, read_mesh
from errant_gust.core.geometry.sdf import MeshDistance

KINDS = {
    "sphere": lambda p, o: primitives.sphere(p, 0.7, o),
    "box": lambda p, o: primitives.box(p, (0.5, 0.8, 0.3), o),
    "cylinder": lambda p, o: primitives.cylinder(p, 0.5, 1.2, o),
    "plane": lambda p, o: primitives.plane(p, o),
    "torus": lambda p, o: primitives.torus(p, 0.9, 0.3, o),
    "capsule": lambda p, o: primitives.capsule(p, 0.4, 1.1, o),
    "cone": lambda p, o: primitives.cone(p, 0.8, 0.2, 1.3, o),
}


@pytest.mark.parametrize("kind", KINDS)
def test_primitive_distances_have_unit_gradient_and_right_curvature(kind, rng):
    p = rng.uniform(-2, 2, (3, 4000)).astype(np.float32)
    _, g, h = KINDS[kind](p, 2)
    assert np.allclose(np.linalg.norm(g, axis=0), 1, atol=1e-5)
    step = np.float32(2e-3)
    rows = {(0, 0): 0, (1, 1): 1, (2, 2): 2, (0, 1): 3, (0, 2): 4, (1, 2): 5}
    for j in range(3):
        a, b = p.copy(), p.copy()
        a[j] += step
        b[j] -= step
        da, ga, _ = KINDS[kind](a, 1)
        db, gb, _ = KINDS[kind](b, 1)
        assert np.quantile(np.abs((da - db) / (a[j] - b[j]) - g[j]), 0.98) < 2e-3
        for i in range(3):
            error = np.abs((ga[i] - gb[i]) / (a[j] - b[j]) - h[rows[tuple(sorted((i, j)))]])
            assert np.quantile(error, 0.95) < 2e-2


@given(st.floats(-3, 3), st.floats(-3, 3), st.floats(-3, 3))
def test_box_distance_is_exact(x, y, z):
    half = np.array([0.5, 0.8, 0.3])
    d = primitives.box(np.float32([[x], [y], [z]]), tuple(half), 0)[0][0]
    q = np.abs([x, y, z]) - half
    expected = np.linalg.norm(np.maximum(q, 0)) if (q > 0).any() else q.max()
    assert d == pytest.approx(expected, abs=1e-5)


def test_closest_points_and_winding_agree_with_a_library(rng):
    m = trimesh.creation.torus(1, 0.35)
    ours = make_mesh(m.vertices, m.faces, "torus")
    points = rng.uniform(-1.6, 1.6, (1500, 3))
    _, expected, _ = trimesh.proximity.closest_point(m, points)
    distance, _, _ = ours.closest(points)
    assert np.allclose(distance, expected, atol=1e-9)
    inside = np.hypot(np.hypot(points[:, 0], points[:, 1]) - 1, points[:, 2]) < 0.33
    outside = np.hypot(np.hypot(points[:, 0], points[:, 1]) - 1, points[:, 2]) > 0.36
    w = ours.winding(points)
    assert (w[inside] > 0.9).all()
    assert (w[outside] < 0.1).all()


@pytest.mark.parametrize("name", ["torus", "ball", "box"])
def test_mesh_distance_is_close_smooth_and_covers_the_mesh(name, rng):
    m = {
        "torus": trimesh.creation.torus(1, 0.35, 64, 48),
        "ball": trimesh.creation.icosphere(4),
        "box": trimesh.creation.box((1, 1, 2)),
    }[name]
    ours = make_mesh(m.vertices, m.faces, name)
    sdf = MeshDistance(ours)
    points = rng.uniform(-1.4, 1.4, (3, 4000)).astype(np.float32)
    d, g, _ = sdf.sample(points, 1)
    true = ours.closest(points.T)[0] * np.where(ours.contains(points.T), -1, 1)
    assert np.quantile(np.abs(d - true), 0.98) < 0.35 * sdf.h
    near = np.abs(true) < 0.2
    assert np.median(np.abs(np.linalg.norm(g[:, near], axis=0) - 1)) < 0.02
    surface = trimesh.sample.sample_surface(m, 4000, seed=1)[0].astype(np.float32).T
    assert sdf.sample(np.ascontiguousarray(surface))[0].max() < 0.02 * sdf.h, "the mesh stands out of its distance"
    rough = sdf.rough(points)
    assert (rough <= d + 1e-5).all(), "the rough distance must never be larger"


def test_an_open_box_is_reported_and_still_has_an_inside():
    m = trimesh.creation.box((1, 1, 1))
    ours = make_mesh(m.vertices, m.faces[2:], "open")
    assert not ours.watertight
    assert any("not watertight" in note for note in ours.report.notes)
    d, _, _ = MeshDistance(ours).sample(np.float32([[0, 0, 0], [0.9, 0, 0], [-0.9, 0, 0], [0, 0.8, 0]]).T.copy())
    assert d[0] < -0.2
    assert (d[1:] > 0.2).all()


def test_an_open_dome_is_inside_up_to_its_opening():
    """Half of the directions see it from the middle of the opening, 0.36 of them from 0.3 below it."""
    m = trimesh.creation.icosphere(3)
    dome = make_mesh(m.vertices, m.faces[m.triangles_center[:, 2] > 0], "dome")
    at = np.array([[0, 0, 0.3], [0, 0, 0.1], [0, 0, -0.1], [0, 0, -0.3], [0.5, 0, -0.15]])
    assert dome.contains(at).tolist() == [True, True, False, False, False]
    assert dome.winding(at)[3] == pytest.approx(0.5 * (1 - 0.3 / np.hypot(1, 0.3)), abs=0.02)


def test_a_thin_plate_has_both_sides_outside():
    m = trimesh.creation.box((2, 2, 0.02))
    d, _, _ = MeshDistance(make_mesh(m.vertices, m.faces, "plate")).sample(
        np.float32([[0, 0, 0.3], [0, 0, -0.3]]).T.copy()
    )
    assert d == pytest.approx([0.29, 0.29], abs=0.03)


def test_inverted_meshes_are_turned_and_degenerate_triangles_left_out():
    m = trimesh.creation.icosphere(2)
    ours = make_mesh(m.vertices, m.faces[:, ::-1], "inverted")
    assert ours.contains(np.zeros((1, 3)))[0]
    with_slivers = make_mesh(m.vertices, np.concatenate([m.faces, [[0, 0, 1]]]), "slivers")
    assert any("without area" in note for note in with_slivers.notes)


def test_a_mesh_of_too_many_triangles_is_refused_with_the_limit(tmp_path, monkeypatch):
    faces = np.zeros((5_000_000, 3), np.int64)
    faces[:] = [0, 1, 2]
    with pytest.raises(FileError, match=r"5,000,000 triangles.*2,000,000"):
        make_mesh(np.eye(3), faces, "huge.obj")
    monkeypatch.setattr(meshes, "MAX_BYTES", 10)
    path = tmp_path / "huge.obj"
    path.write_text("v 0 0 0\n" * 200_000)
    with pytest.raises(FileError, match="too large"):
        read_mesh(path)
