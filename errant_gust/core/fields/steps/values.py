"""Changes: gain, limit, axes, remap, curl, gradient."""

from typing import Any, Literal

import numpy as np

from errant_gust.core.fields.samples import Array, At, Kind, Samples, scaled, size_of
from errant_gust.core.fields.step import Change, FieldStep
from errant_gust.core.fields.units import NUMBER, Unit, parse_unit, times
from errant_gust.core.geometry.placed import Framed
from errant_gust.core.study.parameters import Vec3, param


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


class ToScalar(FieldStep):
    """A change that makes a scalar from a vector."""

    family = "change"
    accepts = "vector"

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return "scalar"


class UnitLength(FieldStep):
    """The direction alone: every vector is made one long; near zero it fades so that it never jumps.

    v' = v / √(|v|² + ε²)
    """

    id = "unit_length"
    label = "Unit length"
    family = "change"
    accepts = "vector"
    yields = "directions only"
    mistake = "Where the field is nearly zero the direction is noise. Raise the floor until the swatch is calm there."
    headline = "floor"
    formula = "v' = v / √(|v|² + ε²)"

    floor: float = param(
        1e-3, unit="as the field", above=0, slider=(0.001, 1), help="Sizes below this count as none (ε)"
    )

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return "vector"

    def evaluate(self, at: At) -> Samples:
        v = at.incoming()
        q = (v.value * v.value).sum(axis=0) + np.float32(self.floor**2)
        dq = None if v.gradient is None else 2 * (v.gradient * v.value[:, None]).sum(axis=0)
        return v.times(Samples(q, dq).chain(1 / np.sqrt(q), -0.5 * q**-1.5))

    def unit_given(self, node: Any) -> Unit | None:
        return NUMBER


class Flip(Change):
    """The opposite: every value or vector times minus one."""

    id = "flip"
    label = "Flip sign"
    yields = "the opposite"
    mistake = "Flipping a distance swaps inside and outside for every step after it, also for Offset and Join shapes."
    formula = "f' = −f"

    def evaluate(self, at: At) -> Samples:
        return scaled(at.incoming(), -1)


class Magnitude(ToScalar):
    """How large the vector is."""

    id = "magnitude"
    label = "Magnitude"
    yields = "the size of the vector"
    mistake = (
        "The size is never negative and has no direction: it can be no velocity any more. It has a crease "
        "where the vector is zero."
    )
    formula = "f = |v|"

    def evaluate(self, at: At) -> Samples:
        return size_of(at.incoming())


class Component(ToScalar):
    """One component of the vector."""

    id = "component"
    label = "Component"
    yields = "one component of the vector"
    mistake = "The axes are those of the scene: after a Place that turns, x is no longer the field's own x."
    headline = "axis"
    formula = "f = v·e"

    axis: Literal["x", "y", "z"] = param("z", help="Which component")

    def evaluate(self, at: At) -> Samples:
        v, i = at.incoming(), "xyz".index(self.axis)
        return Samples(v.value[i].copy(), None if v.gradient is None else v.gradient[i].copy())
