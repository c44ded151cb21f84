"""What steps of all flows have in common: the lanes that their parameters name."""

from typing import Any

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.scene import Scene

NOT_FITTING = {
    "vector": ("scalar", "take its gradient or curl, or choose a vector lane"),
    "scalar": ("vector", "take its magnitude or a component, or choose a scalar lane"),
}


def check_lanes(step: Any, scene: Scene, where: str) -> None:
    """Raise a StudyError if a lane that a parameter names is not of the kind that the step `wants`."""
    for name, kind in step.wants.items():
        lane = getattr(step, name)
        if lane and scene.lane(lane).kind != kind:
            other, fix = NOT_FITTING[kind]
            raise StudyError(f"'{lane}' is a {other}, {step.label} takes a {kind}", where=f"{where}.{name}", fix=fix)
