"""From run: a field that samples what a gas flow carried, frame after frame."""

import math
from typing import Any, Literal

import numpy as np

from errant_gust.core.blocks import Cancel
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.samples import Array, At, Kind, Samples
from errant_gust.core.fields.step import FieldStep
from errant_gust.core.fields.units import SPEED, Unit, parse_unit
from errant_gust.core.grids.grid import Grid
from errant_gust.core.study.parameters import FlowId, param


class FromRun(FieldStep):
    """A channel of a gas flow at every time: its velocity to carry particles by, its density or heat to mask with.

    Between two frames values are interpolated; frames that are not there yet are computed. Outside the window that
    the gas was computed in the field is zero.
    """

    id = "from_run"
    label = "From run"
    family = "start"
    yields = "what a gas flow carried, as a field"
    mistake = (
        "Whatever is changed in the gas computes it anew before this field can be read. Shape the particles with the "
        "preview, and choose the full run when the gas is done."
    )
    headline = "flow"
    formula = "f(x, t) = (1 − s) g_k(x) + s g_{k+1}(x),  k the frame before t"

    flow: FlowId = param(help="A flow that has volumes", provides="volume")
    kind: Literal["vector", "scalar"] = param("vector", label="Takes", help="The velocity, or another channel")
    channel: str = param("density", help="Which channel", when={"kind": ["scalar"]})
    quality: Literal["preview", "full"] = param("preview", help="The quick run of the gas, or the final one")
    delay: float = param(0.0, unit="s", range=(-1e4, 1e4), slider=(-2, 2), help="The gas is read so much later")

    @property
    def changes_with_time(self) -> bool:
        return True

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return self.kind

    def prepare(self, node: Node, cancel: Cancel | None = None) -> None:
        self._grids(node, cancel)

    def _grids(self, node: Node, cancel: Cancel | None = None) -> tuple[Grid, Grid, float]:
        """The grids of the frames before and after the node's time, and how far it is between them."""

        def make() -> Any:
            clock = node.scene.study.clock
            at = clock.start + (node.scene.time - self.delay) * clock.fps * clock.slow_motion
            at = min(max(at, clock.start), clock.end)
            first = math.floor(at + 1e-6)
            part = max(0.0, at - first)
            name = "vel" if self.kind == "vector" else self.channel

            def grid(frame: int) -> Grid:
                scene = node.scene
                return scene.data.volume_at(scene, self.flow, name, self.quality, frame, node.where, cancel)

            before = grid(first)
            return before, grid(first + 1) if part > 1e-6 else before, part

        made: tuple[Grid, Grid, float] = node.kept("grids", make)
        return made

    def evaluate(self, at: At) -> Samples:
        before, after, part = self._grids(at.node)
        if before is after:
            return _of(before, at.points, at.gradient)
        a, b, s = _of(before, at.points, at.gradient), _of(after, at.points, at.gradient), np.float32(part)
        slope = None if a.gradient is None or b.gradient is None else a.gradient + s * (b.gradient - a.gradient)
        return Samples(a.value + s * (b.value - a.value), slope)

    def unit_given(self, node: Node) -> Unit | None:
        if self.kind == "vector":
            return SPEED
        return parse_unit("K") if self.channel == "temperature" else None


def _of(grid: Grid, points: Array, gradient: bool) -> Samples:
    return Samples(*grid.sample_with_gradient(points)) if gradient else Samples(grid.sample(points))
