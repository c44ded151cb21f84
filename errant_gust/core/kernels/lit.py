"""Light on what is solid in a picture: rays toward the key and the sky, whose noise is smoothed where surfaces go on
(à-trous: Dammertz et al. 2010). For cameras see `solids`; a light is `FACTS` numbers (see `Setting.numbers`)."""

import numpy as np

from errant_gust.core.kernels.clouds import light_through, openness
from errant_gust.core.kernels.compiler import inline, kernel
from errant_gust.core.kernels.rays import blocked
from errant_gust.core.kernels.solids import F0, F1, FURTHEST, GROUND, HALF, NEAR, SKY, surface, way_at

DARK = np.float32(0.12)
"""Of the sky's light comes from what is in its way."""
THROUGH = np.float32(0.45)
"""Of the key's light comes through what is clear."""
FACTS, TURNS = 29, 33
"""Numbers of a light, and how many surfaces' light from all around follows them, from looking down to looking up."""
TINY = np.float32(1e-20)
TILE = 8
"""Pixels a side of what is smoothed or left as it is; more than smoothing reaches."""


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


@inline
def key_reaching(tree, water, cloud, light, scene, px, py, pz, nx, ny, nz, first, second, stack):
    """The share of the key's light that comes past shapes and through smoke to a place, by rays over its disc. See
    `light_pixels`."""
    suns = int(scene[7])
    kx, ky, kz = light[0], light[1], light[2]
    if kx * nx + ky * ny + kz * nz <= F0:
        return F0
    if len(tree[0]) == 0 and len(water[0]) == 0:
        return light_through(cloud, px, py, pz, kx, ky, kz)
    ax, ay, az, bx, by, bz = basis(kx, ky, kz)
    there = F0
    for s in range(suns):
        turn = np.float32(6.2831853) * wrapped(first + np.float32(0.7548777 * s))
        wide = light[21] * np.sqrt(wrapped(second + np.float32(0.5698403 * s)))
        u, v = wide * np.cos(turn), wide * np.sin(turn)
        x, y, z = kx + u * ax + v * bx, ky + u * ay + v * by, kz + u * az + v * bz
        if not blocked(tree, px, py, pz, x, y, z, scene[0], stack):
            there += THROUGH if blocked(water, px, py, pz, x, y, z, scene[0], stack) else F1
    there *= F1 / np.float32(suns)
    return there * light_through(cloud, px, py, pz, kx, ky, kz) if there > F0 else F0


@inline
def around(light, z):
    """Light that comes from a height (−1 … 1) of what is around: the sky, or the ground that the key and it light."""
    if z < F0 and light[20] > HALF:
        own = HALF * light[18] * max(light[2], F0)
        half = HALF * light[18]
        return own * light[3] + half * light[6], own * light[4] + half * light[7], own * light[5] + half * light[8]
    share = sky_from(light, z)
    return (
        light[9] + share * (light[6] - light[9]),
        light[10] + share * (light[7] - light[10]),
        light[11] + share * (light[8] - light[11]),
    )


@kernel
def all_around(light, directions, out):
    """The mean light from unit directions (n, 3) above surfaces that look from straight down to straight up, into `out`
    (m, 3); `directions` are about z, likelier where light counts more."""
    for m in range(len(out)):
        nz = np.float32(2.0) * np.float32(m) / np.float32(len(out) - 1) - F1
        nx = np.sqrt(max(F1 - nz * nz, F0))
        _, _, az, _, _, bz = basis(nx, F0, nz)
        r, g, b = F0, F0, F0
        for n in range(len(directions)):
            lr, lg, lb = around(light, directions[n, 0] * az + directions[n, 1] * bz + directions[n, 2] * nz)
            r, g, b = r + lr, g + lg, b + lb
        share = F1 / np.float32(len(directions))
        out[m, 0], out[m, 1], out[m, 2] = r * share, g * share, b * share


@inline
def beyond(tree, px, py, pz, reach):
    """Whether all of a tree is further away than `reach` m."""
    boxes = tree[0]
    if len(boxes) == 0:
        return True
    x = max(boxes[0, 0] - px, px - boxes[0, 3], F0)
    y = max(boxes[0, 1] - py, py - boxes[0, 4], F0)
    z = max(boxes[0, 2] - pz, pz - boxes[0, 5], F0)
    return x * x + y * y + z * z > reach * reach


@inline
def sky_reaching(tree, light, scene, px, py, pz, nx, ny, nz, first, second, stack):
    """The light that comes to a place from all around: r, g, b, by rays that are likelier where they count more. See
    `light_pixels`."""
    ways = int(scene[8])
    k = min(max(int((nz + F1) * HALF * np.float32(TURNS - 1)), 0), TURNS - 2)
    w = (nz + F1) * HALF * np.float32(TURNS - 1) - np.float32(k)
    k = FACTS + 3 * k
    # what all of it is, where nothing is in the way, is known: rays tell the share that comes
    tr, tg, tb = (
        light[k] + w * (light[k + 3] - light[k]),
        light[k + 1] + w * (light[k + 4] - light[k + 1]),
        light[k + 2] + w * (light[k + 5] - light[k + 2]),
    )
    if beyond(tree, px, py, pz, scene[1]):
        return tr, tg, tb
    ax, ay, az, bx, by, bz = basis(nx, ny, nz)
    r, g, b, r0, g0, b0 = F0, F0, F0, TINY, TINY, TINY
    for s in range(ways):
        turn = np.float32(6.2831853) * wrapped(first + np.float32(0.7548777 * s))
        out = wrapped(second + np.float32(0.5698403 * s))
        wide, up = np.sqrt(out), np.sqrt(F1 - out)
        u, v = wide * np.cos(turn), wide * np.sin(turn)
        x, y, z = u * ax + v * bx + up * nx, u * ay + v * by + up * ny, u * az + v * bz + up * nz
        lr, lg, lb = around(light, z)
        r0, g0, b0 = r0 + lr, g0 + lg, b0 + lb
        if blocked(tree, px, py, pz, x, y, z, scene[1], stack):
            lr, lg, lb = DARK * light[6], DARK * light[7], DARK * light[8]
        r, g, b = r + lr, g + lg, b + lb
    return (r + TINY) / r0 * tr, (g + TINY) / g0 * tg, (b + TINY) / b0 * tb


@inline
def fires_on(fires, px, py, pz, nx, ny, nz):
    """Light (r, g, b) of what burns, `fires` (m, 7): places, sizes in m and strengths, on a surface."""
    r, g, b = F0, F0, F0
    for f in range(len(fires)):
        x, y, z = fires[f, 0] - px, fires[f, 1] - py, fires[f, 2] - pz
        near = x * x + y * y + z * z + fires[f, 3] * fires[f, 3]
        s = max(nx * x + ny * y + nz * z, F0) / (near * np.sqrt(near))
        r, g, b = r + s * fires[f, 4], g + s * fires[f, 5], b + s * fires[f, 6]
    return r, g, b


@inline
def light_on(light, scene, tree, water, cloud, fires, px, py, pz, nx, ny, nz, first, second, stack):
    """Light that comes to a surface: the key's share, what comes from all around (r, g, b) with what burns, and the
    share of the sky that is open."""
    key = key_reaching(tree, water, cloud, light, scene, px, py, pz, nx, ny, nz, first, second, stack)
    r, g, b = sky_reaching(tree, light, scene, px, py, pz, nx, ny, nz, second, first, stack)
    free = openness(cloud, px, py, pz)
    r, g, b = r * free, g * free, b * free
    there = min((r + g + b) / max(light[6] + light[7] + light[8], np.float32(1e-9)), F1)
    fr, fg, fb = fires_on(fires, px, py, pz, nx, ny, nz)
    return key, r + fr, g + fg, b + fb, there


@kernel
def light_pixels(
    camera, light, scene, tree, water, solid, cloud, fires, depth, seen, stack, facing, place, far, shine, row0, row1
):
    """Light on what the first sample of each pixel sees, rows row0 to row1 of the picture: `scene` (9) is how far rays
    go toward the key and the sky, how far from a triangle they begin, how far off the ground is no more told from the
    horizon, around which place (2), how far from a ball they begin, in m, and how many rays go toward the key and the
    sky; `depth` and `seen` (2 h, 2 w) are what was drawn. Into `facing` (h, w, 3) its normal, `place` (h, w, 3) where
    it is, `far` (h, w) the distance ahead (0 where nothing is), `shine` (h, w, 5) what `light_on` says."""
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
            for c in range(5):
                shine[j, i, c] = F0
            for c in range(3):
                facing[j, i, c], place[j, i, c] = F0, F0
            if which == SKY:
                continue
            nx, ny, nz = F0, F0, F1
            if which >= 0:
                nx, ny, nz, _, _, _, _ = surface(solid, which, camera, dx, dy, dz, z)
            px, py, pz = camera[0] + dx * z, camera[1] + dy * z, camera[2] + dz * z
            facing[j, i, 0], facing[j, i, 1], facing[j, i, 2], far[j, i] = nx, ny, nz, z
            place[j, i, 0], place[j, i, 1], place[j, i, 2] = px, py, pz
            off_x, off_y = px - scene[4], py - scene[5]
            # the horizon, which light does not tell from the sky
            if which == GROUND and off_x * off_x + off_y * off_y > scene[3] * scene[3]:
                shine[j, i, 0], shine[j, i, 4] = F1, F1
                shine[j, i, 1], shine[j, i, 2], shine[j, i, 3] = light[6], light[7], light[8]
                continue
            off = scene[6] if which >= len(solid[0]) else scene[2]
            px, py, pz = px + nx * off, py + ny * off, pz + nz * off
            first, second = noise_at(i, j), noise_at(i + 47, j + 17)
            shine[j, i, 0], shine[j, i, 1], shine[j, i, 2], shine[j, i, 3], shine[j, i, 4] = light_on(
                light, scene, tree, water, cloud, fires, px, py, pz, nx, ny, nz, first, second, stack
            )


@inline
def alike(facing, place, far, j, i, nx, ny, nz, x, y, z):
    """How much a surface that looks along n at x, y, z goes on in a pixel, 0 … 1: by where that looks, and how far it
    is from the surface's plane."""
    if far[j, i] <= F0:
        return F0
    turn = nx * facing[j, i, 0] + ny * facing[j, i, 1] + nz * facing[j, i, 2]
    if turn <= np.float32(0.5):
        return F0
    turn *= turn
    turn *= turn
    away_ = nx * (place[j, i, 0] - x) + ny * (place[j, i, 1] - y) + nz * (place[j, i, 2] - z)
    return turn * turn * max(F1 - abs(away_) / (np.float32(0.003) * far[j, i]), F0)


@kernel
def extremes(shine, low, high, row0, row1):
    """The least and the greatest light (h, w, 5) in tiles of `TILE` pixels a side, rows row0 to row1 of `low` and
    `high` (h / TILE, w / TILE, 3): the key's share, red from around and the share of the sky, by which all is told."""
    height, width, _ = shine.shape
    for a in range(row0, row1):
        for b in range(low.shape[1]):
            for c in range(3):
                k = 4 if c == 2 else c
                least, most = shine[a * TILE, b * TILE, k], shine[a * TILE, b * TILE, k]
                for j in range(a * TILE, min((a + 1) * TILE, height)):
                    for i in range(b * TILE, min((b + 1) * TILE, width)):
                        least, most = min(least, shine[j, i, k]), max(most, shine[j, i, k])
                low[a, b, c], high[a, b, c] = least, most


@kernel
def smoothed(facing, place, far, shine, calm, gap, out, row0, row1):
    """Light (h, w, 5) smoothed into `out` over nine pixels that are `gap` apart, where they are one surface (see
    `light_pixels`), rows row0 to row1; what is `calm` (h / TILE, w / TILE) stays as it is."""
    height, width = far.shape
    for j in range(row0, row1):
        for i in range(width):
            if far[j, i] <= F0 or calm[j // TILE, i // TILE]:
                for c in range(5):
                    out[j, i, c] = shine[j, i, c]
                continue
            nx, ny, nz = facing[j, i, 0], facing[j, i, 1], facing[j, i, 2]
            x, y, z = place[j, i, 0], place[j, i, 1], place[j, i, 2]
            total, a, b, c, d, e = F0, F0, F0, F0, F0, F0
            for down in range(-1, 2):
                q = j + down * gap
                if q < 0 or q >= height:
                    continue
                for across in range(-1, 2):
                    p = i + across * gap
                    if p < 0 or p >= width:
                        continue
                    w = alike(facing, place, far, q, p, nx, ny, nz, x, y, z)
                    w *= np.float32((2 - abs(down)) * (2 - abs(across)))
                    total += w
                    a, b, c = a + w * shine[q, p, 0], b + w * shine[q, p, 1], c + w * shine[q, p, 2]
                    d, e = d + w * shine[q, p, 3], e + w * shine[q, p, 4]
            w = F1 / total if total > F0 else F0
            out[j, i, 0], out[j, i, 1], out[j, i, 2], out[j, i, 3], out[j, i, 4] = a * w, b * w, c * w, d * w, e * w


@inline
def away(light, dz, long, row):
    """The colour of what is behind everything, in a direction: from the horizon up."""
    up = min(max(dz / long, F0), F1)
    share = F1 - (F1 - up) * (F1 - up) * (F1 - up)
    return light[25 + row] + share * (light[22 + row] - light[25 + row])


@inline
def in_fog(light, far, r, g, b):
    """A colour as seen from `far` m through fog, which takes a share of it a metre."""
    if light[28] <= F0:
        return r, g, b
    left = np.exp(-light[28] * far)
    return (
        light[25] + left * (r - light[25]),
        light[26] + left * (g - light[26]),
        light[27] + left * (b - light[27]),
    )


@inline
def bare(light, camera, seen, row, column, wide, high):
    """Whether a pixel is nothing but the ground, or nothing but what is behind: one of its samples is as good as
    four."""
    for q in range(4):
        if seen[2 * row + (q >> 1), 2 * column + (q & 1)] != SKY:
            return False
    x = (np.float32(column) + HALF) / wide - F1
    above = way_at(camera, x, F1 - np.float32(row) / high)[2]
    below = way_at(camera, x, F1 - np.float32(row + 1) / high)[2]
    return (ground_at(light, camera, above) < FURTHEST) == (ground_at(light, camera, below) < FURTHEST)


@kernel
def shade(
    camera, light, scene, tree, water, solid, cloud, fires, facing, place, far, shine, depth, seen, stack, out,
    row0, row1,
):  # fmt: skip
    """The light of each sample, (2 h, 2 w, 3) into `out` for rows row0 to row1 of the picture, and how far ahead what
    is seen stands into `depth`. Light of the pixel is taken where the sample sees the same surface, else one beside it,
    else its own. See `light_pixels`."""
    height, width = far.shape
    wide, high = np.float32(0.5 * width), np.float32(0.5 * height)
    for row in range(row0, row1):
        for column in range(width):
            bare_ = bare(light, camera, seen, row, column, wide, high)
            for q in range(4):
                j, i = 2 * row + (q >> 1), 2 * column + (q & 1)
                if bare_ and q > 0:
                    for c in range(3):
                        out[j, i, c] = out[2 * row, 2 * column, c]
                    depth[j, i] = depth[2 * row, 2 * column]
                    continue
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
                px, py, pz = camera[0] + dx * z, camera[1] + dy * z, camera[2] + dz * z
                best, bj, bi = F0, 0, 0
                for beside in range(9):
                    # its own pixel first, then those around
                    v, u = row + (beside // 3 + 1) % 3 - 1, column + (beside % 3 + 1) % 3 - 1
                    if v < 0 or v >= height or u < 0 or u >= width:
                        continue
                    w = alike(facing, place, far, v, u, nx, ny, nz, px, py, pz)
                    if w > best:
                        best, bj, bi = w, v, u
                    if beside == 0 and w > np.float32(0.8):
                        break
                if best > np.float32(0.05):
                    key, sr, sg, sb = shine[bj, bi, 0], shine[bj, bi, 1], shine[bj, bi, 2], shine[bj, bi, 3]
                    open_ = shine[bj, bi, 4]
                else:
                    off = scene[6] if which >= len(solid[0]) else scene[2]
                    ox, oy, oz = px + nx * off, py + ny * off, pz + nz * off
                    first, second = noise_at(i, j), noise_at(i + 47, j + 17)
                    key, sr, sg, sb, open_ = light_on(
                        light, scene, tree, water, cloud, fires, ox, oy, oz, nx, ny, nz, first, second, stack
                    )
                lit = key * max(nx * light[0] + ny * light[1] + nz * light[2], F0)
                side = open_ * max(nx * light[12] + ny * light[13] + nz * light[14], F0)
                r *= lit * light[3] + sr + side * light[15]
                g *= lit * light[4] + sg + side * light[16]
                b *= lit * light[5] + sb + side * light[17]
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
                out[j, i, 0], out[j, i, 1], out[j, i, 2] = in_fog(light, z * long, r, g, b)
