"""OpenVDB files of float and vec3 grids, written and read from arrays.

The layout is that of file version 224 for trees of type 5-4-3: a root of 4096³ blocks, two levels of nodes with 32³ and
16³ children, leaves of 8³ voxels. Leaves that hold only the background (zero, or what is far in a level set) are left
out; of the others only active values are stored, compressed by Blosc (as the library does by default) or zip. The same
grids give the same bytes.
Reading is in `vdb_read.py`; both are proved against the real library in tests/core/test_grids_and_files.py and
tests/core/test_vdb_read.py.
"""

import hashlib
import itertools
import struct
import uuid
import zlib
from pathlib import Path
from typing import Any, BinaryIO, Literal

import numpy as np
from numcodecs import blosc
from numpy.typing import NDArray

from errant_gust.core.errors import FileError
from errant_gust.core.files.vdb_layout import (
    ACTIVE_MASK,
    BLOSC,
    FILE_VERSION,
    LEAF,
    LIBRARY,
    LOWER,
    MAGIC,
    UPPER,
    ZIP,
)
from errant_gust.core.files.vdb_read import read_vdb
from errant_gust.core.files.writing import written_whole
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion

Array = NDArray[Any]
__all__ = ["read_vdb", "write_vdb"]
Compression = Literal["blosc", "zip", "none"]
FLAGS: dict[str, int] = {"blosc": BLOSC, "zip": ZIP, "none": 0}


def write_vdb(
    path: Path, grids: dict[str, Grid], compression: Compression = "blosc", half: bool = False
) -> None:  # fmt: skip
    """Write named grids: scalars as float, vectors as vec3s (transformed like velocities), all in one file; `half`: in
    half the bytes, to three digits, and no larger than 65,504."""
    with written_whole(path) as file:
        file.write(struct.pack("<qIII?", MAGIC, FILE_VERSION, *LIBRARY, True))
        file.write(str(_identity(grids)).encode())
        _metadata(file, {"creator": "Errant Gust"})
        file.write(struct.pack("<i", len(grids)))
        for name, grid in grids.items():
            _grid(file, name, grid, compression, half)


def _identity(grids: dict[str, Grid]) -> uuid.UUID:
    """The file's number, from what is in it."""
    digest = hashlib.blake2b(digest_size=16)  # the quickest there is
    for name, grid in grids.items():
        digest.update(repr((name, grid.region, grid.values.shape)).encode())
        digest.update(np.ascontiguousarray(grid.values, "<f4").data)
    return uuid.UUID(bytes=digest.digest(), version=5)


def _string(file: BinaryIO, text: str) -> None:
    data = text.encode()
    file.write(struct.pack("<I", len(data)) + data)


def _metadata(file: BinaryIO, entries: dict[str, Any]) -> None:
    file.write(struct.pack("<I", len(entries)))
    for name, value in entries.items():
        _string(file, name)
        if isinstance(value, bool):
            _string(file, "bool")
            file.write(struct.pack("<I?", 1, value))
        elif isinstance(value, tuple):
            _string(file, "vec3i")
            file.write(struct.pack("<I3i", 12, *value))
        elif isinstance(value, int):
            _string(file, "int64")
            file.write(struct.pack("<Iq", 8, value))
        else:
            _string(file, "string")
            _string(file, value)


def _grid(file: BinaryIO, name: str, grid: Grid, compression: Compression, half: bool) -> None:
    kind = "vec3s" if grid.is_vector else "float"
    _string(file, name)
    _string(file, f"Tree_{kind}_5_4_3{'_HalfFloat' if half else ''}")
    _string(file, "")
    offsets_at = file.tell()
    file.write(struct.pack("<qqq", 0, 0, 0))
    grid_at = file.tell()
    background = np.float32(np.float16(grid.background)) if half else np.float32(grid.background)
    if half and float(np.abs(grid.values).max(initial=0)) > float(np.finfo(np.float16).max):
        raise FileError(f"'{name}' is too large for half floats", where="half", fix="whole floats")
    leaves = _leaves(grid.values, background)
    file.write(struct.pack("<I", FLAGS[compression] | ACTIVE_MASK))
    top = tuple(n - 1 for n in grid.region.shape)
    entries: dict[str, Any] = {
        "class": "level set" if grid.background else "unknown",
        "name": name,
        "is_saved_as_half_float": half,
        "file_bbox_min": (0, 0, 0),
        "file_bbox_max": top,
    }
    if grid.is_vector:
        entries["vector_type"] = "contravariant relative"
    if grid.unit:
        entries["unit"] = grid.unit
    entries["file_voxel_count"] = int(leaves[2].sum())
    _metadata(file, entries)
    _transform(file, grid.region)
    empty = b"" if half or compression == "none" else EMPTY  # of halves not even a length is written
    _topology(file, leaves, background.tobytes() * (3 if grid.is_vector else 1), empty)
    blocks_at = file.tell()
    _buffers(file, leaves, compression, "<f2" if half else "<f4")
    end = file.tell()
    file.seek(offsets_at)
    file.write(struct.pack("<qqq", grid_at, blocks_at, end))
    file.seek(end)


def _transform(file: BinaryIO, region: GridRegion) -> None:
    h = region.voxel_size
    if region.is_turned:  # row vectors: world = index @ M, translation in the last row
        matrix = np.eye(4)
        matrix[:3, :3] = h * region.axes.T
        matrix[3, :3] = region.axes @ (np.array(region.lower) + 0.5 * h)
        _string(file, "AffineMap")
        file.write(matrix.astype("<f8").tobytes())
        return
    _string(file, "UniformScaleTranslateMap")
    origin = [low + 0.5 * h for low in region.lower]
    rows = [origin, [h] * 3, [h] * 3, [1 / h] * 3, [1 / h**2] * 3, [0.5 / h] * 3]
    file.write(np.array(rows, "<f8").tobytes())


def _leaves(values: Array, background: np.float32) -> tuple[Array, Array, Array]:
    """Origins (m, 3), values (m, 512[, 3]) and active masks (m, 512) of leaves that are not all background, in file
    order."""
    vector = values.ndim == 4
    counts = [-(-n // LEAF) for n in values.shape[:3]]
    origins, kept, masks = [], [], []
    for i in range(counts[0]):  # one slab of leaves at a time keeps memory at a slab's worth
        slab = values[i * LEAF : (i + 1) * LEAF]
        pad = [
            (0, LEAF - slab.shape[0]),
            *((0, c * LEAF - n) for c, n in zip(counts[1:], slab.shape[1:3], strict=True)),
        ]
        inside = np.pad(np.ones(slab.shape[:3], bool), pad)
        full = np.pad(slab, [*pad, (0, 0)] if vector else pad)
        tail = (3,) if vector else ()
        blocks = full.reshape(LEAF, counts[1], LEAF, counts[2], LEAF, *tail)
        order = (1, 3, 0, 2, 4, 5) if vector else (1, 3, 0, 2, 4)
        blocks = blocks.transpose(order).reshape(counts[1] * counts[2], LEAF**3, *tail)
        mask = inside.reshape(LEAF, counts[1], LEAF, counts[2], LEAF).transpose(1, 3, 0, 2, 4).reshape(-1, LEAF**3)
        used = ((blocks != background) & (mask if not vector else mask[..., None])).reshape(len(blocks), -1).any(axis=1)
        j, k = np.divmod(np.nonzero(used)[0], counts[2])
        origins.append(np.stack([np.full(len(j), i), j, k], axis=1) * LEAF)
        kept.append(blocks[used])
        masks.append(mask[used])
    origin, block, mask = np.concatenate(origins), np.concatenate(kept), np.concatenate(masks)
    order2 = np.lexsort([_child(origin, LOWER, LEAF), _child(origin, UPPER, LOWER), *(origin // UPPER).T[::-1]])
    return origin[order2], block[order2], mask[order2]


def _child(origin: Array, size: int, child: int) -> Array:
    """Index of the child of `child` voxels within its node of `size` voxels, x slowest."""
    side = size // child
    x, y, z = ((origin[..., a] % size) // child for a in range(3))
    return (x * side + y) * side + z


def _mask_bytes(indices: Array, size: int) -> bytes:
    bits = np.zeros(size, np.uint8)
    bits[indices] = 1
    return np.packbits(bits, bitorder="little").tobytes()


EMPTY = struct.pack("<q", 0)


def _topology(
    file: BinaryIO, leaves: tuple[Array, Array, Array], background: bytes, empty: bytes
) -> None:  # fmt: skip
    origin, _, masks = leaves
    file.write(struct.pack("<i", 1))  # number of buffers
    file.write(background)
    roots = _groups(origin // UPPER)
    file.write(struct.pack("<II", 0, len(roots)))
    for a, b in roots:
        file.write(np.asarray(origin[a] // UPPER * UPPER, "<i4").tobytes())
        upper = _child(origin[a:b], UPPER, LOWER)
        _node(file, np.unique(upper), 32**3, empty)
        for c, d in _groups(upper[:, None]):
            lower = _child(origin[a + c : a + d], LOWER, LEAF)
            _node(file, lower, 16**3, empty)
            packed = np.packbits(masks[a + c : a + d], axis=1, bitorder="little")
            file.write(packed.tobytes())


def _groups(keys: Array) -> list[tuple[int, int]]:
    """Runs of equal rows as (start, stop)."""
    if not len(keys):
        return []
    cut = np.nonzero((keys[1:] != keys[:-1]).any(axis=1))[0] + 1
    edges = [0, *cut.tolist(), len(keys)]
    return list(itertools.pairwise(edges))


def _node(file: BinaryIO, children: Array, size: int, empty: bytes) -> None:
    """An internal node without tiles: child mask, empty value mask, no values."""
    file.write(_mask_bytes(children, size) + bytes(size // 8) + b"\0" + empty)


def _buffers(file: BinaryIO, leaves: tuple[Array, Array, Array], compression: Compression, kind: str) -> None:
    _, values, masks = leaves
    packed = np.packbits(masks, axis=1, bitorder="little")
    full = np.asarray(masks.all(axis=1))
    for start in range(0, len(values), 256):  # few writes, and a copy of few leaves
        parts: list[bytes] = []
        for n, data in enumerate(np.ascontiguousarray(values[start : start + 256], kind), start):
            parts += packed[n].tobytes(), b"\0", _squeezed(data if full[n] else data[masks[n]], compression)
        file.write(b"".join(parts))


def _squeezed(data: Array, compression: Compression) -> bytes:
    """Values as they are stored: length and compressed bytes, or the negative length and the bytes as they are."""
    raw = data.tobytes()
    if compression == "none":
        return raw
    small = zlib.compress(raw, 1) if compression == "zip" else blosc.compress(data.ravel(), b"lz4", 9, blosc.SHUFFLE)
    if len(small) < len(raw):
        return struct.pack("<q", len(small)) + bytes(small)
    return struct.pack("<q", -len(raw)) + raw
