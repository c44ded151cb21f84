"""Baked fields as files: the format follows from the ending (.vdb, .npz, .vti)."""

import struct
from collections.abc import Callable
from pathlib import Path

import numpy as np

from errant_gust.core.errors import FileError, nearest
from errant_gust.core.files.place import written_whole
from errant_gust.core.files.vdb import write_vdb
from errant_gust.core.grids.grid import Grid


def write_npz(path: Path, grids: dict[str, Grid]) -> None:
    """NumPy archive: an array a grid ((nx, ny, nz) or (nx, ny, nz, 3)), with `origin` (middle of the first voxel, m)
    and `voxel_size` (m) of each."""
    arrays = {}
    for name, grid in grids.items():
        arrays[name] = grid.values
        arrays[f"{name}.origin"] = np.array(grid.region.lower) + 0.5 * grid.region.voxel_size
        arrays[f"{name}.voxel_size"] = np.array(grid.region.voxel_size)
    with written_whole(path) as file:
        np.savez(file, **arrays)  # type: ignore[arg-type]


def write_vti(path: Path, grids: dict[str, Grid]) -> None:
    """VTK image data (XML, raw appended, little-endian): values as point data at the voxel middles, x fastest."""
    region = next(iter(grids.values())).region
    if any(grid.region != region for grid in grids.values()):
        raise FileError("all grids of a .vti share one region", where=path.name, fix="write one file a region")
    extent = " ".join(f"0 {n - 1}" for n in region.shape)
    h = region.voxel_size
    origin = " ".join(f"{low + 0.5 * h!r}" for low in region.lower)
    arrays, blobs, offset = [], [], 0
    for name, grid in grids.items():
        order = (2, 1, 0, 3) if grid.is_vector else (2, 1, 0)
        blob = np.ascontiguousarray(grid.values.transpose(order), "<f4").tobytes()
        components = 3 if grid.is_vector else 1
        arrays.append(
            f'<DataArray type="Float32" Name="{name}" NumberOfComponents="{components}" format="appended" '
            f'offset="{offset}"/>'
        )
        blobs.append(blob)
        offset += 8 + len(blob)
    head = (
        '<?xml version="1.0"?>\n'
        '<VTKFile type="ImageData" version="1.0" byte_order="LittleEndian" header_type="UInt64">\n'
        f'<ImageData WholeExtent="{extent}" Origin="{origin}" Spacing="{h!r} {h!r} {h!r}">\n'
        f'<Piece Extent="{extent}"><PointData>{"".join(arrays)}</PointData></Piece>\n'
        '</ImageData>\n<AppendedData encoding="raw">_'
    )
    with written_whole(path) as file:
        file.write(head.encode())
        for blob in blobs:
            file.write(struct.pack("<Q", len(blob)))
            file.write(blob)
        file.write(b"</AppendedData>\n</VTKFile>\n")


WRITERS: dict[str, Callable[[Path, dict[str, Grid]], None]] = {".vdb": write_vdb, ".npz": write_npz, ".vti": write_vti}


def writer_for(path: Path) -> Callable[[Path, dict[str, Grid]], None]:
    """The writer for a file name, or an error that names the endings."""
    suffix = path.suffix.lower()
    if suffix not in WRITERS:
        raise FileError(f"'{suffix or path.name}' is no volume format", where=path.name, fix=nearest(suffix, WRITERS))
    if not path.parent.is_dir():
        raise FileError("the folder does not exist", where=str(path.parent), fix="make it first")
    return WRITERS[suffix]
