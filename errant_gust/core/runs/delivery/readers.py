"""Which programs' libraries read what is written, and in which versions that was tried."""

from contextlib import suppress
from functools import lru_cache
from importlib.metadata import PackageNotFoundError, version

TRIED = {
    "vdb": ("OpenVDB", "", "10.0, file version 224"),
    "usd": ("OpenUSD", "usd-core", ""),
    "npz": ("NumPy", "numpy", ""),
    "zarr": ("Zarr", "zarr", "format 3, zipped"),
    "ply": ("trimesh", "trimesh", "binary, little-endian"),
    "obj": ("trimesh", "trimesh", ""),
    "stl": ("trimesh", "trimesh", "binary"),
    "csv": ("anything that reads text", "", "a head line, nine digits"),
    "vti": ("our own reader only", "", "XML image data, appended raw"),
}


@lru_cache
def reader_of(format: str) -> str:
    """What reads a format, in words."""
    name, package, more = TRIED[format]
    said = name
    if package:
        with suppress(PackageNotFoundError):
            said += f" {version(package)}"
    return f"{said} ({more})" if more else said
