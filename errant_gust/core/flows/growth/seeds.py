"""Seed shape: what the growth begins with."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import numpy as np

from errant_gust.core.errors import StudyError
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Scene
from errant_gust.core.flows.boxed import lies_outside
from errant_gust.core.flows.growth.steps import GrowthStep
from errant_gust.core.flows.kind import offering
from errant_gust.core.flows.step import Emits
from errant_gust.core.grids.region import GridRegion
from errant_gust.core.study.parameters import FlowId, ShapeId, param

Distance = Callable[[Array], Array]
"""Metres (n,) from a surface at places (3, n) of the scene, below zero inside."""


class Seed(GrowthStep, Emits):
    """What is grown from the beginning, or from a time on: a shape, or balls around the points of a flow.

    With *Stays* it belongs to the volume all the time, and a shape that moves leaves what it sweeps.
    """

    id = "seed"
    label = "Seed shape"
    family = "source"
    yields = "what it grows from"
    mistake = "A seed thinner than two voxels is not seen by them: make it larger, or the voxels smaller."
    headline = "shape"

    where: Literal["shape", "points"] = param(
        "shape", label="From", help="A shape, or balls around the points of a flow"
    )
    shape: ShapeId = param("", help="Grown from the beginning", when={"where": ["shape"]})
    larger: float = param(
        0.0, unit="m", slider=(-0.2, 0.2), label="Larger by", help="Its surface is moved outward so far",
        when={"where": ["shape"]},
    )  # fmt: skip
    flow: FlowId = param(
        "", label="Points of", help="A lane that has points", when={"where": ["points"]}, provides="points"
    )
    radius: float = param(
        0.05, unit="m", above=0, slider=(0.01, 1), help="Of the ball around each", when={"where": ["points"]}
    )
    begin: float = param(0.0, unit="s", moment=True, range=(-1e5, 1e5), slider=(0, 10), help="When it is there")
    stays: bool = param(False, help="It is part of the volume from then on, wherever it moves")

    def check(self, scene: Scene, where: str) -> None:
        super().check(scene, where)
        if self.where == "points":
            if not self.flow:
                raise StudyError("no points are chosen", where=f"{where}.flow", fix="choose a lane that has points")
            offering(scene.study, self.flow, "points", f"{where}.flow")
            return
        if not self.shape:
            raise StudyError("no shape is chosen", where=f"{where}.shape", fix="choose what it grows from")
        if not scene.shape(self.shape).kind.bounded:
            raise StudyError("fills a half space", where=f"shapes.{self.shape}", fix="use a box")

    def missed(self, domain: GridRegion, scene: Scene) -> bool:
        return self.where == "shape" and lies_outside(domain, scene, self.shape)

    def comes(self, start: float, end: float, first: bool) -> bool:
        """Whether it is added at the end of a frame from start to end."""
        return self.begin <= end and (first or self.stays or self.begin > start)

    def placed(
        self, domain: GridRegion, scene: Scene, points_of: Callable[[str, float], tuple[Array, Array]]
    ) -> tuple[Array, Array, Distance] | None:
        """The box of it along the domain's axes (m) and its distance; None where there is nothing. Corners (3,),
        (3,)."""
        from scipy.spatial import cKDTree

        if self.where == "points":
            places = np.ascontiguousarray(points_of(self.flow, scene.time)[0].T)
            if not len(places):
                return None
            tree, radius = cKDTree(places), self.radius
            own = domain.to_own(np.ascontiguousarray(places.T))

            def around(points: Array) -> Array:
                return np.asarray(tree.query(points.T, workers=-1)[0] - radius, np.float32)

            return own.min(axis=1) - radius, own.max(axis=1) + radius, around
        shape = scene.shape(self.shape)
        middle, half, turned = shape.frame
        axes = domain.axes.T
        middle, reach = axes @ middle, np.abs(axes @ turned) @ half + max(self.larger, 0.0)

        def inside(points: Array) -> Array:
            return np.asarray(shape.distance(points)[0] - np.float32(self.larger))

        return middle - reach, middle + reach, inside
