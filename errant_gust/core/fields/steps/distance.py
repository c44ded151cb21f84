"""Changes of signed distances: offset, roughen; and keep inside, which uses one."""

from typing import Any, Literal

import numpy as np

from errant_gust.core.fields.samples import At, Kind, Samples, dot, scaled, smooth_step
from errant_gust.core.fields.step import FieldStep, ScalarStart
from errant_gust.core.fields.steps.noise import Fractal
from errant_gust.core.study.parameters import ShapeId, param


class Offset(FieldStep):
    """Makes the shape fatter (or thinner, if negative) by moving its surface; holes narrower than twice that close."""

    id = "offset"
    label = "Offset"
    family = "change"
    accepts = "scalar"
    yields = "a fatter or thinner shape"
    mistake = (
        "A large negative offset makes thin parts vanish altogether. Look at the zero contour in a slice "
        "through the thinnest place."
    )
    headline = "by"
    formula = "d' = d − by;  as a shell |d| − by"

    by: float = param(0.1, unit="m", slider=(-1, 1), varies=True, help="How far the surface moves outward")
    shell: bool = param(False, help="Keep only a shell of this half thickness around the surface")

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return "scalar"

    def evaluate(self, at: At) -> Samples:
        d = at.incoming()
        if self.shell:
            d = d.chain(np.abs(d.value), np.sign(d.value))
        return d.plus(scaled(at.number("by"), -1))


class Roughen(Fractal):
    """Noise on the surface of a shape: the distance is changed by a noise, less and less away from the surface.

    d' = d − depth · n(x) · (1 − S(|d| / (4 depth)))
    """

    id = "roughen"
    own_first = True
    label = "Roughen"
    family = "change"
    accepts = "scalar"
    yields = "a shape with a rough surface"
    mistake = (
        "A depth larger than the feature size tears the surface into islands, and what comes out is no longer "
        "a distance. Keep the depth under half the feature size."
    )
    headline = "depth"
    formula = "d' = d − depth · n(x) · w(|d|)"

    depth: float = param(0.08, unit="m", above=0, slider=(0.01, 1), help="How deep and high the noise is")

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return "scalar"

    def evaluate(self, at: At) -> Samples:
        d = at.incoming()
        n = self._scalar(at, 0, self.depth / self._weight())
        reach = np.float32(4 * self.depth)
        s, slope = smooth_step(np.abs(d.value) / reach)
        w = d.chain(1 - s, -slope * np.sign(d.value) / reach)
        n = n if at.gradient else Samples(n.value)
        return d.plus(scaled(n.times(w), -1))


class KeepInside(FieldStep):
    """Nothing leaves a shape: near its wall the outward part of the flow is taken away, and what is outside is led
    back.

    v' = v − (1 − α) max(v·g, 0) g − back · min(d₊/reach, 1) g, with g = ∇d and α from 0 at the wall to 1 at the reach
    inside.
    """

    id = "keep_inside"
    label = "Keep inside"
    family = "change"
    accepts = "vector"
    yields = "a flow that stays in a shape"
    mistake = (
        "A reach wider than the shape is thick takes the whole flow away. Keep it below half of the narrowest place."
    )
    headline = "shape"
    kept_in = ("shape",)
    formula = "v' = v − (1−α) max(v·∇d, 0) ∇d − back · ∇d outside"

    shape: ShapeId = param(help="The shape to stay in")
    reach: float = param(0.4, unit="m", above=0, slider=(0.05, 5), help="How far from the wall it begins to turn")
    back: float = param(
        1.0, unit="m/s", range=(0, None), slider=(0, 5), help="Speed at which it leads back from outside"
    )

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return "vector"

    def feature(self) -> float:
        return self.reach

    def has_potential(self, node: Any) -> Literal["none", "free", "gauged"]:
        return "none"

    def evaluate(self, at: At) -> Samples:
        v = at.incoming()
        order = 2 if at.gradient else 1
        d, g, h6 = at.node.scene.shape(self.shape).distance(at.points, order)
        assert g is not None
        slope = None
        if at.gradient:
            assert h6 is not None
            xx, yy, zz, xy, xz, yz = h6
            slope = np.stack([np.stack([xx, xy, xz]), np.stack([xy, yy, yz]), np.stack([xz, yz, zz])])
        normal, depth = Samples(g, slope), Samples(d, g if at.gradient else None)
        inv = np.float32(1 / self.reach)
        a, da = smooth_step(-d * inv)
        rest = depth.chain(1 - a, da * inv)
        out = dot(v, normal)
        push = out.chain(np.maximum(out.value, 0), (out.value > 0).astype(np.float32)).times(rest)
        if self.back:
            b, db = smooth_step(d * inv)
            push = push.plus(scaled(depth.chain(b, db * inv), self.back))
        return v.plus(scaled(normal.times(push), -1))


class Distance(ScalarStart):
    """Signed distance to a shape: negative inside, zero on the surface, growing by one metre a metre outside."""

    id = "distance"
    label = "Distance"
    yields = "metres to a shape, negative inside"
    mistake = (
        "A mesh with holes has no clear inside: see the check, close it with Offset, or scale it to metres: "
        "files often come in centimetres."
    )
    headline = "shape"
    formula = "f = ± min |x − s|, s on the shape;  |∇f| = 1"
    unit = "m"

    shape: ShapeId = param(help="The shape to measure from")
    offset: float = param(0.0, unit="m", slider=(-1, 1), help="Makes the shape fatter (or thinner, if negative)")

    def evaluate(self, at: At) -> Samples:
        d, g, _ = at.node.scene.shape(self.shape).distance(at.points, 1 if at.gradient else 0)
        return Samples(d - np.float32(self.offset), g)
