"""Forces on a liquid, whose velocities stand in the middle of steps, and its velocities at the time of a frame."""

import math

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.liquid.steps import Work
from errant_gust.core.flows.step import in_turn
from errant_gust.core.grids import transfer
from errant_gust.core.grids.staggered.faces import Triple

MORE = np.float32(0.1)
"""Share of its speed by which the velocity that is shown may differ besides what forces do in half a step: where
liquid lands, what stopped it is not taken half again."""


def copied(faces: Triple) -> Triple:
    """Faces (nx+1, ny, nz) and so on, as they are now."""
    u, v, w = (f.copy() for f in faces)
    return u, v, w


def push(work: Work, seconds: float) -> None:
    """Forces act on the faces for so long, as they are when the step begins."""
    ended, kick, tension = work.scene, work.kick, work.tension
    work.scene = work.flow.plan.at(work.begun)
    try:
        for part, share in in_turn(work.flow.parts(work.begun)):
            work.kick = share * seconds
            part.step.pushes(part, work)
    finally:
        work.scene, work.kick = ended, kick
        if seconds != kick:
            work.tension = tension


class Ahead:
    """From the middle of a step to its end, for what a frame shows: half a step of the forces as they are now, and of
    what pressure and viscosity did in this step.

    before, pushed: faces before and after the forces of the step acted.
    """

    def __init__(self, work: Work, before: Triple, pushed: Triple) -> None:
        self.work, self.pushed = work, pushed
        most = [float(np.abs(p - b).max(initial=0.0)) for p, b in zip(pushed, before, strict=True)]
        self.strongest = math.sqrt(sum(x * x for x in most)) / work.kick

    def of(self, q: Array) -> Array:
        """What velocities of particles at q (3, n) in cells of the window gain by the step's end. (3, n) in m/s along
        the domain's axes."""
        work, half = self.work, 0.5 * self.work.dt
        solved = work.faces
        assert solved is not None
        work.faces = copied(solved)
        push(work, half)
        share = np.float32(half / work.kick)
        for f, s, p in zip(work.faces, solved, self.pushed, strict=True):
            f -= s
            f += share * (s - p)
        gained, slopes = np.zeros_like(q), np.zeros((9, q.shape[1]), np.float32)
        transfer.from_faces(q, work.faces, gained, slopes, None, 0.0)
        work.faces = solved
        v = work.a["velocity"]
        most = np.float32(half * self.strongest) + MORE * np.sqrt((v * v).sum(axis=0))
        size = np.sqrt((gained * gained).sum(axis=0))
        gained *= np.minimum(1, most / np.maximum(size, np.float32(1e-20)))
        return self._limited(gained)

    def _limited(self, gained: Array) -> Array:
        """So much less that no limit of the lane is passed."""
        work = self.work
        begun = work.a["velocity"]
        work.a["velocity"] = begun + gained
        for part in work.flow.parts(work.scene.time):
            part.step.limit(part, work)
        gained, work.a["velocity"] = work.a["velocity"] - begun, begun
        return gained
