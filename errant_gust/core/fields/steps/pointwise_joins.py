"""Joins with another lane: subtract, mix, replace, least, greatest, cross, dot, strongest, join of shapes."""

from typing import Any, ClassVar, Literal

import numpy as np

from errant_gust.core.fields.samples import At, Kind, Samples, chosen, cross, dot, scaled, size_of
from errant_gust.core.fields.step import Accepts, FieldStep
from errant_gust.core.fields.units import Unit, times
from errant_gust.core.study.parameters import FieldId, param


class Join(FieldStep):
    """A join with another lane of the same kind."""

    family = "join"
    accepts: ClassVar[Accepts] = "any"
    headline = "field"

    field: FieldId = param(help="The other lane")

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        assert incoming is not None
        if lanes["field"] != incoming:
            raise ValueError(f"{self.label} needs another {incoming} here, and this lane is a {lanes['field']}")
        return incoming

    def adds(self, node: Any) -> str:
        return self.field

    def unit_given(self, node: Any) -> Unit | None:
        known: Unit | None = node.incoming.unit
        return node.scene.lane(self.field).unit if known is None else known


class Subtract(Join):
    """Takes another lane of the same kind away."""

    id = "subtract"
    label = "Subtract"
    yields = "the difference"
    mistake = "Two lanes that evolve differently never cancel, even with the same seed: link their evolve rates."
    formula = "f' = f − g"

    def evaluate(self, at: At) -> Samples:
        return at.incoming().plus(scaled(at.field(self.field), -1))


class Mix(Join):
    """Blends with another lane: weight 0 keeps what comes in, 1 is the other; the weight may be a field.

    f' = f + w (g − f)
    """

    id = "mix"
    label = "Mix"
    yields = "a blend of both"
    mistake = "Halfway between two opposite streams there is none. Where two velocities should both act, use Add."
    formula = "f' = (1 − w) f + w g"

    weight: float = param(0.5, slider=(0, 1), varies=True, help="Share of the other lane")

    def evaluate(self, at: At) -> Samples:
        f = at.incoming()
        return f.plus(at.field(self.field).plus(scaled(f, -1)).times(at.number("weight")))


class Replace(Join):
    """The other lane where a mask is on: f' = f + m (g − f), with the mask held between 0 and 1."""

    id = "replace"
    label = "Replace"
    yields = "the other lane where a mask is on"
    mistake = (
        "A hard mask makes a seam with sources and sinks in it. Soften the mask, and make it divergence-free "
        "afterwards."
    )
    formula = "f' = f + m (g − f)"

    where: FieldId = param(help="A scalar lane: 1 takes the other lane, 0 keeps this one")

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        if lanes["where"] != "scalar":
            raise ValueError("the mask must be a scalar lane, and this one is a vector")
        return super().gives(incoming, lanes)

    def evaluate(self, at: At) -> Samples:
        m = at.field(self.where)
        m = m.chain(np.clip(m.value, 0, 1), ((m.value > 0) & (m.value < 1)).astype(np.float32))
        f = at.incoming()
        return f.plus(at.field(self.field).plus(scaled(f, -1)).times(m))


class ScalarJoin(Join):
    """A join of two scalars."""

    accepts = "scalar"


class Least(ScalarJoin):
    """The smaller of two values."""

    id = "least"
    label = "Least"
    yields = "the smaller of both"
    mistake = "It has a crease where the two are equal. For shapes, Join shapes rounds it."
    formula = "f' = min(f, g)"

    def evaluate(self, at: At) -> Samples:
        f, g = at.incoming(), at.field(self.field)
        return chosen(f.value <= g.value, f, g)


class Greatest(ScalarJoin):
    """The larger of two values."""

    id = "greatest"
    label = "Greatest"
    yields = "the larger of both"
    mistake = "Two masks joined by it keep the stronger; for overlap only, Multiply them instead."
    formula = "f' = max(f, g)"

    def evaluate(self, at: At) -> Samples:
        f, g = at.incoming(), at.field(self.field)
        return chosen(f.value >= g.value, f, g)


class VectorJoin(Join):
    """A join of two vectors."""

    accepts = "vector"


class Cross(VectorJoin):
    """The vector product: across both. A direction crossed with a normal lies in the surface."""

    id = "cross"
    label = "Cross"
    yields = "a vector across both"
    mistake = (
        "Where the two are parallel the product is zero, and its length changes with their angle. Unit length "
        "first gives an even speed."
    )
    formula = "v' = v × w"

    def evaluate(self, at: At) -> Samples:
        return cross(at.incoming(), at.field(self.field))

    def adds(self, node: Any) -> str:
        return ""

    def unit_given(self, node: Any) -> Unit | None:
        return times(node.incoming.unit, node.scene.lane(self.field).unit)


class Dot(VectorJoin):
    """The scalar product: how much one vector goes along the other."""

    id = "dot"
    label = "Dot"
    yields = "how much both agree, a scalar"
    mistake = "Two vectors with units multiply their units: use Unit length on one of them to read a share of speed."
    formula = "f = v · w"

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        super().gives(incoming, lanes)
        return "scalar"

    def evaluate(self, at: At) -> Samples:
        return dot(at.incoming(), at.field(self.field))

    def adds(self, node: Any) -> str:
        return ""

    def unit_given(self, node: Any) -> Unit | None:
        return times(node.incoming.unit, node.scene.lane(self.field).unit)


class Strongest(Join):
    """The stronger of two fields wins at every point: the larger vector, or the value farther from zero."""

    id = "strongest"
    label = "Strongest wins"
    yields = "the stronger of both"
    mistake = (
        "The border between the two is a seam; evolving fields make it flicker. Bring the two to like "
        "strengths, or use Mix."
    )
    formula = "f' = f if |f| ≥ |g| else g"

    def evaluate(self, at: At) -> Samples:
        f, g = at.incoming(), at.field(self.field)
        if f.value.ndim == 1:
            return chosen(np.abs(f.value) >= np.abs(g.value), f, g)
        return chosen(size_of(f).value >= size_of(g).value, f, g)


class JoinShapes(ScalarJoin):
    """Two distances as one shape: both together, what they share, or one cut out of the other.

    Sharp is min or max. Round and bevel blend within `width`: round by a quadratic (its slope stays continuous),
    bevel by a straight 45° face; both leave the distance untouched farther from the seam.
    """

    id = "join"
    label = "Join shapes"
    yields = "two distances as one shape"
    mistake = (
        "'Cut' takes the other lane out of this one, not the other way round. A seam wider than the parts "
        "melts them into one."
    )
    formula = "union min(f, g), common max(f, g), cut max(f, −g); round and bevel within the width"

    how: Literal["union", "common", "cut"] = param("union", help="Together, what both share, or the other cut out")
    seam: Literal["sharp", "round", "bevel"] = param("round", help="How they meet")
    width: float = param(
        0.2, unit="m", range=(0, None), slider=(0, 2), help="Size of the seam", when={"seam": ["round", "bevel"]}
    )

    def evaluate(self, at: At) -> Samples:
        f, g = at.incoming(), at.field(self.field)
        if self.how == "cut":
            g = scaled(g, -1)
        if self.how == "union":
            return self._least(f, g)
        return scaled(self._least(scaled(f, -1), scaled(g, -1)), -1)

    def _least(self, f: Samples, g: Samples) -> Samples:
        least = chosen(f.value <= g.value, f, g)
        if self.seam == "sharp" or self.width == 0:
            return least
        k = np.float32(self.width)
        if self.seam == "bevel":
            cut = scaled(f.plus(g), np.sqrt(0.5))
            cut = Samples(cut.value - k * np.float32(np.sqrt(0.5)), cut.gradient)
            return chosen(least.value <= cut.value, least, cut)
        apart = f.plus(scaled(g, -1))
        h = np.maximum(1 - np.abs(apart.value) / k, 0)
        return least.plus(apart.chain(-h * h * k * np.float32(0.25), 0.5 * h * np.sign(apart.value)))
