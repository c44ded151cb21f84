"""What a written file holds, as its format's own reader finds it: proof that it can be read, and what of."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from errant_gust.core.errors import FileError
from errant_gust.core.files.vdb_read import read_vdb
from errant_gust.core.files.volume_files import read_vti

Holds = dict[str, Any]


def holds(path: Path, format: str) -> Holds:
    """Counts and sums of what is in a file. Raises FileError for what cannot be read as what it should be."""
    try:
        return READERS[format](path)
    except FileError:
        raise
    except Exception as error:  # whatever a reader makes of a broken file
        raise FileError(f"cannot be read back ({type(error).__name__}: {str(error)[:120]})", where=str(path)) from None


def _grids(path: Path) -> Holds:
    found = read_vdb(path) if path.suffix == ".vdb" else read_vti(path)
    return {
        name: {"channels": 3 if grid.is_vector else 1, "sum": _sum(grid.values), "most": _most(grid.values)}
        for name, grid in found.items()
    }


def _arrays(path: Path) -> Holds:
    with np.load(path, allow_pickle=False) as archive:
        return {name: _array(archive[name]) for name in archive.files}


def _array(values: Any) -> Holds:
    told: Holds = {"shape": list(values.shape)}
    return told | ({"sum": _sum(values)} if values.dtype.kind in "fiu" else {})


def _zarr(path: Path) -> Holds:
    import zarr

    with zarr.storage.ZipStore(path, mode="r") as store:
        group: Any = zarr.open_group(store, mode="r")
        return {name: _array(np.asarray(array[...])) for name, array in sorted(group.arrays())}


def _ply(path: Path) -> Holds:
    counts = {}
    with path.open("rb") as file:
        for line in iter(lambda: file.readline(4096), b"end_header\n"):
            if not line:
                raise FileError("has no end of its head", where=str(path))
            words = line.split()
            if words[:1] == [b"element"]:
                counts[words[1].decode()] = int(words[2])
        rest = path.stat().st_size - file.tell()
    return {**counts, "body": rest}


def _csv(path: Path) -> Holds:
    with path.open() as file:
        return {"columns": file.readline().strip().split(","), "rows": sum(1 for _ in file)}


def _mesh(path: Path) -> Holds:
    import trimesh

    found: Any = trimesh.load(path, process=False, force="mesh")
    return {"vertices": len(found.vertices), "triangles": len(found.faces)}


def _usd(path: Path) -> Holds:
    from pxr import Usd, UsdGeom

    stage = Usd.Stage.Open(str(path))
    told: Holds = {"up": str(UsdGeom.GetStageUpAxis(stage)), "metres": UsdGeom.GetStageMetersPerUnit(stage)}
    for prim in stage.Traverse():
        name = "positions" if prim.IsA(UsdGeom.PointInstancer) else "points"
        attribute = prim.GetAttribute(name)
        if attribute and "Prototypes" not in str(prim.GetPath()):
            value = attribute.Get(Usd.TimeCode.EarliestTime())
            told[prim.GetName()] = 0 if value is None else len(value)
    return told


def _sum(values: Any) -> float:
    return float(np.sum(values, dtype=np.float64))


def _most(values: Any) -> float:
    return float(np.abs(values).max(initial=0))


READERS: dict[str, Callable[[Path], Holds]] = {
    "vdb": _grids, "vti": _grids, "npz": _arrays, "zarr": _zarr, "ply": _ply, "csv": _csv, "obj": _mesh, "stl": _mesh,
    "usd": _usd,
}  # fmt: skip
