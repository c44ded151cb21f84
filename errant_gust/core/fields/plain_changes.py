"""Plain changes: unit length, threshold, flip, invert, magnitude, component, divergence, fade."""

from typing import Any, Literal

import numpy as np

from errant_gust.core.fields.samples import At, Kind, Samples, constant, scaled, size_of, smooth_step
from errant_gust.core.fields.step import Change, FieldStep
from errant_gust.core.fields.units import METRE, NUMBER, Unit, over
from errant_gust.core.study.parameters import param


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


class Threshold(FieldStep):
    """1 where the value is above a level, 0 below: breaks something continuous into patches.

    f' = S((f − level) / soft + ½), S the quintic step; with softness 0 a hard edge.
    """

    id = "threshold"
    label = "Threshold"
    family = "change"
    accepts = "scalar"
    yields = "1 above a level, 0 below"
    mistake = (
        "Without a soft edge the mask has a step that no gradient sees: curls and steers show it as a seam. A "
        "soft edge of a tenth of the range is enough."
    )
    headline = "level"
    formula = "f' = S((f − level)/soft + ½)"

    level: float = param(0.0, unit="as the field", slider=(-1, 1), varies=True, help="Where it switches")
    soft: float = param(0.1, unit="as the field", range=(0, None), slider=(0, 1), help="Width of the edge, in values")
    keep: Literal["1", "the value"] = param("1", help="What is above the level: 1, or the value itself")

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return "scalar"

    def evaluate(self, at: At) -> Samples:
        f = at.incoming()
        level = at.number("level")
        over = f.plus(scaled(level, -1))
        if self.soft == 0:
            on = over.chain((over.value > 0).astype(np.float32), np.zeros_like(over.value))
        else:
            value, slope = smooth_step(over.value / np.float32(self.soft) + np.float32(0.5))
            on = over.chain(value, slope / np.float32(self.soft))
        return on if self.keep == "1" else f.times(on)

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


class Invert(FieldStep):
    """One minus the value: a mask turned inside out."""

    id = "invert"
    label = "Invert"
    family = "change"
    accepts = "scalar"
    yields = "the mask turned inside out"
    mistake = "It is meant for values from 0 to 1: a signed noise inverted runs from 0 to 2. Remap it to 0 … 1 first."
    formula = "f' = 1 − f"

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return "scalar"

    def evaluate(self, at: At) -> Samples:
        f = scaled(at.incoming(), -1)
        return Samples(f.value + np.float32(1), f.gradient)


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
        return Samples(value, at.node.differences(at.points) if at.gradient else None)

    def unit_given(self, node: Any) -> Unit | None:
        return over(node.incoming.unit, METRE)


class Fade(Change):
    """Switched on and off over time: rises from the begin, falls before the end.

    f' = f · S((t − begin)/rise) · (1 − S((t − end + fall)/fall))
    """

    id = "fade"
    label = "Fade"
    yields = "the field for a span of time"
    mistake = (
        "Times count in seconds from the first frame, not in frames. At the very first frame a rise leaves "
        "nothing to see."
    )
    headline = "begin"
    formula = "f' = f · w(t)"

    begin: float = param(0.0, unit="s", moment=True, slider=(0, 10), help="When it starts to rise")
    rise: float = param(0.5, unit="s", range=(0, None), slider=(0, 5), help="Time to rise")
    end: float = param(1e4, unit="s", moment=True, slider=(0, 20), help="When it has ended")
    fall: float = param(0.5, unit="s", range=(0, None), slider=(0, 5), help="Time to fall before the end")

    def weight(self, time: float) -> float:
        up = (
            float(time >= self.begin)
            if self.rise == 0
            else float(smooth_step(np.array((time - self.begin) / self.rise))[0])
        )
        if self.fall == 0:
            return up * float(time < self.end)
        return up * (1 - float(smooth_step(np.array((time - self.end + self.fall) / self.fall))[0]))

    @property
    def changes_with_time(self) -> bool:
        return True

    def evaluate(self, at: At) -> Samples:
        w = self.weight(at.time)
        if w == 0:
            return constant((0.0, 0.0, 0.0) if at.kind == "vector" else 0.0, at.n, at.gradient)
        return scaled(at.incoming(), w)
