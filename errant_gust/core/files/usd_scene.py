"""One stage of it all: what other stages hold, volumes that lie in OpenVDB files, and cameras."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from errant_gust.core.files.usd import METRES, Setting, begun

ANGLE = 38.0
"""Degrees from the lower edge of a picture to the upper, as in the view."""
ASPECT = 1.6
"""Width of a picture to its height."""
APERTURE = 20.0
"""Height of a film in tenths of a unit, as USD has it; with the focal length it gives the angle."""


@dataclass(frozen=True)
class VolumeFrame:
    """A file of grids: the time code at which it is shown, and the box that it fills, in the stage's units."""

    file: Path
    number: int
    box: tuple[tuple[float, float, float], tuple[float, float, float]]


@dataclass(frozen=True)
class Camera:
    """Where somebody looks from, and to, in the stage's units and axes; `parallel`: without perspective."""

    name: str
    position: tuple[float, float, float]
    target: tuple[float, float, float]
    parallel: bool = False


def write_volumes(
    path: Path, name: str, frames: Sequence[VolumeFrame], grids: dict[str, int], fps: float, half: bool,
    setting: Setting = METRES,
) -> None:  # fmt: skip
    """/name/Volume, whose fields are `grids` (their names with 1 or 3 channels) in OpenVDB files beside the stage."""
    from pxr import Gf, Sdf, Tf, UsdVol, Vt

    with begun(path, setting, fps, frames[0].number, frames[-1].number) as stage:
        stage.SetDefaultPrim(stage.DefinePrim(f"/{name}", "Xform"))
        volume = UsdVol.Volume.Define(stage, f"/{name}/Volume")
        extent = volume.CreateExtentAttr()
        for frame in frames:
            extent.Set(Vt.Vec3fArray([Gf.Vec3f(*end) for end in frame.box]), frame.number)
        for grid, channels in grids.items():
            field = UsdVol.OpenVDBAsset.Define(stage, f"/{name}/Volume/{Tf.MakeValidIdentifier(grid)}")
            field.CreateFieldNameAttr(grid)
            field.CreateFieldDataTypeAttr(("half" if half else "float") + ("3" if channels == 3 else ""))
            if channels == 3:
                field.CreateVectorDataRoleHintAttr("Vector")
            at = field.CreateFilePathAttr()
            for frame in frames:
                beside = Path(frame.file).relative_to(path.parent)
                at.Set(Sdf.AssetPath(f"./{beside.as_posix()}"), frame.number)
            volume.CreateFieldRelationship(grid, field.GetPath())


def write_scene(
    path: Path, parts: dict[str, Path], cameras: Sequence[Camera], numbers: tuple[int, int], fps: float,
    setting: Setting = METRES,
) -> None:  # fmt: skip
    """/World with every part (a prim's name and the stage whose root it shows) and /World/Cameras."""
    from pxr import Tf

    with begun(path, setting, fps, *numbers) as stage:
        stage.SetDefaultPrim(stage.DefinePrim("/World", "Xform"))
        for name, other in parts.items():
            prim = stage.DefinePrim(f"/World/{Tf.MakeValidIdentifier(name)}", "Xform")
            prim.GetReferences().AddReference(f"./{other.relative_to(path.parent).as_posix()}")
        if cameras:
            stage.DefinePrim("/World/Cameras", "Scope")
        taken: set[str] = set()
        for camera in cameras:
            name = base = Tf.MakeValidIdentifier(camera.name or "View")
            n = 2
            while name in taken:
                name, n = f"{base}_{n}", n + 1
            taken.add(name)
            _camera(stage, f"/World/Cameras/{name}", camera, setting)


def _camera(stage: Any, place: str, camera: Camera, setting: Setting) -> None:
    from pxr import Gf, UsdGeom

    made = UsdGeom.Camera.Define(stage, place)
    eye, target = np.array(camera.position), np.array(camera.target)
    distance = float(np.linalg.norm(eye - target)) or 1.0
    up = Gf.Vec3d(0, 1, 0) if setting.up == "Y" else Gf.Vec3d(0, 0, 1)
    toward = (target - eye) / distance
    if abs(float(np.dot(toward, list(up)))) > 1 - 1e-9:  # straight down or up: the view has x to its right
        up = Gf.Vec3d(0, 0, -1) if setting.up == "Y" else Gf.Vec3d(0, 1, 0)
    seen = Gf.Matrix4d().SetLookAt(Gf.Vec3d(*map(float, eye)), Gf.Vec3d(*map(float, target)), up)
    made.AddTransformOp().Set(seen.GetInverse())
    half = math.tan(math.radians(ANGLE / 2))
    height = 20 * distance * half if camera.parallel else APERTURE  # in tenths of a unit
    made.CreateProjectionAttr("orthographic" if camera.parallel else "perspective")
    made.CreateVerticalApertureAttr(height)
    made.CreateHorizontalApertureAttr(height * ASPECT)
    made.CreateFocalLengthAttr(APERTURE / 2 / half)
    made.CreateFocusDistanceAttr(distance)
    made.CreateClippingRangeAttr(Gf.Vec2f(0.001 * distance, 1000 * distance))
