"""Steps that work on the voxels of a region: bake, smooth, linger."""

from typing import Literal

import numpy as np

from errant_gust.core.blocks import Cancel
from errant_gust.core.errors import StudyError
from errant_gust.core.fields.gridded import KEPT, GriddedChange
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.samples import Array
from errant_gust.core.grids.grid import Grid
from errant_gust.core.study.document import content_hash
from errant_gust.core.study.parameters import param


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
        """The field blurred on its region. Raises StudyError for a width beyond the region, Cancelled."""
        from scipy import ndimage

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
        """What is left of the field's past, on its region. Raises StudyError for a region that moves, Cancelled."""
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
