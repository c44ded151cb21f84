"""Deep inside, voxels that have run empty get particles, and crowded ones lose some; the volume stays what came out of
the sources and did not leave."""

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.liquid.steps import Work
from errant_gust.core.flows.random import uniform
from errant_gust.core.grids import transfer
from errant_gust.core.grids.staggered.free_surface import deep, level_set
from errant_gust.core.kernels.seeding import crowded

FEW, MANY = 0.25, 2.5
"""Of a full voxel: below and above, something is done."""
MORE, LESS = 0.9, 1.2
"""Of a full voxel: where some may be added or taken for the balance."""
SLACK = 5e-4
"""Share of the particles that may be there too many, or too few."""


def reseeded(work: Work) -> None:
    """Change the particles of a step: new ones have the velocity there and the rest of their nearest neighbour."""
    if not work.count or work.faces is None:
        return
    full, shape = work.flow.full, work.window.shape
    origin = work.origin[:, None].astype(np.float32)
    q = np.ascontiguousarray(work.a["q"] - origin)
    order = transfer.order_by_cell(q, shape)
    a = work.a = {k: order.sorted(v) for k, v in work.a.items()}
    q = order.sorted(q)
    gone = np.empty(work.count, bool)
    crowded(order.start, max(1, round(MANY * full)), gone)
    counts = np.diff(order.start)
    within = deep(level_set(q, order.start, shape)).ravel()
    cells = _empty(within, counts, full)
    too_many = work.gained + len(cells) - int(gone.sum())
    slack = max(4, int(SLACK * work.count))
    if too_many > slack:
        _take(order.start, counts, full, too_many, gone)
        excess = work.gained + len(cells) - int(gone.sum()) - slack
        cells = cells[: max(0, len(cells) - max(0, excess))]
    elif too_many < -slack:
        thin = np.flatnonzero(within & (counts < MORE * full) & (counts >= FEW * full))
        thin = thin[np.argsort(counts[thin], kind="stable")][:-too_many]
        cells = np.concatenate([cells, thin])
    if gone.any():
        work.a = a = {k: np.ascontiguousarray(v[..., ~gone]) for k, v in a.items()}
        q = np.ascontiguousarray(q[:, ~gone])
    if len(cells):
        _add(work, q, a, cells)


def _empty(within: Array, counts: Array, full: int) -> Array:
    """Cells, as often as particles are missing in each, that are deep inside and nearly empty."""
    thin = np.flatnonzero(within & (counts < max(1, FEW * full)))
    return np.repeat(thin, (full // 2 - counts[thin]).clip(1))


def _take(start: Array, counts: Array, full: int, many: int, gone: Array) -> None:
    """Mark so many more as gone, of the fullest cells first."""
    rank = np.arange(len(gone)) - np.repeat(start[:-1], counts)
    spare = np.flatnonzero((rank >= round(LESS * full)) & ~gone)
    gone[spare[np.argsort(-rank[spare], kind="stable")][:many]] = True


def _add(work: Work, q: Array, a: dict[str, Array], cells: Array) -> None:
    from scipy.spatial import cKDTree

    origin, shape = work.origin[:, None].astype(np.float32), work.window.shape
    ids = np.arange(work.born, work.born + len(cells), dtype=np.int64)
    place = np.stack(np.unravel_index(cells, shape)) + np.stack([uniform(5, ids, 74 + i) for i in range(3)])
    place = np.ascontiguousarray(place, np.float32)
    place = np.ascontiguousarray(place[:, work.flow.in_the_open(work, place + origin)])
    n = place.shape[1]
    if not n:
        return
    near = np.asarray(cKDTree(q.T).query(place.T)[1])
    fresh = {k: np.ascontiguousarray(v[..., near]) for k, v in a.items()}
    fresh["q"], fresh["id"] = place + origin, ids[:n].astype(np.uint32)
    assert work.faces is not None
    transfer.from_faces(place, work.faces, fresh["velocity"], fresh["affine"], None, 0.0)
    fresh["velocity"] += fresh["lag"]
    work.a = {k: np.concatenate([v, fresh[k].astype(v.dtype)], axis=-1) for k, v in a.items()}
    work.born += n
