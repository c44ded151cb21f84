"""Arrays in a folder as a Zarr group (format 3), written and read by our own threads; any Zarr library reads them.

Chunks are compressed and written at the same time, each file is synced by the thread that wrote it, and the folder
once in the end. What this does not know (another codec, another order) is read by the library.
"""

import json
import math
import os
from collections.abc import Iterator
from functools import partial
from itertools import product
from pathlib import Path
from typing import Any, cast

import numpy as np
from numcodecs import blosc
from numpy.typing import NDArray

from errant_gust.core.errors import FileError
from errant_gust.core.helpers import at_once

Array = NDArray[Any]
ROWS = 1 << 20
"""Rows of points in a chunk at most."""
CELLS = 128
"""Cells along an edge of a chunk at most."""
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
    calls = []
    for name, values in arrays.items():
        place = folder / name
        place.mkdir()
        values = np.asarray(values, order="C")
        if values.dtype.name not in TYPES:
            raise FileError(f"arrays of {values.dtype} cannot be kept", where=name)
        chunks = chunks_of(values.shape)
        calls.append(partial(_write_synced, place / "zarr.json", json.dumps(_told(values, chunks)).encode()))
        for key, part in _parts(values.shape, chunks):
            calls.append(partial(_write_chunk, place, key, values, part, chunks))
    about = {"zarr_format": 3, "node_type": "group", "attributes": attributes}
    calls.append(partial(_write_synced, folder / "zarr.json", json.dumps(about).encode()))
    at_once(calls)
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
) -> None:  # fmt: skip
    own = values[(*part, ...)]
    if own.shape != chunks:  # at an edge: a chunk is whole
        whole = np.zeros(chunks, values.dtype)
        whole[tuple(slice(0, n) for n in own.shape)] = own
        own = whole
    own = np.ascontiguousarray(own)
    if not own.reshape(-1).view(np.uint8).any():
        return  # what is not there is 0, as Zarr has it
    path = place / key
    path.parent.mkdir(parents=True, exist_ok=True)
    _write_synced(path, blosc.compress(own, CODEC["cname"].encode(), CODEC["clevel"], blosc.SHUFFLE))


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
    for name in names:
        place = folder / name
        try:
            about = json.loads((place / "zarr.json").read_text())
        except FileNotFoundError:
            raise KeyError(name) from None
        if not _known(about):
            found[name] = _by_library(place)
            continue
        shape, chunks = tuple(about["shape"]), tuple(about["chunk_grid"]["configuration"]["chunk_shape"])
        kind = np.dtype(about["data_type"])
        if max(math.prod(shape), math.prod(chunks)) * kind.itemsize > LARGEST:
            raise ValueError(f"{name} would be of {shape}")
        values = np.empty(shape, kind)
        found[name] = values
        calls += [partial(_read_chunk, place / key, values, part, chunks) for key, part in _parts(shape, chunks)]
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


def _read_chunk(path: Path, values: Array, part: tuple[Any, ...], chunks: tuple[int, ...]) -> None:
    own = values[(*part, ...)]
    try:
        data = path.read_bytes()
    except FileNotFoundError:
        own[...] = 0
        return
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
