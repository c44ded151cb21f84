"""Fields made from shapes: distance and mask shapes."""

from typing import Literal

import numpy as np

from errant_gust.core.fields.samples import At, Samples
from errant_gust.core.fields.step import ScalarStart
from errant_gust.core.study.parameters import ShapeId, ShapeIds, param


class Distance(ScalarStart):
    """Signed distance to a shape: negative inside, zero on the surface, growing by one metre a metre outside."""

    id = "distance"
    label = "Distance"
    yields = "metres to a shape, negative inside"
    headline = "shape"
    formula = "f = ± min |x − s|, s on the shape;  |∇f| = 1"
    unit = "m"

    shape: ShapeId = param(help="The shape to measure from")
    offset: float = param(0.0, unit="m", slider=(-1, 1), help="Makes the shape fatter (or thinner, if negative)")

    def evaluate(self, at: At) -> Samples:
        d, g, _ = at.node.scene.shape(self.shape).distance(at.points, 1 if at.gradient else 0)
        return Samples(d - np.float32(self.offset), g)


class MaskShape(ScalarStart):
    """1 inside the shapes, fading to 0 outside over the attenuation; several shapes add up.

    f = magnitude · Σ w(d / attenuation), w falling from 1 on the surface to 0 by `profile`.
    """

    id = "mask_shape"
    label = "Mask shape"
    yields = "where something acts, and how strongly"
    headline = "shapes"
    formula = "f = magnitude · Σ w(dᵢ / attenuation)"

    shapes: ShapeIds = param(help="Shapes that switch it on")
    magnitude: float = param(1.0, slider=(0, 2), help="Value inside")
    attenuation: float = param(0.5, unit="m", range=(0, 1e6), slider=(0, 5), help="How far outside it fades to nothing")
    profile: Literal["smooth", "linear"] = param("smooth", help="How it fades")

    def evaluate(self, at: At) -> Samples:
        total = Samples(np.zeros(at.n, np.float32), np.zeros((3, at.n), np.float32) if at.gradient else None)
        for id in self.shapes:
            d, g, _ = at.node.scene.shape(id).distance(at.points, 1 if at.gradient else 0)
            total = total.plus(self._fade(Samples(d, g)))
        return total

    def _fade(self, d: Samples) -> Samples:
        magnitude = np.float32(self.magnitude)
        if self.attenuation == 0:
            return d.chain(np.where(d.value <= 0, magnitude, np.float32(0)), np.zeros_like(d.value))
        a = np.float32(1 / self.attenuation)
        s = np.clip(d.value * a, 0, 1)
        fading = (d.value > 0) & (s < 1)
        if self.profile == "linear":
            return d.chain(magnitude * (1 - s), np.where(fading, -magnitude * a, np.float32(0)))
        w = 1 - s * s * s * (s * (6 * s - 15) + 10)
        return d.chain(magnitude * w, -magnitude * a * 30 * s * s * (s - 1) ** 2)
