"""Triangle meshes from files (OBJ, STL, PLY, glTF): loading within limits, a report, exact queries."""

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.blocks import share_out
from errant_gust.core.errors import FileError
from errant_gust.core.geometry.mesh_files import MAX_BYTES, MAX_TRIANGLES, read_triangles
from errant_gust.core.kernels import meshes as kernels
from errant_gust.core.making import lazy

Array = NDArray[Any]
__all__ = ["FORMATS", "MAX_BYTES", "MAX_TRIANGLES", "Mesh", "MeshReport", "make_mesh", "read_mesh"]
FORMATS = (".obj", ".stl", ".ply", ".glb", ".gltf")


@dataclass(frozen=True)
class MeshReport:
    """What was found in a mesh file; `notes` are sentences for the user."""

    triangles: int
    vertices: int
    watertight: bool
    lower: tuple[float, float, float]
    upper: tuple[float, float, float]
    notes: list[str]


class Mesh:
    """Triangles (n, 3, 3) float64 in Morton order with the bounding-volume tree over them."""

    def __init__(self, vertices: Array, faces: Array, *, watertight: bool, notes: list[str] | None = None) -> None:
        triangles = np.ascontiguousarray(vertices[faces], dtype=np.float64)
        self.vertices, self.faces = np.asarray(vertices, np.float32), np.asarray(faces, np.int32)
        self.order = order = _morton_order(triangles.mean(axis=1))
        """Which face each triangle is."""
        self.triangles = triangles[order].reshape(-1, 9)
        self.boxes, self.dipoles, self.leaves = _tree(self.triangles.reshape(-1, 3, 3))
        self.lower, self.upper = triangles.min(axis=(0, 1)), triangles.max(axis=(0, 1))
        self.watertight, self.notes = watertight, notes or []

    @property
    def report(self) -> MeshReport:
        """What a user should know of it."""
        low, high = (tuple(float(v) for v in corner) for corner in (self.lower, self.upper))
        return MeshReport(len(self.faces), len(self.vertices), self.watertight, low, high, self.notes)  # type: ignore[arg-type]

    def closest(self, points: Array) -> tuple[Array, Array, Array]:
        """points (n, 3) -> distance (n,) unsigned, closest point (n, 3), triangle (n,); float64."""
        points = np.ascontiguousarray(points, np.float64)
        distance, where = np.empty(len(points)), np.empty((len(points), 3))
        which = np.empty(len(points), np.int64)
        kernels.closest_points(points, self.triangles, self.boxes, self.leaves, distance, where, which)
        return distance, where, which

    def winding(self, points: Array) -> Array:
        """Generalised winding number (n,) of points (n, 3): above one half is inside, also for open meshes."""
        points = np.ascontiguousarray(points, np.float64)
        out = np.empty(len(points))
        kernels.winding_numbers(points, self.triangles, self.dipoles, self.leaves, out)
        return out

    def contains(self, points: Array) -> Array:
        """Whether points (n, 3) in m are inside: by the winding number, (n,)."""
        return self.winding(points) > 0.5

    @lazy
    def areas(self) -> Array:
        """Area of each triangle (n,), in square metres."""
        t = self.triangles.reshape(-1, 3, 3)
        return 0.5 * np.linalg.norm(np.cross(t[:, 1] - t[:, 0], t[:, 2] - t[:, 0]), axis=1)

    def distance_grid(self, lower: Array, h: float, shape: tuple[int, int, int]) -> tuple[Array, Array]:
        """Unsigned distance and winding number at grid nodes, slabs shared out over two threads or more. `lower`
        (3,) and `h` in m; both (nx, ny, nz)."""
        distance, wind = np.empty(shape), np.empty(shape)

        def slab(first: int, last: int) -> None:
            kernels.distance_slab(
                lower, h, first, last, self.triangles, self.boxes, self.dipoles, self.leaves,
                self.watertight, distance, wind,
            )  # fmt: skip

        share_out(slab, shape[0], block=4)
        return distance, wind


def _morton_order(centres: Array) -> Array:
    low, high = centres.min(axis=0), centres.max(axis=0)
    cells = ((centres - low) / np.maximum(high - low, 1e-30) * 1023.0).astype(np.uint64)
    code = np.zeros(len(cells), np.uint64)
    for bit in range(10):
        for axis in range(3):
            code |= ((cells[:, axis] >> np.uint64(bit)) & np.uint64(1)) << np.uint64(3 * bit + axis)
    return np.argsort(code, kind="stable")


def _tree(triangles: Array) -> tuple[Array, Array, int]:
    """Boxes (m, 6) and dipoles (m, 7: area vector, centroid, radius) of the implicit tree, and its leaf count."""
    count = max(1, -(-len(triangles) // kernels.LEAF))
    leaves = 1 << (count - 1).bit_length()
    size = 2 * leaves - 1
    boxes = np.empty((size, 6))
    boxes[:, :3], boxes[:, 3:] = np.inf, -np.inf
    normal = 0.5 * np.cross(triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0])
    area = np.linalg.norm(normal, axis=1)
    leaf = np.arange(len(triangles)) // kernels.LEAF + leaves - 1
    np.minimum.at(boxes[:, :3], leaf, triangles.min(axis=1))
    np.maximum.at(boxes[:, 3:], leaf, triangles.max(axis=1))
    vector, weighted, weight = np.zeros((size, 3)), np.zeros((size, 3)), np.zeros(size)
    np.add.at(vector, leaf, normal)
    np.add.at(weighted, leaf, triangles.mean(axis=1) * area[:, None])
    np.add.at(weight, leaf, area)
    first = leaves - 1
    while first > 0:
        parents = np.arange((first - 1) // 2, first)
        a, b = 2 * parents + 1, 2 * parents + 2
        boxes[parents, :3] = np.minimum(boxes[a, :3], boxes[b, :3])
        boxes[parents, 3:] = np.maximum(boxes[a, 3:], boxes[b, 3:])
        for sums in (vector, weighted, weight):
            sums[parents] = sums[a] + sums[b]
        first = (first - 1) // 2
    with np.errstate(invalid="ignore"):  # empty leaves reach from inf to -inf
        middle = 0.5 * (boxes[:, :3] + boxes[:, 3:])
    empty: Any = ~np.isfinite(middle).all(axis=1)
    middle[empty] = 0.0
    centre = np.where(weight[:, None] > 0, weighted / np.maximum(weight, 1e-300)[:, None], middle)
    reach = np.maximum(np.abs(boxes[:, 3:] - centre), np.abs(centre - boxes[:, :3]))
    radius = np.where(empty, -1.0, np.linalg.norm(np.where(empty[:, None], 0.0, reach), axis=1))
    return boxes, np.concatenate([vector, centre, radius[:, None]], axis=1), leaves


def read_mesh(path: Path, *, name: str = "") -> Mesh:
    """Load a mesh file: all its parts in one, in metres, degenerate triangles dropped and reported.

    Raises FileError for an unknown format, a broken or empty file, or more than MAX_TRIANGLES triangles.
    """
    where = name or path.name
    suffix = Path(where).suffix.lower()
    if suffix not in FORMATS:
        raise FileError(
            f"'{suffix or where}' is not a mesh format read here", where=where, fix=f"use {', '.join(FORMATS)}"
        )
    try:
        size = path.stat().st_size
        if size > MAX_BYTES:
            raise FileError(f"{size >> 20} MiB is too large", where=where, fix=f"at most {MAX_BYTES >> 20} MiB")
        vertices, faces = read_triangles(path, where, suffix)
    except OSError as error:
        raise FileError(f"cannot be read ({error.strerror or error})", where=where) from None
    return make_mesh(vertices, faces, where)


def make_mesh(vertices: Array, faces: Array, where: str) -> Mesh:
    """A mesh from arrays: vertices merged, what cannot be used dropped and said. (n, 3) in m and (m, 3). Raises
    FileError for what is none, or too large."""
    import trimesh

    if len(faces) == 0 or len(vertices) == 0:
        raise FileError("there are no triangles in it", where=where, fix="export faces, not only points or lines")
    if len(faces) > MAX_TRIANGLES:
        raise FileError(
            f"{len(faces):,} triangles are too many", where=where, fix=f"reduce the mesh to {MAX_TRIANGLES:,} or fewer"
        )
    if faces.min() < 0 or faces.max() >= len(vertices):
        raise FileError("a face names a vertex that is not in the file", where=where)
    notes = []
    sound_vertex: Any = np.isfinite(vertices).all(axis=1)
    finite = sound_vertex[faces].all(axis=1)
    if not finite.all():
        notes.append(f"{int((~finite).sum()):,} triangles with coordinates that are not numbers were left out")
    mesh = trimesh.Trimesh(vertices, faces[finite], process=False)
    mesh.merge_vertices(merge_tex=True, merge_norm=True)
    sound: Any = mesh.nondegenerate_faces(height=1e-12)
    if not sound.all():
        notes.append(f"{int((~sound).sum()):,} triangles without area were left out")
        mesh.update_faces(sound)
    if len(mesh.faces) == 0:
        raise FileError("no triangle in it has an area", where=where)
    watertight = bool(mesh.is_watertight and mesh.is_winding_consistent)
    if not watertight:
        why = "it has holes" if not mesh.is_watertight else "some triangles face the other way"
        notes.append(f"not watertight ({why}): inside and outside are told by the winding number, holes closed")
    elif mesh.volume < 0:
        mesh.invert()
        notes.append("all triangles faced inward and were turned")
    mesh.remove_unreferenced_vertices()
    return Mesh(np.asarray(mesh.vertices), np.asarray(mesh.faces), watertight=watertight, notes=notes)
