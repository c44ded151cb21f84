"""Steps of a particle lane: what one is, and the emitter. What moves is in `motion`, `forces`, `walls`, `renewal`."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar, Literal

import numpy as np

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.step import Emits, FlowStep, Placed
from errant_gust.core.study.parameters import FieldId, FlowId, Refers, ShapeId, param

if TYPE_CHECKING:
    from errant_gust.core.fields.node import Node
    from errant_gust.core.fields.scene import Scene

SORT = "particles"
Stage = Literal["start", "middle", "late", "end"]
Force = tuple[Array | None, Array | None]
"""What a step adds to dv/dt = S − K v: S, (3, n) or (3, 1) in m/s², and K, (n,) or a number in 1/s; None is nothing."""


@dataclass
class Moving:
    """A block of particles on its way through one step in time, as the steps of the lane see and change it.

    position, own (velocity of its own) and mean (of `own` over the step) are (3, n); dt, age and id (n,).
    """

    position: Array
    own: Array | None
    mean: Array | None
    dt: Array
    age: Array
    id: Array
    pushed_back: Array | None = None
    kept: dict[str, Array] = field(default_factory=dict)
    """Channels (n,) that particles came with, of those that are one number."""


class Use:
    """What a step in its place in the lane works with in one step in time: the scenes it looks things up in."""

    def __init__(self, placed: Placed, scenes: dict[Stage, Scene]) -> None:
        self.step: ParticleStep = placed.step
        self.varying, self.scenes, self.where = placed.varying, scenes, placed.where
        self.nodes: dict[tuple[str, Stage], Node] = {}
        self.made: dict[str, Any] = {}
        """What the step has prepared."""

    def prepare(self) -> None:
        """Look up and prepare everything before threads start."""
        for name, info in type(self.step).model_fields.items():
            lane = self.varying.get(name)
            if any(isinstance(m, Refers) and m.to == "field" for m in info.metadata):
                lane = getattr(self.step, name) or None
            if lane is None:
                continue
            first = self.scenes["start"].lane(lane)
            for stage, scene in self.scenes.items():
                node = scene.lane(lane) if first.moves else first
                node.prepare()
                self.nodes[name, stage] = node
        self.step.prepare(self)

    def field(self, name: str, points: Array, stage: Stage = "start") -> Array:
        """The lane that a parameter names, at points (3, n): (3, n) or (n,)."""
        return self.nodes[name, stage].evaluate(points).value

    def number(self, name: str, points: Array, stage: Stage = "start") -> Any:
        """A number, or what the field in its place is at the points (n,)."""
        if name in self.varying:
            return self.nodes[name, stage].evaluate(points).value
        return np.float32(getattr(self.step, name))


class ParticleStep(FlowStep):
    """One operation in a particle lane. A subclass declares its parameters and does its part; the rest follows.

    A motion step does one or more of: be a `force` on its own velocity, `drift` (carry it), `bend` the velocity of all
    motion together, `correct` the place it came to, `renew` (say which are born again). They are called in the lane's
    order.
    """

    sort = SORT
    family: ClassVar[Literal["emit", "motion", "drawn"]]
    keeps: ClassVar[tuple[str, ...]] = ()
    """Channels of `state.KEPT` that this step needs."""
    forever: ClassVar[bool] = False
    """Whether with it particles may be as old as the flow."""

    def needs(self) -> tuple[str, ...]:
        """Kept channels that this step needs with these values; the first is the one that `record` fills."""
        return self.keeps

    def check_together(self, kept: tuple[str, ...], where: str) -> None:
        """Raise a StudyError for what cannot work together; `kept` are the channels that the lane keeps."""

    def prepare(self, use: Use) -> None:
        """Do what must not happen inside a block of particles."""

    def force(self, points: Array, use: Use) -> Force:
        """What it adds to the change of a velocity of its own at points (3, n), in the middle of the step."""
        return None, None

    def drift(self, points: Array, use: Use, stage: Stage) -> Array | None:
        """Velocity (3, n) that carries, in m/s."""
        return None

    def bend(self, velocity: Array, points: Array, m: Moving, use: Use) -> Array:
        """The velocity of all motion together, changed. Both (3, n), in m/s and m."""
        return velocity

    def correct(self, m: Moving, use: Use) -> None:
        """Move what must not be where it is."""

    def renew(self, arrays: dict[str, Array], before: Array, spans: Array, use: Use) -> Array | None:
        """How many seconds before the end of the step each particle (n,) is due to be born again; below zero for those
        that are not. They have moved from `before` (3, n) for `spans` seconds (n,)."""
        return None

    @property
    def records(self) -> bool:
        """Whether it fills a channel."""
        return False

    def record(self, part: dict[str, Array], use: Use) -> Array | None:
        """Values (n,) of the step's own channel for a block of particles that have moved: (3, n) and (n,) by name."""
        return None


class Emit(ParticleStep, Emits):
    """Particles are born on or in a shape, at a rate or all at once, and live for a while.

    Births are spread within the frame along the shape's motion, so that a fast source leaves no gaps. How many have
    been born by a time is the integral of the rate: the same at any frame rate. What begins before the first frame is
    there on it, as old as it then is; until then fields and shapes are as on the first frame.
    """

    id = "emit"
    label = "Emit"
    family = "emit"
    yields = "particles born on a shape"
    mistake = (
        "Rate and life together give the count: 4000 a second living 4 s are 16 000 at once. A preview run has a "
        "quarter of them unless told otherwise."
    )
    headline = "rate"

    where: Literal["surface", "volume", "points", "line", "grid", "particles", "lines"] = param(
        "surface",
        help="On the surface of a shape, inside it, at its vertices, along its curves, evenly inside it; at the "
        "particles of another flow, or on the lines that it draws",
    )
    shape: ShapeId = param(
        "",
        label="From",
        help="The shape they are born on",
        when={"where": ["surface", "volume", "points", "line", "grid"]},
    )
    flow: FlowId = param(
        "",
        label="From flow",
        help="The lane whose points they are born at",
        when={"where": ["particles"]},
        provides="points",
    )
    lines: FlowId = param(
        "", label="On lines of", help="The lane on whose trails or flow lines they are born, new ones each frame",
        when={"where": ["lines"]}, provides="lines",
    )  # fmt: skip
    places: Literal["at random", "evenly"] = param(
        "at random",
        label="On them",
        help="Anywhere on the lines, or evenly over all of them",
        when={"where": ["lines"]},
    )
    spacing: float = param(
        0.1, unit="m", above=0, slider=(0.01, 1), help="Between places of the grid", when={"where": ["grid"]}
    )
    timing: Literal["rate", "all at once"] = param("rate", help="So many a second, or all in one moment")
    rate: float = param(
        4000, unit="/s", range=(0, 1e8), slider=(0, 50_000), rate=True, help="Births a second",
        when={"timing": ["rate"]},
    )  # fmt: skip
    count: int = param(
        20_000, range=(0, 20_000_000), slider=(0, 200_000), help="How many", when={"timing": ["all at once"]}
    )
    apart: float = param(
        0.0, unit="m", range=(0, 1e5), slider=(0, 0.5), label="At least apart", when={"timing": ["all at once"]},
        help="No two are born nearer than this; as many as find room, up to the count. 0 lets them be anywhere",
    )  # fmt: skip
    even_out: int = param(
        0, range=(0, 200), slider=(0, 20), label="Evened out", when={"timing": ["all at once"]},
        help="Rounds in which those that are kept apart move away from each other, on the surface or inside: no clumps",
    )  # fmt: skip
    begin: float = param(0.0, unit="s", moment=True, range=(-1e5, 1e5), slider=(0, 10), help="When it starts")
    until: float = param(
        1e4, unit="s", moment=True, range=(-1e5, 1e5), slider=(0, 20), help="When it stops", when={"timing": ["rate"]}
    )
    life: float = param(4.0, unit="s", above=0, slider=(0.1, 20), help="Mean time from birth to death")
    life_variation: float = param(0.25, range=(0, 1), help="Lives differ by this share, more or less")
    weight: FieldId = param("", optional=True, help="A scalar lane: the share of births that happen here, 0 to 1")
    speed: float = param(
        0.0,
        unit="m/s",
        slider=(-5, 5),
        help="Along the surface normal at birth, or the way of particle or line",
    )
    spread: float = param(0.0, unit="°", range=(0, 180), help="The direction of that speed differs by up to this")
    inherit: float = param(0.0, range=(-2, 2), help="Share of the velocity of what they are born from")
    seed: int = param(1, range=(0, 2**31 - 1), help="Another number, other places and lives")
    preview_share: float = param(0.25, range=(0, 1), help="Share of the particles that a preview run has")

    wants = {"weight": "scalar"}

    @property
    def alongside(self) -> bool:
        """Whether they are born from another flow, and not from a shape."""
        return self.where in ("particles", "lines")

    @property
    def scatters(self) -> bool:
        """Whether places are kept apart."""
        return self.apart > 0 and self.timing == "all at once" and self.where in ("surface", "volume", "line")

    def needs(self) -> tuple[str, ...]:
        return ("own",) if self.speed or self.inherit else ()

    def check_together(self, kept: tuple[str, ...], where: str) -> None:
        if self.where == "particles" and not self.flow:
            raise StudyError("no flow is chosen", where=f"{where}.flow", fix="choose a particle lane to be born from")
        if self.where == "lines" and not self.lines:
            raise StudyError("no lane is chosen", where=f"{where}.lines", fix="choose a lane that draws lines")
        if not self.alongside and not self.shape:
            raise StudyError("no shape is chosen", where=f"{where}.shape", fix="choose a shape to be born on")
