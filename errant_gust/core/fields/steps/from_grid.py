"""Fields from measured things: a grid from a file, the particles of a flow."""

from typing import Any, Literal

import numpy as np

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import StudyError, nearest
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.samples import Array, At, Kind, Samples
from errant_gust.core.fields.step import FieldStep
from errant_gust.core.files.volume_files import read_volume
from errant_gust.core.grids.grid import Grid
from errant_gust.core.kernels.grids import spline
from errant_gust.core.study.parameters import Vec3, param


class FromGrid(FieldStep):
    """A grid from a file (OpenVDB, .npz or .vti): a simulation, a scan, something baked elsewhere.

    Linear interpolation is exact at the voxel middles; cubic is a B-spline through them, smooth in its first and second
    derivative.
    """

    id = "from_grid"
    label = "From grid"
    family = "start"
    yields = "a field read from a file"
    mistake = (
        "A file in other units, or with y up, lies far from the scene. Compare its box with the shapes, and "
        "use Move or Place."
    )
    headline = "file"
    formula = "f = interpolation of the file's voxels"

    file: str = param("", help="A volume file of the study: .vdb, .npz, .vti", files=("volume",))
    channel: str = param("", help="Which grid of the file; empty takes the first")
    kind: Literal["scalar", "vector"] = param("scalar", label="Holds", help="What the grid holds")
    interpolation: Literal["linear", "cubic"] = param("linear", help="Between the voxels")
    outside: Literal["zero", "clamp", "repeat"] = param("zero", help="What the field is outside the grid")
    move: Vec3 = param((0, 0, 0), unit="m", help="Moves the grid in the scene")

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return self.kind

    def grid(self, node: Node) -> Grid:
        """The grid that was chosen of the file. Raises StudyError where the file has no such grid, or one of another
        kind; FileError where it cannot be read."""

        def make() -> Grid:
            path = node.scene.assets.path(self.file, f"{node.where}.file")
            grids = read_volume(path)
            name = self.channel or next(iter(grids), "")
            if name not in grids:
                raise StudyError(
                    f"'{self.file}' has no grid '{name}'", where=f"{node.where}.channel", fix=nearest(name, grids)
                )
            found = grids[name]
            if found.is_vector != (self.kind == "vector"):
                is_what = "vector" if found.is_vector else "scalar"
                raise StudyError(f"'{name}' is a {is_what} grid", where=f"{node.where}.kind", fix=f"choose {is_what}")
            if not np.isfinite(found.values).all():
                raise StudyError(
                    f"'{name}' holds values that are not numbers", where=f"{node.where}.file", fix="write it anew"
                )
            return Grid(found.region, found.values, self.outside)

        made: Grid = node.kept("grid", make)
        return made

    def prepare(self, node: Node, cancel: Cancel | None = None) -> None:
        grid = self.grid(node)
        if self.interpolation == "cubic":
            node.kept("spline", lambda: _coefficients(grid))

    def evaluate(self, at: At) -> Samples:
        grid = self.grid(at.node)
        points = at.points - np.array(self.move, np.float32)[:, None]
        if self.interpolation == "cubic":
            return _cubic(grid, at.node.kept("spline", lambda: _coefficients(grid)), points, at.gradient)
        if not at.gradient:
            return Samples(grid.sample(points))
        return Samples(*grid.sample_with_gradient(points))


def _coefficients(grid: Grid) -> list[Array]:
    """B-spline coefficients of every channel, two nodes wider all round."""
    from scipy import ndimage

    mode = "wrap" if grid.outside == "repeat" else "edge"
    made = []
    for values in np.moveaxis(grid.values, -1, 0) if grid.is_vector else [grid.values]:
        padded = np.pad(values, 3, mode=mode).astype(np.float64)  # type: ignore[call-overload]
        made.append(np.ascontiguousarray(ndimage.spline_filter(padded, order=3, mode="mirror"), np.float32))
    return made


def _cubic(grid: Grid, coefficients: list[Array], points: Array, gradient: bool) -> Samples:
    own = grid.region.to_own(points)
    h = np.float32(grid.region.voxel_size)
    q = (own - np.array(grid.region.lower, np.float32)[:, None]) / h - np.float32(0.5)
    shape = np.array(grid.region.shape, np.float32)[:, None]
    inside: Any = ((q >= -0.5) & (q <= shape - 0.5)).all(axis=0)
    if grid.outside == "repeat":
        q = np.mod(q + np.float32(0.5), shape) - np.float32(0.5)
        inside[:] = True
    held = np.clip(q, -0.5, shape - 0.5)
    free = (q == held).astype(np.float32)
    out = np.empty((len(coefficients), 10, points.shape[1]), np.float32)
    for c, table in enumerate(coefficients):
        spline(table, *(held + np.float32(3)), out[c])
    weight = np.ones_like(inside, np.float32) if grid.outside == "clamp" else inside.astype(np.float32)
    value, slope = out[:, 0] * weight, out[:, 1:4] * (free * weight / h)
    if grid.region.is_turned:
        slope = np.einsum("cjn,ij->cin", slope, grid.region.axes.astype(np.float32)).astype(np.float32)
    if not grid.is_vector:
        return Samples(value[0], slope[0] if gradient else None)
    return Samples(value, slope if gradient else None)
