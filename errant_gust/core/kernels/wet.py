"""What is clear and wet: what it mirrors, what is seen bent through it, and what it takes on the way (Fresnel, Snell,
Beer and Lambert)."""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel
from errant_gust.core.kernels.lit import away, ground_at, in_fog, key_reaching, sky_from
from errant_gust.core.kernels.rays import nearest
from errant_gust.core.kernels.solids import F0, F1, FURTHEST, HALF, surface, way_at

INDEX = np.float32(1.33)
MILKY = np.float32(2.2)
"""Times the depth at which the own colour is full, the depth over which light is scattered."""


@inline
def mirrored(cosine, ratio):
    """The share of light that is mirrored where it meets a surface at an angle of this cosine, going into what is
    `ratio` times as dense, by Fresnel, of both polarisations."""
    sine2 = (F1 - cosine * cosine) / (ratio * ratio)
    if sine2 >= F1:
        return F1
    inner = np.sqrt(F1 - sine2)
    a = (cosine - ratio * inner) / (cosine + ratio * inner)
    b = (inner - ratio * cosine) / (inner + ratio * cosine)
    return HALF * (a * a + b * b)


@inline
def bent(dx, dy, dz, nx, ny, nz, ratio):
    """The way (unit) of light that comes along d (unit) to a surface whose normal n looks against it, into what is
    `ratio` times as dense; mirrored where it cannot enter."""
    cosine = -(dx * nx + dy * ny + dz * nz)
    under = F1 - (F1 - cosine * cosine) / (ratio * ratio)
    if under < F0:
        return dx + 2 * cosine * nx, dy + 2 * cosine * ny, dz + 2 * cosine * nz
    turn = cosine / ratio - np.sqrt(under)
    return dx / ratio + turn * nx, dy / ratio + turn * ny, dz / ratio + turn * nz


@kernel
def glimpsed(light, scene, tree, water, solid, cloud, ox, oy, oz, dx, dy, dz, mine, stack):
    """What is seen along a ray (unit) from a place: light r, g, b, and how far that is; `mine` (12) is to work in."""
    far, which, _, _ = nearest(tree, ox, oy, oz, dx, dy, dz, FURTHEST, stack)
    mine[0], mine[1], mine[2] = ox, oy, oz
    ground = ground_at(light, mine, dz)
    r, g, b = away(light, dz, F1, 0), away(light, dz, F1, 1), away(light, dz, F1, 2)
    if which < 0 and ground >= FURTHEST:
        up = sky_from(light, dz)  # what mirrors sees the sky that lights
        up = HALF * up * up
        return r + up * light[6], g + up * light[7], b + up * light[8], FURTHEST
    nx, ny, nz, ar, ag, ab = F0, F0, F1, light[18], light[18], light[18]
    far = min(far, ground)
    if far < ground:
        nx, ny, nz, ar, ag, ab, _ = surface(solid, tree[5][which], mine, dx, dy, dz, far)
    px, py, pz = ox + far * dx + scene[2] * nx, oy + far * dy + scene[2] * ny, oz + far * dz + scene[2] * nz
    key = key_reaching(tree, water, cloud, light, scene, px, py, pz, nx, ny, nz, HALF, HALF, stack)
    key *= max(nx * light[0] + ny * light[1] + nz * light[2], F0)
    s = sky_from(light, nz) * np.float32(0.8)
    own_r = ar * (key * light[3] + s * light[6])
    own_g = ag * (key * light[4] + s * light[7])
    own_b = ab * (key * light[5] + s * light[8])
    if far >= ground:
        x, y = px - scene[4], py - scene[5]
        q = min(np.sqrt(x * x + y * y) / scene[3], F1)
        q = q * q * (np.float32(3.0) - np.float32(2.0) * q)
        own_r, own_g, own_b = (
            own_r + q * (light[25] - own_r),
            own_g + q * (light[26] - own_g),
            own_b + q * (light[27] - own_b),
        )
    return own_r, own_g, own_b, far


@kernel
def wet(
    camera, light, scene, tree, water, solid, liquid, cloud, deep, nearer, seen, mine, stack, depth, out, row0, row1
):
    """Light of what is wet, into samples `out` (2 h, 2 w, 3) where it stands before what is in `depth` (2 h, 2 w), rows
    row0 to row1 of the picture; one ray a pixel, for all its samples that see it. `liquid` is a solid of the triangles
    of `water`, `nearer` and `seen` (2 h, 2 w) how far ahead they were drawn and which, `deep` the m after which the own
    colour is full; `mine` (12) is to work in."""
    height, width = out.shape[0] // 2, out.shape[1] // 2
    for j in range(row0, row1):
        for i in range(width):
            best = -1
            for q in range(4):
                y, x = 2 * j + (q >> 1), 2 * i + (q & 1)
                if seen[y, x] >= 0 and nearer[y, x] < depth[y, x]:
                    best = q
                    break
            if best < 0:
                continue
            y, x = 2 * j + (best >> 1), 2 * i + (best & 1)
            dx, dy, dz = way_at(
                camera,
                (np.float32(x) + HALF) / np.float32(width) - F1,
                F1 - (np.float32(y) + HALF) / np.float32(height),
            )
            z = nearer[y, x]
            px, py, pz = camera[0] + dx * z, camera[1] + dy * z, camera[2] + dz * z
            nx, ny, nz, tr, tg, tb, _ = surface(liquid, seen[y, x], camera, dx, dy, dz, z)
            over = F1 / np.sqrt(dx * dx + dy * dy + dz * dz)
            dx, dy, dz = dx * over, dy * over, dz * over
            cosine = max(-(dx * nx + dy * ny + dz * nz), np.float32(0.01))
            share = mirrored(cosine, INDEX)
            e = scene[2]
            mx, my, mz = dx + 2 * cosine * nx, dy + 2 * cosine * ny, dz + 2 * cosine * nz
            rr, rg, rb, _ = glimpsed(
                light, scene, tree, water, solid, cloud, px + e * nx, py + e * ny, pz + e * nz, mx, my, mz, mine, stack
            )
            key = key_reaching(
                tree, tree, cloud, light, scene, px + e * nx, py + e * ny, pz + e * nz, nx, ny, nz, HALF, HALF, stack
            )
            # the key in the mirror: a small bright disc and a wide faint one
            s = max(mx * light[0] + my * light[1] + mz * light[2], F0)
            s = key * (np.float32(14.0) * s**400 + np.float32(0.9) * s**24)
            bx, by, bz = bent(dx, dy, dz, nx, ny, nz, INDEX)
            ox, oy, oz = px - 2 * e * nx, py - 2 * e * ny, pz - 2 * e * nz
            long, which, _, _ = nearest(water, ox, oy, oz, bx, by, bz, FURTHEST, stack)
            gr, gg, gb, far = glimpsed(light, scene, tree, water, solid, cloud, ox, oy, oz, bx, by, bz, mine, stack)
            if which >= 0 and long < far:
                mine[0], mine[1], mine[2] = ox, oy, oz
                ux, uy, uz, _, _, _, _ = surface(liquid, water[5][which], mine, bx, by, bz, long)
                cx, cy, cz = bent(bx, by, bz, ux, uy, uz, F1 / INDEX)
                ox, oy, oz = ox + long * bx - 2 * e * ux, oy + long * by - 2 * e * uy, oz + long * bz - 2 * e * uz
                gr, gg, gb, _ = glimpsed(light, scene, tree, water, solid, cloud, ox, oy, oz, cx, cy, cz, mine, stack)
            length = min(long, far) / deep
            milk = F1 - np.exp(-MILKY * length * np.float32(0.35))
            lit = HALF * key * (HALF + HALF * max(nx * light[0] + ny * light[1] + nz * light[2], F0))
            up = sky_from(light, nz)
            r = gr * np.exp(-(F1 - tr) * MILKY * length) * (F1 - milk) + milk * tr * (lit * light[3] + up * light[6])
            g = gg * np.exp(-(F1 - tg) * MILKY * length) * (F1 - milk) + milk * tg * (lit * light[4] + up * light[7])
            b = gb * np.exp(-(F1 - tb) * MILKY * length) * (F1 - milk) + milk * tb * (lit * light[5] + up * light[8])
            r, g, b = (
                r + share * (rr - r) + s * share * light[3],
                g + share * (rg - g) + s * share * light[4],
                b + share * (rb - b) + s * share * light[5],
            )
            r, g, b = in_fog(light, z / over, r, g, b)
            for q in range(best, 4):
                y, x = 2 * j + (q >> 1), 2 * i + (q & 1)
                if seen[y, x] >= 0 and nearer[y, x] < depth[y, x]:
                    out[y, x, 0], out[y, x, 1], out[y, x, 2] = r, g, b
                    depth[y, x] = nearer[y, x]
