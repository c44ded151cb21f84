"""Checks on a frame of a run."""

import numpy as np

from errant_gust.core.checks.finding import Finding
from errant_gust.core.fields.look import domain
from errant_gust.core.fields.samples import Array
from errant_gust.core.fields.scene import Plan, Scene


def findings_on_frame(plan: Plan, flow: str, time: float, positions: Array) -> list[Finding]:
    """Findings on a frame of particles (n, 3): how many are inside shapes that are steered around, how many left."""
    scene, found = plan.at(time), []
    if not len(positions):
        why = "none is born yet, or all are dead"
        return [Finding("note", "no_particles", f"flows.{flow}", "no particle lives on this frame", why)]
    points = np.ascontiguousarray(positions.T, np.float32)
    for id in sorted(_obstacles(scene, flow)):
        inside = inside_shape(scene, id, points)
        if inside:
            found.append(
                Finding(
                    "warning", "inside_shape", f"shapes.{id}",
                    f"{inside:,} of {len(positions):,} particles are inside",
                    "more substeps, a longer reach, or an emitter that does not touch it",
                )
            )  # fmt: skip
    low, high = domain(scene)
    outside = int(((positions < low) | (positions > high)).any(axis=1).sum())
    if plan.study.regions and outside > 0.02 * len(positions):
        found.append(
            Finding(
                "note", "outside", f"flows.{flow}",
                f"{outside:,} of {len(positions):,} particles have left the regions", 
                "a shorter life keeps them closer",
            )
        )  # fmt: skip
    return found


def inside_shape(scene: Scene, id: str, points: Array) -> int:
    """How many points (3, n) are inside a shape; for meshes by the winding number of the mesh itself."""
    shape = scene.shape(id)
    d = shape.distance(points, 0)[0]
    near = d < 0
    if shape.kind.id != "mesh":
        return int(near.sum())
    from errant_gust.core.geometry.library import mesh_of

    file = shape.geometry.named(shape.kind.file, shape.kind.sequence)  # type: ignore[attr-defined]
    mesh = mesh_of(scene.assets.path(file, f"shapes.{id}"))
    local = shape.kind._turned(shape.to_local(points[:, near])) / shape.kind.scale  # type: ignore[attr-defined]
    return int(mesh.contains(local.T).sum()) if near.any() else 0


def _obstacles(scene: Scene, flow: str) -> set[str]:
    """Shapes that any lane under the flow's carry steps steers around."""
    steps = scene.study.find("flows", flow, "").steps
    carried = [str(step.params.get("field")) for step in steps if step.on and step.op == "carry"]
    return set().union(*(scene.lane(id).obstacles for id in carried))
