"""Particles and lines as files, one a frame: binary PLY, npz, CSV."""

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.files.place import written_whole

Array = NDArray[Any]


def columns_of(channels: dict[str, Array]) -> list[tuple[str, Array]]:
    """Named columns (n,): x y z, vx vy vz, and so on."""
    columns: list[tuple[str, Array]] = []
    prefixes = {"position": ("x", "y", "z"), "velocity": ("vx", "vy", "vz")}
    for name, values in channels.items():
        if values.ndim == 2:
            names = prefixes.get(name, tuple(f"{name}_{a}" for a in "xyz"))
            columns += [(n, values[:, i]) for i, n in enumerate(names)]
        else:
            columns.append((name, values))
    return columns


def write_npz(path: Path, channels: dict[str, Array]) -> None:
    """NumPy arrays by channel name, not compressed."""
    with written_whole(path) as file:
        np.savez(file, **channels)  # type: ignore[arg-type]


def write_csv(path: Path, channels: dict[str, Array]) -> None:
    """A head line, then a line a particle (or a point of a line); float32 exactly (nine digits)."""
    columns = columns_of(channels)
    kinds = ["%d" if values.dtype.kind in "ui" else "%.9g" for _, values in columns]
    with written_whole(path) as file:
        file.write((",".join(name for name, _ in columns) + "\n").encode())
        count = len(columns[0][1]) if columns else 0
        for start in range(0, count, 1 << 16):
            table = np.rec.fromarrays([values[start : start + (1 << 16)] for _, values in columns])
            np.savetxt(file, table, fmt=kinds, delimiter=",")


def write_ply(path: Path, channels: dict[str, Array]) -> None:
    """Binary little-endian PLY: x y z, vx vy vz (m/s), then every scalar channel (age, life in s; id)."""
    columns = columns_of(channels)
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
