"""A flow of a study computed into a folder; see `stepping`."""

from collections.abc import Callable
from pathlib import Path

from errant_gust.core.blocks import Cancel
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.stepping import FrameDone, compute_frames
from errant_gust.core.study import document

__all__ = ["FrameDone", "compute"]


def compute(
    study: document.Study,
    flow: str,
    folder: Path,
    *,
    quality: str = "full",
    assets: Assets | None = None,
    last: int | None = None,
    cancel: Cancel | None = None,
    report: Callable[[FrameDone], None] | None = None,
) -> RunStore:
    """Compute frames up to `last` (the clock's end). Raises Cancelled when stopped; complete frames stay."""
    plan = plan_of(study, assets)
    return compute_frames(plan, flow, folder, quality=quality, last=last, cancel=cancel, report=report)
