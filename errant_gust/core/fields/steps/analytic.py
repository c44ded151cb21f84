"""Starts given by a formula of place and time: ramp, clock, vortex, radial."""

from typing import Any, Literal

import numpy as np

from errant_gust.core.fields.samples import Array, At, Samples, constant, cross, dot, scaled, smooth_step
from errant_gust.core.fields.step import ScalarStart, VectorStart
from errant_gust.core.geometry.placed import Framed
from errant_gust.core.study.parameters import Curve, Vec3, param
from errant_gust.core.study.profile import profile


class Ramp(ScalarStart):
    """Rises from one point to another and is the same across: a soft-edged plane; keyed points make it sweep.

    f = c(((x − a) · (b − a)) / |b − a|²), held beyond both points.
    """

    id = "ramp"
    label = "Ramp"
    yields = "0 to 1 from one point to another"
    mistake = (
        "Both points nearly in the same place make an edge harder than a voxel: aliasing. Keep the points a "
        "few voxels apart."
    )
    headline = "start"
    formula = "f = c((x − a)·(b − a) / |b − a|²)"

    start: Vec3 = param((-1, 0, 0), label="From", unit="m", help="Where it begins to rise")
    end: Vec3 = param((1, 0, 0), label="To", unit="m", help="Where it has risen")
    curve: Curve = param([(0.0, 0.0), (1.0, 1.0)], help="How it rises in between")

    def feature(self) -> float:
        return 0.25 * float(np.linalg.norm(np.subtract(self.end, self.start)))

    def evaluate(self, at: At) -> Samples:
        way = np.subtract(self.end, self.start)
        span = float(way @ way)
        if span == 0:
            raise ValueError("the two points of a ramp are the same")
        g = (way / span).astype(np.float32)
        s = g @ (at.points - np.array(self.start, np.float32)[:, None])
        value, slope, _ = profile(self.curve, s)
        gradient = np.broadcast_to(g[:, None], (3, at.n)) if at.gradient else None
        return Samples(s, gradient).chain(value, slope)


class Clock(ScalarStart):
    """Time as a field: the same everywhere, growing with the seconds since the first frame."""

    id = "clock"
    label = "Clock"
    yields = "the time, everywhere"
    mistake = (
        "Taken for a rate: the value itself grows without bound. Send it through Remap or a formula before it "
        "drives a strength."
    )
    headline = "rate"
    formula = "f = rate · t + offset"

    rate: float = param(1.0, unit="/s", slider=(-4, 4), rate=True, help="How fast it grows")
    offset: float = param(0.0, slider=(-10, 10), help="Value on the first frame")

    def evaluate(self, at: At) -> Samples:
        return constant(float(at.total("rate") + self.offset), at.n, at.gradient)


def unit(v: Vec3, what: str) -> Array:
    """The direction of a vector, float64; an error in words if it has none. (3,). Raises ValueError."""
    size = float(np.linalg.norm(v))
    if size == 0:
        raise ValueError(f"the {what} has no direction; right would be for example 0, 0, 1")
    return np.array(v, np.float64) / size


class Vortex(VectorStart):
    """A whirl about an axis with a core that turns like a solid, and a lift along the axis in the core.

    Lamb–Oseen: v = Γ/(2π r²) (1 − e^(−r²/a²)) n × ρ + lift e^(−r²/a²) n; free of divergence.
    """

    id = "vortex"
    label = "Vortex"
    yields = "a whirl about an axis"
    mistake = (
        "A tiny core with a large circulation is fastest at the core's edge, where it throws particles out of "
        "the picture. Widen the core first, then raise the circulation."
    )
    headline = "circulation"
    formula = "v = Γ/(2πr²) (1 − e^(−r²/a²)) n × ρ + lift e^(−r²/a²) n"
    unit = "m/s"

    centre: Vec3 = param((0, 0, 0), unit="m", help="A point on the axis")
    axis: Vec3 = param((0, 0, 1), help="Direction of the axis")
    core: float = param(0.5, unit="m", above=0, slider=(0.05, 5), help="Radius of the core")
    circulation: float = param(4.0, unit="m²/s", slider=(-40, 40), help="Strength; the speed far out is Γ / (2π r)")
    lift: float = param(0.0, unit="m/s", slider=(-10, 10), help="Speed along the axis in the middle")

    def feature(self) -> float:
        return self.core

    def _parts(self, at: At) -> tuple[Samples, Samples, Samples, Samples]:
        """n × ρ, r², G = (1 − e^(−r²/a²)) / r², e^(−r²/a²)."""
        n = unit(self.axis, "axis").astype(np.float32)
        p = at.points - np.array(self.centre, np.float32)[:, None]
        rho = p - n[:, None] * (n @ p)
        across = (np.eye(3) - np.outer(n, n)).astype(np.float32)
        offset = Samples(rho, np.broadcast_to(across[:, :, None], (3, 3, at.n)) if at.gradient else None)
        axis = constant((float(n[0]), float(n[1]), float(n[2])), at.n, at.gradient)
        q = dot(offset, offset)
        a2 = np.float32(self.core**2)
        e = np.exp(-q.value / a2)
        safe = np.maximum(q.value, np.float32(1e-4) * a2)
        near = q.value < 1e-2 * a2
        s = q.value / a2
        g = np.where(near, (1 - s / 2 + s * s / 6) / a2, (1 - e) / safe)
        dg = np.where(near, (-0.5 + s / 3) / a2**2, (e / a2 - (1 - e) / safe) / safe)
        return cross(axis, offset), q, q.chain(g, dg), q.chain(e, -e / a2)

    def evaluate(self, at: At) -> Samples:
        turn, _, g, e = self._parts(at)
        v = turn.times(scaled(g, self.circulation / (2 * np.pi)))
        if not self.lift:
            return v
        n = unit(self.axis, "axis")
        return v.plus(constant((float(n[0]), float(n[1]), float(n[2])), at.n, at.gradient).times(scaled(e, self.lift)))

    def has_potential(self, node: Any) -> Literal["none", "free", "gauged"]:
        return "free"

    def potential(self, at: At, around: Framed | None) -> Samples:
        from scipy.special import exp1

        wanted = At(at.node, at.points, True)
        turn, q, g, _ = self._parts(wanted)
        n = unit(self.axis, "axis")
        a2 = self.core**2
        safe = np.maximum(q.value.astype(np.float64), 1e-12 * a2)
        k = self.circulation / (4 * np.pi)
        h = q.chain((-k * (np.log(safe / a2) + exp1(safe / a2))).astype(np.float32), np.float32(-k) * g.value)
        swirl = constant((float(n[0]), float(n[1]), float(n[2])), at.n, True).times(h)
        return swirl.plus(turn.times(scaled(g, 0.5 * self.lift * a2))) if self.lift else swirl


class Radial(VectorStart):
    """Away from a point or toward it, fading with the distance.

    v = strength · w(d) · (x − c)/d: `smooth` ends at the reach, `inverse square` is a source (free of divergence
    outside its core), `even` is the same everywhere.
    """

    id = "radial"
    label = "Radial"
    yields = "away from a point, or toward it"
    mistake = (
        "It is all source or sink: what it carries thins out or gathers. Use it for a push, and add whirl or "
        "a divergence-free step for carrying."
    )
    headline = "strength"
    formula = "v = ± strength · w(|x − c| / reach) · (x − c)/|x − c|"
    unit = "m/s"

    centre: Vec3 = param((0, 0, 1), unit="m", help="The point")
    strength: float = param(
        1.0, unit="m/s", slider=(0, 10), help="Speed at the middle (at the reach for inverse square)"
    )
    way: Literal["outward", "inward"] = param("outward", label="Direction", help="Away from the point or toward it")
    falloff: Literal["smooth", "inverse square", "even"] = param("smooth", help="How it fades with the distance")
    reach: float = param(1.5, unit="m", above=0, slider=(0.1, 10), help="Where it has faded")

    def feature(self) -> float:
        return 0.3 * self.reach

    def evaluate(self, at: At) -> Samples:
        p = at.points - np.array(self.centre, np.float32)[:, None]
        eye = np.broadcast_to(np.eye(3, dtype=np.float32)[:, :, None], (3, 3, at.n)) if at.gradient else None
        offset = Samples(p, eye)
        q = dot(offset, offset)
        core = np.float32((0.05 * self.reach) ** 2)
        r2 = q.value + core
        inverse = q.chain(1 / np.sqrt(r2), -0.5 * r2**-1.5)
        k = self.strength * (1 if self.way == "outward" else -1)
        v = scaled(offset.times(inverse), k)
        if self.falloff == "even":
            return v
        if self.falloff == "inverse square":
            return v.times(q.chain(np.float32(self.reach**2) / r2, -np.float32(self.reach**2) / r2**2))
        d = np.sqrt(r2)
        w, slope = smooth_step(d / np.float32(self.reach))
        return v.times(q.chain(1 - w, -slope / np.float32(self.reach) * 0.5 / d))
