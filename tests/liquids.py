"""Small liquid studies, and runs of them in memory."""

from typing import Any

from errant_gust.core.fields.plan import Plan
from errant_gust.core.flows.liquid.flow import LiquidFlow
from errant_gust.core.flows.liquid.state import LiquidState
from errant_gust.core.study.building import lane
from tests.studies import plan

CLOSED = dict.fromkeys(("west", "east", "south", "north", "below", "above"), False)
G = 9.81


def box(id: str, lower: Any, upper: Any, **more: Any) -> dict[str, Any]:
    """A box shape between two corners."""
    size = [b - a for a, b in zip(lower, upper, strict=True)]
    middle = [(a + b) / 2 for a, b in zip(lower, upper, strict=True)]
    return {"id": id, "kind": "box", "params": {"size": size, "move": middle, **more}}


def ball(id: str, radius: float, at: Any, **more: Any) -> dict[str, Any]:
    return {"id": id, "kind": "sphere", "params": {"radius": radius, "move": list(at), **more}}


def once(shape: str, **more: Any) -> tuple[str, dict[str, Any]]:
    """A Source that fills a shape on the first frame."""
    return "source", {"shape": shape, "until": 0.001, **more}


def liquid(
    *steps: Any, h: float, room: Any, shapes: Any = (), fields: Any = (), domain: Any = None, fps: float = 24,
    end: int = 24, turn: Any = (0, 0, 0),
) -> Plan:  # fmt: skip
    """A study with one liquid lane `w` in the region `tank`: a Domain and these steps."""
    made = {**lane("w", ("domain", {"region": "tank", **(domain or {})}), *steps), "kind": "liquid"}
    bounds = {"lower": list(room[0]), "upper": list(room[1])}
    regions = [{"id": "tank", "bounds": bounds, "voxel_size": h, "turn": list(turn)}]
    return plan(*fields, flows=[made], shapes=list(shapes), regions=regions, clock={"fps": fps, "start": 1, "end": end})


def run(p: Plan, frames: int, each: Any = None, quality: str = "full") -> tuple[LiquidFlow, LiquidState]:
    """The flow and its state after so many frames; `each` is shown every state, with its time in seconds."""
    flow = LiquidFlow(p, "w", quality=quality)
    state = flow.first()
    for n in range(1, frames + 1):
        state = flow.next(state, n)
        if each is not None:
            each(state, p.study.clock.seconds(n + 1))
    return flow, state
