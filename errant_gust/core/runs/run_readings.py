"""Numbers that tell one run from another, on a frame: how much, how high, how fast, how bunched, how much of it is
where it should not be, and the mean of any lane where it is."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from errant_gust.core.errors import GustError
from errant_gust.core.fields.look import size_of, unit_of
from errant_gust.core.fields.plan import Plan
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.sampling import sample
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows.results import MeshData, Points, Result, VolumeResult
from errant_gust.core.flows.step import blocked_by, placed_steps
from errant_gust.core.geometry.placed import Side
from errant_gust.core.runs.frame_store import RunStore
from errant_gust.core.study.depends import Depends

READINGS = ("amount", "top", "spread", "fastest", "mean speed", "bunching", "leaks")
"""What is told of every run on a frame: points, or density times m³, or square metres; the greatest height in m; the
root mean square distance from its middle in m; speeds in m/s; how many times as dense it is where it is as if it were
spread evenly over the box around it; the share in % of it that is inside what its flow is led or kept around, or
outside of what it is kept in."""
UNITS = ("", "m", "m", "m/s", "m/s", "×", "%")
CELLS = 16
"""Cells along each edge of the box in which bunching is counted."""
TRIED = 60_000
"""Places at most where shapes and lanes are asked."""
LANE = "mean "
"""Begins the name of a reading of a lane."""


@dataclass(frozen=True)
class Spots:
    """Where a result is: places (n, 3) in m, how much is at each (n,), how fast it is there (n,) in m/s; `amount` of
    all, and `half`, how far a place stands for its surroundings, in m."""

    places: Array
    weights: Array
    speeds: Array
    amount: float
    half: float = 0.0


def units_of(result: Result, plan: Plan | None = None, lanes: tuple[str, ...] = ()) -> dict[str, str]:
    """The unit of each reading of a result, and of lanes."""
    amount = {"volume": "m³", "mesh": "m²"}.get(result.form, "")
    told = dict(zip(READINGS, (amount, *UNITS[1:]), strict=True))
    for lane in lanes:
        assert plan is not None
        told[LANE + lane] = unit_of(plan.at(0.0).lane(lane))
    return told


def readings_of(
    store: RunStore, frame: int, result: Result, plan: Plan | None = None, flow: str = "", lanes: tuple[str, ...] = ()
) -> dict[str, float]:
    """`READINGS` of a result on a frame, 0 of what there is none of; with the plan of the run also leaks and the means
    of lanes. What cannot be told for this run is left out."""
    spots = _spots(store, frame, result)
    told = _told(spots)
    if plan is None:
        return told
    scene = plan.at(plan.study.clock.seconds(frame))
    every = max(1, -(-len(spots.places) // TRIED))
    places = np.ascontiguousarray(spots.places[::every], np.float32)
    weights = spots.weights[::every]
    try:
        told["leaks"] = 100 * _leaks(scene, flow, places, weights, spots.half)
    except GustError:  # a shape that cannot be opened any more
        del told["leaks"]
    for lane in lanes:
        try:
            told[LANE + lane] = _mean(scene, lane, places, weights)
        except GustError:
            continue
    return told


def _told(spots: Spots) -> dict[str, float]:
    places, weights = spots.places, spots.weights
    if not len(places):
        return dict.fromkeys(READINGS, 0.0)
    middle = np.average(places, axis=0, weights=weights)
    spread = float(np.sqrt(np.average(((places - middle) ** 2).sum(axis=1), weights=weights)))
    mean = float(np.average(spots.speeds, weights=weights))
    top, fastest = float(places[:, 2].max()), float(spots.speeds.max())
    values = (spots.amount, top, spread, fastest, mean, bunching(places, weights), 0.0)
    return dict(zip(READINGS, values, strict=True))


def bunching(places: Array, weights: Array) -> float:
    """How many times as much is around a mean bit of it as if all were spread evenly over the box around it: cells
    times the sum of the squares of what each holds, over the square of the sum. `places` (n, 3) in m, `weights`
    (n,)."""
    lower, upper = places.min(axis=0), places.max(axis=0)
    wide = upper > lower
    q = np.zeros(places.shape, np.int64)
    q[:, wide] = np.minimum((places[:, wide] - lower[wide]) / (upper[wide] - lower[wide]) * CELLS, CELLS - 1)
    held = np.bincount((q[:, 0] * CELLS + q[:, 1]) * CELLS + q[:, 2], weights=weights)
    return float(CELLS ** int(wide.sum()) * (held**2).sum() / max(float(held.sum()) ** 2, 1e-300))


def _leaks(scene: Scene, flow: str, places: Array, weights: Array, half: float) -> float:
    """The share of all that is on the wrong side of a wall, by more than a place stands for."""
    if not len(places):
        return 0.0
    wrong = np.zeros(len(places), bool)
    points = np.ascontiguousarray(places.T)
    inside: Array | None = None
    for id, side in walls_of(scene, flow).items():
        distance = scene.shape(id).distance(points)[0]
        if side == "around":
            wrong |= distance < -half
        else:  # kept in any of them
            inside = distance < half if inside is None else inside | (distance < half)
    if inside is not None:
        wrong |= ~inside
    return float(weights[wrong].sum() / weights.sum())


def walls_of(scene: Scene, flow: str) -> dict[str, Side]:
    """Shapes that a flow is led or kept around, or kept in, by its own steps and by the lanes that it uses."""
    lane = scene.study.find("flows", flow, f"flows.{flow}")
    found: dict[str, Side] = dict(blocked_by(list(placed_steps(scene, lane, lane.kind))))
    walk = Depends(scene.study)
    walk.flow(flow)
    for field in scene.study.fields:
        if f"field:{field.id}" in walk.parts:
            for id in sorted(scene.lane(field.id).obstacles):
                found.setdefault(id, "around")
    return found


def _mean(scene: Scene, lane: str, places: Array, weights: Array) -> float:
    if not len(places):
        return 0.0
    return float(np.average(size_of(sample(scene.lane(lane), places)[0]).astype(np.float64), weights=weights))


def _spots(store: RunStore, frame: int, result: Result) -> Spots:
    if isinstance(result, VolumeResult):
        return _of_volume(store, frame, result)
    found: Any = result.read(store, frame)
    return _of_mesh(found) if isinstance(found, MeshData) else _of_points(found)


def _of_points(found: Points) -> Spots:
    places = found.position.astype(np.float64)
    return Spots(places, np.ones(len(places)), np.linalg.norm(found.velocity, axis=1), float(found.count))


def _of_mesh(found: MeshData) -> Spots:
    corners = found.vertices[found.faces].astype(np.float64)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    area = 0.5 * np.linalg.norm(normal, axis=1)
    v = found.channels.get("velocity")
    speed = np.linalg.norm(v, axis=1)[found.faces].mean(axis=1) if v is not None else np.zeros(len(area))
    some = area > 0
    return Spots(corners.mean(axis=1)[some], area[some], speed[some], float(area.sum()))


def _of_volume(store: RunStore, frame: int, result: VolumeResult) -> Spots:
    volume = result.read(store, frame)
    grids, region, values = volume.grids, volume.region, volume.amount
    v = next((g.values for g in grids.values() if g.values.ndim == 4), None)
    if values is None:
        values = np.ones(region.shape, np.float32)
    full = values > 1e-3 * max(float(values.max()), 1e-9)
    own = (np.argwhere(full) + 0.5) * region.voxel_size + np.array(region.lower)
    speed = np.linalg.norm(v[full], axis=1) if v is not None else np.zeros(int(full.sum()))
    amount = float(values.sum(dtype=np.float64)) * region.voxel_size**3 if full.any() else 0.0
    places = own.reshape(-1, 3) @ region.axes.T
    return Spots(places, values[full].astype(np.float64), speed, amount, 0.87 * region.voxel_size)
