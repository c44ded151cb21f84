"""Triangles of an STL, PLY or glTF file by trimesh: `triangles.py FILE ENDING OUT.npz`."""

import sys
from typing import Any

import numpy as np
import trimesh


def main(path: str, ending: str, out: str) -> None:
    """Read a file and write its triangles to `out`; what is wrong with it is said by the exit."""
    with open(path, "rb") as file:
        loaded: Any = trimesh.load(
            file, file_type=ending, force="mesh", process=False, skip_materials=True, resolver=None
        )
    faces = getattr(loaded, "faces", np.empty((0, 3), np.int64))
    np.savez(out, vertices=np.asarray(loaded.vertices, np.float64), faces=np.asarray(faces, np.int64))


if __name__ == "__main__":
    main(*sys.argv[1:])
