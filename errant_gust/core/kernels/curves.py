"""Closest points on many cubic curves, with what a field along them needs: place, tangent, curvature and its change.

A curve is a chain of cubic pieces c(t) = a + b t + c t² + d t³, t in [0, 1]. Fine chords, in the order of the curves,
hang in an implicit binary tree of boxes; Newton's method on the cubic finishes the search.
"""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel

GAUSS_X = np.array([0.04691007703066802, 0.23076534494715845, 0.5, 0.7692346550528415, 0.9530899229693319])
_outer, _inner = 0.11846344252809454, 0.23931433524968324
GAUSS_W = np.array([_outer, _inner, 0.28444444444444444, _inner, _outer])
ROWS = 17
"""Rows of the result: s, overshoot (negative before the start), q, offset 3, tangent 3, curvature 3, its change 3,
curve,
whole length."""


@inline
def box_distance(boxes, node, x, y, z):
    """Square of the distance from a point to a node's box."""
    dx = max(max(boxes[node, 0] - x, x - boxes[node, 3]), 0.0)
    dy = max(max(boxes[node, 1] - y, y - boxes[node, 4]), 0.0)
    dz = max(max(boxes[node, 2] - z, z - boxes[node, 5]), 0.0)
    return dx * dx + dy * dy + dz * dz


@inline
def speed(cubic, i, t):
    """Length of a cubic piece's derivative at t."""
    x = cubic[i, 1, 0] + t * (2 * cubic[i, 2, 0] + 3 * t * cubic[i, 3, 0])
    y = cubic[i, 1, 1] + t * (2 * cubic[i, 2, 1] + 3 * t * cubic[i, 3, 1])
    z = cubic[i, 1, 2] + t * (2 * cubic[i, 2, 2] + 3 * t * cubic[i, 3, 2])
    return np.sqrt(x * x + y * y + z * z)


@kernel
def piece_lengths(cubic, out):
    """Arc length of every piece (five-point Gauss rule)."""
    for i in range(cubic.shape[0]):
        total = 0.0
        for g in range(5):
            total += GAUSS_W[g] * speed(cubic, i, GAUSS_X[g])
        out[i] = total


@kernel
def closest_on_curves(px, py, pz, cubic, place, owner, before, after, length, chords, piece, boxes, leaves, out):
    """out (17, n) float32 for points (n,); see ROWS.

    cubic (m, 4, 3); place (m,) arc length at the start of a piece; owner (m,) its curve; before, after (m,)
    neighbouring pieces or -1; length: of every curve; chords (f, 4): start of a chord and its first t; piece (f,) the
    piece of a chord, whose end is the start of row f + 1; boxes (2 * leaves - 1, 6). Beyond an open end the curve
    runs on along its tangent.
    """
    stack = np.empty(64, np.int64)
    count = piece.shape[0]
    for p in range(px.size):
        x, y, z = np.float64(px[p]), np.float64(py[p]), np.float64(pz[p])
        best = 1e30
        found = 0
        t = 0.0
        top = 1
        stack[0] = 0
        while top > 0:
            top -= 1
            node = stack[top]
            if box_distance(boxes, node, x, y, z) >= best:
                continue
            if node >= leaves - 1:
                f = node - (leaves - 1)
                if f < count:
                    ax, ay, az = chords[f, 0], chords[f, 1], chords[f, 2]
                    bx, by, bz = chords[f, 4] - ax, chords[f, 5] - ay, chords[f, 6] - az
                    span = bx * bx + by * by + bz * bz
                    r = 0.0
                    if span > 0:
                        r = min(max(((x - ax) * bx + (y - ay) * by + (z - az) * bz) / span, 0.0), 1.0)
                    dx, dy, dz = x - ax - r * bx, y - ay - r * by, z - az - r * bz
                    d2 = dx * dx + dy * dy + dz * dz
                    if d2 < best:
                        best = d2
                        found = piece[f]
                        t = chords[f, 3] + r * (chords[f, 7] - chords[f, 3])
                continue
            a, b = 2 * node + 1, 2 * node + 2
            if box_distance(boxes, a, x, y, z) < box_distance(boxes, b, x, y, z):
                stack[top], stack[top + 1] = b, a
            else:
                stack[top], stack[top + 1] = a, b
            top += 2
        i = found
        for _ in range(8):
            cx = cubic[i, 0, 0] + t * (cubic[i, 1, 0] + t * (cubic[i, 2, 0] + t * cubic[i, 3, 0])) - x
            cy = cubic[i, 0, 1] + t * (cubic[i, 1, 1] + t * (cubic[i, 2, 1] + t * cubic[i, 3, 1])) - y
            cz = cubic[i, 0, 2] + t * (cubic[i, 1, 2] + t * (cubic[i, 2, 2] + t * cubic[i, 3, 2])) - z
            ux = cubic[i, 1, 0] + t * (2 * cubic[i, 2, 0] + 3 * t * cubic[i, 3, 0])
            uy = cubic[i, 1, 1] + t * (2 * cubic[i, 2, 1] + 3 * t * cubic[i, 3, 1])
            uz = cubic[i, 1, 2] + t * (2 * cubic[i, 2, 2] + 3 * t * cubic[i, 3, 2])
            wx = 2 * cubic[i, 2, 0] + 6 * t * cubic[i, 3, 0]
            wy = 2 * cubic[i, 2, 1] + 6 * t * cubic[i, 3, 1]
            wz = 2 * cubic[i, 2, 2] + 6 * t * cubic[i, 3, 2]
            u2 = ux * ux + uy * uy + uz * uz
            slope = u2 + cx * wx + cy * wy + cz * wz
            if slope < 0.2 * u2:
                slope = u2
            step = -(cx * ux + cy * uy + cz * uz) / max(slope, 1e-300)
            t += step
            if t > 1.0:
                if after[i] >= 0 and t > 1.0 + 1e-12:
                    back = u2
                    i = after[i]
                    t = min((t - 1.0) * np.sqrt(back) / max(speed(cubic, i, 0.0), 1e-300), 0.5)
                else:
                    t = 1.0
            elif t < 0.0:
                if before[i] >= 0 and t < -1e-12:
                    back = u2
                    i = before[i]
                    t = max(1.0 + t * np.sqrt(back) / max(speed(cubic, i, 1.0), 1e-300), 0.5)
                else:
                    t = 0.0
            if abs(step) < 1e-9:
                break
        cx = cubic[i, 0, 0] + t * (cubic[i, 1, 0] + t * (cubic[i, 2, 0] + t * cubic[i, 3, 0]))
        cy = cubic[i, 0, 1] + t * (cubic[i, 1, 1] + t * (cubic[i, 2, 1] + t * cubic[i, 3, 1]))
        cz = cubic[i, 0, 2] + t * (cubic[i, 1, 2] + t * (cubic[i, 2, 2] + t * cubic[i, 3, 2]))
        ux = cubic[i, 1, 0] + t * (2 * cubic[i, 2, 0] + 3 * t * cubic[i, 3, 0])
        uy = cubic[i, 1, 1] + t * (2 * cubic[i, 2, 1] + 3 * t * cubic[i, 3, 1])
        uz = cubic[i, 1, 2] + t * (2 * cubic[i, 2, 2] + 3 * t * cubic[i, 3, 2])
        wx = 2 * cubic[i, 2, 0] + 6 * t * cubic[i, 3, 0]
        wy = 2 * cubic[i, 2, 1] + 6 * t * cubic[i, 3, 1]
        wz = 2 * cubic[i, 2, 2] + 6 * t * cubic[i, 3, 2]
        jx, jy, jz = 6 * cubic[i, 3, 0], 6 * cubic[i, 3, 1], 6 * cubic[i, 3, 2]
        v = max(np.sqrt(ux * ux + uy * uy + uz * uz), 1e-30)
        tx, ty, tz = ux / v, uy / v, uz / v
        tw = tx * wx + ty * wy + tz * wz
        kx, ky, kz = (wx - tx * tw) / (v * v), (wy - ty * tw) / (v * v), (wz - tz * tw) / (v * v)
        kw = v * (kx * wx + ky * wy + kz * wz) + tx * jx + ty * jy + tz * jz
        qx = ((jx - v * kx * tw - tx * kw) / (v * v) - 2 * kx * tw / v) / v
        qy = ((jy - v * ky * tw - ty * kw) / (v * v) - 2 * ky * tw / v) / v
        qz = ((jz - v * kz * tw - tz * kw) / (v * v) - 2 * kz * tw / v) / v
        part = 0.0
        for g in range(5):
            part += GAUSS_W[g] * speed(cubic, i, t * GAUSS_X[g])
        s = place[i] + t * part
        dx, dy, dz = x - cx, y - cy, z - cz
        along = dx * tx + dy * ty + dz * tz
        over = 0.0
        q = 0.0
        if (t >= 1.0 and after[i] < 0 and along > 0) or (t <= 0.0 and before[i] < 0 and along < 0):
            over = along
            s += along
            dx, dy, dz = dx - along * tx, dy - along * ty, dz - along * tz
            kx = ky = kz = qx = qy = qz = 0.0
            q = 1.0
        elif abs(along) > 1e-6 * (1.0 + np.sqrt(dx * dx + dy * dy + dz * dz)) and (t <= 0.0 or t >= 1.0):
            q = 0.0  # at a corner, which is nearest to a whole wedge of points
            kx = ky = kz = qx = qy = qz = 0.0
        else:
            q = 1.0 / max(1.0 - (kx * dx + ky * dy + kz * dz), 0.05)
        out[0, p], out[1, p], out[2, p] = s, over, q
        out[3, p], out[4, p], out[5, p] = dx, dy, dz
        out[6, p], out[7, p], out[8, p] = tx, ty, tz
        out[9, p], out[10, p], out[11, p] = kx, ky, kz
        out[12, p], out[13, p], out[14, p] = qx, qy, qz
        out[15, p] = owner[i]
        out[16, p] = length[owner[i]]
