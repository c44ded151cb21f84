"""Particles and lines as USD: one binary file a frame, and a small stage that plays them as value clips.

No file grows with the number of frames, so that runs of any length fit into memory.
"""

import errno
import os
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from errant_gust.core.errors import FileError
from errant_gust.core.files.room import FULL, NoRoom
from errant_gust.core.files.writing import aside_of

Array = NDArray[Any]
WIDTH = 0.01
"""Width in metres where nothing else says."""


@dataclass(frozen=True)
class Setting:
    """What a stage says of itself: its up axis, and metres in a unit of length; and how much slower it plays than what
    happens: velocities are a second of the film that it is, as readers take them."""

    up: Literal["Z", "Y"] = "Z"
    metres: float = 1.0
    slow: float = 1.0

    @property
    def width(self) -> float:
        """Of lines and points, in the file's unit of length."""
        return WIDTH / self.metres

    def speeds(self, velocity: Array) -> Array:
        """Velocities (n, 3) a second of what happens as those a second of film."""
        return velocity if self.slow == 1 else velocity * np.float32(1 / self.slow)


METRES = Setting()


def write_frame(
    path: Path, frame: int, name: str, points: dict[str, Array] | None, lines: Any = None, instanced: Any = None,
    mesh: Any = None, setting: Setting = METRES,
) -> None:  # fmt: skip
    """/name/Particles (position, velocity, id, other channels as primvars), /name/Lines, /name/Instances (a point
    instancer with its prototypes) and /name/Mesh (with velocities and primvars) at one time code. `points`: channels
    (n,) or (n, 3), lengths in m as `setting` says. Raises FileError where it cannot be written, NoRoom on a
    full disk."""
    from pxr import Gf, Sdf, Usd, UsdGeom, Vt

    part = aside_of(path, ".usdc")
    with _in_words(path, part):
        stage = Usd.Stage.CreateNew(str(part))
        _set(stage, UsdGeom, setting)
        root = UsdGeom.Xform.Define(stage, f"/{name}")
        stage.SetDefaultPrim(root.GetPrim())
        stage.SetStartTimeCode(frame)
        stage.SetEndTimeCode(frame)
        at = Usd.TimeCode(frame)
        if points is not None:
            cloud = UsdGeom.Points.Define(stage, f"/{name}/Particles")
            position = points["position"]
            cloud.CreatePointsAttr().Set(_vec3(position), at)
            cloud.CreateWidthsAttr().Set(_floats(np.full(len(position), setting.width)), at)
            cloud.SetWidthsInterpolation("vertex")
            if "velocity" in points:
                cloud.CreateVelocitiesAttr().Set(_vec3(setting.speeds(points["velocity"])), at)
            if "id" in points:
                cloud.CreateIdsAttr().Set(Vt.Int64Array.FromNumpy(points["id"].astype(np.int64)), at)
            cloud.CreateExtentAttr().Set(_extent(position, Gf), at)
            _primvars(cloud, points, at, Sdf, UsdGeom)
        if lines is not None:
            curves = UsdGeom.BasisCurves.Define(stage, f"/{name}/Lines")
            curves.CreateTypeAttr("linear")
            curves.CreatePointsAttr().Set(_vec3(lines.points), at)
            curves.CreateCurveVertexCountsAttr().Set(_ints(lines.counts), at)
            curves.CreateWidthsAttr().Set(_floats(np.full(len(lines.points), setting.width)), at)
            curves.SetWidthsInterpolation("vertex")
            curves.CreateExtentAttr().Set(_extent(lines.points, Gf), at)
            _primvars(curves, lines.channels, at, Sdf, UsdGeom)
        if mesh is not None:
            _mesh(stage, f"/{name}/Mesh", mesh, at, setting)
        if instanced is not None:
            _instancer(stage, f"/{name}/Instances", instanced, at)
        stage.GetRootLayer().Save()
        del stage
        part.replace(path)


@contextmanager
def _in_words(path: Path, part: Path | None = None) -> Iterator[None]:
    """What USD's library and the system refuse within, as NoRoom or FileError; the part file is taken away."""
    from pxr import Tf

    try:
        yield
    except OSError as error:
        raise (NoRoom if error.errno in FULL else FileError)(
            f"cannot be written ({error.strerror or error})", where=str(path)
        ) from None
    except Tf.ErrorException as error:
        words = str(error)
        full = os.strerror(errno.ENOSPC) in words or os.strerror(errno.EDQUOT) in words
        said = os.strerror(errno.ENOSPC) if full else words.strip().splitlines()[-1].strip()[-120:]
        raise (NoRoom if full else FileError)(f"cannot be written ({said})", where=str(path)) from None
    finally:
        if part is not None:
            part.unlink(missing_ok=True)


def _mesh(stage: Any, place: str, made: Any, at: Any, setting: Setting) -> None:
    from pxr import Gf, Sdf, UsdGeom

    mesh = UsdGeom.Mesh.Define(stage, place)
    mesh.CreateSubdivisionSchemeAttr("none")
    mesh.CreatePointsAttr().Set(_vec3(made.vertices), at)
    mesh.CreateFaceVertexCountsAttr().Set(_ints(np.full(len(made.faces), 3)), at)
    mesh.CreateFaceVertexIndicesAttr().Set(_ints(made.faces.reshape(-1)), at)
    if made.normals is not None:
        mesh.CreateNormalsAttr().Set(_vec3(made.normals), at)
        mesh.SetNormalsInterpolation("vertex")
    if "velocity" in made.channels:
        mesh.CreateVelocitiesAttr().Set(_vec3(setting.speeds(made.channels["velocity"])), at)
    mesh.CreateExtentAttr().Set(_extent(made.vertices, Gf), at)
    _primvars(mesh, made.channels, at, Sdf, UsdGeom)


def _instancer(stage: Any, place: str, made: Any, at: Any) -> None:
    from pxr import Gf, Sdf, UsdGeom, Vt

    instancer = UsdGeom.PointInstancer.Define(stage, place)
    UsdGeom.Scope.Define(stage, f"{place}/Prototypes")
    targets = []
    for i, prototype in enumerate(made.prototypes):
        mesh = UsdGeom.Mesh.Define(stage, f"{place}/Prototypes/{prototype.name}_{i}")
        mesh.CreatePointsAttr(_vec3(prototype.vertices))
        mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(len(prototype.faces), 3, np.int32)))
        mesh.CreateFaceVertexIndicesAttr(
            Vt.IntArray.FromNumpy(np.ascontiguousarray(prototype.faces.reshape(-1), np.int32))
        )
        mesh.CreateSubdivisionSchemeAttr("none")
        mesh.CreateExtentAttr(_extent(prototype.vertices, Gf))
        targets.append(mesh.GetPath())
    instancer.CreatePrototypesRel().SetTargets(targets)
    instancer.CreatePositionsAttr().Set(_vec3(made.points), at)
    instancer.CreateProtoIndicesAttr().Set(Vt.IntArray.FromNumpy(np.ascontiguousarray(made.which, np.int32)), at)
    xyzw = np.ascontiguousarray(np.roll(made.turns, -1, axis=1), np.float16)  # as USD keeps them in memory
    instancer.CreateOrientationsAttr().Set(Vt.QuathArray.FromBuffer(xyzw), at)
    instancer.CreateScalesAttr().Set(_vec3(np.repeat(made.sizes[:, None], 3, axis=1)), at)
    if "id" in made.channels:
        instancer.CreateIdsAttr().Set(Vt.Int64Array.FromNumpy(made.channels["id"].astype(np.int64)), at)
    _primvars(instancer, {k: v for k, v in made.channels.items() if k not in ("id", "row")}, at, Sdf, UsdGeom)


def write_stage(
    path: Path, name: str, frames: list[int], files: list[Path], fps: float, setting: Setting = METRES
) -> list[Path]:
    """The stage that plays the frames: value clips over the files beside it. Returns the files that it consists of.
    Raises FileError, NoRoom."""
    from pxr import Sdf, Usd, UsdUtils

    topology_path = path.with_name(f"{path.stem}.topology.usda")
    manifest_path = path.with_name(f"{path.stem}.manifest.usda")
    layers = [Sdf.Layer.FindOrOpen(str(f)) for f in files]
    with _in_words(path):
        topology = Sdf.Layer.CreateNew(str(topology_path))
        UsdUtils.StitchClipsTopology(topology, [str(f) for f in files])
        topology.Save()
        manifest = Usd.ClipsAPI.GenerateClipManifestFromLayers(layers, Sdf.Path(f"/{name}"))
        manifest.Export(str(manifest_path))
    with begun(path, setting, fps, frames[0], frames[-1]) as stage:
        stage.GetRootLayer().subLayerPaths = [f"./{topology_path.name}"]
        prim = stage.OverridePrim(f"/{name}")
        stage.SetDefaultPrim(prim)
        clips = Usd.ClipsAPI(prim)
        clips.SetClipPrimPath(f"/{name}")
        clips.SetClipAssetPaths([Sdf.AssetPath(f"./{f.name}") for f in files])
        clips.SetClipManifestAssetPath(Sdf.AssetPath(f"./{manifest_path.name}"))
        clips.SetClipActive([(float(f), float(i)) for i, f in enumerate(frames)])
        clips.SetClipTimes([(float(f), float(f)) for f in frames])
    return [path, topology_path, manifest_path]


@contextmanager
def begun(path: Path, setting: Setting, fps: float, first: int, last: int) -> Iterator[Any]:
    """A new stage of frames `first` to `last`, saved when all of it is said. Raises FileError, NoRoom."""
    from pxr import Usd, UsdGeom

    with _in_words(path):
        stage = Usd.Stage.CreateNew(str(path))
        _set(stage, UsdGeom, setting)
        stage.SetTimeCodesPerSecond(fps)
        stage.SetFramesPerSecond(fps)
        stage.SetStartTimeCode(first)
        stage.SetEndTimeCode(last)
        yield stage
        stage.GetRootLayer().Save()


def _set(stage: Any, geom: Any, setting: Setting) -> None:
    geom.SetStageUpAxis(stage, geom.Tokens.y if setting.up == "Y" else geom.Tokens.z)
    geom.SetStageMetersPerUnit(stage, setting.metres)


def _vec3(values: Array) -> Any:
    from pxr import Vt

    return Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(values, np.float32))


def _ints(values: Array) -> Any:
    from pxr import Vt

    return Vt.IntArray.FromNumpy(np.ascontiguousarray(values, np.int32))


def _floats(values: Array) -> Any:
    from pxr import Vt

    return Vt.FloatArray.FromNumpy(np.ascontiguousarray(values, np.float32))


def _extent(points: Array, gf: Any) -> list[Any]:
    if not len(points):
        return [gf.Vec3f(0, 0, 0), gf.Vec3f(0, 0, 0)]
    return [gf.Vec3f(*map(float, points.min(axis=0))), gf.Vec3f(*map(float, points.max(axis=0)))]


def _primvars(prim: Any, channels: dict[str, Array], at: Any, sdf: Any, geom: Any) -> None:
    api = geom.PrimvarsAPI(prim)
    for name, values in channels.items():
        if name in ("position", "velocity") or (name == "id" and values.dtype.kind == "u"):
            continue
        kind = sdf.ValueTypeNames.Float3Array if values.ndim == 2 else sdf.ValueTypeNames.FloatArray
        if name == "colour" and values.ndim == 2:
            name, kind = "displayColor", sdf.ValueTypeNames.Color3fArray
        made = api.CreatePrimvar(name, kind, geom.Tokens.vertex)
        made.Set(_vec3(values) if values.ndim == 2 else _floats(values), at)
