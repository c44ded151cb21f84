"""OpenVDB files of float and vec3 grids, written and read from arrays.

The layout is that of file version 224 for trees of type 5-4-3: a root of 4096³ blocks, two levels of nodes with 32³ and
16³ children, leaves of 8³ voxels. Leaves that hold only the background (zero) are left out. Values are zip-compressed,
active ones only. Our files are proved against the real library in tests/core/test_vdb.py.
"""

import io
import itertools
import struct
import uuid
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.errors import FileError
from errant_gust.core.files.place import written_whole
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.study.turns import turn_of

Array = NDArray[Any]
MAGIC = 0x56444220
FILE_VERSION = 224
LIBRARY = (10, 0)
ZIP, ACTIVE_MASK = 1, 2
LEAF, LOWER, UPPER = 8, 128, 4096
MAX_LEAVES = 4_000_000


# writing ---------------------------------------------------------------------------------------------------------


def write_vdb(path: Path, grids: dict[str, Grid]) -> None:
    """Write named grids: scalars as float, vectors as vec3s (transformed like velocities), all in one file."""
    with written_whole(path) as file:
        file.write(struct.pack("<qIII?", MAGIC, FILE_VERSION, *LIBRARY, True))
        file.write(str(uuid.uuid4()).encode())
        _metadata(file, {"creator": "Errant Gust"})
        file.write(struct.pack("<i", len(grids)))
        for name, grid in grids.items():
            _grid(file, name, grid)


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


def _grid(file: BinaryIO, name: str, grid: Grid) -> None:
    kind = "vec3s" if grid.is_vector else "float"
    _string(file, name)
    _string(file, f"Tree_{kind}_5_4_3")
    _string(file, "")
    offsets_at = file.tell()
    file.write(struct.pack("<qqq", 0, 0, 0))
    grid_at = file.tell()
    leaves = _leaves(grid.values)
    file.write(struct.pack("<I", ZIP | ACTIVE_MASK))
    top = tuple(n - 1 for n in grid.region.shape)
    entries: dict[str, Any] = {
        "class": "unknown",
        "name": name,
        "is_saved_as_half_float": False,
        "file_bbox_min": (0, 0, 0),
        "file_bbox_max": top,
    }
    if grid.is_vector:
        entries["vector_type"] = "contravariant relative"
    entries["file_voxel_count"] = int(leaves[2].sum())
    _metadata(file, entries)
    _transform(file, grid.region)
    _topology(file, leaves, grid.is_vector)
    blocks_at = file.tell()
    _buffers(file, leaves)
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


def _leaves(values: Array) -> tuple[Array, Array, Array]:
    """Origins (m, 3), values (m, 512[, 3]) and active masks (m, 512) of leaves that are not all zero, in file order."""
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
        used = blocks.reshape(len(blocks), -1).any(axis=1)
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


EMPTY_ZIP = struct.pack("<q", 0)


def _topology(file: BinaryIO, leaves: tuple[Array, Array, Array], vector: bool) -> None:
    origin, _, masks = leaves
    file.write(struct.pack("<i", 1))  # number of buffers
    file.write(b"\0" * (12 if vector else 4))  # background
    roots = _groups(origin // UPPER)
    file.write(struct.pack("<II", 0, len(roots)))
    for a, b in roots:
        file.write(np.asarray(origin[a] // UPPER * UPPER, "<i4").tobytes())
        upper = _child(origin[a:b], UPPER, LOWER)
        _node(file, np.unique(upper), 32**3)
        for c, d in _groups(upper[:, None]):
            lower = _child(origin[a + c : a + d], LOWER, LEAF)
            _node(file, lower, 16**3)
            packed = np.packbits(masks[a + c : a + d], axis=1, bitorder="little")
            file.write(packed.tobytes())


def _groups(keys: Array) -> list[tuple[int, int]]:
    """Runs of equal rows as (start, stop)."""
    if not len(keys):
        return []
    cut = np.nonzero((keys[1:] != keys[:-1]).any(axis=1))[0] + 1
    edges = [0, *cut.tolist(), len(keys)]
    return list(itertools.pairwise(edges))


def _node(file: BinaryIO, children: Array, size: int) -> None:
    """An internal node without tiles: child mask, empty value mask, no values."""
    file.write(_mask_bytes(children, size) + bytes(size // 8) + b"\0" + EMPTY_ZIP)


def _buffers(file: BinaryIO, leaves: tuple[Array, Array, Array]) -> None:
    _, values, masks = leaves
    packed = np.packbits(masks, axis=1, bitorder="little")
    for block, mask, bits in zip(values, masks, packed, strict=True):
        data = np.ascontiguousarray(block[mask], "<f4").tobytes()
        squeezed = zlib.compress(data, 1)
        if len(squeezed) < len(data):
            body = struct.pack("<q", len(squeezed)) + squeezed
        else:
            body = struct.pack("<q", -len(data)) + data
        file.write(bits.tobytes() + b"\0" + body)


# reading ---------------------------------------------------------------------------------------------------------


class _Reader:
    def __init__(self, data: bytes, where: str) -> None:
        self.file, self.where, self.size = io.BytesIO(data), where, len(data)

    def take(self, count: int) -> bytes:
        if count < 0 or count > self.size:
            raise FileError("a length in the file makes no sense", where=self.where, fix="the file is damaged")
        data = self.file.read(count)
        if len(data) < count:
            raise FileError("the file ends too early", where=self.where, fix="it was cut off; copy it again")
        return data

    def unpack(self, form: str) -> tuple[Any, ...]:
        return struct.unpack("<" + form, self.take(struct.calcsize("<" + form)))

    def string(self) -> str:
        return self.take(self.unpack("I")[0]).decode("utf-8", "replace")

    def metadata(self) -> dict[str, bytes]:
        return {self.string(): (self.string(), self.take(self.unpack("I")[0]))[1] for _ in range(self.unpack("I")[0])}


def read_vdb(path: Path) -> dict[str, Grid]:
    """Float and vec3 grids of a file, by name, as dense grids around their active voxels.

    Raises FileError for another kind of file, grid types not read here, other compression, or truncated data.
    """
    data = path.read_bytes()
    r = _Reader(data, path.name)
    magic, version, _major, _minor, offsets = r.unpack("qIII?")
    if magic != MAGIC:
        raise FileError("is not an OpenVDB file", where=path.name)
    if version < 222 or not offsets:
        raise FileError(f"file version {version} is too old", where=path.name, fix="222 to 224 are read")
    r.take(36)
    r.metadata()
    grids = {}
    for _ in range(r.unpack("i")[0]):
        name, kind, _parent = r.string(), r.string(), r.string()
        grid_at, _blocks, end = r.unpack("qqq")
        if kind not in ("Tree_float_5_4_3", "Tree_vec3s_5_4_3"):
            raise FileError(f"grid '{name}' is of type {kind}", where=path.name, fix="float and vec3s are read")
        r.file.seek(grid_at)
        grids[name.split("\x1e")[0]] = _read_grid(r, "vec3s" in kind)
        r.file.seek(end)
    return grids


def _read_grid(r: _Reader, vector: bool) -> Grid:
    flags = r.unpack("I")[0]
    if flags & ~(ZIP | ACTIVE_MASK):
        raise FileError(
            "uses a compression not read here", where=r.where, fix="save it with zip or without compression"
        )
    r.metadata()
    place, h, axes = _read_transform(r)
    origin = axes.T @ place
    channels = 3 if vector else 1
    r.unpack("i")
    background = np.frombuffer(r.take(4 * channels), "<f4")
    tiles, children = r.unpack("II")
    if tiles:
        raise FileError("has tiles at its root, which are not read here", where=r.where)
    leaves: list[tuple[Array, Array]] = []
    for _ in range(children):
        root = np.array(r.unpack("3i"))
        for at in _read_node(r, root, UPPER, flags, channels):
            for leaf in _read_node(r, at, LOWER, flags, channels):
                leaves.append((leaf, np.unpackbits(np.frombuffer(r.take(64), np.uint8), bitorder="little") == 1))
                if len(leaves) > MAX_LEAVES:
                    raise FileError("has too many leaves", where=r.where)
    return _fill(r, leaves, flags, channels, background, origin, h, turn_of(axes))


def _read_transform(r: _Reader) -> tuple[Array, float, Array]:
    """Place of voxel 0 in the scene, voxel size, and the axes as columns."""
    kind = r.string()
    if kind == "AffineMap":
        matrix = np.frombuffer(r.take(128), "<f8").reshape(4, 4)
        rows = matrix[:3, :3]
        sizes = np.linalg.norm(rows, axis=1)
        square = rows @ rows.T
        if not (
            np.isfinite(matrix).all() and sizes[0] > 0 and np.allclose(square, sizes[0] ** 2 * np.eye(3), rtol=1e-5)
        ):
            raise FileError("has voxels that are not cubes", where=r.where)
        return matrix[3, :3].copy(), float(sizes[0]), (rows / sizes[0]).T
    shifted = {"UniformScaleTranslateMap": True, "ScaleTranslateMap": True, "UniformScaleMap": False, "ScaleMap": False}
    if kind not in shifted:
        raise FileError(
            f"has a transform of type {kind}", where=r.where, fix="cubes that are moved and turned are read"
        )
    rows = np.frombuffer(r.take(24 * (6 if shifted[kind] else 5)), "<f8").reshape(-1, 3)
    origin, scale = (rows[0], rows[1]) if shifted[kind] else (np.zeros(3), rows[0])
    if not np.allclose(scale, scale[0]) or scale[0] <= 0:
        raise FileError("has voxels that are not cubes", where=r.where)
    return origin, float(scale[0]), np.eye(3)


def _read_node(r: _Reader, origin: Array, size: int, flags: int, channels: int) -> Iterator[Array]:
    """Origins of the children of an internal node; its tiles must be inactive."""
    child = LOWER if size == UPPER else LEAF
    side = size // child
    mask = np.unpackbits(np.frombuffer(r.take(side**3 // 8), np.uint8), bitorder="little")
    active = np.unpackbits(np.frombuffer(r.take(side**3 // 8), np.uint8), bitorder="little")
    if active.any():
        raise FileError("has active tiles, which are not read here", where=r.where, fix="save it with voxels only")
    _read_values(r, side**3, active == 1, flags, channels, np.zeros(channels, np.float32))
    for n in np.nonzero(mask)[0]:
        yield origin + np.array([n // (side * side), n // side % side, n % side]) * child


def _read_values(r: _Reader, size: int, active: Array, flags: int, channels: int, background: Array) -> Array:
    how = r.unpack("b")[0]
    if how not in (0, 1, 2, 3, 4, 5, 6):
        raise FileError("a node's header makes no sense", where=r.where, fix="the file is damaged")
    other = [-background if how != 0 else background, background]
    if how in (2, 4, 5):
        other[0] = np.frombuffer(r.take(4 * channels), "<f4")
        if how == 5:
            other[1] = np.frombuffer(r.take(4 * channels), "<f4")
    chosen = np.zeros(size, bool)
    if how in (3, 4, 5):
        chosen = np.unpackbits(np.frombuffer(r.take(size // 8), np.uint8), bitorder="little") == 1
    partial = bool(flags & ACTIVE_MASK) and how != 6
    count = int(active.sum()) if partial else size
    if flags & ZIP:
        packed = r.unpack("q")[0]
        try:
            raw = zlib.decompress(r.take(packed)) if packed > 0 else r.take(-packed)
        except zlib.error:
            raise FileError("compressed values are damaged", where=r.where) from None
    else:
        raw = r.take(4 * channels * count)
    if len(raw) != 4 * channels * count:
        raise FileError("a node holds the wrong number of values", where=r.where, fix="the file is damaged")
    read = np.frombuffer(raw, "<f4").reshape(count, channels)
    if not partial:
        return read
    out = np.where(chosen[:, None], other[1], other[0]).astype(np.float32)
    out[active] = read
    return out


def _fill(
    r: _Reader,
    leaves: list[tuple[Array, Array]],
    flags: int,
    channels: int,
    background: Array,
    origin: Array,
    h: float,
    turn: tuple[float, float, float],
) -> Grid:
    if not leaves:
        region = GridRegion(tuple((origin - 0.5 * h).tolist()), (1, 1, 1), h, turn)
        return Grid(region, np.zeros((1, 1, 1, 3) if channels == 3 else (1, 1, 1), np.float32))
    blocks = []
    for at, _ in leaves:
        active = np.unpackbits(np.frombuffer(r.take(64), np.uint8), bitorder="little") == 1
        blocks.append((at, active, _read_values(r, LEAF**3, active, flags, channels, background)))
    low = np.min([at for at, _, _ in blocks], axis=0)
    high = np.max([at for at, _, _ in blocks], axis=0) + LEAF
    region_shape = tuple(int(n) for n in high - low)
    GridRegion((0, 0, 0), region_shape, h).check(channels, r.where)  # type: ignore[arg-type]
    values = np.zeros((*region_shape, channels), np.float32)
    values[...] = background
    for at, _, block in blocks:
        x, y, z = at - low
        values[x : x + LEAF, y : y + LEAF, z : z + LEAF] = block.reshape(LEAF, LEAF, LEAF, channels)
    lower = origin + (low - 0.5) * h
    region = GridRegion(tuple(lower.tolist()), region_shape, h, turn)  # type: ignore[arg-type]
    return Grid(region, values if channels == 3 else values[..., 0])
