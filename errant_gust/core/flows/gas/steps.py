"""Steps of a gas lane: what one is, and what it works on."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass, field
from functools import partial
from typing import TYPE_CHECKING, Any, ClassVar, Literal

import numpy as np

from errant_gust.core.blocks import Cancel
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.sampling import bake
from errant_gust.core.flows.boxed import Sides
from errant_gust.core.flows.gas.state import GasState
from errant_gust.core.flows.step import FlowStep, Placed
from errant_gust.core.grids.slabs import each_slab
from errant_gust.core.grids.staggered.advection import Lend, new_memory
from errant_gust.core.grids.staggered.faces import Triple
from errant_gust.core.kernels import advection as kernels
from errant_gust.core.study.parameters import RegionId, param

if TYPE_CHECKING:
    from errant_gust.core.fields.scene import Scene

SORT = "gas"
BASE = ("density", "temperature")
COLOURS = ("red", "green", "blue")
"""Of gas with a Colour step: how much of each there is, the density times the colour's share."""


@dataclass
class Work:
    """One step in time: the state that is changed, the scene at its end, and what the steps gather.

    force: three components (nx, ny, nz) in m/s² (None where nothing pushes), outflow (nx, ny, nz) in 1/s; dt in
    seconds (0 when the first frame is filled).
    """

    state: GasState
    scene: Scene
    dt: float
    threads: int
    cancel: Cancel | None = None
    force: list[Array | None] = field(default_factory=lambda: [None, None, None])
    outflow: Array | None = None
    before: Scene | None = None
    """The scene at the step's beginning."""
    particles_of: Callable[[str, float], tuple[Array, Array]] | None = None
    twins: dict[str, tuple[str, ...]] = field(default_factory=dict)
    """Channels that are filled by whatever fills another."""
    lend: Lend = new_memory
    """Memory that nobody needs until the projection: arrays 0 to 2 are for the force."""
    ease: list[tuple[Array, Array]] = field(default_factory=list)
    forces_only: bool = False
    """Whether only forces are asked for: neither what eases the gas nor what swells."""
    swings: float = 0.0
    """How stiffly layers of gas swing, N² in 1/s²; told where only forces are asked for."""
    solid: Array | None = None
    baked: dict[str, Array] = field(default_factory=dict)

    def lane(self, id: str) -> Array:
        """A field lane in the middle of every cell of the window, in the window's own axes: (…) or (…, 3)."""
        made, window = self.as_it_is(id), self.state.window
        if made.ndim == 4 and window.is_turned:
            made = (made @ window.axes.astype(np.float32)).astype(np.float32)
        return made

    def as_it_is(self, id: str) -> Array:
        """The same along the scene's axes: what a colour is, or a velocity to be turned later. (nx, ny, nz) or (nx,
        ny, nz, 3), in the field's unit."""
        if id not in self.baked:
            self.baked[id] = bake(self.scene.lane(id), self.state.window, cancel=self.cancel)
        return self.baked[id]

    def number(self, part: Placed, name: str) -> Any:
        """A number of a step, or what the field in its place is in every cell."""
        lane = part.varying.get(name)
        return self.lane(lane) if lane else np.float32(getattr(part.step, name))

    def masked(self, part: Placed, name: str) -> Any:
        """The lane that a parameter names, or 1 where it names none."""
        lane = getattr(part.step, name)
        return self.lane(lane) if lane else np.float32(1)

    def particles(self, flow: str, time: float) -> tuple[Array, Array]:
        """Where a flow's particles are at a time, and their velocities: (3, n) each, in the scene."""
        assert self.particles_of is not None
        return self.particles_of(flow, time)

    def pushed(self, axis: int) -> Array:
        """A component of the force, to be added to. (nx, ny, nz) in m/s²."""
        found = self.force[axis]
        if found is None:
            found = self.force[axis] = self.lend(axis, self.state.values.shape[1:], np.float32)
            found.fill(0)
        return found

    def push(self, force: Array) -> None:
        """Add a force (3, …) in m/s²."""
        for axis in range(3):
            self.pushed(axis)[...] += force[axis]

    def onto(self, faces: Triple, dt: float) -> None:
        """Adds the force times dt to velocities on faces, (nx+1, ny, nz) and so on; it is used up."""
        for axis, f in enumerate(faces):
            force = self.force[axis]
            if force is not None:
                extra = 1 if axis == 0 else 0
                add = partial(kernels.to_faces, force, np.float32(dt), axis, f)
                each_slab(self.state.values.shape[1] + extra, add, self.threads)
        self.force = [None, None, None]

    def push_along(self, direction: Array, amount: Array) -> None:
        """Add a force of an amount (…) in m/s² in one direction (3,)."""
        for axis in range(3):
            if direction[axis]:
                self.pushed(axis)[...] += direction[axis] * amount

    def expand(self, outflow: Array) -> None:
        """Add net outflow in 1/s. (nx, ny, nz)."""
        self.outflow = outflow if self.outflow is None else self.outflow + outflow

    def up(self) -> Array:
        """The direction of the scene's z in the window's own axes (3,)."""
        return np.asarray(self.state.window.axes.T @ np.array([0.0, 0.0, 1.0]), np.float32)


class GasStep(FlowStep):
    """One operation in a gas lane. A subclass declares its parameters and does its part; the rest follows."""

    sort = SORT
    family: ClassVar[Literal["domain", "source", "force", "change", "solid"]]

    def names(self, varying: Collection[str] = ()) -> tuple[str, ...]:
        """Channels that a lane with this step has."""
        own = getattr(self, self.names_channel) if self.names_channel else ""
        return (*self.carries, *((own,) if own else ()))

    @property
    def copied(self) -> tuple[str, str] | None:
        """A channel, and the one of this step that whatever fills that one fills too."""
        return None

    def understood(self, channels: tuple[str, ...], where: str) -> None:
        """Raise a StudyError if it names a channel that is not there."""

    def source(self, part: Placed, work: Work) -> None:
        """Bring gas in."""

    def change(self, part: Placed, work: Work) -> None:
        """Change channels over dt."""

    def finish(self, part: Placed, work: Work) -> None:
        """Change channels after everything has been brought in."""

    def pushes(self, part: Placed, work: Work) -> None:
        """Add forces or outflow."""


def decay(values: Array, how: str, rate: Any, dt: float) -> Array:
    """Values that fall toward zero: by a share (exponential, exact at any dt) or by an amount a second. Any shape,
    in the channel's unit; `rate` in 1/s, or in the unit a second; `dt` in s."""
    if how == "share":
        return np.asarray(values * np.exp(-rate * np.float32(dt)), np.float32)
    return np.asarray(np.sign(values) * np.maximum(np.abs(values) - rate * np.float32(dt), 0), np.float32)


class Domain(GasStep, Sides):
    """Where the gas is computed, how finely, and which sides are open. Within it a window follows the gas.

    Air flows freely through an open side; a closed side is a wall. Preview runs have voxels that are larger by
    `preview_voxels`, and the same motion on the whole.
    """

    id = "domain"
    label = "Domain"
    family = "domain"
    yields = "the space that gas is in"
    mistake = (
        "Twice as fine costs eight times the memory and sixteen times the time. Find the motion at preview size, then "
        "refine."
    )
    headline = "region"
    carries = BASE

    region: RegionId = param(help="The box and the voxel size")
    preview_voxels: float = param(2.0, unit="×", range=(1, 8), help="Size of voxels in a preview run")
    follow: bool = param(True, label="Follow the gas", help="Compute only where there is gas, and a margin around it")
    threshold: float = param(
        0.002, range=(0, 1), slider=(0, 0.05), help="Thinner gas than this is not followed (temperature: times 300 K)",
        when={"follow": ["True", "true"]},
    )  # fmt: skip
    reflect: bool = param(
        False, label="Keep swirls",
        help="Each step in two halves, the second from the mirrored velocity, for nearly twice the time. Plain steps "
        "keep swirls as well now, or better; for studies that were made with it",
    )  # fmt: skip
    keep: bool = param(
        False, label="Keep amounts",
        help="Carrying loses some percent of what it carries in a few seconds: put it back, in proportion, so that dye "
        "keeps its amount but for what leaves",
    )  # fmt: skip
    west: bool = param(True, label="Open at −x", help="Air flows through this side", group="Open sides")
    east: bool = param(True, label="Open at +x", help="Air flows through this side", group="Open sides")
    south: bool = param(True, label="Open at −y", help="Air flows through this side", group="Open sides")
    north: bool = param(True, label="Open at +y", help="Air flows through this side", group="Open sides")
    below: bool = param(False, label="Open below", help="If not, its floor is a wall", group="Open sides")
    above: bool = param(True, label="Open above", help="Air flows through this side", group="Open sides")
    longest: float = param(2.5, unit="voxels", range=(0.25, 10), help="Longest way in a substep", group="Steps in time")
    most_substeps: int = param(
        16, range=(1, 256), help="More than these in a frame is an error, not a wait", group="Steps in time"
    )
