"""Motion steps that keep particles on one side of a shape: Stay out, Stay in."""

from typing import ClassVar

import numpy as np

from errant_gust.core.flows.particles.steps import Moving, ParticleStep, Use
from errant_gust.core.flows.step import Blocks
from errant_gust.core.geometry.placed import Side
from errant_gust.core.study.parameters import ShapeId, param

PASSES = 3


class Wall(ParticleStep, Blocks):
    """A side of a shape that may not be left."""

    family = "motion"
    headline = "shape"
    sign: ClassVar[float]

    shape: ShapeId = param(help="The shape, which may move")
    gap: float = param(0.0, unit="m", slider=(0, 0.5), help="Distance that is kept to its surface")
    friction: float = param(0.2, range=(0, 1), help="Share of the motion along the wall that a touch takes")
    bounce: float = param(0.0, range=(0, 1), help="Share of the speed against the wall that comes back")

    def blocking(self) -> list[tuple[str, Side]]:
        return [(self.shape, "around" if self.sign > 0 else "inside")]

    def prepare(self, use: Use) -> None:
        use.scenes["end"].shape(self.shape).distance(np.zeros((3, 1), np.float32), 1)

    def correct(self, m: Moving, use: Use) -> None:
        shape = use.scenes["end"].shape(self.shape)
        sign, gap = np.float32(self.sign), np.float32(self.gap)
        if self.sign > 0:
            near = np.flatnonzero(shape.near(m.position, self.gap + 1e-3))
        else:
            near = np.arange(m.position.shape[1])
        if not len(near):
            return
        p = np.ascontiguousarray(m.position[:, near])
        d, g, _ = shape.distance(p, 1)
        assert g is not None
        depth = gap - sign * d
        inside = depth > 0
        if not inside.any():
            return
        near, p, g, depth = near[inside], p[:, inside], sign * g[:, inside], depth[inside]
        for _ in range(PASSES):  # distances of joined and turned shapes are not exact far inside
            p = p + g * np.maximum(depth, 0)
            d, slope, _ = shape.distance(p, 1)
            assert slope is not None
            g, depth = sign * slope, gap - sign * d
        m.position[:, near] = p
        if m.pushed_back is None:
            m.pushed_back = np.zeros(m.position.shape[1], bool)
        m.pushed_back[near] = True
        if m.own is None:
            return
        wall = shape.surface_velocity(p)
        relative = m.own[:, near] - wall
        into = (relative * g).sum(axis=0)
        along = relative - g * into
        touched = into < 0
        after = along * np.float32(1 - self.friction) - g * np.minimum(into, 0) * np.float32(self.bounce)
        m.own[:, near] = wall + np.where(touched, after, relative)


class StayOut(Wall):
    """Particles do not get into a shape: those inside are put on its surface and lose the speed into it."""

    id = "stay_out"
    label = "Stay out"
    yields = "a wall around a shape"
    mistake = (
        "It mends what got in; it does not part the flow. Steer the field around the shape, and keep this for what "
        "inertia throws against it. A step longer than a thin plate jumps through: raise the substeps."
    )
    sign = 1.0


class StayIn(Wall):
    """Particles do not leave a shape: those outside are put back on its surface and lose the speed out of it."""

    id = "stay_in"
    label = "Stay in"
    yields = "a wall inside a shape"
    mistake = "Everything outside is drawn onto the surface at once, also what was born there. Emit inside the shape."
    sign = -1.0
