"""Scenes of others: meshes that move, curves and cameras of USD and glTF files, and sequences of mesh files, turned
into shapes and viewpoints of a study. What is kept is in metres with z up, a PLY a frame."""

import json
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.child import parsed_apart
from errant_gust.core.errors import FileError
from errant_gust.core.geometry.mesh import read_mesh
from errant_gust.core.geometry.mesh_files import MAX_BYTES, MAX_TRIANGLES, triangulated
from errant_gust.core.making import lazy

Array = NDArray[Any]
SUFFIXES = (".usd", ".usda", ".usdc", ".glb", ".gltf", ".obj", ".ply", ".stl")
MESHES = (".obj", ".ply", ".stl")
"""Those that hold one frame a file."""
UNITS = {"m": 1.0, "dm": 0.1, "cm": 0.01, "mm": 0.001, "in": 0.0254, "ft": 0.3048}
MOST_POINTS = 60_000_000
"""Of all frames together."""


@dataclass(frozen=True)
class SceneFile:
    """What a file holds, in its own units and axes. `up` and `metres` are "" and 0 where it does not say them.

    `points` (n, 3) float32 of all frames one after the other, `counts` of each frame; `faces` (m, 3) of each topology
    and `which` of them a frame has; `curves` (k, 3) each; `cameras` with name, position, toward, distance, parallel;
    `notes`: what a user should know, in sentences.
    """

    name: str
    up: str
    metres: float
    frames: tuple[int, ...]
    points: Array
    counts: Array
    faces: tuple[Array, ...]
    which: tuple[int, ...]
    curves: tuple[Array, ...] = ()
    cameras: tuple[dict[str, Any], ...] = ()
    notes: tuple[str, ...] = ()

    @lazy
    def _ends(self) -> Array:
        return np.cumsum(self.counts)

    @property
    def moves(self) -> bool:
        """Whether it has more than one frame."""
        return len(self.frames) > 1

    def mesh(self, n: int) -> tuple[Array, Array]:
        """Points and triangles of the n-th frame. (n, 3) in the file's unit, (m, 3)."""
        end = int(self._ends[n])
        return self.points[end - int(self.counts[n]) : end], self.faces[self.which[n]]


def read_scene(path: Path, fps: float, first: int = 1, name: str = "") -> SceneFile:
    """Read a file of SUFFIXES; of a mesh file whose name ends in a number all that are beside it.

    Parameters
    ----------
    path : Path
    fps : float
        Frames a second of the study: time codes and seconds of the file become its frames.
    first : int
        The frame of time 0, of files that count seconds.

    Raises
    ------
    FileError
        For another format, what is damaged, too large, or refers to other files: in words.
    """
    name = name or path.name
    suffix = Path(name).suffix.lower()
    if suffix not in SUFFIXES:
        raise FileError(
            f"'{suffix or name}' is no scene format read here", where=name, fix=f"use {', '.join(SUFFIXES)}"
        )
    if not path.is_file():
        raise FileError("there is no such file", where=str(path))
    if path.stat().st_size > MAX_BYTES:
        raise FileError(f"{path.stat().st_size >> 20} MiB is too large", where=name, fix=f"at most {MAX_BYTES >> 20}")
    if suffix in MESHES:
        return _sequence(path, name)
    parser = "gltf_scene" if suffix in (".glb", ".gltf") else "usd_scene"
    made = parsed_apart(parser, path, name, repr(float(fps)), str(first), str(MOST_POINTS))
    told = json.loads(str(made["told"]))
    counts, which = made["counts"], tuple(int(w) for w in made["which"])
    ends = np.cumsum(counts)
    faces = []
    for k in range(max(which, default=-1) + 1):
        n = which.index(k)
        here = made["points"][int(ends[n]) - int(counts[n]) : int(ends[n])].astype(np.float64)
        faces.append(_triangles(here, made[f"sides{k}"], made[f"corners{k}"], name))
    curve_ends = np.cumsum(made["curve_counts"])
    curves = [made["curve_points"][e - c : e] for e, c in zip(curve_ends, made["curve_counts"], strict=True) if c > 1]
    notes = [f"{', '.join(told['left'])}: not read"] if told["left"] else []
    if told["fps"] != fps and len(told["frames"]) > 1:
        notes.append(f"counts {told['fps']:g} frames a second; sampled at {fps:g}")
    if not counts.size and not curves and not told["cameras"]:
        raise FileError("holds no mesh, curve or camera", where=name, fix="export one")
    return SceneFile(
        name, told["up"] if told["says_up"] else "", told["metres"] if told["says_unit"] else 0.0,
        tuple(told["frames"]) if counts.size else (), made["points"], counts, tuple(faces), which, tuple(curves),
        tuple(told["cameras"]), tuple(notes),
    )  # fmt: skip


def _triangles(points: Array, sides: Array, corners: Array, name: str) -> Array:
    if int((sides - 2).sum()) > MAX_TRIANGLES:
        raise FileError(f"has more than {MAX_TRIANGLES:,} triangles", where=name, fix="reduce the mesh")
    starts = np.cumsum(sides) - sides
    made = [np.empty((0, 3), np.int64)]
    for count in np.unique(sides):
        ids = corners[starts[sides == count][:, None] + np.arange(count)]
        made.append(ids if count == 3 else triangulated(points, ids))
    return np.concatenate(made)


NUMBERED = re.compile(r"(.*?)(\d+)(\.\w+)")
"""A file name with a number before its ending."""


def sequence_strangers(names: Sequence[str]) -> list[str]:
    """Names that are no frame of the sequence of mesh files that the first belongs to."""
    first = NUMBERED.fullmatch(names[0])
    if len(names) == 1:
        return []
    if not first or first[3].lower() not in MESHES:
        return list(names[1:])
    found = [(name, NUMBERED.fullmatch(name)) for name in names[1:]]
    return [name for name, one in found if not one or (one[1], one[3]) != (first[1], first[3])]


def _sequence(path: Path, name: str) -> SceneFile:
    """Mesh files whose names differ by a number before the ending, or the one there is."""
    found = NUMBERED.fullmatch(path.name)
    files: dict[int, Path] = {0: path}
    notes: list[str] = []
    if found:
        files = {}
        head, _, tail = found.groups()
        for other in sorted(path.parent.iterdir()):
            same = NUMBERED.fullmatch(other.name)
            if not same or (same[1], same[3]) != (head, tail):
                continue
            number = int(same[2])
            if number in files:
                notes.append(
                    f"frame {number} is there twice, {files[number].name} and {other.name}: the first is taken"
                )
            else:
                files[number] = other
        frames = sorted(files)
        missing = sorted(set(range(frames[0], frames[-1] + 1)) - set(frames))
        if missing:
            some = ", ".join(map(str, missing[:6])) + (" …" if len(missing) > 6 else "")
            notes.append(f"{len(missing)} frames are missing ({some}): the one before each is held")
    points, faces, counts = [], [], []
    for number in sorted(files):
        mesh = read_mesh(files[number])
        points.append(np.asarray(mesh.vertices, np.float32))
        faces.append(np.asarray(mesh.faces, np.int64))
        counts.append(len(points[-1]))
        if sum(counts) > MOST_POINTS:
            raise FileError(f"has more than {MOST_POINTS:,} points over all frames", where=name)
    return SceneFile(
        name, "", 0.0, tuple(sorted(files)), np.concatenate(points), np.array(counts, np.int64), tuple(faces),
        tuple(range(len(files))), notes=tuple(notes),
    )  # fmt: skip


def turned(values: Array, up: str) -> Array:
    """Directions (n, 3) of a file in ours, with z up."""
    if up == "Z":
        return values
    return np.stack([values[:, 0], -values[:, 2], values[:, 1]], axis=1)


def missing_of(scene: SceneFile, up: str, metres: float) -> list[str]:
    """What neither the file nor anybody says: "up", "unit"."""
    return [*([] if up or scene.up else ["up"]), *([] if metres or scene.metres else ["unit"])]


def meshes_of(scene: SceneFile, up: str, metres: float) -> Iterator[tuple[int, Array, Array]]:
    """(frame, vertices (n, 3) float32 in metres with z up, triangles (m, 3)) of every frame."""
    for n, frame in enumerate(scene.frames):
        points, faces = scene.mesh(n)
        yield frame, np.ascontiguousarray(turned(points, up) * np.float32(metres)), faces


def views_of(scene: SceneFile, up: str, metres: float) -> list[dict[str, Any]]:
    """Cameras as viewpoints: they look at what is at their focus, else as far away as the middle of the scene is."""
    points = scene.points[: int(scene.counts[0])] if scene.counts.size else np.zeros((1, 3), np.float32)
    middle = 0.5 * (points.min(axis=0) + points.max(axis=0)).astype(np.float64)
    made = []
    for camera in scene.cameras:
        eye, toward = np.array(camera["position"]), np.array(camera["toward"])
        away = camera["distance"] or max(float((middle - eye) @ toward), 1e-3)
        ends = turned(np.stack([eye, eye + toward * away]), up) * metres
        position, target = ends.round(5).tolist()
        made.append(
            {"name": camera["name"], "position": position, "target": target, "parallel": bool(camera["parallel"])}
        )
    return made
