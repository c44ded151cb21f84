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
GOES = "Goes"
"""The camera that goes through viewpoints."""
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
    setting: Setting = METRES, goes: Sequence[tuple[int, Camera]] = (),
) -> None:  # fmt: skip
    """/World with every part (a prim's name and the stage whose root it shows) and /World/Cameras: those that stand
    still, and one that `goes`, by time codes."""
    from pxr import Tf

    with begun(path, setting, fps, *numbers) as stage:
        stage.SetDefaultPrim(stage.DefinePrim("/World", "Xform"))
        for name, other in parts.items():
            prim = stage.DefinePrim(f"/World/{Tf.MakeValidIdentifier(name)}", "Xform")
            prim.GetReferences().AddReference(f"./{other.relative_to(path.parent).as_posix()}")
        if cameras or goes:
            stage.DefinePrim("/World/Cameras", "Scope")
        taken: set[str] = set()
        for camera in cameras:
            name = base = Tf.MakeValidIdentifier(camera.name or "View")
            n = 2
            while name in taken:
                name, n = f"{base}_{n}", n + 1
            taken.add(name)
            _camera(stage, f"/World/Cameras/{name}", [(None, camera)], setting)
        if goes:
            name = next(n for n in (GOES, *(f"{GOES}_{k}" for k in range(2, 999))) if n not in taken)
            _camera(stage, f"/World/Cameras/{name}", goes, setting)


def _camera(stage: Any, place: str, path: Sequence[tuple[int | None, Camera]], setting: Setting) -> None:
    """One camera, as it is at each time code, or for good."""
    from pxr import Gf, Usd, UsdGeom

    half = math.tan(math.radians(ANGLE / 2))
    made = UsdGeom.Camera.Define(stage, place)
    turn = made.AddTransformOp()
    made.CreateFocalLengthAttr(APERTURE / 2 / half)
    before: Camera | None = None
    for code, camera in path:
        at = Usd.TimeCode.Default() if code is None else Usd.TimeCode(code)
        seen, distance = _seen(camera, setting)
        turn.Set(seen, at)
        made.CreateFocusDistanceAttr().Set(distance, at)
        if before is None or before.parallel != camera.parallel or camera.parallel:
            height = 20 * distance * half if camera.parallel else APERTURE  # in tenths of a unit
            made.CreateProjectionAttr().Set("orthographic" if camera.parallel else "perspective", at)
            made.CreateVerticalApertureAttr().Set(height, at)
            made.CreateHorizontalApertureAttr().Set(height * ASPECT, at)
        made.CreateClippingRangeAttr().Set(Gf.Vec2f(0.001 * distance, 1000 * distance), at)
        before = camera


def _seen(camera: Camera, setting: Setting) -> tuple[Any, float]:
    """The camera's place and turn as a matrix, and how far away its target is."""
    from pxr import Gf

    eye, target = np.array(camera.position), np.array(camera.target)
    distance = float(np.linalg.norm(eye - target)) or 1.0
    up = Gf.Vec3d(0, 1, 0) if setting.up == "Y" else Gf.Vec3d(0, 0, 1)
    toward = (target - eye) / distance
    if abs(float(np.dot(toward, list(up)))) > 1 - 1e-9:  # straight down or up: the view has x to its right
        up = Gf.Vec3d(0, 0, -1) if setting.up == "Y" else Gf.Vec3d(0, 1, 0)
    seen = Gf.Matrix4d().SetLookAt(Gf.Vec3d(*map(float, eye)), Gf.Vec3d(*map(float, target)), up)
    return seen.GetInverse(), distance
