"""What fields need from flows without importing them (flows stand on fields): filled by `core.flows`."""

from collections.abc import Callable
from typing import Any


def _none(scene: Any, flow: str, where: str) -> Any:
    raise RuntimeError("no flows are known; import errant_gust.core.flows")


STATES: list[Callable[[Any, str, str], Any]] = [_none]
"""[state of a particle flow at the scene's time: (scene, flow id, place in the study) -> Particles]."""
