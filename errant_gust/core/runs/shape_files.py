"""Shapes of a study into open formats, one file a frame: triangles with their velocity, or a level set."""

from collections.abc import Callable
from pathlib import Path

import numpy as np

from errant_gust.core.blocks import BLOCK, share_out
from errant_gust.core.errors import FileError, StudyError, nearest
from errant_gust.core.fields.plan import Plan
from errant_gust.core.files.meshes import write_mesh, write_mesh_arrays
from errant_gust.core.files.usd import METRES, Setting, write_frame, write_stage
from errant_gust.core.files.vdb import write_vdb
from errant_gust.core.files.writing import check_new
from errant_gust.core.flows.results import MeshData
from errant_gust.core.geometry.placed import PlacedShape
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.runs.export import ENDINGS, digest_of

FORMATS = ("obj", "ply", "stl", "usd", "npz", "vdb")
HALF_WIDTH = 3  # voxels of a level set on each side of the surface
FINEST = 96  # voxels along the longest side, if nothing else is said


def export_shape(
    plan: Plan, id: str, to: Path, *, format: str = "obj", frames: tuple[int, int] | None = None, voxel: float = 0.0,
    report: Callable[[int, int], None] | None = None,
) -> list[tuple[Path, str]]:  # fmt: skip
    """Write a shape on every frame of a span (the clock's) into the folder `to`: (path, sha256) of each. Existing
    files are not overwritten. `voxel`: of a level set, in m. Raises FileError for a format that is not known, or a
    file that is there; StudyError for a shape that cannot be written so."""
    if format not in FORMATS:
        raise FileError(f"'{format}' is not a format for shapes", where="format", fix=nearest(format, FORMATS))
    clock = plan.study.clock
    first, last = frames or (clock.start, clock.end)
    paths = [to / f"{id}.{frame:04d}.{ENDINGS.get(format, format)}" for frame in range(first, last + 1)]
    stage = to / f"{id}.usda"
    check_new(*paths, *([stage] if format == "usd" else []))
    plan.at(clock.seconds(first)).shape(id)
    to.mkdir(parents=True, exist_ok=True)
    made: list[Path] = []
    for n, path in enumerate(paths):
        shape = plan.at(clock.seconds(first + n)).shape(id)
        write_shape(shape, path, format, first + n, voxel, Setting(slow=clock.slow_motion))
        made.append(path)
        if report is not None:
            report(n + 1, len(paths))
    if format == "usd":
        made += write_stage(stage, id, list(range(first, last + 1)), made, clock.fps)
    return [(path, digest_of(path)) for path in made]


def write_shape(
    shape: PlacedShape, path: Path, format: str, frame: int = 1, voxel: float = 0.0, setting: Setting = METRES
) -> None:
    """One shape into one file. Triangles hold the velocity of the shape's matter where it moves."""
    if format == "vdb":
        write_vdb(path, {shape.id: level_set(shape, voxel)})
        return
    found = mesh_data(shape)
    if format == "usd":
        write_frame(path, frame, shape.id, None, mesh=found, setting=setting)
    else:
        (write_mesh_arrays if format == "npz" else write_mesh)(path, found.vertices, found.faces, found.channels)


def mesh_data(shape: PlacedShape) -> MeshData:
    """Triangles of a shape in the scene, with the velocity of its matter (m/s) where it moves."""
    vertices, faces = shape.surface
    channels = {}
    if shape.moves:
        channels["velocity"] = np.ascontiguousarray(shape.surface_velocity(np.ascontiguousarray(vertices.T)).T)
    return MeshData(vertices, faces, channels)


def level_set_region(shape: PlacedShape, voxel: float = 0.0) -> GridRegion:
    """The voxels of a shape's level set: about it, with room for a half width. Raises StudyError for a shape without an
    end, BudgetError for voxels that are too many."""
    if not shape.kind.bounded:
        raise StudyError("has no end, so it is no level set", where=f"shapes.{shape.id}", fix="another shape")
    low, high = shape.box
    h = voxel or float(np.max(high - low)) / FINEST
    margin = (HALF_WIDTH + 1) * h
    region = GridRegion.over(low - margin, high + margin, h)
    region.check(1, "voxel")
    return region


def level_set(shape: PlacedShape, voxel: float = 0.0) -> Grid:
    """A shape's signed distance on voxels about it, no farther than a half width on either side. Raises StudyError
    for one without an end, BudgetError for voxels that are too many."""
    region = level_set_region(shape, voxel)
    h = region.voxel_size
    shape.distance(np.zeros((3, 1), np.float32))  # made before threads ask for it
    values, far = np.empty(region.voxels, np.float32), np.float32(HALF_WIDTH * h)

    def work(first: int, last: int) -> None:
        values[first:last] = shape.distance(region.centres(first, last))[0]

    share_out(work, region.voxels, block=BLOCK)
    return Grid(region, np.clip(values, -far, far).reshape(region.shape), unit="m", background=float(far))
