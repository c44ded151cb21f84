"""Shapes that fields make: what they have in common."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.geometry.sdf import MeshDistance
from errant_gust.core.geometry.shapes import Geometry, ShapeKind

Array = NDArray[Any]


class MadeShape(ShapeKind):
    """A shape whose triangles are worked out from lanes, on the frame that is looked at, in the frame of the scene."""

    own_first = True

    def made(self, scene: Geometry) -> Made:
        """What was made of it for the frame of the scene."""
        assert scene.surface is not None
        return scene.surface(self, scene.frame)  # type: ignore[no-any-return]

    def local(self, points: Array, order: int, scene: Geometry) -> tuple[Array, Array | None, Array | None]:
        return self.made(scene).distance.sample(np.ascontiguousarray(points, np.float32), order)

    def rough(self, points: Array, scene: Geometry) -> Array:
        return self.made(scene).distance.rough(np.ascontiguousarray(points, np.float32))

    def half_extents(self, scene: Geometry) -> tuple[Array, Array]:
        mesh = self.made(scene).distance.mesh
        return 0.5 * (mesh.lower + mesh.upper), 0.5 * (mesh.upper - mesh.lower)

    def triangles(self, scene: Geometry) -> tuple[Array, Array]:
        made = self.made(scene)
        return made.distance.mesh.vertices, made.drawn


class Made:
    """What was made: its distance (worked out when it is first asked for), the triangles (m, 3) that are drawn, what is
    worth knowing in a sentence, and flaws: numbers by name that checks ask for."""

    def __init__(self, distance: MeshDistance, drawn: Array, about: str, flaws: dict[str, float]) -> None:
        self.distance, self.drawn, self.about, self.flaws = distance, drawn, about, flaws

    @property
    def nbytes(self) -> int:
        """Memory that it takes, about."""
        return 8 * int(np.prod(self.distance.shape)) + 200 * len(self.distance.mesh.faces)
