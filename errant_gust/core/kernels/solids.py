"""What is solid in a picture: the nearest by depth (Catmull 1974), and what glows or covers along lines.

A camera is 12 numbers: the eye, the way ahead (unit), and the ways from the middle of the picture to its right and
upper border at a distance of 1."""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel

F0, F1, HALF = np.float32(0.0), np.float32(1.0), np.float32(0.5)
NEAR, FURTHEST = np.float32(1e-6), np.float32(3e38)
SKY, GROUND = -1, -2
"""What is seen where no triangle and no ball is."""


@inline
def way_at(camera, x, y):
    """The way of a ray through a place of the picture (−1 … 1 to the right and up), 1 long along the way ahead."""
    return (
        camera[3] + x * camera[6] + y * camera[9],
        camera[4] + x * camera[7] + y * camera[10],
        camera[5] + x * camera[8] + y * camera[11],
    )


@inline
def drawn_at(camera, x, y, z, wide, high):
    """Column and row of a place that is x, y, z away from the eye, in a picture half of which is `wide` and `high`, and
    how far ahead it is; the first two are of use where that is more than 0."""
    ahead = x * camera[3] + y * camera[4] + z * camera[5]
    sx = camera[6] * camera[6] + camera[7] * camera[7] + camera[8] * camera[8]
    sy = camera[9] * camera[9] + camera[10] * camera[10] + camera[11] * camera[11]
    return (
        ((x * camera[6] + y * camera[7] + z * camera[8]) / (sx * ahead) + F1) * wide,
        (F1 - (x * camera[9] + y * camera[10] + z * camera[11]) / (sy * ahead)) * high,
        ahead,
    )


@kernel
def draw_triangles(corner, which, depth, seen, row0, row1):
    """Triangles nearer than what is drawn, into rows row0 to row1: corners (t, 3, 3) as columns and rows of the picture
    and one over the distance ahead, `which` (t) they are; `depth` and `seen` (h, w) take the distance ahead and which
    it is."""
    width = depth.shape[1]
    for t in range(len(corner)):
        x0, y0, w0 = corner[t, 0, 0], corner[t, 0, 1], corner[t, 0, 2]
        x1, y1, w1 = corner[t, 1, 0], corner[t, 1, 1], corner[t, 1, 2]
        x2, y2, w2 = corner[t, 2, 0], corner[t, 2, 1], corner[t, 2, 2]
        top, low = min(y0, y1, y2), max(y0, y1, y2)
        if not (low >= np.float32(row0) and top <= np.float32(row1)):
            continue
        area = (x1 - x0) * (y2 - y0) - (x2 - x0) * (y1 - y0)
        if not abs(area) > np.float32(1e-12):
            continue
        inverse = F1 / area
        left, right = min(x0, x1, x2), max(x0, x1, x2)
        if not (right >= F0 and left <= np.float32(width)):
            continue
        c0 = int(max(np.ceil(left - HALF), F0))
        c1 = int(min(np.floor(right - HALF) + F1, np.float32(width)))
        r0 = int(max(np.ceil(top - HALF), np.float32(row0)))
        r1 = int(min(np.floor(low - HALF) + F1, np.float32(row1)))
        for r in range(r0, r1):
            y = np.float32(r) + HALF
            for c in range(c0, c1):
                x = np.float32(c) + HALF
                b = ((x - x0) * (y2 - y0) - (x2 - x0) * (y - y0)) * inverse
                d = ((x1 - x0) * (y - y0) - (x - x0) * (y1 - y0)) * inverse
                a = F1 - b - d
                if a >= F0 and b >= F0 and d >= F0:
                    z = F1 / (a * w0 + b * w1 + d * w2)
                    if z < depth[r, c]:
                        depth[r, c], seen[r, c] = z, which[t]


@kernel
def draw_balls(centre, radius, camera, base, depth, seen, row0, row1):
    """Balls at `centre` (n, 3) of `radius` (n) m nearer than what is drawn, into rows row0 to row1; the first of them
    is `base` in `seen`. See `draw_triangles`."""
    height, width = depth.shape
    sx = camera[6] * camera[6] + camera[7] * camera[7] + camera[8] * camera[8]
    sy = camera[9] * camera[9] + camera[10] * camera[10] + camera[11] * camera[11]
    wide, high = np.float32(0.5 * width), np.float32(0.5 * height)
    for n in range(len(centre)):
        x, y, z = centre[n, 0] - camera[0], centre[n, 1] - camera[1], centre[n, 2] - camera[2]
        r = radius[n]
        column, row, ahead = drawn_at(camera, x, y, z, wide, high)
        if not ahead > r + NEAR:
            continue
        # a ball beside the way ahead is drawn wider than high
        size = r / np.sqrt(ahead * ahead - r * r) * (F1 + abs(column / wide - F1) + abs(row / high - F1))
        across, up = size / np.sqrt(sx) * wide + F1, size / np.sqrt(sy) * high + F1
        if not (row + up >= np.float32(row0) and row - up <= np.float32(row1)):
            continue
        if not (column + across >= F0 and column - across <= np.float32(width)):
            continue
        c0, c1 = int(max(column - across, F0)), int(min(column + across + F1, np.float32(width)))
        r0, r1 = int(max(row - up, np.float32(row0))), int(min(row + up + F1, np.float32(row1)))
        out = x * x + y * y + z * z - r * r
        for j in range(r0, r1):
            py = F1 - (np.float32(j) + HALF) / high
            for i in range(c0, c1):
                dx, dy, dz = way_at(camera, (np.float32(i) + HALF) / wide - F1, py)
                a = dx * dx + dy * dy + dz * dz
                b = dx * x + dy * y + dz * z
                under = b * b - a * out
                if under >= F0:
                    t = (b - np.sqrt(under)) / a
                    if NEAR < t < depth[j, i]:
                        depth[j, i], seen[j, i] = t, base + n


@kernel
def surface(solid, which, camera, dx, dy, dz, z):
    """What is seen at a distance ahead: its unit normal toward the eye, its colour, how much it shines."""
    corner, normal, colour, sheen, centre, _, tint = solid
    px, py, pz = camera[0] + dx * z, camera[1] + dy * z, camera[2] + dz * z
    if which < len(corner):
        ax, ay, az = corner[which, 0, 0], corner[which, 0, 1], corner[which, 0, 2]
        bx, by, bz = corner[which, 1, 0] - ax, corner[which, 1, 1] - ay, corner[which, 1, 2] - az
        cx, cy, cz = corner[which, 2, 0] - ax, corner[which, 2, 1] - ay, corner[which, 2, 2] - az
        qx, qy, qz = px - ax, py - ay, pz - az
        bb, bc, cc = bx * bx + by * by + bz * bz, bx * cx + by * cy + bz * cz, cx * cx + cy * cy + cz * cz
        qb, qc = qx * bx + qy * by + qz * bz, qx * cx + qy * cy + qz * cz
        det = bb * cc - bc * bc
        u = min(max((cc * qb - bc * qc) / det, F0), F1) if det != F0 else F0
        v = min(max((bb * qc - bc * qb) / det, F0), F1 - u) if det != F0 else F0
        w = F1 - u - v
        nx = w * normal[which, 0, 0] + u * normal[which, 1, 0] + v * normal[which, 2, 0]
        ny = w * normal[which, 0, 1] + u * normal[which, 1, 1] + v * normal[which, 2, 1]
        nz = w * normal[which, 0, 2] + u * normal[which, 1, 2] + v * normal[which, 2, 2]
        r = w * colour[which, 0, 0] + u * colour[which, 1, 0] + v * colour[which, 2, 0]
        g = w * colour[which, 0, 1] + u * colour[which, 1, 1] + v * colour[which, 2, 1]
        b = w * colour[which, 0, 2] + u * colour[which, 1, 2] + v * colour[which, 2, 2]
        shine = sheen[which]
    else:
        k = which - len(corner)
        nx, ny, nz = px - centre[k, 0], py - centre[k, 1], pz - centre[k, 2]
        r, g, b, shine = tint[k, 0], tint[k, 1], tint[k, 2], F0
    over = np.sqrt(nx * nx + ny * ny + nz * nz)
    turn = F1 / over if over > F0 else F0
    if (nx * dx + ny * dy + nz * dz) > F0:
        turn = -turn
    return nx * turn, ny * turn, nz * turn, r, g, b, shine


@kernel
def draw_streaks(begin, end, colour, wide, glow, camera, depth, out, row0, row1):
    """Ways from `begin` to `end` (n, 3) in colours (n, 3) over a picture `out` (h, w, 3), rows row0 to row1, where
    nothing nearer stands in `depth` (2 h, 2 w): `wide` pixels wide with soft borders. What glows adds its light, the
    same however long the way is on the picture; what does not covers what is behind."""
    height, width = out.shape[0], out.shape[1]
    half_w, half_h = np.float32(0.5 * width), np.float32(0.5 * height)
    reach = np.float32(0.5) * wide + F1
    for n in range(len(begin)):
        x, y, z = begin[n, 0] - camera[0], begin[n, 1] - camera[1], begin[n, 2] - camera[2]
        ax, ay, za = drawn_at(camera, x, y, z, half_w, half_h)
        x, y, z = end[n, 0] - camera[0], end[n, 1] - camera[1], end[n, 2] - camera[2]
        bx, by, zb = drawn_at(camera, x, y, z, half_w, half_h)
        if not (za > NEAR and zb > NEAR):
            continue
        if not (max(ay, by) + reach >= np.float32(row0) and min(ay, by) - reach <= np.float32(row1)):
            continue
        if not (max(ax, bx) + reach >= F0 and min(ax, bx) - reach <= np.float32(width)):
            continue
        c0, c1 = int(max(min(ax, bx) - reach, F0)), int(min(max(ax, bx) + reach + F1, np.float32(width)))
        r0 = int(max(min(ay, by) - reach, np.float32(row0)))
        r1 = int(min(max(ay, by) + reach + F1, np.float32(row1)))
        ux, uy = bx - ax, by - ay
        long = np.sqrt(ux * ux + uy * uy)
        over = F1 / (long * long) if long > np.float32(1e-6) else F0
        strength = wide / (wide + long) if glow else F1
        for j in range(r0, r1):
            qy = np.float32(j) + HALF - ay
            for i in range(c0, c1):
                qx = np.float32(i) + HALF - ax
                s = min(max((qx * ux + qy * uy) * over, F0), F1)
                dx, dy = qx - s * ux, qy - s * uy
                off = np.sqrt(dx * dx + dy * dy)
                if off >= reach:
                    continue
                if min(depth[2 * j, 2 * i], depth[2 * j + 1, 2 * i + 1]) < za + s * (zb - za):
                    continue
                if glow:
                    q = off / (np.float32(0.5) * wide)
                    w = strength * np.exp(-q * q)
                    for c in range(3):
                        out[j, i, c] += w * colour[n, c]
                else:
                    w = min(max(np.float32(0.5) * wide + HALF - off, F0), F1)
                    for c in range(3):
                        out[j, i, c] += w * (colour[n, c] - out[j, i, c])
