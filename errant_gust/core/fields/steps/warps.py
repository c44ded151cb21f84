"""Changes of place and time: warp, place, twist, retime."""

from typing import Any

import numpy as np

from errant_gust.core.fields.node import Node
from errant_gust.core.fields.samples import Array, At, Kind, Samples
from errant_gust.core.fields.step import Change
from errant_gust.core.study.parameters import FieldId, Vec3, param
from errant_gust.core.study.turns import rotation


def moved(at: At, points: Array, jacobian: Array | None, turn: Array | None = None) -> Samples:
    """The incoming field at other points y(x): f(y), and ∇f(y) · ∂y/∂x; vectors turned by `turn` (3, 3) or (3, 3,
    n)."""
    assert at.node.incoming is not None
    f = at.node.incoming.evaluate(np.ascontiguousarray(points, np.float32), at.gradient)
    if f.gradient is None or jacobian is None:
        return f if turn is None or f.value.ndim == 1 else Samples(_turned(turn, f.value))
    if f.value.ndim == 1:
        return Samples(f.value, np.einsum("an,ajn->jn", f.gradient, jacobian).astype(np.float32))
    slope = np.einsum("ian,ajn->ijn", f.gradient, jacobian).astype(np.float32)
    return Samples(f.value, slope) if turn is None else Samples(_turned(turn, f.value), _turned(turn, slope))


def _turned(turn: Array, v: Array) -> Array:
    subscripts = "ab,b...->a..." if turn.ndim == 2 else ("abn,bn->an" if v.ndim == 2 else "abn,bjn->ajn")
    return np.einsum(subscripts, turn, v).astype(np.float32)


class Warp(Change):
    """The field looked up at places pushed by a vector field: straight things become wavy.

    f'(x) = f(x − amount · w(x)); the pattern moves along w.
    """

    id = "warp"
    label = "Warp"
    yields = "the pattern pushed about by a vector field"
    mistake = (
        "Pushing by more than the size of the features folds the field over itself. Lower the amount or make "
        "the pushing field coarser."
    )
    headline = "by"
    formula = "f'(x) = f(x − amount · w(x))"

    by: FieldId = param(help="A vector lane that pushes")
    amount: float = param(0.3, unit="s", slider=(-2, 2), help="How far: metres for a vector of size 1")

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        assert incoming is not None
        if lanes["by"] != "vector":
            raise ValueError("a warp needs a vector lane, and this one is a scalar; take its gradient first")
        return incoming

    def evaluate(self, at: At) -> Samples:
        w, k = at.field(self.by), np.float32(self.amount)
        jacobian = None
        if w.gradient is not None:
            jacobian = np.eye(3, dtype=np.float32)[:, :, None] - k * w.gradient
        return moved(at, at.points - k * w.value, jacobian)


class Place(Change):
    """The whole field moved, turned and scaled; vectors turn with it.

    f'(x) = R f(Rᵀ (x − move) / scale)
    """

    id = "place"
    label = "Place"
    yields = "the field moved, turned, scaled"
    mistake = (
        "Scaled vectors keep their speed: a field twice as large takes twice as long to cross. Add Gain for the speed."
    )
    headline = "move"
    formula = "f'(x) = R f(Rᵀ(x − move)/scale)"

    move: Vec3 = param((0, 0, 0), unit="m", help="Where its origin goes")
    turn: Vec3 = param((0, 0, 0), unit="°", help="Rotation about x, then y, then z")
    scale: float = param(1.0, unit="×", above=0, slider=(0.1, 5), help="Larger patterns; values stay as they are")

    def evaluate(self, at: At) -> Samples:
        r = rotation(self.turn)
        back = (r.T / self.scale).astype(np.float32)
        points = back @ (at.points - np.array(self.move, np.float32)[:, None])
        jacobian = np.broadcast_to(back[:, :, None], (3, 3, at.n)) if at.gradient else None
        return moved(at, points, jacobian, r if any(self.turn) else None)


class Twist(Change):
    """The field wound about the z axis through a centre, more the higher up; vectors turn with it."""

    id = "twist"
    label = "Twist"
    yields = "the field wound about an axis"
    mistake = (
        "The rate counts per metre along z: a tall scene turns many times at the top. Lower the rate, or "
        "place the centre at the height that should stay."
    )
    headline = "rate"
    formula = "f'(x) = R(θ) f(R(−θ) x),  θ = rate · (z − z₀)"

    centre: Vec3 = param((0, 0, 0), unit="m", help="A point on the axis; nothing turns at its height")
    rate: float = param(45.0, unit="°/m", slider=(-360, 360), help="Turn for each metre up")

    def evaluate(self, at: At) -> Samples:
        c = np.array(self.centre, np.float32)[:, None]
        p = at.points - c
        k = np.float32(np.radians(self.rate))
        cos, sin = np.cos(k * p[2]), np.sin(k * p[2])
        x, y = cos * p[0] + sin * p[1], -sin * p[0] + cos * p[1]
        zero, one = np.zeros_like(cos), np.ones_like(cos)
        turn = np.stack([[cos, -sin, zero], [sin, cos, zero], [zero, zero, one]])
        jacobian = None
        if at.gradient:
            jacobian = np.stack([[cos, sin, k * y], [-sin, cos, -k * x], [zero, zero, one]])
        f = moved(at, np.stack([x, y, p[2]]) + c, jacobian, None)
        if f.value.ndim == 1:
            return f
        value = _turned(turn, f.value)
        if f.gradient is None:
            return Samples(value)
        slope = _turned(turn, f.gradient)
        slope[0, 2] -= k * value[1]  # the turn itself changes with height
        slope[1, 2] += k * value[0]
        return Samples(value, slope)


class Retime(Change):
    """The field at another time: sooner, later, faster, slower, stopped, or backwards."""

    id = "retime"
    label = "Retime"
    yields = "the field at another time"
    mistake = (
        "A speed of 0 freezes what comes before it, also keyed strengths. Put it directly after the start "
        "that should stand still."
    )
    headline = "speed"
    formula = "f'(x, t) = f(x, speed · t + shift)"

    speed: float = param(1.0, unit="×", slider=(-2, 4), rate=True, help="0 stops it, 2 is twice as fast, −1 backwards")
    shift: float = param(0.0, unit="s", slider=(-5, 5), help="Ahead (positive) or behind")

    def evaluate(self, at: At) -> Samples:
        return self._before(at.node).evaluate(at.points, at.gradient)

    def _before(self, node: Node) -> Node:
        when = float(node.totals["speed"] + self.shift)
        before: Node = node.kept("before", lambda: node.before_at(when))
        return before

    def prepare(self, node: Node, cancel: Any = None) -> None:
        self._before(node).prepare(cancel)
