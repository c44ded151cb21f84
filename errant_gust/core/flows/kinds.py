"""The kinds of flow there are, and what a run needs of each."""

from typing import Any, Protocol

from errant_gust.core.fields.blocks import Cancel
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Plan
from errant_gust.core.flows.gas.refined import open_gas
from errant_gust.core.flows.particles.flow import ParticleFlow


class State(Protocol):
    """A flow's state at a frame; `channels` are all arrays that a run needs to go on from it."""

    @property
    def count(self) -> int: ...

    def channels(self) -> dict[str, Array]: ...

    def facts(self) -> dict[str, Any]: ...


class Flow(Protocol):
    """Steps a state from frame to frame; the state is a function of the study, the frame and the quality."""

    def first(self) -> Any: ...

    def next(self, state: Any, frame: int, cancel: Cancel | None = None, keep: bool = True) -> Any:
        """The state on frame + 1; without `keep` the given one may be used up."""

    def load(self, arrays: dict[str, Array], facts: dict[str, Any]) -> Any: ...

    def estimate(self) -> tuple[int, int]:
        """How many (UNIT) there are at most, and the bytes that takes."""

    def scale(self, facts: dict[str, Any], measured: Any) -> tuple[float, float]:
        """How many times the seconds and the count a frame of another version or quality of the flow would have."""


KINDS: dict[str, Any] = {"particles": ParticleFlow, "gas": open_gas}
UNIT = {"particles": "particles", "gas": "voxels"}


def open_flow(plan: Plan, id: str, quality: str = "full") -> Flow:
    """The flow with this id, ready to be stepped."""
    lane = plan.study.find("flows", id, f"flows.{id}")
    flow: Flow = KINDS[lane.kind](plan, id, quality=quality)
    return flow
