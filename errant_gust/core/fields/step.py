"""The base of every field step, and the catalogue that grows as step classes are defined."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, Literal

from errant_gust.core.fields.samples import Array, At, Kind, Samples
from errant_gust.core.fields.units import Unit, parse_unit
from errant_gust.core.geometry.placed import Side
from errant_gust.core.study import registry
from errant_gust.core.study.parameters import Parameters, summary

if TYPE_CHECKING:
    from errant_gust.core.geometry.placed import Framed

Accepts = Literal["nothing", "scalar", "vector", "any"]
Family = Literal["start", "change", "join"]


class FieldStep(Parameters):
    """One operation in a field lane. A subclass declares parameters and `evaluate`; everything else follows.

    A new step is one class in one module of `fields/steps`: its docstring gives the formula, its `param`s the form.
    """

    family: ClassVar[Family]
    accepts: ClassVar[Accepts] = "nothing"
    formula: ClassVar[str] = ""
    unit: ClassVar[str] = ""
    blocked_by: ClassVar[tuple[str, ...]] = ()
    """Parameters that name shapes which the flow goes around."""
    kept_in: ClassVar[tuple[str, ...]] = ()
    """Parameters that name shapes which the flow stays in."""

    def __init_subclass__(cls, **kwargs: Any) -> None:
        super().__init_subclass__(**kwargs)
        if "id" in cls.__dict__:
            registry.register(registry.FIELD, cls)

    def blocking(self) -> list[tuple[str, Side]]:
        """Shapes by id, and on which side of them the flow is kept."""
        found: list[tuple[str, Side]] = []
        sides: tuple[tuple[Side, tuple[str, ...]], ...] = (("around", self.blocked_by), ("inside", self.kept_in))
        for side, names in sides:
            for name in names:
                value = getattr(self, name)
                found += [(id, side) for id in ([value] if isinstance(value, str) else value) if id]
        return found

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        """Scalar or vector, from what comes in and from the kinds of the lanes named in the parameters.

        Raises ValueError (in words for the user) if the two do not fit together.
        """
        raise NotImplementedError

    def evaluate(self, at: At) -> Samples:
        """Value and, if `at.gradient`, exact first derivatives at a block of points."""
        raise NotImplementedError

    def feature(self) -> float | None:
        """Size in metres of the smallest detail this step makes, if it makes any."""
        return None

    def feature_at(self, node: Any) -> float | None:
        """The same where a field may stand in for a number."""
        return self.feature()

    def stroke(self) -> float | None:
        """Width in metres of lines that this step draws and that are to be read."""
        return None

    def front(self, node: Any) -> tuple[Array, Array, Array] | None:
        """A rectangle (corner, two edges, each (3,) in metres) that shows what this step makes where the common slice
        may not; None if there is none."""
        return None

    @property
    def changes_with_time(self) -> bool:
        """Whether the same parameters give other values at another time (rates are seen to elsewhere)."""
        return False

    def prepare(self, node: Any, cancel: Any = None) -> None:
        """Do what must not happen inside a block of points: bake, solve, build trees."""

    def has_potential(self, node: Any) -> Literal["none", "free", "gauged"]:
        """Whether the vector is known as the curl of a potential.

        `free` potentials can be used anywhere; `gauged` ones grow with distance (a wind's) and are asked for
        around one shape.
        """
        return "none"

    def potential(self, at: At, around: Framed | None) -> Samples:
        """The vector potential and its gradient, for steps that have one."""
        raise NotImplementedError

    def unit_given(self, node: Any) -> Unit | None:
        """Unit of the values, None if they may be in any: what the class states, else that of what comes in."""
        if self.unit:
            return parse_unit(self.unit)
        return node.incoming.unit if node.incoming is not None else None

    def adds(self, node: Any) -> str:
        """The lane whose values are added to, or stand in for, those that come in: it has to be in the same unit."""
        return ""

    def remark(self, node: Any) -> str:
        """What is to be said beside the step's numbers: how it did what it did, where that depends on what comes in."""
        return ""

    @classmethod
    def entry(cls) -> dict[str, Any]:
        """The step in the catalogue."""
        roles = {"blocks": list(cls.blocked_by)} if cls.blocked_by else {}
        return {**summary(cls), "kind": cls.family, "accepts": cls.accepts, "formula": cls.formula, "roles": roles}


class ScalarStart(FieldStep):
    """A step that makes a scalar from nothing."""

    family = "start"

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return "scalar"


class VectorStart(FieldStep):
    """A step that makes a vector from nothing."""

    family = "start"

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return "vector"


class Change(FieldStep):
    """A step that changes what comes in and keeps its kind."""

    family = "change"
    accepts = "any"

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        assert incoming is not None
        return incoming
