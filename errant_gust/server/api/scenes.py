"""Scenes of others, into a study: meshes that move, curves, cameras."""

import base64
from typing import Any, Literal

from django.http import HttpRequest
from ninja import File, Router, Schema
from ninja.files import UploadedFile

from errant_gust.core.geometry.scene_files import missing_of
from errant_gust.core.looking.upright import png, upright
from errant_gust.server import study_files

router = Router()


class ShapeIn(Schema):
    name: str
    kind: str
    params: dict[str, Any]


class SceneOut(Schema):
    """`asks`: what the file does not say (up, unit); nothing was kept then, and `pictures` show it with Z and Y up."""

    asks: list[str] = []
    pictures: dict[str, str] = {}
    size: float = 0.0
    files: list[str] = []
    shapes: list[ShapeIn] = []
    views: list[dict[str, Any]] = []
    notes: list[str] = []
    frames: list[int] = []


@router.post("/studies/{key}/scenes", response=SceneOut)
def add_scene(
    request: HttpRequest, key: str, file: File[list[UploadedFile]], up: Literal["", "Z", "Y"] = "",
    unit: Literal["", "m", "dm", "cm", "mm", "in", "ft"] = "",
) -> Any:  # fmt: skip
    """Keep what a USD, glTF or mesh file holds, or mesh files of a frame each; shapes and viewpoints to be put into the
    study by the page."""
    kept, scene = study_files.add_scene(key, [(f.name or "", f.chunks()) for f in file], up, unit)
    frames = [scene.frames[0], scene.frames[-1]] if scene.frames else []
    if kept is not None:
        return {"files": kept.files, "shapes": kept.shapes, "views": kept.views, "notes": kept.notes, "frames": frames}
    pictures, size = {}, 0.0
    if scene.frames:
        points, faces = scene.mesh(0)
        size = float((points.max(axis=0) - points.min(axis=0)).max())
        pictures = {u: base64.b64encode(png(upright(points, faces, u))).decode() for u in ("Z", "Y")}
    asks = missing_of(scene, up, 0.0 if not unit else 1.0)
    return {"asks": asks, "pictures": pictures, "size": size, "notes": list(scene.notes), "frames": frames}
