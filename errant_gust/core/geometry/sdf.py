"""Signed distance to a mesh as a smooth function: exact distances on a grid under a cubic B-spline.

The spline is twice continuously differentiable, so fields built from the distance (steer around) have exact first
derivatives and stay free of divergence. It rounds edges sharper than a cell; `margin` is how far the true surface was
found to stand out of the zero level, and is taken off the distance near the surface, so that no part of the mesh is
left uncovered. Farther away it is taken off less and less, and from FADED cells on not at all.
Outside the grid the exact distance is used.
"""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.geometry.mesh import Mesh
from errant_gust.core.geometry.primitives import PAIRS
from errant_gust.core.kernels import grids as kernels
from errant_gust.core.kernels import meshes as mesh_kernels
from errant_gust.core.making import lazy

Array = NDArray[Any]
CELLS = 72  # along the longest side of the padded box
FADED = 7.0
PADDING = 0.45  # of the longest side of the mesh


class MeshDistance:
    """Signed distance in metres, negative inside, with first and second derivatives."""

    def __init__(self, mesh: Mesh, cells: int = CELLS) -> None:
        self.mesh = mesh
        extent = mesh.upper - mesh.lower
        pad = PADDING * float(extent.max()) or 1.0
        self.h = float(extent.max() + 2 * pad) / cells or 1.0
        self.lower = mesh.lower - pad
        shape = np.ceil((extent + 2 * pad) / self.h).astype(int) + 2
        self.shape: tuple[int, int, int] = (int(shape[0]), int(shape[1]), int(shape[2]))

    @lazy
    def signed(self) -> Array:
        """Signed distances at the nodes (nx, ny, nz) float32: exact, except behind holes, which are closed."""
        distance, wind = self.mesh.distance_grid(self.lower, self.h, self.shape)
        inside = wind > 0.5
        if not self.mesh.watertight:
            _close_holes(distance, wind, self.h)
        return np.where(inside, -distance, distance).astype(np.float32)

    @lazy
    def coefficients(self) -> Array:
        """Of the cubic spline through the smoothed distances, (nx, ny, nz)."""
        from scipy import ndimage

        exact = self.signed.astype(np.float64)
        smoothed = ndimage.gaussian_filter(exact, self._facets(), mode="nearest")
        # a blurred distance is too large, by the blur's width squared over the distance: blur it near the facets only
        s = np.clip((np.abs(exact) / self.h - 3) / (FADED - 3), 0, 1)
        smoothed += (exact - smoothed) * (s * s * s * (s * (s * 6 - 15) + 10))
        spline = ndimage.spline_filter(smoothed, order=3, mode="mirror")
        return np.ascontiguousarray(spline, np.float32)

    def _facets(self) -> float:
        """Cells over which to smooth, so that the edges between the triangles of a round surface do not show."""
        import trimesh

        mesh = trimesh.Trimesh(self.mesh.vertices, self.mesh.faces, process=False)
        angles = mesh.face_adjacency_angles
        gentle = (angles > 0.01) & (angles < 0.5)
        if gentle.sum() < 0.4 * len(angles):  # flat faces and sharp edges: nothing to smooth
            return 0.3
        ends = mesh.vertices[mesh.face_adjacency_edges[gentle]]
        edge = float(np.median(np.linalg.norm(ends[:, 0] - ends[:, 1], axis=1)))
        return float(np.clip(0.6 * edge / self.h, 0.5, 1.6))

    @lazy
    def margin(self) -> float:
        """How far the mesh stands out of the spline's zero level, in metres (sampled over the whole surface)."""
        t = self.mesh.triangles.reshape(-1, 3, 3)
        near = [t.reshape(-1, 3), t.mean(axis=1), 0.5 * (t + np.roll(t, 1, axis=1)).reshape(-1, 3)]
        points = np.concatenate(near)
        rng = np.random.default_rng(1)
        pick = rng.choice(len(t), size=40_000, p=self.mesh.areas / self.mesh.areas.sum())
        b = np.sort(rng.random((len(pick), 2)), axis=1)
        w = np.stack([b[:, 0], b[:, 1] - b[:, 0], 1 - b[:, 1]], axis=1)
        points = np.concatenate([points[:200_000], np.einsum("nk,nkc->nc", w, t[pick])])
        raw = self._spline(np.ascontiguousarray(points.T, np.float32))[0]
        return float(max(0.0, raw.max()))

    def _spline(self, points: Array) -> Array:
        p = (points - self.lower.astype(np.float32)[:, None]) / np.float32(self.h)
        out = np.empty((10, points.shape[1]), np.float32)
        kernels.spline(self.coefficients, p[0], p[1], p[2], out)
        return out

    def sample(self, points: Array, order: int = 0) -> tuple[Array, Array | None, Array | None]:
        """points (3, n) -> distance (n,), gradient (3, n) if order >= 1, second derivatives (6, n) if order >= 2."""
        out = self._spline(points)
        h = np.float32(self.h)
        out[1:4] /= h
        out[4:] /= h * h
        self._covered(out, order)
        p = (points - self.lower.astype(np.float32)[:, None]) / h
        top = np.array(self.shape, np.float32)[:, None] - 2
        outside = ((p < 1) | (p > top)).any(axis=0)
        if outside.any():
            out[:, outside] = self._exact(points[:, outside])
        return out[0], out[1:4] if order >= 1 else None, out[4:] if order >= 2 else None

    def _covered(self, out: Array, order: int) -> None:
        """Takes the margin m off the distance r, its slope and curvature (10, n): d = r − m w(|r|), w falling from 1
        at the margin to 0 at FADED cells."""
        m, r = np.float32(self.margin), out[0]
        length = np.float32(FADED * self.h - self.margin)
        s = np.clip((np.abs(r) - m) / length, 0, 1)
        side = np.sign(r)
        if order >= 2:
            second = m * (60 * s * (s - 1) * (2 * s - 1)) / length**2
        slope = 1 + m * side * 30 * s * s * (s - 1) ** 2 / length
        if order >= 2:
            outer = np.stack([out[1 + i] * out[1 + j] for i, j in PAIRS])
            out[4:] = slope * out[4:] + second * outer
        if order >= 1:
            out[1:4] *= slope
        out[0] = r - m * (1 - s * s * s * (s * (6 * s - 15) + 10))

    def rough(self, points: Array) -> Array:
        """At most the distance at points (3, n): linear between the nodes, less a cell; on the box when outside it.

        The grid's box is convex and holds the mesh, so a point outside is no nearer than its place on the box.
        """
        out = np.empty(points.shape[1], np.float32)
        low = self.lower.astype(np.float32)
        kernels.sample_scalar(self.signed, *points, low[0], low[1], low[2], np.float32(1 / self.h), 1, out)
        return out - np.float32(self.h + self.margin)

    def _exact(self, points: Array) -> Array:
        """Distance and derivatives far away, where the mesh is a point or a line as seen from there."""
        distance, where, _ = self.mesh.closest(points.T)
        d = np.maximum(distance, 1e-12)
        n = (points.astype(np.float64) - where.T) / d
        out = np.empty((10, points.shape[1]))
        out[0], out[1:4] = d, n
        for row, (i, j) in enumerate(((0, 0), (1, 1), (2, 2), (0, 1), (0, 2), (1, 2))):
            out[4 + row] = ((1.0 if i == j else 0.0) - n[i] * n[j]) / d
        return out.astype(np.float32)


def _close_holes(distance: Array, wind: Array, h: float) -> None:
    """Let the half level of the winding number stand in for missing surface, and sweep distances from it."""
    level = wind - 0.5
    fixed = np.zeros(distance.shape, bool)
    found = np.full(distance.shape, np.inf)
    for axis in range(3):
        a, b = (tuple(slice(None, -1) if i == axis else slice(None) for i in range(3)),
                tuple(slice(1, None) if i == axis else slice(None) for i in range(3)))  # fmt: skip
        surface_between = distance[a] + distance[b] <= 1.001 * h
        cross = ((level[a] > 0) != (level[b] > 0)) & ~surface_between
        share = np.abs(level[a]) / np.maximum(np.abs(level[a]) + np.abs(level[b]), 1e-12)
        for side, to in ((a, share), (b, 1 - share)):
            gap = np.where(cross, h * to, np.inf)
            np.minimum(found[side], gap, out=found[side])
    near = np.isfinite(found)
    closer = near & (found < distance)
    distance[closer] = found[closer]
    fixed |= near
    for _ in range(2):
        mesh_kernels.sweep(distance, fixed, h)
