"""Frames that a disk has damaged: found by their sums, taken away, computed again by whoever goes on with the run."""

import shutil

from errant_gust.core.blocks import Cancel, Progress
from errant_gust.core.errors import Cancelled, FileError
from errant_gust.core.runs.frame_store import RunStore


def damaged(store: RunStore, progress: Progress | None = None, cancel: Cancel | None = None) -> dict[int, str]:
    """Frames of a run that are not as they were written, and what is wrong with each. Raises Cancelled."""
    found: dict[int, str] = {}
    frames = store.frames()
    for n, frame in enumerate(frames):
        if cancel is not None and cancel():
            raise Cancelled
        try:
            store.facts(frame)
            for name in store.names(frame):
                store.read(frame, (name,))
        except FileError as error:
            found[frame] = error.what
        if progress is not None:
            progress((n + 1) / len(frames))
    return found


def take_away(store: RunStore, frames: list[int]) -> None:
    """Frames that are to be computed again. Raises Elsewhere while somebody computes the run."""
    with store.alone():
        for frame in frames:
            aside = store.frames_folder / f".writing-{frame:06d}-damaged"
            shutil.rmtree(aside, ignore_errors=True)
            store.path(frame).rename(aside)  # at once no frame any more
            shutil.rmtree(aside, ignore_errors=True)
