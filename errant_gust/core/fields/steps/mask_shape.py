"""Fields made from shapes: distance and mask shapes."""

from typing import Any, Literal

import numpy as np

from errant_gust.core.fields.samples import At, Kind, Samples, chosen, smooth_step
from errant_gust.core.fields.steps.noise import Fractal
from errant_gust.core.fields.units import NUMBER, Unit
from errant_gust.core.study.parameters import ShapeIds, param


class MaskShape(Fractal):
    """1 inside the shapes, fading to 0 outside over a distance; several shapes add up, or the strongest wins.

    f = strength · Σ w(d / fade over), w falling from 1 on the surface to 0 by `profile`. `which one` gives the
    number of the strongest shape (1 for the first in the list, 0 for none); noise may break the borders.
    """

    id = "mask_shape"
    own_first = True
    label = "Mask shape"
    family = "start"
    yields = "where something acts, and how strongly"
    mistake = (
        "Fade over counts outward from the surface: with 0 the edge is hard and aliases. Several shapes "
        "that add up exceed 1 where they overlap."
    )
    headline = "shapes"
    formula = "f = strength · Σ w(dᵢ / fade over)"

    shapes: ShapeIds = param(help="Shapes that switch it on")
    strength: float = param(1.0, slider=(0, 2), help="Value inside")
    fade_over: float = param(0.5, unit="m", range=(0, 1e6), slider=(0, 5), help="How far outside it fades to nothing")
    profile: Literal["smooth", "linear"] = param("smooth", help="How it fades")
    several: Literal["add up", "strongest wins", "which one"] = param(
        "add up", label="Several shapes", help="Their sum, the largest, or the number of the strongest (0 is none)"
    )
    threshold: float = param(
        0.02, range=(0, 1), help="A shape weaker than this counts as none", when={"several": ["which one"]}
    )
    ragged: float = param(
        0.0, unit="m", range=(0, None), slider=(0, 1), label="Ragged border", help="Noise on the borders"
    )

    def feature(self) -> float | None:  # type: ignore[override]
        sizes = [Fractal.feature(self)] if self.ragged else []
        return min([*sizes, self.fade_over], default=None) or None

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return "scalar"

    def evaluate(self, at: At) -> Samples:
        masks = [self._fade(self._distance(at, id, i)) for i, id in enumerate(self.shapes)]
        zero = Samples(np.zeros(at.n, np.float32), np.zeros((3, at.n), np.float32) if at.gradient else None)
        if not masks:
            return zero
        if self.several == "which one":
            strength = np.stack([m.value for m in masks])
            best = strength.argmax(axis=0)
            least = np.float32(max(self.threshold * self.strength, 1e-6))
            return Samples(np.where(strength.max(axis=0) >= least, best + 1, 0).astype(np.float32), zero.gradient)
        total = masks[0]
        for mask in masks[1:]:
            adds = self.several == "add up"
            total = total.plus(mask) if adds else chosen(total.value >= mask.value, total, mask)
        return total

    def _distance(self, at: At, id: str, number: int) -> Samples:
        d, g, _ = at.node.scene.shape(id).distance(at.points, 1 if at.gradient else 0)
        made = Samples(d, g)
        if self.ragged:
            noise = self._scalar(at, number % 3, self.ragged / self._weight())
            made = made.plus(noise if at.gradient else Samples(noise.value))
        return made

    def _fade(self, d: Samples) -> Samples:
        strength = np.float32(self.strength)
        if self.fade_over == 0:
            return d.chain(np.where(d.value <= 0, strength, np.float32(0)), np.zeros_like(d.value))
        a = np.float32(1 / self.fade_over)
        s = np.clip(d.value * a, 0, 1)
        fading = (d.value > 0) & (s < 1)
        if self.profile == "linear":
            return d.chain(strength * (1 - s), np.where(fading, -strength * a, np.float32(0)))
        w, slope = smooth_step(s)
        return d.chain(strength * (1 - w), np.where(fading, -strength * a * slope, np.float32(0)))

    def unit_given(self, node: Any) -> Unit | None:
        return NUMBER
