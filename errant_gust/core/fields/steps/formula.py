"""Formula: one expression in ordinary arithmetic, parsed to a whitelist and never executed as code.

The text goes through Python's own parser into a tree of which only numbers, names, arithmetic and a few functions are
taken; values and gradients are computed together on that tree (forward differentiation).
"""

import ast
from typing import Any

import numpy as np

from errant_gust.core.fields.expression import BIG, Broken, _Evaluation, parse
from errant_gust.core.fields.samples import At, Kind, Samples, constant
from errant_gust.core.fields.step import FieldStep
from errant_gust.core.fields.units import Unit
from errant_gust.core.study.parameters import FieldId, param

LANES = ("a", "b", "c", "d")


class Formula(FieldStep):
    """One expression in ordinary arithmetic; three separated by commas make a vector.

    Names: f is what comes in (fx, fy, fz if it is a vector); a, b, c, d are other lanes (ax, ay, az … if vectors); x
    y z in metres, t in seconds, pi. Functions: sin cos exp log sqrt abs min max clip where; a < b is 1 or 0. Nothing
    is ever infinite: a division by zero gives a very large number, the logarithm and root of a negative number those
    of zero.
    """

    id = "formula"
    label = "Formula"
    family = "join"
    accepts = "any"
    yields = "whatever you write"
    mistake = (
        "A scalar where a vector is meant gives one value only: three expressions separated by commas make a vector."
    )
    headline = "expression"
    formula = "f' = expression(f, a, b, c, d, x, y, z, t)"

    expression: str = param("f", help="For example sin(4*x) * f, or 0 - fy, fx, 0 for a vector")
    a: FieldId = param("", help="A lane used as a", optional=True)
    b: FieldId = param("", help="A lane used as b", optional=True)
    c: FieldId = param("", help="A lane used as c", optional=True)
    d: FieldId = param("", help="A lane used as d", optional=True)

    def _names(self, incoming: Kind | None, lanes: dict[str, Kind]) -> frozenset[str]:
        names = {"x", "y", "z", "t", "pi"}
        for name, kind in {"f": incoming, **{n: lanes[n] for n in LANES if n in lanes}}.items():
            names |= {name} if kind == "scalar" else {f"{name}{axis}" for axis in "xyz"}
        return frozenset(names)

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        parts = parse(self.expression, self._names(incoming, lanes))
        if len(parts) not in (1, 3):
            raise Broken(f"has {len(parts)} parts; right would be one for a scalar or three for a vector")
        return "scalar" if len(parts) == 1 else "vector"

    @property
    def changes_with_time(self) -> bool:
        return "t" in self.expression.replace("sqrt", "")

    def evaluate(self, at: At) -> Samples:
        assert at.node.incoming is not None
        lanes = {name: at.node.scene.lane(id).kind for name in LANES if (id := getattr(self, name))}
        parts = parse(self.expression, self._names(at.node.incoming.kind, lanes))
        values = {"t": constant(at.time, at.n, at.gradient), "pi": constant(np.pi, at.n, at.gradient)}
        for i, axis in enumerate("xyz"):
            slope = None
            if at.gradient:
                slope = np.zeros((3, at.n), np.float32)
                slope[i] = 1
            values[axis] = Samples(at.points[i], slope)
        used = {node.id for part in parts for node in ast.walk(part) if isinstance(node, ast.Name)}
        for name in ("f", *lanes):
            if any(u[0] == name and u not in ("pi",) and len(u) <= 2 for u in used):
                f = at.incoming() if name == "f" else at.field(getattr(self, name))
                if f.value.ndim == 1:
                    values[name] = f
                else:
                    for i, axis in enumerate("xyz"):
                        values[name + axis] = Samples(f.value[i], None if f.gradient is None else f.gradient[i])
        made = [_Evaluation(values, at.n, at.gradient).of(part) for part in parts]
        made = [
            Samples(
                np.nan_to_num(np.clip(m.value, -BIG, BIG)), None if m.gradient is None else np.nan_to_num(m.gradient)
            )
            for m in made
        ]
        if len(made) == 1:
            return made[0]
        value = np.stack([m.value for m in made])
        return Samples(value, np.stack([m.slope for m in made]) if at.gradient else None)

    def unit_given(self, node: Any) -> Unit | None:
        return None
