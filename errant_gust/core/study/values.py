"""Parameter values as they stand in a study: a literal, keys, a link, or a field.

Keys change a value over time (seconds since the first frame); their integral is exact, so that a rate can be keyed.
"""

import itertools
from bisect import bisect_right
from collections.abc import Callable
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator

from errant_gust.core.errors import StudyError

Number = float | tuple[float, float, float]


class Keys(BaseModel):
    """A value over time. `smooth` is a cubic Hermite curve with finite-difference slopes, `hold` keeps each value."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    keys: list[tuple[float, Number]] = Field(min_length=1)
    between: Literal["smooth", "linear", "hold"] = "smooth"

    @field_validator("keys")
    @classmethod
    def _in_order(cls, keys: list[tuple[float, Number]]) -> list[tuple[float, Number]]:
        if any(b[0] <= a[0] for a, b in itertools.pairwise(keys)):
            raise ValueError("keys must be in order of time, no two at the same time")
        if len({isinstance(value, tuple) for _, value in keys}) > 1:
            raise ValueError("keys must all be numbers or all be vectors")
        return keys

    def at(self, time: float) -> Number:
        """The value at a time in s."""
        return self._each(lambda values: self._value(values, time))

    def total(self, time: float) -> Number:
        """Integral from 0 to `time`, for parameters that are rates."""
        return self._each(lambda values: self._integral(values, time) - self._integral(values, 0.0))

    def _each(self, function: Callable[[list[float]], float]) -> Number:
        first = self.keys[0][1]
        if isinstance(first, tuple):
            x, y, z = (function([value[i] for _, value in self.keys]) for i in range(3))  # type: ignore[index]
            return (x, y, z)
        return function([value for _, value in self.keys])  # type: ignore[misc]

    def _slopes(self, v: list[float]) -> list[float]:
        t = [key[0] for key in self.keys]
        last = len(t) - 1
        return [0.0 if i in (0, last) else (v[i + 1] - v[i - 1]) / (t[i + 1] - t[i - 1]) for i in range(last + 1)]

    def _value(self, v: list[float], time: float) -> float:
        t = [key[0] for key in self.keys]
        if time <= t[0]:
            return v[0]
        if time >= t[-1]:
            return v[-1]
        i = bisect_right(t, time) - 1
        if self.between == "hold":
            return v[i]
        h = t[i + 1] - t[i]
        s = (time - t[i]) / h
        if self.between == "linear":
            return v[i] + s * (v[i + 1] - v[i])
        m = self._slopes(v)
        return (
            v[i] * (1 + 2 * s) * (1 - s) ** 2
            + h * m[i] * s * (1 - s) ** 2
            + v[i + 1] * s * s * (3 - 2 * s)
            + h * m[i + 1] * s * s * (s - 1)
        )

    def _integral(self, v: list[float], time: float) -> float:
        """Integral from the first key to `time`; Simpson's rule is exact on each (at most cubic) piece."""
        t = [key[0] for key in self.keys]
        if time <= t[0]:
            return v[0] * (time - t[0])
        total = 0.0
        for i in range(len(t) - 1):
            end = min(time, t[i + 1])
            if end <= t[i]:
                break
            if self.between == "hold":
                total += v[i] * (end - t[i])
            else:
                middle = self._value(v, 0.5 * (t[i] + end))
                total += (end - t[i]) / 6 * (v[i] + 4 * middle + self._value(v, end))
        return total + v[-1] * max(0.0, time - t[-1])


class Link(BaseModel):
    """A value taken from another parameter: `times` its value `plus` a number."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    link: str
    times: float = 1.0
    plus: float = 0.0


class FieldRef(BaseModel):
    """A field that stands where a number could."""

    model_config = ConfigDict(extra="forbid")
    field: str


Special = Keys | Link | FieldRef


def read(raw: Any, where: str) -> Any:
    """A literal as it is; `{"keys": …}`, `{"link": …}` and `{"field": …}` as their models. Raises StudyError for
    what is none of these."""
    if not isinstance(raw, dict):
        return raw
    kinds: dict[str, type[Special]] = {"keys": Keys, "link": Link, "field": FieldRef}
    for key, model in kinds.items():
        if key in raw:
            try:
                return model.model_validate(raw)
            except ValidationError as error:
                first = error.errors()[0]
                place = ".".join([where, *(str(p) for p in first["loc"])])
                raise StudyError(f"{first['msg']}, got {str(first.get('input'))[:60]!r}", where=place) from None
    raise StudyError(
        f"a value in braces needs 'keys', 'link' or 'field', got {sorted(raw)}",
        where=where,
        fix='for example {"link": "regions.quay.voxel_size", "times": 6}',
    )


def simple(value: Any) -> Any:
    """The JSON form of a value that `read` returned."""
    if isinstance(value, Keys | Link | FieldRef):
        return value.model_dump(mode="json", exclude_defaults=True)
    return value


def raw_schema() -> dict[str, Any]:
    """JSON schema of a parameter as it stands in a study."""
    refs = [{"$ref": f"#/components/schemas/{model.__name__}"} for model in (Keys, Link, FieldRef)]
    plain = [{"type": t} for t in ("number", "string", "boolean", "null")]
    lists: list[dict[str, Any]] = [
        {"type": "array", "items": {"type": "number"}},
        {"type": "array", "items": {"type": "array", "items": {"type": "number"}}},
        {"type": "array", "items": {"type": "string"}},
    ]
    return {"anyOf": [*plain, *lists, *refs]}
