"""Mesh files as vertices and triangles: OBJ by ourselves, the others by a parser in a child process, all bounded."""

import json
import re
import struct
from pathlib import Path
from typing import Any

import mapbox_earcut
import numpy as np
from numpy.typing import NDArray

from errant_gust.core.child import parsed_apart
from errant_gust.core.errors import FileError

Array = NDArray[Any]
MAX_BYTES = 256 << 20
MAX_TRIANGLES = 2_000_000
MOST_CORNERS = 20_000  # of one face
BOM = b"\xef\xbb\xbf"


def read_triangles(path: Path, where: str, suffix: str) -> tuple[Array, Array]:
    """Vertices (n, 3) float64 and faces (m, 3) of a mesh file. Raises FileError for what cannot be read."""
    size = path.stat().st_size
    if size == 0:
        raise FileError("the file is empty", where=where)
    with path.open("rb") as file:
        head = file.read(4096)
    start = head.removeprefix(BOM).lstrip().lower()
    if start.startswith((b"<!doctype", b"<html", b"<?xml")):
        raise FileError("is a web page or XML, not a mesh", where=where, fix="download the file itself")
    if suffix == ".obj":
        return read_obj(path.read_bytes(), where)
    {".stl": _check_stl, ".ply": _check_ply, ".glb": _check_glb, ".gltf": _check_gltf}[suffix](path, head, size, where)
    made = parsed_apart("triangles", path, where)
    return made["vertices"].reshape(-1, 3), made["faces"].reshape(-1, 3)


# OBJ -------------------------------------------------------------------------------------------------------------


def read_obj(data: bytes, where: str) -> tuple[Array, Array]:
    """Vertices and triangles of an OBJ; polygons with a notch are triangulated by cutting ears off (Meisters 1975).
    (n, 3) and (m, 3). Raises FileError with the line."""
    lines = data.removeprefix(BOM).replace(b"\\\r\n", b" ").replace(b"\\\n", b" ").splitlines()
    vertices: list[bytes] = []
    faces: list[tuple[int, int, list[bytes]]] = []  # line, vertices before it, corners
    for number, line in enumerate(lines, 1):
        words = line.split()
        if not words:
            continue
        if words[0] == b"v":
            vertices.append(line)
        elif words[0] == b"f":
            faces.append((number, len(vertices), words[1:]))
    points = _points(vertices, lines, where)
    by_count: dict[int, list[tuple[int, int, list[bytes]]]] = {}
    for face in faces:
        if len(face[2]) < 3:
            raise FileError(f"line {face[0]}: a face has {len(face[2])} corners", where=where, fix="three or more")
        if len(face[2]) > MOST_CORNERS:
            raise FileError(f"line {face[0]}: a face has {len(face[2]):,} corners", where=where, fix="split it")
        by_count.setdefault(len(face[2]), []).append(face)
    if sum((n - 2) * len(some) for n, some in by_count.items()) > MAX_TRIANGLES:
        raise FileError(f"has more than {MAX_TRIANGLES:,} triangles", where=where, fix="reduce the mesh")
    made = [np.empty((0, 3), np.int64)]
    for count in sorted(by_count):
        ids = _ids(by_count[count], len(points), where)
        made.append(ids if count == 3 else triangulated(points, ids))
    return points, np.concatenate(made)


def _points(vertices: list[bytes], lines: list[bytes], where: str) -> Array:
    try:
        return np.array([line.split(None, 4)[1:4] for line in vertices], np.float64).reshape(-1, 3)
    except ValueError:
        for number, line in enumerate(lines, 1):
            words = line.split()
            if words[:1] == [b"v"]:
                try:
                    if len([float(w) for w in words[1:4]]) < 3:
                        raise ValueError
                except ValueError:
                    shown = line[:40].decode("utf-8", "replace").strip()
                    raise FileError(
                        f"line {number} is no vertex ('{shown}')", where=where, fix="right would be v x y z"
                    ) from None
        raise


def _ids(faces: list[tuple[int, int, list[bytes]]], count: int, where: str) -> Array:
    """Vertex numbers from 0 of faces with the same number of corners."""
    try:
        ids = np.array([[w.split(b"/", 1)[0] for w in words] for _, _, words in faces]).astype(np.int64)
    except (ValueError, OverflowError):
        number = next((n for n, _, words in faces if not all(re.match(rb"-?\d{1,18}(/|$)", w) for w in words)), 0)
        raise FileError(f"line {number} is no face", where=where, fix="right would be f 1 2 3") from None
    before = np.array([b for _, b, _ in faces])[:, None]
    zero = (ids == 0).any(axis=1)
    if zero.any():
        raise FileError(
            f"line {faces[int(zero.argmax())][0]} names vertex 0", where=where,
            fix="an OBJ counts from 1: write its numbers one higher",
        )  # fmt: skip
    ids = np.where(ids < 0, before + ids, ids - 1)
    bad = ((ids < 0) | (ids >= count)).any(axis=1)
    if bad.any():
        raise FileError(
            f"line {faces[int(bad.argmax())][0]}: a face names a vertex that is not in the file", where=where,
            fix=f"there are {count:,} vertices",
        )  # fmt: skip
    return ids


def triangulated(points: Array, ids: Array) -> Array:
    """Triangles (k, 3) of polygons (m, n): fans where they bulge everywhere, else by cutting ears off."""
    corner = points[ids]
    ahead, back = np.roll(corner, -1, axis=1) - corner, corner - np.roll(corner, 1, axis=1)
    turns = np.cross(back, ahead)
    normal = turns.sum(axis=1)
    length = np.maximum(np.linalg.norm(normal, axis=1), 1e-300)
    normal /= length[:, None]
    notched = ((turns * normal[:, None]).sum(axis=2) < -1e-9 * length[:, None]).any(axis=1)
    n = ids.shape[1]
    fans = ids[~notched]
    made = [np.stack([fans[:, 0], fans[:, i], fans[:, i + 1]], axis=1) for i in range(1, n - 1)]
    for face, up, at in zip(ids[notched], normal[notched], corner[notched], strict=True):
        made.append(face[_ears(at, up)])
    return np.concatenate(made) if made else np.empty((0, 3), np.int64)


def _ears(corner: Array, normal: Array) -> Array:
    """Triangles (k, 3) of corners of one polygon (n, 3), facing as it does."""
    drop = int(np.abs(normal).argmax())
    flat = np.ascontiguousarray(np.delete(corner, drop, axis=1))
    made = mapbox_earcut.triangulate_float64(flat, np.array([len(flat)], np.uint32)).reshape(-1, 3).astype(np.int64)
    a, b, c = (corner[made[:, i]] for i in range(3))
    facing = (np.cross(b - a, c - a) * normal).sum(axis=1) < 0
    made[facing] = made[facing][:, ::-1]
    return made


# bounds of the others --------------------------------------------------------------------------------------------


def _check_stl(path: Path, head: bytes, size: int, where: str) -> None:
    (count,) = struct.unpack_from("<I", head, 80) if size >= 84 else (None,)
    if count is not None and size == 84 + 50 * count:
        if count > MAX_TRIANGLES:
            raise FileError(f"{count:,} triangles are too many", where=where, fix=f"at most {MAX_TRIANGLES:,}")
        return
    if head.lstrip()[:5].lower() == b"solid" and b"facet" in head:
        with path.open("rb") as file:
            file.seek(max(0, size - 4096))
            if b"endsolid" not in file.read().lower():
                raise FileError("ends in the middle", where=where, fix="it was cut off; copy it again")
        return
    if count is not None and head[:5].lower() != b"solid":
        raise FileError(
            f"says {count:,} triangles, which would be {84 + 50 * count:,} bytes, and has {size:,}", where=where,
            fix="it was cut off, or is no STL",
        )  # fmt: skip
    raise FileError("is no STL", where=where, fix="export it as binary or ASCII STL")


def _check_ply(path: Path, head: bytes, size: int, where: str) -> None:
    with path.open("rb") as file:
        start = file.read(64 << 10)
    if not start.startswith(b"ply") or b"end_header" not in start:
        raise FileError("has no PLY header", where=where, fix="export it as PLY")
    for name, count in re.findall(rb"element[ \t]+(\w+)[ \t]+(\d+)", start[: start.index(b"end_header")]):
        if len(count) > 10 or int(count) > size:  # every element takes a byte at least
            raise FileError(
                f"says {count[:16].decode()} of '{name.decode()}', more than a file of {size:,} bytes can hold",
                where=where, fix="it was cut off, or is damaged",
            )  # fmt: skip


def _check_glb(path: Path, head: bytes, size: int, where: str) -> None:
    if head[:4] != b"glTF" or size < 20:
        raise FileError("is no binary glTF", where=where, fix="export it as .glb")
    length, kind = struct.unpack_from("<I4s", head, 12)
    if kind != b"JSON" or length > min(size - 20, 32 << 20):
        raise FileError("a length in the file makes no sense", where=where, fix="it was cut off, or is damaged")
    with path.open("rb") as file:
        file.seek(20)
        _check_scene(file.read(length), size, where)


def _check_gltf(path: Path, head: bytes, size: int, where: str) -> None:
    if size > 64 << 20:
        raise FileError("is too large for JSON", where=where, fix="use .glb")
    _check_scene(path.read_bytes(), size, where)


WIDTHS = {5120: 1, 5121: 1, 5122: 2, 5123: 2, 5125: 4, 5126: 4}
PARTS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}


def _check_scene(text: bytes, size: int, where: str) -> None:
    """What a glTF says of itself is bounded by what its file can hold, and no mesh is placed without end."""
    try:
        scene = json.loads(text)
        counts = []
        for a in scene.get("accessors", []):
            count = int(a["count"])
            width = WIDTHS[a["componentType"]] * PARTS[a["type"]]
            if count < 0 or count * width > (size if "bufferView" in a else 64 << 20):
                raise FileError(
                    f"says {count:,} numbers where its file can hold fewer", where=where,
                    fix="it was cut off, or is damaged",
                )  # fmt: skip
            counts.append(count)
        sizes = [
            sum(counts[p.get("indices", p["attributes"]["POSITION"])] // 3 for p in m.get("primitives", []))
            for m in scene.get("meshes", [])
        ]
        nodes = scene.get("nodes", [])
        parents = [child for node in nodes for child in node.get("children", [])]
        if len(parents) != len(set(parents)):
            raise FileError("a part of its scene has two parents", where=where, fix="export it again")
        total = sum(sizes[node["mesh"]] for node in nodes if "mesh" in node)
    except FileError:
        raise
    except Exception as error:  # a damaged file fails in many ways
        raise FileError(f"cannot be read as glTF ({type(error).__name__})", where=where) from None
    if total > MAX_TRIANGLES:
        raise FileError(f"{total:,} triangles are too many", where=where, fix=f"at most {MAX_TRIANGLES:,}")
