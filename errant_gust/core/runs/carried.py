"""What fields and flows ask of flows: points from previews in memory, volumes from runs in the store."""

import time as clock_time
from collections import OrderedDict
from functools import lru_cache
from pathlib import Path
from typing import Any

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import StudyError
from errant_gust.core.fields.flow_data import FlowPoints
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows.drawing import drawing_of
from errant_gust.core.flows.kind import KINDS, kind_of, offering, open_flow
from errant_gust.core.flows.results import Lines, MeshData, PointsResult, VolumeResult
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.grids.grid import Grid
from errant_gust.core.home import home
from errant_gust.core.making import Making, inner_lock
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.identity import run_identity
from errant_gust.core.runs.lease import Elsewhere
from errant_gust.core.runs.manifest import begin
from errant_gust.core.runs.stepping import compute_frames
from errant_gust.core.study import document
from errant_gust.core.study.depends import check_circles
from errant_gust.core.study.parameters import flow_of
from errant_gust.core.wanted import aside, check, unwanted, while_wanted

PATIENCE = 600.0  # seconds without a new frame after which a run that somebody else computes is given up
MOST_FLOWS, MOST_STATES = 8, 24  # kept in memory


class _States:
    """States of a flow's preview in memory; one thread at a time computes more."""

    def __init__(self) -> None:
        self.making = Making("the points of a flow")
        self.frames: dict[int, Any] = {}


_known: OrderedDict[str, _States] = OrderedDict()
_lock = inner_lock("flows in memory")


def _states_of(identity: str) -> _States:
    with _lock:
        found = _known.setdefault(identity, _States())
        _known.move_to_end(identity)
        while len(_known) > MOST_FLOWS:
            _known.popitem(last=False)
        return found


class Carried:
    """`fields.flow_data.FlowData`, from previews that are computed in memory and from runs in the home folder."""

    def points_at(self, scene: Scene, flow: str, where: str, cancel: Cancel | None = None) -> FlowPoints:
        """The points of a flow at the scene's time, computed if need be. Raises StudyError for a flow that has none,
        and for flows that use each other in a circle."""
        found = offering(scene.study, flow, "points", where)
        assert isinstance(found, PointsResult)
        flow = flow_of(flow)
        check_circles(scene.study, flow)
        plan = scene.plan or plan_of(scene.study, scene.assets)
        clock = scene.study.clock
        frame = clock.start + max(0, round(scene.time * clock.fps * clock.slow_motion))
        frame = min(frame, max(clock.start, clock.end))  # whatever time is asked for, there are no frames beyond it
        states = _states_of(run_identity(scene.study, flow, "preview", scene.assets))
        with aside(), while_wanted(cancel), states.making:
            return found.of(_computed(plan, flow, states.frames, frame, clock.start).channels())

    def volume_at(
        self, scene: Scene, flow: str, channel: str, quality: str, frame: int, where: str, cancel: Cancel | None = None
    ) -> Grid:
        """A channel of a flow's run on a frame. Raises StudyError for a flow that has no volume, or no such channel."""
        result = offering(scene.study, flow, "volume", where)
        store = run_with(scene, flow, quality, frame, where, cancel)
        return _kept(str(store.folder), frame, channel, result, store.path(frame).stat().st_mtime)

    def frame_at(
        self, scene: Scene, flow: str, quality: str, frame: int, where: str, cancel: Cancel | None = None
    ) -> tuple[dict[str, Array], dict[str, Any]]:
        """Arrays and facts of a flow's run on a frame, as its kind stores them: (n,) and (n, 3) of points, (nx, ny,
        nz) of cells."""
        store = run_with(scene, flow, quality, frame, where, cancel)
        return store.read(frame), store.facts(frame)

    def lines_at(
        self, scene: Scene, flow: str, quality: str, frame: int, where: str, cancel: Cancel | None = None
    ) -> Lines:
        """Lines that a flow draws on a frame. Raises StudyError where it draws none."""
        store = run_with(scene, flow, quality, frame, where, cancel)
        drawn = drawing_of(store, scene.plan or plan_of(scene.study, scene.assets), flow, frame).lines
        if not drawn:
            raise StudyError(f"'{flow}' draws no lines", where=where, fix="add Trail or Flow lines to it")
        return drawn[-1]

    def mesh_at(
        self, scene: Scene, flow: str, quality: str, frame: int, where: str, cancel: Cancel | None = None
    ) -> tuple[Array, Array]:
        """Vertices (n, 3) in m and triangles (m, 3) of a flow's surface on a frame. Raises StudyError for a flow
        that has none."""
        kind = kind_of(scene.study.find("flows", flow, where).kind, where)
        if not any(r.form == "mesh" for r in kind.results):
            ways = " or ".join(k.label for k in KINDS.values() if any(r.form == "mesh" for r in k.results))
            raise StudyError(f"'{flow}' has no surface: it is {kind.label}", where=where, fix=f"a lane of {ways}")
        store = run_with(scene, flow, quality, frame, where, cancel)
        found = drawing_of(store, scene.plan or plan_of(scene.study, scene.assets), flow, frame).mesh
        if found is None and not kind.offers("mesh"):
            raise StudyError(f"'{flow}' draws no surface", where=where, fix="add Surface to it")
        mesh: MeshData = found or kind.result(form="mesh").read(store, frame)
        return mesh.vertices, mesh.faces


def plan_of(study: document.Study, assets: Assets | None = None) -> Plan:
    """A study ready to be evaluated, with the flows that its fields are made from."""
    return Plan(study, assets, Carried())


def _computed(plan: Plan, id: str, frames: dict[int, Any], frame: int, first: int) -> Any:
    if frame in frames:
        return frames[frame]
    flow = open_flow(plan, id, "preview")
    start = max((f for f in frames if f < frame), default=None)
    state = flow.first() if start is None else frames[start]
    at = first if start is None else start
    try:
        while at < frame:
            check()
            state = flow.next(state, at, unwanted())
            at += 1
    finally:  # who gives up leaves what was computed to who asks next
        frames[at] = state
        while len(frames) > MOST_STATES:
            frames.pop(next(iter(frames)))
    return state


@lru_cache(maxsize=12)
def _kept(folder: str, frame: int, name: str, result: VolumeResult, changed: float) -> Grid:
    return result.grid(RunStore(Path(folder)), frame, name)


def run_with(scene: Scene, flow: str, quality: str, frame: int, where: str, cancel: Cancel | None = None) -> RunStore:
    """The run of a flow of the scene's study, computed as far as `frame`, here or by who does it already. Raises
    StudyError for a frame that the clock has not, Cancelled, and what computing it may raise."""
    kind_of(scene.study.find("flows", flow, where).kind, where)
    check_circles(scene.study, flow)
    clock = scene.study.clock
    if not clock.start <= frame <= clock.end:
        raise StudyError(
            f"frame {frame} of '{flow}' is asked for", where=where, fix=f"the clock has {clock.start} to {clock.end}"
        )
    identity = begin(scene.study, flow, quality, home() / "runs", scene.assets)
    store = RunStore(home() / "runs" / identity)
    plan = scene.plan or plan_of(scene.study, scene.assets)
    seen, since = -1, clock_time.monotonic()
    if store.has(frame):
        return store
    with aside(), while_wanted(cancel):
        while not store.has(frame):
            check()
            try:
                compute_frames(plan, flow, store.folder, quality=quality, last=frame)
            except Elsewhere:
                if len(store.frames()) != seen:
                    seen, since = len(store.frames()), clock_time.monotonic()
                if clock_time.monotonic() - since > PATIENCE:
                    raise
                clock_time.sleep(0.1)
    return store
