"""Writing a set as OpenUSD: every object with its faces, its motion and its shapes, in one layer."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, Vt

from anaxis.core.scene.mesh import Spread
from anaxis.formats.file_axes import FileAxes
from anaxis.formats.set_piece import SetPiece, SetTimes

_VERTEX, _BY_CORNER = UsdGeom.Tokens.vertex, UsdGeom.Tokens.faceVarying


def write_usd_set(path: Path, pieces: Sequence[SetPiece], times: SetTimes, axes: FileAxes) -> None:
    """All objects below /set, those of a group below it."""
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, axes.up or "Y")
    UsdGeom.SetStageMetersPerUnit(stage, axes.convention.metres_per_unit)
    stage.SetTimeCodesPerSecond(float(times.rate))
    stage.SetFramesPerSecond(float(times.rate))
    stage.SetStartTimeCode(float(times.frames[0]))
    stage.SetEndTimeCode(float(times.frames[-1]))
    stage.SetDefaultPrim(UsdGeom.Xform.Define(stage, "/set").GetPrim())
    for group in dict.fromkeys(p.group for p in pieces if p.group):
        UsdGeom.Xform.Define(stage, f"/set/{group}")
    for piece in pieces:
        _write_piece(stage, piece, times)
    stage.Save()


def _write_piece(stage: Usd.Stage, piece: SetPiece, times: SetTimes) -> None:
    one = piece.shown
    mesh = UsdGeom.Mesh.Define(stage, "/".join(["/set", *([piece.group] if piece.group else []), piece.name]))
    mesh.CreateSubdivisionSchemeAttr("none")
    mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(one.counts.astype(np.int32)))
    mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(one.corners.astype(np.int32)))
    points, moved = mesh.CreatePointsAttr(), mesh.AddTransformOp(UsdGeom.XformOp.PrecisionDouble)
    for at, held in enumerate(one.points):
        points.Set(Vt.Vec3fArray.FromNumpy(_singles(held)), _when(times, at, one.deforms))
    for at, local in enumerate(np.swapaxes(piece.matrix, 1, 2)):
        moved.Set(Gf.Matrix4d(local.tolist()), _when(times, at, len(piece.matrix) > 1))
    if one.normals is not None:
        mesh.CreateNormalsAttr(Vt.Vec3fArray.FromNumpy(_singles(one.normals.values)))
        mesh.SetNormalsInterpolation(_interpolation(one.normals))
    if one.texture is not None:
        held_by = UsdGeom.PrimvarsAPI(mesh)
        st = held_by.CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, _interpolation(one.texture))
        st.Set(Vt.Vec2fArray.FromNumpy(_singles(one.texture.values)))
    if one.guide:
        mesh.CreatePurposeAttr(UsdGeom.Tokens.guide)
    if one.hidden:
        mesh.CreateVisibilityAttr(UsdGeom.Tokens.invisible)


def _when(times: SetTimes, at: int, moves: bool) -> Usd.TimeCode:
    return Usd.TimeCode(float(times.frames[at])) if moves else Usd.TimeCode.Default()


def _interpolation(spread: Spread) -> str:
    return str(_BY_CORNER if spread.by_corner else _VERTEX)


def _singles(values: np.ndarray) -> np.ndarray:
    return np.ascontiguousarray(values, dtype=np.float32)
