"""Points spread evenly over a surface."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


def surface_samples(vertices: Array, faces: Array, count: int) -> tuple[Array, Array]:
    """Evenly spread points and unit normals on triangles, the same for the same triangles; degenerate ones are left
    out. `vertices` (n, 3) in m, `faces` (m, 3); both results (count, 3)."""
    corners = vertices[faces].astype(np.float64)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    area = np.linalg.norm(normal, axis=1)
    sound = area > 1e-12 * max(float(area.max(initial=0.0)), 1e-300)
    if not sound.any():
        raise ValueError("the shape has no surface")
    corners, normal, area = corners[sound], normal[sound], area[sound]
    ends = np.cumsum(area) / area.sum()
    golden = 0.5 * (np.sqrt(5) - 1)
    i = np.arange(count)
    which = np.minimum(np.searchsorted(ends, (i + 0.5) / count), len(area) - 1)
    a, b = np.sqrt((i * golden) % 1.0), (i * 0.7548776662466927) % 1.0
    points = (
        corners[which, 0] * (1 - a)[:, None]
        + corners[which, 1] * (a * (1 - b))[:, None]
        + corners[which, 2] * (a * b)[:, None]
    )
    return points.astype(np.float32), (normal[which] / area[which][:, None]).astype(np.float32)
