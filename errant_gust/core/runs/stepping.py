"""Compute a run frame by frame into a store: continues where it was left, stops when asked, keeps what is done."""

import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import GustError
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.kind import State, open_flow
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.manifest import manifest_for
from errant_gust.core.wanted import check, unwanted, while_wanted


@dataclass(frozen=True)
class FrameDone:
    """Progress: which frame, how many of how many, seconds it took and seconds left (about)."""

    frame: int
    done: int
    total: int
    seconds: float
    left: float
    facts: dict[str, Any]


def are_numbers(channels: dict[str, Array], frame: int, flow: str) -> None:
    """Raise GustError where an array of a frame, of any shape, holds what is no number: what goes on from it would
    spread it, and nobody could use it."""
    for name, values in channels.items():
        if values.dtype.kind == "f" and not np.isfinite(values.sum()) and not np.isfinite(values).all():
            raise GustError(
                f"'{name}' is no longer numbers on frame {frame}", where=f"flows.{flow}",
                fix="a field that it follows grows without end or is no number there; the frames before it are kept",
            )  # fmt: skip


def compute_frames(
    plan: Plan,
    flow: str,
    folder: Path,
    *,
    quality: str = "full",
    last: int | None = None,
    cancel: Cancel | None = None,
    report: Callable[[FrameDone], None] | None = None,
) -> RunStore:
    """Compute frames up to `last` (the clock's end). Raises Cancelled when stopped, GustError where a frame would
    hold what is no number; complete frames stay."""
    study, assets = plan.study, plan.assets
    manifest = manifest_for(study, flow, quality, assets)
    steps = open_flow(plan, flow, quality)
    store = RunStore(folder)
    store.create(manifest)
    start, end = study.clock.start, study.clock.end if last is None else min(last, study.clock.end)
    with while_wanted(cancel), store.alone():
        store.clean()
        ready = set(store.frames())
        frame = start
        while frame in ready:
            frame += 1
        state: State | None = None
        recent: deque[float] = deque(maxlen=8)  # gas takes longer as it spreads: the last frames tell of the next
        first = True
        while frame <= end:
            check()
            if frame in ready:  # there was a gap before it: frames that were damaged are computed again
                state, frame = None, frame + 1
                continue
            if state is None and frame > start:
                state = steps.load(store.read(frame - 1), store.facts(frame - 1))
            t0 = time.perf_counter()
            state = steps.first() if state is None else steps.next(state, frame - 1, unwanted(), keep=False)
            facts = {**state.facts(), "time": study.clock.seconds(frame), "seconds": time.perf_counter() - t0}
            channels = state.channels()
            are_numbers(channels, frame, flow)
            store.write(frame, channels, facts)
            recent.append(time.perf_counter() - t0)
            if report is not None:
                each = sum(recent) / len(recent)
                report(
                    FrameDone(frame, frame - start + 1, end - start + 1, facts["seconds"], each * (end - frame), facts)
                )
            if first:
                recent.clear()  # meshes and kernels are loaded in it
                first = False
            frame += 1
    return store
