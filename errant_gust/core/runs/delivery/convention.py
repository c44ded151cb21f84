"""What others mean by up, by a length and by a speed: results turned into it exactly, nothing is sampled anew."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.units import parse_unit, unit_text
from errant_gust.core.files.usd_scene import Camera
from errant_gust.core.flows.drawing import Instanced, Prototype
from errant_gust.core.flows.results import Channel, Lines, MeshData, Points, Volume
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.study.turns import turn_of

Up = Literal["Z", "Y"]
LENGTHS = {"m": 1.0, "dm": 0.1, "cm": 0.01, "mm": 0.001}
"""Metres of each length unit."""
TO_Y = np.array([[1.0, 0, 0], [0, 0, 1], [0, -1, 0]])
"""x y z with z up → x z −y with y up: a quarter turn about x."""
QUARTER = np.array([np.sqrt(0.5), -np.sqrt(0.5), 0.0, 0.0])
"""The same turn as a quaternion w x y z."""
MOVES = {"velocity": "m/s", "vel": "m/s"}
"""Units of channels that say none."""


@dataclass(frozen=True)
class Convention:
    """up axis; `unit` of lengths; velocities a second, or a frame at so many `fps` (frames of the clock a second of
    what moves)."""

    up: Up = "Z"
    unit: str = "m"
    per_frame: bool = False
    fps: float = 24.0

    @property
    def metres(self) -> float:
        """Metres in a unit of length."""
        return LENGTHS[self.unit]

    @property
    def plain(self) -> bool:
        """Whether everything stays as it is."""
        return self.up == "Z" and self.unit == "m" and not self.per_frame

    def factor(self, unit: str) -> float:
        """By what values in a unit of ours are multiplied. A speed per frame is one over the time between frames."""
        try:
            metres, seconds, _, _ = parse_unit(unit)
        except ValueError:
            return 1.0  # degrees, shares: no length in them
        made = self.metres**-metres
        return made * self.fps**seconds if self.per_frame and (metres, seconds) == (1, -1) else made

    def label(self, unit: str) -> str:
        """A unit of ours as it is called there."""
        try:
            found = parse_unit(unit)
        except ValueError:
            return unit
        frames = self.per_frame and found[:2] == (1, -1)
        return unit_text(found, (self.unit, "frame" if frames else "s", "kg", "K"))

    def turned(self, vectors: Array) -> Array:
        """Directions (…, 3) with the up axis that is wanted."""
        if self.up == "Z":
            return vectors
        made = np.empty_like(vectors)
        made[..., 0], made[..., 1] = vectors[..., 0], vectors[..., 2]
        made[..., 2] = -vectors[..., 1]
        return made

    def _places(self, places: Array) -> Array:
        return np.ascontiguousarray(self.turned(places) * np.float32(1 / self.metres), np.float32)

    def camera(self, viewpoint: Mapping[str, Any]) -> Camera:
        """A saved viewpoint as it is wanted."""
        eye, target = self._places(np.array([viewpoint["position"], viewpoint["target"]], np.float64)).tolist()
        return Camera(viewpoint["name"], tuple(eye), tuple(target), bool(viewpoint.get("parallel")))

    def _channels(self, channels: Mapping[str, Array], known: Mapping[str, Channel]) -> dict[str, Array]:
        made = {}
        for name, values in channels.items():
            if values.dtype.kind != "f":
                made[name] = values
                continue
            unit = known[name].unit if name in known else MOVES.get(name, "")
            factor = np.float32(self.factor(unit))
            vector = values.ndim == 2 and values.shape[1] == 3 and name != "colour"
            turned = self.turned(values) if vector else values
            made[name] = turned if factor == 1 else (turned * factor).astype(values.dtype)
        return made

    def of(self, found: Any) -> Any:
        """A result (points, a volume, a mesh, lines, instances) as it is wanted."""
        if self.plain:
            return found
        if isinstance(found, Points):
            known = {n: replace(c, unit=self.label(c.unit)) for n, c in found.known.items()}
            channels = self._channels(found.channels, found.known)
            return replace(found, position=self._places(found.position), channels=channels, known=known)
        if isinstance(found, MeshData):
            normals = None if found.normals is None else self.turned(found.normals)
            places = self._places(found.vertices)
            return MeshData(places, found.faces, self._channels(found.channels, {}), normals)
        if isinstance(found, Lines):
            return Lines(self._places(found.points), found.counts, self._channels(found.channels, {}))
        if isinstance(found, Instanced):
            return self._instances(found)
        assert isinstance(found, Volume)
        region = self._region(found.region)
        return Volume(region, {name: self._grid(grid, region) for name, grid in found.grids.items()})

    def _instances(self, found: Instanced) -> Instanced:
        prototypes = [Prototype(p.name, self.turned(p.vertices), p.faces) for p in found.prototypes]
        turns = found.turns
        if self.up == "Y":  # as seen from the turned scene, of prototypes that are turned too
            back = QUARTER * np.array([1, -1, -1, -1])
            turns = _times(_times(QUARTER, turns.astype(np.float64)), back).astype(found.turns.dtype)
        return replace(
            found, points=self._places(found.points), turns=turns, prototypes=prototypes,
            sizes=found.sizes * np.float32(1 / self.metres), channels=self._channels(found.channels, {}),
        )  # fmt: skip

    def _region(self, region: GridRegion) -> GridRegion:
        """Cells stay cells: axes change places, and one runs the other way."""
        low, shape, s = region.lower, region.shape, 1 / self.metres
        if self.up == "Z":
            return GridRegion((low[0] * s, low[1] * s, low[2] * s), shape, region.voxel_size * s, region.turn)
        top = low[1] + shape[1] * region.voxel_size
        turn = turn_of(TO_Y @ region.axes @ TO_Y.T) if region.is_turned else region.turn
        own = (low[0] * s, low[2] * s, -top * s)
        return GridRegion(own, (shape[0], shape[2], shape[1]), region.voxel_size * s, turn)

    def _grid(self, grid: Grid, region: GridRegion) -> Grid:
        factor = np.float32(self.factor(grid.unit))
        values = grid.values
        if self.up == "Y":
            axes = (0, 2, 1, 3) if grid.is_vector else (0, 2, 1)
            values = values.transpose(axes)[:, :, ::-1]
            if grid.is_vector:
                values = self.turned(values)
        values = np.ascontiguousarray(values * factor if factor != 1 else values, np.float32)
        return replace(grid, region=region, values=values, background=float(grid.background * factor),
                       unit=self.label(grid.unit))  # fmt: skip


def _times(a: Array, b: Array) -> Array:
    """Products of quaternions w x y z, (4,) or (n, 4)."""
    aw, ax, ay, az = np.moveaxis(a, -1, 0)
    bw, bx, by, bz = np.moveaxis(b, -1, 0)
    return np.stack(
        [
            aw * bw - ax * bx - ay * by - az * bz, aw * bx + ax * bw + ay * bz - az * by,
            aw * by - ax * bz + ay * bw + az * bx, aw * bz + ax * by - ay * bx + az * bw,
        ],
        axis=-1,
    )  # fmt: skip
