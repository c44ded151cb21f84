"""Curvature of a liquid's surface, from its level set."""

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.grids.staggered.faces import Triple

SMOOTH = 1.5
"""Width, in cells, that the level set of single particles is blurred with before it is derived twice. What a blur takes
from broad waves is given back (twicing, Tukey 1977): a wave around a drop of seven cells keeps 0.98 and not 0.87."""
BAND = 3.0
"""Cells on either side in which the distance is followed."""
AHEAD = np.float32(0.5)
"""Share of a step by which the surface is taken ahead of where it is: ripples that a step is too long for die away
instead of growing."""
OUT = np.float32(0.5)
"""Cells by which the union of spheres stands outside of what the particles fill, whose surface it is that bends."""
MOST = 1.0
LEAST_SLOPE = np.float32(1e-6)


def curvature(phi: Array, faces: Triple, way: float) -> Array:
    """Sum of the principal curvatures (nx, ny, nz) in 1/cells of the surface next to each cell, positive where the
    liquid bulges; at most that of a drop of two cells across.

    phi (nx, ny, nz): distance in cells. faces: velocities, of which `way` makes cells a step.

    Cells beside the surface have the curvature of its nearest point, and not that of the parallel surface through
    themselves: that falls off outward, which is a force that blows what is loose at the surface away. (A drop that
    rests had burst by it after twelve periods of its first swing.)
    """
    from scipy import ndimage

    def blurred(a: Array) -> Array:
        return np.asarray(ndimage.gaussian_filter(a, SMOOTH, mode="nearest"))

    once = blurred(np.clip(phi, -BAND, BAND))
    a = 2 * once - blurred(once)
    g = _slopes(a)
    u, v, w = faces
    ahead = (u[1:] + u[:-1]) * g[0]
    ahead += (v[:, 1:] + v[:, :-1]) * g[1]
    ahead += (w[:, :, 1:] + w[:, :, :-1]) * g[2]
    a -= np.float32(0.5 * way) * AHEAD * ahead
    g = _slopes(a)
    steep = np.sqrt(g[0] ** 2 + g[1] ** 2 + g[2] ** 2 + LEAST_SLOPE)
    for x in g:
        x /= steep
    bend = sum(np.gradient(x, axis=axis) for axis, x in enumerate(g))
    bend = np.clip(bend, -MOST, MOST).astype(np.float32)
    near = np.nonzero(np.abs(phi) < 2)
    way_there = np.clip(a[near] / steep[near], -BAND, BAND) + OUT
    nearest = [i - way_there * x[near] for i, x in zip(near, g, strict=True)]
    at_surface = ndimage.map_coordinates(bend, nearest, order=1, mode="nearest")
    bend[near] = at_surface
    return np.asarray(bend)


def _slopes(a: Array) -> list[Array]:
    return [np.asarray(np.gradient(a, axis=axis), np.float32) for axis in range(3)]
