"""What a run's frame puts into a picture: its result as its look has it, and what stands in its way."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from errant_gust.core.errors import FileError, GustError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.drawing import MOST_TRIANGLES, Drawing, Instanced, drawing_of
from errant_gust.core.flows.looks import LOOKS
from errant_gust.core.flows.results import Lines, MeshData, Points, Result, Volume
from errant_gust.core.flows.step import placed_steps
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.pictures import setting
from errant_gust.core.pictures.camera import Box
from errant_gust.core.pictures.cloud import MOST_FINE, Cloud, cropped, finer
from errant_gust.core.pictures.colours import coloured, hexed
from errant_gust.core.pictures.mesh import Mesh
from errant_gust.core.pictures.render import Balls, Staged, Streaks
from errant_gust.core.pictures.setting import Setting
from errant_gust.core.runs.export import kind_of_run
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.manifest import assets_of
from errant_gust.core.study.document import parse

STONE = np.array([0.50, 0.46, 0.39], np.float32)
"""Shapes that stand in the way, in linear light."""
MOST_POINTS = 1_500_000
MOST_SMALL = 600_000
"""Voxels of small pictures."""
GRAIN = 0.575
"""Radius of a grain over how far apart they stand."""
SHUTTER = 0.5
"""Share of a frame that what moves leaves a streak for."""
BRIGHT = 3.0
"""What glows, over what is as bright as a screen."""
COLOURS = ("red", "green", "blue")


Ends = tuple[float, float]


@dataclass(frozen=True)
class Solid:
    """A shape of the study: vertices (v, 3) in m and faces (f, 3)."""

    id: str
    vertices: Array
    faces: Array


@dataclass
class Seen:
    """What is on a frame, and what usually lights it."""

    staged: Staged
    usual: Setting


class Stage:
    """A run, to be pictured: its study as it was when it ran, and how its flow is looked at. Files are looked up where
    they were when it ran, if no other place is named. `notes`: what its pictures are without, in words."""

    def __init__(self, store: RunStore, assets: Assets | None = None) -> None:
        self.store, self.kind = store, kind_of_run(store)
        self.said = store.manifest()
        self.flow: str = self.said["flow"]
        self.plan = Plan(parse(self.said["study"]), assets or assets_of(store))
        self.notes: dict[str, None] = {}

    def look(self, form: str) -> dict[str, Any]:
        """Parameters of the look of a form: as the study says, else as the kind of flow or the form has them."""
        known = LOOKS.get(form)
        first = {name: f.default for name, f in known.model_fields.items()} if known else {}
        return {**first, **self.kind.look, **(self.plan.study.looks.get(self.flow) or {})}

    def solids(self, frame: int) -> list[Solid]:
        """Shapes that are shown and stand in the way of something on a frame. One whose file is not here is left out,
        and told among `notes`."""
        scene = self.plan.at(self.plan.study.clock.seconds(frame))
        named: set[str] = set()
        for lane in self.plan.study.flows:
            for placed in placed_steps(scene, lane, lane.kind):
                told = type(placed.step).entry().get("roles", {}).get("blocks", ())
                for name in told:
                    value = getattr(placed.step, name)
                    named |= {value} if isinstance(value, str) else set(value)
        found = []
        for part in self.plan.study.shapes:
            if part.shown and (part.id in named or part.kind == "mesh"):
                try:
                    vertices, faces = scene.shape(part.id).surface
                except GustError as error:
                    self.notes[f"without the shape {part.id}: {error.what}"] = None
                    continue
                if len(faces):
                    found.append(Solid(part.id, vertices, faces))
        return found

    def content(self, frame: int, result: Result | None = None, *, fine: bool = True, ends: Ends | None = None) -> Seen:
        """What there is of a result (the first, as it is looked at, unless one is named) on a frame, in its own box,
        and what usually lights such a thing. `fine`: smoke on voxels half as large; `ends`: of the numbers that
        colour, where neither the look nor they themselves are to say. Raises FileError for a frame that is not
        there."""
        if frame not in self.store.frames():
            raise FileError(f"frame {frame} is not there", where=self.store.folder.name)
        taken = result or self.kind.results[0]
        made = Staged((np.full(3, -0.5), np.full(3, 0.5)), None)
        if taken.from_study or (taken is self.kind.results[0] and taken.form == "points"):
            asked = taken.form if taken.from_study else ""
            drawn = drawing_of(self.store, self.plan, self.flow, frame)
            usual = self._drawn(drawn, asked, made, ends)
            if usual is not None:
                return Seen(made, usual)
            if asked:
                raise FileError(f"the run has no {taken.name}", where="result", fix="a step of its lane draws them")
        found = taken.read(self.store, frame)
        if isinstance(found, Volume):
            cloud, usual = self._cloud(found, fine)
            made.clouds.append(cloud)
            made.box = _box_of(cloud)
            return Seen(made, usual)
        if isinstance(found, MeshData):
            made.meshes.append(self._mesh(found, ends))
            made.box = _around(found.vertices)
            return Seen(made, setting.SURFACE)
        return Seen(made, self._points(found, frame, made, ends))

    def ends(self, frame: int) -> Ends | None:
        """The least and the greatest of the numbers that colour a frame's points; None where there are none."""
        result = self.kind.results[0]
        if result.form != "points":
            return None
        found = result.read(self.store, frame)
        shown, look = found.shown(), self.look("points")
        if not found.count or not shown:
            return None
        values = shown[look["colour"] if look["colour"] in shown else next(iter(shown))][0]
        return float(values.min()), float(values.max())

    def _drawn(self, drawn: Drawing, asked: str, made: Staged, ends: Ends | None) -> Setting | None:
        """What steps draw: that of a form, or what the view shows of it; None where nothing is drawn."""
        look = self.look("points")
        if drawn.mesh is not None and (asked == "mesh" or (not asked and look.get("draw", "surface") != "points")):
            surface = self._mesh(drawn.mesh, ends)
            if self.look("mesh")["paint"] == "wet":
                made.water, made.deep = surface, self.look("mesh")["deep"]
            else:
                made.meshes.append(surface)
            made.box = _around(drawn.mesh.vertices)
            return setting.WATER
        if drawn.instanced is not None and asked in ("instances", ""):
            made.meshes += self._instances(drawn.instanced, drawn.frame, ends)
            made.box = _around(drawn.instanced.points)
            return setting.SURFACE
        lines = drawn.spread if asked == "points" else (drawn.lines[-1] if drawn.lines else None)
        if lines is None or asked not in ("lines", "points", ""):
            return None
        made.streaks.append(_lines(lines, look) if asked != "points" else _dots(lines, look))
        made.box = _around(lines.points)
        return setting.SURFACE

    def _points(self, found: Points, frame: int, made: Staged, ends: Ends | None) -> Setting:
        look = self.look("points")
        every = max(1, -(-found.count // MOST_POINTS))
        colours = self._colours(found, ends)[::every]
        places = found.position[::every]
        made.box = _around(places)
        if look["blend"] == "lit":
            size = GRAIN * (float(self.store.facts(frame).get("spacing", 0.0)) or _apart(places)) * look["grain"] / 1.3
            rough = np.clip(np.random.default_rng(3).normal(0, 1, (2, len(places))), -2, 2)
            made.balls = Balls(places, size * (1 + 0.1 * rough[0]), colours * (1 + 0.12 * rough[1])[:, None])
            return setting.GRAINS
        glows = look["blend"] == "additive"
        back = places - found.velocity[::every] * np.float32(self.plan.study.clock.step * SHUTTER)
        made.streaks.append(Streaks(back, places, colours * (BRIGHT if glows else 1), float(look["size"]), glows))
        return setting.SPARKS if glows else setting.SURFACE

    def _mapped(self, values: Array, ends: Ends | None) -> Array:
        look = self.look("points")
        low, high = (
            (look["low"], look["high"])
            if ends is None
            else (ends[0] if look["low"] is None else look["low"], ends[1] if look["high"] is None else look["high"])
        )
        return coloured(values, low, high, look["map"], look["first"], look["last"])

    def _colours(self, found: Points, ends: Ends | None) -> Array:
        look = self.look("points")
        painted = found.channels.get("colour")
        if look["colour"] == "colour" and painted is not None and painted.ndim == 2:
            return np.asarray(np.clip(painted, 0, None), np.float32)
        shown = found.shown()
        if not shown:
            return np.full((found.count, 3), 0.6, np.float32)
        values = shown[look["colour"] if look["colour"] in shown else next(iter(shown))][0]
        return self._mapped(values, ends)

    def _mesh(self, found: MeshData, ends: Ends | None) -> Mesh:
        look = {**self.look("points"), **self.look("mesh")}
        count = len(found.vertices)
        tone = {"speed" if n == "velocity" else n: v for n, v in found.channels.items()}.get(look["colour"])
        if tone is not None and (look["paint"] == "channel" or not self.kind.offers("points")):
            values = np.linalg.norm(tone, axis=1) if tone.ndim == 2 else tone
            colours = self._mapped(values, ends)
        else:
            colours = np.broadcast_to(hexed(look["tint"]), (count, 3))
        return Mesh(found.vertices, found.faces, colours, 0.35, found.normals)

    def _instances(self, found: Instanced, frame: int, ends: Ends | None) -> list[Mesh]:
        tone = found.channels.get(self.look("points")["colour"], found.channels.get("speed"))
        own = np.full((len(found.points), 3), 0.5, np.float32)
        if "row" in found.channels:
            own = self._colours(self.kind.results[0].read(self.store, frame), ends)[found.channels["row"]]
        elif tone is not None and tone.ndim == 1:
            own = self._mapped(tone, ends)
        made = []
        for k, one in enumerate(found.to_look_at(MOST_TRIANGLES)):
            there = np.flatnonzero(found.which == k)
            if not len(there) or not len(one.faces):
                continue
            turned = np.einsum("nij,vj->nvi", _rotations(found.turns[there]), one.vertices)
            placed = found.points[there][:, None] + found.sizes[there][:, None, None] * turned
            faces = one.faces[None] + (np.arange(len(there)) * len(one.vertices))[:, None, None]
            made.append(
                Mesh(placed.reshape(-1, 3), faces.reshape(-1, 3), np.repeat(own[there], len(one.vertices), axis=0), 0.2)
            )
        return made

    def _cloud(self, found: Volume, fine: bool) -> tuple[Cloud, Setting]:
        look = self.look("volume")
        amount = found.amount
        if amount is None:
            name, amount = next((n, np.abs(g.values)) for n, g in found.grids.items() if g.values.ndim == 3)
            self.notes[f"{name} is drawn as smoke: what it is of has no density"] = None
        hot = found.grids["temperature"].values if "temperature" in found.grids else None
        glows = hot is not None and look["glow"] > 0 and float(hot.max(initial=0)) > look["cold"]
        least = 1e-3 * max(float(amount.max(initial=0)), 1e-9)
        full = amount > least
        arrays = [np.where(full, amount, 0)]
        if glows and hot is not None:
            full = full | (hot > look["cold"])
            arrays.append(hot)
        arrays += [found.grids[c].values for c in COLOURS if c in found.grids]
        begins, arrays = cropped(full, arrays)
        h = found.region.voxel_size
        lower = np.array(found.region.lower) + h * np.array(begins)
        side = 1
        while not fine and arrays[0].size > side**3 * MOST_SMALL:
            side += 1
        if side > 1:
            arrays, h = [_coarser(v, side) for v in arrays], h * side
        elif fine and 8 * arrays[0].size <= MOST_FINE:
            arrays, h = [finer(v) for v in arrays], h / 2
        density = np.asarray(np.where(arrays[0] > least, arrays[0], 0), np.float32)
        kelvin = arrays[1] if glows else None
        tinted = None
        if len(dyes := arrays[2 if glows else 1 :]) == len(COLOURS):
            shares = [np.where(density > 0, d / np.maximum(density, 1e-9), 0) for d in dyes]
            tinted = np.asarray(np.clip(np.stack(shares, -1), 0, 1) * hexed(look["tint"]), np.float32)
        tint = np.minimum(hexed(look["tint"]) * 1.25, 0.9)
        extinct, axes = density * np.float32(look["absorb"]), found.region.axes
        dials = (look["glow"], look["cold"], look["hot"], look["warm"], look["onward"])
        made = Cloud(lower, axes, h, extinct, kelvin, tint, tinted, *dials)
        return made, setting.FIRE if glows else setting.SMOKE


def _coarser(values: Array, side: int) -> Array:
    """Means over cubes of so many voxels a side (nx, ny, nz)."""
    v = np.pad(values, [(0, -n % side) for n in values.shape])
    nx, ny, nz = (n // side for n in v.shape)
    return np.asarray(v.reshape(nx, side, ny, side, nz, side).mean(axis=(1, 3, 5)), np.float32)


def _dots(found: Lines, look: dict[str, Any]) -> Streaks:
    tone = found.channels.get(look["colour"], next(iter(found.channels.values()), np.zeros(len(found.points))))
    colours = coloured(tone, look["low"], look["high"], look["map"], look["first"], look["last"])
    return Streaks(found.points, found.points, colours, float(look["size"]), False)


def _lines(found: Lines, look: dict[str, Any]) -> Streaks:
    whole = np.ones(len(found.points), bool)
    whole[found.starts + found.counts - 1] = False
    begin = np.flatnonzero(whole)
    tone = found.channels.get(look["colour"], next(iter(found.channels.values()), np.zeros(len(found.points))))
    colours = coloured(tone, look["low"], look["high"], look["map"], look["first"], look["last"])
    return Streaks(found.points[begin], found.points[begin + 1], colours[begin], float(look["size"]), False)


def _apart(places: Array) -> float:
    """How far apart points stand that fill a room evenly."""
    if len(places) < 2:
        return 0.01
    span = np.maximum(np.ptp(places, axis=0), 1e-6)
    return float((np.prod(span.astype(np.float64)) / len(places)) ** (1 / 3))


def _rotations(q: Array) -> Array:
    """Matrices (n, 3, 3) of unit quaternions (n, 4), w x y z."""
    w, x, y, z = q.T
    return np.stack(
        [
            1 - 2 * (y * y + z * z), 2 * (x * y - w * z), 2 * (x * z + w * y), 2 * (x * y + w * z),
            1 - 2 * (x * x + z * z), 2 * (y * z - w * x), 2 * (x * z - w * y), 2 * (y * z + w * x),
            1 - 2 * (x * x + y * y),
        ], axis=-1,
    ).reshape(-1, 3, 3)  # fmt: skip


def _around(places: Array) -> Box:
    there = places[np.isfinite(places).all(axis=1)]
    if not len(there):
        return np.full(3, -0.5), np.full(3, 0.5)
    return there.min(axis=0).astype(np.float64), there.max(axis=0).astype(np.float64)


def _box_of(cloud: Cloud) -> Box:
    size = cloud.h * np.array(cloud.extinct.shape)
    corners = np.array([[i, j, k] for i in (0, 1) for j in (0, 1) for k in (0, 1)]) * size + cloud.lower
    return _around(corners @ cloud.axes.T)
