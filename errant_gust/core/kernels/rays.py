"""Rays against triangles: a tree of boxes (Goldsmith, Salmon 1987; in bins: Wald 2007), and what a ray meets in it."""

import numpy as np

from errant_gust.core.kernels.compiler import inline, kernel

F0, F1 = np.float32(0.0), np.float32(1.0)
BINS = 16
LEAF = 4
DEEP = 60
"""Boxes above one another at most: as many as a ray's stack has room for."""
FAR = np.float32(3e38)


@kernel
def box_tree(lower, upper, order, boxes, right, first, many):
    """Boxes over things whose own are `lower` and `upper` (n, 3) in m: `boxes` (2 n, 6), a box's left child is the
    next one and its right one is `right` (2 n), 0 at a leaf, which holds `many` (2 n) things from `first` (2 n) of
    `order` (n), which is sorted. Returns how many boxes there are."""
    n = len(order)
    todo, made = np.empty((DEEP + 4, 4), np.int64), 0
    todo[0, 0], todo[0, 1], todo[0, 2], todo[0, 3], deep = 0, n, -1, 0, 1
    count, bound = np.empty(BINS, np.int64), np.empty((BINS, 6), np.float32)
    cost, low, high = np.empty(BINS, np.float64), np.empty(3, np.float32), np.empty(3, np.float32)
    grown = np.empty(6, np.float32)
    while deep > 0:
        deep -= 1
        a, b, parent, level = todo[deep, 0], todo[deep, 1], todo[deep, 2], todo[deep, 3]
        node = made
        made += 1
        if parent >= 0:
            right[parent] = node
        for c in range(3):
            boxes[node, c], boxes[node, 3 + c], low[c], high[c] = FAR, -FAR, FAR, -FAR
        for i in range(a, b):
            t = order[i]
            for c in range(3):
                boxes[node, c] = min(boxes[node, c], lower[t, c])
                boxes[node, 3 + c] = max(boxes[node, 3 + c], upper[t, c])
                m = np.float32(0.5) * (lower[t, c] + upper[t, c])
                low[c], high[c] = min(low[c], m), max(high[c], m)
        right[node], first[node], many[node] = 0, a, b - a
        if b - a <= LEAF or level >= DEEP:
            continue
        axis = 0
        for c in range(1, 3):
            if high[c] - low[c] > high[axis] - low[axis]:
                axis = c
        span = high[axis] - low[axis]
        at = a
        if span > F0:
            scale = np.float32(BINS * 0.9999) / span
            count[:] = 0
            bound[:, :3], bound[:, 3:] = FAR, -FAR
            for i in range(a, b):
                t = order[i]
                k = int((np.float32(0.5) * (lower[t, axis] + upper[t, axis]) - low[axis]) * scale)
                k = min(max(k, 0), BINS - 1)
                count[k] += 1
                for c in range(3):
                    bound[k, c] = min(bound[k, c], lower[t, c])
                    bound[k, 3 + c] = max(bound[k, 3 + c], upper[t, c])
            _areas(bound, count, cost, grown)
            best = 1
            for k in range(2, BINS):
                if cost[k] < cost[best]:
                    best = k
            last = b - 1
            while at <= last:
                t = order[at]
                k = int((np.float32(0.5) * (lower[t, axis] + upper[t, axis]) - low[axis]) * scale)
                if min(max(k, 0), BINS - 1) < best:
                    at += 1
                else:
                    order[at], order[last] = order[last], t
                    last -= 1
        if at in (a, b):
            at = (a + b) // 2
        # the left one is done next, so that it is the next box
        todo[deep, 0], todo[deep, 1], todo[deep, 2], todo[deep, 3] = at, b, node, level + 1
        todo[deep + 1, 0], todo[deep + 1, 1], todo[deep + 1, 2], todo[deep + 1, 3] = a, at, -1, level + 1
        deep += 2
    return made


@inline
def _areas(bound, count, cost, grown):
    """What it costs to part the bins before each of them."""
    for up in range(2):
        total = 0
        for c in range(3):
            grown[c], grown[3 + c] = FAR, -FAR
        for j in range(BINS - 1):
            k = j if up == 0 else BINS - 1 - j
            total += count[k]
            for c in range(3):
                grown[c] = min(grown[c], bound[k, c])
                grown[3 + c] = max(grown[3 + c], bound[k, 3 + c])
            x, y, z = grown[3] - grown[0], grown[4] - grown[1], grown[5] - grown[2]
            area = np.float64(x * y + y * z + z * x) * total if total else 0.0
            if up == 0:
                cost[k + 1] = area
            else:
                cost[k] += area


@inline
def box_hit(box, ox, oy, oz, ix, iy, iz, far):
    """How far a ray goes until it enters a box; FAR where it misses it before `far`."""
    a, b = (box[0] - ox) * ix, (box[3] - ox) * ix
    near, away = min(a, b), max(a, b)
    a, b = (box[1] - oy) * iy, (box[4] - oy) * iy
    near, away = max(near, min(a, b)), min(away, max(a, b))
    a, b = (box[2] - oz) * iz, (box[5] - oz) * iz
    near, away = max(near, min(a, b)), min(away, max(a, b))
    return max(near, F0) if away >= max(near, F0) and near < far else FAR


@inline
def triangle_hit(t, ox, oy, oz, dx, dy, dz):
    """Where a ray meets a triangle (9): how far, and its shares of the second and third corner; FAR where it does not
    (Möller, Trumbore 1997)."""
    px, py, pz = dy * t[8] - dz * t[7], dz * t[6] - dx * t[8], dx * t[7] - dy * t[6]
    det = t[3] * px + t[4] * py + t[5] * pz
    if det == F0:
        return FAR, F0, F0
    inverse = F1 / det
    sx, sy, sz = ox - t[0], oy - t[1], oz - t[2]
    u = (sx * px + sy * py + sz * pz) * inverse
    qx, qy, qz = sy * t[5] - sz * t[4], sz * t[3] - sx * t[5], sx * t[4] - sy * t[3]
    v = (dx * qx + dy * qy + dz * qz) * inverse
    far = (t[6] * qx + t[7] * qy + t[8] * qz) * inverse
    if u < F0 or v < F0 or u + v > F1 or not far > F0:
        return FAR, F0, F0
    return far, u, v


@inline
def one_over(d):
    """The inverse of a part of a direction, finite."""
    return F1 / d if abs(d) > np.float32(1e-20) else np.float32(1e20)


@inline
def _met(tree, ox, oy, oz, dx, dy, dz, far, stack, any_):
    """See `nearest`; the first that is found where `any_` is enough."""
    boxes, right, first, many, triangles, _ = tree
    which, u, v = -1, F0, F0
    if len(boxes) == 0:
        return far, which, u, v
    ix, iy, iz = one_over(dx), one_over(dy), one_over(dz)
    stack[0], deep = 0, 1
    while deep > 0:
        deep -= 1
        node = stack[deep]
        if box_hit(boxes[node], ox, oy, oz, ix, iy, iz, far) >= far:
            continue
        if right[node] == 0:
            for i in range(first[node], first[node] + many[node]):
                t, a, b = triangle_hit(triangles[i], ox, oy, oz, dx, dy, dz)
                if t < far:
                    far, which, u, v = t, i, a, b
            if any_ and which >= 0:
                deep = 0
        elif any_:
            stack[deep], stack[deep + 1] = right[node], node + 1
            deep += 2
        else:
            left, other = node + 1, right[node]
            nearer = box_hit(boxes[left], ox, oy, oz, ix, iy, iz, far)
            further = box_hit(boxes[other], ox, oy, oz, ix, iy, iz, far)
            if nearer > further:
                left, other, nearer, further = other, left, further, nearer
            if further < far:
                stack[deep] = other
                deep += 1
            if nearer < far:
                stack[deep] = left
                deep += 1
    return far, which, u, v


@inline
def blocked(tree, ox, oy, oz, dx, dy, dz, far, stack):
    """Whether anything of a tree is met before `far` m."""
    return _met(tree, ox, oy, oz, dx, dy, dz, far, stack, True)[1] >= 0


@kernel
def nearest(tree, ox, oy, oz, dx, dy, dz, far, stack):
    """The first triangle that a ray meets before `far` m: how far, which in the tree's order, shares of its second and
    third corner. Which is −1 where there is none."""
    return _met(tree, ox, oy, oz, dx, dy, dz, far, stack, False)


@kernel
def what_is_met(tree, origins, ways, far, stack, distance, which):
    """Of rays from origins (n, 3) along ways (n, 3), the distance in m (n) until the first triangle of a tree before
    `far`, and which it is (n) in the tree's order, −1 for none. `stack` (64) is to work in."""
    for i in range(len(origins)):
        o, w = origins[i], ways[i]
        distance[i], which[i], _, _ = nearest(tree, o[0], o[1], o[2], w[0], w[1], w[2], far, stack)
