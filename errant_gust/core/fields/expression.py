"""Formulas: ordinary arithmetic over named values, parsed to a whitelist and never executed as code."""

import ast
from collections.abc import Callable
from functools import lru_cache
from typing import Any

import numpy as np

from errant_gust.core.errors import nearest
from errant_gust.core.fields.samples import Array, Samples, constant

MOST_CHARACTERS = 600


MOST_PARTS = 200


BIG = 1e30


TINY = np.float32(1e-20)


def _guarded(x: Array, slope: Array) -> tuple[Array, Array]:
    return np.nan_to_num(x, nan=0.0, posinf=BIG, neginf=-BIG), np.nan_to_num(slope, nan=0.0, posinf=0.0, neginf=0.0)


ONE: dict[str, Callable[[Array], tuple[Array, Array]]] = {
    "sin": lambda x: (np.sin(x), np.cos(x)),
    "cos": lambda x: (np.cos(x), -np.sin(x)),
    "exp": lambda x: (np.exp(np.minimum(x, 69)), np.exp(np.minimum(x, 69))),
    "log": lambda x: (np.log(np.maximum(x, TINY)), np.where(x > TINY, 1 / np.maximum(x, TINY), 0)),
    "sqrt": lambda x: (np.sqrt(np.maximum(x, 0)), np.where(x > 0, 0.5 / np.sqrt(np.maximum(x, TINY)), 0)),
    "abs": lambda x: (np.abs(x), np.sign(x)),
}


SEVERAL = {"min": 2, "max": 2, "clip": 3, "where": 3}


class Broken(ValueError):
    """A formula that cannot be used, with the column."""

    def __init__(self, what: str, node: Any = None) -> None:
        column = "" if node is None or not hasattr(node, "col_offset") else f" at column {node.col_offset + 1}"
        super().__init__(f"the formula {what}{column}")


@lru_cache(maxsize=256)
def parse(text: str, names: frozenset[str]) -> list[Any]:
    """Expressions (one, or three separated by commas) as trees; raises Broken with what and where."""
    if not text.strip():
        raise Broken("is empty; right would be for example sin(x) * f")
    if len(text) > MOST_CHARACTERS:
        raise Broken(f"is longer than {MOST_CHARACTERS} characters")
    try:
        tree = ast.parse(text.strip().replace("^", "**"), mode="eval").body
    except SyntaxError as error:
        raise Broken(f"cannot be read ({error.msg})" + (f" at column {error.offset}" if error.offset else "")) from None
    except (ValueError, RecursionError, MemoryError):
        raise Broken("cannot be read") from None
    parts = list(tree.elts) if isinstance(tree, ast.Tuple) else [tree]
    count = 0
    for part in parts:
        try:
            count += sum(1 for _ in ast.walk(part))
        except RecursionError:
            raise Broken("is nested too deeply") from None
        if count > MOST_PARTS:
            raise Broken(f"has more than {MOST_PARTS} parts")
        _check(part, names, 0)
    return parts


def _check(node: Any, names: frozenset[str], depth: int) -> None:
    if depth > 40:
        raise Broken("is nested too deeply", node)
    if isinstance(node, ast.Constant):
        if isinstance(node.value, bool) or not isinstance(node.value, int | float):
            raise Broken("may hold numbers only", node)
        if not abs(node.value) <= 1e30:
            raise Broken("holds a number that is too large", node)
    elif isinstance(node, ast.Name):
        if node.id not in names:
            raise Broken(f"uses '{node.id}', which is not known here; {nearest(node.id, names)}", node)
    elif isinstance(node, ast.BinOp):
        if not isinstance(node.op, ast.Add | ast.Sub | ast.Mult | ast.Div | ast.Pow):
            raise Broken("uses a sign other than + - * / ^", node)
        if isinstance(node.op, ast.Pow) and not isinstance(_plain(node.right), float):
            raise Broken("has an exponent that is not a number; write exp(b * log(a))", node.right)
        _check(node.left, names, depth + 1)
        _check(node.right, names, depth + 1)
    elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub | ast.UAdd):
        _check(node.operand, names, depth + 1)
    elif (
        isinstance(node, ast.Compare)
        and len(node.ops) == 1
        and isinstance(node.ops[0], ast.Lt | ast.Gt | ast.LtE | ast.GtE)
    ):
        _check(node.left, names, depth + 1)
        _check(node.comparators[0], names, depth + 1)
    elif isinstance(node, ast.Call):
        name = node.func.id if isinstance(node.func, ast.Name) else ""
        if name not in ONE and name not in SEVERAL:
            raise Broken(f"uses a function that is not known; {nearest(name, [*ONE, *SEVERAL])}", node)
        wanted = SEVERAL.get(name, 1)
        if len(node.args) != wanted or node.keywords:
            raise Broken(f"gives {name} {len(node.args)} values; it takes {wanted}", node)
        for argument in node.args:
            _check(argument, names, depth + 1)
    else:
        raise Broken("may hold only numbers, names, + - * / ^, comparisons and the listed functions", node)


def _plain(node: Any) -> float | None:
    """The number that an exponent is, or None."""
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
        inner = _plain(node.operand)
        return None if inner is None else -inner
    if isinstance(node, ast.Constant) and isinstance(node.value, int | float) and abs(node.value) <= 32:
        return float(node.value)
    return None


class _Evaluation:
    def __init__(self, values: dict[str, Samples], n: int, gradient: bool) -> None:
        self.values, self.n, self.gradient = values, n, gradient

    def of(self, node: Any) -> Samples:
        if isinstance(node, ast.Constant):
            return constant(float(node.value), self.n, self.gradient)  # type: ignore[arg-type]
        if isinstance(node, ast.Name):
            return self.values[node.id]
        if isinstance(node, ast.UnaryOp):
            f = self.of(node.operand)
            return f if isinstance(node.op, ast.UAdd) else f.chain(-f.value, np.full_like(f.value, -1))
        if isinstance(node, ast.Compare):
            a, b = self.of(node.left), self.of(node.comparators[0])
            larger = a.value > b.value if isinstance(node.ops[0], ast.Gt | ast.GtE) else a.value < b.value
            return a.chain(larger.astype(np.float32), np.zeros_like(a.value))
        if isinstance(node, ast.BinOp):
            return self._arithmetic(node)
        return self._call(node.func.id, [self.of(a) for a in node.args])

    def _arithmetic(self, node: ast.BinOp) -> Samples:
        f = self.of(node.left)
        if isinstance(node.op, ast.Pow):
            k = _plain(node.right) or 0.0
            whole = float(k).is_integer()
            base = f.value if whole and k >= 0 else np.where(np.abs(f.value) < TINY, TINY, f.value)
            base = base if whole else np.maximum(base, TINY)
            with np.errstate(all="ignore"):
                return f.chain(*_guarded(base ** np.float32(k), np.float32(k) * base ** np.float32(k - 1)))
        g = self.of(node.right)
        if isinstance(node.op, ast.Mult):
            return f.times(g)
        if isinstance(node.op, ast.Div):
            safe = np.where(np.abs(g.value) < TINY, np.copysign(TINY, g.value), g.value)
            with np.errstate(all="ignore"):
                return f.times(g.chain(*_guarded(1 / safe, -1 / (safe * safe))))
        return f.plus(g if isinstance(node.op, ast.Add) else g.chain(-g.value, np.full_like(g.value, -1)))

    def _call(self, name: str, a: list[Samples]) -> Samples:
        if name in ONE:
            with np.errstate(all="ignore"):
                return a[0].chain(*_guarded(*(np.asarray(v, np.float32) for v in ONE[name](a[0].value))))
        if name == "clip":
            low = self._pick(a[0].value < a[1].value, a[1], a[0])
            return self._pick(low.value > a[2].value, a[2], low)
        if name == "where":
            return self._pick(a[0].value > 0, a[1], a[2])
        return self._pick(a[0].value < a[1].value if name == "min" else a[0].value > a[1].value, a[0], a[1])

    def _pick(self, where: Array, f: Samples, g: Samples) -> Samples:
        value = np.where(where, f.value, g.value)
        if f.gradient is None or g.gradient is None:
            return Samples(value)
        return Samples(value, np.where(where, f.gradient, g.gradient))


def arithmetic(text: str, values: dict[str, Array]) -> Array:
    """The value (n,) float32 of one expression over arrays (n,) by name. Raises Broken; never gives inf or NaN."""
    parts = parse(text, frozenset({*values, "pi"}))
    if len(parts) != 1:
        raise Broken(f"has {len(parts)} parts; right would be one")
    n = len(next(iter(values.values())))
    known = {k: Samples(np.asarray(v, np.float32)) for k, v in values.items()} | {"pi": constant(np.pi, n, False)}
    made = _Evaluation(known, n, False).of(parts[0]).value
    return np.nan_to_num(np.clip(made, -BIG, BIG)).astype(np.float32)
