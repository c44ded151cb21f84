"""Changes of range: remap, threshold, invert, fade."""

from typing import Any, Literal

import numpy as np

from errant_gust.core.fields.samples import At, Kind, Samples, constant, scaled, smooth_step
from errant_gust.core.fields.step import Change, FieldStep
from errant_gust.core.fields.units import NUMBER, Unit
from errant_gust.core.study.parameters import Curve, Range, param
from errant_gust.core.study.profile import profile


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
        """How much of the field there is at a time in s, 0 to 1."""
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
