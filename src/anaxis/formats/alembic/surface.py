"""Normals and texture coordinates of an Alembic mesh."""

from __future__ import annotations

from typing import Any

import numpy as np
from alembic3d import AbcGeom

from anaxis.core.scene.mesh import Spread

_BY_CORNER = {
    AbcGeom.GeometryScope.kFacevaryingScope: True,
    AbcGeom.GeometryScope.kVertexScope: False,
    AbcGeom.GeometryScope.kVaryingScope: False,
}


def surface_of(schema: Any) -> tuple[Spread | None, Spread | None]:
    """The normals and texture coordinates of a mesh's schema, as on its first sample; None for what it does not have."""
    normals = schema.getNormalsParam() if hasattr(schema, "getNormalsParam") else None
    return _spread(normals, 3), _spread(schema.getUVsParam(), 2)


def _spread(parameter: Any, width: int) -> Spread | None:
    if parameter is None or not parameter.valid() or not parameter.getNumSamples():
        return None
    by_corner = _BY_CORNER.get(parameter.getScope())
    if by_corner is None:
        return None
    values = np.array(parameter.getExpandedValue().getVals(), dtype=np.float64)
    return Spread(values.reshape(-1, width), by_corner)
