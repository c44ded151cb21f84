"""Meshes of a flow as files, one a frame: OBJ, PLY, STL, npz."""

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.files.points import write_ply
from errant_gust.core.files.writing import written_whole

Array = NDArray[Any]


def write_mesh(path: Path, vertices: Array, faces: Array, channels: dict[str, Array]) -> None:
    """Triangles (m, 3) of vertices (n, 3) in metres, by the file's ending; PLY holds channels of vertices too: vx vy vz
    in m/s, and others by name."""
    import trimesh

    ending = path.suffix.lower()[1:]
    if ending == "ply":
        write_ply(path, {"position": vertices, **channels}, faces)
        return
    made = trimesh.Trimesh(vertices, faces, process=False)
    data: Any = made.export(file_type=ending)
    with written_whole(path) as file:
        file.write(data.encode() if isinstance(data, str) else data)


def write_mesh_arrays(path: Path, vertices: Array, faces: Array, channels: dict[str, Array]) -> None:
    """NumPy arrays: vertices, faces, and every channel by name. `vertices` (n, 3) in m, `faces` (m, 3), channels
    (n,) or (n, k). Raises FileError, NoRoom."""
    with written_whole(path) as file:
        np.savez(file, vertices=vertices, faces=faces, **channels)  # type: ignore[arg-type]
