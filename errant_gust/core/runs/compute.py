"""Compute a run frame by frame into a store: continues where it was left, stops when asked, keeps what is done."""

import threading
import time
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from errant_gust.core import flows  # noqa: F401  (defines the flow steps)
from errant_gust.core.errors import Cancelled
from errant_gust.core.fields.blocks import Cancel
from errant_gust.core.fields.scene import Plan
from errant_gust.core.flows.kinds import State, open_flow
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.runs.identity import ENGINE, run_identity
from errant_gust.core.runs.store import RunStore
from errant_gust.core.study import document


@dataclass(frozen=True)
class FrameDone:
    """Progress: which frame, how many of how many, seconds it took and seconds left (about)."""

    frame: int
    done: int
    total: int
    seconds: float
    left: float
    facts: dict[str, Any]


@contextmanager
def _marked(flow: str) -> Iterator[None]:
    going().add(flow)
    try:
        yield
    finally:
        going().discard(flow)


def manifest_for(study: document.Study, flow: str, quality: str, assets: Assets) -> dict[str, Any]:
    return {
        "identity": run_identity(study, flow, quality, assets),
        "engine": ENGINE,
        "study": document.dump(study),
        "flow": flow,
        "kind": study.find("flows", flow, f"flows.{flow}").kind,
        "quality": quality,
        "clock": study.clock.model_dump(),
    }


_busy = threading.local()


def going() -> set[str]:
    """Flows that this thread computes now: one must not be made from itself."""
    found: set[str] = _busy.__dict__.setdefault("going", set())
    return found


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
    assets = assets or Assets()
    manifest = manifest_for(study, flow, quality, assets)
    plan = Plan(study, assets)
    steps = open_flow(plan, flow, quality)
    store = RunStore(folder)
    # what is drawn from frames later looks its meshes up there
    store.create({**manifest, "assets": str(assets.folder.resolve()) if assets.folder else ""})
    start, end = study.clock.start, study.clock.end if last is None else min(last, study.clock.end)
    with store.alone(), _marked(flow):
        store.clean()
        ready = store.frames()
        frame = start
        while frame in ready:
            frame += 1
        state: State | None = None
        if frame > start:
            state = steps.load(store.read(frame - 1), store.facts(frame - 1))
        recent: deque[float] = deque(maxlen=8)  # gas takes longer as it spreads: the last frames tell of the next
        first = True
        while frame <= end:
            if cancel is not None and cancel():
                raise Cancelled
            t0 = time.perf_counter()
            state = steps.first() if state is None else steps.next(state, frame - 1, cancel, keep=False)
            facts = {**state.facts(), "time": study.clock.seconds(frame), "seconds": time.perf_counter() - t0}
            store.write(frame, state.channels(), facts)
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
