"""Writing OpenUSD: cameras without parents, or each below its root; one matrix a frame in double precision.

USD is right-handed with Y or Z up, so a left-handed receiver gets the right-handed file whose up
axis and unit are nearest to its own; its importer turns that into its own axes.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, UsdRender, Vt

from anaxis.core.motion.keys import KeyRule, Keys
from anaxis.core.outgoing import Outgoing, pose_matrices, root_matrix
from anaxis.core.space.axes import Convention, axis_name
from anaxis.core.time.rates import rate_label
from anaxis.formats.file_axes import file_axes
from anaxis.formats.nodes import SampledNode, nodes_of, places
from anaxis.formats.unstated import held_where_unstated, zero_where_unstated
from anaxis.formats.usd.plane import write_plane
from anaxis.formats.usd.read import SQUEEZE
from anaxis.formats.usd.samples import set_samples, set_values


def key_rule(receiver: Convention) -> KeyRule:
    """The library draws straight between samples: of a translation and of three angles, not of a matrix."""
    return KeyRule(file_axes("usd", receiver).convention)


def begin() -> None:
    """Use the library once, before several threads do: what it makes on first use it must make by itself."""
    Usd.Stage.Open(Sdf.Layer.CreateAnonymous(".usdc"))


def write_usd(cameras: Sequence[Outgoing], folder: Path, stem: str) -> list[Path]:
    """Write ``stem.usd`` with cameras of one rate; returns the files written."""
    convention = file_axes("usd", cameras[0].convention).convention
    rate = float(cameras[0].track.rate)
    layer = Sdf.Layer.CreateAnonymous(".usdc")
    stage = Usd.Stage.Open(layer)
    UsdGeom.SetStageUpAxis(stage, axis_name(convention.world[:, 1])[1])
    UsdGeom.SetStageMetersPerUnit(stage, convention.metres_per_unit)
    stage.SetTimeCodesPerSecond(rate)
    stage.SetFramesPerSecond(rate)
    stage.SetStartTimeCode(min(float(c.track.frames[0]) for c in cameras))
    stage.SetEndTimeCode(max(float(c.track.frames[-1]) for c in cameras))
    for i, node in enumerate(nodes_of(cameras)):
        camera = _write_node(stage, node, convention)
        settings = UsdRender.Settings.Define(stage, "/Render/settings" + (f"_{i + 1}" if i else ""))
        _write_settings(settings, camera, node.outgoing)
        if not i:
            stage.SetDefaultPrim(camera.GetPrim().GetParent() if node.root else camera.GetPrim())
            stage.SetMetadata("renderSettingsPrimPath", str(settings.GetPath()))
    said = "; ".join(f"{c.track.name}: {len(c.track)} frames" for c in cameras)
    stage.SetMetadata(
        "comment", f"{said} at {rate_label(cameras[0].track.rate)} frames a second, world space, written by Anaxis"
    )
    target = folder / f"{stem}.usd"
    layer.Export(str(target), args={"format": "usdc"})
    return [target]


def _write_node(stage: Usd.Stage, node: SampledNode, convention: Convention) -> UsdGeom.Camera:
    """One camera, below its root where it has one, and its landmarks beside it."""
    above, outgoing = "", node.outgoing
    if node.root is not None:
        above = f"/{node.root.name}"
        rows = root_matrix(node.root.placement, convention).T
        UsdGeom.Xform.Define(stage, above).AddTransformOp().Set(Gf.Matrix4d(*rows.reshape(-1).tolist()))
    camera = UsdGeom.Camera.Define(stage, f"{above}/{node.name}")
    _write_pose(camera, outgoing, convention)
    _write_lens(camera, outgoing, convention)
    if outgoing.plane is not None:
        write_plane(camera, outgoing, outgoing.plane, convention)
    _write_landmarks(stage, above, node, convention)
    return camera


def _write_settings(settings: UsdRender.Settings, camera: UsdGeom.Camera, outgoing: Outgoing) -> None:
    settings.CreateResolutionAttr(Gf.Vec2i(outgoing.image.width_px, outgoing.image.height_px))
    settings.CreatePixelAspectRatioAttr(outgoing.image.pixel_aspect)
    settings.CreateCameraRel().SetTargets([camera.GetPath()])


def _write_pose(camera: UsdGeom.Camera, outgoing: Outgoing, convention: Convention) -> None:
    track = outgoing.track
    if outgoing.keys is not None:
        _write_keys(camera, outgoing.keys)
        return
    matrix = pose_matrices(track, convention)
    rows = Vt.Matrix4dArray.FromNumpy(np.ascontiguousarray(np.swapaxes(matrix, 1, 2)))
    set_samples(camera.AddTransformOp().GetAttr(), track.frames, list(rows))


def _write_keys(camera: UsdGeom.Camera, keys: Keys) -> None:
    double = UsdGeom.XformOp.PrecisionDouble
    for op, columns in ((camera.AddTranslateOp(double), slice(0, 3)), (camera.AddRotateXYZOp(double), slice(3, 6))):
        set_samples(op.GetAttr(), keys.frames, [Gf.Vec3d(*v) for v in keys.values[:, columns].tolist()])


def _write_lens(camera: UsdGeom.Camera, outgoing: Outgoing, convention: Convention) -> None:
    track, unit = outgoing.track.select_frames(outgoing.written), convention.metres_per_unit
    lens, frames = track.lens, track.frames
    tenths = 1.0 / (100.0 * unit)  # millimetres to tenths of a scene unit
    set_values(camera.CreateFocalLengthAttr(), frames, lens.focal_mm * tenths)
    set_values(camera.CreateHorizontalApertureAttr(), frames, lens.film_width_mm * lens.squeeze * tenths)
    set_values(camera.CreateVerticalApertureAttr(), frames, lens.film_height_mm * tenths)
    set_values(camera.CreateHorizontalApertureOffsetAttr(), frames, lens.offset_x_mm * tenths)
    set_values(camera.CreateVerticalApertureOffsetAttr(), frames, lens.offset_y_mm * tenths)
    if np.isfinite(lens.focus_m).any():
        set_values(camera.CreateFocusDistanceAttr(), frames, zero_where_unstated(lens.focus_m) / unit)
    if np.isfinite(lens.fstop).any():
        set_values(camera.CreateFStopAttr(), frames, zero_where_unstated(lens.fstop))
    if (lens.squeeze != 1).any():
        attr = camera.GetPrim().CreateAttribute(SQUEEZE, Sdf.ValueTypeNames.Double, custom=True)
        set_values(attr, frames, lens.squeeze)
    if np.isfinite(lens.near_m).any() and np.isfinite(lens.far_m).any():
        near, far = held_where_unstated(lens.near_m) / unit, held_where_unstated(lens.far_m) / unit
        pairs = [Gf.Vec2f(float(a), float(b)) for a, b in zip(near, far, strict=True)]
        still = np.ptp(near) == 0 and np.ptp(far) == 0
        attr = camera.CreateClippingRangeAttr()
        if still:
            attr.Set(pairs[0])
        else:
            set_samples(attr, frames, pairs)


def _write_landmarks(stage: Usd.Stage, above: str, node: SampledNode, convention: Convention) -> None:
    if node.marks:
        UsdGeom.Scope.Define(stage, f"{above}/landmarks")
    for name, place in places(node, convention):
        attr = (
            UsdGeom.Xform.Define(stage, f"{above}/landmarks/{name}")
            .AddTranslateOp(UsdGeom.XformOp.PrecisionDouble)
            .GetAttr()
        )
        points = [Gf.Vec3d(*p) for p in place.tolist()]
        if len(points) == 1:
            attr.Set(points[0])
        else:
            set_samples(attr, node.outgoing.track.frames, points)
