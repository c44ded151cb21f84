"""From particles: what a flow's particles are or do, spread on the voxels of a region."""

from typing import Literal

import numpy as np

from errant_gust.core.blocks import Cancel
from errant_gust.core.fields.gridded import Gridded
from errant_gust.core.fields.node import Node
from errant_gust.core.fields.samples import Array, Kind
from errant_gust.core.fields.units import Unit, parse_unit
from errant_gust.core.grids.grid import Grid
from errant_gust.core.grids.transfer import onto_nodes
from errant_gust.core.study.parameters import FlowId, param


class FromParticles(Gridded):
    """Particles of a flow spread on the voxels of a region: how many there are, or their mean velocity or age.

    Every particle counts in a Gauss bell of the given radius. The flow's preview is computed up to the wanted time.
    """

    id = "from_particles"
    label = "From particles"
    family = "start"
    yields = "what a particle flow carries, as a field"
    mistake = (
        "A radius under one voxel leaves holes between the particles; far too large a radius smears them. Two "
        "to three voxels suit most."
    )
    headline = "flow"
    formula = "count: Σ G(x − xᵢ);  mean: Σ G aᵢ / Σ G"

    flow: FlowId = param(help="A flow that has points", provides="points")
    what: Literal["count", "velocity", "age"] = param(
        "count", help="Particles a cubic metre, their mean velocity, or mean age"
    )
    radius: float = param(0.2, unit="m", above=0, slider=(0.02, 2), help="How far each particle counts")

    @property
    def changes_with_time(self) -> bool:
        return True

    def gives(self, incoming: Kind | None, lanes: dict[str, Kind]) -> Kind:
        return "vector" if self.what == "velocity" else "scalar"

    def unit_given(self, node: Node) -> Unit | None:
        return parse_unit({"velocity": "m/s", "age": "s", "count": "1/m³"}[self.what])

    def feature(self) -> float:
        return self.radius

    def make(self, node: Node, cancel: Cancel | None) -> Grid:
        box = node.scene.region(self.region)
        box.check(4, node.where)
        state = node.scene.data.points_at(node.scene, self.flow, node.where, cancel)
        own = box.to_own(np.ascontiguousarray(state.position.T))
        q = (own - np.array(box.lower, np.float32)[:, None]) / np.float32(box.voxel_size) - np.float32(0.5)
        weights = np.ones(state.count, np.float32)
        total = self._blurred(onto_nodes(q, weights, box.shape), box.voxel_size)
        if self.what == "count":
            return Grid(box, np.asarray(total / box.voxel_size**3, np.float32))
        channels = state.velocity.T if self.what == "velocity" else [state.channels["age"]]
        sums = [self._blurred(onto_nodes(q, c, box.shape), box.voxel_size) for c in channels]
        floor = 1e-3 * max(float(total.max(initial=0)), 1e-12)
        means = [np.asarray(s / np.maximum(total, floor), np.float32) for s in sums]
        return Grid(box, np.stack(means, axis=-1) if self.what == "velocity" else means[0])

    def _blurred(self, values: Array, h: float) -> Array:
        from scipy import ndimage

        return np.asarray(ndimage.gaussian_filter(values, 0.5 * self.radius / h, mode="constant"))
