"""The study document: what is in a `*.gust.json` file, read strictly and written stably."""

import hashlib
import json
import math
import re
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import (
    BaseModel,
    ConfigDict,
    Field,
    PrivateAttr,
    StringConstraints,
    ValidationError,
    WithJsonSchema,
    field_validator,
    model_validator,
)

from errant_gust.core.errors import FileError, StudyError, nearest
from errant_gust.core.study import registry
from errant_gust.core.study.parameters import plain_words
from errant_gust.core.study.soundness import check_sound
from errant_gust.core.study.upgrade import VERSION as VERSION
from errant_gust.core.study.upgrade import upgraded
from errant_gust.core.study.values import read

FORMAT = "errant-gust-study"
MAX_BYTES = 8 << 20

Id = Annotated[str, StringConstraints(pattern=r"^[a-z][a-z0-9_]{0,39}$")]
Name = Annotated[str, StringConstraints(min_length=1, max_length=80, strip_whitespace=True)]
Raw = Annotated[Any, WithJsonSchema({"format": "raw"})]
"""A parameter as it stands in the file: a literal, keys, a link or a field (see `values`)."""


class Part(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class Clock(Part):
    """Frames and seconds: everything that lasts is in seconds, frames are only a view of them."""

    fps: float = Field(24.0, ge=0.1, le=240)
    start: int = Field(1, ge=-100_000, le=1_000_000)
    end: int = Field(120, ge=-100_000, le=1_000_000)
    slow_motion: float = Field(1.0, ge=0.01, le=100)

    @model_validator(mode="after")
    def _forward(self) -> "Clock":
        if self.end < self.start:
            raise ValueError(f"the last frame ({self.end}) is before the first ({self.start})")
        if self.end - self.start > 100_000:
            raise ValueError("more than 100,000 frames")
        return self

    def seconds(self, frame: float) -> float:
        """Time of a frame; the first frame is at 0 s."""
        return (frame - self.start) / (self.fps * self.slow_motion)

    def frame_after(self, time: float) -> int:
        """The first frame that is not before a time in seconds."""
        return self.start + max(0, math.ceil(time * self.fps * self.slow_motion - 1e-6))

    @property
    def step(self) -> float:
        """Seconds of simulated time from one frame to the next."""
        return 1.0 / (self.fps * self.slow_motion)


class Shape(Part):
    id: Id
    name: Name = "Shape"
    kind: str
    shown: bool = True
    params: dict[str, Raw] = {}


class Bounds(Part):
    """Either `fit` to shapes, or `lower` and `upper` corners in metres; then padding all round, and more of it on each
    side (along the region's own axes). `floor`: a shape at whose lowest point the region ends below."""

    fit: list[str] = []
    lower: tuple[float, float, float] | None = None
    upper: tuple[float, float, float] | None = None
    padding: Raw = 0.0
    more_below: tuple[float, float, float] = (0.0, 0.0, 0.0)
    more_above: tuple[float, float, float] = (0.0, 0.0, 0.0)
    floor: str = ""

    @model_validator(mode="after")
    def _one_way(self) -> "Bounds":
        if bool(self.fit) == (self.lower is not None and self.upper is not None):
            raise ValueError("bounds need either 'fit' (a list of shapes) or both 'lower' and 'upper'")
        if self.lower and self.upper and any(b <= a for a, b in zip(self.lower, self.upper, strict=True)):
            raise ValueError("the upper corner must lie above the lower one on every axis")
        return self

    def content(self) -> dict[str, Any]:
        """What decides where the region is: what is not used is left out, so that it can be added to."""
        made = self.model_dump(mode="json")
        plain = {"more_below": [0.0] * 3, "more_above": [0.0] * 3, "floor": ""}
        return {k: v for k, v in made.items() if k not in plain or v != plain[k]}


class Region(Part):
    id: Id
    name: Name = "Region"
    bounds: Bounds
    voxel_size: Raw = 0.1
    turn: Raw = (0.0, 0.0, 0.0)
    follow: bool = False
    """Fitted anew at every frame, so that it moves with its shapes; otherwise to where they are on the first frame."""
    over: Literal["first frame", "all frames"] = "first frame"
    """What it is fitted to if it does not follow: where its shapes are on the first frame, or on all of them."""
    shown: bool = True
    cells: bool = False


class Step(Part):
    id: Id
    op: str
    on: bool = True
    params: dict[str, Raw] = {}


class Lane(Part):
    id: Id
    name: Name
    steps: list[Step] = []


class FieldLane(Lane):
    """A field: read left to right, each step changes what the one before it made."""


class FlowLane(Lane):
    kind: Id
    """What is carried: the id of a kind of flow."""

    @field_validator("kind")
    @classmethod
    def _known(cls, kind: str) -> str:
        known = registry.flow_kinds()
        if kind not in known:
            raise ValueError(f"'{kind}' is no kind of flow; right would be {' or '.join(known)}")
        return kind


class Study(Part):
    format: Literal["errant-gust-study"] = "errant-gust-study"
    version: int = VERSION
    name: Name = "Untitled"
    note: str = Field("", max_length=4000)
    clock: Clock = Clock()
    shapes: list[Shape] = []
    regions: list[Region] = []
    fields: list[FieldLane] = []
    flows: list[FlowLane] = []
    looks: dict[str, Any] = {}
    intended: list[str] = []
    """Findings that somebody meant to be so, as `code place`."""
    _read: dict[int, tuple[Any, Any]] = PrivateAttr(default_factory=dict)

    def value(self, raw: Raw, where: str) -> Any:
        """A parameter as `values.read` makes it; keys, links and field references are read once."""
        if not isinstance(raw, dict):
            return raw
        found = self._read.get(id(raw))
        if found is None or found[0] is not raw:  # held beside it, so that no other takes its id
            found = self._read[id(raw)] = (raw, read(raw, where))
        return found[1]

    @model_validator(mode="after")
    def _ids_are_unique(self) -> "Study":
        for kind, parts in (
            ("shapes", self.shapes),
            ("regions", self.regions),
            ("lanes", [*self.fields, *self.flows]),
            *((f"steps of {lane.id}", lane.steps) for lane in [*self.fields, *self.flows]),
        ):
            seen: set[str] = set()
            for part in parts:  # type: ignore[attr-defined]
                if part.id in seen:
                    raise ValueError(f"two {kind} have the id '{part.id}'")
                seen.add(part.id)
        return self

    def find(self, kind: str, id: str, where: str) -> Any:
        """The shape, region, field or flow with this id, or an error that names the nearest. Raises StudyError."""
        parts: list[Any] = getattr(self, kind)
        for part in parts:
            if part.id == id:
                return part
        raise StudyError(f"there is no {kind[:-1]} '{id}'", where=where, fix=nearest(id, [p.id for p in parts]))

    def raw(self, path: str, where: str) -> Raw:
        """The parameter that a link path names: `regions.quay.voxel_size`, `fields.gusts.a.feature_size`. Raises
        StudyError."""
        kind, *rest = path.split(".")
        shown = 'for example "regions.quay.voxel_size" or "fields.gusts.a.feature_size"'
        if kind not in ("shapes", "regions", "fields", "flows"):
            raise StudyError(f"'{path}' is not the path of a parameter", where=where, fix=shown)
        wanted = 3 if kind in ("fields", "flows") else 2
        if len(rest) != wanted:
            raise StudyError(f"'{path}' is not the path of a parameter", where=where, fix=shown)
        part = self.find(kind, rest[0], where)
        if kind == "regions":
            values = {"voxel_size": part.voxel_size, "padding": part.bounds.padding, "turn": part.turn}
        elif kind == "shapes":
            values = part.params
        else:
            steps = {step.id: step for step in part.steps}
            if rest[1] not in steps:
                raise StudyError(f"{rest[0]} has no step '{rest[1]}'", where=where, fix=nearest(rest[1], steps))
            values = steps[rest[1]].params
        return values.get(rest[-1])


def parse(data: Any, where: str = "study") -> Study:
    """A study from decoded JSON: upgraded if it is of an older version, every value checked for form. Raises
    StudyError, with its place."""
    if not isinstance(data, dict):
        raise StudyError("a study is a JSON object", where=where)
    check_sound(data, where)
    if data.get("format") != FORMAT:
        raise StudyError(f"the format is {data.get('format')!r}", where=where, fix=f'right would be "{FORMAT}"')
    version = data.get("version")
    if not isinstance(version, int) or version > VERSION or version < 0:
        raise StudyError(
            f"version {version!r} is not known here", where=f"{where}.version", fix=f"this program reads 0 to {VERSION}"
        )
    data = upgraded(data, version)
    try:
        study = Study.model_validate(data)
    except ValidationError as error:
        first = error.errors()[0]
        path = _named(data, first["loc"])
        message = plain_words(first["msg"])
        fix = "ids are lower-case letters, digits and _, beginning with a letter" if path.endswith(".id") else ""
        raise StudyError(f"{message}", where=path or where, fix=fix) from None
    for place, raw in parameters(study):
        _finite(raw, place)
        read(raw, place)
    for lane, look in study.looks.items():  # JSON has no word for such a number: it would be kept as nothing
        _finite(look, f"looks.{lane}")
    return study


def _named(data: Any, loc: tuple[Any, ...]) -> str:
    """A place in the document with ids instead of list positions."""
    parts = []
    for key in loc:
        try:
            data = data[key]
        except (KeyError, IndexError, TypeError):
            data = None
        named = isinstance(key, int) and isinstance(data, dict) and isinstance(data.get("id"), str)
        parts.append(data["id"] if named else str(key))
    return ".".join(parts)


def _finite(raw: Raw, where: str) -> None:
    if isinstance(raw, float) and not math.isfinite(raw):
        raise StudyError(
            f"{raw} is not a number one can compute with", where=where, fix="right would be a finite number"
        )
    for inner in raw.values() if isinstance(raw, dict) else raw if isinstance(raw, list | tuple) else ():
        _finite(inner, where)


def parameters(study: Study) -> Iterator[tuple[str, Raw]]:
    """Every parameter of the study with its path."""
    for shape in study.shapes:
        for name, raw in shape.params.items():
            yield f"shapes.{shape.id}.{name}", raw
    for region in study.regions:
        yield f"regions.{region.id}.voxel_size", region.voxel_size
        yield f"regions.{region.id}.padding", region.bounds.padding
        yield f"regions.{region.id}.turn", region.turn
    for kind, lanes in (("fields", study.fields), ("flows", study.flows)):
        for lane in lanes:  # type: ignore[attr-defined]
            for step in lane.steps:
                for name, raw in step.params.items():
                    yield f"{kind}.{lane.id}.{step.id}.{name}", raw


def loads(text: str | bytes, where: str = "study") -> Study:
    """A study from JSON. Raises FileError for what is no JSON, StudyError for what is no study."""
    try:
        return parse(json.loads(text), where)
    except RecursionError:
        raise FileError("is nested too deep to be read", where=where, fix="no study is") from None
    except ValueError as error:  # of the syntax, of the text's coding, or a number with too many digits
        raise FileError(f"not valid JSON ({str(error)[:120]})", where=where) from None


def load(path: Path) -> Study:
    """Read a study file (at most 8 MiB). Raises FileError, and what `parse` does."""
    try:
        if path.stat().st_size > MAX_BYTES:
            raise FileError(f"larger than {MAX_BYTES >> 20} MiB, which no study is", where=str(path))
        return loads(path.read_bytes(), where=path.name)
    except OSError as error:
        raise FileError(f"cannot be read ({error.strerror})", where=str(path)) from None


def dump(study: Study) -> dict[str, Any]:
    """A study as JSON has it."""
    return study.model_dump(mode="json")


def content_hash(*parts: Any) -> str:
    """A hash of JSON-like values that does not depend on key order or on how numbers were typed (1 or 1.0)."""

    def plain(value: Any) -> Any:
        if isinstance(value, BaseModel):
            return plain(value.model_dump(mode="json"))
        if isinstance(value, bool) or value is None or isinstance(value, str):
            return value
        if isinstance(value, int | float):
            return float(value) + 0.0  # and -0, which other writers of JSON do not keep, is 0
        if isinstance(value, dict):
            return {str(k): plain(v) for k, v in value.items()}
        return [plain(v) for v in value]

    text = json.dumps(plain(list(parts)), sort_keys=True, separators=(",", ":"))
    return hashlib.sha256(text.encode()).hexdigest()[:24]


def fresh_name(wanted: str, taken: Iterable[str]) -> str:
    """A name that nothing else has: the wanted one, or with a number."""
    used, name, n = set(taken), wanted, 2
    while name in used:
        name, n = f"{wanted} {n}", n + 1
    return name


def fresh_id(wanted: str, taken: set[str]) -> str:
    """A stable id made from a name: `Light tower` -> `light_tower`, `light_tower_2`, …"""
    base = re.sub(r"[^a-z0-9]+", "_", wanted.lower()).strip("_") or "x"
    base = (base if base[0].isalpha() else f"x_{base}")[:32]
    id, count = base, 1
    while id in taken:
        count += 1
        id = f"{base}_{count}"
    return id
