"""A picture of what stands in a scene: solids by depth and rays, a cloud around them, what glows over all."""

from dataclasses import dataclass, field

import numpy as np

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import Cancelled
from errant_gust.core.fields.samples import Array
from errant_gust.core.grids.slabs import each_slab
from errant_gust.core.kernels import clouds, solids, wet
from errant_gust.core.pictures.camera import Box, Camera
from errant_gust.core.pictures.cloud import NO_SHADE, THREADS, Baked, Cloud, Shade, bake, shade_of
from errant_gust.core.pictures.developing import developed
from errant_gust.core.pictures.setting import Setting
from errant_gust.core.pictures.solid import Mesh, Tree, tree_of

FAR = np.float32(3e38)
MOST_FAR = 1e7
"""How far from the scene's origin what is drawn may stand, in m."""


@dataclass(frozen=True)
class Balls:
    """Balls at `centre` (n, 3) of `radius` (n,) m, in colours (n, 3) of linear light."""

    centre: Array
    radius: Array
    colours: Array

    @property
    def count(self) -> int:
        """How many there are."""
        return len(self.centre)

    def some(self, which: Array) -> "Balls":
        """Those that are true in `which` (n,)."""
        return Balls(self.centre[which], self.radius[which], self.colours[which])


@dataclass(frozen=True)
class Streaks:
    """Ways from `begin` (n, 3) to `end` (n, 3) m in colours (n, 3) of linear light, so many pixels wide in a picture of
    960; they add light where they `glow`, and cover what is behind them where they do not."""

    begin: Array
    end: Array
    colours: Array
    size: float
    glow: bool

    @property
    def count(self) -> int:
        """How many there are."""
        return len(self.begin)


@dataclass
class Staged:
    """What a picture is of. `box`: corners in m of what is looked at; `floor`: height of the ground in m, or none;
    `water`: what is clear and wet, whose own colour is full `deep` m within."""

    box: Box
    floor: float | None
    meshes: list[Mesh] = field(default_factory=list)
    balls: Balls | None = None
    cloud: Cloud | None = None
    streaks: Streaks | None = None
    water: Mesh | None = None
    deep: float = 0.25


def render(
    staged: Staged, camera: Camera, setting: Setting, size: tuple[int, int], cancel: Cancel | None = None
) -> Array:
    """Pixels (height, width, 3) uint8. The same bits on any number of threads. Raises Cancelled."""
    return developed(light_of(staged, camera, setting, size, cancel), setting)


def light_of(
    staged: Staged, camera: Camera, setting: Setting, size: tuple[int, int], cancel: Cancel | None = None
) -> Array:
    """Linear light (height, width, 3) float32 before exposure. See `render`."""

    def rest() -> None:
        if cancel is not None and cancel():
            raise Cancelled

    width, height = size
    numbers = camera.numbers(size)
    way = -np.asarray(camera.axes[0])
    light = setting.numbers(float(np.degrees(np.arctan2(way[1], way[0]))), staged.floor)
    diagonal = float(np.linalg.norm(np.subtract(*staged.box)))
    parts = [m.corners for m in staged.meshes]
    corner, normal, colour = (
        np.ascontiguousarray(np.concatenate([p[k] for p in parts]) if parts else np.zeros((0, 3, 3), np.float32))
        for k in range(3)
    )
    sheens = [np.full(len(p[0]), m.sheen, np.float32) for m, p in zip(staged.meshes, parts, strict=True)]
    shine = np.concatenate(sheens) if sheens else np.zeros(0, np.float32)
    rest()
    tree = tree_of(corner)
    balls = staged.balls or Balls(np.zeros((0, 3)), np.zeros(0), np.zeros((0, 3)))
    balls = balls.some(_somewhere(balls.centre) & np.isfinite(balls.radius) & (balls.radius > 0))
    centre, radius, tints = (np.ascontiguousarray(v, np.float32) for v in (balls.centre, balls.radius, balls.colours))
    solid = (corner, normal, colour, shine, centre, radius, tints)
    rest()
    made = bake(staged.cloud, light, np.asarray(camera.eye), tree, 4 * diagonal) if staged.cloud is not None else None
    rest()
    depth, seen = np.full((2 * height, 2 * width), FAR), np.full((2 * height, 2 * width), solids.SKY, np.int32)
    projected, which = _projected(corner, numbers, (2 * width, 2 * height))
    each_slab(2 * height, lambda a, b: solids.draw_triangles(projected, which, depth, seen, a, b), THREADS)
    each_slab(
        2 * height, lambda a, b: solids.draw_balls(centre, radius, numbers, len(corner), depth, seen, a, b), THREADS
    )
    rest()
    water = staged.water.corners if staged.water is not None else (corner[:0],) * 3
    clear = tree_of(water[0])
    rest()
    behind, scene, cloud = _lit(staged, numbers, light, diagonal, tree, clear, solid, made, depth, seen, size)
    if len(water[0]):
        rest()
        _wetted(staged, numbers, light, scene, tree, clear, solid, water, cloud, depth, behind)
    rest()
    if made is None:
        out = np.asarray(behind.reshape(height, 2, width, 2, 3).mean(axis=(1, 3)), np.float32)
        _streak(staged.streaks, numbers, light, depth, out)
        return out
    out = np.empty((height, width, 3), np.float32)
    each_slab(
        height,
        lambda a, b: clouds.march(
            numbers, made.frame, made.volume, made.bricks, np.float32(1.0), depth, behind, out, a, b
        ),
        THREADS,
    )
    _streak(staged.streaks, numbers, light, depth, out)
    return out


def _streak(streaks: Streaks | None, camera: Array, light: Array, depth: Array, out: Array) -> None:
    """Streaks over a picture (h, w, 3), the furthest first."""
    if streaks is None or not len(streaks.begin):
        return
    height, width = out.shape[:2]
    eye, ahead = camera[:3], camera[3:6]
    far = (0.5 * (streaks.begin + streaks.end) - eye) @ ahead
    order = np.argsort(-far, kind="stable")
    order = order[(_somewhere(streaks.begin) & _somewhere(streaks.end))[order]]
    begin, end = (np.ascontiguousarray(v[order], np.float32) for v in (streaks.begin, streaks.end))
    colours = np.ascontiguousarray(streaks.colours[order], np.float32)
    if not streaks.glow:  # flat: as bright as what stands upright in the light
        colours = colours * (0.6 * light[3:6] + light[6:9] * 0.5)[None, :].astype(np.float32)
    wide = np.float32(max(streaks.size * width / 960, 0.9))
    each_slab(
        height,
        lambda a, b: solids.draw_streaks(begin, end, colours, wide, streaks.glow, camera, depth, out, a, b),
        THREADS,
    )


def _lit(
    staged: Staged, numbers: Array, light: Array, diagonal: float, tree: Tree, water: Tree,
    solid: tuple[Array, ...],
    made: Baked | None, depth: Array, seen: Array, size: tuple[int, int],
) -> tuple[Array, Array, Shade]:  # fmt: skip
    """Light of every sample (2 h, 2 w, 3), what kernels know of the scene (7,), and what is shaded by voxels."""
    width, height = size
    middle = 0.5 * np.add(*staged.box)
    cloud = NO_SHADE if made is None else (made.depth, made.frame, NO_SHADE[2])
    centre, radius = solid[4], solid[5]
    if made is None and len(centre):
        cloud = shade_of(centre, radius, light[:3].astype(np.float64))
    scene = np.array(
        [4 * diagonal, 0.1 * diagonal, 2e-4 * diagonal, 2.3 * diagonal, middle[0], middle[1], 0.8 * cloud[1][13]],
        np.float32,
    )
    fires = np.zeros((0, 7), np.float32) if made is None else made.fires
    facing, far = np.empty((height, width, 3), np.float32), np.empty((height, width), np.float32)
    shine, other = np.empty((height, width, 4), np.float32), np.empty((height, width, 4), np.float32)

    def stack() -> Array:
        return np.empty(64, np.int32)

    each_slab(
        height,
        lambda a, b: solids.light_pixels(
            numbers, light, scene, tree, water, solid, cloud, depth, seen, stack(), facing, far, shine, a, b
        ),
        THREADS,
    )
    for gap in (1, 2, 4):

        def smooth(a: int, b: int, gap: int = gap, shine: Array = shine, other: Array = other) -> None:
            solids.smoothed(numbers, facing, far, shine, gap, other, a, b)

        each_slab(height, smooth, THREADS)
        shine, other = other, shine
    out = np.empty((2 * height, 2 * width, 3), np.float32)
    each_slab(
        height,
        lambda a, b: solids.shade(
            numbers, light, scene, tree, water, solid, cloud, fires, facing, far, shine, depth, seen, stack(), out, a, b
        ),
        THREADS,
    )
    return out, scene, cloud


def _wetted(
    staged: Staged, numbers: Array, light: Array, scene: Array, tree: Tree, clear: Tree, solid: tuple[Array, ...],
    water: tuple[Array, Array, Array], cloud: Shade, depth: Array, behind: Array,
) -> None:  # fmt: skip
    """What is wet, over the light of samples (2 h, 2 w, 3) that is behind it."""
    high, wide = depth.shape
    nearer, seen = np.full((high, wide), FAR), np.full((high, wide), solids.SKY, np.int32)
    projected, which = _projected(water[0], numbers, (wide, high))
    each_slab(high, lambda a, b: solids.draw_triangles(projected, which, nearer, seen, a, b), THREADS)
    corner, normal, colour = (np.ascontiguousarray(v, np.float32) for v in water)
    liquid = (corner, normal, colour, np.zeros(len(corner), np.float32), *solid[4:])
    each_slab(
        high // 2,
        lambda a, b: wet.wet(
            numbers, light, scene, tree, clear, solid, liquid, cloud, np.float32(staged.deep), nearer, seen,
            np.zeros(12, np.float32), np.empty(64, np.int32), depth, behind, a, b,
        ),
        THREADS,
    )  # fmt: skip


def _somewhere(places: Array) -> Array:
    """Which places (n, 3) are numbers that may be drawn."""
    return np.asarray((np.abs(places) < MOST_FAR).all(axis=1), bool)


def _projected(corner: Array, camera: Array, size: tuple[int, int]) -> tuple[Array, Array]:
    """Triangles (t, 3, 3) as columns, rows and one over the distance ahead, cut where they come too near, and which
    (t,) of the given ones each is."""
    eye, ahead, right, up = (camera[3 * k : 3 * k + 3].astype(np.float64) for k in range(4))
    off = corner.astype(np.float64) - eye
    place = np.stack([off @ right / (right @ right), off @ up / (up @ up), off @ ahead], axis=-1)
    least = 1e-4 * max(float(np.median(np.abs(place[..., 2]))), 1e-6) if len(place) else 1e-6
    inside = (place[..., 2] > least).sum(axis=1)
    whole = np.flatnonzero(inside == 3)
    cut, of = [place[whole]], [whole]
    for t in np.flatnonzero((inside > 0) & (inside < 3)):
        some = _clipped(place[t], least)
        cut.append(some)
        of.append(np.full(len(some), t))
    kept = np.concatenate(cut)
    inverse = 1 / kept[..., 2]
    columns, rows = (kept[..., 0] * inverse + 1) * 0.5 * size[0], (1 - kept[..., 1] * inverse) * 0.5 * size[1]
    screen = np.clip(np.stack([columns, rows, inverse], axis=-1), -1e7, 1e7)
    return np.ascontiguousarray(screen, np.float32), np.concatenate(of).astype(np.int32)


def _clipped(place: Array, least: float) -> Array:
    """The part of a triangle (3, 3) that is further ahead than `least`, as triangles (t, 3, 3) (Sutherland, Hodgman
    1974)."""
    kept = []
    for k in range(3):
        a, b = place[k], place[(k + 1) % 3]
        if a[2] > least:
            kept.append(a)
        if (a[2] > least) != (b[2] > least):
            kept.append(a + (least - a[2]) / (b[2] - a[2]) * (b - a))
    return np.array([[kept[0], kept[k], kept[k + 1]] for k in range(1, len(kept) - 1)])
