"""Meshes and their distances, kept in memory once per file content."""

import functools
import threading
from pathlib import Path

from errant_gust.core.geometry.mesh import Mesh, read_mesh
from errant_gust.core.geometry.sdf import MeshDistance

_lock = threading.Lock()


@functools.lru_cache(maxsize=32)
def _mesh(path: Path, stamp: tuple[int, int]) -> Mesh:
    return read_mesh(path)


@functools.lru_cache(maxsize=16)
def _distance(path: Path, stamp: tuple[int, int]) -> MeshDistance:
    sdf = MeshDistance(_mesh(path, stamp))
    _ = sdf.margin  # builds grid, spline and margin now, under the lock
    return sdf


def _stamp(path: Path) -> tuple[int, int]:
    stat = path.stat()
    return stat.st_mtime_ns, stat.st_size


def mesh_of(path: Path) -> Mesh:
    """The mesh of a file, read once as long as the file stays the same."""
    with _lock:
        return _mesh(path, _stamp(path))


def mesh_distance(path: Path) -> MeshDistance:
    """The smooth signed distance of a mesh file; the first call builds it, others wait for that."""
    with _lock:
        return _distance(path, _stamp(path))
