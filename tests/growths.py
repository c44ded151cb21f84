"""Small growth studies, and runs of them in memory."""

from typing import Any

from errant_gust.core.fields.plan import Plan
from errant_gust.core.flows.growth.flow import GrowthFlow
from errant_gust.core.flows.growth.state import GrowthState
from errant_gust.core.study.building import lane
from tests.studies import plan

ROOM = ((-1, -1, -1), (1, 1, 1))


def growth(
    *steps: Any, h: float = 0.05, room: Any = ROOM, shapes: Any = (), fields: Any = (), flows: Any = (),
    domain: Any = None, end: int = 24, turn: Any = (0, 0, 0),
) -> Plan:  # fmt: skip
    """A study with one growth lane `g` in the region `room`: a Domain and these steps."""
    made = {**lane("g", ("domain", {"region": "room", **(domain or {})}), *steps), "kind": "growth"}
    regions = [
        {"id": "room", "bounds": {"lower": list(room[0]), "upper": list(room[1])}, "voxel_size": h, "turn": list(turn)}
    ]
    clock = {"fps": 24, "start": 1, "end": end}
    return plan(*fields, flows=[made, *flows], shapes=list(shapes), regions=regions, clock=clock)


def run(p: Plan, frames: int, quality: str = "full") -> tuple[GrowthFlow, GrowthState]:
    """The flow and its state after so many frames."""
    flow = GrowthFlow(p, "g", quality=quality)
    state = flow.first()
    for n in range(1, frames + 1):
        state = flow.next(state, n)
    return flow, state


def inside(state: GrowthState) -> Any:
    """Middles (3, n) of the voxels inside."""
    window = state.window
    return window.centres(0, window.voxels)[:, (state.distance < 0).reshape(-1)]
