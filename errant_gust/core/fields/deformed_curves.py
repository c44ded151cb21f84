"""Curves that lanes move, made once for what they depend on."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from errant_gust.core.errors import BudgetError, StudyError
from errant_gust.core.fields.deformed import deformed_moves, first_scene, moved_surface
from errant_gust.core.fields.gridded import KEPT
from errant_gust.core.geometry.curve_shape import Tube
from errant_gust.core.geometry.curves import MAX_POINTS, CurveSet
from errant_gust.core.geometry.deformed_curve import DeformedCurve, MadeCurve
from errant_gust.core.study.document import content_hash

if TYPE_CHECKING:
    from errant_gust.core.fields.scene import Scene


def deformed_curve_of(scene: Scene, kind: DeformedCurve, where: str, content: str) -> Any:
    """The deformed curve at the scene's time. `content` stands for all it depends on but the time.

    Raises a StudyError if it is made of no curve or its lanes do not fit, a BudgetError if it has too many points.
    """

    def make() -> MadeCurve:
        shape = first_scene(scene, kind).shape(kind.curve)
        if not isinstance(shape.kind, Tube):
            raise StudyError(
                f"'{kind.curve}' is a {shape.kind.label.lower()}, not a curve", where=f"{where}.curve",
                fix="choose a curve, or Deformed for a surface",
            )  # fmt: skip
        source = shape.kind.curves(shape.geometry)
        counts = [max(4, int(np.ceil(float(n) / kind.spacing)) + 1) for n in source.length]
        if sum(counts) > MAX_POINTS:
            least = float(source.length.sum()) / MAX_POINTS
            raise BudgetError(
                f"a point every {kind.spacing:g} m are {sum(counts):,}", where=f"{where}.spacing",
                fix=f"at least {least:.2g} m",
            )  # fmt: skip
        points = np.concatenate([source.along(n, count)[0] for n, count in enumerate(counts)])
        begun = shape.to_scene(points)
        moved, _ = moved_surface(scene, kind, where, content, (begun, np.zeros((0, 3), np.int32)))
        cuts = np.cumsum(counts)[:-1]
        curves = CurveSet(
            np.split(moved.astype(np.float64), cuts), smooth=source.smooth, closed=source.closed, where=where
        )
        many = f"{len(counts):,} curves, " if len(counts) > 1 else ""
        return MadeCurve(curves, f"{many}{len(moved):,} points, {float(curves.length.sum()):.3g} m")

    time = scene.time if deformed_moves(scene, kind) else 0.0
    return KEPT.get(content_hash("deformed curve", content, time), make, lambda made: made.nbytes)
