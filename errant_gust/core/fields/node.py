"""A node is one step in its place; chains of nodes are evaluated blockwise over threads."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from errant_gust.core.blocks import Cancel
from errant_gust.core.fields.samples import Array, At, Kind, Samples
from errant_gust.core.fields.units import Unit
from errant_gust.core.geometry.made import MadeShape
from errant_gust.core.making import lazy
from errant_gust.core.study.document import content_hash
from errant_gust.core.study.parameters import file_params, references

if TYPE_CHECKING:
    from errant_gust.core.fields.scene import Scene
    from errant_gust.core.fields.step import FieldStep
    from errant_gust.core.geometry.placed import Framed


class _Memo(threading.local):
    """What nodes made at the block of points that this thread is at, while several nodes of a chain are asked for."""

    made: dict[tuple[int, int, bool], tuple[Array, Samples]] | None = None


_memo = _Memo()


@contextmanager
def remembering() -> Iterator[None]:
    """Within this, on this thread, a node is evaluated once at the same block. The arrays are read-only."""
    _memo.made = {}
    try:
        yield
    finally:
        _memo.made = None


class Node:
    """A step, what comes in, and the scene it looks things up in."""

    def __init__(
        self,
        step: FieldStep,
        incoming: Node | None,
        scene: Scene,
        kind: Kind,
        varying: dict[str, str],
        totals: dict[str, Any],
        keyed: bool,
        where: str,
    ) -> None:
        self.step, self.incoming, self.scene, self.kind = step, incoming, scene, kind
        self.varying, self.totals, self.keyed, self.where = varying, totals, keyed, where
        self._kept: dict[str, Any] = {}

    def kept(self, name: str, make: Callable[[], Any]) -> Any:
        """Something a step works out once for this node, whatever the points."""
        if name not in self._kept:
            self._kept[name] = make()
        return self._kept[name]

    def evaluate(self, points: Array, gradient: bool = False) -> Samples:
        """Samples at one block of points (3, n) float32, on the calling thread."""
        made = _memo.made
        if made is None:
            return self.step.evaluate(At(self, points, gradient))
        for known in (gradient, True):
            found = made.get((id(self), id(points), known))
            if found is not None:
                return found[1]
        fresh = self.step.evaluate(At(self, points, gradient))
        for array in (fresh.value, fresh.gradient):
            if array is not None:
                array.flags.writeable = False  # a step that changed what it was given would be found out
        made[id(self), id(points), gradient] = (points, fresh)  # the points are held, so that no other takes their id
        return fresh

    @property
    def has_potential(self) -> Literal["none", "free", "gauged"]:
        """Whether the vector has a potential whose curl it is: none, one as it stands, or one in a gauge of its own."""
        return self.step.has_potential(self) if self.kind == "vector" else "none"

    def potential(self, points: Array, around: Framed | None) -> Samples:
        """The vector potential at points (3, n) in m: value (3, n), unit of the field times m. `around`: the wall
        that it is to vanish at."""
        return self.step.potential(At(self, points, True), around)

    @lazy
    def unit(self) -> Unit | None:
        """Unit of the values; None if they may be in any."""
        return self.step.unit_given(self)

    @lazy
    def used(self) -> list[Node]:
        """Nodes that this one reads: the step before it and other lanes."""
        lanes = [id for _, kind, id in references(self.step) if kind == "field"] + list(self.varying.values())
        return ([self.incoming] if self.incoming else []) + [self.scene.lane(id) for id in lanes]

    @lazy
    def feature(self) -> float:
        """The smallest detail in metres that anything up to here makes; 1 m if nothing says."""
        own = self.step.feature_at(self)
        sizes = [own] if own is not None else []
        sizes += [node.feature for node in self.used if node.feature_known]
        return min(sizes, default=1.0)

    @lazy
    def stroke(self) -> float | None:
        """Width in metres of the finest lines that are to be read in what comes up to here."""
        found = (self.step.stroke(), *(node.stroke for node in self.used))
        return min((width for width in found if width is not None), default=None)

    @lazy
    def feature_known(self) -> bool:
        """Whether a step below says how small its features are."""
        return self.step.feature() is not None or any(node.feature_known for node in self.used)

    @lazy
    def obstacles(self) -> frozenset[str]:
        """Shapes that anything up to here steers around: inside them the field means nothing."""
        own = (id for id, side in self.step.blocking() if side == "around")
        return frozenset(own).union(*(node.obstacles for node in self.used))

    @lazy
    def moves(self) -> bool:
        """Whether the field changes with time."""
        if self.keyed or self.incoming_moves():
            return True
        rates = any(np.any(getattr(self.step, name)) for name in self.totals)
        own = rates or self.step.changes_with_time
        shapes = [id for _, kind, id in references(self.step) if kind == "shape"]
        return bool(own) or any(self._shape_is_keyed(id) for id in shapes)

    def incoming_moves(self) -> bool:
        """Whether anything that this step uses changes with time."""
        return any(node.moves for node in self.used)

    def _shape_is_keyed(self, id: str) -> bool:
        part = self.scene.study.find("shapes", id, self.where)
        return bool(part.params.get("sequence")) or self.scene.keyed_shape(id)

    def differences(self, points: Array, value: Array) -> Array:
        """Gradient by central differences of exact values, for results that are themselves first derivatives; beside a
        crease, across which such a result jumps, by those of the smooth side.

        The step is 1/100 of the smallest feature, at least a few float32 spacings of the coordinates. `points` (3,
        n) in m, `value` (n,) or (3, n) there; (3, n) of a scalar, (3, 3, n) of a vector, unit of the field over m.
        The choice of side is the first of ENO (Harten et al. 1987), made only where the values bend by a tenth of
        themselves within two steps.
        """
        h = max(0.01 * self.feature, 64 * float(np.spacing(np.abs(points).max(initial=1.0))))
        columns = []
        for axis in range(3):
            ahead, behind = points.copy(), points.copy()
            ahead[axis] += np.float32(h)
            behind[axis] -= np.float32(h)
            spans = (points[axis] - behind[axis], ahead[axis] - points[axis])
            columns.append(_slope(self.evaluate(behind).value, value, self.evaluate(ahead).value, spans))
        return np.stack(columns, axis=0 if self.kind == "scalar" else 1)

    def before_at(self, time: float) -> Node:
        """What comes into this step, at another time in seconds."""
        _, lane, own = self.where.split(".")[:3]
        steps = self.scene.sibling(time).steps(lane)
        order = [id for id, _ in steps]
        return steps[order.index(own) - 1][1]

    def at_time(self, time: float) -> Node:
        """This step at another time."""
        _, lane, own = self.where.split(".")[:3]
        return dict(self.scene.sibling(time).steps(lane))[own]

    def prepare(self, cancel: Cancel | None = None) -> None:
        """Do what must not happen inside a block: bake grids, solve, build mesh distances."""
        if self._kept.get("prepared"):
            return
        for node in self.used:
            node.prepare(cancel)
        for _, kind, id in references(self.step):
            if kind == "shape":
                self.scene.shape(id).distance(np.zeros((3, 1), np.float32), 0)
        self.step.prepare(self, cancel)
        self._kept["prepared"] = True

    def identity(self) -> str:
        """Hash of everything that decides the values of this node at its time."""
        refs = list(references(self.step))
        shapes = [self._shape_identity(id) for _, kind, id in refs if kind == "shape"]
        regions = [
            [r.lower, r.shape, r.voxel_size, r.turn]
            for r in (self.scene.region(i) for _, k, i in refs if k == "region")
        ]
        values = self.step.model_dump(mode="json")
        for name in file_params(type(self.step)):
            file = getattr(self.step, name)
            if file:
                values[f"{name}.stamp"] = self.scene.assets.stamp(file, self.where)
        flows = [self.scene.flow_identity(id) for _, kind, id in refs if kind == "flow"]
        return content_hash(
            self.step.id, values, self.totals, shapes, regions, [node.identity() for node in self.used], self.varying,
            flows,
        )  # fmt: skip

    def _shape_identity(self, id: str) -> list[Any]:
        shape = self.scene.shape(id)
        file = getattr(shape.kind, "file", None)
        if file:
            file = shape.geometry.named(file, getattr(shape.kind, "sequence", False))
        stamp = self.scene.assets.stamp(file, self.where) if file else None
        made = [self.scene.shape_content(id)] if isinstance(shape.kind, MadeShape) else []
        motion = [list(map(float, shape.velocity)), list(map(float, shape.spin))]
        return [
            shape.kind.id,
            shape.kind.model_dump(mode="json"),
            motion,
            stamp,
            *made,
            float(self.scene.time if shape.moves else 0),
        ]


CREASE = 0.1
"""Share of the values: what bends by more within two steps of differences jumps there."""


def _slope(behind: Array, here: Array, ahead: Array, spans: tuple[Array, Array]) -> Array:
    """Slope of values (n,) or (3, n) that are so far apart; across a jump the lesser of both sides."""
    before, after = (here - behind) / spans[0], (ahead - here) / spans[1]
    central = (ahead - behind) / (spans[0] + spans[1])
    creased = _squared(ahead - 2 * here + behind) > CREASE**2 * (_squared(behind) + _squared(ahead))
    if not creased.any():
        return central
    return np.where(creased, np.where(_squared(after) < _squared(before), after, before), central)


def _squared(d: Array) -> Array:
    return d * d if d.ndim == 1 else np.einsum("in,in->n", d, d)
