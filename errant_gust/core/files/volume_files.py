"""Baked fields as files: the format follows from the ending (.vdb, .npz, .vti)."""

import math
import struct
import xml.etree.ElementTree as ElementTree
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.errors import FileError, nearest
from errant_gust.core.files.packed import check_expands
from errant_gust.core.files.vdb import read_vdb, write_vdb
from errant_gust.core.files.writing import add_file, folder_aside, written_whole
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion, budget
from errant_gust.core.making import Once
from errant_gust.core.study.turns import turn_of

Array = NDArray[Any]
ZARR_CHUNK = 64  # voxels a side


def write_npz(path: Path, grids: dict[str, Grid]) -> None:
    """NumPy archive: an array a grid ((nx, ny, nz) or (nx, ny, nz, 3)), with `origin` (middle of the first voxel, m),
    `voxel_size` (m) and `axes` (3, 3; columns) of each."""
    arrays = {}
    for name, grid in grids.items():
        arrays[name] = grid.values
        arrays[f"{name}.origin"] = grid.region.axes @ (np.array(grid.region.lower) + 0.5 * grid.region.voxel_size)
        arrays[f"{name}.axes"] = grid.region.axes
        arrays[f"{name}.voxel_size"] = np.array(grid.region.voxel_size)
        if grid.unit:
            arrays[f"{name}.unit"] = np.array(grid.unit)
    with written_whole(path) as file:
        np.savez(file, **arrays)  # type: ignore[arg-type]


def write_zarr(path: Path, grids: dict[str, Grid]) -> None:
    """Zarr (version 3) in one zip: an array a grid, chunked and compressed, with `dimension_names` x, y, z (and
    component), and as attributes `origin` (middle of the first voxel, m), `voxel_size` (m), `axes` (3, 3; columns).
    Raises FileError, NoRoom."""
    import zarr
    import zarr.codecs

    try:
        with folder_aside(path.with_name(f"arrays-{path.name}")) as folder:
            group = zarr.open_group(folder, mode="w")
            for name, grid in grids.items():
                r, more = grid.region, ["component"] if grid.is_vector else []
                group.create_array(
                    name, data=np.ascontiguousarray(grid.values, np.float32),
                    chunks=(*(min(n, ZARR_CHUNK) for n in r.shape), *([3] if more else [])),
                    compressors=zarr.codecs.BloscCodec(cname="lz4", clevel=3, shuffle=zarr.codecs.BloscShuffle.shuffle),
                    dimension_names=["x", "y", "z", *more],
                    attributes={
                        "origin": (r.axes @ (np.array(r.lower) + 0.5 * r.voxel_size)).tolist(),
                        "voxel_size": r.voxel_size, "axes": r.axes.tolist(),
                        **({"unit": grid.unit} if grid.unit else {}),
                    },
                )  # fmt: skip
            with written_whole(path) as file, zipfile.ZipFile(file, "w") as archive:
                for part in sorted(p for p in folder.rglob("*") if p.is_file()):
                    add_file(archive, part, part.relative_to(folder).as_posix())
    except OSError as error:
        raise FileError(f"could not be written ({error.strerror or error})", where=str(path)) from None


def write_vti(path: Path, grids: dict[str, Grid]) -> None:
    """VTK image data (XML, raw appended, little-endian): values as point data at the voxel middles, x fastest.
    Raises FileError for grids of several regions, NoRoom."""
    region = next(iter(grids.values())).region
    if any(grid.region != region for grid in grids.values()):
        raise FileError("all grids of a .vti share one region", where=path.name, fix="write one file a region")
    extent = " ".join(f"0 {n - 1}" for n in region.shape)
    h = region.voxel_size
    first = region.axes @ (np.array(region.lower) + 0.5 * h)
    origin = " ".join(f"{float(v)!r}" for v in first)
    turned = " ".join(f"{float(v)!r}" for v in region.axes.ravel()) if region.is_turned else ""
    direction = f' Direction="{turned}"' if turned else ""
    arrays, blobs, offset = [], [], 0
    for name, grid in grids.items():
        order = (2, 1, 0, 3) if grid.is_vector else (2, 1, 0)
        blob = np.ascontiguousarray(grid.values.transpose(order), "<f4").tobytes()
        components = 3 if grid.is_vector else 1
        unit = f' Unit="{grid.unit}"' if grid.unit else ""
        arrays.append(
            f'<DataArray type="Float32" Name="{name}" NumberOfComponents="{components}"{unit} format="appended" '
            f'offset="{offset}"/>'
        )
        blobs.append(blob)
        offset += 8 + len(blob)
    head = (
        '<?xml version="1.0"?>\n'
        '<VTKFile type="ImageData" version="1.0" byte_order="LittleEndian" header_type="UInt64">\n'
        f'<ImageData WholeExtent="{extent}" Origin="{origin}" Spacing="{h!r} {h!r} {h!r}"{direction}>\n'
        f'<Piece Extent="{extent}"><PointData>{"".join(arrays)}</PointData></Piece>\n'
        '</ImageData>\n<AppendedData encoding="raw">_'
    )
    with written_whole(path) as file:
        file.write(head.encode())
        for blob in blobs:
            file.write(struct.pack("<Q", len(blob)))
            file.write(blob)
        file.write(b"</AppendedData>\n</VTKFile>\n")


def write_surface(path: Path, grids: dict[str, Grid]) -> None:
    """The surface where a scalar grid (a distance) is zero, as a mesh: .obj, .ply or .stl by marching cubes. Raises
    FileError for a vector, or a grid that is nowhere zero."""
    import trimesh
    from skimage.measure import marching_cubes

    name, grid = next(iter(grids.items()))
    if grid.is_vector:
        raise FileError(
            f"'{name}' is a vector", where=path.name, fix="a mesh is made from a distance, which is a scalar"
        )
    if not grid.values.min() < 0 < grid.values.max() or min(grid.values.shape) < 2:
        raise FileError(
            f"'{name}' is nowhere zero in the region", where=path.name, fix="a distance that is negative inside"
        )
    vertices, faces, _, _ = marching_cubes(grid.values, 0.0, gradient_direction="descent")
    own = (vertices + 0.5) * grid.region.voxel_size + np.array(grid.region.lower)
    mesh = trimesh.Trimesh(own @ grid.region.axes.T, faces, process=False)
    with written_whole(path) as file:
        data: Any = mesh.export(file_type=path.suffix[1:].lower())
        file.write(data if isinstance(data, bytes) else data.encode())


WRITERS: dict[str, Callable[[Path, dict[str, Grid]], None]] = {
    ".vdb": write_vdb, ".npz": write_npz, ".vti": write_vti,
    ".obj": write_surface, ".ply": write_surface, ".stl": write_surface,
}  # fmt: skip


def writer_for(path: Path) -> Callable[[Path, dict[str, Grid]], None]:
    """The writer for a file name, or an error that names the endings. Raises FileError."""
    suffix = path.suffix.lower()
    if suffix not in WRITERS:
        raise FileError(f"'{suffix or path.name}' is no volume format", where=path.name, fix=nearest(suffix, WRITERS))
    if not path.parent.is_dir():
        raise FileError("the folder does not exist", where=str(path.parent), fix="make it first")
    return WRITERS[suffix]


MOST_VOXELS = 600_000_000


def read_npz(path: Path) -> dict[str, Grid]:
    """Grids written by `write_npz`, or any arrays (nx, ny, nz[, 3]); without a place they begin at 0 with 1 m
    voxels. What the heads of the arrays say is checked before any of them is expanded. Raises FileError for what is
    damaged, too large, or no grid."""
    try:
        with zipfile.ZipFile(path) as archive:
            heads = _heads(archive, path.name)
            names = [n for n, (shape, _) in heads.items() if "." not in n and len(shape) in (3, 4)]

            def small(name: str, otherwise: Array) -> Array:
                return _array(archive, name, path.name) if name in heads else otherwise

            grids = {}
            for name in names:
                if len(heads[name][0]) == 4 and heads[name][0][3] != 3:
                    raise FileError(
                        f"'{name}' has {heads[name][0][3]} components", where=path.name, fix="right would be 3"
                    )
                values = np.ascontiguousarray(_array(archive, name, path.name), np.float32)
                h = float(small(f"{name}.voxel_size", np.array(1.0)))
                origin, axes = small(f"{name}.origin", np.full(3, 0.5 * h)), small(f"{name}.axes", np.eye(3))
                grids[name] = _grid(values, origin, h, axes, path.name)
            return grids
    except FileError:
        raise
    except Exception as error:  # a damaged archive fails in many ways
        raise FileError(
            f"cannot be read ({str(error)[:80]})", where=path.name, fix="right would be a .npz archive"
        ) from None


MOST_MEMBERS = 2000


def _heads(archive: zipfile.ZipFile, where: str) -> dict[str, tuple[tuple[int, ...], np.dtype[Any]]]:
    """Shape and type of every array of an archive, each of which must be as long as they say."""
    members = archive.infolist()
    if len(members) > MOST_MEMBERS:
        raise FileError(f"holds {len(members):,} arrays", where=where, fix=f"at most {MOST_MEMBERS:,}")
    total, limit = check_expands(members, where, "write it without compression"), budget()
    if total > limit:
        raise FileError(
            f"expands to {total / 1e9:,.1f} GB, the budget is {limit / 1e9:,.1f} GB", where=where, fix="a smaller grid"
        )
    heads = {}
    for member in members:
        if not member.filename.endswith(".npy"):
            continue
        with archive.open(member) as file:
            version = np.lib.format.read_magic(file)
            if version not in ((1, 0), (2, 0)):
                raise FileError(f"'{member.filename}' is of version {version}", where=where, fix="1.0 and 2.0 are read")
            read = np.lib.format.read_array_header_1_0 if version == (1, 0) else np.lib.format.read_array_header_2_0
            shape, _, dtype = read(file, max_header_size=10_000)
            need = file.tell() + math.prod(shape) * dtype.itemsize
        if dtype.hasobject or min(shape, default=1) < 0 or need != member.file_size:
            raise FileError(
                f"'{member.filename}' says {' × '.join(map(str, shape))} of {dtype}, which is not what it holds",
                where=where, fix="the file is damaged",
            )  # fmt: skip
        heads[member.filename.removesuffix(".npy")] = (shape, dtype)
    return heads


def _array(archive: zipfile.ZipFile, name: str, where: str) -> Array:
    with archive.open(f"{name}.npy") as file:
        return np.asarray(np.lib.format.read_array(file, allow_pickle=False))


def _grid(values: Array, origin: Array, h: float, axes: Array, where: str) -> Grid:
    if not (np.isfinite(origin).all() and np.isfinite(h) and h > 0):
        raise FileError("has no valid place or voxel size", where=where)
    if values.size > MOST_VOXELS or min(values.shape[:3]) < 1:
        raise FileError(f"{values.shape} is no size that is read", where=where)
    lower = axes.T @ origin - 0.5 * h
    shape = (values.shape[0], values.shape[1], values.shape[2])
    turn = turn_of(axes)
    return Grid(GridRegion((float(lower[0]), float(lower[1]), float(lower[2])), shape, h, turn), values)


def read_vti(path: Path) -> dict[str, Grid]:
    """Float32 and Float64 point data of a VTK image file with appended raw data, cubic voxels. Raises FileError for
    what is damaged, too large, or has voxels that are no cubes."""
    raw = path.read_bytes()
    mark = b'<AppendedData encoding="raw">'
    at = raw.find(mark)
    if at < 0:
        raise FileError("has no raw appended data", where=path.name, fix="write it with appended raw encoding")
    start = raw.find(b"_", at) + 1
    head = raw[:at]
    if b"<!DOCTYPE" in head or b"<!ENTITY" in head:
        raise FileError("holds entities, which are not taken", where=path.name)
    try:
        image = ElementTree.fromstring(head.decode() + "</VTKFile>").find("ImageData")
        assert image is not None
        spacing = [float(v) for v in image.attrib["Spacing"].split()]
        origin = np.array([float(v) for v in image.attrib["Origin"].split()])
        ends = [int(v) for v in image.attrib["WholeExtent"].split()]
        axes = np.array([float(v) for v in image.attrib.get("Direction", "1 0 0 0 1 0 0 0 1").split()]).reshape(3, 3)
        shape = [ends[2 * a + 1] - ends[2 * a] + 1 for a in range(3)]
        if not np.allclose(spacing, spacing[0]):
            raise FileError("has voxels that are not cubes", where=path.name)
        grids = {}
        for array in image.iter("DataArray"):
            kind = {"Float32": "<f4", "Float64": "<f8"}[array.attrib["type"]]
            parts = int(array.attrib.get("NumberOfComponents", "1"))
            offset = start + int(array.attrib["offset"])
            (size,) = struct.unpack_from("<Q", raw, offset)
            count = parts * math.prod(shape)
            if min(shape) < 1 or parts not in (1, 3) or count > 3 * MOST_VOXELS:
                raise FileError(f"{shape} of {parts} numbers is no size that is read", where=path.name)
            if size != count * int(kind[2]) or offset + 8 + size > len(raw):
                raise FileError(f"'{array.attrib['Name']}' is cut short", where=path.name, fix="the file is damaged")
            values = np.frombuffer(raw, kind, count, offset + 8).reshape(*shape[::-1], parts)
            values = np.ascontiguousarray(values.transpose(2, 1, 0, 3), np.float32)
            grids[array.attrib["Name"]] = _grid(
                values if parts == 3 else values[..., 0], origin, spacing[0], axes, path.name
            )
        return grids
    except FileError:
        raise
    except Exception as error:  # a damaged header fails in many ways
        raise FileError(f"cannot be read ({type(error).__name__}: {str(error)[:60]})", where=path.name) from None


READERS: dict[str, Callable[[Path], dict[str, Grid]]] = {".vdb": read_vdb, ".npz": read_npz, ".vti": read_vti}


def read_volume(path: Path) -> dict[str, Grid]:
    """All grids of a volume file by name; the same file is read once."""
    stat = path.stat()
    return _volumes.get((path, stat.st_size, stat.st_mtime_ns), lambda: _read(path, stat.st_size))


_volumes: Once[dict[str, Grid]] = Once(
    "a volume file", 8, lambda grids: sum(int(g.values.nbytes) for g in grids.values()), lambda: budget() // 4
)


def _read(path: Path, size: int) -> dict[str, Grid]:
    suffix = path.suffix.lower()
    if suffix not in READERS:
        raise FileError(f"'{suffix}' is no volume format", where=path.name, fix=nearest(suffix, READERS))
    if size > 8 * budget() // 10:
        raise FileError(f"{size / 1e9:.1f} GB is more than the memory budget", where=path.name)
    grids = READERS[suffix](path)
    if not grids:
        raise FileError("there is no grid in it", where=path.name)
    return grids
