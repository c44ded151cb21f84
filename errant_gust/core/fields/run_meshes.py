"""Surfaces of runs, as shapes, made once for the frame that they are of."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from errant_gust.core.errors import BudgetError, StudyError
from errant_gust.core.fields.gridded import KEPT, working
from errant_gust.core.geometry.deformed import DeformedDistance
from errant_gust.core.geometry.made import Made
from errant_gust.core.geometry.mesh import Mesh
from errant_gust.core.geometry.run_mesh import RunMesh
from errant_gust.core.study.document import content_hash

if TYPE_CHECKING:
    from errant_gust.core.fields.scene import Scene

MOST_TRIANGLES = 2_000_000
CELLS = 40, 140
"""Of the grid that the distance is on, along its longest side with what is around: at least, at most."""
AROUND = 1.9
"""Sides of the grid's box, as a multiple of the longest side of the mesh."""


def run_mesh_moves(scene: Scene, kind: RunMesh) -> bool:
    """Whether it changes with time: a run always does."""
    return True


def run_mesh_of(scene: Scene, kind: RunMesh, where: str, content: str) -> Made:
    """The surface on the frame at or before the scene's time. `content` stands for all it depends on but the time.

    Raises a StudyError if the flow has no surface, or none on that frame, a BudgetError if it has too many triangles.
    """
    import trimesh

    clock = scene.study.clock
    at = clock.start + scene.time * clock.fps * clock.slow_motion
    frame = min(max(int(np.floor(at + 1e-6)), clock.start), clock.end)

    def make() -> Made:
        with working(where):
            vertices, faces = scene.data.mesh_at(scene, kind.flow, kind.quality, frame, f"{where}.flow")
        if not len(faces):
            raise StudyError(
                f"'{kind.flow}' has no surface on frame {frame}", where=f"{where}.flow",
                fix="use it from a frame on that has one, or begin the flow with more",
            )  # fmt: skip
        if len(faces) > MOST_TRIANGLES:
            raise BudgetError(
                f"the surface has {len(faces):,} triangles, {MOST_TRIANGLES:,} are allowed", where=f"{where}.flow",
                fix="larger voxels in its lane, or its preview",
            )  # fmt: skip
        tight = bool(trimesh.Trimesh(vertices, faces, process=False).is_watertight)
        mesh = Mesh(vertices, faces, watertight=tight)
        corners = vertices[faces[:: max(1, len(faces) // 5000)]]
        edge = float(np.median(np.linalg.norm(corners[:, 1] - corners[:, 0], axis=1)))
        longest = float((mesh.upper - mesh.lower).max())
        cells = int(np.clip(AROUND * longest / max(1.5 * edge, 1e-9), *CELLS))
        said = "" if tight else ", not closed"
        return Made(DeformedDistance(mesh, cells), mesh.faces, f"{len(faces):,} triangles on frame {frame}{said}", {})

    return KEPT.get(content_hash("run mesh", content, frame), make, lambda made: made.nbytes)  # type: ignore[no-any-return]
