"""Fields from measured things: a grid from a file, the particles of a flow."""

from typing import Any, Literal

import numpy as np
from scipy import ndimage

from errant_gust.core.errors import StudyError, nearest
from errant_gust.core.fields.blocks import Cancel
from errant_gust.core.fields.flow_states import STATES
from errant_gust.core.fields.gridded import Gridded
from errant_gust.core.fields.plan import Node
from errant_gust.core.fields.samples import Array, At, Kind, Samples
from errant_gust.core.fields.step import FieldStep
from errant_gust.core.fields.units import Unit, parse_unit
from errant_gust.core.files.volumes import read_volume
from errant_gust.core.grids.grid import Grid
from errant_gust.core.kernels.grids import spline
from errant_gust.core.study.parameters import FlowId, Vec3, param


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


class FromParticles(Gridded):
    """Particles of a flow spread on the voxels of a region: how many there are, or their mean velocity or age.

    Every particle counts in a Gauss bell of the given radius. The flow's preview is computed up to the wanted time.
    """

    id = "from_particles"
    label = "From particles"
    family = "start"
    yields = "what a particle flow carries, as a field"
    mistake = (
        "A radius under one voxel leaves holes between the particles; far too large a radius smears them. Two "
        "to three voxels suit most."
    )
    headline = "flow"
    formula = "count: Σ G(x − xᵢ);  mean: Σ G aᵢ / Σ G"

    flow: FlowId = param(help="The particle flow")
    what: Literal["count", "velocity", "age"] = param(
        "count", help="Particles a cubic metre, their mean velocity, or mean age"
    )
    radius: float = param(0.2, unit="m", above=0, slider=(0.02, 2), help="How far each particle counts")

    @property
    def changes_with_time(self) -> bool:
        return True

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return "vector" if self.what == "velocity" else "scalar"

    def unit_given(self, node: Node) -> Unit | None:
        return parse_unit({"velocity": "m/s", "age": "s", "count": "1/m³"}[self.what])

    def feature(self) -> float:
        return self.radius

    def key(self, node: Node) -> str:
        return f"{super().key(node)}.{node.scene.study.model_dump_json(exclude={'looks', 'name', 'note'})}"

    def make(self, node: Node, cancel: Cancel | None) -> Grid:
        box = node.scene.region(self.region)
        box.check(4, node.where)
        state = STATES[0](node.scene, self.flow, node.where)
        own = box.to_own(state.position)
        q = (own - np.array(box.lower, np.float32)[:, None]) / np.float32(box.voxel_size) - np.float32(0.5)
        weights = np.ones(state.count, np.float32)
        total = self._blurred(_scatter(q, weights, box.shape), box.voxel_size)
        if self.what == "count":
            return Grid(box, np.asarray(total / box.voxel_size**3, np.float32))
        channels = state.velocity if self.what == "velocity" else state.age[None]
        sums = [self._blurred(_scatter(q, c, box.shape), box.voxel_size) for c in channels]
        floor = 1e-3 * max(float(total.max(initial=0)), 1e-12)
        means = [np.asarray(s / np.maximum(total, floor), np.float32) for s in sums]
        return Grid(box, np.stack(means, axis=-1) if self.what == "velocity" else means[0])

    def _blurred(self, values: Array, h: float) -> Array:
        return np.asarray(ndimage.gaussian_filter(values, 0.5 * self.radius / h, mode="constant"))


def _scatter(q: Array, weight: Any, shape: tuple[int, int, int]) -> Array:
    """Weights of points (3, n) in voxels shared among the eight nodes around each."""
    base = np.floor(q).astype(np.int64)
    part = q - base
    total = np.zeros(int(np.prod(shape)))
    for bits in np.ndindex(2, 2, 2):
        w = np.asarray(weight, np.float64).copy()
        cell = base + np.array(bits)[:, None]
        for a, bit in enumerate(bits):
            w = w * (part[a] if bit else 1 - part[a])
        inside = np.logical_and.reduce([(cell[a] >= 0) & (cell[a] < shape[a]) for a in range(3)])
        flat = np.ravel_multi_index(tuple(cell[:, inside]), shape)
        total += np.bincount(flat, w[inside], minlength=total.size)
    return total.reshape(shape).astype(np.float32)
