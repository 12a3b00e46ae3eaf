"""Writing OpenUSD: one camera at the root, no parents, one matrix a frame in double precision.

USD is right-handed with Y or Z up, so a left-handed receiver gets the right-handed file whose up
axis and unit are nearest to its own; its importer turns that into its own axes.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
from pxr import Gf, Sdf, Tf, Usd, UsdGeom, UsdRender, Vt

from anaxis.core.axes import Convention, axis_name
from anaxis.core.landmarks import unique_name
from anaxis.core.outgoing import Outgoing, pose_matrices
from anaxis.core.reduce import KeyRule, Keys
from anaxis.core.timing import rate_label
from anaxis.core.typing import Floats
from anaxis.formats.file_axes import file_axes
from anaxis.formats.usd_read import SQUEEZE


def key_rule(receiver: Convention) -> KeyRule:
    """The library draws straight between samples: of a translation and of three angles, not of a matrix."""
    return KeyRule(file_axes("usd", receiver).convention)


def write_usd(outgoing: Outgoing, folder: Path, stem: str) -> list[Path]:
    """Write ``stem.usd``; returns the files written."""
    convention = file_axes("usd", outgoing.convention).convention
    track = outgoing.track
    layer = Sdf.Layer.CreateAnonymous(".usdc")
    stage = Usd.Stage.Open(layer)
    UsdGeom.SetStageUpAxis(stage, axis_name(convention.world[:, 1])[1])
    UsdGeom.SetStageMetersPerUnit(stage, convention.metres_per_unit)
    stage.SetTimeCodesPerSecond(float(track.rate))
    stage.SetFramesPerSecond(float(track.rate))
    stage.SetStartTimeCode(float(track.frames[0]))
    stage.SetEndTimeCode(float(track.frames[-1]))
    camera = UsdGeom.Camera.Define(stage, "/" + Tf.MakeValidIdentifier(track.name))
    stage.SetDefaultPrim(camera.GetPrim())
    _write_pose(camera, outgoing, convention)
    _write_lens(camera, outgoing, convention)
    _write_landmarks(stage, outgoing, convention)
    settings = UsdRender.Settings.Define(stage, "/Render/settings")
    settings.CreateResolutionAttr(Gf.Vec2i(outgoing.image.width_px, outgoing.image.height_px))
    settings.CreatePixelAspectRatioAttr(outgoing.image.pixel_aspect)
    settings.CreateCameraRel().SetTargets([camera.GetPath()])
    stage.SetMetadata("renderSettingsPrimPath", "/Render/settings")
    stage.SetMetadata(
        "comment",
        f"{track.name}: {len(track)} frames at {rate_label(track.rate)} frames a second, world space, "
        "written by Anaxis",
    )
    target = folder / f"{stem}.usd"
    layer.Export(str(target), args={"format": "usdc"})
    return [target]


def _write_pose(camera: UsdGeom.Camera, outgoing: Outgoing, convention: Convention) -> None:
    track = outgoing.track
    if outgoing.keys is not None:
        _write_keys(camera, outgoing.keys)
        return
    matrix = pose_matrices(track, convention)
    rows = Vt.Matrix4dArray.FromNumpy(np.ascontiguousarray(np.swapaxes(matrix, 1, 2)))
    _set_samples(camera.AddTransformOp().GetAttr(), track.frames, list(rows))


def _write_keys(camera: UsdGeom.Camera, keys: Keys) -> None:
    double = UsdGeom.XformOp.PrecisionDouble
    for op, columns in (
        (camera.AddTranslateOp(double), slice(0, 3)),
        (camera.AddRotateXYZOp(double), slice(3, 6)),
    ):
        _set_samples(op.GetAttr(), keys.frames, [Gf.Vec3d(*v) for v in keys.values[:, columns].tolist()])


def _write_lens(camera: UsdGeom.Camera, outgoing: Outgoing, convention: Convention) -> None:
    track, unit = outgoing.track.take(outgoing.written), convention.metres_per_unit
    lens, frames = track.lens, track.frames
    tenths = 1.0 / (100.0 * unit)  # millimetres to tenths of a scene unit
    _set(camera.CreateFocalLengthAttr(), frames, lens.focal_mm * tenths)
    _set(camera.CreateHorizontalApertureAttr(), frames, lens.film_width_mm * lens.squeeze * tenths)
    _set(camera.CreateVerticalApertureAttr(), frames, lens.film_height_mm * tenths)
    _set(camera.CreateHorizontalApertureOffsetAttr(), frames, lens.offset_x_mm * tenths)
    _set(camera.CreateVerticalApertureOffsetAttr(), frames, lens.offset_y_mm * tenths)
    if np.isfinite(lens.focus_m).all():
        _set(camera.CreateFocusDistanceAttr(), frames, lens.focus_m / unit)
    if np.isfinite(lens.fstop).all():
        _set(camera.CreateFStopAttr(), frames, lens.fstop)
    if (lens.squeeze != 1).any():
        attr = camera.GetPrim().CreateAttribute(SQUEEZE, Sdf.ValueTypeNames.Double, custom=True)
        _set(attr, frames, lens.squeeze)
    if np.isfinite(lens.near_m).all() and np.isfinite(lens.far_m).all():
        near, far = lens.near_m / unit, lens.far_m / unit
        pairs = [Gf.Vec2f(float(a), float(b)) for a, b in zip(near, far, strict=True)]
        still = np.ptp(near) == 0 and np.ptp(far) == 0
        attr = camera.CreateClippingRangeAttr()
        if still:
            attr.Set(pairs[0])
        else:
            _set_samples(attr, frames, pairs)


def _write_landmarks(stage: Usd.Stage, outgoing: Outgoing, convention: Convention) -> None:
    if not outgoing.landmarks.names:
        return
    UsdGeom.Scope.Define(stage, "/landmarks")
    positions = convention.position_from_canonical(outgoing.landmarks.position_m)
    taken: set[str] = set()
    for i, name in enumerate(outgoing.landmarks.names):
        legal = unique_name(Tf.MakeValidIdentifier(name), taken)
        attr = UsdGeom.Xform.Define(stage, f"/landmarks/{legal}").AddTranslateOp(
            UsdGeom.XformOp.PrecisionDouble
        ).GetAttr()  # fmt: skip
        points = [Gf.Vec3d(*p) for p in positions[:, i]]
        if len(points) == 1:
            attr.Set(points[0])
        else:
            _set_samples(attr, outgoing.track.frames, points)


def _set(attr: Usd.Attribute, frames: Floats, values: Floats) -> None:
    """One default where a channel does not vary, else a sample on every frame."""
    if np.ptp(values) == 0:
        attr.Set(float(values[0]))
    else:
        _set_samples(attr, frames, [float(v) for v in values])


def _set_samples(attr: Usd.Attribute, frames: Floats, values: list[object]) -> None:
    layer, path = attr.GetStage().GetRootLayer(), attr.GetPath()
    with Sdf.ChangeBlock():
        for frame, value in zip(frames.tolist(), values, strict=True):
            layer.SetTimeSample(path, frame, value)
