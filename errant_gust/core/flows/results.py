"""What frames offer, whatever made them: results of a form, with channels, read from the arrays of a frame.

Everything outside a kind's own folder asks for a result by its form and never which kind of flow it is of.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar, Literal, Protocol

import numpy as np

from errant_gust.core.errors import FileError, nearest
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.random import uniform
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.grids.staggered.window import FACES
from errant_gust.core.kernels.advection import middles

Form = Literal["points", "volume", "mesh", "lines", "instances"]
FORMS: tuple[Form, ...] = ("points", "volume", "mesh", "lines", "instances")
VELOCITY = "vel"
HOME = "position"


class Frames(Protocol):
    """Where frames are read from: a run's store."""

    @property
    def place(self) -> str:
        """Where they are, in words."""

    def frames(self) -> list[int]:
        """Numbers of those that are complete."""

    def names(self, frame: int) -> list[str]:
        """Names of a frame's arrays."""

    def read(self, frame: int, channels: tuple[str, ...] | None = None) -> dict[str, Array]:
        """Arrays of a frame by name, (n,), (n, k) or (nx, ny, nz); all if none is named."""

    def facts(self, frame: int) -> dict[str, Any]:
        """What is stored beside a frame's arrays."""


@dataclass(frozen=True)
class Channel:
    """An array of a result: its name, unit, components, whether it may be below zero, what it is for. `internal` ones
    are the flow's own affair: shown and written only when named."""

    name: str
    unit: str = ""
    components: int = 1
    signed: bool = False
    help: str = ""
    internal: bool = False
    level_set: bool = False
    """A distance that is only known near its zero, the surface."""

    def entry(self) -> dict[str, Any]:
        """As JSON has it, for catalogues."""
        return {
            "name": self.name, "unit": self.unit, "components": self.components, "signed": self.signed,
            "help": self.help,
        }  # fmt: skip


# forms ---------------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Points:
    """position (n, 3) in m; other channels (n,) or (n, 3) by name, as they are stored; what is known of them."""

    position: Array
    channels: dict[str, Array] = field(default_factory=dict)
    known: dict[str, Channel] = field(default_factory=dict)

    @property
    def count(self) -> int:
        """How many there are."""
        return len(self.position)

    @property
    def velocity(self) -> Array:
        """(n, 3) in m/s; zero if the frame holds none."""
        return self.channels.get("velocity", np.zeros_like(self.position))

    def lived(self) -> Array:
        """Share of its life (n,) that is over; 0 of what has none, and stays."""
        age, life = self.channels["age"], self.channels["life"]
        return np.divide(age, life, out=np.zeros_like(age), where=life > 0)

    def shown(self) -> dict[str, tuple[Array, str]]:
        """Numbers (n,) that points may be coloured by, each with its unit: channels, and what follows from them."""
        c = self.channels
        made: dict[str, tuple[Array, str]] = {}
        if "velocity" in c:
            v = c["velocity"]
            made["speed"] = (np.linalg.norm(v, axis=1), "m/s")
            made["climb"] = (v[:, 2], "m/s")
            made["direction"] = (np.degrees(np.arctan2(v[:, 1], v[:, 0])), "°")
        if "age" in c:
            made["age"] = (c["age"], "s")
        if "age" in c and "life" in c:
            made["share"] = (self.lived(), "of life")
        if "id" in c:
            made["number"] = (uniform(1, c["id"], 0), "")
        for name, a in c.items():
            what = self.known.get(name, Channel(name))
            if name not in (*made, "life", "id") and a.ndim == 1 and not what.internal:
                made[name] = (a, what.unit)
        return made

    def tone(self, name: str) -> tuple[Array, str]:
        """One of `shown`, or a FileError that lists them; the first if no name is given. (n,), and its unit."""
        made = self.shown()
        if not name and made:
            name = next(iter(made))
        if name not in made:
            raise FileError(f"the run has no channel '{name}'", where="colour", fix=f"one of: {', '.join(made)}")
        return made[name]


@dataclass(frozen=True)
class Volume:
    """Channels on a grid: scalar (nx, ny, nz), and velocities in m/s along the scene's axes."""

    region: GridRegion
    grids: dict[str, Grid]

    @property
    def amount(self) -> Array | None:
        """How much of what it is of is where (nx, ny, nz); None if no channel says."""
        return next((self.grids[n].values for n in ("density", "smoke") if n in self.grids), None)


@dataclass(frozen=True)
class MeshData:
    """vertices (v, 3) in m, faces (f, 3), channels (v,) or (v, 3) by name, unit normals (v, 3) if they are known."""

    vertices: Array
    faces: Array
    channels: dict[str, Array] = field(default_factory=dict)
    normals: Array | None = None


@dataclass(frozen=True)
class Lines:
    """Polylines: points (m, 3) in metres, how many each has (k,), and channels of every point, (m,) float32."""

    points: Array
    counts: Array
    channels: dict[str, Array] = field(default_factory=dict)

    @property
    def starts(self) -> Array:
        """Where each line begins among the points, (lines,)."""
        return np.concatenate([[0], np.cumsum(self.counts)[:-1]]).astype(np.int64)


# results -------------------------------------------------------------------------------------------------------------


class Result:
    """Something that the frames of a kind of flow offer, by name. Its arrays are those whose names begin with
    `prefix`, or those without a dot if it has none. `aside`: the view does not show it of itself."""

    form: ClassVar[Form]
    from_study: ClassVar[bool] = False
    """Whether it is worked out from frames by steps of the study as it stands, and so is in no frame itself."""

    def __init__(self, name: str, label: str, prefix: str = "", *, aside: bool = False) -> None:
        self.name, self.label, self.prefix, self.aside = name, label, prefix, aside

    def own(self, names: Iterable[str]) -> list[str]:
        """Which arrays of a frame belong to it."""
        if self.prefix:
            return [n for n in names if n.startswith(self.prefix)]
        return [n for n in names if "." not in n]

    def entry(self) -> dict[str, Any]:
        """The result in the catalogue."""
        return {
            "name": self.name, "label": self.label, "form": self.form, "from_study": self.from_study,
            "aside": self.aside,
        }  # fmt: skip

    def channels(self, names: Sequence[str]) -> list[Channel]:
        """What a frame that holds these arrays offers of it, internal channels included."""
        raise NotImplementedError

    def read(self, frames: Frames, frame: int, names: tuple[str, ...] | None = None) -> Any:
        """The result on a complete frame, all channels or those named."""
        raise NotImplementedError

    def known(self, frames: Frames, frame: int, names: Iterable[str], places: str = "channels") -> None:
        """Raise a FileError if a frame offers no channel of a name."""
        there = [c.name for c in self.channels(frames.names(frame))]
        for name in names:
            if name not in there:
                raise FileError(f"the run has no channel '{name}'", where=places, fix=nearest(name, there))


class PointsResult(Result):
    """Points with channels."""

    form = "points"

    def __init__(
        self, name: str, label: str, about: Sequence[Channel] = (), prefix: str = "", *, aside: bool = False
    ) -> None:
        super().__init__(name, label, prefix, aside=aside)
        self.about = {c.name: c for c in about}

    def channels(self, names: Sequence[str]) -> list[Channel]:
        found = [n.removeprefix(self.prefix) for n in self.own(names)]
        return [self.about.get(n, Channel(n)) for n in found]

    def read(self, frames: Frames, frame: int, names: tuple[str, ...] | None = None) -> Points:
        if names is not None:
            self.known(frames, frame, names)
            wanted: tuple[str, ...] = (HOME, *(n for n in names if n != HOME))
        else:
            wanted = tuple(c.name for c in self.channels(frames.names(frame)))
        arrays = frames.read(frame, tuple(self.prefix + n for n in wanted))
        return self.of(arrays)

    def of(self, arrays: dict[str, Array]) -> Points:
        """Points from the arrays of a state as they are stored. (n,) and (n, k)."""
        plain = {n.removeprefix(self.prefix): a for n, a in arrays.items() if n in self.own(arrays)}
        if self.prefix and not plain:  # a frame without any
            return Points(np.zeros((0, 3), np.float32), {}, self.about)
        return Points(plain.pop(HOME), plain, self.about)


class VolumeResult(Result):
    """Channels in the cells of a window, and the velocity in their middles from what is on the faces u, v, w."""

    form = "volume"

    def __init__(
        self, name: str, label: str, about: Sequence[Channel] = (), prefix: str = "", *, aside: bool = False
    ) -> None:
        super().__init__(name, label, prefix, aside=aside)
        self.about = {c.name: c for c in about}

    def channels(self, names: Sequence[str]) -> list[Channel]:
        own = [n.removeprefix(self.prefix) for n in self.own(names)]
        found = [self.about.get(n, Channel(n)) for n in own if n not in FACES]
        moving = [Channel(VELOCITY, "m/s", 3, True, "Its velocity")] if set(FACES) <= set(own) else []
        return [*found, *moving]

    def region(self, frames: Frames, frame: int) -> GridRegion:
        """The window of a frame. Raises FileError where it holds no volume."""
        place = frames.facts(frame).get("region")
        if not place:
            raise FileError("the run holds no volumes", where=frames.place, fix="choose a flow that has some")
        x, y, z = place["lower"]
        nx, ny, nz = place["shape"]
        return GridRegion((x, y, z), (nx, ny, nz), place["voxel_size"], tuple(place["turn"]))

    def grid(self, frames: Frames, frame: int, name: str) -> Grid:
        """One channel of a frame; the velocity in m/s along the scene's axes, in the middle of voxels."""
        region = self.region(frames, frame)
        self.known(frames, frame, (name,), frames.place)
        if name != VELOCITY:
            about = self.about.get(name, Channel(name))
            values = frames.read(frame, (self.prefix + name,))[self.prefix + name]
            if about.level_set:
                return Grid(region, values, "clamp", about.unit, float(values.max(initial=0)))
            return Grid(region, values, unit=about.unit)
        faces = frames.read(frame, tuple(self.prefix + n for n in FACES))
        out = np.empty((*region.shape, 3), np.float32)
        middles(*(faces[self.prefix + n] for n in FACES), out, 0, region.shape[0])
        if region.is_turned:
            out = (out @ region.axes.T.astype(np.float32)).astype(np.float32)
        return Grid(region, out, unit="m/s")

    def read(self, frames: Frames, frame: int, names: tuple[str, ...] | None = None) -> Volume:
        wanted = names or tuple(c.name for c in self.channels(frames.names(frame)) if not c.internal)
        return Volume(self.region(frames, frame), {n: self.grid(frames, frame, n) for n in wanted})


class MeshResult(Result):
    """Triangles: arrays `vertices` and `faces`, and channels of the vertices."""

    form = "mesh"

    def channels(self, names: Sequence[str]) -> list[Channel]:
        own = [n.removeprefix(self.prefix) for n in self.own(names)]
        return [Channel(n) for n in own if n not in ("vertices", "faces")]

    def read(self, frames: Frames, frame: int, names: tuple[str, ...] | None = None) -> MeshData:
        if names is not None:
            self.known(frames, frame, names)
        wanted = names if names is not None else tuple(c.name for c in self.channels(frames.names(frame)))
        arrays = frames.read(frame, tuple(self.prefix + n for n in ("vertices", "faces", *wanted)))
        plain = {n.removeprefix(self.prefix): a for n, a in arrays.items()}
        return MeshData(plain.pop("vertices"), plain.pop("faces"), plain)
