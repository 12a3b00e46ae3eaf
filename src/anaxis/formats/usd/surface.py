"""What a USD mesh says of its surface: normals, texture coordinates, winding, whether it is shown and rendered."""

from __future__ import annotations

from typing import Any

import numpy as np
from pxr import Usd, UsdGeom

from anaxis.core.scene.mesh import Spread
from anaxis.core.typing import Ints

_TEXTURE_TYPES = ("texCoord2f[]", "texCoord2d[]", "texCoord2h[]")
# Names of texture coordinates in files that do not give them their type.
_TEXTURE_NAMES = ("st", "UVMap", "uv", "map1")


def surface_of(mesh: UsdGeom.Mesh, counts: Ints) -> tuple[Spread | None, Spread | None]:
    """The normals and one set of texture coordinates of a mesh, as on its first sample; None for what it does not have."""
    primvars = UsdGeom.PrimvarsAPI(mesh)
    normals = _spread(primvars.GetPrimvar("normals"), counts, 3)
    if normals is None:
        held = mesh.GetNormalsAttr().Get(Usd.TimeCode.EarliestTime())
        normals = _spread_of(held, str(mesh.GetNormalsInterpolation()), counts, 3)
    found = [p for p in primvars.GetPrimvarsWithValues() if str(p.GetTypeName()) in _TEXTURE_TYPES]
    found += [p for name in _TEXTURE_NAMES if (p := primvars.GetPrimvar(name)) and str(p.GetTypeName()) == "float2[]"]
    found.sort(key=lambda p: p.GetPrimvarName() != "st")
    return normals, next((s for p in found if (s := _spread(p, counts, 2)) is not None), None)


def is_left_handed(mesh: UsdGeom.Mesh) -> bool:
    """Whether the mesh winds its faces clockwise seen from outside."""
    return bool(mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded)


def seen_as(prim: Usd.Prim) -> dict[str, Any]:
    """Whether a prim is invisible on its first sample, and whether its purpose is "guide", as fields of a node."""
    imageable, first = UsdGeom.Imageable(prim), Usd.TimeCode.EarliestTime()
    return {
        "invisible": imageable.ComputeVisibility(first) == UsdGeom.Tokens.invisible,
        "guide": imageable.ComputePurpose() == UsdGeom.Tokens.guide,
    }


def _spread(primvar: UsdGeom.Primvar, counts: Ints, width: int) -> Spread | None:
    if not (primvar and primvar.HasValue()):
        return None
    return _spread_of(
        primvar.ComputeFlattened(Usd.TimeCode.EarliestTime()), str(primvar.GetInterpolation()), counts, width
    )


def _spread_of(held: Any, interpolation: str, counts: Ints, width: int) -> Spread | None:
    if held is None or not len(held):
        return None
    values = np.asarray(held, dtype=np.float64).reshape(-1, width)
    if interpolation == UsdGeom.Tokens.uniform:
        return Spread(np.repeat(values, counts, axis=0), True) if len(values) == len(counts) else None
    if interpolation == UsdGeom.Tokens.constant:
        return None
    return Spread(values, interpolation == UsdGeom.Tokens.faceVarying)
