"""Joins with another lane: add, multiply, mask."""

from typing import Any, Literal

import numpy as np

from errant_gust.core.fields.samples import At, Kind, Samples, curl_of, without_trace
from errant_gust.core.fields.step import FieldStep
from errant_gust.core.fields.units import NUMBER, Unit, times
from errant_gust.core.geometry.placed import Framed
from errant_gust.core.study.parameters import FieldId, param


class Add(FieldStep):
    """Adds another lane of the same kind."""

    id = "add"
    label = "Add"
    family = "join"
    accepts = "any"
    yields = "both at once"
    mistake = "A term that is added after Steer around points into the obstacle again. Add first, steer last."
    headline = "field"
    formula = "f' = f + amount · g"

    field: FieldId = param(help="The lane to add")
    amount: float = param(1.0, unit="×", slider=(-2, 2), help="How much of it; −1 subtracts")

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        assert incoming is not None
        if lanes["field"] != incoming:
            raise ValueError(f"a {lanes['field']} cannot be added to a {incoming}")
        return incoming

    def _other(self, at: At) -> Samples:
        g, k = at.field(self.field), np.float32(self.amount)
        return Samples(g.value * k, None if g.gradient is None else g.gradient * k)

    def evaluate(self, at: At) -> Samples:
        return at.incoming().plus(self._other(at))

    def has_potential(self, node: Any) -> Literal["none", "free", "gauged"]:
        both = {node.incoming.has_potential, node.scene.lane(self.field).has_potential}
        return "none" if "none" in both else "gauged" if "gauged" in both else "free"

    def potential(self, at: At, around: Framed | None) -> Samples:
        assert at.node.incoming is not None
        p = at.node.incoming.potential(at.points, around)
        q = at.node.scene.lane(self.field).potential(at.points, around)
        k = np.float32(self.amount)
        return Samples(p.value + k * q.value, p.slope + k * q.slope)

    def adds(self, node: Any) -> str:
        return self.field

    def unit_given(self, node: Any) -> Unit | None:
        known: Unit | None = node.incoming.unit
        return node.scene.lane(self.field).unit if known is None else known


class Multiply(FieldStep):
    """Multiplies by a scalar lane; two scalars multiplied leave only where both are."""

    id = "multiply"
    label = "Multiply"
    family = "join"
    accepts = "any"
    yields = "the overlap of both"
    mistake = (
        "Multiplying a velocity by a scalar brings sources and sinks at its slopes. Mask with the potential "
        "keeps it free of them."
    )
    headline = "field"
    formula = "f' = f · g"

    field: FieldId = param(help="A scalar lane")

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        assert incoming is not None
        if lanes["field"] != "scalar":
            raise ValueError("the lane to multiply by must be a scalar, and this one is a vector")
        return incoming

    def evaluate(self, at: At) -> Samples:
        return at.incoming().times(at.field(self.field))

    def unit_given(self, node: Any) -> Unit | None:
        return times(node.incoming.unit, node.scene.lane(self.field).unit or NUMBER)


class Mask(FieldStep):
    """Lets the field act only where a scalar lane is on.

    By the potential (where the field has one, as curl noise does) the result stays free of sources and sinks:
    v' = ∇ × (m ψ) = m v + ∇m × ψ. By the value it is simply m · f.
    """

    id = "mask"
    label = "Mask"
    family = "join"
    accepts = "any"
    yields = "the field where the mask is on"
    mistake = (
        "A mask that is zero everywhere silences the lane. Look at its coverage; check that its shape is "
        "where the action is."
    )
    headline = "by"
    formula = "v' = ∇ × (m ψ), or f' = m · f"

    by: FieldId = param(help="A scalar lane: 1 keeps the field, 0 removes it")
    method: Literal["by the potential", "by the value"] = param(
        "by the potential", help="By the potential stays divergence-free; fields without one are masked by the value"
    )

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        assert incoming is not None
        if lanes["by"] != "scalar":
            raise ValueError("a mask must be a scalar lane, and this one is a vector")
        return incoming

    def _uses_potential(self, node: Any) -> bool:
        return (
            self.method == "by the potential"
            and node.incoming.kind == "vector"
            and node.incoming.has_potential == "free"
        )

    def evaluate(self, at: At) -> Samples:
        if not self._uses_potential(at.node):
            return at.incoming().times(at.field(self.by))
        value = curl_of(self.potential(at, None).slope)
        return Samples(value, without_trace(at.node.differences(at.points, value)) if at.gradient else None)

    def has_potential(self, node: Any) -> Literal["none", "free", "gauged"]:
        return "free" if self._uses_potential(node) else "none"

    def potential(self, at: At, around: Framed | None) -> Samples:
        assert at.node.incoming is not None
        mask = at.node.scene.lane(self.by).evaluate(at.points, True)
        return at.node.incoming.potential(at.points, around).times(mask)
