"""What a kind of flow is. One subclass a kind, in `flows/<kind>/kind.py`, that puts itself in as it is defined.

Nothing outside that folder names a kind: it asks `KINDS` for what a kind says of itself, and frames for what they
offer (see `results`).
"""

from typing import Any, ClassVar, Protocol

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import StudyError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.readings import Reading
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.halving import Finer, Halved, between
from errant_gust.core.flows.looks import CHANNEL, LOOKS
from errant_gust.core.flows.results import Form, Frames, Result
from errant_gust.core.study import registry
from errant_gust.core.study.depends import check_circles
from errant_gust.core.study.document import Study
from errant_gust.core.study.finding import Finding
from errant_gust.core.study.parameters import summary


class State(Protocol):
    """A flow's state at a frame; `channels` are all arrays that a run needs to go on from it."""

    @property
    def count(self) -> int:
        """How many particles, cells or vertices there are."""

    def channels(self) -> dict[str, Array]:
        """Arrays to be stored, (n,), (n, k) or (nx, ny, nz)."""

    def facts(self) -> dict[str, Any]:
        """What is stored beside them, as JSON has it."""


class Flow(Protocol):
    """Steps a state from frame to frame; the state is a function of the study, the frame and the quality."""

    def first(self) -> Any:
        """The state before the first frame."""

    def next(self, state: Any, frame: int, cancel: Cancel | None = None, keep: bool = True) -> Any:
        """The state on frame + 1; without `keep` the given one may be used up."""

    def load(self, arrays: dict[str, Array], facts: dict[str, Any]) -> Any:
        """The state from what was stored: arrays (n,), (n, k) or (nx, ny, nz)."""

    def estimate(self) -> tuple[int, int]:
        """How many there are at most, in the kind's `unit`, and the bytes that takes."""

    def scale(self, facts: dict[str, Any], measured: Any) -> tuple[float, float]:
        """How many times the seconds and the count a frame of another version or quality of the flow would have."""

    def halved(self, state: Any, frame: int, cancel: Cancel | None = None) -> list[Halved]:
        """What half steps would change until the next frame; none where nothing lasts so long. Raises Cancelled."""


class LaneFlow:
    """A flow lane of a study, ready to be stepped: what flows of all kinds have in common."""

    sort: ClassVar[str]

    def __init__(self, plan: Plan, id: str, *, quality: str = "full") -> None:
        self.plan, self.id, self.quality = plan, id, quality
        self.lane = plan.study.find("flows", id, f"flows.{id}")
        self.clock = plan.study.clock
        self.finer = Finer()
        check_circles(plan.study, id)

    def halved(self, state: Any, frame: int, cancel: Cancel | None = None) -> list[Halved]:
        """See `Flow`: the frame as it is computed, and in twice as many substeps."""
        made: list[Any] = []
        try:
            for self.finer.times in (1, 2):
                made.append(self.next(state, frame, cancel))
        finally:
            self.finer = Finer()
        found = between(int(made[0].pace["substeps"]), *self.compared(state, *made), self.moves)
        return [found] if found else []

    moves: ClassVar[str]
    """What half steps are told of, in the plural."""

    def next(self, state: Any, frame: int, cancel: Cancel | None = None, keep: bool = True) -> Any:
        """See `Flow`."""
        raise NotImplementedError

    def compared(self, start: Any, whole: Any, halves: Any) -> tuple[Array, Array, Array]:
        """Places (3, n), in m, of the same things in three states: before a frame, after it, and after it in half
        steps."""
        raise NotImplementedError


class FlowKind:
    """A kind of flow: what it is called, what its lanes begin with, what its frames offer, and how it is computed."""

    id: ClassVar[str]
    label: ClassVar[str]
    yields: ClassVar[str]
    """What comes out, in a few words."""
    unit: ClassVar[str]
    """What is counted."""
    icon: ClassVar[str]
    """Name of an icon of the interface's set."""
    smaller: ClassVar[str]
    """What would fit, when there was not enough memory."""
    engine: ClassVar[int]
    """Version of what it computes: raised when the same study would give other frames than before. Part of the
    identity of its runs and of no other kind's."""
    dear: ClassVar[bool] = False
    """Whether its frames cost so much that who needs its points reads them from its run, rather than stepping it
    along."""
    begins_with: ClassVar[tuple[tuple[str, dict[str, Any]], ...]] = ()
    """Steps of a new lane and their parameters, chosen so that a run shows something at once. What a parameter has to
    name (a region, a shape) is filled in from what the study has."""
    results: ClassVar[tuple[Result, ...]] = ()
    look: ClassVar[dict[str, Any]] = {}
    """What its look is at first, where that is not as looks of the form are."""

    def __init_subclass__(cls, **kwargs: Any) -> None:
        super().__init_subclass__(**kwargs)
        KINDS[cls.id] = cls()
        registry.open_kind(cls.id)

    def open(self, plan: Plan, id: str, quality: str) -> Flow:
        """The flow of a lane, ready to be stepped."""
        raise NotImplementedError

    def findings(self, plan: Plan, id: str, flow: Any, readings: dict[str, Reading]) -> list[Finding]:
        """What is likely wrong with a lane that can be opened; `readings`: numbers of field lanes by id."""
        return []

    def frame_findings(self, plan: Plan, id: str, frames: Frames, frame: int) -> list[Finding]:
        """What is wrong with a frame."""
        return []

    def result(self, name: str = "", form: str = "") -> Result:
        """A result by name or the first of a form; else the first. Raises StudyError where there is none."""
        for found in self.results:
            if (not name or found.name == name) and (not form or found.form == form):
                return found
        known = ", ".join(r.name for r in self.results)
        what = f"no result '{name}'" if name else f"no {form}"
        raise StudyError(f"{self.label} has {what}", where="result", fix=f"one of: {known}")

    def offers(self, form: str) -> bool:
        """Whether a run holds a result of this form."""
        return any(r.form == form and not r.from_study for r in self.results)

    def entry(self) -> dict[str, Any]:
        """The kind in the catalogue."""
        forms = dict.fromkeys(r.form for r in self.results)
        return {
            "id": self.id, "label": self.label, "yields": self.yields, "unit": self.unit, "icon": self.icon,
            "begins_with": [{"op": op, "params": params} for op, params in self.begins_with],
            "results": [r.entry() for r in self.results],
            "looks": {form: self._looks(form) for form in forms if form in LOOKS},
        }  # fmt: skip

    def _looks(self, form: str) -> list[dict[str, Any]]:
        """Parameters of the look of a form, with what they are at first in lanes of this kind."""
        params = summary(LOOKS[form])["params"]
        if form == "mesh" and not any(r.form == "points" for r in self.results):  # nothing but the surface is coloured
            toned = [p for p in summary(LOOKS["points"])["params"] if p["name"] in TONED]
            toned = [{**p, "when": {**CHANNEL, **(p["when"] or {})}} for p in toned]
            params = [p for p in params if p["name"] not in BESIDE_POINTS] + toned
        return [{**p, "default": self.look.get(p["name"], p["default"])} for p in params]


KINDS: dict[str, FlowKind] = {}
TONED = ("colour", "map", "first", "last", "low", "high")
"""Parameters of a look that say how a channel is seen."""
BESIDE_POINTS = ("draw",)
"""Those of a surface that have a meaning only where there are points too."""


def kind_of(name: str, where: str = "kind") -> FlowKind:
    """A kind of flow by its id. Raises StudyError for what is none."""
    if name not in KINDS:
        raise StudyError(f"'{name}' is no kind of flow", where=where, fix=f"one of: {', '.join(KINDS)}")
    return KINDS[name]


def open_flow(plan: Plan, id: str, quality: str = "full") -> Flow:
    """The flow with this id, ready to be stepped."""
    lane = plan.study.find("flows", id, f"flows.{id}")
    return kind_of(lane.kind, f"flows.{id}.kind").open(plan, id, quality)


def offering(study: Study, flow: str, form: Form, where: str) -> Result:
    """The result of a form that a flow's frames offer, the first or that which the reference names; or a StudyError."""
    flow, _, name = flow.partition(":")
    kind = kind_of(study.find("flows", flow, where).kind, where)
    if not kind.offers(form):
        ways = " or ".join(k.label for k in KINDS.values() if k.offers(form))
        raise StudyError(f"'{flow}' has no {form}: it is {kind.label}", where=where, fix=f"choose a lane of {ways}")
    try:
        return kind.result(name, form)
    except StudyError as error:
        raise StudyError(error.what, where=where, fix=error.fix) from None
