"""Steps that work on the voxels of a region: bake, smooth, linger. Computed once for what they depend on, then
sampled."""

import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any, ClassVar, Literal

import numpy as np
from scipy import ndimage

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.blocks import BLOCK, Cancel, share_out
from errant_gust.core.fields.plan import Node, bake, evaluate_padded
from errant_gust.core.fields.samples import Array, At, Kind, Samples
from errant_gust.core.fields.step import Accepts, FieldStep
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import budget
from errant_gust.core.study.document import content_hash
from errant_gust.core.study.parameters import RegionId, param


class Kept:
    """Recently computed grids by content, at most half the memory budget; each is computed by one thread only."""

    def __init__(self) -> None:
        self._items: OrderedDict[str, Any] = OrderedDict()
        self._lock = threading.Lock()
        self._making: dict[str, threading.Lock] = {}

    def get(self, key: str, make: Callable[[], Any], size: Callable[[Any], int]) -> Any:
        with self._lock:
            if key in self._items:
                self._items.move_to_end(key)
                return self._items[key][0]
            making = self._making.setdefault(key, threading.Lock())
        with making:
            with self._lock:
                if key in self._items:
                    return self._items[key][0]
            made = make()
            with self._lock:
                self._items[key] = (made, size(made))
                self._making.pop(key, None)
                limit = min(budget() // 2, 2 << 30)
                while len(self._items) > 1 and sum(n for _, n in self._items.values()) > limit:
                    self._items.popitem(last=False)
            return made

    def has(self, key: str) -> bool:
        with self._lock:
            return key in self._items

    def clear(self) -> None:
        with self._lock:
            self._items.clear()


KEPT = Kept()
WORKING: dict[str, float] = {}
"""Steps that are being computed now, by place in the study, and how far they are (0 to 1)."""


@contextmanager
def working(where: str) -> Iterator[Callable[[float], None]]:
    """Tell the interface that a step is being computed."""
    WORKING[where] = 0.0
    try:
        yield lambda share: WORKING.__setitem__(where, share)
    finally:
        WORKING.pop(where, None)


class Gridded(FieldStep):
    """A step whose result is a grid on a region; subclasses make it."""

    region: RegionId = param(help="Where, and how fine")

    def make(self, node: Node, cancel: Cancel | None) -> Any:
        """The grid at the node's time."""
        raise NotImplementedError

    def key(self, node: Node) -> str:
        box = node.scene.region(self.region)
        return content_hash(
            node.identity(), box.lower, box.shape, box.voxel_size, box.turn, node.scene.time if node.moves else 0.0
        )

    def grid(self, node: Node, cancel: Cancel | None = None) -> Any:
        """The grid of this step, computed once for what it depends on."""

        def make() -> Any:
            with working(node.where):
                return self.make(node, cancel)

        return node.kept("grid", lambda: KEPT.get(self.key(node), make, size_of_grid))

    def prepare(self, node: Node, cancel: Cancel | None = None) -> None:
        self.grid(node, cancel)

    def evaluate(self, at: At) -> Samples:
        grid = self.grid(at.node)
        if not at.gradient:
            return Samples(grid.sample(at.points))
        return Samples(*grid.sample_with_gradient(at.points))


def size_of_grid(grid: Any) -> int:
    return int(grid.values.nbytes) if isinstance(grid, Grid) else int(grid.nbytes)


class GriddedChange(Gridded):
    """A change by way of a grid; it keeps the kind of what comes in."""

    family = "change"
    accepts: ClassVar[Accepts] = "any"

    outside: Literal["zero", "clamp", "repeat"] = param("zero", help="What the field is outside the region")

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        assert incoming is not None
        return incoming

    def incoming_values(self, node: Node, cancel: Cancel | None) -> Array:
        assert node.incoming is not None
        box = node.scene.region(self.region)
        box.check(3 if node.kind == "vector" else 1, node.where)
        return bake(node.incoming, box, cancel=cancel, progress=lambda share: WORKING.__setitem__(node.where, share))

    def as_grid(self, node: Node, values: Array) -> Grid:
        return Grid(node.scene.region(self.region), values, self.outside)


class Bake(GriddedChange):
    """Evaluates everything before it once per time on the voxels of a region, then interpolates.

    Dear fields become quick to sample, and nothing finer than a voxel remains. The gradient is the derivative of the
    interpolant. `region` must fit the memory budget.
    """

    id = "bake"
    label = "Bake"
    yields = "the field as voxels"
    mistake = (
        "Voxels larger than half the finest detail lose it and bring divergence back between them. Outside "
        "the region the chosen rule holds: nothing, unless clamped."
    )
    headline = "region"
    formula = "f' = interpolation of f at the voxel middles"

    def make(self, node: Node, cancel: Cancel | None) -> Grid:
        return self.as_grid(node, self.incoming_values(node, cancel))


class Smooth(GriddedChange):
    """Blurs the field on the voxels of a region: a Gauss filter of the given width; detail finer than it is gone."""

    id = "smooth"
    label = "Smooth"
    yields = "the field without fine detail"
    mistake = (
        "A width below one voxel does nothing, yet costs the whole region. It shortens vectors where they "
        "disagree; raise the strength afterwards."
    )
    headline = "width"
    formula = "f' = Gauss(width) ∗ f"

    width: float = param(0.2, unit="m", above=0, slider=(0.02, 2), help="Standard deviation of the blur")

    def feature(self) -> float:
        return self.width

    def make(self, node: Node, cancel: Cancel | None) -> Grid:
        values = self.incoming_values(node, cancel)
        sigma = self.width / node.scene.region(self.region).voxel_size
        if sigma > max(values.shape[:3]):
            raise StudyError(
                "is wider than the region", where=f"{node.where}.width", fix="a smaller width, or a larger region"
            )
        for axis in range(3):
            values = ndimage.gaussian_filter1d(values, sigma, axis=axis, mode="nearest", output=np.float32)
        return self.as_grid(node, values)


class Linger(GriddedChange):
    """Holds a peak, then lets it fade: where something has passed, its value stays for a while.

    y(t) = max over τ ≤ t of x(τ) less what is lost since: by share x e^(−k (t − τ)), by amount x − a (t − τ), not
    below 0. Counted from the first frame in steps of its own, so frames a second do not matter.
    """

    id = "linger"
    label = "Linger"
    accepts = "scalar"
    yields = "values that stay for a while and fade"
    mistake = (
        "Its memory begins at the first frame, and time outside the region is forgotten. Keep the voxels fine "
        "enough for the fastest sweep: it should not skip one in a step."
    )
    headline = "loss"
    formula = "y(t) = max(x(t), y(t − dt) · e^(−k dt))  or  max(x(t), y(t − dt) − a dt)"

    loss: Literal["by share", "by amount"] = param(
        "by share", help="A share of what is left each second, or so much each second"
    )
    share: float = param(
        1.0,
        unit="/s",
        range=(0, None),
        slider=(0, 10),
        help="Fades to a third in 1/k seconds",
        when={"loss": ["by share"]},
    )
    amount: float = param(
        0.5, unit="/s", range=(0, None), slider=(0, 5), help="Lost each second", when={"loss": ["by amount"]}
    )
    step: float = param(1 / 24, unit="s", above=0, slider=(0.01, 0.2), help="How often it looks for a new peak")

    @property
    def changes_with_time(self) -> bool:
        return True

    def _faded(self, values: Array, seconds: float) -> Array:
        if self.loss == "by share":
            return values * np.float32(np.exp(-self.share * seconds))
        return np.maximum(values - np.float32(self.amount * seconds), 0)

    def make(self, node: Node, cancel: Cancel | None) -> Grid:
        if node.scene.study.find("regions", self.region, node.where).follow:
            raise StudyError(
                "lingers on a region that follows a shape", where=f"{node.where}.region", fix="choose one that stays"
            )
        time = max(0.0, node.scene.time)
        whole = int(np.floor(time / self.step + 1e-6))
        values = self._peak(node, whole, cancel)
        rest = time - whole * self.step
        if rest > 1e-9:
            values = np.maximum(self._faded(values, rest), self.incoming_values(node, cancel))
        return self.as_grid(node, np.ascontiguousarray(values, np.float32))

    def _peak(self, node: Node, number: int, cancel: Cancel | None) -> Array:
        """The recurrence up to a whole step; earlier results are kept, so playing forward costs one step a frame."""
        base = content_hash("peak", self.key(node.at_time(0.0)), node.step.model_dump(mode="json"))
        start = number
        while start > 0 and not KEPT.has(f"{base}.{start}"):
            start -= 1
        values: Array | None = None
        for i in range(start, number + 1):
            before = values

            def make(i: int = i, before: Array | None = before) -> Array:
                now = self.incoming_values(node.at_time(i * self.step), cancel)
                return now if before is None or i == 0 else np.maximum(self._faded(before, self.step), now)

            values = KEPT.get(f"{base}.{i}", make, lambda a: int(a.nbytes))
        assert values is not None
        return values


def at_faces(node: Node, points_of: Callable[[int, int], Array], count: int, axis: int, cancel: Cancel | None) -> Array:
    """One component of a vector node at `count` points given in blocks (3, m)."""
    out = np.empty(count, np.float32)

    def work(start: int, stop: int) -> None:
        out[start:stop] = evaluate_padded(node, points_of(start, stop), False).value[axis]

    share_out(work, count, block=BLOCK, cancel=cancel)
    return out
