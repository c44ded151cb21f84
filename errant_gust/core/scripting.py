"""What notebooks and pipelines use, by `import errant_gust`: studies in code, fields as functions, runs as arrays.

Lengths are metres, times seconds, speeds m/s, angles degrees; z is up. Arrays of places are (n, 3). Whatever cannot be
used raises `GustError`, which says what, where and what would be right.
"""

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

from errant_gust.core.api import field
from errant_gust.core.blocks import Cancel
from errant_gust.core.checks import findings
from errant_gust.core.demos.by_name import open_study
from errant_gust.core.errors import GustError
from errant_gust.core.fields.look import unit_of
from errant_gust.core.fields.plan import Plan
from errant_gust.core.files.writing import written_whole
from errant_gust.core.flows.results import Result
from errant_gust.core.flows.step import placed_steps
from errant_gust.core.geometry.shapes import Assets
from errant_gust.core.grids.grid import Grid
from errant_gust.core.runs.baking import bake_field
from errant_gust.core.runs.carried import plan_of
from errant_gust.core.runs.compare import Difference, channel_of, difference, on_one_grid
from errant_gust.core.runs.compute import FrameDone, compute
from errant_gust.core.runs.cost import Cost, cost_of
from errant_gust.core.runs.delivery.deliver import deliver as _deliver
from errant_gust.core.runs.delivery.order import Options, ordered
from errant_gust.core.runs.delivery.sources import items_of
from errant_gust.core.runs.delivery.verify import Fault
from errant_gust.core.runs.delivery.verify import verify as _verify
from errant_gust.core.runs.export import kind_of_run, plan_of_run
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.runs.run_readings import readings_of
from errant_gust.core.study import building, document
from errant_gust.core.study.finding import Finding

Quality = Literal["preview", "full"]

__all__ = [
    "GustError", "Options", "Run", "bake", "check", "compare", "deliver", "estimate", "field", "lane", "new_study",
    "open_run", "open_study", "run", "save_study", "step", "verify",
]  # fmt: skip


def step(op: str, **params: Any) -> tuple[str, dict[str, Any]]:
    """A step of a lane.

    Parameters
    ----------
    op : str
        Its name in the catalogue (`gust ops`), for example ``"curl_noise"``.
    **params
        Its parameters, in the units that the catalogue says; those that are left out have their defaults.
    """
    return op, params


def lane(id: str, *steps: tuple[str, dict[str, Any]], kind: str = "", name: str = "") -> dict[str, Any]:
    """A lane: steps one after the other.

    Parameters
    ----------
    id : str
        By which other lanes, flows and `field` name it: lower case letters, digits and underscores.
    *steps
        What `step` gives, in order.
    kind : str
        Of a flow: its kind in the catalogue. Empty for a field.
    name : str
        As it is shown; the id if it is left out.
    """
    made = {**building.lane(id, *steps), "name": name or id}
    return {**made, "kind": kind} if kind else made


def new_study(
    name: str, *, fields: Sequence[dict[str, Any]] = (), flows: Sequence[dict[str, Any]] = (),
    shapes: Sequence[dict[str, Any]] = (), regions: Sequence[dict[str, Any]] = (), clock: dict[str, Any] | None = None,
    files: Path | str | None = None,
) -> Plan:  # fmt: skip
    """A study built in code, ready to be evaluated.

    Parameters
    ----------
    name : str
        As it is shown.
    fields, flows : sequence of dict
        Lanes, as `lane` gives them.
    shapes, regions : sequence of dict
        As study files have them: ``{"id": "ball", "kind": "sphere", "params": {"radius": 0.5}}`` and
        ``{"id": "room", "bounds": {"lower": [-1, -1, 0], "upper": [1, 1, 2]}, "voxel_size": 0.05}``.
    clock : dict, optional
        ``fps``, ``start``, ``end`` (frames) and ``slow_motion``.
    files : path, optional
        Folder of the mesh files that shapes name.

    Raises
    ------
    StudyError
        For what no study may hold; `where` is its place, for example ``fields.wind.s0.speed``.
    """
    more = {"flows": list(flows), "shapes": list(shapes), "regions": list(regions)}
    data = building.study(name, *fields, **more, **({"clock": clock} if clock else {}))
    assets = Assets(Path(files)) if files is not None else None
    plan = plan_of(document.parse(data), assets)
    scene = plan.at(0.0)
    for one in plan.study.fields:
        scene.steps(one.id)
    for flow in plan.study.flows:
        list(placed_steps(scene, flow, flow.kind))
    return plan


def save_study(plan: Plan, path: Path | str) -> Path:
    """Write a study to a file that the application and the commands open.

    Parameters
    ----------
    plan : Plan
        The study, from `new_study` or `open_study`.
    path : path
        Of the file; one that is there is replaced when all is written.

    Raises
    ------
    FileError, NoRoom
        Where it cannot be written.
    """
    path = Path(path)
    with written_whole(path) as file:
        file.write(json.dumps(document.dump(plan.study), indent=1).encode())
    return path


def bake(
    plan: Plan, field: str, region: str, time: float = 0.0, *, progress: Callable[[float], None] | None = None
) -> Grid:
    """A field lane in the middle of every voxel of a region.

    Parameters
    ----------
    plan : Plan
        The study.
    field, region : str
        Ids of the lane and of the region.
    time : float
        In s; the clock's first frame is at 0.
    progress : callable, optional
        Called with the share that is done, 0 to 1.

    Returns
    -------
    Grid
        ``values`` (nx, ny, nz) or (nx, ny, nz, 3) float32, ``region`` with ``lower``, ``shape`` and ``voxel_size`` in
        m, ``unit``.

    Raises
    ------
    BudgetError
        If it needs more memory than the budget; `fits` is a voxel size that would do.
    """
    values = bake_field(plan, field, region, time, progress=progress)
    scene = plan.at(time)
    return Grid(scene.region(region), values, unit=unit_of(scene.lane(field)))


@dataclass(frozen=True)
class Run:
    """A run in its folder; frames are read when they are asked for."""

    store: RunStore

    @property
    def folder(self) -> Path:
        """Where it stands."""
        return self.store.folder

    @property
    def frames(self) -> list[int]:
        """Numbers of the frames that are complete."""
        return self.store.frames()

    @property
    def flow(self) -> str:
        """Id of the flow that it is of."""
        return str(self.store.manifest()["flow"])

    @property
    def results(self) -> list[Result]:
        """What its frames hold, the main one first; `name` and `form` of each."""
        return list(kind_of_run(self.store).results)

    @property
    def study(self) -> Plan:
        """The study as it was when the run was begun."""
        return plan_of_run(self.store)

    def read(self, frame: int, result: str = "", channels: Sequence[str] | None = None) -> Any:
        """A result on a frame: points (`position` (n, 3), `channels`), a volume (`grids` by name), or a mesh
        (`vertices` (v, 3), `faces` (f, 3), `channels`). Raises FileError for a frame or channel that is not there."""
        found = kind_of_run(self.store).result(result)
        return found.read(self.store, frame, None if channels is None else tuple(channels))

    def array(self, frame: int, name: str) -> Any:
        """An array of a frame as it is stored, opened and not read: a `zarr.Array`, of which slices are read."""
        import zarr

        if frame not in self.frames or name not in self.store.names(frame):
            self.store.read(frame, (name,))  # says what is not there
        return zarr.open_array(self.store.path(frame) / name, mode="r")

    def readings(self, frame: int, lanes: Sequence[str] = ()) -> dict[str, float]:
        """Amount, top (m), spread (m), speeds (m/s), bunching, leaks (%), and means of lanes where the flow is."""
        main = kind_of_run(self.store).result()
        return readings_of(self.store, frame, main, self.study, self.flow, tuple(lanes))


def open_run(folder: Path | str) -> Run:
    """A run that is there. Raises FileError if the folder holds none."""
    store = RunStore(Path(folder))
    store.manifest()
    return Run(store)


def run(
    plan: Plan, flow: str, folder: Path | str, *, quality: Quality = "full", last: int | None = None,
    progress: Callable[[FrameDone], None] | None = None, cancel: Cancel | None = None,
) -> Run:  # fmt: skip
    """Compute a flow into a folder, or go on with what is there; the same study gives the same bits.

    Parameters
    ----------
    plan : Plan
        The study.
    flow : str
        Id of the flow's lane.
    folder : path
        Of the run: new, or of the same run.
    quality : {"full", "preview"}
        Previews are of fewer particles and larger voxels.
    last : int, optional
        Last frame; the clock's end if it is left out.
    progress : callable, optional
        Called after every frame with `frame`, `done`, `total`, `seconds` it took and seconds `left`.
    cancel : callable, optional
        Asked often; if it says True, `Cancelled` is raised and complete frames stay.

    Raises
    ------
    StudyError, BudgetError, SolverError
        For a study that cannot be computed, more memory than the budget, a solver that found no answer.
    FileError, NoRoom
        For a folder that holds another run, or cannot be written in.
    """
    return Run(
        compute(plan.study, flow, Path(folder), quality=quality, assets=plan.assets, last=last, cancel=cancel,
                report=progress)
    )  # fmt: skip


def check(plan: Plan) -> list[Finding]:
    """What is wrong with the study `plan`, or likely so: `level` (error, warning, note), `where`, `what`, `why`."""
    return findings(plan)


def estimate(plan: Plan, flow: str, quality: Quality = "full", measured: Sequence[Run] = ()) -> Cost:
    """What a run of a flow of `plan` at a quality ("full", "preview") will need: `memory` (bytes) and `count` at most;
    `seconds` and `disk` (bytes) if a run of the flow is among those `measured`, else None."""
    return cost_of(plan, flow, quality, [one.store for one in measured])


def compare(a: Run, b: Run, frame: int, channel: str = "") -> tuple[Grid, Difference]:
    """b − a of a channel of volumes on a frame, on one grid, and in numbers. Raises FileError for runs that hold
    nothing alike, or a frame or channel that is not there."""
    return difference(*on_one_grid(channel_of(a.store, frame, channel), channel_of(b.store, frame, channel)))


def deliver(
    runs: Sequence[Run | Plan], to: Path | str, *, results: Sequence[tuple[str, str]] = (),
    channels: Sequence[str] = (), options: Options | None = None, cluster: str = "", cancel: Cancel | None = None,
    progress: Callable[[int, int, str], None] | None = None,
) -> dict[str, Any]:  # fmt: skip
    """Write results of runs, and fields and shapes of studies, into a new folder for others, with checksums and a
    manifest, which is returned.

    Parameters
    ----------
    runs : sequence of Run or Plan
        What is handed over, or what it is taken from.
    to : path
        A folder that is not there yet; an order that was cut off goes on.
    results : sequence of (name, format)
        Of each that offers it: of a run a result; of a study a shape by its id, or a field on a region as
        ``"wind@room"``. An empty format is the first. If none is named, the main result of each run.
    channels : sequence of str
        Those that are wanted; all if none is named.
    options : Options
        Frames, names, numbers, up axis, unit, velocities, half floats, compression.
    cluster : str
        Address of a Dask scheduler whose workers write the files; they share the folders of the runs and of `to`.
        Empty: this process writes them.
    cancel : callable, optional
        Asked between files; if it says True, `Cancelled` is raised and the same order goes on later.
    progress : callable, optional
        Called after every file with how many are done, of how many, and its name.

    Raises
    ------
    FileError, NoRoom
        For a folder that is there or cannot be written in, what runs do not hold, a disk that is too small.
    """
    sources = [one if isinstance(one, Plan) else one.folder for one in runs]
    items = items_of(sources, list(results), tuple(channels))
    return _deliver(ordered(items, options or Options()), Path(to), cancel=cancel, report=progress, cluster=cluster)


def verify(folder: Path | str) -> list[Fault]:
    """What of a delivery is not as it was delivered: `name` and `what` of each file; empty if all is. Raises FileError
    for a folder that is no delivery, or whose manifest was changed."""
    return _verify(Path(folder))
