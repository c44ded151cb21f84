"""What the API says, typed: the interface's types are generated from these, and from the heads of packed arrays."""

from datetime import datetime
from typing import Any, Literal

from ninja import Schema
from pydantic import BaseModel
from pydantic.json_schema import models_json_schema

from errant_gust.core.flows.looks import LOOKS
from errant_gust.core.flows.results import Form
from errant_gust.core.looking.heads import HEADS
from errant_gust.core.pictures.light import LightLook
from errant_gust.core.study.document import Raw, Step, Study
from errant_gust.core.study.values import FieldRef, Keys, Link, raw_schema

Pair = tuple[float, float]
Ends = tuple[float | None, float | None]


class ParamSpec(Schema):
    name: str
    label: str
    type: str
    unit: str
    range: Ends
    open_below: bool
    slider: Pair | None
    default: Raw
    required: bool
    choices: list[str]
    help: str
    varies: bool
    rate: bool
    when: dict[str, list[str]] | None
    files: list[str]
    optional: bool
    group: str
    moment: bool
    provides: str
    wants: str
    """Of a lane that is named: scalar, vector, or either."""


class ShapeEntry(Schema):
    id: str
    label: str
    yields: str
    headline: str
    doc: str
    mistake: str
    params: list[ParamSpec]


class Entry(ShapeEntry):
    kind: str
    accepts: str
    formula: str
    lane: str
    roles: dict[str, list[str]] = {}
    carries: list[str] = []
    """Channels that a lane with this step has."""
    names_channel: str = ""
    """The parameter that gives one more its name."""
    """What it is to shapes (`emits`, `blocks`), and the parameters that name those."""


class BeginStep(Schema):
    op: str
    params: dict[str, Raw]


class ResultEntry(Schema):
    name: str
    label: str
    form: Form
    from_study: bool
    aside: bool
    formats: list[str]


class KindEntry(Schema):
    """A kind of flow; `looks`: parameters of how its results are drawn, by form."""

    id: str
    label: str
    yields: str
    unit: str
    icon: str
    begins_with: list[BeginStep]
    results: list[ResultEntry]
    looks: dict[str, list[ParamSpec]]


class Catalogue(Schema):
    steps: list[Entry]
    shapes: list[ShapeEntry]
    kinds: list[KindEntry]
    light: list[ParamSpec]


class RunOut(Schema):
    identity: str
    kind: str
    study: str
    flow: str
    name: str
    """Its own, if somebody gave it one."""
    quality: str
    state: str
    message: str
    last: int
    frames: list[int]
    each: float | None
    left: float | None
    count: int | None
    started: datetime | None
    ended: datetime | None
    worker: str
    behind: str
    """Of a run that waits: what is computed before it here."""
    bytes: int
    memory: int | None
    """Bytes that the worker which computes it has."""
    needs: int
    """Bytes that it needs at most, by estimate; 0 if that is not known."""
    place: str
    """here, or cluster."""


class NumbersOut(Schema):
    """What a channel of a frame comes to; of a volume also its integral, where it is, and how finely."""

    low: float
    high: float
    mean: float
    count: int
    total: float | None = None
    cover: float | None = None
    voxel_size: float | None = None
    centre: tuple[float, float, float] | None = None


class CostOut(Schema):
    """What a run would cost, or why nobody can say."""

    error: str = ""
    count: int = 0
    unit: str = ""
    memory: int = 0
    frames: int = 0
    seconds: float | None = None
    disk: int | None = None
    measured: int = 0
    basis: str = ""


class Incoming(Schema):
    low: float
    high: float
    histogram: list[int] | None


class SolvedOut(Schema):
    iterations: float
    before: float
    after: float


class ThroughOut(Schema):
    shape: str
    side: Literal["around", "inside"]
    speed: float
    at: tuple[float, float, float]
    share: float


class ReadingOut(Schema):
    """Numbers of a step; see `fields.readings.Reading`. kind `none`: nothing is there to be read."""

    kind: Literal["scalar", "vector", "none"]
    low: float = 0
    high: float = 0
    mean: float = 0
    rms: float = 0
    coverage: float = 0
    divergence: float | None = None
    unit: str = ""
    per: str = ""
    per_size: float = 1
    bunching: float | None = None
    travel: float | None = None
    solved: SolvedOut | None = None
    histogram: list[int] | None = None
    remark: str = ""
    over: Literal["box", "plane", "surface"] = "box"
    through: list[ThroughOut] = []
    incoming: Incoming | None = None


class HalvedOut(Schema):
    """See `flows.halving.Halved`; metres."""

    substeps: int
    count: int
    of: str
    middle: float
    most: float
    way: float
    share: float


class ValueOut(Schema):
    kind: Literal["scalar", "vector", "none"]
    value: list[float] = []
    unit: str = ""


class Appended(Schema):
    lane: str
    step: Step


class Fix(Schema):
    label: str
    set: dict[str, Raw]
    append: Appended | None = None


class CheckOut(Schema):
    level: Literal["error", "warning", "note"]
    code: str
    where: str
    what: str
    why: str
    fix: Fix | None
    may_be_meant: bool


BESIDES: tuple[type[BaseModel], ...] = (Study, *HEADS, *LOOKS.values(), LightLook, CostOut, ReadingOut, ValueOut)
"""What travels without being a declared answer: documents, and heads of packed arrays."""


def with_besides(schema: dict[str, Any]) -> dict[str, Any]:
    """The API's schema, with those models among its components."""
    as_told = [(m, "serialization") for m in BESIDES]
    as_typed = [(m, "validation") for m in (Keys, Link, FieldRef)]
    for models in (as_told, as_typed):
        _, made = models_json_schema(models, ref_template="#/components/schemas/{model}")  # type: ignore[arg-type]
        schema["components"]["schemas"].update(made["$defs"])
    _refer_to_raw(schema)
    schema["components"]["schemas"]["Raw"] = raw_schema()
    return schema


def _refer_to_raw(node: Any) -> None:
    """Put a reference wherever a parameter stands as it is in a study."""
    if isinstance(node, dict):
        if node.get("format") == "raw":
            node.clear()
            node["$ref"] = "#/components/schemas/Raw"
            return
        for inner in node.values():
            _refer_to_raw(inner)
    elif isinstance(node, list):
        for inner in node:
            _refer_to_raw(inner)
