"""Open a study, and a lane of it as a function; all that scripts use is in `scripting`."""

from pathlib import Path

from errant_gust.core.fields import steps  # noqa: F401  (defines the steps of field lanes)
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.sampling import Field
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.study import document


def open_study(path: Path | str) -> Plan:
    """A study file, ready to be evaluated; its mesh files lie beside it."""
    path = Path(path)
    return plan_of(document.load(path), Assets(path.parent))


def field(plan: Plan, id: str) -> Field:
    """The field lane `id` of the study `plan` as a function: `.sample(points, time)` and
    `.sample_with_gradient(points, time)`. Raises StudyError for a lane that is not there, or cannot be built."""
    plan.at(0.0).lane(id)
    return Field(plan, id)
