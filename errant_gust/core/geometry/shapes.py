"""Kinds of shapes: what a study's shape can be. One class each; the form, the API and the handbook follow from it."""

import glob
import re
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.errors import FileError, StudyError
from errant_gust.core.geometry import primitives
from errant_gust.core.geometry.library import mesh_distance, mesh_of
from errant_gust.core.geometry.mesh import Mesh
from errant_gust.core.geometry.sdf import MeshDistance
from errant_gust.core.study import registry
from errant_gust.core.study.parameters import Parameters, Vec3, param

Array = NDArray[Any]
SHAPES: dict[str, type["ShapeKind"]] = {}


class Assets:
    """Finds the mesh files that a study names. A name is never a path: only the bare file name is looked up."""

    def __init__(self, folder: Path | None = None, files: dict[str, Path] | None = None) -> None:
        self.folder, self.files = folder, files or {}

    def path(self, name: str, where: str) -> Path:
        """Where a file of the study stands. Raises StudyError for a name that is none, FileError for a file that is
        not there."""
        if not name:
            raise StudyError("no file has been chosen", where=where, fix="import one, or choose one of the study's")
        if name in self.files:
            return self.files[name]
        if Path(name).name != name or name.startswith("."):
            raise StudyError(
                f"'{name[:80]}' is not a plain file name", where=where, fix="put the file beside the study"
            )
        path = (self.folder / name) if self.folder and len(name.encode("utf-8", "replace")) <= 255 else None
        if path is None or not path.is_file():
            raise FileError(
                f"the file '{name[:80]}' is missing", where=where, fix="put it beside the study or import it again"
            )
        return path

    def stamp(self, name: str, where: str) -> list[int]:
        """Tells one content of a file from another without reading it: size, and when it was changed."""
        stat = self.path(name, where).stat()
        return [stat.st_size, stat.st_mtime_ns % 2**50]


class ShapeKind(Parameters):
    """Geometry in its own frame and where it is placed. `turn` is applied about x, then y, then z."""

    move: Vec3 = param((0, 0, 0), unit="m", help="Where the middle of the shape is")
    turn: Vec3 = param((0, 0, 0), unit="°", help="Rotation about x, then y, then z")

    bounded: ClassVar[bool] = True
    wants: ClassVar[dict[str, Literal["scalar", "vector"]]] = {}
    """Of what kind the lanes are that parameters name."""
    order: ClassVar[int] = 0

    def __init_subclass__(cls, **kwargs: Any) -> None:
        super().__init_subclass__(**kwargs)
        if "id" in cls.__dict__:
            SHAPES[cls.id] = cls
            registry.register_shape(cls)

    def own_form(self) -> dict[str, Any]:
        """Everything but where it is placed."""
        return self.model_dump(exclude={"move", "turn"})

    def local(self, points: Array, order: int, scene: "Geometry") -> tuple[Array, Array | None, Array | None]:
        """Signed distance in the shape's own frame; see `primitives`. `points` (3, n) in m; distance (n,), gradient
        (3, n), second derivatives (6, n) in 1/m, as `order` says."""
        raise NotImplementedError

    def rough(self, points: Array, scene: "Geometry") -> Array:
        """A distance that is never larger than the true one, quicker to have. `points` (3, n) in m of the shape;
        (n,) in m."""
        return self.local(points, 0, scene)[0]

    def half_extents(self, scene: "Geometry") -> tuple[Array, Array]:
        """Middle and half size of the box around the shape in its own frame. Both (3,) in m."""
        raise NotImplementedError

    def triangles(self, scene: "Geometry") -> tuple[Array, Array]:
        """Vertices (n, 3) and faces (m, 3) to draw and to scatter on, in the shape's own frame."""
        raise NotImplementedError


@dataclass
class Geometry:
    """What a placed shape may need to look up: its own place in the study and the files, each looked up once."""

    where: str
    assets: Assets
    frame: int = 1
    surface: Callable[[Any, int], Any] | None = None
    """The surface that a lane makes for a shape of a field, on a frame."""

    def __post_init__(self) -> None:
        self._distances: dict[str, MeshDistance] = {}

    def named(self, file: str, sequence: bool) -> str:
        """The file of this frame, if its name holds a number that follows the frames."""
        return file_of_frame(file, self.frame, self.assets, self.where) if sequence else file

    def mesh(self, file: str) -> Mesh:
        """A mesh file of the study, read once."""
        return mesh_of(self.assets.path(file, self.where))

    def distance(self, file: str) -> MeshDistance:
        """Its signed distance, made once."""
        if file not in self._distances:
            self._distances[file] = mesh_distance(self.assets.path(file, self.where))
        return self._distances[file]


def file_of_frame(file: str, frame: int, assets: Assets, where: str) -> str:
    """`glass.0001.obj` at frame 7 is `glass.0007.obj`; beyond the files there are, the first or last is held. Raises
    StudyError for a name without a number."""
    found = re.search(r"(\d+)(?=\.\w+$)", file)
    if found is None:
        raise StudyError(f"'{file}' has no number before its ending", where=where, fix="right would be glass.0001.obj")
    head, tail, width = file[: found.start()], file[found.end() :], len(found[1])
    first = assets.path(file, where)
    numbers = sorted(
        int(m[1])
        for p in first.parent.glob(f"{glob.escape(head)}*{glob.escape(tail)}")
        if (m := re.fullmatch(re.escape(head) + r"(\d+)" + re.escape(tail), p.name))
    )
    held = min(max(frame, numbers[0]), numbers[-1])
    nearest_number = max((n for n in numbers if n <= held), default=numbers[0])
    return f"{head}{nearest_number:0{width}d}{tail}"


class Sphere(ShapeKind):
    """All points nearer to the middle than the radius. d = |p| - r."""

    id = "sphere"
    label = "Sphere"
    yields = "a ball"
    headline = "radius"
    radius: float = param(0.5, unit="m", above=0, slider=(0.05, 5), help="From the middle to the surface")

    def local(self, points: Array, order: int, scene: Geometry) -> tuple[Array, Array | None, Array | None]:
        return primitives.sphere(points, self.radius, order)

    def half_extents(self, scene: Geometry) -> tuple[Array, Array]:
        return np.zeros(3), np.full(3, self.radius)

    def triangles(self, scene: Geometry) -> tuple[Array, Array]:
        u, v = np.meshgrid(np.linspace(0, 2 * np.pi, 49), np.linspace(0, np.pi, 25), indexing="ij")
        points = np.stack([np.cos(u) * np.sin(v), np.sin(u) * np.sin(v), np.cos(v)], axis=-1) * self.radius
        return grid_faces(points)


class Box(ShapeKind):
    """A box with six faces, exact inside and outside."""

    id = "box"
    label = "Box"
    yields = "a block"
    headline = "size"
    size: Vec3 = param((1, 1, 1), unit="m", help="Width along x, depth along y, height along z")

    def _half(self) -> tuple[float, float, float]:
        if min(self.size) <= 0:
            raise ValueError("every side of a box is longer than 0 m")
        return (self.size[0] / 2, self.size[1] / 2, self.size[2] / 2)

    def local(self, points: Array, order: int, scene: Geometry) -> tuple[Array, Array | None, Array | None]:
        return primitives.box(points, self._half(), order)

    def half_extents(self, scene: Geometry) -> tuple[Array, Array]:
        return np.zeros(3), np.array(self._half())

    def triangles(self, scene: Geometry) -> tuple[Array, Array]:
        corners = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)]) * self._half()
        quads = [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)]
        return corners, np.array([f for a, b, c, d in quads for f in ((a, b, c), (a, c, d))])


class Cylinder(ShapeKind):
    """An upright cylinder with flat ends, its middle at half its height."""

    id = "cylinder"
    label = "Cylinder"
    yields = "a round column"
    headline = "radius"
    radius: float = param(0.4, unit="m", above=0, slider=(0.05, 5), help="From the axis to the side")
    height: float = param(2.0, unit="m", above=0, slider=(0.05, 10), help="From end to end")

    def local(self, points: Array, order: int, scene: Geometry) -> tuple[Array, Array | None, Array | None]:
        return primitives.cylinder(points, self.radius, self.height, order)

    def half_extents(self, scene: Geometry) -> tuple[Array, Array]:
        return np.zeros(3), np.array([self.radius, self.radius, self.height / 2])

    def triangles(self, scene: Geometry) -> tuple[Array, Array]:
        u = np.linspace(0, 2 * np.pi, 65)[:, None]
        rho = np.array([0, self.radius, self.radius, 0])
        z = np.array([-0.5, -0.5, 0.5, 0.5]) * self.height
        points = np.stack([np.cos(u) * rho, np.sin(u) * rho, np.broadcast_to(z, (65, 4))], axis=-1)
        return grid_faces(points[:, ::-1])


class Plane(ShapeKind):
    """A half space: everything below the plane is inside; turn it to tilt it. Drawn as a square."""

    id = "plane"
    label = "Plane"
    yields = "a ground or a wall without end"
    headline = "move"
    bounded = False
    size: float = param(6.0, unit="m", above=0, slider=(1, 50), help="Side of the square that is drawn and emits")

    def local(self, points: Array, order: int, scene: Geometry) -> tuple[Array, Array | None, Array | None]:
        return primitives.plane(points, order)

    def half_extents(self, scene: Geometry) -> tuple[Array, Array]:
        return np.zeros(3), np.array([self.size / 2, self.size / 2, 0.0])

    def triangles(self, scene: Geometry) -> tuple[Array, Array]:
        s = self.size / 2
        return np.array([[-s, -s, 0], [s, -s, 0], [s, s, 0], [-s, s, 0]]), np.array([[0, 1, 2], [0, 2, 3]])


class ImportedMesh(ShapeKind):
    """Triangles from an OBJ, STL, PLY or glTF file.

    The distance is exact at the nodes of a grid and a smooth spline between them; holes are closed where the
    winding number passes one half.
    """

    id = "mesh"
    label = "Mesh"
    yields = "an imported shape"
    headline = "file"
    file: str = param(help="Mesh file that belongs to the study", files=("mesh",))
    scale: float = param(1.0, unit="×", above=0, slider=(0.01, 10), help="Metres per unit of the file")
    up: Literal["z", "y"] = param("z", help="Which axis points up in the file")
    sequence: bool = param(False, help="A file a frame: the number in its name follows the frames, glass.0001.obj")

    def _turned(self, points: Array) -> Array:
        return np.stack([points[0], points[2], -points[1]]) if self.up == "y" else points

    def local(self, points: Array, order: int, scene: Geometry) -> tuple[Array, Array | None, Array | None]:
        s = np.float32(self.scale)
        sdf = scene.distance(scene.named(self.file, self.sequence))
        d, g, h = sdf.sample(np.ascontiguousarray(self._turned(points) / s), order)
        if self.up == "y":
            g = None if g is None else np.stack([g[0], -g[2], g[1]])
            h = None if h is None else np.stack([h[0], h[2], h[1], -h[4], h[3], -h[5]])
        return d * s, g, None if h is None else h / s

    def rough(self, points: Array, scene: Geometry) -> Array:
        """A distance (n,) in m that is never larger than the true one, from coarse voxels."""
        s = np.float32(self.scale)
        sdf = scene.distance(scene.named(self.file, self.sequence))
        return sdf.rough(self._turned(points) / s) * s

    def half_extents(self, scene: Geometry) -> tuple[Array, Array]:
        mesh = scene.mesh(scene.named(self.file, self.sequence))
        low, high = mesh.lower * self.scale, mesh.upper * self.scale
        if self.up == "y":
            low, high = np.array([low[0], -high[2], low[1]]), np.array([high[0], -low[2], high[1]])
        return 0.5 * (low + high), 0.5 * (high - low)

    def triangles(self, scene: Geometry) -> tuple[Array, Array]:
        mesh = scene.mesh(scene.named(self.file, self.sequence))
        v = mesh.vertices * np.float32(self.scale)
        return (np.stack([v[:, 0], -v[:, 2], v[:, 1]], axis=1) if self.up == "y" else v), mesh.faces


def grid_faces(points: Array) -> tuple[Array, Array]:
    """Triangles of a grid of points (a, b, 3)."""
    a, b = points.shape[:2]
    i, j = np.meshgrid(np.arange(a - 1), np.arange(b - 1), indexing="ij")
    n = (i * b + j).ravel()
    faces = np.concatenate([np.stack([n, n + 1, n + b + 1], 1), np.stack([n, n + b + 1, n + b], 1)])
    return points.reshape(-1, 3), faces
