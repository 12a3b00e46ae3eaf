"""The objects of a delivered set, as the USD library evaluates them."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from anaxis.core.typing import Floats


def set_points(path: Path, frames: Floats) -> dict[str, Floats]:
    """The points of every mesh in a layer in its world, by the mesh's name: (n, p, 3) on the frames (n,), or (1, p, 3) for one that
    has no time samples."""
    from pxr import Sdf, Usd, UsdGeom

    stage = Usd.Stage.Open(Sdf.Layer.OpenAsAnonymous(str(path)))  # from the disk, also while a writer holds the layer
    found: dict[str, Floats] = {}
    cache = UsdGeom.XformCache()
    for prim in stage.Traverse():
        if not prim.IsA(UsdGeom.Mesh):
            continue
        attribute = UsdGeom.Mesh(prim).GetPointsAttr()
        chain = [UsdGeom.Xformable(stage.GetPrimAtPath(p)) for p in prim.GetPath().GetPrefixes()]
        moves = attribute.GetNumTimeSamples() > 1 or any(x and x.GetTimeSamples() for x in chain)
        out = []
        for frame in frames.tolist() if moves else [frames[0]]:
            cache.SetTime(float(frame))
            world = np.array(cache.GetLocalToWorldTransform(prim))
            points = np.asarray(attribute.Get(float(frame)), dtype=np.float64)
            out.append(points @ world[:3, :3] + world[3, :3])
        found[prim.GetName()] = np.stack(out)
    return found
