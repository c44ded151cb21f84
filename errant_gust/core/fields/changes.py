"""Changes: gain, limit, axes, remap, curl, gradient."""

from typing import Any, Literal

import numpy as np

from errant_gust.core.fields.analytic import unit
from errant_gust.core.fields.samples import Array, At, Kind, Samples, curl_of, scaled
from errant_gust.core.fields.step import Change, FieldStep
from errant_gust.core.fields.units import METRE, NUMBER, Unit, over, parse_unit, times
from errant_gust.core.geometry.placed import Framed
from errant_gust.core.study.parameters import Curve, Range, Vec3, param
from errant_gust.core.study.profile import profile


class Gain(Change):
    """Multiplies the field by a number or by a scalar field."""

    id = "gain"
    label = "Gain"
    yields = "the same, stronger or weaker"
    mistake = (
        "Used to mask: a field as factor that is not 0 where nothing should happen leaves a remainder. Look "
        "at the coverage, and use Mask where divergence matters."
    )
    headline = "factor"
    formula = "f' = factor · f"

    factor: float = param(1.0, unit="×", slider=(0, 4), varies=True, help="1 leaves it as it is, 0 switches it off")
    in_unit: str = param(
        "",
        label="Unit of the factor",
        help="For example 1/s, which turns metres into metres a second; none for a number",
    )

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        parse_unit(self.in_unit)
        return super().gives(incoming, lanes)

    def unit_given(self, node: Any) -> Unit | None:
        lane = node.varying.get("factor")
        factor = node.scene.lane(lane).unit if lane else NUMBER
        return times(times(node.incoming.unit, factor or NUMBER), parse_unit(self.in_unit))

    def evaluate(self, at: At) -> Samples:
        return at.incoming().times(at.number("factor"))

    def has_potential(self, node: Any) -> Literal["none", "free", "gauged"]:
        return "none" if "factor" in node.varying else node.incoming.has_potential

    def potential(self, at: At, around: Framed | None) -> Samples:
        incoming = at.node.incoming
        assert incoming is not None
        p = incoming.potential(at.points, around)
        k = np.float32(self.factor)
        return Samples(p.value * k, p.slope * k)


class Limit(FieldStep):
    """Keeps the size of a vector (or the value of a scalar) below a limit, bending over softly before it.

    With softness s the limit is approached as L · tanh-like: m' = m below L(1 − s), then an exponential approach to L.
    """

    id = "limit"
    label = "Limit"
    family = "change"
    accepts = "any"
    yields = "the same, never larger than the limit"
    mistake = (
        "Set below the speeds that matter it makes everything equally fast and the motion looks mechanical. "
        "Read the range first; limit only the peaks."
    )
    headline = "most"
    formula = "m' = m for m ≤ a;  a + (L − a)(1 − e^(−(m − a)/(L − a))) above, a = L (1 − soft)"

    most: float = param(2.0, unit="as the field", above=0, slider=(0, 20), help="Largest size that comes out")
    soft: float = param(0.5, range=(0, 1), help="0 cuts hard; 1 bends from the beginning")

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        assert incoming is not None
        return incoming

    def _bend(self, m: Array) -> tuple[Array, Array]:
        """Limited size and its slope."""
        limit = np.float32(self.most)
        a = limit * np.float32(1 - self.soft)
        room = limit - a
        if room <= 1e-6 * limit:
            return np.minimum(m, limit), (m < limit).astype(np.float32)
        over = np.exp(-np.maximum(m - a, 0) / room)
        return np.where(m <= a, m, a + room * (1 - over)), np.where(m <= a, np.float32(1), over)

    def evaluate(self, at: At) -> Samples:
        f = at.incoming()
        if f.value.ndim == 1:
            m, slope = self._bend(np.abs(f.value))
            return f.chain(np.copysign(m, f.value), slope)
        m = np.sqrt((f.value * f.value).sum(axis=0))
        safe = np.maximum(m, np.float32(1e-20))
        bent, slope = self._bend(m)
        factor = bent / safe
        if f.gradient is None:
            return Samples(f.value * factor)
        # d(factor) = (slope - factor) / m · dm,  dm = v·∇v / m
        dm = np.einsum("in,ijn->jn", f.value / safe, f.gradient)
        return f.times(Samples(factor, (slope - factor) / safe * dm))


class Axes(FieldStep):
    """Scales each axis of a vector; 0 drops an axis, so that motion stays on the ground."""

    id = "axes"
    label = "Axes"
    family = "change"
    accepts = "vector"
    yields = "the vector with axes scaled or dropped"
    mistake = (
        "Dropping an axis of a curl noise brings sources and sinks back. Curl noise with 'In plane' stays on "
        "the ground without them."
    )
    headline = "scale"
    formula = "v' = (sₓ vₓ, s_y v_y, s_z v_z)"

    scale: Vec3 = param((1, 1, 0), unit="×", help="Factor along x, y and z")

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return "vector"

    def evaluate(self, at: At) -> Samples:
        f = at.incoming()
        s = np.array(self.scale, np.float32)
        return Samples(f.value * s[:, None], None if f.gradient is None else f.gradient * s[:, None, None])


class Remap(FieldStep):
    """Values sent through a curve, from one range to another: a noise into a band of temperatures, a soft mask.

    f' = b₀ + (b₁ − b₀) · c((f − a₀) / (a₁ − a₀)), the curve c being monotone between its points (Fritsch and
    Carlson 1980).
    """

    id = "remap"
    label = "Remap"
    family = "change"
    accepts = "scalar"
    yields = "the same pattern in the range you choose"
    mistake = (
        "The 'from' range is left at 0 to 1 while the noise runs from −1 to 1, and half of it is cut off. Fit "
        "it to the histogram of what comes in."
    )
    headline = "to_range"
    formula = "f' = b₀ + (b₁ − b₀) c((f − a₀)/(a₁ − a₀))"

    from_range: Range = param((-1.0, 1.0), label="From", help="Incoming values at the two ends of the curve")
    to_range: Range = param((0.0, 1.0), label="To", unit="as the field", help="Values that come out there")
    curve: Curve = param([(0.0, 0.0), (1.0, 1.0)], help="Contrast: steeper in the middle gives harder patches")
    clamp: bool = param(True, help="Hold the end values outside the range")

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return "scalar"

    def evaluate(self, at: At) -> Samples:
        f = at.incoming()
        a0, a1 = self.from_range
        b0, b1 = self.to_range
        s = (f.value - np.float32(a0)) / np.float32(a1 - a0)
        c, dc, _ = profile(self.curve, s, hold=self.clamp)
        span = np.float32(b1 - b0)
        return f.chain(np.float32(b0) + span * c, dc * span / np.float32(a1 - a0))

    def unit_given(self, node: Any) -> Unit | None:
        return None


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
        return Samples(value, at.node.differences(at.points) if at.gradient else None)

    def has_potential(self, node: Any) -> Literal["none", "free", "gauged"]:
        return "free"

    def potential(self, at: At, around: Framed | None) -> Samples:
        return scaled(self._vector(at), self.strength)

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
        return Samples(value, at.node.differences(at.points) if at.gradient else None)

    def unit_given(self, node: Any) -> Unit | None:
        return over(node.incoming.unit, METRE)
