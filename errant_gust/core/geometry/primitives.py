"""Exact signed distances of primitives, with first and second derivatives.

Every function takes points (3, n) float32 in the shape's own frame and returns distance (n,), gradient (3, n) from
order 1 and second derivatives (6, n; xx, yy, zz, xy, xz, yz) from order 2. Negative inside.
"""

import itertools
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
Distance = tuple[Array, Array | None, Array | None]
TINY = np.float32(1e-12)
PAIRS = ((0, 0), (1, 1), (2, 2), (0, 1), (0, 2), (1, 2))


def sphere(p: Array, radius: float, order: int) -> Distance:
    """|p| - r. `p` (3, n) in m; distance (n,), gradient (3, n), second derivatives (6, n), as `order` says."""
    length = np.sqrt(p[0] ** 2 + p[1] ** 2 + p[2] ** 2)
    d = length - np.float32(radius)
    if order == 0:
        return d, None, None
    n = p / np.maximum(length, TINY)
    n[2] = np.where(length > TINY, n[2], 1.0)
    return d, n, round_hessian(n, np.ones_like(p), length) if order >= 2 else None


def plane(p: Array, order: int) -> Distance:
    """z: the half space below the plane is inside. As `sphere` gives it: (n,), (3, n), (6, n)."""
    n = np.zeros_like(p)
    n[2] = 1
    return p[2].copy(), n, np.zeros((6, p.shape[1]), np.float32)


def box(p: Array, half: tuple[float, float, float], order: int) -> Distance:
    """Axis-aligned box around the origin with half extents; edges and corners are round seen from outside. As
    `sphere` gives it: (n,), (3, n), (6, n)."""
    q = np.abs(p) - np.array(half, np.float32)[:, None]
    sign = np.where(p < 0, np.float32(-1), np.float32(1))
    out = np.maximum(q, 0)
    length = np.sqrt(out[0] ** 2 + out[1] ** 2 + out[2] ** 2)
    outside = length > 0
    d = np.where(outside, length, np.maximum(np.maximum(q[0], q[1]), q[2]))
    if order == 0:
        return d, None, None
    deepest = np.argmax(q, axis=0)
    face = (np.arange(3)[:, None] == deepest).astype(np.float32)
    n = np.where(outside, out / np.maximum(length, TINY), face) * sign
    if order == 1:
        return d, n, None
    active = np.where(outside, (q > 0).astype(np.float32), 0)
    hessian = round_hessian(n, active, np.where(outside, length, 1))
    return d, n, np.where(outside & (active.sum(axis=0) > 1), hessian, 0)


def cylinder(p: Array, radius: float, height: float, order: int) -> Distance:
    """Capped cylinder around z, centred at the origin. As `sphere` gives it: (n,), (3, n), (6, n)."""
    rho = np.sqrt(p[0] ** 2 + p[1] ** 2)
    a, b = rho - np.float32(radius), np.abs(p[2]) - np.float32(height / 2)
    up = np.where(p[2] < 0, np.float32(-1), np.float32(1))
    qa, qb = np.maximum(a, 0), np.maximum(b, 0)
    length = np.sqrt(qa * qa + qb * qb)
    outside = length > 0
    d = np.where(outside, length, np.maximum(a, b))
    if order == 0:
        return d, None, None
    safe = np.maximum(length, TINY)
    na = np.where(outside, qa / safe, (a > b).astype(np.float32))
    nb = np.where(outside, qb / safe, (a <= b).astype(np.float32)) * up
    rim = np.where(outside & (a > 0) & (b > 0), 1 / safe, np.float32(0))  # round as seen from the edge
    return _revolved(p, d, na, nb, rim, order)


def round_hessian(n: Array, active: Array, radius: Array) -> Array:
    """(diag(active) - n nᵀ) / radius as six rows: second derivatives of a distance to a point or an edge. (6, n) in
    1/m."""
    out = np.empty((6, n.shape[1]), np.float32)
    inverse = 1 / np.maximum(radius, TINY)
    for row, (i, j) in enumerate(PAIRS):
        out[row] = ((active[i] if i == j else 0) - n[i] * n[j]) * inverse
    return out


def _revolved(p: Array, d: Array, na: Array, nb: Array, curve: Array, order: int) -> Distance:
    """From a distance in the half plane (ρ, z) with its unit gradient (na, nb) and curvature across it, to space."""
    if order == 0:
        return d, None, None
    rho = np.sqrt(p[0] ** 2 + p[1] ** 2)
    rx = np.where(rho > TINY, p[0] / np.maximum(rho, TINY), np.float32(1.0))
    ry = np.where(rho > TINY, p[1] / np.maximum(rho, TINY), np.float32(0.0))
    n = np.stack([na * rx, na * ry, nb]).astype(np.float32)
    if order == 1:
        return d, n, None
    raa, rbb, rab = curve * (1 - na * na), curve * (1 - nb * nb), -curve * na * nb
    side = na / np.maximum(rho, np.float32(1e-6))
    hessian = np.stack(
        [
            raa * rx * rx + side * (1 - rx * rx),
            raa * ry * ry + side * (1 - ry * ry),
            rbb,
            (raa - side) * rx * ry,
            rab * rx,
            rab * ry,
        ]
    )
    return d, n, hessian.astype(np.float32)


def torus(p: Array, ring: float, tube: float, order: int) -> Distance:
    """Ring of radius `ring` around z, tube of radius `tube`. As `sphere` gives it: (n,), (3, n), (6, n)."""
    rho = np.sqrt(p[0] ** 2 + p[1] ** 2)
    a, b = rho - np.float32(ring), p[2]
    length = np.maximum(np.sqrt(a * a + b * b), TINY)
    return _revolved(p, length - np.float32(tube), a / length, b / length, 1 / length, order)


def capsule(p: Array, radius: float, height: float, order: int) -> Distance:
    """Points nearer than `radius` to the segment of length `height` along z through the origin. As `sphere` gives
    it: (n,), (3, n), (6, n)."""
    rho = np.sqrt(p[0] ** 2 + p[1] ** 2)
    b = p[2] - np.clip(p[2], np.float32(-height / 2), np.float32(height / 2))
    length = np.maximum(np.sqrt(rho * rho + b * b), TINY)
    curve = np.where(b != 0, 1 / length, np.float32(0))
    return _revolved(p, length - np.float32(radius), rho / length, b / length, curve, order)


def cone(p: Array, low: float, high: float, height: float, order: int) -> Distance:
    """Frustum around z from radius `low` at -height/2 to `high` at height/2; distance to its outline in (ρ, z)."""
    rho, z = np.sqrt(p[0] ** 2 + p[1] ** 2), p[2]
    h = height / 2
    corners = [(0.0, -h), (low, -h), (high, h), (0.0, h)]
    best = np.full(rho.shape, np.inf, np.float32)
    na, nb, curve = (np.zeros(rho.shape, np.float32) for _ in range(3))
    inside = np.ones(rho.shape, bool)
    for (a0, b0), (a1, b1) in itertools.pairwise(corners):
        ea, eb = a1 - a0, b1 - b0
        span = ea * ea + eb * eb
        if span == 0:
            continue
        out_a, out_b = eb / span**0.5, -ea / span**0.5
        da, db = rho - np.float32(a0), z - np.float32(b0)
        t = np.clip((da * np.float32(ea) + db * np.float32(eb)) / np.float32(span), 0, 1)
        ca, cb = da - t * np.float32(ea), db - t * np.float32(eb)
        away = np.sqrt(ca * ca + cb * cb)
        beyond = da * np.float32(out_a) + db * np.float32(out_b)
        inside &= beyond < 0
        nearer = away < best
        corner = (t <= 0) | (t >= 1)
        safe = np.maximum(away, TINY)
        flat = (~corner) | (away < 1e-7)
        na = np.where(nearer, np.where(flat, np.float32(out_a), ca / safe), na)
        nb = np.where(nearer, np.where(flat, np.float32(out_b), cb / safe), nb)
        curve = np.where(nearer, np.where(flat, np.float32(0), 1 / safe), curve)
        best = np.where(nearer, away, best)
    return _revolved(p, np.where(inside, -best, best), na, nb, np.where(inside, np.float32(0), curve), order)
