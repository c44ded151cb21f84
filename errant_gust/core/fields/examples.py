"""A picture of every field step: a small lane that shows what the step does, for the handbook and the list of steps."""

from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np

from errant_gust.core.errors import GustError
from errant_gust.core.fields.look import Window, swatches
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.step import FieldStep
from errant_gust.core.study.building import lane, study
from errant_gust.core.study.document import parse
from errant_gust.core.study.parameters import summary
from errant_gust.core.study.registry import FIELD, steps_of

WINDOW = Window((-2.0, -2.0, 0.0), (4.0, 0.0, 0.0), (0.0, 4.0, 0.0))
SHAPES = [
    {"id": "ball", "kind": "sphere", "params": {"radius": 0.8}},
    {"id": "box", "kind": "box", "params": {"size": [1.4, 1.4, 1.4], "move": [0.8, 0.5, 0]}},
    {"id": "path", "kind": "curve", "params": {
        "points": [[-1.8, -1.0, 0], [-0.6, 0.7, 0], [0.6, -0.7, 0], [1.8, 1.0, 0]], "radius": 0.35,
        "widths": [[0, 1], [0.5, 0.6], [1, 1.4]]}},
]  # fmt: skip
REGION = {"id": "room", "bounds": {"lower": [-2, -2, -0.5], "upper": [2, 2, 0.5]}, "voxel_size": 0.1}
BEFORE: dict[str, tuple[str, dict[str, Any]]] = {
    "scalar": ("noise", {"feature_size": 1.2, "octaves": 2}),
    "vector": ("curl_noise", {"feature_size": 1.4, "octaves": 2}),
}
DISTANCE = ("distance", {"shape": "ball"})
SPECIAL: dict[str, dict[str, Any]] = {
    "mask_shape": {"shapes": ["ball", "box"], "fade_over": 0.8},
    "ramp": {"start": [-1.5, -1, 0], "end": [1.5, 1, 0]},
    "radial": {"centre": [0, 0, 0]},
    "stencil": {"text": "Gust", "turn": [-90, 0, 0], "centre": [0, 0, 0], "height": 1.1},
    "potential_flow": {"obstacles": ["ball"]},
    "divergence_free": {"obstacles": ["ball"]},
    "spline_flow": {"around": 0.6},
    "surface_swirl": {"reach": 1.2},
    "surface_drift": {"reach": 1.2},
    "threshold": {"soft": 0.15},
    "limit": {"most": 0.8},
    "axes": {"scale": [1, 0, 0]},
    "twist": {"rate": 90, "centre": [0, 0, -1]},
    "place": {"turn": [0, 0, 30], "scale": 0.6},
    "warp": {"amount": 0.5},
    "smooth": {"width": 0.4},
    "formula": {"expression": "sin(6*x) * f"},
    "roughen": {"depth": 0.25},
    "offset": {"by": 0.3, "shell": True},
    "remap": {"curve": [[0, 0], [0.45, 0.05], [0.55, 0.95], [1, 1]]},
    "fade": {"begin": -1},
    "component": {"axis": "x"},
    "linger": {"step": 0.5},
}


@dataclass(frozen=True)
class Figure:
    """What a parameter does: its values, each with a picture (size, size) float32."""

    param: str
    pictures: tuple[tuple[Any, Array], ...]


ON_DISTANCE = ("offset", "roughen", "join")


@lru_cache(maxsize=128)
def example(op: str, size: int = 96) -> Array | None:
    """The step's picture (size, size) float32, or None for steps that need a file or a run."""
    return _picture(op, size, {})


@lru_cache(maxsize=128)
def figures(op: str, size: int = 64) -> tuple[Figure, ...]:
    """What each parameter of a step does: its pictures for some values, if they differ."""
    cls: type[FieldStep] | None = steps_of(FIELD).get(op)  # type: ignore[assignment]
    found = []
    for spec in summary(cls)["params"] if cls is not None else []:
        others = {name: choices[0] for name, choices in (spec["when"] or {}).items()}
        values = _values(spec, SPECIAL.get(op, {}).get(spec["name"], spec["default"]))
        made = [_picture(op, size, {**others, spec["name"]: value}) for value in values]
        there = [(value, picture) for value, picture in zip(values, made, strict=True) if picture is not None]
        if len(there) > 1 and _differ([picture for _, picture in there]):
            found.append(Figure(spec["name"], tuple(there)))
    return tuple(found)


def _values(spec: dict[str, Any], usual: Any) -> list[Any]:
    """Values that show what a parameter does: around the usual one, or each of the choices."""
    kind, (low, high) = spec["type"], spec["range"]
    if kind == "choice":
        return list(spec["choices"][:4])
    if kind == "switch":
        return [False, True]
    if kind not in ("number", "integer") or not isinstance(usual, int | float) or spec["name"] == "seed":
        return []
    ends = spec["slider"] or (low, high)
    a, b = (-1.0 if ends[0] is None else ends[0], 1.0 if ends[1] is None else ends[1])
    if usual > 0:
        values = [max(a, usual / 3), usual, min(b, 3 * usual)]
    else:
        values = [max(a, usual - 0.3 * (usual - a)), usual, usual + 0.4 * (b - usual)]
    if kind == "integer":
        values = [round(v) for v in values]
    return sorted({float(f"{v:.2g}") if kind == "number" else v for v in values})


def _differ(pictures: list[Array]) -> bool:
    """Whether one of the pictures is not like the first, by a fiftieth of all that is in them."""
    span = max(float(p.max()) for p in pictures) - min(float(p.min()) for p in pictures)
    return any(float(np.abs(p - pictures[0]).max()) > 0.02 * span for p in pictures[1:]) if span > 0 else False


def _picture(op: str, size: int, changes: dict[str, Any]) -> Array | None:
    cls: type[FieldStep] | None = steps_of(FIELD).get(op)  # type: ignore[assignment]
    if cls is None or op in ("from_grid", "from_particles"):
        return None
    fields: list[dict[str, Any]] = [
        lane("scalar", BEFORE["scalar"]), lane("vector", BEFORE["vector"]),
        lane("shape", ("distance", {"shape": "box"})),
        lane("mask", ("mask_shape", {"shapes": ["box"], "fade_over": 0.8})),
    ]  # fmt: skip
    params = {**SPECIAL.get(op, {}), **changes}
    for name, info in cls.model_fields.items():
        if info.is_required() and name not in params:
            params[name] = _reference(op, name, cls.accepts)
    if cls.accepts != "nothing":
        first = DISTANCE if op in ON_DISTANCE else BEFORE["vector" if cls.accepts == "vector" else "scalar"]
        if op in ("steer_around", "keep_inside"):
            first = ("wind", {"speed": 1})
        if op in ("mask", "gain"):
            first = BEFORE["vector"]
        fields.append(lane("lane", first, (op, params)))
    else:
        fields.append(lane("lane", (op, params)))
    made = study("Example", *fields, shapes=SHAPES, regions=[REGION])
    try:
        return np.nan_to_num(swatches([Plan(parse(made)).at(0.4).lane("lane")], WINDOW, size)[0])
    except (GustError, ValueError):
        return None


def _reference(op: str, name: str, accepts: str) -> Any:
    """What a required parameter refers to in the example study."""
    if name == "curve":
        return "path"
    if name == "shape":
        return "ball"
    if name == "shapes":
        return ["ball"]
    if name == "region":
        return "room"
    if name in ("by", "where") and op != "warp":
        return "mask"
    if op == "join":
        return "shape"
    if op == "multiply":
        return "mask"
    return "scalar" if accepts in ("scalar", "any") and op != "warp" else "vector"
