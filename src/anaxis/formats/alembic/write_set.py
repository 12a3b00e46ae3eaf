"""Writing a set as Alembic: a transform for each object, with its mesh below it; faces are wound clockwise there."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import imath
import numpy as np
from alembic3d import Abc, AbcGeom

from anaxis.core.scene.mesh import Spread, reversed_corners
from anaxis.core.typing import Ints
from anaxis.formats.alembic.write import matrix_sample, time_sampling
from anaxis.formats.file_axes import FileAxes
from anaxis.formats.set_piece import SetPiece, SetTimes

_HIDDEN = 0


def write_alembic_set(path: Path, pieces: Sequence[SetPiece], times: SetTimes, axes: FileAxes) -> None:
    """All objects below /set, those of a group below it."""
    archive = Abc.OArchive(str(path))
    top = AbcGeom.OXform(archive.getTop(), "set")
    index = archive.addTimeSampling(time_sampling(times.frames, times.rate))
    groups: dict[str, Any] = {"": top}
    for piece in pieces:
        if piece.group not in groups:
            groups[piece.group] = AbcGeom.OXform(top, piece.group)
        _write_piece(groups[piece.group], piece, index)
    del archive, top, groups  # the file is complete when the library lets go of it


def _write_piece(above: Any, piece: SetPiece, index: int) -> None:
    one = piece.shown
    place = AbcGeom.OXform(above, piece.name)
    if len(piece.matrix) > 1:
        place.getSchema().setTimeSampling(index)
    for matrix in piece.matrix:
        place.getSchema().set(matrix_sample(matrix))
    if one.hidden:
        AbcGeom.CreateVisibilityProperty(place, 0).setValue(_HIDDEN)
    schema = AbcGeom.OPolyMesh(place, "mesh").getSchema()
    if one.deforms:
        schema.setTimeSampling(index)
    order = reversed_corners(one.counts)
    first = AbcGeom.OPolyMeshSchemaSample(_vectors(one.points[0]), _ints(one.corners[order]), _ints(one.counts))
    if one.texture is not None:
        first.setUVs(_parameter(AbcGeom.OV2fGeomParamSample, imath.V2fArray, one.texture, order))
    if one.normals is not None:
        first.setNormals(_parameter(AbcGeom.ON3fGeomParamSample, imath.V3fArray, one.normals, order))
    schema.set(first)
    for points in one.points[1:]:
        later = AbcGeom.OPolyMeshSchemaSample()
        later.setPositions(_vectors(points))
        schema.set(later)


def _vectors(points: np.ndarray) -> Any:
    held = imath.V3fArray(len(points))
    np.asarray(held)[:] = points
    return held


def _ints(values: Ints) -> Any:
    held = imath.IntArray(len(values))
    np.asarray(held)[:] = values
    return held


def _parameter(sample: Any, array: Any, spread: Spread, order: Ints) -> Any:
    """Values as a parameter of the mesh, in the order of its corners there."""
    values = spread.values[order] if spread.by_corner else spread.values
    held = array(len(values))
    np.asarray(held)[:] = values
    scope = AbcGeom.GeometryScope
    return sample(held, scope.kFacevaryingScope if spread.by_corner else scope.kVertexScope)
