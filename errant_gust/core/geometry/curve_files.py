"""Curves from files: OBJ lines, SVG paths, USD curves."""

from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np

from errant_gust.core.child import parsed_apart
from errant_gust.core.errors import FileError
from errant_gust.core.geometry.outlines import read_svg

SUFFIXES = (".obj", ".svg", ".usda", ".usdc", ".usd")
MOST_BYTES = 64 << 20
MOST_POINTS = 200_000
Curves = tuple[tuple[tuple[float, float, float], ...], ...]


def read_curves(path: Path) -> Curves:
    """All curves of a file as tuples of points in its own units; SVG paths lie in the x–z plane, upright."""
    stat = path.stat()
    return _read(path, stat.st_size, stat.st_mtime_ns)


@lru_cache(maxsize=32)
def _read(path: Path, size: int, changed: int) -> Curves:
    suffix = path.suffix.lower()
    if suffix not in SUFFIXES:
        raise FileError(
            f"'{suffix}' is not a curve format read here", where=path.name, fix=f"use {', '.join(SUFFIXES)}"
        )
    if size > MOST_BYTES:
        raise FileError(f"{size >> 20} MiB is too large", where=path.name, fix=f"at most {MOST_BYTES >> 20} MiB")
    read = {".obj": _obj, ".svg": _svg}.get(suffix, _usd)
    found = [c for c in read(path) if len(c) > 1]
    if not found:
        raise FileError("there is no curve in it", where=path.name, fix="export lines or curves, not faces")
    if sum(len(c) for c in found) > MOST_POINTS:
        raise FileError(f"has more than {MOST_POINTS:,} points", where=path.name, fix="use fewer points")
    if not all(np.isfinite(np.array(c)).all() for c in found):
        raise FileError("a point of a curve is not a number", where=path.name)
    return tuple(tuple((float(x), float(y), float(z)) for x, y, z in c) for c in found)


def _obj(path: Path) -> list[Any]:
    points: list[tuple[float, ...]] = []
    lines: list[list[int]] = []
    number = 0
    try:
        for line in path.read_text(encoding="utf-8-sig", errors="strict").splitlines():
            number += 1
            words = line.split()
            if words[:1] == ["v"]:
                x, y, z = (float(w) for w in words[1:4])
                points.append((x, y, z))
            elif words[:1] == ["l"]:
                ids = [int(w.split("/")[0]) for w in words[1:]]
                lines.append([i - 1 if i > 0 else len(points) + i for i in ids])
        return [[points[i] for i in line] for line in lines]
    except (ValueError, IndexError, UnicodeDecodeError) as error:
        raise FileError(
            f"line {number} cannot be read ({str(error)[:60]})",
            where=path.name,
            fix="right would be v x y z or l 1 2 3",
        ) from None


def _svg(path: Path) -> list[Any]:
    return [[(x, 0.0, y) for x, y in line] for line in read_svg(path)]


def _usd(path: Path) -> list[Any]:
    made = parsed_apart("usd_scene", path, path.name, "24", "1", "0")  # of meshes no point is wanted
    ends = np.cumsum(made["curve_counts"])
    return [made["curve_points"][e - n : e].tolist() for e, n in zip(ends, made["curve_counts"], strict=True)]
