"""What a step of a flow lane is, the roles it may play, and a step in its place in a lane.

Loops over a lane ask for a role and never name a class: a step of any kind that plays it takes part.
"""

from collections.abc import Collection, Iterator
from typing import TYPE_CHECKING, Any, ClassVar, Literal

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.scene import Built, Scene
from errant_gust.core.geometry.placed import Side
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.study import registry
from errant_gust.core.study.document import Lane
from errant_gust.core.study.parameters import Parameters, summary

NOT_FITTING = {
    "vector": ("scalar", "take its gradient or curl, or choose a vector lane"),
    "scalar": ("vector", "take its magnitude or a component, or choose a scalar lane"),
}


class FlowStep(Parameters):
    """One operation in a flow lane. A subclass declares its parameters and does its part; catalogue, form, card,
    handbook and command line follow from it. `sort` is the kind of flow whose lanes it stands in."""

    sort: ClassVar[str]
    family: ClassVar[str]
    formula: ClassVar[str] = ""
    wants: ClassVar[dict[str, Literal["scalar", "vector"]]] = {}
    """What the field lanes named by parameters have to be."""
    carries: ClassVar[tuple[str, ...]] = ()
    """Channels that a lane with this step has."""
    names_channel: ClassVar[str] = ""
    """The parameter that gives a channel of the lane its name."""
    lasting: ClassVar[bool] = False
    """Whether it changes velocities the more, the longer it acts: a force, a drag; a limit does not."""

    def __init_subclass__(cls, **kwargs: Any) -> None:
        super().__init_subclass__(**kwargs)
        if "id" in cls.__dict__:
            registry.register(cls.sort, cls)

    def check(self, scene: Scene, where: str) -> None:
        """Raise a StudyError for what cannot work."""
        for name, wanted in self.wants.items():
            lane = getattr(self, name)
            if lane and scene.lane(lane).kind != wanted:
                other, fix = NOT_FITTING[wanted]
                raise StudyError(
                    f"'{lane}' is a {other}, {self.label} takes a {wanted}", where=f"{where}.{name}", fix=fix
                )

    @classmethod
    def entry(cls) -> dict[str, Any]:
        """The step in the catalogue."""
        told = summary(cls)
        shapes = [p["name"] for p in told["params"] if p["type"] in ("shape", "shapes")]
        plays = {name: shapes for name, role in ROLES.items() if issubclass(cls, role)}
        channels = {"carries": list(cls.carries), "names_channel": cls.names_channel}
        return {**told, "kind": cls.family, "accepts": cls.sort, "formula": cls.formula, "roles": plays, **channels}


# roles ---------------------------------------------------------------------------------------------------------------


class Emits:
    """Brings in what is carried, from a shape or from elsewhere."""

    if TYPE_CHECKING:  # declared by who plays the role, as parameters
        shape: str

    def missed(self, domain: GridRegion, scene: Scene) -> bool:
        """Whether what it brings in can only lie outside a domain."""
        return False

    def alone(self, varying: Collection[str]) -> str:
        """A channel that it brings in with nothing else, if it does."""
        return ""


class Blocks:
    """Stands in the way, or holds in."""

    def blocking(self) -> list[tuple[str, Side]]:
        """Shapes by id, and on which side of them things are kept."""
        raise NotImplementedError


class Pushes:
    """Moves what is carried."""


class Carries(Pushes):
    """Moves along the velocity lane that `field` names: in so many substeps, the longest way (m) in one, and how a step
    is taken."""

    if TYPE_CHECKING:
        field: str
        substeps: int
        longest: float
        integrator: str


class Limits:
    """Bounds or damps the motion of what stands before it."""


ROLES: dict[str, type] = {"emits": Emits, "blocks": Blocks}
"""What the catalogue tells of a step: what it is to the shapes that it names."""


class Placed:
    """A step in its place in a lane, with its values at one time. `varying`: lanes in the place of numbers."""

    def __init__(self, built: Built, where: str) -> None:
        self.step: Any = built.step
        self.varying, self.totals, self.where = built.varying, built.totals, where


def placed_steps(scene: Scene, lane: Lane, sort: str) -> Iterator[Placed]:
    """Steps of a flow lane that are on, with their values at the scene's time."""
    for part in lane.steps:
        if part.on:
            where = f"flows.{lane.id}.{part.id}"
            yield Placed(scene.build(registry.step_class(part.op, sort, where), part.params, where), where)


def in_turn(parts: list[Placed]) -> Iterator[tuple[Placed, float]]:
    """Steps that push, and for which share of the time: half of it in the reverse order, then half in their own, so
    that none acts before the others (Strang 1968): second order. What bounds motion at once acts once, in its place."""
    lasting = [p for p in parts if p.step.lasting]
    if len(lasting) < 2:
        yield from ((p, 1.0) for p in parts)
        return
    yield from ((p, 0.5) for p in reversed(lasting))
    yield from ((p, 0.5 if p.step.lasting else 1.0) for p in parts)


def blocked_by(parts: list[Placed]) -> list[tuple[str, Side]]:
    """Every shape in the way of a lane, and on which side of it things are kept."""
    return [pair for p in parts if isinstance(p.step, Blocks) for pair in p.step.blocking()]
