"""States of particle flows in memory, for fields that are made from particles."""

import threading
from typing import Any

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.flow_states import STATES
from errant_gust.core.fields.scene import Plan, Scene
from errant_gust.core.flows.particles.flow import ParticleFlow
from errant_gust.core.flows.particles.state import Particles

_busy = threading.local()
_known: dict[tuple[int, str], dict[int, Particles]] = {}
_lock = threading.RLock()
KEPT = 24


def state_at(scene: Scene, id: str, where: str) -> Particles:
    """The flow's preview at the frame of the scene's time; frames before it are computed if they must be."""
    going: set[str] = _busy.__dict__.setdefault("going", set())
    if id in going:
        raise StudyError(
            f"the flow '{id}' is carried by a field that is made from it", where=where, fix="carry it by another field"
        )
    plan = scene.plan or Plan(scene.study, scene.assets)
    clock = scene.study.clock
    frame = clock.start + max(0, round(scene.time * clock.fps * clock.slow_motion))
    going.add(id)
    try:
        with _lock:
            key = (id_of(plan), id)
            frames = _known.setdefault(key, {})
            while len(_known) > 8:
                _known.pop(next(iter(_known)))
            return _computed(plan, id, frames, frame, clock.start)
    finally:
        going.discard(id)


def id_of(plan: Plan) -> int:
    return hash(plan.study.model_dump_json())


def _computed(plan: Plan, id: str, frames: dict[int, Any], frame: int, first: int) -> Particles:
    if frame in frames:
        return frames[frame]
    flow = ParticleFlow(plan, id, quality="preview")
    start = max((f for f in frames if f < frame), default=None)
    state = flow.first() if start is None else frames[start]
    for f in range(first if start is None else start, frame):
        state = flow.next(state, f)
    frames[frame] = state
    while len(frames) > KEPT:
        frames.pop(next(iter(frames)))
    return state


STATES[0] = state_at
