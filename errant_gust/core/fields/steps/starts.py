"""Plain starts: a constant, a wind, another lane."""

from typing import Any, Literal

import numpy as np

from errant_gust.core.fields.samples import At, Kind, Samples, constant
from errant_gust.core.fields.step import FieldStep, VectorStart
from errant_gust.core.fields.units import Unit
from errant_gust.core.geometry.placed import Framed
from errant_gust.core.study.parameters import FieldId, Vec3, param


class Constant(FieldStep):
    """The same value everywhere: the first thing to try when proving that something obeys a field."""

    id = "constant"
    label = "Constant"
    family = "start"
    yields = "one value everywhere"
    mistake = "Left in place after the test: everything still drifts along x. Switch it off rather than down."
    headline = "vector"
    formula = "f = value"

    makes: Literal["scalar", "vector"] = param("vector", help="A number or a direction with a size")
    value: float = param(1.0, slider=(-10, 10), help="The number", when={"makes": ["scalar"]})
    vector: Vec3 = param((1, 0, 0), unit="m/s", help="The vector along x, y, z", when={"makes": ["vector"]})

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return self.makes

    def evaluate(self, at: At) -> Samples:
        return constant(self.vector if self.makes == "vector" else self.value, at.n, at.gradient)

    def has_potential(self, node: Any) -> Literal["none", "free", "gauged"]:
        return "gauged" if self.makes == "vector" else "none"

    def potential(self, at: At, around: Framed | None) -> Samples:
        return uniform_potential(self.vector, at, around)


class Wind(VectorStart):
    """A steady stream with gusts that rise and fall with the time.

    v = direction · speed · (1 + gust · g(t)), with g a sum of two sines that never repeats exactly.
    """

    id = "wind"
    label = "Wind"
    yields = "a stream in one direction, with gusts"
    mistake = (
        "'Toward' says where it goes, not where it comes from. A gust share of 1 stops the wind altogether "
        "between gusts."
    )
    headline = "speed"
    formula = "v = d̂ · speed · (1 + gust · g(t / period))"
    unit = "m/s"

    toward: float = param(0.0, unit="°", range=(-360, 360), help="Where it blows to: 0° is along x, 90° along y")
    climb: float = param(0.0, unit="°", range=(-90, 90), help="Upward (or downward) angle")
    speed: float = param(1.5, unit="m/s", range=(0, 500), slider=(0, 20), varies=True, help="Mean speed")
    gust: float = param(0.0, range=(0, 1), help="How much the speed swings, as a share of it")
    period: float = param(3.0, unit="s", above=0, slider=(0.2, 20), help="Time from gust to gust")

    @property
    def changes_with_time(self) -> bool:
        return self.gust > 0

    def velocity(self, at: At) -> Vec3:
        """The wind at the time of the points, in m/s."""
        a, c = np.radians(self.toward), np.radians(self.climb)
        s = 1.0 + self.gust * self._swing(at.time)
        return (float(s * np.cos(a) * np.cos(c)), float(s * np.sin(a) * np.cos(c)), float(s * np.sin(c)))

    def _swing(self, time: float) -> float:
        p = 2 * np.pi * time / self.period
        return float(0.62 * np.sin(p) + 0.38 * np.sin(2.618 * p + 1.3))

    def evaluate(self, at: At) -> Samples:
        return constant(self.velocity(at), at.n, at.gradient).times(at.number("speed"))

    def has_potential(self, node: Any) -> Literal["none", "free", "gauged"]:
        return "none" if "speed" in node.varying else "gauged"

    def potential(self, at: At, around: Framed | None) -> Samples:
        x, y, z = self.velocity(at)
        return uniform_potential((x * self.speed, y * self.speed, z * self.speed), at, around)


def uniform_potential(velocity: Vec3, at: At, around: Framed | None) -> Samples:
    """A linear potential ψ = M (x - c) whose curl is a uniform velocity, small on the surface of the shape.

    Along each axis of the shape's frame the curl can be made from two components in any proportion; the proportion
    that keeps ψ small over the shape's extents parts the flow round the narrow way (a tall tower is passed sideways).
    """
    centre, half, turned = (np.zeros(3), np.ones(3), np.eye(3)) if around is None else around.frame
    u = turned.T @ np.array(velocity)
    e2 = np.maximum(half, 1e-6) ** 2
    m = np.zeros((3, 3))
    for i in range(3):
        j, k = (i + 1) % 3, (i + 2) % 3
        share = e2[j] / (e2[j] + e2[k])
        m[j, k] -= u[i] * share
        m[k, j] += u[i] * (1 - share)
    m = (turned @ m @ turned.T).astype(np.float32)
    away = at.points - centre.astype(np.float32)[:, None]
    return Samples(m @ away, np.broadcast_to(m[:, :, None], (3, 3, at.n)))


class UseField(FieldStep):
    """Begins with what another lane makes, so that several lanes can branch from one."""

    id = "use_field"
    label = "Use field"
    family = "start"
    yields = "the result of another lane"
    mistake = (
        "It reads the whole lane, with its last step. To branch earlier, wrap the first steps into a lane of their own."
    )
    headline = "field"
    formula = "f = other lane"

    field: FieldId = param(help="The lane to begin with")

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return lanes["field"]

    def evaluate(self, at: At) -> Samples:
        return at.field(self.field)

    def has_potential(self, node: Any) -> Literal["none", "free", "gauged"]:
        lane = node.scene.lane(self.field)
        return lane.has_potential

    def potential(self, at: At, around: Framed | None) -> Samples:
        return at.node.scene.lane(self.field).potential(at.points, around)

    def unit_given(self, node: Any) -> Unit | None:
        found: Unit | None = node.scene.lane(self.field).unit
        return found
