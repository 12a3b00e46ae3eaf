"""Rays cast against a set's triangles, by the library for it."""

from __future__ import annotations

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh

from anaxis.core.derive.coverage import Caster, Hits
from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats

_NEAREST = 1e-4


def caster_of(triangles_m: Floats) -> Caster:
    """Casts against triangles (t, 3, 3). Raises BadInput where there are none.

    The library works in single precision: the set is handed over about its own middle, and what stands further from it
    than its own size counts for less.
    """
    if not len(triangles_m):
        raise BadInput(
            "There are no surfaces to project on. Add the set on Place, or take in the file again if it has meshes."
        )
    middle = (triangles_m.min(axis=(0, 1)) + triangles_m.max(axis=(0, 1))) / 2
    scene = rtcore_scene.EmbreeScene()
    TriangleMesh(scene, np.ascontiguousarray(triangles_m - middle, dtype=np.float32))
    edges = triangles_m[:, 1:] - triangles_m[:, :1]
    normals = np.cross(edges[:, 0], edges[:, 1])
    length = np.linalg.norm(normals, axis=1, keepdims=True)
    normals = np.divide(normals, length, out=np.zeros_like(normals), where=length > 0)

    def cast(origin_m: Floats, directions: Floats) -> Hits:
        origins = np.broadcast_to((origin_m - middle).astype(np.float32), directions.shape)
        start = np.ascontiguousarray(origins)
        found = scene.run(start, np.ascontiguousarray(directions, dtype=np.float32), output=True)
        which = np.asarray(found["primID"])
        away = np.where(which >= 0, _to_plane(triangles_m, normals, which, origin_m, directions, found["tfar"]), np.inf)
        return Hits(away, np.where((which >= 0)[:, None], normals[which], 0.0))

    return cast


def _to_plane(
    triangles: Floats, normals: Floats, which: Floats, origin: Floats, directions: Floats, about: Floats
) -> Floats:
    """The distance to the plane of each triangle that was hit, in double precision; the library's own where a ray grazes it."""
    corner, normal = triangles[which, 0], normals[which]
    along = np.sum(directions * normal, axis=1)
    with np.errstate(divide="ignore", invalid="ignore"):
        exact = np.sum((corner - origin) * normal, axis=1) / along
    single = np.asarray(about, dtype=np.float64)
    close = np.isfinite(exact) & (np.abs(exact - single) <= 1e-2 * np.maximum(single, _NEAREST))
    return np.where(close, exact, single)
