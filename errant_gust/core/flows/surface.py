"""The surface of what particles fill, drawn by a step of their lane: for every kind whose points stand close."""

from typing import ClassVar

import numpy as np

from errant_gust.core.errors import FileError
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.drawing import Drawing, Draws
from errant_gust.core.flows.results import HOME, MeshData
from errant_gust.core.grids.particle_surface import particle_surface
from errant_gust.core.study.parameters import Parameters, param


class DrawsSurface(Parameters, Draws):
    """Parameters of a step that draws the surface, and how it is drawn.

    Frames say under `spacing` how far apart their points stand, under `voxel_size` how large the voxels are, in m.
    Vertices have the velocity there, the thickness behind them, and every channel of the points but the `private`.
    """

    private: ClassVar[frozenset[str]] = frozenset()

    voxels: float = param(
        0.5, unit="×", above=0, range=(0.2, 4), slider=(0.3, 2), label="Voxel size",
        help="Of the surface, as a share of the lane's; half of it shows all that is there",
    )  # fmt: skip
    smooth: int = param(
        4, range=(0, 32), label="Smoothing",
        help="How often it is smoothed; the volume is held, but drops of one particle go",
    )  # fmt: skip

    def draw(self, d: Drawing) -> None:
        """Draw the surface of the frame's points. Raises FileError for a frame of an early version."""
        names = [n for n in d.names() if "." not in n]
        held = d.read_some(tuple(n for n in names if n not in self.private))
        facts = d.facts()
        if not facts.get("spacing"):
            raise FileError("the frames do not say how far apart their points stand", where=d.where, fix="run again")
        position = held.pop(HOME)
        rows, spans = _rows(held)
        size = float(facts["voxel_size"]) * self.voxels
        own = np.ascontiguousarray(position.T)
        made = particle_surface(own, float(facts["spacing"]), size, blurs=self.smooth, values=rows)
        channels = {
            name: np.ascontiguousarray(made.values[a:b].T if b - a > 1 else made.values[a])
            for name, (a, b) in spans.items()
        }
        d.mesh = MeshData(made.vertices, made.faces, {**channels, "thickness": made.thickness}, made.normals)


def _rows(held: dict[str, Array]) -> tuple[Array, dict[str, tuple[int, int]]]:
    """Channels (n,) and (n, c) as rows (k, n), and which rows each has."""
    rows: list[Array] = []
    spans = {}
    for name, a in held.items():
        if a.dtype.kind != "f":
            continue
        columns = [a] if a.ndim == 1 else list(a.T)
        spans[name] = (len(rows), len(rows) + len(columns))
        rows += columns
    return np.ascontiguousarray(np.stack(rows), np.float32), spans
