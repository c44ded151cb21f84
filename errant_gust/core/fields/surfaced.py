"""Surfaces of fields, made once for what they depend on."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from errant_gust.core.errors import BudgetError, StudyError
from errant_gust.core.fields.gridded import KEPT, working
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.sampling import bake
from errant_gust.core.geometry.field_surface import FieldSurface, SurfaceDistance
from errant_gust.core.geometry.made import Made
from errant_gust.core.geometry.mesh import Mesh
from errant_gust.core.geometry.sdf import MeshDistance
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.study.document import content_hash

if TYPE_CHECKING:
    from errant_gust.core.fields.scene import Scene

BYTES_A_NODE = 60
MOST_TRIANGLES = 4_000_000


def surface_moves(scene: Scene, kind: FieldSurface) -> bool:
    """Whether it changes from frame to frame."""
    region = scene.study.find("regions", kind.region, "shapes")
    fitted = region.follow and any(scene.shape_moves(id) for id in region.bounds.fit)
    return scene.lane(kind.field).moves or fitted


def surface_of(scene: Scene, kind: FieldSurface, where: str, content: str) -> Made:
    """The surface of a lane at the scene's time. `content` stands for all it depends on but the time.

    Raises a StudyError if the lane is a vector or has the level nowhere in the region, a BudgetError if its voxels
    would need too much memory.
    """
    scene.study.find("fields", kind.field, f"{where}.field")
    scene.study.find("regions", kind.region, f"{where}.region")
    node = scene.lane(kind.field)
    if node.kind != "scalar":
        raise StudyError(f"'{kind.field}' is a vector; a scalar is needed here", where=f"{where}.field")
    box = nodes_of(scene.region(kind.region))
    key = content_hash("surface", content, scene.time if surface_moves(scene, kind) else 0.0)

    def make() -> Made:
        with working(where):
            return make_surface(node, box, kind, where)

    return KEPT.get(key, make, lambda made: made.nbytes)  # type: ignore[no-any-return]


def nodes_of(region: GridRegion) -> GridRegion:
    """A region whose middles of voxels are the corners of another's."""
    h = region.voxel_size
    x, y, z = (low - 0.5 * h for low in region.lower)
    i, j, k = (n + 1 for n in region.shape)
    return GridRegion((x, y, z), (i, j, k), h, region.turn)


def make_surface(node: Node, box: GridRegion, kind: FieldSurface, where: str) -> Made:
    """The surface of a scalar node on the nodes of a box. Raises StudyError where the field is not a number, or
    reaches its level nowhere; BudgetError where the region is too large."""
    from scipy import ndimage
    from skimage.measure import marching_cubes

    box.afford(BYTES_A_NODE, "a surface on", f"{where}.region")
    values = bake(node, box)
    if not np.isfinite(values).all():
        raise StudyError(f"'{kind.field}' is not a number everywhere in the region", where=f"{where}.field")
    if kind.smooth:
        values = ndimage.gaussian_filter(values, kind.smooth, mode="nearest")
    span = float(values.min()), float(values.max())
    if not span[0] < kind.level < span[1]:
        raise StudyError(
            f"'{kind.field}' is {kind.level:g} nowhere in the region: from {span[0]:.4g} to {span[1]:.4g} there",
            where=f"{where}.level", fix="a level between these",
        )  # fmt: skip
    phi = values - np.float32(kind.level)
    if kind.inside == "above":
        phi = -phi
    inside = phi < 0
    h = box.voxel_size
    # closed flat on the last nodes: far beyond the level on the layer around them
    far = np.float32(1e3 * max(float(np.abs(phi).max()), 1e-12))
    vertices, faces, _, _ = marching_cubes(np.pad(phi, 1, constant_values=far), 0.0, gradient_direction="descent")
    if len(faces) > MOST_TRIANGLES:
        raise BudgetError(
            f"the surface has {len(faces):,} triangles, {MOST_TRIANGLES:,} are allowed", where=f"{where}.region",
            fix="larger voxels of the region, or more smoothing",
        )  # fmt: skip
    first = np.array(box.lower) + 0.5 * h
    on_end = (vertices < 1 + 1e-2) | (vertices > np.array(box.shape) - 1e-2)
    own = first + h * (vertices - 1)
    flat = on_end[faces].all(axis=1).any(axis=1)
    placed = own @ box.axes.T if box.is_turned else own
    mesh = Mesh(placed.astype(np.float32), faces, watertight=True)
    if box.is_turned:
        cells = int(np.clip(float((mesh.upper - mesh.lower).max()) * 1.9 / h, 24, 160))
        distance: MeshDistance = MeshDistance(mesh, cells)
    else:
        distance = SurfaceDistance(mesh, inside, first, h)
    drawn = mesh.faces[~flat] if kind.ends == "open" else mesh.faces
    about = f"{len(drawn):,} triangles; the lane goes from {span[0]:.3g} to {span[1]:.3g} in the region"
    return Made(distance, drawn, about, {"cut": float(flat.mean())})
