"""Reading numbers of a field at a place that is named on the command line."""

import math

import numpy as np

from errant_gust.core.errors import StudyError, nearest
from errant_gust.core.fields.extent import domain
from errant_gust.core.fields.look import Window
from errant_gust.core.fields.readings import Reading, Spots, on_plane, on_shape, reading
from errant_gust.core.fields.scene import Scene


def read_field(scene: Scene, field: str, step: str, over: str) -> Reading:
    """The numbers of a lane after a step; a StudyError if there is no such lane, step or place."""
    node = scene.lane(field)
    if step:
        steps = dict(scene.steps(field))
        if step not in steps:
            raise StudyError(f"has no step '{step}' that is on", where=f"fields.{field}", fix=nearest(step, steps))
        node = steps[step]
    low, high = domain(scene)
    return reading(node, low, high, over=_place(scene, over, low, high), gathers=True)


def _place(scene: Scene, over: str, low: np.ndarray, high: np.ndarray) -> Spots | None:
    axis, _, at = over.partition("=")
    if over == "box":
        return None
    if axis in ("x", "y", "z") and at:
        try:
            height = float(at)
        except ValueError:
            height = math.nan
        if not math.isfinite(height):
            raise StudyError(f"'{at}' is no place in metres", where="--over", fix="right would be z=0.5") from None
        k = "xyz".index(axis)
        origin, u, v = np.array(low), np.zeros(3), np.zeros(3)
        origin[k] = height
        first, second = (n for n in range(3) if n != k)
        u[first], v[second] = (high - low)[first], (high - low)[second]
        return on_plane(Window(*(tuple(float(c) for c in w) for w in (origin, u, v))))  # type: ignore[arg-type]
    if scene.study.find("shapes", over, "--over"):
        return on_shape(scene.shape(over))
    return None
