"""The whole catalogue: steps of field lanes and flow lanes, kinds of shapes, kinds of flow. One source for API, form
and docs."""

from typing import Any

from errant_gust.core.fields import steps  # noqa: F401  (defines the steps of field lanes)
from errant_gust.core.flows.kind import KINDS
from errant_gust.core.geometry.shapes import SHAPES
from errant_gust.core.pictures.light import LightLook
from errant_gust.core.runs.export import FORMATS
from errant_gust.core.study.parameters import describe, summary
from errant_gust.core.study.registry import FIELD, flow_kinds, steps_of

ORDER = {"start": 0, "change": 1, "join": 2}
PLACES = {"domain": 0, "emit": 0, "source": 1, "motion": 2, "force": 2, "change": 3, "solid": 4, "drawn": 5}
"""Where steps of flows stand in lists, by their family; those that a lane begins with are the first of theirs."""


def _in_order(sort: str) -> list[Any]:
    first = [op for op, _ in KINDS[sort].begins_with]
    rank = {op: n for n, op in enumerate(first)}
    found: list[Any] = list(steps_of(sort).values())
    return sorted(found, key=lambda cls: (PLACES.get(cls.family, len(PLACES)), rank.get(cls.id, len(rank))))


def catalogue() -> dict[str, Any]:
    """Everything that can be put into a study, as the interface and the command line list it."""
    fields: list[Any] = sorted(steps_of(FIELD).values(), key=lambda cls: ORDER[cls.family])  # type: ignore[attr-defined]
    listed = [{**cls.entry(), "lane": FIELD} for cls in fields]
    for sort in flow_kinds():
        listed += [{**cls.entry(), "lane": sort} for cls in _in_order(sort)]
    kinds = []
    for kind in KINDS.values():
        entry = kind.entry()
        for result in entry["results"]:
            result["formats"] = list(FORMATS[result["form"]])
        kinds.append(entry)
    shapes = [summary(cls) for cls in SHAPES.values()]
    return {"steps": listed, "shapes": shapes, "kinds": kinds, "light": describe(LightLook)}
