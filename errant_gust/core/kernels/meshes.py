"""Loops over triangle meshes: closest point through an implicit bounding-volume tree, winding numbers, sweeping.

The tree is a heap: node i has children 2i+1 and 2i+2, the leaves hold `LEAF` triangles in Morton order. A node keeps
its box, and for the winding number its area vector, centroid and radius (dipole of Barill et al., Fast Winding
Numbers for Soups and Clouds, 2018).
"""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel

LEAF = 4
FAR = 2.0  # a node further than this many of its radii is summarised by its dipole


@inline
def point_triangle(px, py, pz, t):
    """Squared distance from a point to a triangle t (9 float64: a, b, c) and the closest point (Ericson 2005)."""
    abx, aby, abz = t[3] - t[0], t[4] - t[1], t[5] - t[2]
    acx, acy, acz = t[6] - t[0], t[7] - t[1], t[8] - t[2]
    apx, apy, apz = px - t[0], py - t[1], pz - t[2]
    d1 = abx * apx + aby * apy + abz * apz
    d2 = acx * apx + acy * apy + acz * apz
    v = 0.0
    w = 0.0
    if d1 <= 0.0 and d2 <= 0.0:
        pass
    else:
        bpx, bpy, bpz = px - t[3], py - t[4], pz - t[5]
        d3 = abx * bpx + aby * bpy + abz * bpz
        d4 = acx * bpx + acy * bpy + acz * bpz
        if d3 >= 0.0 and d4 <= d3:
            v = 1.0
        else:
            vc = d1 * d4 - d3 * d2
            if vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
                v = d1 / (d1 - d3) if d1 - d3 != 0.0 else 0.0
            else:
                cpx, cpy, cpz = px - t[6], py - t[7], pz - t[8]
                d5 = abx * cpx + aby * cpy + abz * cpz
                d6 = acx * cpx + acy * cpy + acz * cpz
                if d6 >= 0.0 and d5 <= d6:
                    w = 1.0
                else:
                    vb = d5 * d2 - d1 * d6
                    if vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
                        w = d2 / (d2 - d6) if d2 - d6 != 0.0 else 0.0
                    else:
                        va = d3 * d6 - d5 * d4
                        if va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
                            s = (d4 - d3) + (d5 - d6)
                            w = (d4 - d3) / s if s != 0.0 else 0.0
                            v = 1.0 - w
                        else:
                            s = va + vb + vc
                            v = vb / s
                            w = vc / s
    qx = t[0] + abx * v + acx * w
    qy = t[1] + aby * v + acy * w
    qz = t[2] + abz * v + acz * w
    return (px - qx) ** 2 + (py - qy) ** 2 + (pz - qz) ** 2, qx, qy, qz


@inline
def box_distance2(px, py, pz, box):
    """Square of the distance from a point to a box (lower, upper)."""
    dx = max(box[0] - px, 0.0, px - box[3])
    dy = max(box[1] - py, 0.0, py - box[4])
    dz = max(box[2] - pz, 0.0, pz - box[5])
    return dx * dx + dy * dy + dz * dz


@kernel
def closest(px, py, pz, triangles, boxes, leaves, limit2, stack):
    """Squared distance (at most limit2), closest point and triangle (-1 if none is nearer) of one point."""
    best = limit2
    bx = by = bz = 0.0
    which = -1
    top = 0
    stack[0] = 0
    first_leaf = leaves - 1
    while top >= 0:
        node = stack[top]
        top -= 1
        if box_distance2(px, py, pz, boxes[node]) >= best:
            continue
        if node >= first_leaf:
            start = (node - first_leaf) * LEAF
            for i in range(start, min(start + LEAF, triangles.shape[0])):
                d2, qx, qy, qz = point_triangle(px, py, pz, triangles[i])
                if d2 < best:
                    best, bx, by, bz, which = d2, qx, qy, qz, i
            continue
        a = 2 * node + 1
        b = a + 1
        da = box_distance2(px, py, pz, boxes[a])
        db = box_distance2(px, py, pz, boxes[b])
        if da < db:
            near, far, dn, df = a, b, da, db
        else:
            near, far, dn, df = b, a, db, da
        if df < best:
            top += 1
            stack[top] = far
        if dn < best:
            top += 1
            stack[top] = near
    return best, bx, by, bz, which


@kernel
def closest_points(points, triangles, boxes, leaves, distance, where, which):
    """points (n, 3) float64 -> distance (n,), closest point (n, 3), triangle (n,)."""
    stack = np.empty(128, np.int64)
    for i in range(points.shape[0]):
        d2, x, y, z, t = closest(points[i, 0], points[i, 1], points[i, 2], triangles, boxes, leaves, np.inf, stack)
        distance[i] = np.sqrt(d2)
        where[i, 0], where[i, 1], where[i, 2] = x, y, z
        which[i] = t


@kernel
def winding(px, py, pz, triangles, dipoles, leaves, stack):
    """Generalised winding number of one point (Jacobson, Kavan, Sorkine-Hornung 2013): 1 inside, 0 outside."""
    total = 0.0
    top = 0
    stack[0] = 0
    first_leaf = leaves - 1
    while top >= 0:
        node = stack[top]
        top -= 1
        d = dipoles[node]
        if d[6] < 0.0:
            continue
        rx, ry, rz = d[3] - px, d[4] - py, d[5] - pz
        r2 = rx * rx + ry * ry + rz * rz
        if r2 > (FAR * d[6]) ** 2:
            total += (rx * d[0] + ry * d[1] + rz * d[2]) / (r2 * np.sqrt(r2))
        elif node < first_leaf:
            stack[top + 1] = 2 * node + 1
            stack[top + 2] = 2 * node + 2
            top += 2
        else:
            start = (node - first_leaf) * LEAF
            for i in range(start, min(start + LEAF, triangles.shape[0])):
                t = triangles[i]
                ax, ay, az = t[0] - px, t[1] - py, t[2] - pz
                bx, by, bz = t[3] - px, t[4] - py, t[5] - pz
                cx, cy, cz = t[6] - px, t[7] - py, t[8] - pz
                la = np.sqrt(ax * ax + ay * ay + az * az)
                lb = np.sqrt(bx * bx + by * by + bz * bz)
                lc = np.sqrt(cx * cx + cy * cy + cz * cz)
                det = ax * (by * cz - bz * cy) - ay * (bx * cz - bz * cx) + az * (bx * cy - by * cx)
                dot = la * lb * lc
                dot += (ax * bx + ay * by + az * bz) * lc
                dot += (bx * cx + by * cy + bz * cz) * la
                dot += (cx * ax + cy * ay + cz * az) * lb
                total += 2.0 * np.arctan2(det, dot)
    return total / (4.0 * np.pi)


@kernel
def winding_numbers(points, triangles, dipoles, leaves, out):
    """Of points (n, 3) into `out` (n,): 1 inside, 0 outside of a closed mesh (Barill, Dickson, Schmidt, Levin,
    Jacobson 2018)."""
    stack = np.empty(256, np.int64)
    for i in range(points.shape[0]):
        out[i] = winding(points[i, 0], points[i, 1], points[i, 2], triangles, dipoles, leaves, stack)


@kernel
def distance_slab(lower, h, i0, i1, triangles, boxes, dipoles, leaves, closed, distance, wind):
    """Distance and winding number at the nodes of x-planes i0..i1; neighbours along z bound each other's search.

    For a closed mesh the winding number is computed only where the surface can lie between two nodes of a row.
    """
    stack = np.empty(256, np.int64)
    ny, nz = distance.shape[1], distance.shape[2]
    for i in range(i0, i1):
        px = lower[0] + h * i
        for j in range(ny):
            py = lower[1] + h * j
            last = np.inf
            for k in range(nz):
                pz = lower[2] + h * k
                bound = (last + 1.0001 * h) ** 2 + 1e-30
                d2, _x, _y, _z, _which = closest(px, py, pz, triangles, boxes, leaves, bound, stack)
                d = np.sqrt(d2)
                if closed and k > 0 and last > 1.01 * h:
                    wind[i, j, k] = wind[i, j, k - 1]
                else:
                    wind[i, j, k] = winding(px, py, pz, triangles, dipoles, leaves, stack)
                distance[i, j, k] = d
                last = d


@kernel
def sweep(distance, fixed, h):
    """Fast sweeping for |grad d| = 1 (Zhao 2005), eight directions, lowering `distance` where it is not fixed."""
    nx, ny, nz = distance.shape
    for direction in range(8):
        for a in range(nx):
            i = a if direction & 1 == 0 else nx - 1 - a
            for b in range(ny):
                j = b if direction & 2 == 0 else ny - 1 - b
                for c in range(nz):
                    k = c if direction & 4 == 0 else nz - 1 - c
                    if fixed[i, j, k]:
                        continue
                    x = min(distance[i - 1, j, k] if i > 0 else np.inf, distance[i + 1, j, k] if i < nx - 1 else np.inf)
                    y = min(distance[i, j - 1, k] if j > 0 else np.inf, distance[i, j + 1, k] if j < ny - 1 else np.inf)
                    z = min(distance[i, j, k - 1] if k > 0 else np.inf, distance[i, j, k + 1] if k < nz - 1 else np.inf)
                    p = min(x, y, z)
                    r = max(x, y, z)
                    q = x + y + z - p - r if r < np.inf else max(min(x, y), min(max(x, y), z))
                    d = p + h
                    if d > q:
                        d = 0.5 * (p + q + np.sqrt(max(0.0, 2.0 * h * h - (p - q) ** 2)))
                        if d > r:
                            s = p + q + r
                            d = (s + np.sqrt(max(0.0, s * s - 3.0 * (p * p + q * q + r * r - h * h)))) / 3.0
                    if d < distance[i, j, k]:
                        distance[i, j, k] = d
