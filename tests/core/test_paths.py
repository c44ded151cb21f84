"""Curves and the flows along them: closest points, lengths, frames, flux, walls, bad curves."""

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from errant_gust.core.errors import FileError, GustError, StudyError
from errant_gust.core.fields.sampling import sample
from errant_gust.core.geometry.curve_files import read_curves
from errant_gust.core.geometry.curves import CurveSet, frames
from errant_gust.core.study.building import lane
from errant_gust.core.study.document import parse
from tests.studies import data, node, plan, values

F = np.float32
BENT = [[0, 0, 0], [0.2, 0, 1], [0.9, 0.3, 1.8], [2, 0.3, 2], [3, 0, 2.6]]
TUBE = {"id": "tube", "kind": "curve", "params": {
    "points": BENT, "radius": 0.4, "widths": [[0, 1], [0.4, 0.55], [0.7, 1.2], [1, 0.8]]}}  # fmt: skip
LINE = {"id": "line", "kind": "curve", "params": {"points": [[-3, 0, 0], [0, 0, 0], [3, 0, 0]], "radius": 0.5}}


def circle(count=64):
    a = np.linspace(0, 2 * np.pi, count, endpoint=False)
    return np.stack([np.cos(a), np.sin(a), np.zeros(count)], axis=1)


def test_the_length_of_a_circle_and_its_curvature():
    ring = CurveSet([circle()], smooth=True, closed=True)
    assert ring.length[0] == pytest.approx(2 * np.pi, rel=1e-5)
    near = ring.nearest(F([[1.4, 0.3], [0.2, -0.8], [0.1, 0]]))
    assert np.linalg.norm(near.curvature, axis=0) == pytest.approx([1, 1], rel=2e-3)
    assert np.linalg.norm(near.offset, axis=0)[0] == pytest.approx(np.hypot(np.hypot(1.4, 0.2) - 1, 0.1), rel=1e-3)


@pytest.mark.parametrize("smooth", [True, False])
@pytest.mark.slow("every pair by hand, for comparison")
def test_closest_points_on_thousands_of_points_and_many_curves(smooth, rng):
    t = np.linspace(0, 1, 2500)[:, None]
    curves = [np.concatenate([np.cos(40 * t + k), np.sin(37 * t), 4 * t + 0.3 * k], axis=1) for k in range(4)]
    found = CurveSet(curves, smooth=smooth, closed=False)
    points = rng.uniform(-1.5, 4, (300, 3)).astype(F)
    near = found.nearest(np.ascontiguousarray(points.T))
    dense = np.concatenate([found.at(np.full(40, p), np.linspace(0, 1, 40)) for p in range(len(found.cubic))])
    brute = np.sqrt(((points[:, None] - dense[None, ::3]) ** 2).sum(-1)).min(axis=1)
    ours = np.sqrt((near.offset**2).sum(axis=0) + near.over**2)
    assert np.abs(ours - brute).max() < 2e-3


def test_frames_do_not_flip_along_a_curve_with_inflections():
    s = CurveSet(
        [np.array([[0, 0, 0], [1, 1, 0], [2, 0, 0], [3, -1, 0.2], [4, 0, 0]], float)], smooth=True, closed=False
    )
    _, tangents, _ = s.along(0, 300)
    n = frames(tangents)
    assert np.abs((n * tangents).sum(1)).max() < 1e-6
    assert (n[1:] * n[:-1]).sum(1).min() > 0.99


def test_spline_flow_goes_along_toward_and_around():
    steps = {"curve": "line", "along": 2, "inward": 0.3, "around": 0.5, "reach": 2, "ends": "run on"}
    v = values(node(("spline_flow", steps), shapes=[LINE]), F([[0.3, 0.2, 0], [0.3, 0, 0], [5, 0, 0], [0, 2.5, 0]]))
    assert v[0] == pytest.approx([2, -0.3 * 0.894, 0.5 * 0.894], abs=0.02)
    assert v[1] == pytest.approx([2, 0, 0], abs=1e-5)
    assert v[2] == pytest.approx([2, 0, 0], abs=1e-4)
    assert v[3] == pytest.approx([0, 0, 0], abs=1e-6)
    far = values(node(("spline_flow", {**steps, "turn_in": [[0.1, 0], [0.6, 1]]}), shapes=[LINE]), F([[0, 1.3, 0]]))
    assert abs(far[0, 0]) < 1e-5, "far away it is turned straight inward"
    assert far[0, 1] < -1
    stopped = values(node(("spline_flow", {**steps, "ends": "stop"}), shapes=[LINE]), F([[4.2, 0, 0]]))
    assert stopped[0] == pytest.approx([0, 0, 0], abs=1e-6)


def test_flux_through_every_section_of_a_bore_is_the_same():
    n = node(("bore_flow", {"curve": "tube", "flux": 0.4}), shapes=[TUBE])
    kind, geometry = n.scene.shape("tube").kind, n.scene.shape("tube").geometry
    curve = kind.curves(geometry)
    places, tangents, share = curve.along(0, 41)
    fluxes = []
    for c, t, s in zip(places[3:-3], tangents[3:-3], share[3:-3], strict=True):
        a = np.cross(t, [0.3, 0.5, 0.8])
        a /= np.linalg.norm(a)
        b = np.cross(t, a)
        radius = float(kind.width(F([s]))[0][0])
        r = (np.arange(60) + 0.5) / 60 * radius
        angle = (np.arange(64) + 0.5) / 64 * 2 * np.pi
        rr, aa = np.meshgrid(r, angle, indexing="ij")
        points = c + rr[..., None] * (np.cos(aa)[..., None] * a + np.sin(aa)[..., None] * b)
        v = values(n, points.reshape(-1, 3).astype(F))
        area = rr.ravel() * (radius / 60) * (2 * np.pi / 64)
        fluxes.append(((v @ t) * area).sum())
    assert np.array(fluxes) == pytest.approx(0.4, rel=0.01)


def test_a_bore_has_no_divergence_also_in_bends_and_nothing_leaves_the_wall(rng):
    n = node(("bore_flow", {"curve": "tube", "spin": 2}), shapes=[TUBE])
    shape = n.scene.shape("tube")
    points = rng.uniform([-0.5, -0.5, 0.2], [3, 0.8, 2.8], (20_000, 3)).astype(F)
    inside = points[shape.distance(points.T.copy())[0] < -0.02]
    v, slope = sample(n, inside, gradient=True)
    trace = np.abs(np.trace(slope, axis1=1, axis2=2)) * 0.25 / np.linalg.norm(v, axis=1)
    assert np.quantile(trace, 0.99) < 2e-3
    for start in ([0.25, 0, 0.05], [-0.2, 0.2, 0.05], [0.0, -0.3, 0.05]):
        path = solve_ivp(lambda _, p: values(n, p[None].astype(F))[0], (0, 3), start, rtol=1e-6, max_step=0.02).y.T
        near = shape.kind.curves(shape.geometry).nearest(np.ascontiguousarray(path.T, F))
        path = path[(near.s > 0) & (near.s < near.length)]
        assert len(path) > 50
        assert shape.distance(np.ascontiguousarray(path.T, F))[0].max() < 2e-3


@pytest.mark.parametrize(("points", "words"), [
    ([], "needs points"), ([[0, 0, 0]], "the same"), ([[1, 1, 1]] * 5, "the same"),
])  # fmt: skip
def test_bad_curves_are_clear_errors(points, words):
    shape = {"id": "tube", "kind": "curve", "params": {"points": points}}
    with pytest.raises(GustError, match=words):
        values(node(("spline_flow", {"curve": "tube"}), shapes=[shape]), np.zeros((1, 3)))


def test_zero_length_segments_are_left_out_and_give_no_nan(rng):
    shape = {
        "id": "tube",
        "kind": "curve",
        "params": {"points": [[0, 0, 0], [0, 0, 0], [1, 0, 0], [1, 0, 0], [1, 1, 0]]},
    }
    for form in ("smooth", "straight"):
        shape["params"]["form"] = form
        n = node(("spline_flow", {"curve": "tube", "around": 1}), shapes=[shape])
        v, slope = sample(n, np.concatenate([rng.uniform(-1, 2, (500, 3)), [[0, 0, 0], [1, 0, 0]]]), gradient=True)
        assert np.isfinite(v).all()
        assert np.isfinite(slope).all()


def test_a_flow_along_something_that_is_no_curve_is_refused():
    with pytest.raises(StudyError, match="not a curve"):
        values(node(("spline_flow", {"curve": "ball"})), np.zeros((1, 3)))


def test_curves_from_obj_svg_and_usd(tmp_path):
    (tmp_path / "a.obj").write_text("v 0 0 0\nv 1 0 0\nv 1 1 0\nv 1 1 2\nl 1 2 3 4\nl -1 -4\n")
    assert [len(c) for c in read_curves(tmp_path / "a.obj")] == [4, 2]
    (tmp_path / "a.svg").write_text('<svg xmlns="http://www.w3.org/2000/svg"><path d="M0 0 C 1 0 2 1 3 3"/></svg>')
    (path,) = read_curves(tmp_path / "a.svg")
    assert path[-1] == pytest.approx((3, 0, -3))
    from pxr import Gf, Usd, UsdGeom

    stage = Usd.Stage.CreateNew(str(tmp_path / "a.usda"))
    curves = UsdGeom.BasisCurves.Define(stage, "/path")
    curves.CreatePointsAttr([Gf.Vec3f(0, 0, 0), Gf.Vec3f(0, 1, 0), Gf.Vec3f(0, 2, 1)])
    curves.CreateCurveVertexCountsAttr([3])
    curves.AddTranslateOp().Set(Gf.Vec3d(5, 0, 0))
    stage.Save()
    (path,) = read_curves(tmp_path / "a.usda")
    assert path[2] == pytest.approx((5, 2, 1))
    (tmp_path / "bad.obj").write_text("v 0 0\nl 1 2\n")
    (tmp_path / "bad.usda").write_text("#usda 1.0\ndef Nothing {")
    (tmp_path / "flat.obj").write_text("v 0 0\nv 1 0\nv 1 1\nl 1 2 3\n")
    for name in ("bad.obj", "bad.usda", "flat.obj"):
        with pytest.raises(FileError, match=r"cannot be read|no curve|needs points"):
            read_curves(tmp_path / name)


TUBE = {"id": "tube", "kind": "curve", "params": {"points": [[-1, 0, 0], [1, 0, 0]], "widths": [[0, 0.5], [1, 2.0]]}}
FLOW = ("spline_flow", {"curve": "tube", "reach": 0.5, "inward": 0.0, "ends": "run on"})


def reached(steps, x, shapes=(TUBE,)):
    """How far from the curve the stream still moves, at a place along it."""
    n = plan(lane("a", steps), shapes=list(shapes)).at(0.0).lane("a")
    r = np.linspace(0.0, 2.0, 401)
    speed = np.linalg.norm(sample(n, np.column_stack([np.full_like(r, x), r, 0 * r]).astype(np.float32))[0], axis=1)
    return r[speed > 1e-3].max()


def test_a_spline_flow_is_as_wide_as_its_tube_unless_told_otherwise():
    assert reached(FLOW, -0.9) < 0.4 < 0.8 < reached(FLOW, 0.9)
    own = (FLOW[0], {**FLOW[1], "with_tube": False})
    assert reached(own, -0.9) == pytest.approx(reached(own, 0.9), abs=0.01)


def test_documents_of_version_1_keep_the_width_that_they_had():
    old = {**data(lane("a", FLOW), lane("b", ("wind", {})), shapes=[TUBE]), "version": 1}
    study = parse(old)
    assert study.version == 2
    assert study.fields[0].steps[0].params["with_tube"] is False
    assert "with_tube" not in old["fields"][0]["steps"][0]["params"], "what was read is left as it is"
    even = {**TUBE, "params": {"points": [[-1, 0, 0], [1, 0, 0]]}}
    assert "with_tube" not in parse({**old, "shapes": [even]}).fields[0].steps[0].params
    assert parse(data(lane("a", FLOW), shapes=[TUBE])).fields[0].steps[0].params.get("with_tube") is None
