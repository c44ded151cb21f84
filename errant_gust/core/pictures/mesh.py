"""Triangles in a picture, with their own colours, and the tree that rays meet them by."""

from dataclasses import dataclass

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.kernels.rays import box_tree
from errant_gust.core.making import lazy

Tree = tuple[Array, Array, Array, Array, Array, Array]
"""boxes (m, 6), right (m,), first (m,), many (m,), triangles (t, 9): a corner and two edges, in the tree's order, and
that order (t,)."""


@dataclass(frozen=True)
class Mesh:
    """vertices (v, 3) in m, faces (f, 3), colours of vertices (v, 3) in linear light, how much it shines (0 … 1), and
    unit normals (v, 3), those of its facets where they are not given."""

    vertices: Array
    faces: Array
    colours: Array
    sheen: float = 0.0
    normals: Array | None = None

    @property
    def count(self) -> int:
        """How many triangles there are."""
        return len(self.faces)

    def and_(self, other: "Mesh") -> "Mesh":
        """Both as one, which shines as this one does; normals are those of facets unless both have their own."""
        own = self.normals is not None and other.normals is not None
        return Mesh(
            np.concatenate([self.vertices, other.vertices]),
            np.concatenate([self.faces, other.faces + len(self.vertices)]),
            np.concatenate([self.colours, other.colours]),
            self.sheen,
            np.concatenate([self.normals, other.normals]) if own else None,  # type: ignore[list-item]
        )

    @lazy
    def corners(self) -> tuple[Array, Array, Array]:
        """Corners (f, 3, 3), unit normals there (f, 3, 3) and colours there (f, 3, 3), of triangles that have an area
        and stand somewhere."""
        corner = np.asarray(self.vertices, np.float32)[self.faces]
        across = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
        area = np.linalg.norm(across, axis=1)
        kept = (
            np.isfinite(area) & (area > 0) & np.isfinite(corner).all(axis=(1, 2)) & (np.abs(corner).max((1, 2)) < FAR)
        )
        corner, facet = corner[kept], (across[kept] / area[kept, None]).astype(np.float32)
        faces = self.faces[kept]
        if self.normals is not None:
            normal = np.asarray(self.normals, np.float32)[faces]
        else:
            normal = _creased(faces, across[kept], facet, len(self.vertices))
        return corner, normal, np.asarray(self.colours, np.float32)[faces]


FAR = 1e7
CREASE = 40.0
"""Degrees between facets from which on an edge is seen."""


def _creased(faces: Array, across: Array, facet: Array, count: int) -> Array:
    """Normals (f, 3, 3) of corners: those of all facets there that are within `CREASE` of the mean, else the facet's
    own."""
    total = np.zeros((count, 3))
    for k in range(3):
        for c in range(3):
            total[:, c] += np.bincount(faces[:, k], across[:, c], count)
    mean = total / np.maximum(np.linalg.norm(total, axis=1, keepdims=True), 1e-30)
    normal = mean[faces].astype(np.float32)
    smooth = np.einsum("fkc,fc->fk", normal, facet) > np.cos(np.radians(CREASE))
    return np.where(smooth[:, :, None], normal, facet[:, None, :]).astype(np.float32)


def tree_of(corner: Array) -> Tree:
    """The tree of triangles (t, 3, 3)."""
    count = len(corner)
    boxes, order = np.zeros((2 * count + 1, 6), np.float32), np.arange(count, dtype=np.int32)
    right, first, many = (np.zeros(2 * count + 1, np.int32) for _ in range(3))
    made = box_tree(corner.min(axis=1), corner.max(axis=1), order, boxes, right, first, many) if count else 0
    ordered = corner[order]
    edges = np.concatenate([ordered[:, 0], ordered[:, 1] - ordered[:, 0], ordered[:, 2] - ordered[:, 0]], axis=1)
    return boxes[:made], right[:made], first[:made], many[:made], np.ascontiguousarray(edges, np.float32), order
