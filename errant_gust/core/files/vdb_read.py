"""OpenVDB files of scalar and vector grids, as dense grids around what is active in them.

File versions 222 to 224, trees of type 5-4-3; no compression, zip or Blosc; tiles, half floats, instances, and any
affine transform: what is not made of cubes is sampled anew. What a file says of lengths and counts is checked before
memory is taken for it. See the library's own `io/Compression.h` and `tree/` for the layout.
"""

import math
import struct
import zlib
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numcodecs import blosc
from numpy.typing import NDArray

from errant_gust.core.errors import FileError
from errant_gust.core.files.vdb_layout import ACTIVE_MASK, BLOSC, LEAF, LOWER, MAGIC, UPPER, ZIP
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion, budget
from errant_gust.core.study.turns import turn_of

Array = NDArray[Any]
MAX_LEAVES = 4_000_000
MOST_GRIDS = 1000
MOST_TILES = 1_000_000
KINDS: dict[str, tuple[str, int]] = {
    "Tree_float_5_4_3": ("<f4", 1), "Tree_double_5_4_3": ("<f8", 1), "Tree_int32_5_4_3": ("<i4", 1),
    "Tree_int64_5_4_3": ("<i8", 1), "Tree_vec3s_5_4_3": ("<f4", 3), "Tree_vec3d_5_4_3": ("<f8", 3),
    "Tree_vec3i_5_4_3": ("<i4", 3),
}  # fmt: skip
HALF = "_HalfFloat"
ALL_ACTIVE = b"\xff" * (LEAF**3 // 8) + b"\0"
"""How a leaf begins of which every voxel is active."""


class _Reader:
    def __init__(self, data: bytes, where: str) -> None:
        self.data, self.where, self.size, self.at = data, where, len(data), 0

    def take(self, count: int) -> bytes:
        if count < 0 or count > self.size:
            raise FileError("a length in the file makes no sense", where=self.where, fix="the file is damaged")
        end = self.at + count
        if end > self.size:
            raise FileError("the file ends too early", where=self.where, fix="it was cut off; copy it again")
        data, self.at = self.data[self.at : end], end
        return data

    def unpack(self, form: str) -> tuple[Any, ...]:
        return struct.unpack("<" + form, self.take(struct.calcsize("<" + form)))

    def string(self) -> str:
        return self.take(self.unpack("I")[0]).decode("utf-8", "replace")

    def metadata(self) -> dict[str, bytes]:
        return {self.string(): (self.string(), self.take(self.unpack("I")[0]))[1] for _ in range(self.unpack("I")[0])}

    def bits(self, count: int) -> Array:
        return np.unpackbits(np.frombuffer(self.take(count // 8), np.uint8), bitorder="little") == 1

    def go(self, to: int) -> None:
        if not 0 <= to <= self.size:
            raise FileError("a place in the file makes no sense", where=self.where, fix="the file is damaged")
        self.at = to


@dataclass
class _Entry:
    """A grid as the file lists it."""

    name: str
    kind: str
    half: bool
    parent: str
    at: int


@dataclass
class _Tree:
    """Values of a tree in one block: (nx, ny, nz, channels) float32 whose first voxel has the index `low`."""

    low: Array
    values: Array


def read_vdb(path: Path) -> dict[str, Grid]:
    """Scalar and vector grids of a file, by name, as dense grids around their active voxels; others are passed over.

    Raises FileError for another kind of file, for one that holds no such grid, and for what is damaged.
    """
    if path.stat().st_size > 8 * budget() // 10:
        raise FileError("is larger than the memory budget", where=path.name)
    r = _Reader(path.read_bytes(), path.name)
    if r.size < 20 or r.unpack("q")[0] != MAGIC:
        raise FileError("is not an OpenVDB file", where=path.name)
    version, _major, _minor, offsets = r.unpack("III?")
    if version < 222 or version > 224:
        raise FileError(f"file version {version} is not read", where=path.name, fix="222 to 224 are")
    if not offsets:
        raise FileError("was written as a stream", where=path.name, fix="write it to a file")
    r.take(36)
    r.metadata()
    entries = _entries(r)
    named = {entry.name: entry for entry in entries}
    grids: dict[str, Grid] = {}
    passed = []
    for entry in entries:
        source = named.get(entry.parent, entry) if entry.parent else entry
        if source.kind not in KINDS:
            passed.append(source.kind)
            continue
        name = _free(entry.name.split("\x1e")[0] or "grid", grids)
        grids[name] = _read_grid(r, entry, source)
        if sum(g.values.nbytes for g in grids.values()) > budget():
            raise FileError("its grids together are more than the memory budget", where=path.name)
    if not grids and passed:
        raise FileError(
            f"what it holds is of type {', '.join(dict.fromkeys(passed))}", where=path.name,
            fix="float, double, integer and vec3 grids are read",
        )  # fmt: skip
    return grids


def _entries(r: _Reader) -> list[_Entry]:
    count = r.unpack("i")[0]
    if not 0 <= count <= MOST_GRIDS:
        raise FileError(f"says it holds {count:,} grids", where=r.where, fix=f"at most {MOST_GRIDS:,} are read")
    found = []
    for _ in range(count):
        name, kind, parent = r.string(), r.string(), r.string()
        at, _blocks, end = r.unpack("qqq")
        found.append(_Entry(name, kind.removesuffix(HALF), kind.endswith(HALF), parent, at))
        if end < r.at:
            raise FileError("a place in the file makes no sense", where=r.where, fix="the file is damaged")
        r.go(end)
    return found


def _free(name: str, taken: dict[str, Grid]) -> str:
    made, count = name, 1
    while made in taken:
        count += 1
        made = f"{name}_{count}"
    return made


def _read_grid(r: _Reader, entry: _Entry, source: _Entry) -> Grid:
    """A grid, whose tree is that of another one if it is an instance."""
    r.go(entry.at)
    flags = r.unpack("I")[0]
    r.metadata()
    matrix = _read_transform(r)
    if source is not entry:
        r.go(source.at)
        flags = r.unpack("I")[0]
        r.metadata()
        _read_transform(r)
    if flags & ~(ZIP | ACTIVE_MASK | BLOSC):
        raise FileError(f"uses a compression that is not known ({flags})", where=r.where, fix="zip, Blosc or none")
    kind, channels = KINDS[source.kind]
    return _placed(_TreeReader(r, flags, kind, channels, source.half).read(), matrix, r.where)


def _read_transform(r: _Reader) -> Array:
    """(4, 3): the step of each index in the scene, and the place of voxel 0."""
    kind = r.string()
    if kind in ("AffineMap", "UnitaryMap"):
        matrix = np.frombuffer(r.take(128), "<f8").reshape(4, 4)[:, :3].copy()
    elif kind == "TranslationMap":
        matrix = np.vstack([np.eye(3), np.frombuffer(r.take(24), "<f8")])
    elif kind in ("UniformScaleTranslateMap", "ScaleTranslateMap", "UniformScaleMap", "ScaleMap"):
        moved = "Translate" in kind
        rows = np.frombuffer(r.take(24 * (6 if moved else 5)), "<f8").reshape(-1, 3)
        matrix = np.vstack([np.diag(rows[1 if moved else 0]), rows[0] if moved else np.zeros(3)])
    else:
        frustum = "Frustum" in kind
        raise FileError(
            "lies in a camera's frustum" if frustum else f"has a transform of type {kind}", where=r.where,
            fix="sample it into a grid of boxes first: moved, turned, scaled and sheared grids are read",
        )  # fmt: skip
    if not np.isfinite(matrix).all() or abs(np.linalg.det(matrix[:3])) < 1e-30:
        raise FileError("has a transform without a volume", where=r.where, fix="the file is damaged")
    return matrix


SPARSEST = 2000
"""Of how many voxels of the box around everything one must be active, where that is large."""


class _TreeReader:
    """The tree of one grid: topology first, then, when its extent is known and fits, the values."""

    def __init__(self, r: _Reader, flags: int, kind: str, channels: int, half: bool) -> None:
        self.r, self.flags, self.kind, self.channels, self.half = r, flags, kind, channels, half
        self.item = int(np.dtype(kind).itemsize)
        self.background = np.zeros(channels, np.float32)
        self.leaves: list[Array] = []
        self.tiles: list[tuple[Array, int, Array, bool]] = []
        """Of each tile its origin, its side, its value, and whether it is active."""

    def value(self) -> Array:
        """One value as it stands in the file, (channels,)."""
        return np.frombuffer(self.r.take(self.item * self.channels), self.kind).astype(np.float32)

    def read(self) -> _Tree:
        self.r.unpack("i")
        self.background = self.value()
        tiles, children = self.r.unpack("II")
        for _ in range(tiles):
            origin = np.array(self.r.unpack("3i"))
            self._tile(origin, UPPER, self.value(), bool(self.r.unpack("B")[0]))
        for _ in range(children):
            root = np.array(self.r.unpack("3i"))
            self._node(root, UPPER)
        return self._values()

    def _tile(self, origin: Array, side: int, value: Array, active: bool) -> None:
        if active or (value != self.background).any():
            self.tiles.append((origin, side, value, active))
            if len(self.tiles) > MOST_TILES:
                raise FileError("has too many tiles", where=self.r.where)

    def _node(self, origin: Array, size: int) -> None:
        child = LOWER if size == UPPER else LEAF
        side = size // child
        here, active = self.r.bits(side**3), self.r.bits(side**3)
        values = self._compressed(side**3, active)
        n = np.arange(side**3)
        origins = origin + np.stack([n // (side * side), n // side % side, n % side], axis=1) * child
        other = ~here & (active | (values != self.background).any(axis=1))
        for i in np.flatnonzero(other):
            self._tile(origins[i], child, values[i], bool(active[i]))
        for i in np.flatnonzero(here):
            if child == LEAF:
                self.r.take(64)
                self.leaves.append(origins[i])
                if len(self.leaves) > MAX_LEAVES:
                    raise FileError("has too many leaves", where=self.r.where)
            else:
                self._node(origins[i], child)

    def _compressed(self, size: int, active: Array) -> Array:
        """Values (size, channels) of a node, of which perhaps only the active ones are stored."""
        r = self.r
        how = r.unpack("b")[0]
        if not 0 <= how <= 6:
            raise FileError("a node's header makes no sense", where=r.where, fix="the file is damaged")
        inactive = [self.background if how == 0 else -self.background, self.background]
        if how in (2, 4, 5):
            inactive[0] = self.value()
            if how == 5:
                inactive[1] = self.value()
        chosen = r.bits(size) if how in (3, 4, 5) else np.zeros(size, bool)
        partial = bool(self.flags & ACTIVE_MASK) and how != 6
        count = int(active.sum()) if partial else size
        read = self._numbers(count)
        if not partial or count == size:
            return read
        out = np.where(chosen[:, None], inactive[1], inactive[0]).astype(np.float32)
        out[active] = read
        return out

    def _numbers(self, count: int) -> Array:
        r = self.r
        halved = self.half and self.kind in ("<f4", "<f8")
        if halved and count == 0:  # then not even a length is written
            return np.empty((0, self.channels), np.float32)
        kind = "<f2" if halved else self.kind
        need = count * self.channels * int(np.dtype(kind).itemsize)
        if not self.flags & (ZIP | BLOSC):
            raw = r.take(need)
        else:
            packed = r.unpack("q")[0]
            raw = r.take(-packed) if packed <= 0 else self._unpacked(r.take(packed), need)
        if len(raw) != need:
            raise FileError("a node holds the wrong number of values", where=r.where, fix="the file is damaged")
        return np.frombuffer(raw, kind).reshape(count, self.channels).astype(np.float32)

    def _unpacked(self, data: bytes, need: int) -> bytes:
        """Never more than the bytes that are needed."""
        try:
            if self.flags & BLOSC:
                if need == 0:
                    return b""
                if len(data) < 16 or struct.unpack_from("<I", data, 4)[0] != need:
                    return b""
                return bytes(blosc.decompress(data))
            made = zlib.decompressobj().decompress(data, need + 1)
        except (zlib.error, RuntimeError, ValueError):
            raise FileError("compressed values are damaged", where=self.r.where) from None
        return made

    def _leaf(self) -> Array:
        """Values (512, channels) of a leaf; most have only active ones."""
        r = self.r
        if r.data.startswith(ALL_ACTIVE, r.at):
            r.at += len(ALL_ACTIVE)
            return self._numbers(LEAF**3)
        return self._compressed(LEAF**3, r.bits(LEAF**3))

    def _values(self) -> _Tree:
        """Leaves, and tiles as far as they reach into the box around everything that is active."""
        lows = [*self.leaves, *(o for o, _, _, active in self.tiles if active)]
        highs = [*(o + LEAF for o in self.leaves), *(o + side for o, side, _, active in self.tiles if active)]
        if not lows:
            return _Tree(np.zeros(3, int), np.broadcast_to(self.background, (1, 1, 1, self.channels)).copy())
        low, high = np.min(lows, axis=0), np.max(highs, axis=0)
        shape = tuple(int(n) for n in high - low)
        GridRegion((0.0, 0.0, 0.0), shape, 1.0).check(self.channels, self.r.where)  # type: ignore[arg-type]
        need, there = math.prod(shape) * 4 * self.channels, len(self.r.data)
        tiled = sum(side**3 for _, side, _, active in self.tiles if active)
        if need > 256 << 20 and (len(self.leaves) * LEAF**3 + tiled) * SPARSEST < math.prod(shape):
            raise FileError(
                f"is active in {len(self.leaves):,} leaves far apart: as a box of {' × '.join(map(str, shape))} voxels "
                f"it would take {need / 1e9:,.1f} GB, from {there / 1e6:,.1f} MB", where=self.r.where,
                fix="cut it to where it is, or write the parts as files of their own",
            )  # fmt: skip
        values = np.empty((*shape, self.channels), np.float32)
        values[...] = self.background
        for origin, side, value, _ in self.tiles:
            a, b = np.clip(origin - low, 0, shape), np.clip(origin + side - low, 0, shape)
            values[a[0] : b[0], a[1] : b[1], a[2] : b[2]] = value
        for at in self.leaves:
            block = self._leaf()
            x, y, z = at - low
            values[x : x + LEAF, y : y + LEAF, z : z + LEAF] = block.reshape(LEAF, LEAF, LEAF, self.channels)
        return _Tree(low, values)


def _placed(tree: _Tree, matrix: Array, where: str) -> Grid:
    """The tree's values as a grid of cubes where the transform puts them."""
    values, steps = tree.values, matrix[:3].copy()
    first = matrix[3] + tree.low @ steps
    if np.linalg.det(steps) < 0:  # mirrored: the first index counted from its other end
        first = first + (values.shape[0] - 1) * steps[0]
        steps[0], values = -steps[0], values[::-1]
    sizes = np.linalg.norm(steps, axis=1)
    h = float(sizes.min())
    square = np.allclose((steps @ steps.T) / np.outer(sizes, sizes), np.eye(3), atol=1e-5)
    axes = (steps / sizes[:, None]).T if square else np.eye(3)
    if not square or not np.allclose(sizes, h, rtol=1e-5):
        values, first = _resampled(values, steps, first, axes, h, where)
    turn = turn_of(axes)
    lower = axes.T @ first - 0.5 * h
    shape = (values.shape[0], values.shape[1], values.shape[2])
    region = GridRegion((float(lower[0]), float(lower[1]), float(lower[2])), shape, h, turn)
    made = np.ascontiguousarray(values, np.float32)
    return Grid(region, made if made.shape[3] == 3 else made[..., 0])


def _resampled(values: Array, steps: Array, first: Array, axes: Array, h: float, where: str) -> tuple[Array, Array]:
    """Linear between voxels that are no cubes, on cubes of side h along the axes (columns) that cover them; the middle
    of the first."""
    from scipy import ndimage

    ends = np.array(list(np.ndindex(2, 2, 2))) * np.array(values.shape[:3]) - 0.5
    own = (first + ends @ steps) @ axes
    low, high = own.min(axis=0), own.max(axis=0)
    shape = tuple(int(n) for n in np.maximum(1, np.ceil((high - low) / h - 1e-6)))
    GridRegion((0.0, 0.0, 0.0), shape, h).check(2 * values.shape[3] + 3, where)  # type: ignore[arg-type]
    start = axes @ (low + 0.5 * h)
    back = np.linalg.inv(steps)
    out = np.empty((*shape, values.shape[3]), np.float32)
    j, k = (m.ravel() for m in np.meshgrid(np.arange(shape[1]), np.arange(shape[2]), indexing="ij"))
    for i in range(shape[0]):
        points = start + h * (np.stack([np.full(len(j), i), j, k], axis=1) @ axes.T)
        index = ((points - first) @ back).T
        for c in range(values.shape[3]):
            made = ndimage.map_coordinates(values[..., c], index, order=1, mode="nearest")
            out[i, ..., c] = made.reshape(shape[1:])
    return out, start
