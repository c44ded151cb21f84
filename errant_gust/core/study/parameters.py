"""What a parameter is: the base class of every step, shape and source, and the catalogue entry made from it.

A class that derives from `Parameters` and declares its fields with `param` is all there is to a step's interface:
schema, form, card, handbook and command-line listing are read from it here.
"""

import inspect
import itertools
import types
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from typing import Annotated, Any, ClassVar, Literal, Union, get_args, get_origin

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError
from pydantic.fields import FieldInfo

from errant_gust.core.errors import StudyError, nearest

Vec3 = tuple[float, float, float]
Pair = tuple[float, float]


@dataclass(frozen=True)
class Refers:
    """Marks a string parameter that holds the id of a shape, a field, a region or a flow."""

    to: str


REFERENCES = ("shape", "field", "region", "flow")


def _curve(points: list[Pair]) -> list[Pair]:
    if len(points) < 2:
        raise ValueError("a curve needs at least two points")
    if any(b[0] <= a[0] for a, b in itertools.pairwise(points)):
        raise ValueError("the points of a curve must go from left to right, no two at the same place")
    return points


def _pair(pair: Pair) -> Pair:
    if pair[0] == pair[1]:
        raise ValueError("a range needs two different ends")
    return pair


Points = Annotated[list[Vec3], "points"]
ShapeId = Annotated[str, Refers("shape")]
ShapeIds = Annotated[list[str], Refers("shapes")]
FieldId = Annotated[str, Refers("field")]
RegionId = Annotated[str, Refers("region")]
FlowId = Annotated[str, Refers("flow")]
"""A flow by its id; `id:result` names one of its results that is not the first of its form."""


def flow_of(reference: str) -> str:
    """The id of the flow that a reference names."""
    return reference.partition(":")[0]


Curve = Annotated[list[Pair], AfterValidator(_curve), "curve"]
Range = Annotated[Pair, AfterValidator(_pair), "range"]


def param(
    default: Any = ...,
    *,
    help: str,
    unit: str = "",
    range: tuple[float | None, float | None] = (None, None),
    slider: tuple[float, float] | None = None,
    label: str = "",
    varies: bool = False,
    rate: bool = False,
    above: float | None = None,
    when: dict[str, list[str]] | None = None,
    files: tuple[str, ...] = (),
    optional: bool = False,
    group: str = "",
    moment: bool = False,
    provides: str = "",
) -> Any:
    """Declare a parameter.

    unit: what is shown and accepted; range: hard limits, ends allowed (`above` is a lower limit that is not allowed);
    slider: the span of the slider; varies: a scalar field may stand in for the number; rate: the step reads the
    integral over time (`At.total`), so that keys change speed without a jump; when: shown only while another parameter
    has one of the named values (`!x`: any other than x); files: the parameter names a file of the study of one of these
    sorts; optional: a reference that may be left empty; group: the form folds the parameters of one name under it;
    moment: a point in time, which the form also tells and takes as a frame; provides: the form of result that a flow
    named here has to offer (points, volume, …).
    """
    extra: Any = {"unit": unit, "slider": slider, "label": label, "varies": varies, "rate": rate, "when": when}
    extra |= {"files": list(files), "optional": optional, "group": group, "moment": moment, "provides": provides}
    return Field(default, description=help, ge=range[0], le=range[1], gt=above, json_schema_extra=extra)


class Parameters(BaseModel):
    """Values of one step, shape or source at one time: frozen, finite, nothing unknown."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False, strict=False)

    id: ClassVar[str]
    label: ClassVar[str]
    yields: ClassVar[str]
    headline: ClassVar[str] = ""
    mistake: ClassVar[str] = ""
    """What often goes wrong with it, and what helps (handbook, inspector)."""
    own_first: ClassVar[bool] = False
    """Whether the form shows what this class declares before what it inherits."""

    @classmethod
    def build(cls, values: dict[str, Any], where: str) -> Any:
        """An instance, or one clear error that names the parameter and its nearest known name. Raises StudyError."""
        for name in values:
            if name not in cls.model_fields:
                raise StudyError(
                    f"{cls.label} has no parameter '{name}'", where=where, fix=nearest(name, cls.model_fields)
                )
        try:
            return cls(**values)
        except ValidationError as error:
            first = error.errors()[0]
            place = ".".join(str(part) for part in first["loc"])
            name = str(first["loc"][0]) if first["loc"] else ""
            raise StudyError(_words(first), where=f"{where}.{place}", fix=_limits(cls, name)) from None


def _words(error: Any) -> str:
    given = error.get("input")
    shown = repr(given) if not isinstance(given, dict) else "nothing"
    if error["type"] == "missing":
        return "is missing"
    message = plain_words(error["msg"])
    return message if error["type"] == "value_error" else f"{message}, got {shown[:60]}"


def plain_words(message: str) -> str:
    """A validator's message without what only its library means."""
    words = message.removeprefix("Value error, ").removeprefix("Assertion failed, ")
    words = {"Field required": "is missing", "Extra inputs are not permitted": "is not known here"}.get(words, words)
    words = words.replace("Input should be", "should be")
    return words[:1].lower() + words[1:]


def _limits(cls: type[Parameters], name: str) -> str:
    entry = next((p for p in describe(cls) if p["name"] == name), None)
    if entry is None:
        return ""
    if entry["choices"]:
        return "one of: " + ", ".join(entry["choices"])
    low, high = entry["range"]
    unit = f" {entry['unit']}" if entry["unit"] else ""
    if low is not None or high is not None:
        if high is None:
            return (
                f"right would be from {low:g}{unit} on"
                if not entry["open_below"]
                else f"right would be above {low:g}{unit}"
            )
        return f"right would be {'up' if low is None else f'from {low:g}'} to {high:g}{unit}"
    return "" if entry["default"] is None else f"for example {entry['default']}{unit}"


def _kind(info: FieldInfo) -> tuple[str, list[str]]:
    annotation: Any = info.annotation
    for mark in info.metadata:
        if isinstance(mark, Refers):
            return mark.to, []
        if mark in ("curve", "range", "points", "colour", "channel"):
            return str(mark), []
    if get_origin(annotation) in (Union, types.UnionType):
        annotation = next(a for a in get_args(annotation) if a is not type(None))
    if get_origin(annotation) is Annotated:
        for mark in get_args(annotation)[1:]:
            if isinstance(mark, Refers):
                return mark.to, []
    if get_origin(annotation) is Literal:
        return "choice", [str(a) for a in get_args(annotation)]
    names = {float: "number", int: "integer", bool: "switch", str: "text"}
    return names.get(annotation, "vector" if annotation == Vec3 else "points"), []


@cache
def describe(cls: type[Parameters]) -> list[dict[str, Any]]:
    """The parameters of a class as catalogue entries: name, type, unit, range, default, help. Not to be changed."""
    entries = []
    own = {name for c in cls.__mro__ if getattr(c, "own_first", False) for name in inspect.get_annotations(c)}
    for name, info in sorted(cls.model_fields.items(), key=lambda field: cls.own_first and field[0] not in own):
        kind, choices = _kind(info)
        limits: dict[str, Any] = {}
        for mark in info.metadata:
            for end in ("ge", "le", "gt"):
                if hasattr(mark, end):
                    limits[end] = getattr(mark, end)
        extra: dict[str, Any] = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
        optional = bool(extra.get("optional"))
        entries.append(
            {
                "name": name,
                "label": extra.get("label") or name.replace("_", " ").capitalize(),
                "type": kind,
                "unit": extra.get("unit", ""),
                "range": [limits.get("ge", limits.get("gt")), limits.get("le")],
                "open_below": "gt" in limits,
                "slider": list(extra["slider"]) if extra.get("slider") else None,
                "default": None if info.is_required() else info.get_default(call_default_factory=True),
                # a reference that must name something, though only while `when` holds
                "required": info.is_required() or (kind in REFERENCES and not optional and info.default == ""),
                "choices": choices,
                "help": info.description or "",
                "varies": bool(extra.get("varies")),
                "rate": bool(extra.get("rate")),
                "when": extra.get("when"),
                "files": extra.get("files") or [],
                "optional": optional,
                "group": extra.get("group") or "",
                "moment": bool(extra.get("moment")),
                "provides": extra.get("provides") or "",
                "wants": getattr(cls, "wants", {}).get(name, ""),
            }
        )
    return entries


def references(step: Parameters) -> Iterator[tuple[str, str, str]]:
    """(parameter, kind, id) of everything a step refers to by id; kind is shape, field, region or flow."""
    for entry in describe(type(step)):
        value = getattr(step, entry["name"])
        if entry["type"] == "shapes":
            for id in value:
                yield entry["name"], "shape", id
        elif entry["type"] in REFERENCES and value:
            yield entry["name"], entry["type"], flow_of(value) if entry["type"] == "flow" else value


def file_params(cls: type[Parameters]) -> list[str]:
    """Names of the parameters that name a file of the study."""
    return [
        name
        for name, info in cls.model_fields.items()
        if isinstance(info.json_schema_extra, dict) and info.json_schema_extra.get("files")
    ]


def summary(cls: type[Parameters]) -> dict[str, Any]:
    """What the catalogue says of a class besides its parameters."""
    return {
        "id": cls.id,
        "label": cls.label,
        "yields": cls.yields,
        "headline": cls.headline,
        "doc": inspect.cleandoc(cls.__doc__ or ""),
        "mistake": cls.mistake,
        "params": describe(cls),
    }
