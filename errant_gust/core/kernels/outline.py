"""Signed distance to flat outlines."""

import numpy as np

from errant_gust.core.kernels.compiler import kernel


@kernel
def outline_distance(x, y, segments, out, first, last):
    """Signed distance (negative inside, even-odd rule) of a raster (rows, columns) to segments (m, 4), rows
    first..last."""
    for r in range(first, last):
        for c in range(x.size):
            px, py = x[c], y[r]
            best = 1e30
            inside = False
            for s in range(segments.shape[0]):
                ax, ay = segments[s, 0], segments[s, 1]
                bx, by = segments[s, 2] - ax, segments[s, 3] - ay
                qx, qy = px - ax, py - ay
                span = bx * bx + by * by
                t = 0.0
                if span > 0:
                    t = min(max((qx * bx + qy * by) / span, 0.0), 1.0)
                dx, dy = qx - t * bx, qy - t * by
                best = min(best, dx * dx + dy * dy)
                if (ay > py) != (ay + by > py) and px < ax + (py - ay) / by * bx:
                    inside = not inside
            d = np.sqrt(best)
            out[r, c] = -d if inside else d
