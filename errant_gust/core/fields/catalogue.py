"""All steps there are, by id. Importing this module defines them."""

from typing import Any

from errant_gust.core.errors import StudyError, nearest
from errant_gust.core.fields import (  # noqa: F401  (define the steps)
    analytic,
    changes,
    distances,
    domain,
    formula,
    from_run,
    gridded,
    joins,
    measured,
    noise,
    paths,
    plain_changes,
    pointwise_joins,
    shapes,
    solved,
    starts,
    steer,
    stencil,
    surfaces,
)
from errant_gust.core.fields.step import STEPS, FieldStep

FLOW_STEPS: dict[str, dict[str, Any]] = {}
"""Steps of flow lanes by kind of flow; filled by `core.flows`."""


def step_class(op: str, kind: str, where: str) -> Any:
    """The class of a step; `kind` is "field" or a kind of flow."""
    known: dict[str, Any] = dict(STEPS) if kind == "field" else FLOW_STEPS.get(kind, {})
    if op not in known:
        raise StudyError(f"'{op}' is not a step of a {kind} lane", where=f"{where}.op", fix=nearest(op, known))
    return known[op]


def field_steps() -> list[type[FieldStep]]:
    order = {"start": 0, "change": 1, "join": 2}
    return sorted(STEPS.values(), key=lambda cls: order[cls.family])
