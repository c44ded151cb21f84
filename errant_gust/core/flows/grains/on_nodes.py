"""Between grains and the nodes of a grid: what they give, how stress, forces and walls change it, what they take."""

import math
from functools import partial
from typing import Any, cast

import numpy as np

from errant_gust.core.blocks import BLOCK, share_out, threads
from errant_gust.core.errors import GustError
from errant_gust.core.fields.samples import Array
from errant_gust.core.flows.boxed_points import BoxedPoints, as_stored
from errant_gust.core.flows.grains import walls
from errant_gust.core.flows.grains.bundle import Bundle
from errant_gust.core.flows.grains.sources import FULL
from errant_gust.core.flows.grains.steps import Domain, Work
from errant_gust.core.flows.step import Placed, in_turn
from errant_gust.core.grids import transfer
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.kernels import grains as kernels

POISSON = 0.25
CROWDED = 1.35
"""Packing above which grains lie in each other and bear nothing yet."""
SOFT = 0.02
"""Of the stiffness: how hard these press apart."""
STALE = 0.95
"""Cells that a grain may have gone since the grains were sorted."""
FASTEST = 0.9  # voxels a step that a node may let through


class OnNodes(BoxedPoints):
    """What a flow of grains does on the nodes of its window."""

    modulus: float
    """Stiffness over density, m²/s²."""
    _fronts: walls.Fronts
    domain: GridRegion

    def _sorted(self, work: Work) -> None:
        raise NotImplementedError

    @property
    def sound(self) -> float:
        """Speed of a wave of pressure, m/s."""
        return math.sqrt(self.modulus)

    @property
    def stiff(self) -> float:
        """Lamé's λ over density."""
        return self.modulus * POISSON / (1 - POISSON)

    @property
    def shear(self) -> float:
        """2 μ over density."""
        return self.modulus - self.stiff

    @property
    def bulk(self) -> float:
        """K over density."""
        return self.stiff + self.shear / 3

    def _moved(self, work: Work, parts: list[Placed]) -> tuple[Array, Any]:
        """Nodes whose velocities stress, forces and walls have changed over the kick; and the walls."""
        nodes = self._to_nodes(work, work.sand, work.kick)
        flat = nodes[:-4].reshape(-1, 4)
        work.active = np.flatnonzero(flat[:, 3] > 0)
        work.v = np.empty((3, work.active.size), np.float32)
        share_out(partial(kernels.velocities, flat, work.active, work.v), work.active.size, block=BLOCK)
        kick = work.kick
        for part, share in in_turn(parts):
            work.kick = share * kick
            part.step.pushes(part, work)
        work.kick = kick
        self._put_back(work, flat)
        held = self._fronts.at(work, parts)
        self._fronts.act(flat.reshape(*work.shape, 4), held, work, cast(Domain, parts[0].step))
        return nodes, held

    def _at_frame(self, work: Work) -> None:
        """What velocities gain in half a substep more, to the time of the frame: `lag`, rounded as it is stored."""
        if work.drift > STALE:
            self._sorted(work)
        work.own["lag"] = np.zeros((3, work.count), np.float32)
        if not work.count:
            return
        work.begun, work.kick = work.scene.time, 0.5 * work.before
        capped = work.capped
        nodes, _ = self._moved(work, self.parts(work.begun))
        work.capped = capped  # counted in the steps that grains take
        sand = Bundle(work.sand.a.copy(), work.count)
        self._from_nodes(work, sand, nodes, 0.0)
        gained = self.domain.to_scene(sand.get(kernels.MOVING) - work.sand.get(kernels.MOVING))
        work.own["lag"] = as_stored(gained)

    def _from_nodes(self, work: Work, sand: Bundle, nodes: Array, dt: float) -> Array:
        """Grains take from the nodes and are carried for dt; what the kernel tells of each block."""
        f, h = np.float32, self.domain.voxel_size
        block, told = self._told(work.count)
        domain = cast(Domain, self.parts(work.begun)[0].step)
        step = partial(
            kernels.from_nodes, sand.a, nodes, work.shape, f(dt), f(h), f(self.bulk), f(self.shear),
            f(self.sound), f(FULL), f(CROWDED), f(SOFT * self.modulus), *self._fronts.bounds(work, domain), told, block,
        )  # fmt: skip
        share_out(step, work.count, block=block)
        return told

    def _to_nodes(self, work: Work, sand: Bundle, dt: float) -> Array:
        """Momenta and masses of the nodes (nx, ny, nz, 4), and a node more, flat, from sorted grains."""
        nodes = np.zeros(4 * math.prod(work.shape) + 4, np.float32)
        f = np.float32
        to = partial(
            kernels.to_nodes, sand.a, work.start, nodes, work.shape, f(dt), f(self.domain.voxel_size),
            f(self.stiff), f(self.shear), f(self.sound),
        )  # fmt: skip
        transfer.by_slabs(to, work.shape[0])
        return nodes

    @staticmethod
    def _told(count: int) -> tuple[int, Array]:
        """How many grains a thread does at a time, and room for what it tells: a call costs as much as a thousand."""
        block = -(-max(1024, -(-count // (2 * threads()))) // kernels.MANY) * kernels.MANY
        return block, np.zeros((-(-count // block), 2), np.float32)

    def _looked_about(self, work: Work) -> None:
        """How tightly grains lie that have not moved yet, and where their surface looks."""
        if not work.count:
            return
        sand = Bundle(work.sand.a.copy(), work.count)
        nodes = self._to_nodes(work, sand, 0.0)
        nodes.reshape(-1, 4)[:, :3] = 0
        f, ends = np.float32, (np.zeros(3, np.float32), np.array(work.shape, np.float32))
        block, told = self._told(work.count)
        numbers = (f(x) for x in (0, 1, self.bulk, self.shear, self.sound, FULL, 1e9, 0))
        look = partial(kernels.from_nodes, sand.a, nodes, work.shape, *numbers, *ends, told, block)
        share_out(look, work.count, block=block)
        for which in (kernels.PACKING, kernels.OUTWARD):
            work.sand.put(which, sand.get(which))

    def _put_back(self, work: Work, flat: Array) -> None:
        """Velocities into the nodes, none faster than a step in time can follow."""
        most = np.float32(FASTEST * self.domain.voxel_size / work.dt)
        many: list[int] = []

        def put(first: int, last: int) -> None:
            many.append(int(kernels.put_back(flat, work.active, work.v, most, first, last)))

        share_out(put, work.active.size, block=BLOCK)
        if min(many, default=0) < 0:
            raise GustError(
                "a push is not a number", where=f"flows.{self.id}",
                fix="look at the lanes of the pushes; the frames before this are kept",
            )  # fmt: skip
        work.capped += sum(many)
