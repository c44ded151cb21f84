"""The whole catalogue: steps of field lanes and flow lanes, and kinds of shapes. One source for API, form and docs."""

from functools import cache
from typing import Any

from errant_gust.core import flows  # noqa: F401  (defines the flow steps)
from errant_gust.core.fields.catalogue import FLOW_STEPS, field_steps
from errant_gust.core.geometry.shapes import SHAPES
from errant_gust.core.study.parameters import summary


@cache
def catalogue() -> dict[str, Any]:
    steps = [{**cls.entry(), "lane": "field"} for cls in field_steps()]
    for kind, known in FLOW_STEPS.items():
        steps += [{**cls.entry(), "lane": kind} for cls in known.values()]
    return {"steps": steps, "shapes": [summary(cls) for cls in SHAPES.values()]}
