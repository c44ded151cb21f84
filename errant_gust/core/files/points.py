"""Particles as files: binary PLY, one file a frame."""

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.files.place import written_whole

Array = NDArray[Any]


def write_ply(path: Path, channels: dict[str, Array]) -> None:
    """Binary little-endian PLY: x y z, vx vy vz (m/s), then every scalar channel (age, life in s; id)."""
    columns: list[tuple[str, Array]] = []
    for name, values in channels.items():
        prefixes = {"position": ("x", "y", "z"), "velocity": ("vx", "vy", "vz")}
        if values.ndim == 2:
            names = prefixes.get(name, tuple(f"{name}_{a}" for a in "xyz"))
            columns += [(n, values[:, i]) for i, n in enumerate(names)]
        else:
            columns.append((name, values))
    types = {"f": ("float", "<f4"), "u": ("uint", "<u4"), "i": ("int", "<i4")}
    kinds = [(name, *types[values.dtype.kind]) for name, values in columns]
    count = len(columns[0][1]) if columns else 0
    table = np.empty(count, dtype=[(name, code) for name, _, code in kinds])
    for name, values in columns:
        table[name] = values
    properties = "".join(f"property {word} {name}\n" for name, word, _ in kinds)
    head = (
        "ply\nformat binary_little_endian 1.0\ncomment Errant Gust particles, metres and seconds\n"
        f"element vertex {count}\n{properties}end_header\n"
    )
    with written_whole(path) as file:
        file.write(head.encode())
        file.write(table.tobytes())
