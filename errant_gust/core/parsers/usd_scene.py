"""Meshes over frames, curves and cameras of a USD file, of its own layer alone:
`usd_scene.py FILE ENDING OUT.npz FPS FIRST MOST`. Time codes are turned into frames at FPS; MOST bounds the points that
all frames have together, and 0 leaves meshes out."""

import json
import math
import sys
from typing import Any

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom


def main(path: str, ending: str, out: str, fps: str, first: str, most: str) -> None:
    """Read a file and write its arrays to `out`; what is wrong with it is said by the exit."""
    layer = Sdf.Layer.OpenAsAnonymous(path)
    others = sorted({*layer.subLayerPaths, *layer.GetCompositionAssetDependencies(), *layer.GetExternalReferences()})
    if any(others):
        raise SystemExit(f"!refers to another file ({str(others[0])[:60]}), which is not followed")
    stage = Usd.Stage.Open(layer, Usd.Stage.LoadNone)
    prims = [p for p in stage.Traverse(Usd.TraverseInstanceProxies()) if shown(p)]
    meshes = [UsdGeom.Mesh(p) for p in prims if p.IsA(UsdGeom.Mesh) and int(most)]
    moving = sorted({t for mesh in meshes for t in times(mesh.GetPrim())})
    rate = stage.GetTimeCodesPerSecond() / float(fps)
    start, end = moving[0] if moving else 0.0, moving[-1] if moving else 0.0
    if moving and stage.HasAuthoredTimeCodeRange():
        start, end = stage.GetStartTimeCode(), stage.GetEndTimeCode()
    low, high = math.ceil(start / rate - 1e-6), math.floor(end / rate + 1e-6)
    frames = list(range(low, high + 1)) if moving else [int(first)]
    made: dict[str, Any] = taken(meshes, frames, rate if moving else 0.0, int(most))
    at = Usd.TimeCode(start) if moving else Usd.TimeCode.EarliestTime()
    made |= curves(prims, at)
    told = {
        "up": str(UsdGeom.GetStageUpAxis(stage)), "says_up": stage.HasAuthoredMetadata("upAxis"),
        "metres": UsdGeom.GetStageMetersPerUnit(stage), "says_unit": UsdGeom.StageHasAuthoredMetersPerUnit(stage),
        "fps": stage.GetTimeCodesPerSecond(), "frames": frames, "cameras": cameras(prims, at),
        "left": sorted({str(p.GetTypeName()) for p in prims if is_left(p)}),
    }  # fmt: skip
    np.savez(out, told=np.array(json.dumps(told)), **made)


def shown(prim: Usd.Prim) -> bool:
    """Whether a prim is to be seen in a render."""
    if not prim.IsA(UsdGeom.Imageable):
        return False
    seen = UsdGeom.Imageable(prim)
    at = Usd.TimeCode.EarliestTime()
    return bool(seen.ComputePurpose() in ("default", "render") and seen.ComputeVisibility(at) != "invisible")


def is_left(prim: Usd.Prim) -> bool:
    """Whether it is something that is not read here."""
    known = prim.IsA(UsdGeom.Mesh) or prim.IsA(UsdGeom.Curves) or prim.IsA(UsdGeom.Camera)
    return not known and (prim.IsA(UsdGeom.Boundable) or prim.IsA(UsdGeom.PointInstancer))


def times(prim: Usd.Prim) -> set[float]:
    """Time codes at which a mesh, or what it stands in, is another."""
    mesh = UsdGeom.Mesh(prim)
    found: set[float] = set()
    for attribute in (mesh.GetPointsAttr(), mesh.GetFaceVertexCountsAttr(), mesh.GetFaceVertexIndicesAttr()):
        found |= set(attribute.GetTimeSamples())
    while prim and not prim.IsPseudoRoot():
        if prim.IsA(UsdGeom.Xformable):
            found |= set(UsdGeom.Xformable(prim).GetTimeSamples())
        prim = prim.GetParent()
    return found if len(found) > 1 else set()


def taken(meshes: list[Any], frames: list[int], rate: float, most: int) -> dict[str, Any]:
    """Points of every frame in the scene's place, and topologies, each once."""
    points: list[Any] = []
    counts: list[int] = []
    which: list[int] = []
    known: dict[bytes, int] = {}
    made: dict[str, Any] = {}
    total = 0
    for frame in frames if meshes else []:
        at = Usd.TimeCode(frame * rate) if rate else Usd.TimeCode.EarliestTime()
        cache = UsdGeom.XformCache(at)
        here, sides, corners, offset = [], [], [], 0
        for mesh in meshes:
            own = np.array(mesh.GetPointsAttr().Get(at) or np.empty((0, 3)), np.float64).reshape(-1, 3)
            side = np.array(mesh.GetFaceVertexCountsAttr().Get(at) or [], np.int64)
            corner = np.array(mesh.GetFaceVertexIndicesAttr().Get(at) or [], np.int64)
            if len(corner) != side.sum() or (side < 3).any() or (corner < 0).any() or (corner >= len(own)).any():
                raise SystemExit(f"!{mesh.GetPath()} has faces that its points do not fit")
            matrix = np.array(cache.GetLocalToWorldTransform(mesh.GetPrim()))
            mirrored = np.linalg.det(matrix[:3, :3]) < 0
            if (mesh.GetOrientationAttr().Get() == "leftHanded") != mirrored:
                ends = np.repeat(np.cumsum(side), side)
                corner = corner[ends - 1 - (np.arange(len(corner)) - (ends - np.repeat(side, side)))]
            here.append(own @ matrix[:3, :3] + matrix[3, :3])
            sides.append(side)
            corners.append(corner + offset)
            offset += len(own)
        total += offset
        if total > most:
            raise SystemExit(f"!has more than {most:,} points over all frames")
        topology = (np.concatenate(sides), np.concatenate(corners))
        name = topology[0].tobytes() + b"|" + topology[1].tobytes()
        if name not in known:
            known[name] = len(known)
            made |= {f"sides{known[name]}": topology[0], f"corners{known[name]}": topology[1]}
        which.append(known[name])
        counts.append(offset)
        points.append(np.concatenate(here).astype(np.float32))
    made["points"] = np.concatenate(points) if points else np.empty((0, 3), np.float32)
    return made | {"counts": np.array(counts, np.int64), "which": np.array(which, np.int64)}


def curves(prims: list[Usd.Prim], at: Usd.TimeCode) -> dict[str, Any]:
    """All curves of a stage at a time, as `curve_points` and `curve_counts`."""
    cache = UsdGeom.XformCache(at)
    points, counts = [np.empty((0, 3))], []
    for prim in prims:
        if not prim.IsA(UsdGeom.Curves):
            continue
        made = UsdGeom.Curves(prim)
        own = np.array(made.GetPointsAttr().Get(at) or np.empty((0, 3)), np.float64).reshape(-1, 3)
        matrix = np.array(cache.GetLocalToWorldTransform(prim))
        own = own @ matrix[:3, :3] + matrix[3, :3]
        start = 0
        for count in made.GetCurveVertexCountsAttr().Get(at) or []:
            if count < 0 or start + count > len(own):
                raise SystemExit("!a curve has more points than there are")
            points.append(own[start : start + count])
            counts.append(count)
            start += count
    return {"curve_points": np.concatenate(points), "curve_counts": np.array(counts, np.int64)}


def cameras(prims: list[Usd.Prim], at: Usd.TimeCode) -> list[dict[str, Any]]:
    """Name, place, a place that is looked at, and whether without perspective; in the file's units."""
    cache = UsdGeom.XformCache(at)
    found = []
    for prim in prims:
        if not prim.IsA(UsdGeom.Camera):
            continue
        camera = UsdGeom.Camera(prim)
        matrix = cache.GetLocalToWorldTransform(prim)
        eye = matrix.Transform(Gf.Vec3d(0, 0, 0))
        away = camera.GetFocusDistanceAttr().Get(at) or 0.0
        toward = matrix.TransformDir(Gf.Vec3d(0, 0, -1)).GetNormalized()
        found.append({
            "name": prim.GetName(), "position": list(eye), "toward": list(toward), "distance": float(away),
            "parallel": camera.GetProjectionAttr().Get(at) == "orthographic",
        })  # fmt: skip
    return found


if __name__ == "__main__":
    main(*sys.argv[1:])
