"""Reading OpenUSD into a scene: axes, unit, time codes, transforms, lenses.

Facts (docs/formats.md): lens attributes are in tenths of a scene unit, so that

    mm = value * 0.1 * metresPerUnit * 1000

Cameras look along local -Z; ``timeCodesPerSecond`` maps time codes to seconds. A custom attribute
``anaxis:squeeze`` on a camera carries an anamorphic squeeze, which the standard has no word for;
the horizontal aperture beside it is the desqueezed one, so that other readers see the right picture.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, UsdRender, Vt

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Lens, make_lens
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding, remedy
from anaxis.core.scene.flips import angle_flips
from anaxis.core.scene.nodes import UP_AXES, Node, Scene, sampled_range
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import KNOWN_RATES, nearest_rate, rate_text
from anaxis.core.typing import Floats
from anaxis.formats.sampling import keys_and_whole_frames
from anaxis.formats.set_lines import MAX_MARKS, Shape, line_shape, marks_of_points, mesh_shape, over_time, within_budget
from anaxis.formats.usd.layers import Opened
from anaxis.formats.usd.surface import is_left_handed, seen_as, surface_of
from anaxis.formats.views import orthographic

SQUEEZE = "anaxis:squeeze"


@dataclass(frozen=True)
class _Clock:
    """Time codes to frame numbers: frame = code * frames_per_code."""

    rate: Fraction
    frames_per_code: float

    def frames(self, codes: Iterable[float]) -> Floats:
        return np.asarray(list(codes), dtype=np.float64) * self.frames_per_code

    def codes(self, frames: Floats) -> list[float]:
        return [float(c) for c in frames / self.frames_per_code]


def read_usd(path: Path, within: Path | None = None) -> Scene:
    """Read a .usd, .usda, .usdc or .usdz; raises BadInput where it cannot be read.

    Layers below ``within`` may be referred to; nothing else is ever opened.
    """
    with Opened(path, within) as opened:
        stage = Usd.Stage.Open(opened.root)
        if stage is None:
            raise BadInput(f"{path.name} holds no stage that can be opened: export it again.")
        return _UsdReader(stage, path.name, opened).scene()


class _UsdReader:
    def __init__(self, stage: Usd.Stage, name: str, opened: Opened) -> None:
        self.stage, self.name, self.opened = stage, name, opened
        self.guesses: dict[str, str] = {}
        self.findings: list[Finding] = []
        self.up = str(UsdGeom.GetStageUpAxis(stage))
        self.metres_per_unit = float(UsdGeom.GetStageMetersPerUnit(stage))
        if not stage.HasAuthoredMetadata("upAxis"):
            self.guesses["up_axis"] = f"the file does not state it; {self.up} is the standard's fallback"
        if not UsdGeom.StageHasAuthoredMetersPerUnit(stage):
            self.guesses["metres_per_unit"] = "the file does not say; 0.01 is the standard's fallback"
        if not (np.isfinite(self.metres_per_unit) and self.metres_per_unit > 0):
            raise BadInput(
                f"{name} says metersPerUnit = {self.metres_per_unit:g}: it must be above zero; set it and export again."
            )
        self.clock = self._clock()
        self.nodes: dict[str, Node] = {}

    def scene(self) -> Scene:
        prims = list(Usd.PrimRange(self.stage.GetPseudoRoot(), Usd.TraverseInstanceProxies(Usd.PrimDefaultPredicate)))
        cameras = [p for p in prims if p.IsA(UsdGeom.Camera)]
        for prim in cameras:
            self._add(prim)
        for prim in [p for p in prims if _is_landmark(p)][:MAX_MARKS]:
            self._add(prim)
        for prim in prims:
            self._add_geometry(prim)
        self._report_outside()
        first, last = self._range()
        return Scene(
            name=self.name,
            format="usd",
            convention=Convention(world=UP_AXES[self.up], metres_per_unit=self.metres_per_unit),
            rate=self.clock.rate,
            first_frame=first,
            last_frame=last,
            nodes=tuple(within_budget(list(self.nodes.values()))),
            image=self._image(prims),
            lens_in_units=True,
            stated_rate=float(self.stage.GetTimeCodesPerSecond()),
            guesses=self.guesses,
            findings=tuple(self.findings),
        )

    # Time

    def _clock(self) -> _Clock:
        codes_per_second = self.stage.GetTimeCodesPerSecond()
        frames_per_second = self.stage.GetFramesPerSecond()
        has_codes = self.stage.HasAuthoredMetadata("timeCodesPerSecond")
        has_frames = self.stage.HasAuthoredMetadata("framesPerSecond")
        if not (has_codes or has_frames):
            self.guesses["rate"] = "the file does not say; 24 is the standard's fallback"
        if not (np.isfinite(codes_per_second) and codes_per_second > 0):
            raise BadInput(
                f"{self.name} says timeCodesPerSecond = {codes_per_second:g}: it must be above zero; set it "
                "to the frame rate and export again."
            )
        rate = nearest_rate(codes_per_second)
        if has_frames and rate not in KNOWN_RATES and nearest_rate(frames_per_second) in KNOWN_RATES:
            # Time codes that are ticks or seconds rather than frames: only the playback rate says
            # what a frame is.
            self.guesses["rate"] = (
                f"time codes run at {codes_per_second:g} a second, which is not a frame rate; frames are taken "
                f"at the playback rate {frames_per_second:g}"
            )
            return _Clock(nearest_rate(frames_per_second), frames_per_second / codes_per_second)
        if has_codes and has_frames and nearest_rate(frames_per_second) != rate:
            self.findings.append(
                Finding(
                    "rate_two_values",
                    "warning",
                    f"The file plays back at {frames_per_second:g} frames a second but its samples run at "
                    f"{codes_per_second:g} a second; the samples' rate is taken, since it fixes the motion.",
                    "Check the rate in the source package, and set both to the same value on export; if the playback "
                    f"rate is the right one, take {frames_per_second:g} here.",
                    "Over a minute the two drift apart by frames.",
                    {"codes": codes_per_second, "playback": frames_per_second},
                    remedy("correct", rate=rate_text(nearest_rate(frames_per_second))),
                )
            )
        return _Clock(rate, 1.0)

    def _range(self) -> tuple[float, float]:
        if self.stage.HasAuthoredTimeCodeRange():
            first, last = self.clock.frames([self.stage.GetStartTimeCode(), self.stage.GetEndTimeCode()])
            if np.isfinite([first, last]).all() and first <= last:
                return float(first), float(last)
        return sampled_range(self.nodes.values()) or (0.0, 0.0)

    def _sampled(self, codes: list[float], what: str) -> tuple[Floats, Floats]:
        """The keys as frames, and every frame to evaluate: the keys and the whole frames between."""
        keys = np.unique(self.clock.frames(codes))
        if not len(keys):
            return keys, np.zeros(1)
        return keys, keys_and_whole_frames(keys, f"{self.name}, {what}")

    # Nodes

    def _add(self, prim: Usd.Prim, shape: Shape | None = None) -> str | None:
        """Add a prim and its transformable ancestors; returns its path, None for the root."""
        while prim and not prim.IsPseudoRoot() and not UsdGeom.Xformable(prim):
            prim = prim.GetParent()
        if not prim or prim.IsPseudoRoot():
            return None
        path = str(prim.GetPath())
        if path in self.nodes:
            if shape is not None and self.nodes[path].kind == "transform":
                self.nodes[path] = replace(
                    self.nodes[path], kind="set", segments=shape.lines, triangles=shape.triangles, mesh=shape.mesh,
                    **seen_as(prim),
                )  # fmt: skip
            return path
        parent = self._add(prim.GetParent())
        xform = UsdGeom.Xformable(prim)
        keys, frames = self._sampled(_sample_codes(xform), path)
        times = self.clock.codes(frames) if len(keys) else [Usd.TimeCode.Default()]
        local = np.swapaxes(_local_matrices(prim, times), 1, 2)
        if len(keys) > 1:
            self._look_for_flips(xform, path)
        is_camera = prim.IsA(UsdGeom.Camera)
        lens, lens_frames, lens_keys = self._lens(prim) if is_camera else (None, np.zeros(0), np.zeros(0))
        kind = "camera" if is_camera else "set" if shape is not None else "transform"
        if kind == "transform" and _is_landmark(prim):
            kind = "landmark"
        self.nodes[path] = Node(
            path, parent, kind, frames, np.ascontiguousarray(local), keys,  # type: ignore[arg-type]
            xform.GetResetXformStack(), lens, lens_frames, lens_keys, None if shape is None else shape.lines,
            triangles=None if shape is None else shape.triangles, mesh=None if shape is None else shape.mesh,
            **({} if shape is None else seen_as(prim)),
        )  # fmt: skip
        return path

    def _look_for_flips(self, xform: UsdGeom.Xformable, path: str) -> None:
        """Angles that jump by whole or half turns: they leave no trace in the matrices."""
        for op in xform.GetOrderedXformOps():
            codes = op.GetTimeSamples() if "rotate" in str(op.GetOpType().name).lower() else []
            if len(codes) < 2:
                continue
            angles = _numbers_of(_samples(op.GetAttr(), codes))
            frames = self.clock.frames(list(codes))
            found = [angle_flips(path, "An angle", frames, column) for column in angles.T]
            self.findings += [f for f in found if f is not None][:1]

    def _add_geometry(self, prim: Usd.Prim) -> None:
        """Meshes and curves as lines of the set, points as landmarks."""
        if prim.IsA(UsdGeom.Mesh):
            mesh = UsdGeom.Mesh(prim)
            counts = _array(mesh.GetFaceVertexCountsAttr(), np.int64)
            shape = mesh_shape(
                _points(mesh), counts, _array(mesh.GetFaceVertexIndicesAttr(), np.int64), *surface_of(mesh, counts)
            )
            if shape is not None and shape.mesh is not None and is_left_handed(mesh):
                shape = shape._replace(mesh=shape.mesh.turned_over())
            attribute = mesh.GetPointsAttr()
            codes = _attr_codes(attribute)
            moving = (np.asarray(attribute.Get(c), dtype=np.float64).reshape(-1, 3) for c in codes)
            shape, said = over_time(shape, self.clock.frames(list(codes)), moving, str(prim.GetPath()))
            self.findings += [] if said is None else [said]
        elif prim.IsA(UsdGeom.Curves):
            curves = UsdGeom.Curves(prim)
            shape = line_shape(_points(curves), _array(curves.GetCurveVertexCountsAttr(), np.int64))
        elif prim.IsA(UsdGeom.Points):
            path = self._add(prim)
            for mark in marks_of_points(str(path), _points(UsdGeom.Points(prim))):
                self.nodes.setdefault(mark.path, mark)
            return
        else:
            return
        if shape is not None and len(shape.lines):
            self._add(prim, shape)

    def _lens(self, prim: Usd.Prim) -> tuple[Lens, Floats, Floats]:
        camera = UsdGeom.Camera(prim)
        path = str(prim.GetPath())
        if camera.GetProjectionAttr().Get() == UsdGeom.Tokens.orthographic:
            self.findings.append(orthographic(path))
        if not (
            camera.GetHorizontalApertureAttr().HasAuthoredValue() and camera.GetFocalLengthAttr().HasAuthoredValue()
        ):
            self.guesses[f"lens:{path}"] = "the file leaves the film back or focal length at its default"
        squeeze_attr, clips = prim.GetAttribute(SQUEEZE), camera.GetClippingRangeAttr()
        attrs = {
            "focal_mm": camera.GetFocalLengthAttr(),
            "film_width_mm": camera.GetHorizontalApertureAttr(),
            "film_height_mm": camera.GetVerticalApertureAttr(),
            "offset_x_mm": camera.GetHorizontalApertureOffsetAttr(),
            "offset_y_mm": camera.GetVerticalApertureOffsetAttr(),
            "focus_m": camera.GetFocusDistanceAttr(),
            "fstop": camera.GetFStopAttr(),
            **({"clip": clips} if clips.HasAuthoredValue() else {}),
            **({"squeeze": squeeze_attr} if squeeze_attr and squeeze_attr.HasValue() else {}),
        }
        codes = sorted({c for a in attrs.values() for c in _attr_codes(a)})
        keys, frames = self._sampled(codes, path)
        times = self.clock.codes(frames) if len(keys) else [Usd.TimeCode.Default()]
        values = {k: _values(a, times) for k, a in attrs.items()}
        clip = values.pop("clip", np.full((1, 2), np.nan))
        to_mm = 100.0 * self.metres_per_unit
        for k in values:
            if k.endswith("_mm"):
                values[k] = values[k] * to_mm
        squeeze = values.get("squeeze", np.ones(1))
        values["film_width_mm"] = values["film_width_mm"] / squeeze
        # 0 is the standard's way of saying that focus and stop are not used.
        focus = np.where(values["focus_m"] > 0, values["focus_m"] * self.metres_per_unit, np.nan)
        values["focus_m"], values["fstop"] = focus, np.where(values["fstop"] > 0, values["fstop"], np.nan)
        near, far = (clip * self.metres_per_unit).T
        lens = make_lens(len(frames) if len(keys) else 1, **values, near_m=near, far_m=far)
        return lens, frames if len(keys) else np.zeros(0), keys

    # The rest

    def _image(self, prims: list[Usd.Prim]) -> Image | None:
        named = UsdRender.Settings.GetStageRenderSettings(self.stage)
        candidates = ([named] if named else []) + [UsdRender.Settings(p) for p in prims if p.IsA(UsdRender.Settings)]
        for settings in candidates:
            attr = settings.GetResolutionAttr()
            if attr.HasAuthoredValue():
                width, height = attr.Get()
                aspect = float(settings.GetPixelAspectRatioAttr().Get() or 1.0)
                return Image(int(width), int(height), aspect)
        return None

    def _report_outside(self) -> None:
        if self.opened.outside:
            listed = ", ".join(f"'{p}'" for p in self.opened.outside[:5])
            more = len(self.opened.outside) - 5
            self.findings.append(
                Finding(
                    "outside_reference",
                    "warning",
                    f"{self.name} refers to {listed}{f' and {more} more' if more > 0 else ''}, outside the "
                    "file; Anaxis opens nothing outside the file, so that part is missing.",
                    "Flatten the stage in the source, or export the camera with its parents into one file.",
                )
            )
        if self.opened.clips:
            self.findings.append(
                Finding(
                    "value_clips",
                    "warning",
                    f"{', '.join(self.opened.clips[:5])} takes its samples from value clips, which are not "
                    "read: its motion is missing here.",
                    "Bake the clips into one layer and export again.",
                )
            )


def _local_matrices(prim: Usd.Prim, times: list[float]) -> Floats:
    """The library's local matrices (n, 4, 4), rows as it writes them.

    A cache looks the ops up once, not at every time; one a prim, since moving its time costs all it holds.
    """
    cache, matrices = UsdGeom.XformCache(), []
    for time in times:
        cache.SetTime(time)
        matrices.append(cache.GetLocalTransformation(prim)[0])
    return np.array(Vt.Matrix4dArray(matrices), dtype=np.float64)


def _samples(attr: Usd.Attribute, codes: list[float]) -> list[object]:
    """The values at the attribute's own samples: at once where one layer holds them all, else one by one."""
    stack = attr.GetPropertyStack()
    held = stack[0].GetInfo("timeSamples") if len(stack) == 1 else {}
    if list(held) == list(codes) and Sdf.ValueBlock not in set(map(type, held.values())):
        return list(held.values())
    query = Usd.AttributeQuery(attr)
    return [query.Get(c) for c in codes]


def _numbers_of(values: list[object]) -> Floats:
    """Samples of one attribute, numbers or triples of them, as (k, 1) or (k, 3)."""
    packed = {Gf.Vec3d: Vt.Vec3dArray, Gf.Vec3f: Vt.Vec3fArray}.get(type(values[0]))
    array = np.array(packed(values) if packed else values, dtype=np.float64)
    return array.reshape(len(values), -1)


def _array(attr: Usd.Attribute, kind: type) -> np.ndarray:
    """An array attribute at its earliest sample; empty where it has none."""
    value = attr.Get(Usd.TimeCode.EarliestTime())
    return np.array(value if value is not None else [], dtype=kind)


def _points(prim: UsdGeom.PointBased) -> Floats:
    return _array(prim.GetPointsAttr(), np.float64).reshape(-1, 3)


def _is_landmark(prim: Usd.Prim) -> bool:
    """A transform that holds nothing: somebody put it there to mark a place."""
    return prim.GetTypeName() == "Xform" and not prim.GetFilteredChildren(Usd.PrimAllPrimsPredicate)


def _attr_codes(attr: Usd.Attribute) -> list[float]:
    if attr.HasSpline():
        return [float(t) for t in attr.GetSpline().GetKnots().keys()]  # noqa: SIM118  (not a dict)
    return list(attr.GetTimeSamples())


def _sample_codes(xform: UsdGeom.Xformable) -> list[float]:
    codes = set(xform.GetTimeSamples())
    for op in xform.GetOrderedXformOps():
        if op.GetAttr().HasSpline():
            codes.update(_attr_codes(op.GetAttr()))
    return sorted(codes)


def _values(attr: Usd.Attribute, times: list[float]) -> Floats:
    """An attribute at the given times: (1,) where it does not vary, (1, 2) or (n, 2) for pairs."""
    if not _attr_codes(attr):
        times = times[:1]
    query = Usd.AttributeQuery(attr)
    values = [query.Get(t) for t in times]
    if isinstance(values[0], Gf.Vec2f):
        return np.array([(v[0], v[1]) for v in values], dtype=np.float64)
    return np.array(values, dtype=np.float64)
