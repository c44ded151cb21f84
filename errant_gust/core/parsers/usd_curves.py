"""Curves of a USD file, of its own layer alone: `usd_curves.py FILE ENDING OUT.npz`."""

import sys

import numpy as np
from pxr import Sdf, Usd, UsdGeom


def main(path: str, ending: str, out: str) -> None:
    layer = Sdf.Layer.OpenAsAnonymous(path)
    others = sorted({*layer.subLayerPaths, *layer.GetCompositionAssetDependencies(), *layer.GetExternalReferences()})
    if any(others):
        raise SystemExit(f"!refers to another file ({str(others[0])[:60]}), which is not followed")
    stage = Usd.Stage.Open(layer, Usd.Stage.LoadNone)
    cache = UsdGeom.XformCache()
    points, counts = [np.empty((0, 3))], []
    for prim in stage.Traverse():
        if not prim.IsA(UsdGeom.Curves):
            continue
        curves = UsdGeom.Curves(prim)
        own = np.array(curves.GetPointsAttr().Get() or np.empty((0, 3)), np.float64).reshape(-1, 3)
        matrix = np.array(cache.GetLocalToWorldTransform(prim))
        own = own @ matrix[:3, :3] + matrix[3, :3]
        start = 0
        for count in curves.GetCurveVertexCountsAttr().Get() or []:
            if count < 0 or start + count > len(own):
                raise SystemExit("!a curve has more points than there are")
            points.append(own[start : start + count])
            counts.append(count)
            start += count
    np.savez(out, points=np.concatenate(points), counts=np.array(counts, np.int64))


if __name__ == "__main__":
    main(*sys.argv[1:])
