"""A picture of what stands in a scene: solids by depth and rays, a cloud around them, what glows over all."""

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import Cancelled
from errant_gust.core.fields.samples import Array
from errant_gust.core.grids.slabs import on_all
from errant_gust.core.kernels import clouds, film, lit, solids, wet
from errant_gust.core.pictures.camera import Box, Camera
from errant_gust.core.pictures.cloud import NO_SHADE, Baked, Cloud, Dust, bake, shade_of
from errant_gust.core.pictures.developing import developed
from errant_gust.core.pictures.mesh import Mesh, tree_of
from errant_gust.core.pictures.quality import GOOD, Quality
from errant_gust.core.pictures.setting import Setting

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

    def and_(self, other: "Balls") -> "Balls":
        """Those and others."""
        return Balls(
            np.concatenate([self.centre, other.centre]),
            np.concatenate([self.radius, other.radius]),
            np.concatenate([self.colours, other.colours]),
        )


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
    clouds: list[Cloud] = field(default_factory=list)
    streaks: list[Streaks] = field(default_factory=list)
    water: Mesh | None = None
    deep: float = 0.25

    def add(self, other: "Staged") -> None:
        """Put what another one is of beside this, and look at both. What is wet takes its depth from the first."""
        self.box = (np.minimum(self.box[0], other.box[0]), np.maximum(self.box[1], other.box[1]))
        self.meshes += other.meshes
        self.clouds += other.clouds
        self.streaks += other.streaks
        if self.balls is None or other.balls is None:
            self.balls = self.balls or other.balls
        else:
            self.balls = self.balls.and_(other.balls)
        if self.water is None:
            self.water, self.deep = other.water, other.deep
        elif other.water is not None:
            self.water = self.water.and_(other.water)


Report = Callable[[float], None]
"""Is told the share that is done."""


def render(
    staged: Staged, camera: Camera, setting: Setting, size: tuple[int, int], cancel: Cancel | None = None,
    quality: Quality = GOOD, report: Report | None = None,
) -> Array:  # fmt: skip
    """Pixels (height, width, 3) uint8. The same bits on any number of threads. Raises Cancelled."""
    return developed(light_of(staged, camera, setting, size, cancel, quality, report), setting)


def light_of(
    staged: Staged, camera: Camera, setting: Setting, size: tuple[int, int], cancel: Cancel | None = None,
    quality: Quality = GOOD, report: Report | None = None,
) -> Array:  # fmt: skip
    """Linear light (height, width, 3) float32 before exposure. See `render`. Raises Cancelled."""
    return _Rendering(staged, camera, setting, size, cancel, quality, report).light()


class _Rendering:
    """One picture on its way."""

    def __init__(
        self, staged: Staged, camera: Camera, setting: Setting, size: tuple[int, int], cancel: Cancel | None,
        quality: Quality, report: Report | None,
    ) -> None:  # fmt: skip
        self.staged, self.camera, self.size, self.quality = staged, camera, size, quality
        self.cancel, self.report = cancel, report
        self.numbers = camera.numbers(size)
        way = -np.asarray(camera.axes[0])
        self.light_numbers = setting.numbers(float(np.degrees(np.arctan2(way[1], way[0]))), staged.floor)
        self.diagonal = float(np.linalg.norm(np.subtract(*staged.box)))

    def done(self, share: float) -> None:
        """Says so; raises Cancelled where nobody wants more."""
        if self.cancel is not None and self.cancel():
            raise Cancelled
        if self.report is not None:
            self.report(share)

    def rows(self, work: Callable[[int, int], None], begins: float, ends: float) -> None:
        """Rows of the picture, some at a time, on all threads; told as shares from `begins` to `ends`."""
        height = self.size[1]
        few = max(2, height // 10)
        for first in range(0, height, few):
            last = min(first + few, height)
            on_all(last - first, lambda a, b, first=first: work(first + a, first + b))  # type: ignore[misc]
            self.done(begins + (ends - begins) * last / height)

    def light(self) -> Array:
        """See `light_of`."""
        staged, (width, height) = self.staged, self.size
        parts = [m.corners for m in staged.meshes]
        corner, normal, colour = (
            np.ascontiguousarray(np.concatenate([p[k] for p in parts]) if parts else np.zeros((0, 3, 3), np.float32))
            for k in range(3)
        )
        sheens = [np.full(len(p[0]), m.sheen, np.float32) for m, p in zip(staged.meshes, parts, strict=True)]
        shine = np.concatenate(sheens) if sheens else np.zeros(0, np.float32)
        self.done(0)
        self.tree = tree_of(corner)
        balls = staged.balls or Balls(np.zeros((0, 3)), np.zeros(0), np.zeros((0, 3)))
        balls = balls.some(_somewhere(balls.centre) & np.isfinite(balls.radius) & (balls.radius > 0))
        centre, radius, tints = (
            np.ascontiguousarray(v, np.float32) for v in (balls.centre, balls.radius, balls.colours)
        )
        self.solid = (corner, normal, colour, shine, centre, radius, tints)
        self.done(0.02)
        made = self._baked()
        self.done(0.15)
        depth, seen = np.full((2 * height, 2 * width), FAR), np.full((2 * height, 2 * width), solids.SKY, np.int32)
        projected, which = _projected(corner, self.numbers, (2 * width, 2 * height))
        on_all(2 * height, lambda a, b: solids.draw_triangles(projected, which, depth, seen, a, b))
        on_all(2 * height, lambda a, b: solids.draw_balls(centre, radius, self.numbers, len(corner), depth, seen, a, b))
        water = staged.water.corners if staged.water is not None else (corner[:0],) * 3
        self.clear = tree_of(water[0])
        self.done(0.2)
        samples = self._lit(made, depth, seen)
        if len(water[0]):
            self._wetted(water, depth, samples)
        self.done(0.8)
        ahead = self.numbers[3:6].astype(np.float64)
        ordered = sorted(made, key=lambda m: -float((m.middle - np.asarray(self.camera.eye)) @ ahead))
        each = np.float32(self.quality.each)
        for n, m in enumerate(ordered):  # the furthest first

            def marched(a: int, b: int, m: Baked = m) -> None:
                clouds.march(self.numbers, m.frame, m.volume, m.bricks, each, depth, samples, a, b)

            self.rows(marched, 0.8 + 0.2 * n / len(made), 0.8 + 0.2 * (n + 1) / len(made))
        out = np.empty((height, width, 3), np.float32)
        on_all(height, lambda a, b: film.averaged(samples, out, a, b))
        for streaks in sorted(staged.streaks, key=lambda s: s.glow):  # what glows adds to what covers
            self._streak(streaks, ordered, depth, out)
        self.done(1)
        return out

    def _dust(self) -> list[Dust]:
        """What stops light without being a surface: clouds one by one, then balls."""
        some = [Dust.of_cloud(c) for c in self.staged.clouds]
        return [*some, Dust.of_balls(*self.solid[4:6])] if len(self.solid[4]) else some

    def _baked(self) -> list[Baked]:
        """Clouds, each in the shade of all else; and what they and the balls shade."""
        light, key = self.light_numbers, self.light_numbers[:3].astype(np.float64)
        eye, far = np.asarray(self.camera.eye), 4 * self.diagonal
        several = len(self.staged.clouds) + (len(self.solid[4]) > 0) > 1
        dust = self._dust() if several or not self.staged.clouds else []
        made = []
        for n, cloud in enumerate(self.staged.clouds):
            others = shade_of(dust[:n] + dust[n + 1 :], key) if several else None
            made.append(bake(cloud, light, eye, self.tree, far, others))
        self.shade = (made[0].depth, made[0].frame, NO_SHADE[2]) if made and not several else shade_of(dust, key)
        return made

    def _streak(self, streaks: Streaks, before: list[Baked], depth: Array, out: Array) -> None:
        """Streaks over a picture (h, w, 3), the furthest first, as what is before them leaves them."""
        if not streaks.count:
            return
        light, (width, height) = self.light_numbers, self.size
        eye, ahead = self.numbers[:3], self.numbers[3:6]
        far = (0.5 * (streaks.begin + streaks.end) - eye) @ ahead
        order = np.argsort(-far, kind="stable")
        order = order[(_somewhere(streaks.begin) & _somewhere(streaks.end))[order]]
        begin, end = (np.ascontiguousarray(v[order], np.float32) for v in (streaks.begin, streaks.end))
        colours = np.ascontiguousarray(streaks.colours[order], np.float32)
        if not streaks.glow:  # flat: as bright as what stands upright in the light
            colours = colours * (0.6 * light[3:6] + light[6:9] * 0.5)[None, :].astype(np.float32)
        for m in before:
            colours = self._behind(m, 0.5 * (begin + end), colours, streaks.glow)
        wide = np.float32(max(streaks.size * width / 960, 0.9))
        on_all(
            height,
            lambda a, b: solids.draw_streaks(begin, end, colours, wide, streaks.glow, self.numbers, depth, out, a, b),
        )

    def _behind(self, m: Baked, places: Array, colours: Array, glow: bool) -> Array:
        """Colours (n, 3) of what stands at places (n, 3) as a cloud leaves them, with the light of what is before them
        where they cover what is behind."""
        veil = np.empty((len(places), 4), np.float32)
        on_all(
            len(places),
            lambda a, b: clouds.veiled(
                self.numbers, m.frame, m.volume, m.bricks, np.float32(2 * self.quality.each), places, veil, a, b
            ),
        )
        left = colours * veil[:, 3:]
        return np.ascontiguousarray(left if glow else left + veil[:, :3], np.float32)

    def _lit(self, made: list[Baked], depth: Array, seen: Array) -> Array:
        """Light of every sample (2 h, 2 w, 3); and what kernels know of the scene (9,)."""
        width, height = self.size
        middle = 0.5 * np.add(*self.staged.box)
        self.scene = np.array(
            [
                4 * self.diagonal, 0.1 * self.diagonal, 2e-4 * self.diagonal, 2.3 * self.diagonal, middle[0], middle[1],
                0.8 * self.shade[1][13], self.quality.suns, self.quality.ways,
            ],
            np.float32,
        )  # fmt: skip
        fires = np.concatenate([m.fires for m in made]) if made else np.zeros((0, 7), np.float32)
        facing, place = np.empty((height, width, 3), np.float32), np.empty((height, width, 3), np.float32)
        far = np.empty((height, width), np.float32)
        shine, other = np.empty((height, width, 5), np.float32), np.empty((height, width, 5), np.float32)
        on = (self.numbers, self.light_numbers, self.scene, self.tree, self.clear, self.solid, self.shade, fires)

        def first(a: int, b: int) -> None:
            lit.light_pixels(*on, depth, seen, np.empty(64, np.int32), facing, place, far, shine, a, b)

        self.rows(first, 0.2, 0.5)
        calm = _calm(shine)
        for gap in (1, 2, 4):

            def smooth(a: int, b: int, gap: int = gap, shine: Array = shine, other: Array = other) -> None:
                lit.smoothed(facing, place, far, shine, calm, gap, other, a, b)

            on_all(height, smooth)
            shine, other = other, shine
        out = np.empty((2 * height, 2 * width, 3), np.float32)

        def last(a: int, b: int) -> None:
            lit.shade(*on, facing, place, far, shine, depth, seen, np.empty(64, np.int32), out, a, b)

        self.rows(last, 0.5, 0.6)
        return out

    def _wetted(self, water: tuple[Array, Array, Array], depth: Array, samples: Array) -> None:
        """What is wet, over the light of samples (2 h, 2 w, 3) that is behind it."""
        high, wide = depth.shape
        nearer, seen = np.full((high, wide), FAR), np.full((high, wide), solids.SKY, np.int32)
        projected, which = _projected(water[0], self.numbers, (wide, high))
        on_all(high, lambda a, b: solids.draw_triangles(projected, which, nearer, seen, a, b))
        corner, normal, colour = (np.ascontiguousarray(v, np.float32) for v in water)
        liquid = (corner, normal, colour, np.zeros(len(corner), np.float32), *self.solid[4:])
        self.rows(
            lambda a, b: wet.wet(
                self.numbers, self.light_numbers, self.scene, self.tree, self.clear, self.solid, liquid, self.shade,
                np.float32(self.staged.deep), nearer, seen, np.zeros(12, np.float32), np.empty(64, np.int32), depth,
                samples, a, b,
            ),
            0.6, 0.8,
        )  # fmt: skip


def _calm(shine: Array) -> Array:
    """Tiles (h / TILE, w / TILE) of light (h, w, 5) that is the same in them and in those beside them."""
    height, width = (-(-n // lit.TILE) for n in shine.shape[:2])
    low, high = np.empty((height, width, 3), np.float32), np.empty((height, width, 3), np.float32)
    on_all(height, lambda a, b: lit.extremes(shine, low, high, a, b))
    for axis in (0, 1):
        pad = [(1, 1) if a == axis else (0, 0) for a in range(3)]
        cut = [[slice(k, k + low.shape[axis]) if a == axis else slice(None) for a in range(3)] for k in range(3)]
        wide, tall = np.pad(low, pad, mode="edge"), np.pad(high, pad, mode="edge")
        low = np.minimum.reduce([wide[tuple(c)] for c in cut])
        high = np.maximum.reduce([tall[tuple(c)] for c in cut])
    return np.asarray((low == high).all(axis=2))


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
