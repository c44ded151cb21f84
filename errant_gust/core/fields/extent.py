"""Where the action of a study is."""

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.grids.region import GridRegion


def domain(scene: Scene, region: str | None = None) -> tuple[Array, Array]:
    """Lower and upper corner of where the action is: a region, else all regions, else all shapes, else 4 m around 0.
    Both (3,) in m."""
    study = scene.study
    ids = [region] if region else [r.id for r in study.regions]
    boxes = []
    for id in ids:
        grid: GridRegion = scene.region(id)
        boxes.append((grid.corners.min(axis=0), grid.corners.max(axis=0)))
    if not boxes:
        shapes = [scene.shape(s.id) for s in study.shapes]
        boxes = [(s.box[0] - 1.0, s.box[1] + 1.0) for s in shapes if s.kind.bounded]
    if not boxes:
        boxes = [(np.array([-2.0, -2.0, 0.0]), np.array([2.0, 2.0, 3.0]))]
    return np.min([b[0] for b in boxes], axis=0), np.max([b[1] for b in boxes], axis=0)


def least_over(scene: Scene, lane: str, side: int = 9) -> float:
    """The least value of a scalar lane on a grid of side³ points over where the action is."""
    low, high = domain(scene)
    axes = [np.linspace(a, b, side) for a, b in zip(low, high, strict=True)]
    points = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3).astype(np.float32)
    node = scene.lane(lane)
    node.prepare()
    return float(node.evaluate(np.ascontiguousarray(points.T)).value.min())
