"""Chains of nodes evaluated blockwise over threads: at points, on voxels, as a function."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from errant_gust.core.blocks import BLOCK, LANES, Cancel, Progress, share_out
from errant_gust.core.fields.node import Node, remembering
from errant_gust.core.fields.samples import Array, Samples
from errant_gust.core.grids.region import GridRegion

if TYPE_CHECKING:
    pass


def evaluate_padded(node: Node, points: Array, gradient: bool) -> Samples:
    """Evaluate a block padded to whole vectors with copies of its last point. `points` (3, n) in m; values (n,) or
    (3, n)."""
    n = points.shape[1]
    extra = -n % LANES
    if not extra:
        return node.evaluate(np.ascontiguousarray(points), gradient)
    padded = np.concatenate([points, np.repeat(points[:, -1:], extra, axis=1)], axis=1)
    made = node.evaluate(padded, gradient)
    return Samples(made.value[..., :n], None if made.gradient is None else made.gradient[..., :n])


def sample(
    node: Node,
    points: Array,
    *,
    gradient: bool = False,
    cancel: Cancel | None = None,
    progress: Progress | None = None,
) -> tuple[Array, Array | None]:
    """Values at points (n, 3) -> (n,) or (n, 3), and if asked gradients (n, 3) or (n, 3, 3); float32."""
    node.prepare(cancel)
    points = np.asarray(points, np.float32)
    n = len(points)
    vector = node.kind == "vector"
    value = np.empty((n, 3) if vector else n, np.float32)
    slope = np.empty((n, 3, 3) if vector else (n, 3), np.float32) if gradient else None

    if node.step.id == "bake" and not gradient and n > 4 * BLOCK:
        grid = node.step.grid(node)  # type: ignore[attr-defined]

        def read(start: int, stop: int) -> None:
            value[start:stop] = grid.sample_many(points[start:stop])

        share_out(read, n, block=1 << 18, cancel=cancel, progress=progress)
        return value, None

    def work(start: int, stop: int) -> None:
        made = evaluate_padded(node, points[start:stop].T, gradient)
        value[start:stop] = made.value.T if vector else made.value
        if slope is not None:
            slope[start:stop] = np.moveaxis(made.slope, -1, 0)

    share_out(work, n, cancel=cancel, progress=progress)
    return value, slope


def sample_chain(nodes: list[Node], points: Array, *, cancel: Cancel | None = None, block: int = BLOCK) -> list[Array]:
    """Values of several nodes (the steps of a lane) at the same points (n, 3): what they share is made once."""
    for node in nodes:
        node.prepare(cancel)
    points = np.asarray(points, np.float32)
    made = [np.empty((len(points), 3) if n.kind == "vector" else len(points), np.float32) for n in nodes]

    def work(start: int, stop: int) -> None:
        extra = -(stop - start) % LANES
        here = np.ascontiguousarray(np.pad(points[start:stop], ((0, extra), (0, 0)), mode="edge").T)
        with remembering():  # the last first: it asks those before it for gradients, which then serve for both
            for node, out in zip(reversed(nodes), reversed(made), strict=True):
                if cancel is not None and cancel():
                    return
                out[start:stop] = node.evaluate(here).value[..., : stop - start].T

    share_out(work, len(points), block=block, cancel=cancel)
    return made


def bake(node: Node, region: GridRegion, *, cancel: Cancel | None = None, progress: Progress | None = None) -> Array:
    """The field in the middle of every voxel: (nx, ny, nz) or (nx, ny, nz, 3) float32."""
    region.check(3 if node.kind == "vector" else 1, node.where)
    out = bake_part(node, region, 0, region.voxels, cancel=cancel, progress=progress)
    return out.reshape(*region.shape, *out.shape[1:])


def bake_part(
    node: Node, region: GridRegion, first: int, last: int, *,
    cancel: Cancel | None = None, progress: Progress | None = None,
) -> Array:  # fmt: skip
    """The field in the middle of the voxels first..last, z fastest: (n,) or (n, 3) float32."""
    node.prepare(cancel)
    vector = node.kind == "vector"
    out = np.empty((last - first, 3) if vector else last - first, np.float32)

    def work(start: int, stop: int) -> None:
        made = evaluate_padded(node, region.centres(first + start, first + stop), False)
        out[start:stop] = made.value.T if vector else made.value

    share_out(work, last - first, block=BLOCK, cancel=cancel, progress=progress)
    return out


class Field:
    """A field lane as a function of points and time: what scripts and flows use."""

    def __init__(self, plan: Any, id: str) -> None:
        self.plan, self.id = plan, id

    def sample(self, points: Array, time: float = 0.0) -> Array:
        """points (n, 3) in metres, time in seconds -> (n,) or (n, 3) float32."""
        return sample(self.plan.at(time).lane(self.id), points)[0]

    def sample_with_gradient(self, points: Array, time: float = 0.0) -> tuple[Array, Array]:
        """As `sample`, and first derivatives (n, 3) or (n, 3, 3), per metre."""
        value, slope = sample(self.plan.at(time).lane(self.id), points, gradient=True)
        assert slope is not None
        return value, slope
