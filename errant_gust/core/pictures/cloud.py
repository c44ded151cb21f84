"""Smoke and fire in a picture: how much of it is where, and what it sends toward the eye."""

from dataclasses import dataclass

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.grids.slabs import on_all
from errant_gust.core.kernels import clouds as kernels
from errant_gust.core.pictures.bodies import body_colours
from errant_gust.core.pictures.mesh import Tree

AIR = 293.0
"""Air around a fire, in kelvin: temperatures of gas are counted above it."""
POWER = 36.0
STEEP = 3.2
"""Heat's brightness grows by this power from where it is seen to where it is brightest."""
TOP = 40.0
"""Optical depth up to which tables go."""
MOST_FINE = 14_000_000
"""Voxels that a volume is made twice as fine for, at most."""
OCTAVES = 8
EVENLY = 0.25
"""Of a light that whitens a surface as much, what smoke that scatters it evenly sends on to one side: π over 4π."""
FIRES = 7
"""Cells a side that what burns lights other things by."""


@dataclass(frozen=True)
class Cloud:
    """Smoke on a grid in a box: voxels of `h` m from `lower` (3,) along `axes` (3, 3, columns), extinction (nx, ny,
    nz) in 1/m, temperature (nx, ny, nz) in K above the air's or None, the colour of smoke (3,) or of each voxel
    (nx, ny, nz, 3), and how it burns and scatters."""

    lower: Array
    axes: Array
    h: float
    extinct: Array
    kelvin: Array | None
    tint: Array
    tinted: Array | None
    glow: float
    cold: float
    hot: float
    warm: float
    onward: float

    def frame(self, side: int = 1) -> Array:
        """As kernels take it, (14,); of voxels `side` times as large."""
        own = self.axes @ self.lower
        return np.concatenate([self.axes.ravel(), own, [1 / (self.h * side), self.h * side]]).astype(np.float32)


def cropped(full: Array, arrays: list[Array]) -> tuple[tuple[int, int, int], list[Array]]:
    """Where what is `full` (nx, ny, nz) begins, less two voxels, and arrays (nx, ny, nz) cut to there."""
    low, high = [], []
    for axis in range(3):
        there = np.flatnonzero(full.any(axis=tuple(a for a in range(3) if a != axis)))
        low.append(max(int(there[0]) - 2, 0) if len(there) else 0)
        high.append(min(int(there[-1]) + 3, full.shape[axis]) if len(there) else min(2, full.shape[axis]))
    cut = tuple(slice(a, b) for a, b in zip(low, high, strict=True))
    return (low[0], low[1], low[2]), [v[cut] for v in arrays]


def finer(values: Array) -> Array:
    """Twice as fine (2 nx, 2 ny, 2 nz), by cubic interpolation through the values (Catmull, Rom 1974), nowhere below
    zero."""
    out = np.asarray(values, np.float32)
    for axis in range(3):
        n = out.shape[axis]
        wide = np.pad(out, [(2, 2) if a == axis else (0, 0) for a in range(out.ndim)], mode="edge")
        taken = [np.take(wide, range(k, k + n), axis=axis) for k in range(5)]
        # a quarter of a voxel before the middle, and after it
        weights = [np.float32(w) for w in (-0.0703125, 0.8671875, 0.2265625, -0.0234375)]
        after = sum(w * taken[k + 1] for k, w in enumerate(weights))
        before = sum(w * taken[3 - k] for k, w in enumerate(weights))
        shape = list(out.shape)
        shape[axis] = 2 * n
        out = np.stack([before, after], axis=axis + 1).reshape(shape)
    return np.maximum(out, 0)


def octaves(onward: float, cosines: int, albedo: float) -> Array:
    """Light that is scattered many times, by what single scattering would be through less: sums over octaves of
    aⁿ · phase(g cⁿ) · exp(−bⁿ τ) (Wrenninge et al. 2013), rows by `cosines` from −1 to 1 (1: to all sides alike),
    columns by the root of τ to `TOP`, (cosines, 96). The phase is that of Henyey and Greenstein (1941), 1 where it is
    even."""
    cosine = np.linspace(-1, 1, cosines)[:, None]
    depth = TOP * np.linspace(0, 1, 96) ** 2
    a, b, c = 0.30 + 0.62 * (albedo - 0.7), 0.35, 0.5
    total = np.zeros((cosines, len(depth)))
    for n in range(OCTAVES):
        g = onward * c**n if cosines > 1 else 0.0
        phase = (1 - g * g) / (1 + g * g - 2 * g * cosine) ** 1.5
        total += a**n * phase * np.exp(-(b**n) * depth)[None, :]
    return (albedo * total).astype(np.float32)


def _ways() -> list[tuple[Array, float]]:
    axes = [s * np.eye(3)[a] for a in range(3) for s in (-1.0, 1.0)]
    corners = [np.array([x, y, z]) / 3**0.5 for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)]
    return [(d, 1 / 15) for d in axes] + [(d, 3 / 40) for d in corners]


def _toward(thick: Array, local: Array) -> Array:
    """Optical depth (nx, ny, nz) toward a light in a direction (3,) of the volume's own frame."""
    axis = int(np.argmax(np.abs(local)))
    moved = np.ascontiguousarray(np.moveaxis(thick, axis, 0))
    out = np.empty_like(moved)
    u, v = np.delete(local, axis) / abs(local[axis])
    kernels.swept(moved, 1 if local[axis] > 0 else -1, np.float32(u), np.float32(v), out)
    return np.ascontiguousarray(np.moveaxis(out, 0, axis))


def _halved(values: Array) -> Array:
    """Means over cubes of two voxels (nx / 2, ny / 2, nz / 2); shapes that are even."""
    nx, ny, nz = (n // 2 for n in values.shape)
    return np.asarray(values.reshape(nx, 2, ny, 2, nz, 2).mean(axis=(1, 3, 5)), np.float32)


def even(values: Array | None) -> Array | None:
    """Values (nx, ny, nz, …) with shapes that are even, by a layer of nothing at their ends."""
    if values is None:
        return None
    pad = [(0, n % 2) for n in values.shape[:3]] + [(0, 0)] * (values.ndim - 3)
    return np.pad(values, pad)


@dataclass(frozen=True)
class Baked:
    """A volume as it is marched: (nx, ny, nz, 4) and its frame; depth toward the key (nx, ny, nz); what burns, as
    `fires` (m, 7) for what stands around; `middle` (3,) of it in the scene."""

    volume: Array
    frame: Array
    depth: Array
    fires: Array
    bricks: Array
    middle: Array


def burning(cloud: Cloud) -> Array | None:
    """What a volume emits a metre, (nx, ny, nz, 3) in linear light; None where nothing burns."""
    if cloud.kelvin is None or cloud.glow <= 0 or float(cloud.kelvin.max(initial=0)) <= cloud.cold:
        return None
    share = np.clip((cloud.kelvin - cloud.cold) / max(cloud.hot - cloud.cold, 1), 0, 1) ** np.float32(STEEP)
    return np.asarray(
        cloud.glow * POWER * share[..., None] * body_colours((cloud.kelvin + AIR) * cloud.warm), np.float32
    )


def emitters(burns: Array | None, cloud: Cloud, most: int) -> tuple[Array, Array]:
    """What burns in cells, at most `most` a side: places (m, 3) of the volume's own frame in m from its corner, and
    strengths (m, 3): light on a surface one metre away that faces it."""
    if burns is None:
        return np.zeros((0, 3)), np.zeros((0, 3))
    side = max(1, -(-max(burns.shape[:3]) // most))
    pad = [(0, -n % side) for n in burns.shape[:3]] + [(0, 0)]
    b = np.pad(burns, pad)
    nx, ny, nz = (n // side for n in b.shape[:3])
    power = b.reshape(nx, side, ny, side, nz, side, 3).sum(axis=(1, 3, 5)) * cloud.h**3 / np.pi
    cells = np.argwhere(power[..., 0] > 1e-4 * max(float(power[..., 0].max()), 1e-12))
    return (cells + 0.5) * side * cloud.h, power[tuple(cells.T)]


def bake(cloud: Cloud, light: Array, eye: Array, tree: Tree | None, far: float, others: "Shade | None" = None) -> Baked:
    """What a cloud sends toward the eye (3,), lit as `light` says (see `Setting.numbers`) past what stands in `tree`
    and what `others` leave; `far`: how far shadows reach, in m."""
    local_key = cloud.axes.T @ light[:3]
    h = cloud.h
    extinct = np.asarray(even(cloud.extinct), np.float32)
    burns = even(burning(cloud))
    thick = extinct * np.float32(h)
    depth = _toward(thick, local_key)
    half = _halved(thick) * 2
    albedo = float(np.clip(np.max(cloud.tint), 0, 1))
    around = np.zeros((3, *half.shape), np.float32)
    flat = octaves(0.0, 1, albedo)
    for way, share in _ways():
        z = float((cloud.axes @ way)[2])
        s = float(np.clip(0.5 + 0.75 * z, 0, 1))
        r, g, b = (np.float32(share * (light[9 + c] + s * (light[6 + c] - light[9 + c]))) for c in range(3))
        if z < -0.5 and light[20] > 0.5:  # light that comes back from the ground
            back = 0.5 * light[18] * max(float(light[2]), 0)
            r, g, b = (np.float32(share * (back * light[3 + c] + 0.5 * light[18] * light[6 + c])) for c in range(3))
        kernels.from_sky(_toward(half, way), flat, np.float32(TOP), r, g, b, around)
    past = _past(cloud, half, light, tree, far, others)
    near = _lit_within(burns, cloud, half)
    out = np.empty((*extinct.shape, 4), np.float32)
    nothing = np.zeros((1, 1, 1, 3), np.float32)
    tinted = even(cloud.tinted)
    local_eye = (cloud.axes.T @ eye - cloud.lower).astype(np.float32)
    # the fill has no shadows, as in the view
    around += (EVENLY * light[15:18]).astype(np.float32)[:, None, None, None]
    table = octaves(cloud.onward, 17, albedo)
    on_all(
        extinct.shape[0],
        lambda a, b: kernels.baked(
            extinct, nothing if burns is None else burns, depth, past, around, near, table, np.float32(TOP),
            (EVENLY * light[3:6]).astype(np.float32), np.asarray(cloud.tint, np.float32),
            nothing if tinted is None else tinted, cloud.frame(), local_eye, local_key.astype(np.float32), out, a, b,
        ),
    )  # fmt: skip
    bricks = np.zeros([-(-n // kernels.BRICK) for n in extinct.shape], np.uint8)
    kernels.bricks_of(out, bricks)
    kernels.brick_distances(bricks)
    places, strengths = emitters(burns, cloud, FIRES)
    fires = np.zeros((len(places), 7), np.float32)
    if len(places):
        fires[:, :3] = (places + cloud.lower) @ cloud.axes.T
        fires[:, 3] = max(burns.shape[:3]) * h / FIRES if burns is not None else 0
        fires[:, 4:] = strengths
    middle = cloud.axes @ (cloud.lower + 0.5 * h * np.array(extinct.shape))
    return Baked(out, cloud.frame(), depth, fires, bricks, middle)


Shade = tuple[Array, Array, Array]
"""Optical depth toward the key (nx, ny, nz), the frame of its voxels, and the share of the sky that is open there, or
1×1×1 where that is not known."""
NO_SHADE: Shade = (np.zeros((1, 1, 1), np.float32), np.zeros(14, np.float32), np.ones((1, 1, 1), np.float32))
MOST_CELLS = 4_000_000


@dataclass(frozen=True)
class Dust:
    """What stops light as small things do that stand at places (n, 3): areas (n,) in m² that they hide, `size` m the
    cells in which they are counted."""

    places: Array
    areas: Array
    size: float

    @classmethod
    def of_balls(cls, centre: Array, radius: Array) -> "Dust":
        """Of balls at `centre` (n, 3) of `radius` (n,) m."""
        return cls(centre, np.pi * radius.astype(np.float64) ** 2, 2.5 * float(np.median(radius)))

    @classmethod
    def of_cloud(cls, cloud: Cloud) -> "Dust":
        """Of smoke: what each voxel hides."""
        there = np.argwhere(cloud.extinct > 0)
        areas = cloud.extinct[tuple(there.T)].astype(np.float64) * cloud.h**3
        return cls((cloud.lower + (there + 0.5) * cloud.h) @ cloud.axes.T, areas, 2.5 * cloud.h)


def shade_of(dusts: list[Dust], key: Array) -> Shade:
    """The shade of what stops light here and there, as of a haze that stops as much of it; `key` (3,): toward the
    light."""
    some = [d for d in dusts if len(d.places)]
    if not some:
        return NO_SHADE
    low = np.min([d.places.min(axis=0) for d in some], axis=0).astype(np.float64)
    high = np.max([d.places.max(axis=0) for d in some], axis=0).astype(np.float64)
    size = max(d.size for d in some)
    size = max(size, float(np.prod(np.maximum(high - low, size)) / MOST_CELLS) ** (1 / 3))
    lower = low - 4 * size
    shape = np.maximum(np.ceil((high - lower) / size).astype(int) + 4, 2)
    stopped = np.zeros(int(shape.prod()))
    for dust in some:
        cell = np.floor((dust.places - lower) / size).astype(np.int64)
        flat = (cell[:, 0] * shape[1] + cell[:, 1]) * shape[2] + cell[:, 2]
        stopped += np.bincount(flat, dust.areas, len(stopped))
    thick = np.ascontiguousarray((stopped / size**2).reshape(shape), np.float32)
    free, total = np.zeros(thick.shape, np.float32), 0.0
    for way, share in _ways():
        if way[2] > -0.1:
            free += np.float32(share) * np.exp(-_toward(thick, way))
            total += share
    frame = np.concatenate([np.eye(3).ravel(), lower, [1 / size, size]]).astype(np.float32)
    return _toward(thick, key), frame, free / np.float32(total)


def _past(cloud: Cloud, half: Array, light: Array, tree: Tree | None, far: float, others: Shade | None) -> Array:
    """The share of the key's light (nx, ny, nz at half the size) that shapes leave to smoke, softened over a voxel,
    and of that what `others` leave."""
    out = np.ones(half.shape, np.float32)
    frame, key = cloud.frame(2), light[:3].astype(np.float32)
    if tree is not None and len(tree[4]):
        on_all(
            half.shape[0],
            lambda a, b: kernels.shaded_by(
                tree, half, frame, key, np.float32(far), np.empty(64, np.int32), out, a, b
            ),
        )  # fmt: skip
        out = _softened(out)
    if others is not None:
        on_all(half.shape[0], lambda a, b: kernels.dimmed(others, half, frame, key, out, a, b))
    return out


def _softened(values: Array) -> Array:
    soft = values
    for axis in range(3):
        wide = np.pad(soft, [(1, 1) if a == axis else (0, 0) for a in range(3)], mode="edge")
        count = int(soft.shape[axis])
        taken = [np.take(wide, range(k, k + count), axis=axis) for k in range(3)]
        soft = np.asarray((taken[0] + taken[1] + taken[2]) * np.float32(1 / 3), np.float32)
    return np.ascontiguousarray(soft)


def _lit_within(burns: Array | None, cloud: Cloud, half: Array) -> Array:
    """Light (3, …) that comes to smoke from what burns in it: one over the square of the distance to all of it, less
    what the smoke between takes in the mean, on a coarse grid."""
    if burns is None:
        return np.zeros((3, *half.shape), np.float32)
    side = max(2, -(-max(burns.shape[:3]) // 24))
    side += side % 2
    pad = [(0, -n % side) for n in burns.shape[:3]]
    shape = [-(-n // side) for n in burns.shape[:3]]
    wide = np.pad(burns, [*pad, (0, 0)])
    nx, ny, nz = shape
    power = wide.reshape(nx, side, ny, side, nz, side, 3).sum(axis=(1, 3, 5)).transpose(3, 0, 1, 2) * cloud.h**3
    cell = side * cloud.h
    full = half[half > 1e-4]
    mean = float(full.mean() / (2 * cloud.h)) if len(full) else 0.0
    off = [np.minimum(np.arange(2 * n), 2 * n - np.arange(2 * n)) * cell for n in shape]
    far = np.sqrt(off[0][:, None, None] ** 2 + off[1][None, :, None] ** 2 + off[2][None, None, :] ** 2)
    weight = np.exp(-mean * far) / (np.maximum(far, 0.62 * cell) ** 2)  # within a cell as from its mean distance
    twice, axes = [2 * n for n in shape], (0, 1, 2)
    turned = np.fft.rfftn(weight)
    padded = [np.fft.irfftn(np.fft.rfftn(p, twice, axes) * turned, twice, axes) for p in power]
    # light from all sides: what is scattered evenly is a part 1 / 4π of it, and whiteness counts 1 as π
    coarse = np.stack([p[: shape[0], : shape[1], : shape[2]] for p in padded]) / (4 * np.pi)
    each = side // 2
    spread = coarse
    for axis in range(3):
        n = half.shape[axis]
        at = np.clip((np.arange(n) + 0.5) / each - 0.5, 0, shape[axis] - 1)
        low = np.minimum(at.astype(int), max(shape[axis] - 2, 0))
        high = np.minimum(low + 1, shape[axis] - 1)
        s = (at - low).reshape([-1 if a == axis + 1 else 1 for a in range(4)])
        spread = (1 - s) * np.take(spread, low, axis=axis + 1) + s * np.take(spread, high, axis=axis + 1)
    return np.ascontiguousarray(np.maximum(spread, 0), np.float32)
