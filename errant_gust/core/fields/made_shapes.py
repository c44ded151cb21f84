"""How shapes that fields make are made, by their kind."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from errant_gust.core.fields.deformed import deformed_moves, deformed_of
from errant_gust.core.fields.deformed_curves import deformed_curve_of
from errant_gust.core.fields.run_meshes import run_mesh_moves, run_mesh_of
from errant_gust.core.fields.surfaced import surface_moves, surface_of
from errant_gust.core.geometry.deformed import DeformedShape
from errant_gust.core.geometry.deformed_curve import DeformedCurve
from errant_gust.core.geometry.field_surface import FieldSurface
from errant_gust.core.geometry.made import Made, MadeShape
from errant_gust.core.geometry.placed import PlacedShape
from errant_gust.core.geometry.run_mesh import RunMesh

if TYPE_CHECKING:
    from errant_gust.core.fields.scene import Scene

MAKERS: dict[type[MadeShape], tuple[Callable[..., Made], Callable[..., bool]]] = {
    FieldSurface: (surface_of, surface_moves),
    DeformedShape: (deformed_of, deformed_moves),
    DeformedCurve: (deformed_curve_of, deformed_moves),
    RunMesh: (run_mesh_of, run_mesh_moves),
}


def made_of(scene: Scene, kind: MadeShape, where: str, content: str) -> Made:
    """What a shape is made into at the scene's time; `content` stands for all it depends on but the time."""
    return MAKERS[type(kind)][0](scene, kind, where, content)


def moves(scene: Scene, kind: Any) -> bool:
    """Whether it changes from frame to frame."""
    return MAKERS[type(kind)][1](scene, kind)


def made_shape(shape: PlacedShape) -> Made | None:
    """What lanes made of a shape, if they did."""
    return shape.kind.made(shape.geometry) if isinstance(shape.kind, MadeShape) else None
