"""Surface of a field: a shape that a scalar lane makes, and its distance, exact near the surface."""

from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.blocks import share_out
from errant_gust.core.geometry.made import MadeShape
from errant_gust.core.geometry.mesh import Mesh
from errant_gust.core.geometry.sdf import MeshDistance
from errant_gust.core.kernels import grids as kernels
from errant_gust.core.making import lazy
from errant_gust.core.study.parameters import FieldId, RegionId, param

Array = NDArray[Any]
MARGIN = 4  # nodes beyond the region
BAND, BLEND = 7.0, 3.0  # voxels from the surface within which every node asks all triangles, and a soft change
STEP = 4  # beyond them every so-manieth does
SOFT = 0.6  # voxels over which the edges between the triangles are smoothed


class SurfaceDistance(MeshDistance):
    """Signed distance of a surface that was made on a grid: its sign is that of the grid, so that it needs no holes
    closed, and its nodes are those of the grid."""

    def __init__(self, mesh: Mesh, inside: Array, lower: Array, h: float) -> None:
        """inside: which nodes (nx, ny, nz) of the grid are in it; lower: the first of them; h: how far they are apart,
        in metres."""
        self.mesh, self.h = mesh, float(h)
        self.lower = np.asarray(lower, float) - MARGIN * h
        self._inside = np.pad(inside, MARGIN)
        self.shape = tuple(int(n) for n in self._inside.shape)  # type: ignore[assignment]

    @lazy
    def signed(self) -> Array:
        """Signed distances (nx, ny, nz) float32 at the nodes: exact within BAND voxels; farther off, where a distance
        is smooth, by a spline through the exact ones of every STEP-th node (a tenth of the time at 128³)."""
        from scipy import ndimage

        inside = self._inside
        edge = np.zeros_like(inside)
        for axis in range(3):
            differ = np.diff(inside, axis=axis)
            before, after = [slice(None)] * 3, [slice(None)] * 3
            before[axis], after[axis] = slice(None, -1), slice(1, None)
            edge[tuple(before)] |= differ
            edge[tuple(after)] |= differ
        away = ndimage.distance_transform_edt(~edge)
        near, far = away <= BAND, away > BAND - BLEND
        out = np.zeros(inside.shape, np.float32)
        out[near] = self._closest(np.argwhere(near))
        if far.any():
            coarse = [np.arange(0, n + STEP, STEP) for n in inside.shape]
            grid = np.stack(np.meshgrid(*coarse, indexing="ij"), axis=-1).reshape(-1, 3)
            exact = self._closest(grid).reshape([len(c) for c in coarse])
            signed = np.where(inside[tuple(np.minimum(grid, np.array(inside.shape) - 1).T)].reshape(exact.shape), -1, 1)
            spline = np.ascontiguousarray(ndimage.spline_filter(exact * signed, order=3, mode="mirror"), np.float32)
            s = np.clip((away[far] - (BAND - BLEND)) / BLEND, 0, 1).astype(np.float32)
            share = s * s * (3 - 2 * s)
            out[far] = (1 - share) * out[far] + share * np.abs(_between(spline, np.argwhere(far)))
        return np.where(inside, -out, out)

    def _closest(self, nodes: Array) -> Array:
        """Exact distances (m,) of nodes (m, 3), by their indices."""
        out = np.empty(len(nodes))

        def ask(first: int, last: int) -> None:
            out[first:last] = self.mesh.closest(self.lower + self.h * nodes[first:last])[0]

        share_out(ask, len(nodes), block=1 << 14)
        return out

    @lazy
    def margin(self) -> float:
        """None: where a field has its level matters more than that no flat end's edge stands out."""
        return 0.0

    def _facets(self) -> float:
        return SOFT


def _between(spline: Array, nodes: Array) -> Array:
    """A spline on every STEP-th node at nodes (m, 3), by their indices."""
    made = np.empty(len(nodes), np.float32)

    def look(first: int, last: int) -> None:
        p = np.ascontiguousarray(nodes[first:last].T / STEP, np.float32)
        out = np.empty((10, last - first), np.float32)
        kernels.spline(spline, p[0], p[1], p[2], out)
        made[first:last] = out[0]

    share_out(look, len(nodes), block=1 << 16)
    return made


class FieldSurface(MadeShape):
    """The surface where a scalar lane has a certain value, in a region: a shape like any other, to emit from, to steer
    around, to collide with, to probe.

    Made on the region's voxels, closed where they end, and made anew on every frame if the lane moves. A distance that
    is roughened by noise and smoothed makes bubbles; a mask makes the shape of where it is.
    """

    id = "field_surface"
    label = "Surface of a field"
    yields = "a shape that a lane makes"
    headline = "field"
    mistake = (
        "What the region cuts is closed flat there: enlarge it. A detail smaller than two voxels is lost, and a lane "
        "that steers around its own surface would be a circle."
    )

    field: FieldId = param(help="A scalar lane")
    region: RegionId = param(help="Where it is looked for, and how finely")
    level: float = param(0.0, slider=(-1, 1), unit="as the field", help="The value that the surface is at")
    inside: Literal["below", "above"] = param(
        "below", help="On which side of the value the inside is: below for a distance, above for a mask"
    )
    smooth: float = param(
        0.5, unit="voxels", range=(0, 20), slider=(0, 5), help="The field is blurred so far before it is cut"
    )
    ends: Literal["closed", "open"] = param(
        "closed",
        help="Whether the flat ends are drawn, and emitted from, where the region cuts it; inside stays inside",
    )

    wants = {"field": "scalar"}
