"""USD evaluated by the format library itself: Gf.Camera's frustum at every frame."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.time.rates import nearest_rate
from anaxis.standin.views import Y_UP, Z_UP, FileViews, ReadRequest, chosen


def usd_views(path: Path, asked: ReadRequest) -> FileViews:
    """The format library's own evaluation: Gf.Camera's frustum at every frame of the file."""
    from pxr import Gf, Usd, UsdGeom, UsdRender, Vt

    stage = Usd.Stage.Open(str(path))
    prim = chosen(path.name, [(p.GetName(), p) for p in stage.Traverse() if p.IsA(UsdGeom.Camera)], asked.camera)
    at, image = asked.at, asked.image
    camera = UsdGeom.Camera(prim)
    chain = [p for p in prim.GetPath().GetPrefixes() if UsdGeom.Xformable(stage.GetPrimAtPath(p))]
    # The samples as they lie in the file: a bake may be on half or on every second frame.
    samples = sorted({t for p in chain for t in UsdGeom.Xformable(stage.GetPrimAtPath(p)).GetTimeSamples()})
    own = np.array(samples or [stage.GetStartTimeCode()], dtype=np.float64)
    frames = own if at is None else at
    unit = UsdGeom.GetStageMetersPerUnit(stage)
    highest = stage.GetPrimAtPath(chain[0])
    seen, moving = camera.GetCamera(frames[0]), _moving_lens(camera)
    cache = UsdGeom.XformCache()  # evaluates as the camera itself does, without looking its ops up at every frame
    matrices, locals_, tops, windows, focal = [], [], [], np.empty((len(frames), 4)), np.empty(len(frames))
    near, far, focus, stop = (np.empty(len(frames)) for _ in range(4))
    for i, frame in enumerate(frames.tolist()):
        cache.SetTime(frame)
        seen.transform = cache.GetLocalToWorldTransform(prim)
        for name, query in moving:
            value = query.Get(frame)
            setattr(seen, name, Gf.Range1f(*value) if name == "clippingRange" else value)
        frustum = seen.frustum
        window = frustum.GetWindow()
        low, high = window.GetMin(), window.GetMax()
        windows[i] = low[0], high[0], low[1], high[1]
        focal[i] = seen.focalLength * 100.0 * unit  # tenths of a unit, in mm
        near[i], far[i] = seen.clippingRange.min * unit, seen.clippingRange.max * unit
        focus[i], stop[i] = seen.focusDistance * unit, seen.fStop
        matrices.append(frustum.ComputeViewMatrix())
        locals_.append(cache.GetLocalTransformation(prim)[0])
        tops.append(cache.GetLocalTransformation(highest)[0])
    view = np.swapaxes(np.array(Vt.Matrix4dArray(matrices)), 1, 2)[:, :3].copy()
    view[:, 2] *= -1.0  # the library looks along -Z; ahead is counted positive here
    up = str(UsdGeom.GetStageUpAxis(stage))
    made_for = [
        s for p in stage.Traverse() if (s := UsdRender.Settings(p)) and prim.GetPath() in s.GetCameraRel().GetTargets()
    ]
    settings = made_for[0] if made_for else UsdRender.Settings.GetStageRenderSettings(stage)
    if settings and settings.GetResolutionAttr().HasAuthoredValue():
        width, height = settings.GetResolutionAttr().Get()
        image = Image(width, height, float(settings.GetPixelAspectRatioAttr().Get()))
    others = {
        "near_m": near,
        "far_m": far,
        "focus_m": np.where(focus > 0, focus, np.nan),
        "fstop": np.where(stop > 0, stop, np.nan),
    }
    return FileViews(
        prim.GetName(), frames, nearest_rate(stage.GetTimeCodesPerSecond()), view, windows, focal, others,
        Z_UP if up == "Z" else Y_UP, unit, image,
        np.swapaxes(np.array(Vt.Matrix4dArray(locals_)), 1, 2)[:, :3], np.swapaxes(np.array(Vt.Matrix4dArray(tops)), 1, 2),
        up, unit, own, frozenset({"rate", *(["image"] if image is not asked.image else [])}),
    )  # fmt: skip


def _moving_lens(camera: Any) -> list[tuple[str, Any]]:
    """What of the lens changes over time: the name that Gf.Camera has for it, and the attribute to ask."""
    from pxr import Usd

    attrs = {
        "focalLength": camera.GetFocalLengthAttr(),
        "horizontalAperture": camera.GetHorizontalApertureAttr(),
        "verticalAperture": camera.GetVerticalApertureAttr(),
        "horizontalApertureOffset": camera.GetHorizontalApertureOffsetAttr(),
        "verticalApertureOffset": camera.GetVerticalApertureOffsetAttr(),
        "clippingRange": camera.GetClippingRangeAttr(),
        "focusDistance": camera.GetFocusDistanceAttr(),
        "fStop": camera.GetFStopAttr(),
    }
    return [(name, Usd.AttributeQuery(a)) for name, a in attrs.items() if a.ValueMightBeTimeVarying()]
