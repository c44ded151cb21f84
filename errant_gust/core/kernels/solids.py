"""What is solid in a picture: the nearest by depth (Catmull 1974), lit by rays toward the key and the sky, whose noise
is smoothed where surfaces go on (à-trous: Dammertz et al. 2010).

A camera is 12 numbers: the eye, the way ahead (unit),
and the ways from the middle of the picture to its right and upper border at a distance of 1."""

import numpy as np

from errant_gust.core.kernels.clouds import light_through, openness
from errant_gust.core.kernels.compiler import inline, kernel
from errant_gust.core.kernels.rays import blocked

F0, F1, HALF = np.float32(0.0), np.float32(1.0), np.float32(0.5)
NEAR, FURTHEST = np.float32(1e-6), np.float32(3e38)
SKY, GROUND = -1, -2
"""What is seen where no triangle and no ball is."""
DARK = np.float32(0.12)
"""Of the sky's light comes from what is in its way."""
WAYS = 4
"""Rays toward the sky."""
THROUGH = np.float32(0.45)
"""Of the key's light comes through what is clear."""
SUNS = 2
"""Rays toward the key."""


@inline
def way_at(camera, x, y):
    """The way of a ray through a place of the picture (−1 … 1 to the right and up), 1 long along the way ahead."""
    return (
        camera[3] + x * camera[6] + y * camera[9],
        camera[4] + x * camera[7] + y * camera[10],
        camera[5] + x * camera[8] + y * camera[11],
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
        ahead = x * camera[3] + y * camera[4] + z * camera[5]
        if not ahead > r + NEAR:
            continue
        column = ((x * camera[6] + y * camera[7] + z * camera[8]) / (sx * ahead) + F1) * wide
        row = (F1 - (x * camera[9] + y * camera[10] + z * camera[11]) / (sy * ahead)) * high
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


@inline
def noise_at(x, y):
    """A number of 0 … 1 that differs from its neighbours' (interleaved gradient noise: Jimenez 2014)."""
    f = 0.06711056 * np.float64(x) + 0.00583715 * np.float64(y)
    f = 52.9829189 * (f - np.floor(f))
    return np.float32(f - np.floor(f))


@inline
def wrapped(v):
    """The part of a number after the point."""
    return v - np.floor(v)


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


@inline
def ground_at(light, camera, dz):
    """How far ahead a ray meets the ground; FAR where it does not."""
    if light[20] < HALF or not dz < F0:
        return FURTHEST
    t = (light[19] - camera[2]) / dz
    return t if t > NEAR else FURTHEST


@inline
def sky_from(light, z):
    """How much of the sky's light (against that from below) comes from a height (−1 … 1)."""
    return min(max(HALF + np.float32(0.75) * z, F0), F1)


@inline
def basis(nx, ny, nz):
    """Two directions across a unit vector and each other (Duff et al. 2017)."""
    s = F1 if nz >= F0 else -F1
    a = -F1 / (s + nz)
    b = nx * ny * a
    return F1 + s * nx * nx * a, s * b, -s * nx, b, s + ny * ny * a, -ny


@kernel
def key_reaching(tree, water, cloud, light, px, py, pz, nx, ny, nz, first, second, scale, stack):
    """The share of the key's light that comes past shapes and through smoke to a place, by rays over its disc."""
    kx, ky, kz = light[0], light[1], light[2]
    if kx * nx + ky * ny + kz * nz <= F0:
        return F0
    ax, ay, az, bx, by, bz = basis(kx, ky, kz)
    there = F0
    for s in range(SUNS):
        turn = np.float32(6.2831853) * wrapped(first + np.float32(0.7548777 * s))
        wide = light[21] * np.sqrt(wrapped(second + np.float32(0.5698403 * s)))
        u, v = wide * np.cos(turn), wide * np.sin(turn)
        x, y, z = kx + u * ax + v * bx, ky + u * ay + v * by, kz + u * az + v * bz
        if not blocked(tree, px, py, pz, x, y, z, scale, stack):
            there += THROUGH if blocked(water, px, py, pz, x, y, z, scale, stack) else F1
    there *= F1 / np.float32(SUNS)
    return there * light_through(cloud, px, py, pz, kx, ky, kz) if there > F0 else F0


@kernel
def sky_reaching(tree, light, px, py, pz, nx, ny, nz, first, second, reach, stack):
    """The light that comes to a place from all around: r, g, b, by rays that are likelier where they count more."""
    ax, ay, az, bx, by, bz = basis(nx, ny, nz)
    r, g, b = F0, F0, F0
    for s in range(WAYS):
        turn = np.float32(6.2831853) * wrapped(first + np.float32(0.7548777 * s))
        out = wrapped(second + np.float32(0.5698403 * s))
        wide, up = np.sqrt(out), np.sqrt(F1 - out)
        u, v = wide * np.cos(turn), wide * np.sin(turn)
        x, y, z = u * ax + v * bx + up * nx, u * ay + v * by + up * ny, u * az + v * bz + up * nz
        if blocked(tree, px, py, pz, x, y, z, reach, stack):
            r, g, b = r + DARK * light[6], g + DARK * light[7], b + DARK * light[8]
        elif z < F0 and light[20] > HALF:
            own = HALF * light[18] * max(light[2], F0)
            r += own * light[3] + HALF * light[18] * light[6]
            g += own * light[4] + HALF * light[18] * light[7]
            b += own * light[5] + HALF * light[18] * light[8]
        else:
            share = sky_from(light, z)
            r += light[9] + share * (light[6] - light[9])
            g += light[10] + share * (light[7] - light[10])
            b += light[11] + share * (light[8] - light[11])
    each = F1 / np.float32(WAYS)
    return r * each, g * each, b * each


@kernel
def light_pixels(camera, light, scene, tree, water, solid, cloud, depth, seen, stack, facing, far, shine, row0, row1):
    """Light on what the first sample of each pixel sees, rows row0 to row1 of the picture: `scene` (7) is how far rays
    go toward the key and the sky, how far from a triangle they begin, how far off the ground is no more told from the
    horizon, around which place (2), and how far from a ball they begin, in m; `depth` and `seen` (2 h, 2 w) are what
    was drawn. Into `facing` (h, w, 3) its normal, `far` (h, w) the distance ahead (0 where nothing is), `shine`
    (h, w, 4) the key's share and the sky's light."""
    height, width = far.shape
    wide, high = np.float32(0.5 * width), np.float32(0.5 * height)
    for j in range(row0, row1):
        for i in range(width):
            x = (np.float32(i) + np.float32(0.25)) / wide - F1
            y = F1 - (np.float32(j) + np.float32(0.25)) / high
            dx, dy, dz = way_at(camera, x, y)
            z, which = depth[2 * j, 2 * i], seen[2 * j, 2 * i]
            ground = ground_at(light, camera, dz)
            if ground < z:
                z, which = ground, GROUND
            far[j, i] = F0
            for c in range(4):
                shine[j, i, c] = F0
            facing[j, i, 0], facing[j, i, 1], facing[j, i, 2] = F0, F0, F1
            if which == SKY:
                continue
            nx, ny, nz = F0, F0, F1
            if which >= 0:
                nx, ny, nz, _, _, _, _ = surface(solid, which, camera, dx, dy, dz, z)
            facing[j, i, 0], facing[j, i, 1], facing[j, i, 2], far[j, i] = nx, ny, nz, z
            if z > scene[3]:  # the horizon, which light does not tell from the sky
                shine[j, i, 0] = F1
                shine[j, i, 1], shine[j, i, 2], shine[j, i, 3] = light[6], light[7], light[8]
                continue
            px, py, pz = camera[0] + dx * z, camera[1] + dy * z, camera[2] + dz * z
            off = scene[6] if which >= len(solid[0]) else scene[2]
            px, py, pz = px + nx * off, py + ny * off, pz + nz * off
            first, second = noise_at(i, j), noise_at(i + 47, j + 17)
            shine[j, i, 0] = key_reaching(
                tree, water, cloud, light, px, py, pz, nx, ny, nz, first, second, scene[0], stack
            )
            r, g, b = sky_reaching(tree, light, px, py, pz, nx, ny, nz, second, first, scene[1], stack)
            free = openness(cloud, px, py, pz)
            shine[j, i, 1], shine[j, i, 2], shine[j, i, 3] = r * free, g * free, b * free


@inline
def alike(facing, far, j, i, nx, ny, nz, x, y, z):
    """How much a pixel's surface goes on in another, 0 … 1: by where it looks, and how far that is from its plane. x,
    y, z: the way from one to the other."""
    if far[j, i] <= F0:
        return F0
    turn = nx * facing[j, i, 0] + ny * facing[j, i, 1] + nz * facing[j, i, 2]
    if turn <= np.float32(0.5):
        return F0
    turn *= turn
    turn *= turn
    off = abs(nx * x + ny * y + nz * z) / (np.float32(0.003) * far[j, i])
    return turn * turn * max(F1 - off, F0)


@kernel
def smoothed(camera, facing, far, shine, gap, out, row0, row1):
    """Light (h, w, 4) smoothed into `out` over nine pixels that are `gap` apart, where they are one surface (see
    `light_pixels`), rows row0 to row1."""
    height, width = far.shape
    wide, high = np.float32(0.5 * width), np.float32(0.5 * height)
    for j in range(row0, row1):
        for i in range(width):
            z = far[j, i]
            if z <= F0:
                for c in range(4):
                    out[j, i, c] = shine[j, i, c]
                continue
            nx, ny, nz = facing[j, i, 0], facing[j, i, 1], facing[j, i, 2]
            x = (np.float32(i) + np.float32(0.25)) / wide - F1
            y = F1 - (np.float32(j) + np.float32(0.25)) / high
            dx, dy, dz = way_at(camera, x, y)
            total, a, b, c, d = F0, F0, F0, F0, F0
            for down in range(-1, 2):
                q = j + down * gap
                if q < 0 or q >= height:
                    continue
                for across in range(-1, 2):
                    p = i + across * gap
                    if p < 0 or p >= width:
                        continue
                    u = (np.float32(p) + np.float32(0.25)) / wide - F1
                    v = F1 - (np.float32(q) + np.float32(0.25)) / high
                    ex, ey, ez = way_at(camera, u, v)
                    t = far[q, p]
                    w = alike(facing, far, q, p, nx, ny, nz, ex * t - dx * z, ey * t - dy * z, ez * t - dz * z)
                    w *= np.float32((2 - abs(down)) * (2 - abs(across)))
                    total += w
                    a, b, c, d = (
                        a + w * shine[q, p, 0],
                        b + w * shine[q, p, 1],
                        c + w * shine[q, p, 2],
                        d + w * shine[q, p, 3],
                    )
            if total > F0:
                w = F1 / total
                out[j, i, 0], out[j, i, 1], out[j, i, 2], out[j, i, 3] = a * w, b * w, c * w, d * w
            else:
                for k in range(4):
                    out[j, i, k] = shine[j, i, k]


@inline
def fires_on(fires, px, py, pz, nx, ny, nz):
    """Light (r, g, b) of what burns, `fires` (m, 7): places, sizes in m and strengths, on a surface."""
    r, g, b = F0, F0, F0
    for f in range(len(fires)):
        x, y, z = fires[f, 0] - px, fires[f, 1] - py, fires[f, 2] - pz
        near = x * x + y * y + z * z + fires[f, 3] * fires[f, 3]
        cosine = (nx * x + ny * y + nz * z) / np.sqrt(near)
        if cosine > F0:
            s = cosine / near
            r, g, b = r + s * fires[f, 4], g + s * fires[f, 5], b + s * fires[f, 6]
    return r, g, b


@inline
def away(light, dz, long, row):
    """The colour of what is behind everything, in a direction: from the horizon up."""
    up = min(max(dz / long, F0), F1)
    share = F1 - (F1 - up) * (F1 - up) * (F1 - up)
    return light[25 + row] + share * (light[22 + row] - light[25 + row])


@kernel
def shade(
    camera, light, scene, tree, water, solid, cloud, fires, facing, far, shine, depth, seen, stack, out, row0, row1
):
    """The light of each sample, (2 h, 2 w, 3) into `out` for rows row0 to row1 of the picture, and how far ahead what
    is seen stands into `depth`. Light of the pixel is taken where the sample sees the same surface, else one beside it,
    else its own. See `light_pixels`."""
    height, width = far.shape
    wide, high = np.float32(0.5 * width), np.float32(0.5 * height)
    for j in range(2 * row0, 2 * row1):
        for i in range(2 * width):
            x = (np.float32(i) + HALF) * HALF / wide - F1
            y = F1 - (np.float32(j) + HALF) * HALF / high
            dx, dy, dz = way_at(camera, x, y)
            long = np.sqrt(dx * dx + dy * dy + dz * dz)
            z, which = depth[j, i], seen[j, i]
            ground = ground_at(light, camera, dz)
            if ground < z:
                z, which = ground, GROUND
            depth[j, i] = z
            if which == SKY:
                for c in range(3):
                    out[j, i, c] = away(light, dz, long, c)
                continue
            nx, ny, nz, r, g, b, shiny = F0, F0, F1, light[18], light[18], light[18], F0
            if which >= 0:
                nx, ny, nz, r, g, b, shiny = surface(solid, which, camera, dx, dy, dz, z)
            best, bj, bi = F0, 0, 0
            for n in range(9):
                # its own pixel first, then those around
                q, p = (j >> 1) + (n // 3 + 1) % 3 - 1, (i >> 1) + (n % 3 + 1) % 3 - 1
                if q < 0 or q >= height or p < 0 or p >= width:
                    continue
                ex, ey, ez = way_at(
                    camera,
                    (np.float32(p) + np.float32(0.25)) / wide - F1,
                    F1 - (np.float32(q) + np.float32(0.25)) / high,
                )
                t = far[q, p]
                w = alike(facing, far, q, p, nx, ny, nz, ex * t - dx * z, ey * t - dy * z, ez * t - dz * z)
                if w > best:
                    best, bj, bi = w, q, p
                if n == 0 and w > np.float32(0.8):
                    break
            px, py, pz = camera[0] + dx * z, camera[1] + dy * z, camera[2] + dz * z
            if best > np.float32(0.05):
                key, sr, sg, sb = shine[bj, bi, 0], shine[bj, bi, 1], shine[bj, bi, 2], shine[bj, bi, 3]
            else:
                off = scene[6] if which >= len(solid[0]) else scene[2]
                ox, oy, oz = px + nx * off, py + ny * off, pz + nz * off
                first, second = noise_at(i, j), noise_at(i + 47, j + 17)
                key = key_reaching(tree, water, cloud, light, ox, oy, oz, nx, ny, nz, first, second, scene[0], stack)
                sr, sg, sb = sky_reaching(tree, light, ox, oy, oz, nx, ny, nz, second, first, scene[1], stack)
                free = openness(cloud, ox, oy, oz)
                sr, sg, sb = sr * free, sg * free, sb * free
            open_ = (sr + sg + sb) / max(light[6] + light[7] + light[8], np.float32(1e-9))
            lit = key * max(nx * light[0] + ny * light[1] + nz * light[2], F0)
            side = min(open_, F1) * max(nx * light[12] + ny * light[13] + nz * light[14], F0)
            fr, fg, fb = fires_on(fires, px, py, pz, nx, ny, nz)
            r *= lit * light[3] + sr + side * light[15] + fr
            g *= lit * light[4] + sg + side * light[16] + fg
            b *= lit * light[5] + sb + side * light[17] + fb
            if shiny > F0 and key > F0:  # halfway between the key and the eye (Blinn 1977)
                hx, hy, hz = light[0] - dx / long, light[1] - dy / long, light[2] - dz / long
                s = (nx * hx + ny * hy + nz * hz) / np.sqrt(hx * hx + hy * hy + hz * hz)
                if s > F0:
                    s = shiny * key * s**24
                    r, g, b = r + s * light[3], g + s * light[4], b + s * light[5]
            if which == GROUND:
                ax, ay = px - scene[4], py - scene[5]
                share = min(np.sqrt(ax * ax + ay * ay) / scene[3], F1)
                share = share * share * (np.float32(3.0) - np.float32(2.0) * share)
                r += share * (light[25] - r)
                g += share * (light[26] - g)
                b += share * (light[27] - b)
            out[j, i, 0], out[j, i, 1], out[j, i, 2] = r, g, b


@kernel
def draw_streaks(begin, end, colour, wide, glow, camera, depth, out, row0, row1):
    """Ways from `begin` to `end` (n, 3) in colours (n, 3) over a picture `out` (h, w, 3), rows row0 to row1, where
    nothing nearer stands in `depth` (2 h, 2 w): `wide` pixels wide with soft borders. What glows adds its light, the
    same however long the way is on the picture; what does not covers what is behind."""
    height, width = out.shape[0], out.shape[1]
    sx = camera[6] * camera[6] + camera[7] * camera[7] + camera[8] * camera[8]
    sy = camera[9] * camera[9] + camera[10] * camera[10] + camera[11] * camera[11]
    half_w, half_h = np.float32(0.5 * width), np.float32(0.5 * height)
    reach = np.float32(0.5) * wide + F1
    for n in range(len(begin)):
        x, y, z = begin[n, 0] - camera[0], begin[n, 1] - camera[1], begin[n, 2] - camera[2]
        za = x * camera[3] + y * camera[4] + z * camera[5]
        if not za > NEAR:
            continue
        ax = ((x * camera[6] + y * camera[7] + z * camera[8]) / (sx * za) + F1) * half_w
        ay = (F1 - (x * camera[9] + y * camera[10] + z * camera[11]) / (sy * za)) * half_h
        x, y, z = end[n, 0] - camera[0], end[n, 1] - camera[1], end[n, 2] - camera[2]
        zb = x * camera[3] + y * camera[4] + z * camera[5]
        if not zb > NEAR:
            continue
        bx = ((x * camera[6] + y * camera[7] + z * camera[8]) / (sx * zb) + F1) * half_w
        by = (F1 - (x * camera[9] + y * camera[10] + z * camera[11]) / (sy * zb)) * half_h
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
