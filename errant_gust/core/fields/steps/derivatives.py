"""Derivatives of what comes in: curl, gradient, divergence."""

from typing import Any, Literal

import numpy as np

from errant_gust.core.fields.samples import At, Kind, Samples, curl_of, scaled, without_trace
from errant_gust.core.fields.step import FieldStep
from errant_gust.core.fields.steps.analytic import unit
from errant_gust.core.fields.steps.values import ToScalar
from errant_gust.core.fields.units import METRE, Unit, over
from errant_gust.core.geometry.placed import Framed
from errant_gust.core.study.parameters import Vec3, param


class Curl(FieldStep):
    """The curl of any vector field, from its exact gradient: what comes out has no sources or sinks.

    A scalar gives a swirl in a plane, v' = ∇f × n. The gradient of the result needs second derivatives and is taken
    by differences of exact values.
    """

    id = "curl"
    label = "Curl"
    family = "change"
    accepts = "any"
    yields = "swirl without sources or sinks"
    mistake = (
        "The curl of a scalar or of a field that is even everywhere is zero. It has the unit of the input "
        "divided by metres: expect other strengths."
    )
    headline = "strength"
    formula = "v' = strength · ∇ × v;  of a scalar strength · ∇f × n"

    strength: float = param(1.0, unit="m", slider=(0, 10), help="Multiplies the curl, which is the field per metre")
    normal: Vec3 = param((0, 0, 1), help="Of a scalar: the direction across the plane of the swirl")

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return "vector"

    def evaluate(self, at: At) -> Samples:
        value = np.float32(self.strength) * curl_of(self._vector(at).slope)
        return Samples(value, without_trace(at.node.differences(at.points, value)) if at.gradient else None)

    def has_potential(self, node: Any) -> Literal["none", "free", "gauged"]:
        return "free"

    def potential(self, at: At, around: Framed | None) -> Samples:
        return scaled(self._vector(at), self.strength)

    def remark(self, node: Any) -> str:
        """Whether what comes in lies in a plane: its curl stands across that."""
        before = node.incoming
        while before is not None and before.step.id in ("gain", "limit", "mask"):
            before = before.incoming
        scale = getattr(before.step, "scale", None) if before is not None and before.step.id == "axes" else None
        dropped = [axis for axis, factor in zip("xyz", scale or (), strict=False) if factor == 0]
        if len(dropped) != 1:
            return ""
        return f"leaves the plane: what comes in has no {dropped[0]}, what goes out has"

    def _vector(self, at: At) -> Samples:
        """What comes in as a vector: a scalar stands along the normal."""
        f = at.incoming(gradient=True)
        if f.value.ndim == 2:
            return f
        n = unit(self.normal, "normal").astype(np.float32)
        return Samples(n[:, None] * f.value, n[:, None, None] * f.slope)

    def unit_given(self, node: Any) -> Unit | None:
        return over(node.incoming.unit, METRE)


class Gradient(FieldStep):
    """The direction of steepest rise of a scalar and how steep it is; of a distance it points straight outward.

    The gradient of the result needs second derivatives and is taken by differences of exact values.
    """

    id = "gradient"
    label = "Gradient"
    family = "change"
    accepts = "scalar"
    yields = "vectors up the slope of a scalar"
    mistake = (
        "A gradient gathers or spreads: particles carried by it pile up at the peaks. For a distance it "
        "points outward; Flip sign holds things at the surface."
    )
    headline = "strength"
    formula = "v = strength · ∇f"

    strength: float = param(1.0, slider=(-10, 10), help="Negative turns it inward")

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return "vector"

    def evaluate(self, at: At) -> Samples:
        value = np.float32(self.strength) * at.incoming(gradient=True).slope
        return Samples(value, at.node.differences(at.points, value) if at.gradient else None)

    def unit_given(self, node: Any) -> Unit | None:
        return over(node.incoming.unit, METRE)


class Divergence(ToScalar):
    """Where the vector field has sources (positive) and sinks (negative), from exact derivatives.

    The gradient of the result is taken by differences of exact values.
    """

    id = "divergence"
    label = "Divergence"
    yields = "sources and sinks of the vector"
    mistake = "A reading, seldom a field to carry with: its unit is 1/s, and it is zero for everything made by Curl."
    formula = "f = ∇ · v"

    def evaluate(self, at: At) -> Samples:
        g = at.incoming(gradient=True).slope
        value = g[0, 0] + g[1, 1] + g[2, 2]
        return Samples(value, at.node.differences(at.points, value) if at.gradient else None)

    def unit_given(self, node: Any) -> Unit | None:
        return over(node.incoming.unit, METRE)
