"""Sweeps: the same study with other values, a run each, told apart by readings and a contact sheet."""

import itertools
import math
import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from errant_gust.core.errors import StudyError, nearest
from errant_gust.core.study import document
from errant_gust.core.study.changes import value as words_of
from errant_gust.core.study.depends import Depends
from errant_gust.core.study.parameters import describe
from errant_gust.core.study.registry import FIELD, shape_class, step_class

MOST = 512
"""Runs of one sweep."""
NUMBER = re.compile(r"[-+]?(\d+\.?\d*|\.\d+)([eE][-+]?\d+)?")


@dataclass(frozen=True)
class Vary:
    """A parameter by its path, and the values that it takes; with `ends` any between the two, drawn by samples."""

    path: str
    values: tuple[Any, ...]
    ends: tuple[float, float] | None = None


def read_vary(text: str) -> Vary:
    """`fields.gusts.noise.seed=1,2,3` a list, `=0.2:2:5` five even values, `=0.2:2` any between (for samples);
    several numbers in brackets are a vector: `=[0 0 1],[1 0 0]`. Raises StudyError."""
    path, equals, given = text.partition("=")
    path = path.strip()
    if not equals or not given.strip() or not path:
        raise StudyError(f"'{text}' varies nothing", where="--vary", fix="right would be fields.gusts.noise.seed=1,2,3")
    parts = given.strip().split(":")
    if len(parts) in (2, 3) and all(NUMBER.fullmatch(p.strip()) for p in parts):
        low, high = _number(parts[0], path), _number(parts[1], path)
        if len(parts) == 2:
            return Vary(path, (), (low, high))
        count = _number(parts[2], path)
        if count != int(count) or not 2 <= count <= MOST:
            raise StudyError(f"{parts[2]} is no number of values", where=path, fix=f"right would be 2 to {MOST}")
        return Vary(path, tuple(float(f"{v:.6g}") for v in np.linspace(low, high, int(count))))
    if given.count(",") > MOST * 8:
        raise StudyError(f"that are {given.count(',') + 1:,} values", where=path, fix=f"at most {MOST}")
    return Vary(path, tuple(_value(v, path) for v in re.split(r",(?![^\[]*\])", given)))


def _number(text: str, path: str) -> float:
    """A number that is one. Raises StudyError for nan, infinities, and what is none."""
    try:
        number = float(text)
    except ValueError:
        number = math.nan
    if not math.isfinite(number):
        raise StudyError(f"'{text.strip()[:40]}' is no number", where=path, fix="right would be 0.5")
    return number


def _value(text: str, path: str) -> Any:
    text = text.strip()
    if text.startswith("[") and text.endswith("]"):
        return [_number(v, path) for v in re.split(r"[ ,]+", text[1:-1].strip())]
    if "[" in text or "]" in text or text.lower().lstrip("+-") in ("nan", "inf", "infinity"):
        raise StudyError(f"'{text[:40]}' is no value", where=path, fix="right would be 0.5, on, a name, or [0 0 1]")
    if NUMBER.fullmatch(text):
        number = _number(text, path)
        return int(number) if re.fullmatch(r"[-+]?\d+", text) else number
    return {"on": True, "off": False, "true": True, "false": False}.get(text.lower(), text)


def combinations(varies: list[Vary], samples: int = 0, seed: int = 1) -> list[dict[str, Any]]:
    """All values with all others; with `samples` so many draws in a Latin hypercube (McKay, Beckman, Conover 1979):
    each of as many even parts of every range is met once, lists in turn. Raises StudyError where nothing varies,
    something does twice, or there would be too many."""
    if not varies:
        raise StudyError("nothing varies", where="--vary", fix="right would be fields.gusts.noise.seed=1,2,3")
    twice = [v.path for v in varies if [w.path for w in varies].count(v.path) > 1]
    if twice:
        raise StudyError("varies twice", where=twice[0], fix="name all its values at once")
    if samples:
        if not 1 <= samples <= MOST:
            raise StudyError(f"{samples} samples", where="--samples", fix=f"right would be 1 to {MOST}")
        if seed < 0:
            raise StudyError(f"{seed} as a seed", where="--seed", fix="right would be 0 or more")
        rng = np.random.default_rng(seed)
        columns = {v.path: _drawn(v, samples, rng) for v in varies}
        return [{path: column[n] for path, column in columns.items()} for n in range(samples)]
    for vary in varies:
        if vary.ends is not None:
            raise StudyError(
                "is a range without a number of values",
                where=vary.path,
                fix="low:high:count, or so many draws (--samples)",
            )
    total = math.prod(len(v.values) for v in varies)  # NumPy's wraps: 2⁷⁰ would be 0
    if total > MOST:
        raise StudyError(f"that would be {total:,} runs", where="--vary", fix=f"at most {MOST}, or --samples for draws")
    return [
        dict(zip([v.path for v in varies], values, strict=True))
        for values in itertools.product(*(v.values for v in varies))
    ]


def _drawn(vary: Vary, samples: int, rng: np.random.Generator) -> list[Any]:
    order = rng.permutation(samples)
    if vary.ends is None:
        return [vary.values[int(k) % len(vary.values)] for k in order]
    low, high = vary.ends
    places = low + (order + rng.random(samples)) / samples * (high - low)
    return [float(f"{p:.6g}") for p in places]


def variant(study: document.Study, values: dict[str, Any]) -> document.Study:
    """The study with these values in their places; a StudyError names a path that is none."""
    data = document.dump(study)
    for path, value in values.items():
        study.raw(path, path)  # says what is wrong with the path
        room, *rest = path.split(".")
        part = next(p for p in data[room] if p["id"] == rest[0])
        if room == "regions":
            where = part["bounds"] if rest[1] == "padding" else part
            if rest[1] not in ("voxel_size", "padding", "turn"):
                raise StudyError("is nothing that a region has", where=path, fix="voxel_size, padding or turn")
        elif room == "shapes":
            where = part.setdefault("params", {})
            _known(path, shape_class(part["kind"]), rest[1])
        else:
            step = next(s for s in part["steps"] if s["id"] == rest[1])
            where = step.setdefault("params", {})
            sort = FIELD if room == "fields" else part["kind"]
            _known(path, step_class(step["op"], sort, path), rest[2])
        where[rest[-1]] = value
    return document.parse(data)


def _known(path: str, cls: Any, name: str) -> None:
    names = [e["name"] for e in describe(cls)] if cls is not None else [name]
    if name not in names:
        raise StudyError("is no parameter of it", where=path, fix=nearest(name, names))


def label(values: dict[str, Any], study: document.Study) -> str:
    """What tells one run of a sweep from the others: `seed 2, feature size 0.5 m`."""
    return ", ".join(
        f"{path.split('.')[-1].replace('_', ' ')} {words_of(v, _unit(study, path), study)}"
        for path, v in values.items()
    )


def _unit(study: document.Study, path: str) -> str:
    room, id, *rest = path.split(".")
    if room == "regions":
        return "°" if rest == ["turn"] else "m"
    part = study.find(room, id, path)
    if room == "shapes":
        cls: Any = shape_class(part.kind)
    else:
        step = next(s for s in part.steps if s.id == rest[0])
        cls = step_class(step.op, FIELD if room == "fields" else part.kind, path)
    return next((str(e["unit"]) for e in describe(cls) if e["name"] == rest[-1]), "") if cls is not None else ""


def variable(study: document.Study, flow: str) -> Iterator[tuple[str, dict[str, Any], Any]]:
    """(path, entry, value now) of the parameters that a sweep of a flow may vary: numbers, vectors, choices, switches
    and fields of what it depends on."""
    walk = Depends(study)
    walk.flow(flow)
    lanes = [*(("fields", FIELD, f) for f in study.fields), *(("flows", f.kind, f) for f in study.flows)]
    for room, sort, lane in lanes:
        if f"{room[:-1]}:{lane.id}" not in walk.parts:
            continue
        for step in lane.steps:
            if step.on:
                yield from _entries(f"{room}.{lane.id}.{step.id}", step_class(step.op, sort, ""), step.params)
    for shape in study.shapes:
        cls = shape_class(shape.kind)
        if f"shape:{shape.id}" in walk.parts and cls is not None:
            yield from _entries(f"shapes.{shape.id}", cls, shape.params)


def _entries(where: str, cls: Any, params: dict[str, Any]) -> Iterator[tuple[str, dict[str, Any], Any]]:
    for entry in describe(cls):
        now = params.get(entry["name"], entry["default"])
        if entry["type"] in ("number", "integer", "vector", "choice", "switch", "field") and not isinstance(now, dict):
            yield f"{where}.{entry['name']}", entry, now
