"""Steps that work on the voxels of a region: bake, smooth, linger. Computed once for what they depend on, then
sampled."""

from collections import OrderedDict
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any, ClassVar, Literal

import numpy as np

from errant_gust.core.blocks import BLOCK, Cancel, share_out
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.samples import Array, At, Kind, Samples
from errant_gust.core.fields.sampling import bake, evaluate_padded
from errant_gust.core.fields.step import Accepts, FieldStep
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.region import budget
from errant_gust.core.making import Making, inner_lock
from errant_gust.core.study.document import content_hash
from errant_gust.core.study.parameters import RegionId, param


class Kept:
    """Recently computed grids by content, at most half the memory budget; each is computed by one thread only."""

    def __init__(self) -> None:
        self._items: OrderedDict[str, Any] = OrderedDict()
        self._lock = inner_lock("kept grids")
        self._making: dict[str, Making] = {}

    def get(self, key: str, make: Callable[[], Any], size: Callable[[Any], int]) -> Any:
        """What is kept under a key; made, once whoever asks, if it is not there. `size`: its bytes."""
        with self._lock:
            if key in self._items:
                self._items.move_to_end(key)
                return self._items[key][0]
            making = self._making.setdefault(key, Making("what lanes make on voxels"))
        with making:
            with self._lock:
                if key in self._items:
                    return self._items[key][0]
            made = make()
            limit = min(budget() // 2, 2 << 30)
            with self._lock:
                self._items[key] = (made, size(made))
                self._making.pop(key, None)
                while len(self._items) > 1 and sum(n for _, n in self._items.values()) > limit:
                    self._items.popitem(last=False)
            return made

    def has(self, key: str) -> bool:
        """Whether something is kept under a key."""
        with self._lock:
            return key in self._items

    def find(self, key: str) -> Any:
        """What is kept under a key; None if nothing is."""
        with self._lock:
            return self._items[key][0] if key in self._items else None

    def clear(self) -> None:
        """Forget everything."""
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
        """What the grid of a node depends on: the lane up to here, the region, and the time if it moves."""
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
    """Bytes of what a step made on a region."""
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
        """The incoming field in the middle of every voxel of the region: (nx, ny, nz) or (nx, ny, nz, 3) float32.
        Raises BudgetError where the region is too large."""
        assert node.incoming is not None
        box = node.scene.region(self.region)
        box.check(3 if node.kind == "vector" else 1, node.where)
        return bake(node.incoming, box, cancel=cancel, progress=lambda share: WORKING.__setitem__(node.where, share))

    def as_grid(self, node: Node, values: Array) -> Grid:
        """Values (nx, ny, nz) or (nx, ny, nz, 3) on the step's region, as what is read from it."""
        return Grid(node.scene.region(self.region), values, self.outside)


def at_faces(node: Node, points_of: Callable[[int, int], Array], count: int, axis: int, cancel: Cancel | None) -> Array:
    """One component of a vector node at `count` points given in blocks (3, m)."""
    out = np.empty(count, np.float32)

    def work(start: int, stop: int) -> None:
        out[start:stop] = evaluate_padded(node, points_of(start, stop), False).value[axis]

    share_out(work, count, block=BLOCK, cancel=cancel)
    return out
