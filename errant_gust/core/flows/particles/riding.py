"""Ride: particles go with the surface of a shape that moves or is deformed."""

import numpy as np

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.particles.steps import Moving, ParticleStep, Use
from errant_gust.core.flows.step import Pushes
from errant_gust.core.geometry.mesh import Mesh
from errant_gust.core.study.parameters import ShapeId, param

SURFACES = "surfaces"


class Ride(ParticleStep, Pushes):
    """Each particle keeps its place on the surface: on its triangle, by its share of the corners, and as far off it as
    it is, while the shape moves, turns, grows or is deformed.

    What carries it besides slides it over the surface. Scatter with *At least apart*, and the points stay as far from
    each other as the surface lets them.
    """

    id = "ride"
    label = "Ride"
    family = "motion"
    yields = "motion with a surface"
    mistake = (
        "A surface that is made anew on every frame (Surface of a field) has no triangles to keep a place on: Stay out "
        "pushes particles along with that."
    )
    headline = "shape"

    shape: ShapeId = param(help="The shape on whose surface they ride")
    reach: float = param(
        0.0, unit="m", range=(0, 1e5), slider=(0, 1), help="Only particles that are so near to it; 0: all of them"
    )
    share: float = param(1.0, range=(0, 1), varies=True, help="0 stays, 1 rides, between them it lags behind")

    def prepare(self, use: Use) -> None:
        """Raises StudyError for a shape without a surface, or with other triangles on every frame."""
        before, after = (use.scenes[stage].shape(self.shape) for stage in ("start", "end"))
        if not (before.moves or after.moves or use.scenes["end"].shape_moves(self.shape)):
            return
        (v0, f0), (v1, f1) = before.surface, after.surface
        if not len(f0):
            raise StudyError("has no surface to ride on", where=f"shapes.{self.shape}", fix="choose another shape")
        if f0.shape != f1.shape or not np.array_equal(f0, f1):
            raise StudyError(
                f"'{self.shape}' has other triangles on every frame", where=f"{use.where}.shape",
                fix="ride on a shape that moves or is Deformed, or use Stay out",
            )  # fmt: skip
        mesh = Mesh(np.asarray(v0, np.float32), f0, watertight=True)
        mesh.closest(v0[:1])
        use.made[SURFACES] = mesh, np.asarray(v1, np.float64)

    def correct(self, m: Moving, use: Use) -> None:
        found = use.made.get(SURFACES)
        if found is None:
            return
        mesh, after = found
        points = np.ascontiguousarray(m.position.T, np.float64)
        away, on, which = mesh.closest(points)
        near = away <= self.reach if self.reach else np.ones(len(away), bool)
        corners = mesh.faces[mesh.order[which]]
        v0, v1 = np.asarray(mesh.vertices, np.float64)[corners], after[corners]
        shares = barycentric(v0, on)
        place = np.einsum("nk,nkc->nc", shares, v1)
        off = points - on
        n0, n1 = _normals(v0), _normals(v1)
        height = (off * n0).sum(axis=1, keepdims=True)
        target = place + off + height * (n1 - n0)
        full = use.scenes["end"].time - use.scenes["start"].time
        part = np.asarray(m.dt, np.float64) / full if full > 0 else np.zeros(len(points))
        share = np.clip(np.asarray(use.number("share", m.position), np.float64), 0, 1) * np.clip(part, 0, 1) * near
        m.position = np.ascontiguousarray((points + np.broadcast_to(share, len(points))[:, None] * (target - points)).T)
        m.position = m.position.astype(np.float32)
        m.pushed_back = near if m.pushed_back is None else m.pushed_back | near


def barycentric(corners: Array, points: Array) -> Array:
    """Shares (n, 3) of the corners (n, 3, 3) of triangles at points (n, 3) on them; a third each where one has no
    area."""
    from trimesh.triangles import points_to_barycentric

    with np.errstate(divide="ignore", invalid="ignore"):
        made = points_to_barycentric(corners, points, method="cramer")
    return np.where(np.isfinite(made).all(axis=1, keepdims=True), made, 1 / 3)


def _normals(corners: Array) -> Array:
    n = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return np.asarray(n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-30))
