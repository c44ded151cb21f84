"""Keep what a scene file holds beside a study: a PLY a frame, curves as OBJ lines, in metres with z up."""

import re
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from errant_gust.core.errors import StudyError
from errant_gust.core.files.meshes import write_mesh
from errant_gust.core.files.writing import written_whole
from errant_gust.core.geometry.curve_shape import CurveShape
from errant_gust.core.geometry.scene_files import SceneFile, meshes_of, missing_of, turned, views_of
from errant_gust.core.geometry.shapes import ImportedMesh
from errant_gust.core.study.document import fresh_id, fresh_name

FIXES = {"up": "say Z or Y", "unit": "say m, cm, mm, in or ft"}


@dataclass
class Kept:
    """Files that were written, and what is to be put into the study: shapes without ids (name, kind, params) and
    viewpoints; `notes`: what a user should know."""

    files: list[str] = field(default_factory=list)
    shapes: list[dict[str, Any]] = field(default_factory=list)
    views: list[dict[str, Any]] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


def keep_scene(scene: SceneFile, folder: Path, *, up: str = "", metres: float = 0.0) -> Kept:
    """Write the meshes and curves of a scene into a folder, under names that nothing there has.

    `up` and `metres` go before what the file says of itself. Raises a StudyError if neither says one of them; nothing
    is written then, or when writing fails.
    """
    missing = missing_of(scene, up, metres)
    if missing:
        words = {"up": "which axis is up", "unit": "in which unit lengths are"}
        raise StudyError(
            f"does not say {' and '.join(words[m] for m in missing)}", where=scene.name,
            fix="; ".join(FIXES[m] for m in missing),
        )  # fmt: skip
    up, metres = up or scene.up, metres or scene.metres
    folder.mkdir(parents=True, exist_ok=True)
    stem = _free(folder, re.sub(r"[^A-Za-z0-9_-]+", "_", Path(scene.name).stem)[:48].rstrip("0123456789_") or "scene")
    title = stem.replace("_", " ").replace("-", " ").strip()
    title = title[:1].upper() + title[1:]
    kept = Kept(views=views_of(scene, up, metres), notes=list(scene.notes))
    try:
        for frame, vertices, faces in meshes_of(scene, up, metres):
            kept.files.append(f"{stem}.{frame:04d}.ply" if scene.moves else f"{stem}.ply")
            write_mesh(folder / kept.files[-1], vertices, faces, {})
        if kept.files:
            params = {"file": kept.files[0], **({"sequence": True} if scene.moves else {})}
            kept.shapes.append({"name": title, "kind": ImportedMesh.id, "params": params})
        if scene.curves:
            kept.files.append(f"{stem}_curves.obj")
            with written_whole(folder / kept.files[-1]) as file:
                file.write(_lines([turned(c, up) * metres for c in scene.curves]))
            params = {"file": kept.files[-1], "form": "straight"}
            kept.shapes.append({"name": f"{title} curves", "kind": CurveShape.id, "params": params})
    except BaseException:
        for name in kept.files:
            (folder / name).unlink(missing_ok=True)
        raise
    return kept


def _free(folder: Path, stem: str) -> str:
    taken = [p.name for p in folder.iterdir()]
    made, n = stem, 2
    while any(t.startswith((f"{made}.", f"{made}_curves.")) for t in taken):
        made, n = f"{stem}_v{n}", n + 1
    return made


def _lines(curves: list[Any]) -> bytes:
    """OBJ lines."""
    rows, start = [], 1
    for curve in curves:
        rows += [f"v {x:.6g} {y:.6g} {z:.6g}" for x, y, z in np.asarray(curve, np.float64)]
        rows.append("l " + " ".join(map(str, range(start, start + len(curve)))))
        start += len(curve)
    return ("\n".join(rows) + "\n").encode()


def put_in(study: dict[str, Any], kept: Kept) -> list[str]:
    """Put the shapes and viewpoints into a study's document; the ids of the shapes."""
    ids = []
    for shape in kept.shapes:
        id = fresh_id(shape["name"], {s["id"] for s in study.setdefault("shapes", [])})
        study["shapes"].append({"id": id, **shape})
        ids.append(id)
    if kept.views:
        looks = study.setdefault("looks", {})
        views = looks["views"] = list(looks.get("views", []))
        for view in kept.views:
            views.append({**view, "name": fresh_name(view["name"], [v["name"] for v in views])})
    return ids
