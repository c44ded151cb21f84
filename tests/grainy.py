"""Small studies of grains, and runs of them in memory."""

from typing import Any

from errant_gust.core.fields.plan import Plan
from errant_gust.core.flows.grains.flow import GrainFlow
from errant_gust.core.flows.grains.kind import GrainKind
from errant_gust.core.flows.grains.state import GrainState
from errant_gust.core.study.building import lane
from tests.studies import plan

SHUT = dict.fromkeys(("west", "east", "south", "north", "below", "above"), False)
G = 9.81


def grains(
    *steps: Any, spacing: float, room: Any, shapes: Any = (), fields: Any = (), domain: Any = None, fps: float = 60,
    end: int = 60, turn: Any = (0, 0, 0), slow: float = 1.0,
) -> Plan:  # fmt: skip
    """A study with one lane `w` of grains in the region `pit`: a Domain and these steps."""
    made = {
        **lane("w", ("domain", {"region": "pit", "spacing": spacing, **(domain or {})}), *steps), "kind": GrainKind.id,
    }  # fmt: skip
    bounds = {"lower": list(room[0]), "upper": list(room[1])}
    regions = [{"id": "pit", "bounds": bounds, "voxel_size": 0.1, "turn": list(turn)}]
    clock = {"fps": fps, "start": 1, "end": end, "slow_motion": slow}
    return plan(*fields, flows=[made], shapes=list(shapes), regions=regions, clock=clock)


def run(p: Plan, frames: int, each: Any = None, quality: str = "full") -> tuple[GrainFlow, GrainState]:
    """The flow and its state after so many frames; `each` is shown every state, with its time in seconds."""
    flow = GrainFlow(p, "w", quality=quality)
    state = flow.first()
    for n in range(1, frames + 1):
        state = flow.next(state, n)
        if each is not None:
            each(state, p.study.clock.seconds(n + 1))
    return flow, state
