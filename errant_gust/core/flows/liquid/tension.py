"""Curvature of a liquid's surface, from its level set."""

import numpy as np

from errant_gust.core.fields.samples import Array

SMOOTH = 1.5
"""Width, in cells, that the level set of single particles is blurred with before it is derived twice."""
MOST = 1.0


def curvature(phi: Array) -> Array:
    """Sum of the principal curvatures (nx, ny, nz) in 1/cells, positive where the liquid bulges; at most that of a
    drop of two cells across."""
    from scipy import ndimage

    near = np.clip(phi, -1.5, 1.5)
    a = ndimage.gaussian_filter(near, SMOOTH, mode="nearest")
    g = [np.gradient(a, axis=axis) for axis in range(3)]
    size = np.sqrt(sum(x * x for x in g) + np.float32(1e-6))
    bend = sum(np.gradient(x / size, axis=axis) for axis, x in enumerate(g))
    return np.clip(bend, -MOST, MOST).astype(np.float32)
