"""What fields need from flows without importing them (flows stand on fields): filled by `core.flows`."""

from collections.abc import Callable
from typing import Any


def _none(scene: Any, flow: str, where: str) -> Any:
    raise RuntimeError("no flows are known; import errant_gust.core.flows")


STATES: list[Callable[[Any, str, str], Any]] = [_none]
"""[state of a particle flow at the scene's time: (scene, flow id, place in the study) -> Particles]."""


def _no_volumes(scene: Any, flow: str, name: str, quality: str, frame: int, where: str, cancel: Any = None) -> Any:
    raise RuntimeError("no runs are known; import errant_gust.core.runs.volumes")


def _no_frames(scene: Any, flow: str, quality: str, frame: int, where: str, cancel: Any = None) -> Any:
    raise RuntimeError("no runs are known; import errant_gust.core.runs.volumes")


VOLUMES: list[Callable[..., Any]] = [_no_volumes]
"""[a channel of a gas run on a frame: (scene, flow id, channel, quality, frame, place, cancel) -> Grid]."""

GAS_FRAMES: list[Callable[..., Any]] = [_no_frames]
"""[what a gas run holds on a frame: (scene, flow id, quality, frame, place, cancel) -> arrays, facts]."""
