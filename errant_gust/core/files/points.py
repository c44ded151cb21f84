"""Particles and lines as files, one a frame: binary PLY, npz, CSV."""

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.files.writing import written_whole

Array = NDArray[Any]


def columns_of(channels: dict[str, Array]) -> list[tuple[str, Array]]:
    """Named columns (n,): x y z, vx vy vz, and so on."""
    columns: list[tuple[str, Array]] = []
    prefixes = {"position": ("x", "y", "z"), "velocity": ("vx", "vy", "vz"), "colour": ("red", "green", "blue")}
    for name, values in channels.items():
        if values.ndim == 2:
            names = prefixes.get(name, tuple(f"{name}_{a}" for a in "xyz"))
            columns += [(n, values[:, i]) for i, n in enumerate(names)]
        else:
            columns.append((name, values))
    return columns


def write_npz(path: Path, channels: dict[str, Array]) -> None:
    """NumPy arrays by channel name, not compressed. Channels (n,) or (n, k). Raises FileError, NoRoom."""
    with written_whole(path) as file:
        np.savez(file, **channels)  # type: ignore[arg-type]


def write_csv(path: Path, channels: dict[str, Array]) -> None:
    """A head line, then a line a particle (or a point of a line); float32 exactly (nine digits). Channels (n,) or
    (n, k), a column a component. Raises FileError, NoRoom."""
    columns = columns_of(channels)
    kinds = ["%d" if values.dtype.kind in "ui" else "%.9g" for _, values in columns]
    with written_whole(path) as file:
        file.write((",".join(name for name, _ in columns) + "\n").encode())
        count = len(columns[0][1]) if columns else 0
        for start in range(0, count, 1 << 16):
            table = np.rec.fromarrays([values[start : start + (1 << 16)] for _, values in columns])
            np.savetxt(file, table, fmt=kinds, delimiter=",")


def write_ply(path: Path, channels: dict[str, Array], faces: Array | None = None) -> None:
    """Binary little-endian PLY: x y z, vx vy vz (m/s), then every scalar channel (age, life in s; id), colours as red
    green blue in bytes; and triangles (m, 3) if there are any."""
    if "colour" in channels:
        bytes_of = np.rint(np.clip(channels["colour"], 0, 1) * 255).astype(np.uint8)
        channels = {**channels, "colour": bytes_of}
    columns = columns_of(channels)
    types = {"f4": ("float", "<f4"), "u4": ("uint", "<u4"), "i4": ("int", "<i4"), "u1": ("uchar", "u1")}
    wide = {"f": "f4", "u": "u4", "i": "i4"}
    kinds = [(n, *types["u1" if v.dtype == np.uint8 else wide[v.dtype.kind]]) for n, v in columns]
    count = len(columns[0][1]) if columns else 0
    table = np.empty(count, dtype=[(name, code) for name, _, code in kinds])
    for name, values in columns:
        table[name] = values
    properties = "".join(f"property {word} {name}\n" for name, word, _ in kinds)
    head = (
        "ply\nformat binary_little_endian 1.0\ncomment Errant Gust, metres and seconds\n"
        f"element vertex {count}\n{properties}"
    )
    corners = b""
    if faces is not None:
        head += f"element face {len(faces)}\nproperty list uchar int vertex_indices\n"
        triangles = np.empty(len(faces), dtype=[("n", "u1"), ("corners", "<i4", 3)])
        triangles["n"], triangles["corners"] = 3, faces
        corners = triangles.tobytes()
    with written_whole(path) as file:
        file.write(head.encode() + b"end_header\n")
        file.write(table.tobytes())
        file.write(corners)
