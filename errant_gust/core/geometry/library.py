"""Meshes and their distances, kept in memory once per file content."""

from pathlib import Path

from errant_gust.core.geometry.mesh import Mesh, read_mesh
from errant_gust.core.geometry.sdf import MeshDistance
from errant_gust.core.making import Once

_meshes: Once[Mesh] = Once("a mesh file", 32)
_distances: Once[MeshDistance] = Once("the distance to a mesh", 16)


def _stamp(path: Path) -> tuple[int, int]:
    stat = path.stat()
    return stat.st_mtime_ns, stat.st_size


def mesh_of(path: Path) -> Mesh:
    """The mesh of a file, read once as long as the file stays the same."""
    return _meshes.get((path, _stamp(path)), lambda: read_mesh(path))


def mesh_distance(path: Path) -> MeshDistance:
    """The smooth signed distance of a mesh file; the first call builds it, others wait for that."""

    def make() -> MeshDistance:
        sdf = MeshDistance(mesh_of(path))
        _ = sdf.margin  # builds grid, spline and margin now
        return sdf

    return _distances.get((path, _stamp(path)), make)
