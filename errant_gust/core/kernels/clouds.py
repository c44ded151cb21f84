"""Light in smoke and fire: swept through the voxels once, and gathered along the rays of a picture.

Volumes are in their own frame: `frame` (14) is the axes of the region (3, 3, columns in the scene), its lower corner
(3) there, one over the size of a voxel, and that size in m."""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel
from errant_gust.core.kernels.rays import blocked

F0, F1, HALF = np.float32(0.0), np.float32(1.0), np.float32(0.5)
SOLID = np.float32(0.002)
"""Of light that comes through so little nothing is seen."""
BRICK = 4


@inline
def at_(v, n):
    """A cell of n and the share of the next, for a place in cells from the middle of the first."""
    top = np.float32(n - 1)
    v = v if v > F0 else F0  # what is no number too
    v = v if v < top else top
    i = min(int(v), max(n - 2, 0))
    return i, v - np.float32(i)


@inline
def looked(grid, x, y, z):
    """A number between the middles of cells (nx, ny, nz), linearly."""
    nx, ny, nz = grid.shape
    i, a = at_(x, nx)
    j, b = at_(y, ny)
    k, c = at_(z, nz)
    i1, j1, k1 = min(i + 1, nx - 1), min(j + 1, ny - 1), min(k + 1, nz - 1)
    f00 = grid[i, j, k] + c * (grid[i, j, k1] - grid[i, j, k])
    f01 = grid[i, j1, k] + c * (grid[i, j1, k1] - grid[i, j1, k])
    f10 = grid[i1, j, k] + c * (grid[i1, j, k1] - grid[i1, j, k])
    f11 = grid[i1, j1, k] + c * (grid[i1, j1, k1] - grid[i1, j1, k])
    f0, f1 = f00 + b * (f01 - f00), f10 + b * (f11 - f10)
    return f0 + a * (f1 - f0)


@inline
def into(frame, px, py, pz):
    """A place of the scene in voxels of the region, from its corner."""
    x, y, z = px - frame[9], py - frame[10], pz - frame[11]
    s = frame[12]
    return (
        s * (frame[0] * x + frame[3] * y + frame[6] * z),
        s * (frame[1] * x + frame[4] * y + frame[7] * z),
        s * (frame[2] * x + frame[5] * y + frame[8] * z),
    )


@inline
def box_span(x, y, z, dx, dy, dz, nx, ny, nz):
    """From where to where a ray is in a box of so many voxels; from > to where it misses it."""
    near, far = F0, np.float32(3e38)
    for c in range(3):
        o = x if c == 0 else (y if c == 1 else z)
        d = dx if c == 0 else (dy if c == 1 else dz)
        n = np.float32(nx if c == 0 else (ny if c == 1 else nz))
        if abs(d) < np.float32(1e-12):
            if o < F0 or o > n:
                return F1, F0
        else:
            a, b = -o / d, (n - o) / d
            near, far = max(near, min(a, b)), min(far, max(a, b))
    return near, far


@inline
def light_through(cloud, px, py, pz, kx, ky, kz):
    """The share of the key's light that smoke lets through to a place of the scene: what was swept to where the way
    toward the key enters the voxels."""
    through, frame, _ = cloud
    nx, ny, nz = through.shape
    if nx < 2:
        return F1
    x, y, z = into(frame, px, py, pz)
    s = frame[12]
    dx = s * (frame[0] * kx + frame[3] * ky + frame[6] * kz)
    dy = s * (frame[1] * kx + frame[4] * ky + frame[7] * kz)
    dz = s * (frame[2] * kx + frame[5] * ky + frame[8] * kz)
    near, far = box_span(x, y, z, dx, dy, dz, nx, ny, nz)
    if far <= near:
        return F1
    return np.exp(-looked(through, x + near * dx - HALF, y + near * dy - HALF, z + near * dz - HALF))


@inline
def openness(cloud, px, py, pz):
    """The share of the sky that is open at a place of the scene, as far as what is in voxels hides it."""
    _, frame, free = cloud
    nx, ny, nz = free.shape
    if nx < 2:
        return F1
    x, y, z = into(frame, px, py, pz)
    if not (F0 <= x <= np.float32(nx) and F0 <= y <= np.float32(ny) and F0 <= z <= np.float32(nz)):
        return F1
    return looked(free, x - HALF, y - HALF, z - HALF)


@inline
def between(v, n):
    """The two of n cells that a place is between, and what it has of each: nothing of those that are not there."""
    i = int(np.floor(v))
    s = v - np.float32(i)
    return (
        min(max(i, 0), n - 1),
        min(max(i + 1, 0), n - 1),
        F1 - s if 0 <= i < n else F0,
        s if 0 <= i + 1 < n else F0,
    )


@kernel
def swept(thick, along, u, v, out):
    """Optical depth `out` (n, m, l) between voxels and a light: plane by plane from the last one if `along` > 0, else
    from the first; from one to the next light comes `u` voxels along the second axis and `v` along the third. `thick`
    (n, m, l) is the optical depth across one voxel."""
    n, m, width = thick.shape
    long = HALF * np.sqrt(F1 + u * u + v * v)
    for step in range(n):
        p = n - 1 - step if along > 0 else step
        before = p + 1 if along > 0 else p - 1
        for a in range(m):
            i0, i1, w0, w1 = between(np.float32(a) + u, m)
            for b in range(width):
                depth = long * thick[p, a, b]
                if step > 0:
                    j0, j1, t0, t1 = between(np.float32(b) + v, width)
                    depth += w0 * t0 * (out[before, i0, j0] + long * thick[before, i0, j0])
                    depth += w0 * t1 * (out[before, i0, j1] + long * thick[before, i0, j1])
                    depth += w1 * t0 * (out[before, i1, j0] + long * thick[before, i1, j0])
                    depth += w1 * t1 * (out[before, i1, j1] + long * thick[before, i1, j1])
                out[p, a, b] = depth


@inline
def from_table(table, row, depth, top):
    """What octaves of scattering leave of light (`table`, rows by cosines or one, columns by the root of depth to
    `top`)."""
    n = table.shape[1]
    x = np.sqrt(max(depth, F0) / top) * np.float32(n - 1)
    i, s = at_(x, n)
    return table[row, i] + s * (table[row, i + 1] - table[row, i])


@kernel
def from_sky(depth, table, top, r, g, b, out):
    """Adds the light of a part of the sky (r, g, b) that comes through `depth` (nx, ny, nz) to `out` (3, nx, ny, nz),
    scattered as `table` (1, m) says for optical depths up to `top`."""
    nx, ny, nz = depth.shape
    for i in range(nx):
        for j in range(ny):
            for k in range(nz):
                s = from_table(table, 0, depth[i, j, k], top)
                out[0, i, j, k] += s * r
                out[1, i, j, k] += s * g
                out[2, i, j, k] += s * b


@kernel
def baked(extinct, burns, depth, past, sky, near, table, top, colour, tint, tinted, frame, eye, key, out, row0, row1):
    """What each voxel sends toward the eye and how much light it stops, `out` (nx, ny, nz, 4): r, g, b a metre, and
    1/m, for rows row0 to row1.

    `extinct` (nx, ny, nz) is in 1/m, `burns` (nx, ny, nz, 3) what it emits a metre (or 1×1×1×3 for nothing), `depth`
    (nx, ny, nz) that toward the key. On grids that may be coarser: `past`, the share of the key's light that shapes
    leave, `sky` (3, …) what comes from around and `near` (3, …) from what burns. `table` (c, m) is what is scattered by
    the cosine between sight and light, `colour` (3) the key's, `tint` (3) that of smoke or `tinted` (nx, ny, nz, 3)
    where it has some of its own; `eye` (3) and `key` (3) are in the volume's own frame."""
    nx, ny, nz = extinct.shape
    h = frame[13]
    fires = burns.shape[0] == nx
    own = tinted.shape[0] == nx
    rows = table.shape[0]
    sx = np.float32(past.shape[0]) / np.float32(nx)
    sy = np.float32(past.shape[1]) / np.float32(ny)
    sz = np.float32(past.shape[2]) / np.float32(nz)
    for i in range(row0, row1):
        for j in range(ny):
            for k in range(nz):
                e = extinct[i, j, k]
                glow = fires and burns[i, j, k, 0] > F0
                if e <= F0 and not glow:
                    for c in range(4):
                        out[i, j, k, c] = F0
                    continue
                x, y, z = np.float32(i) + HALF, np.float32(j) + HALF, np.float32(k) + HALF
                ex, ey, ez = x * h - eye[0], y * h - eye[1], z * h - eye[2]
                far = np.sqrt(ex * ex + ey * ey + ez * ez + np.float32(1e-12))
                cosine = (ex * key[0] + ey * key[1] + ez * key[2]) / far
                # a cloud between eye and key scatters onward: the ways of sight and of light agree
                q = min(max((cosine + F1) * HALF * np.float32(rows - 1), F0), np.float32(rows - 1))
                row = min(int(q), rows - 2)
                w = q - np.float32(row)
                s = (F1 - w) * from_table(table, row, depth[i, j, k], top)
                s += w * from_table(table, row + 1, depth[i, j, k], top)
                s *= looked(past, x * sx - HALF, y * sy - HALF, z * sz - HALF)
                for c in range(3):
                    lit = s * colour[c]
                    lit += looked(sky[c], x * sx - HALF, y * sy - HALF, z * sz - HALF)
                    lit += looked(near[c], x * sx - HALF, y * sy - HALF, z * sz - HALF)
                    t = tinted[i, j, k, c] if own else tint[c]
                    out[i, j, k, c] = e * t * lit + (burns[i, j, k, c] if fires else F0)
                out[i, j, k, 3] = e


@kernel
def bricks_of(volume, out):
    """Which bricks (x, y, z) of 4³ voxels of (nx, ny, nz, 4) hold anything, or have a neighbour's border that does: 0
    into `out`, else 9."""
    nx, ny, nz, _ = volume.shape
    bx, by, bz = out.shape
    for a in range(bx):
        for b in range(by):
            for c in range(bz):
                full = False
                for i in range(max(a * BRICK - 1, 0), min(a * BRICK + BRICK + 1, nx)):
                    for j in range(max(b * BRICK - 1, 0), min(b * BRICK + BRICK + 1, ny)):
                        for k in range(max(c * BRICK - 1, 0), min(c * BRICK + BRICK + 1, nz)):
                            v = volume[i, j, k]
                            if v[3] > F0 or v[0] > F0:
                                full = True
                                break
                        if full:
                            break
                    if full:
                        break
                out[a, b, c] = 0 if full else 9


@kernel
def brick_distances(out):
    """How many bricks away the next full one is, 0 … 9, from bricks (x, y, z) that are 0 where they are full: the
    greatest of the three ways, by two sweeps."""
    bx, by, bz = out.shape
    for turn in range(2):
        for a in range(bx):
            i = a if turn == 0 else bx - 1 - a
            for b in range(by):
                j = b if turn == 0 else by - 1 - b
                for c in range(bz):
                    k = c if turn == 0 else bz - 1 - c
                    best = np.int64(out[i, j, k])
                    for n in range(27):
                        p, q, r = i + n // 9 - 1, j + n // 3 % 3 - 1, k + n % 3 - 1
                        if 0 <= p < bx and 0 <= q < by and 0 <= r < bz:
                            best = min(best, np.int64(out[p, q, r]) + 1)
                    out[i, j, k] = best


@inline
def sampled(volume, x, y, z):
    """What is between the middles of voxels (nx, ny, nz, 4), linearly: its four numbers."""
    nx, ny, nz, _ = volume.shape
    i, a = at_(x - HALF, nx)
    j, b = at_(y - HALF, ny)
    k, c = at_(z - HALF, nz)
    i1, j1, k1 = min(i + 1, nx - 1), min(j + 1, ny - 1), min(k + 1, nz - 1)
    w0, w1, w2, w3 = (F1 - a) * (F1 - b), (F1 - a) * b, a * (F1 - b), a * b
    p0, p1, p2, p3 = volume[i, j, k], volume[i, j1, k], volume[i1, j, k], volume[i1, j1, k]
    q0, q1, q2, q3 = volume[i, j, k1], volume[i, j1, k1], volume[i1, j, k1], volume[i1, j1, k1]
    e, d = F1 - c, c
    return (
        e * (w0 * p0[0] + w1 * p1[0] + w2 * p2[0] + w3 * p3[0])
        + d * (w0 * q0[0] + w1 * q1[0] + w2 * q2[0] + w3 * q3[0]),
        e * (w0 * p0[1] + w1 * p1[1] + w2 * p2[1] + w3 * p3[1])
        + d * (w0 * q0[1] + w1 * q1[1] + w2 * q2[1] + w3 * q3[1]),
        e * (w0 * p0[2] + w1 * p1[2] + w2 * p2[2] + w3 * p3[2])
        + d * (w0 * q0[2] + w1 * q1[2] + w2 * q2[2] + w3 * q3[2]),
        e * (w0 * p0[3] + w1 * p1[3] + w2 * p2[3] + w3 * p3[3])
        + d * (w0 * q0[3] + w1 * q1[3] + w2 * q2[3] + w3 * q3[3]),
    )


@inline
def taken(e, metres):
    """Of light, what comes through `metres` of so much extinction, and what one metre's light there adds up to."""
    left = np.exp(-e * metres)
    return left, metres if e * metres < np.float32(1e-4) else (F1 - left) / e


@inline
def to_skip(bricks, px, py, pz, nx, ny, nz, longest, step):
    """How many steps of a ray lead through nothing, from a place in voxels; 0 where its brick is not empty."""
    bi = min(max(int(px), 0), nx - 1) // BRICK
    bj = min(max(int(py), 0), ny - 1) // BRICK
    bk = min(max(int(pz), 0), nz - 1) // BRICK
    empty = bricks[bi, bj, bk]
    if empty == 0:
        return 0
    # whatever way it goes, so many voxels further on is empty too
    return max(int(np.float32((empty - 1) * BRICK) / (longest * step)), 1)


@inline
def met(volume, bricks, ox, oy, oz, dx, dy, dz, at, longest, step):
    """What a ray meets in a volume at a place of its way: how many steps lead through nothing from there, or 0 and the
    four numbers of `sampled`."""
    nx, ny, nz, _ = volume.shape
    px, py, pz = ox + at * dx, oy + at * dy, oz + at * dz
    skip = to_skip(bricks, px, py, pz, nx, ny, nz, longest, step)
    if skip > 0:
        return skip, F0, F0, F0, F0
    r, g, b, e = sampled(volume, px, py, pz)
    return 0, r, g, b, e


@kernel
def veiled(camera, frame, volume, bricks, each, places, out, row0, row1):
    """What a volume puts before places (n, 3) of the scene: its light (r, g, b) and what it leaves of theirs, `out`
    (n, 4), for places row0 to row1. See `march`."""
    nx, ny, nz, _ = volume.shape
    ox, oy, oz = into(frame, camera[0], camera[1], camera[2])
    for i in range(row0, row1):
        x, y, z = into(frame, places[i, 0], places[i, 1], places[i, 2])
        dx, dy, dz = x - ox, y - oy, z - oz
        near, far = box_span(ox, oy, oz, dx, dy, dz, nx, ny, nz)
        far = min(far, F1)
        r, g, b, through = F0, F0, F0, F1
        over = np.sqrt(dx * dx + dy * dy + dz * dz)
        if far > near and over > F0:
            step = each / over
            longest = max(abs(dx), abs(dy), abs(dz))
            n, most = 0, int(min((far - near) / step, np.float32(1e6))) + 1
            while n < most and through > SOLID:
                begins = near + np.float32(n) * step
                length = min(step, far - begins)
                at = begins + HALF * length
                skip, lr, lg, lb, e = met(volume, bricks, ox, oy, oz, dx, dy, dz, at, longest, step)
                if skip > 0:
                    n += skip
                    continue
                left, share = taken(e, length * over * frame[13])
                share *= through
                r, g, b, through = r + share * lr, g + share * lg, b + share * lb, through * left
                n += 1
        out[i, 0], out[i, 1], out[i, 2], out[i, 3] = r, g, b, through if through > SOLID else F0


@kernel
def march(camera, frame, volume, bricks, each, depth, light, row0, row1):
    """Puts the light of a volume (nx, ny, nz, 4, see `baked`) before that of samples, `light` (2 h, 2 w, 3), which
    stand `depth` (2 h, 2 w) ahead, in rows row0 to row1 of the picture: one ray a pixel, for its four samples. Steps
    are `each` voxels long; bricks (x, y, z) that are empty are stepped over."""
    height, width = light.shape[0] // 2, light.shape[1] // 2
    wide, high = np.float32(0.5 * width), np.float32(0.5 * height)
    nx, ny, nz, _ = volume.shape
    ox, oy, oz = into(frame, camera[0], camera[1], camera[2])
    s = frame[12]
    got = np.empty((4, 4), np.float32)
    for j in range(row0, row1):
        for i in range(width):
            x = (np.float32(i) + HALF) / wide - F1
            y = F1 - (np.float32(j) + HALF) / high
            wx = camera[3] + x * camera[6] + y * camera[9]
            wy = camera[4] + x * camera[7] + y * camera[10]
            wz = camera[5] + x * camera[8] + y * camera[11]
            dx = s * (frame[0] * wx + frame[3] * wy + frame[6] * wz)
            dy = s * (frame[1] * wx + frame[4] * wy + frame[7] * wz)
            dz = s * (frame[2] * wx + frame[5] * wy + frame[8] * wz)
            near, far = box_span(ox, oy, oz, dx, dy, dz, nx, ny, nz)
            deepest = F0
            for q in range(4):
                deepest = max(deepest, depth[2 * j + (q >> 1), 2 * i + (q & 1)])
                got[q, 0], got[q, 1], got[q, 2], got[q, 3] = F0, F0, F0, -F1
            far = min(far, deepest)
            r, g, b, through = F0, F0, F0, F1
            if far > near:
                over = np.sqrt(dx * dx + dy * dy + dz * dz)  # voxels a metre ahead
                step = each / over
                longest = max(abs(dx), abs(dy), abs(dz))
                n, most = 0, int(min((far - near) / step, np.float32(1e6))) + 1
                while n < most and through > SOLID:
                    begins = near + np.float32(n) * step
                    length = min(step, far - begins)  # the last one is what is left
                    at, metres = begins + HALF * length, length * over * frame[13]
                    skip, lr, lg, lb, e = met(volume, bricks, ox, oy, oz, dx, dy, dz, at, longest, step)
                    if skip > 0:
                        n += skip
                        continue
                    for q in range(4):  # a sample that ends within this step takes a part of it
                        d = depth[2 * j + (q >> 1), 2 * i + (q & 1)]
                        if got[q, 3] < F0 and d < begins + length:
                            part = max(d - begins, F0) * over * frame[13]
                            left, share = taken(e, part)
                            share *= through
                            got[q, 0], got[q, 1], got[q, 2] = r + share * lr, g + share * lg, b + share * lb
                            got[q, 3] = through * left
                    left, share = taken(e, metres)
                    share *= through
                    r, g, b, through = r + share * lr, g + share * lg, b + share * lb, through * left
                    n += 1
                if through <= SOLID:
                    through = F0
            for q in range(4):
                last = got[q, 3] < F0
                w = through if last else got[q, 3]
                c = light[2 * j + (q >> 1), 2 * i + (q & 1)]
                c[0] = (r if last else got[q, 0]) + w * c[0]
                c[1] = (g if last else got[q, 1]) + w * c[1]
                c[2] = (b if last else got[q, 2]) + w * c[2]


@inline
def middle_of(frame, i, j, k):
    """Where the middle of a voxel stands in the scene."""
    h = frame[13]
    x, y, z = (np.float32(i) + HALF) * h, (np.float32(j) + HALF) * h, (np.float32(k) + HALF) * h
    return (
        frame[9] + frame[0] * x + frame[1] * y + frame[2] * z,
        frame[10] + frame[3] * x + frame[4] * y + frame[5] * z,
        frame[11] + frame[6] * x + frame[7] * y + frame[8] * z,
    )


@kernel
def dimmed(cloud, thick, frame, key, out, row0, row1):
    """What another cloud's shade (see `light_through`) leaves of `out` (nx, ny, nz), the key's light (from direction
    `key` (3)) at the middles of voxels that hold anything in `thick` (nx, ny, nz), rows row0 to row1."""
    _, ny, nz = thick.shape
    for i in range(row0, row1):
        for j in range(ny):
            for k in range(nz):
                if thick[i, j, k] > F0:
                    px, py, pz = middle_of(frame, i, j, k)
                    out[i, j, k] *= light_through(cloud, px, py, pz, key[0], key[1], key[2])


@kernel
def shaded_by(tree, thick, frame, key, far, stack, out, row0, row1):
    """Whether the key's light (from direction `key` (3)) comes past what stands in a tree within `far` m to the middles
    of voxels that hold anything in `thick` (nx, ny, nz): 1 or 0 into `out`, rows row0 to row1."""
    _, ny, nz = thick.shape
    for i in range(row0, row1):
        for j in range(ny):
            for k in range(nz):
                if thick[i, j, k] > F0:
                    px, py, pz = middle_of(frame, i, j, k)
                    if blocked(tree, px, py, pz, key[0], key[1], key[2], far, stack):
                        out[i, j, k] = F0
