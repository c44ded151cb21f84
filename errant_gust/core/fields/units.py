"""A small algebra of units: exponents of metre, second, kilogram and kelvin; None where a field may be in any.

Derivatives divide by the metre, products multiply, joins that add want the same. Units are told and checked; no value
depends on them.
"""

import re
from typing import Any

from errant_gust.core.study.document import Study
from errant_gust.core.study.finding import append_step

Unit = tuple[int, int, int, int]
SYMBOLS = ("m", "s", "kg", "K")
NUMBER: Unit = (0, 0, 0, 0)
METRE: Unit = (1, 0, 0, 0)
SPEED: Unit = (1, -1, 0, 0)
RAISED = str.maketrans("0123456789-", "⁰¹²³⁴⁵⁶⁷⁸⁹⁻")
PLAIN = str.maketrans("⁰¹²³⁴⁵⁶⁷⁸⁹⁻", "0123456789-")


def parse_unit(text: str) -> Unit:
    """`m/s`, `1/s`, `m²/s`, `kg/m³`, `K`; an empty text is a pure number. ValueError for what is none."""
    found = [0, 0, 0, 0]
    plain = text.translate(PLAIN).replace("^", "").replace(" ", "").strip()
    if plain in ("", "1"):
        return NUMBER
    for n, part in enumerate(plain.split("/")):
        for factor in re.split(r"[·*]", part):
            if factor in ("", "1"):
                continue
            match = re.fullmatch(r"(m|s|kg|K)(-?\d)?", factor)
            if match is None:
                raise ValueError(f"'{text}' is no unit; right would be for example m/s, 1/s, m² or K")
            found[SYMBOLS.index(match[1])] += (1 if n == 0 else -1) * int(match[2] or 1)
    return found[0], found[1], found[2], found[3]


def unit_text(unit: Unit, symbols: tuple[str, ...] = SYMBOLS) -> str:
    """The unit as it is written: `m/s`, `1/s`, `m²`; empty for a pure number."""

    def side(sign: int) -> str:
        parts = [(s, sign * e) for s, e in zip(symbols, unit, strict=True) if sign * e > 0]
        return "·".join(s if e == 1 else f"{s}{str(e).translate(RAISED)}" for s, e in parts)

    above, below = side(1), side(-1)
    return f"{above or '1'}/{below}" if below else above


def times(a: Unit | None, b: Unit | None) -> Unit | None:
    """Of a product; unknown if one of them is."""
    if a is None or b is None:
        return None
    return a[0] + b[0], a[1] + b[1], a[2] + b[2], a[3] + b[3]


def over(a: Unit | None, b: Unit | None) -> Unit | None:
    """Of a quotient."""
    return times(a, None if b is None else (-b[0], -b[1], -b[2], -b[3]))


def named(unit: Unit) -> str:
    """In words: a pure number has no sign of its own."""
    return unit_text(unit) or "a pure number"


def told_unit(unit: Unit) -> str:
    """After "is": in which unit."""
    return f"in {unit_text(unit)}" if unit_text(unit) else "a pure number"


def factor_fix(study: Study, lane: str, unit: Unit | None) -> dict[str, Any] | None:
    """Append a Gain whose factor brings a lane into another unit."""
    if unit is None:
        return None
    label = f"Multiply '{lane}' by 1 {unit_text(unit)}"
    return append_step(label, study, lane, "gain", {"factor": 1.0, "in_unit": unit_text(unit)})
