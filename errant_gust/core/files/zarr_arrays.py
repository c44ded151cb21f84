"""Arrays in a folder as a Zarr group (format 3), written and read by our own threads; any Zarr library reads them.

Chunks are compressed and written at the same time, each file is synced by the thread that wrote it, and the folder
once in the end. What this does not know (another codec, another order) is read by the library.
"""

import json
import math
import os
import threading
from collections.abc import Callable, Iterator
from functools import partial
from itertools import product
from pathlib import Path
from typing import Any, cast

import numpy as np
import xxhash
from numcodecs import blosc
from numpy.typing import NDArray

from errant_gust.core.errors import FileError
from errant_gust.core.helpers import at_once

Array = NDArray[Any]
ROWS = 1 << 20
"""Rows of points in a chunk at most."""
CELLS = 128
"""Cells along an edge of a chunk at most."""
PIECE = 1 << 18
"""Bytes that are read and summed at a time."""
SUMS = "errant_gust.sums"
"""Of every array: sums of its chunks (none for those that are left out), of its head, and of what the group says."""
SUMMED = "summed"
"""Attribute of a group that says so: then no array of it may be without."""
LARGEST = 1 << 36
"""Bytes of an array that a file may ask for."""
TYPES = ("bool", "int8", "int16", "int32", "int64", "uint8", "uint16", "uint32", "uint64", "float32", "float64")
CODEC: dict[str, Any] = {"cname": "lz4", "clevel": 1, "shuffle": "shuffle", "blocksize": 0}
SHUFFLES = {"noshuffle": blosc.NOSHUFFLE, "shuffle": blosc.SHUFFLE, "bitshuffle": blosc.BITSHUFFLE}


def chunks_of(shape: tuple[int, ...]) -> tuple[int, ...]:
    """Even chunks of an array: rows of points, or boxes of cells, so that others read what they need and none is
    larger than a compressor takes."""
    if not shape:
        return ()
    if len(shape) < 3:
        return (_even(shape[0], ROWS), *(max(1, n) for n in shape[1:]))
    return (*(_even(n, CELLS) for n in shape[:3]), *(max(1, n) for n in shape[3:]))


def _even(count: int, most: int) -> int:
    return math.ceil(count / math.ceil(count / most)) if count else 1


def write_arrays(folder: Path, arrays: dict[str, Array], attributes: dict[str, Any]) -> None:
    """A new group at `folder`, synced to the disk. Raises OSError as the system does. Arrays of any shape; a
    FileError for a type that is not kept."""
    folder.mkdir()
    calls: list[Callable[[], str]] = []
    heads: list[tuple[str, dict[str, Any], int]] = []
    for name, values in arrays.items():
        place = folder / name
        place.mkdir()
        values = np.asarray(values, order="C")
        if values.dtype.name not in TYPES:
            raise FileError(f"arrays of {values.dtype} cannot be kept", where=name)
        chunks = chunks_of(values.shape)
        for key, part in _parts(values.shape, chunks):
            calls.append(partial(_write_chunk, place, key, values, part, chunks))
        heads.append((name, _told(values, chunks), len(calls)))
    summed = at_once(calls) if calls else []
    about = {"zarr_format": 3, "node_type": "group", "attributes": attributes}
    begin, group = 0, _sum(_plain([about, sorted(arrays)]))
    for name, head, end in heads:
        sums: dict[str, Any] = {"chunks": summed[begin:end], "group": group}
        sums["head"] = _sum(_plain([head, sums]))
        _write_synced(folder / name / "zarr.json", json.dumps({**head, "attributes": {SUMS: sums}}).encode())
        begin = end
    _write_synced(folder / "zarr.json", json.dumps(about).encode())
    for at, _, _ in os.walk(folder):
        sync(Path(at))


def _told(values: Array, chunks: tuple[int, ...]) -> dict[str, Any]:
    size = values.dtype.itemsize
    plain: dict[str, Any] = {"name": "bytes"}
    if size > 1:
        plain["configuration"] = {"endian": "little"}
    return {
        "zarr_format": 3, "node_type": "array", "shape": list(values.shape), "data_type": values.dtype.name,
        "chunk_grid": {"name": "regular", "configuration": {"chunk_shape": list(chunks)}},
        "chunk_key_encoding": {"name": "default", "configuration": {"separator": "/"}},
        "fill_value": False if values.dtype == bool else 0,
        "codecs": [plain, {"name": "blosc", "configuration": {"typesize": size, **CODEC}}],
        "attributes": {}, "storage_transformers": [],
    }  # fmt: skip


def _parts(shape: tuple[int, ...], chunks: tuple[int, ...]) -> Iterator[tuple[str, tuple[Any, ...]]]:
    """Key and place of every chunk."""
    counts = [range(math.ceil(n / c)) for n, c in zip(shape, chunks, strict=True)]
    for index in product(*counts):
        at = tuple(slice(i * c, min(n, (i + 1) * c)) for i, c, n in zip(index, chunks, shape, strict=True))
        yield "/".join(["c", *map(str, index)]), at


def _write_chunk(
    place: Path, key: str, values: Array, part: tuple[Any, ...], chunks: tuple[int, ...]
) -> str:  # fmt: skip
    """Its sum; none for one that is left out."""
    own = values[(*part, ...)]
    if own.shape != chunks:  # at an edge: a chunk is whole
        whole = np.zeros(chunks, values.dtype)
        whole[tuple(slice(0, n) for n in own.shape)] = own
        own = whole
    own = np.ascontiguousarray(own)
    if not own.reshape(-1).view(np.uint8).any():
        return ""  # what is not there is 0, as Zarr has it
    path = place / key
    path.parent.mkdir(parents=True, exist_ok=True)
    data = blosc.compress(own, CODEC["cname"].encode(), CODEC["clevel"], blosc.SHUFFLE)
    _write_synced(path, data)
    return _sum(data)


def _sum(data: Any) -> str:
    """What tells that not a bit was changed: XXH3 of 64 bits."""
    return str(xxhash.xxh3_64_hexdigest(data))


def _plain(about: Any) -> bytes:
    """What JSON makes of it, however it is written."""
    return json.dumps(json.loads(json.dumps(about)), sort_keys=True).encode()


def _sums_of(head: dict[str, Any], where: str, summed: bool) -> dict[str, Any] | None:
    """The sums that an array's head has, if they are of it; None for one that others wrote. `summed`: whether the group
    says that all have some. Raises ValueError."""
    sums = head.get("attributes", {}).get(SUMS)
    if sums is None:
        if summed:
            raise ValueError(f"{where} is damaged: its sums are gone")
        return None
    rest = {key: value for key, value in sums.items() if key != "head"}
    if sums.get("head") != _sum(_plain([{**head, "attributes": {}}, rest])) or len(head["attributes"]) > 1:
        raise ValueError(f"{where} is damaged: what is written of it was changed")
    return dict(sums)


def read_attributes(folder: Path) -> dict[str, Any]:
    """What was written beside the arrays of a group. Raises ValueError where that was changed or an array is gone,
    KeyError or OSError for what is broken."""
    about = json.loads((folder / "zarr.json").read_text())
    attributes: dict[str, Any] = about["attributes"]
    names = sorted(entry.name for entry in os.scandir(folder) if entry.is_dir())
    if names:
        head = json.loads((folder / names[0] / "zarr.json").read_text())
        sums = _sums_of(head, names[0], bool(attributes.get(SUMMED)))
        if sums is not None and sums["group"] != _sum(_plain([about, names])):
            raise ValueError("it is damaged: what is written of it was changed, or an array is gone")
    return attributes


def _write_synced(path: Path, data: bytes) -> None:
    with path.open("wb", buffering=0) as file:
        view = memoryview(data)
        while view:
            view = view[file.write(view) :]
        os.fsync(file.fileno())


def sync(folder: Path) -> None:
    """Names in a folder onto the disk."""
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def read_arrays(folder: Path, names: tuple[str, ...]) -> dict[str, Array]:
    """Arrays of a group, whole, of any shape as they were written. Raises KeyError for one that is not there,
    ValueError, OSError or RuntimeError for what is broken."""
    found: dict[str, Array] = {}
    calls = []
    try:
        summed = bool(json.loads((folder / "zarr.json").read_text())["attributes"].get(SUMMED))
    except FileNotFoundError:
        summed = False
    for name in names:
        place = folder / name
        try:
            about = json.loads((place / "zarr.json").read_text())
        except FileNotFoundError:
            raise KeyError(name) from None
        if not _known(about):
            _sums_of(about, name, summed)
            found[name] = _by_library(place)
            continue
        shape, chunks = tuple(about["shape"]), tuple(about["chunk_grid"]["configuration"]["chunk_shape"])
        kind = np.dtype(about["data_type"])
        if max(math.prod(shape), math.prod(chunks)) * kind.itemsize > LARGEST:
            raise ValueError(f"{name} would be of {shape}")
        told = _sums_of(about, name, summed)
        values = np.empty(shape, kind)
        found[name] = values
        parts, sums = list(_parts(shape, chunks)), None if told is None else told["chunks"]
        if sums is not None and len(sums) != len(parts):
            raise ValueError(f"{name} is damaged: it has sums of other chunks")
        calls += [
            partial(_read_chunk, place / key, values, part, chunks, None if sums is None else sums[n])
            for n, (key, part) in enumerate(parts)
        ]
    if calls:
        at_once(calls)
    return found


def _known(about: dict[str, Any]) -> bool:
    """Whether an array is as `write_arrays` leaves it, or as the library wrote it for us."""
    codecs = about.get("codecs", [])
    return (
        about.get("data_type") in TYPES
        and [c.get("name") for c in codecs] == ["bytes", "blosc"]
        and codecs[0].get("configuration", {}).get("endian", "little") == "little"
        and about["chunk_grid"]["name"] == "regular"
        and about["chunk_key_encoding"] == {"name": "default", "configuration": {"separator": "/"}}
        and about["fill_value"] in (0, False)
    )


class _Room(threading.local):
    """Room for a chunk as it lies in its file: fresh pages would cost more than its sum."""

    def __init__(self) -> None:
        self.bytes = bytearray(1 << 16)


_room = _Room()


def _contents(path: Path, summed: bool) -> tuple[memoryview, str] | None:
    """A file, until this thread reads another, and its sum if it is wanted; None if it is not there."""
    try:
        handle = os.open(path, os.O_RDONLY)
    except FileNotFoundError:
        return None
    try:
        size = os.fstat(handle).st_size
        if size > len(_room.bytes):
            _room.bytes = bytearray(size)
        view, done, sum_ = memoryview(_room.bytes)[:size], 0, xxhash.xxh3_64()
        while done < size and (more := os.readv(handle, [view[done : done + PIECE]])):
            if summed:
                sum_.update(view[done : done + more])  # while it is in the cache
            done += more
        return view[:done], sum_.hexdigest() if summed else ""
    finally:
        os.close(handle)


def _read_chunk(
    path: Path, values: Array, part: tuple[Any, ...], chunks: tuple[int, ...], told: str | None
) -> None:  # fmt: skip
    """`told`: its sum, empty for one that was left out, None where no sums were kept."""
    own = values[(*part, ...)]
    found = _contents(path, told is not None)
    if found is None:
        if told:
            raise ValueError(f"it is damaged: a chunk is missing ({'/'.join(path.parts[-4:])})")
        own[...] = 0
        return
    data, sum_ = found
    if told is not None and sum_ != told:
        raise ValueError(f"it is damaged: a chunk was changed ({'/'.join(path.parts[-4:])})")
    size = math.prod(chunks) * values.dtype.itemsize
    if int.from_bytes(data[4:8], "little") != size:  # as Blosc's header has it, before anything is unpacked
        raise ValueError(f"{path.name} is of another size")
    if own.shape == chunks and own.flags.c_contiguous:
        blosc.decompress(data, own)
        return
    whole = np.empty(chunks, values.dtype)
    blosc.decompress(data, whole)
    own[...] = whole[tuple(slice(0, n) for n in own.shape)]


def _by_library(place: Path) -> Array:
    import zarr

    return np.asarray(cast(Any, zarr.open_array(place, mode="r"))[...])
