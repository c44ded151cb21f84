"""A finding, and the changes that mend what it tells."""

from dataclasses import asdict, dataclass
from typing import Any, Literal

from errant_gust.core.errors import BudgetError, GustError
from errant_gust.core.study import document

Level = Literal["error", "warning", "note"]


@dataclass(frozen=True)
class Finding:
    """One finding. `where` is a path in the study; `fix`, if any, is a labelled change of parameters or steps."""

    level: Level
    code: str
    where: str
    what: str
    why: str = ""
    fix: dict[str, Any] | None = None
    may_be_meant: bool = False
    """Whether "intended" is an answer: kept in the study, it silences the finding."""

    @property
    def key(self) -> str:
        """By which it is known from one look to the next."""
        return f"{self.code} {self.where}"

    def as_dict(self) -> dict[str, Any]:
        """As JSON has it."""
        return asdict(self)


def set_param(label: str, path: str, value: Any) -> dict[str, Any]:
    """A fix that sets one parameter: `fields.gusts.b.method`."""
    return {"label": label, "set": {path: value}}


def append_step(label: str, study: document.Study, lane: str, op: str, params: dict[str, Any]) -> dict[str, Any]:
    """A fix that puts a step at the end of a field lane."""
    steps = study.find("fields", lane, "").steps
    step = {"id": document.fresh_id(op, {s.id for s in steps}), "op": op, "on": True, "params": params}
    return {"label": label, "set": {}, "append": {"lane": lane, "step": step}}


def broken_part(error: GustError) -> Finding:
    """What keeps a part of the study from being built."""
    code = "over_budget" if isinstance(error, BudgetError) else "cannot_be_built"
    fix = None
    if isinstance(error, BudgetError) and error.fits and error.where.startswith("regions."):
        fix = set_param(f"Voxel size {error.fits:g} m", error.where, error.fits)
    return Finding("error", code, error.where, error.what, error.fix, fix)
