"""Second order in time with one projection: what is carried has had half of the last step's pressure and half of the
force, and is carried by the velocity of the middle of the step, extrapolated.

With S the pressure over a whole last step, what is carried is u − (dt/2) ∇S: as a trapezoid has it, whose second half
is what the projection takes. |u|² + ½ |dt ∇S|² never grows where carrying keeps squares, since S is *all* that the
last step took; with the last projection's alone an impulse would ring for good. The idea is that of pressure-increment
projections (van Kan 1986; Bell, Colella, Glaz 1989), in Lagrangian form, so that one trace carries everything.

Where layers of gas swing at N a second, the extrapolation is made larger by (N dt)², and steps no longer than 0.7 / N:
without that strong layers gain energy.
"""

import math

import numpy as np

from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.gas.state import GasState, Last
from errant_gust.core.flows.gas.steps import Work
from errant_gust.core.grids.staggered.faces import FaceGrid, Projector, Triple, closed_sides, into_unknown

REACH = 4  # voxels over which layers are told: over one a step in them would count as endlessly stiff
SWING = 0.7  # the longest step times N
MOST = 1.0  # of (N dt)²


def layered(force: Array, up: Array, voxel_size: float, solid: Array | None) -> float:
    """N² in 1/s²: how stiffly layers swing, from a force along `up` (3,) that they are lifted by, (nx, ny, nz) in m/s²;
    the most of any column, between cells that are not `solid`. 0 where nothing is layered."""
    axis = int(np.abs(up).argmax())
    n = force.shape[axis]
    if n <= REACH:
        return 0.0
    low = (slice(None),) * axis + (slice(0, n - REACH),)
    high = (slice(None),) * axis + (slice(REACH, n),)
    rise = force[high] - force[low]
    if up[axis] < 0:
        np.negative(rise, out=rise)
    if solid is not None:
        for k in range(REACH + 1):
            rise[solid[(slice(None),) * axis + (slice(k, n - REACH + k),)]] = 0
    return max(0.0, float(rise.max()) / (REACH * voxel_size))


def carriers(state: GasState, last: Last, work: Work, projector: Projector, solid: Array | None, dt: float,
             ) -> tuple[Triple, list[Array], Array]:  # fmt: skip
    """What carries, what is carried, and the pressure in m/s a voxel that was taken off the latter.

    `work` holds the forces at the beginning of the step, which are used up; `solid` (nx, ny, nz). Faces like those of
    the state; the pressure (nx, ny, nz).
    """
    u, v, w = state.u, state.v, state.w
    motion = [u.copy(), v.copy(), w.copy()]
    work.onto((motion[0], motion[1], motion[2]), 0.5 * dt)
    for axis, (f, was) in enumerate(zip(motion, (u, v, w), strict=True)):
        for side in closed_sides(axis, projector.low, projector.high):
            f[side] = was[side]
    half = np.multiply(last.pressure, np.float32(0.5 * dt))
    if solid is not None:
        into_unknown(half, half == 0, solid)
    projector.take_off(np.pad(half, 1), FaceGrid(state.window, *motion))
    share = (1 + min(MOST, work.swings * dt * dt)) * 0.5 * dt / last.dt
    return last.ahead((u, v, w), share), motion, half


def swings(square: float, seconds: float) -> int:
    """Steps that layers of N² in 1/s² need, at least, in so many seconds."""
    return math.ceil(math.sqrt(square) * seconds / SWING - 1e-6)
