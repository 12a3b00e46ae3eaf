"""Set geometry as lines: the edges of meshes and curves, enough to recognise the place."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from pxr import Usd, UsdGeom

from anaxis.core.typing import Floats

_MAX_PRIMS = 400
_MAX_SEGMENTS = 20_000
_MAX_POINTS = 2_000_000


def set_lines(prims: list[Usd.Prim]) -> Iterator[tuple[Usd.Prim, Floats]]:
    """Meshes and curves with their line segments (s, 2, 3) in the prim's own space.

    Stops at a total that a browser draws in a few milliseconds.
    """
    drawn = taken = 0
    for prim in prims:
        if taken >= _MAX_PRIMS or drawn >= _MAX_SEGMENTS:
            return
        if prim.IsA(UsdGeom.Mesh):
            segments = _mesh_edges(UsdGeom.Mesh(prim))
        elif prim.IsA(UsdGeom.Curves):
            segments = _curve_lines(UsdGeom.Curves(prim))
        else:
            continue
        if segments is not None and len(segments):
            segments = segments[: _MAX_SEGMENTS - drawn]
            drawn += len(segments)
            taken += 1
            yield prim, segments


def _points(prim: UsdGeom.PointBased) -> Floats | None:
    points = prim.GetPointsAttr().Get(Usd.TimeCode.EarliestTime())
    if points is None or not 2 <= len(points) <= _MAX_POINTS:
        return None
    array = np.array(points, dtype=np.float64)
    return array if np.isfinite(array).all() else None


def _mesh_edges(mesh: UsdGeom.Mesh) -> Floats | None:
    points = _points(mesh)
    counts = mesh.GetFaceVertexCountsAttr().Get(Usd.TimeCode.EarliestTime())
    corners = mesh.GetFaceVertexIndicesAttr().Get(Usd.TimeCode.EarliestTime())
    if points is None or not counts or not corners:
        return None
    size, corner = np.array(counts, dtype=np.int64), np.array(corners, dtype=np.int64)
    if (size < 3).any() or size.sum() != len(corner) or corner.min() < 0 or corner.max() >= len(points):
        return None
    # The next corner of each corner, wrapping round at the end of its face.
    start = np.repeat(np.cumsum(size) - size, size)
    position = np.arange(len(corner)) - start
    following = corner[start + (position + 1) % np.repeat(size, size)]
    edges = np.unique(np.sort(np.stack([corner, following], axis=1), axis=1), axis=0)
    return points[edges]


def _curve_lines(curves: UsdGeom.Curves) -> Floats | None:
    points = _points(curves)
    counts = curves.GetCurveVertexCountsAttr().Get(Usd.TimeCode.EarliestTime())
    if points is None or not counts or sum(counts) != len(points):
        return None
    joined = np.ones(len(points) - 1, dtype=np.bool_)
    joined[np.cumsum(np.array(counts))[:-1] - 1] = False
    index = np.flatnonzero(joined)
    return points[np.stack([index, index + 1], axis=1)]
