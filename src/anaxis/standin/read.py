"""What each format's own library makes of a delivered file: the stand-in's readers.

None of this is shared with :mod:`anaxis.formats`: USD is evaluated by Gf.Camera's frustum, Alembic by its
xform and camera samples, glTF and COLLADA by the standards' own words, columns and track JSON by scipy's
rotations and the profile's axes spelled out as vectors.
"""

from __future__ import annotations

import csv
import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from scipy.interpolate import CubicHermiteSpline
from scipy.spatial.transform import Rotation, Slerp

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Lens, make_lens
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import nearest_rate, parse_rate
from anaxis.core.typing import Floats
from anaxis.packages.model import Axes, Profile, TableRule

_YUP = np.eye(3)
_TURN_Z = np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]])  # canonical to a right-handed world with Z up


@dataclass(frozen=True, eq=False)
class FileViews:
    """Cameras as the file gives them, in the file's world.

    ``view`` (n, 3, 4) takes a world point to (right, up, ahead); ``window`` (n, 4) holds left, right, bottom,
    top of the whole film back as tangents, ``focal_mm`` (n,) gives them a size; ``world`` (3, 3) and ``unit``
    place a canonical point in the file's world. ``local`` (n, 3, 4) is the camera to its parent, ``top``
    (n, 4, 4) the topmost transform above it, its own where it has no parent.
    """

    name: str
    frames: Floats
    rate: Fraction
    view: Floats
    window: Floats
    focal_mm: Floats
    others: dict[str, Floats]
    world: Floats
    unit: float
    image: Image
    local: Floats
    top: Floats
    file_up: str | None = None
    file_unit_m: float | None = None
    own_frames: Floats | None = None  # (k,) those the file has samples on, where they are not ``frames``
    stated: frozenset[str] = frozenset()  # of image and rate, what the file itself says

    def lens(self) -> Lens:
        left, right, bottom, top = self.window.T * self.focal_mm
        squeeze = self.others.get("squeeze", np.ones(len(self.frames)))
        return make_lens(
            len(self.frames), focal_mm=self.focal_mm, film_width_mm=(right - left) / squeeze, film_height_mm=top - bottom,
            offset_x_mm=(left + right) / 2, offset_y_mm=(bottom + top) / 2, **(self.others | {"squeeze": squeeze}),
        )  # fmt: skip


@dataclass(frozen=True, eq=False)
class Asked:
    """What is to be read: ``camera`` by its node's name, the first one where None; at frames ``at`` (n,), at the
    file's own samples where None; ``image``, ``rate``, ``zero_frame`` (the frame at 0 s) and the lens ``typed``
    (channels of Lens by name) where the file states none."""

    profile: Profile
    image: Image
    at: Floats | None = None
    rate: Fraction | None = None
    camera: str | None = None
    typed: Mapping[str, float] | None = None
    zero_frame: float | None = None


def read_views(path: Path, asked: Asked) -> FileViews:
    """One camera of a file. Raises BadInput for a format without a reader, and where that camera is not there."""
    readers: dict[str, Callable[[Path, Asked], FileViews]] = {
        ".usd": _usd_views, ".usda": _usd_views, ".usdc": _usd_views, ".json": _json_views, ".csv": _column_views,
        ".gltf": _gltf_views, ".glb": _gltf_views, ".dae": _collada_views, ".abc": _alembic_views,
    }  # fmt: skip
    if path.suffix.lower() not in readers:
        raise BadInput(f"The stand-in for '{asked.profile.label}' has no reader for {path.name}.")
    return readers[path.suffix.lower()](path, asked)


def chosen(file: str, cameras: list[tuple[str, Any]], wanted: str | None) -> Any:
    """The camera of that name, or the first one; raises BadInput where there is none."""
    if not cameras:
        raise BadInput(f"{file} holds no camera.")
    found = next((c for name, c in cameras if wanted in (None, name)), None)
    if found is None:
        raise BadInput(
            f"{file} holds no camera '{wanted}': there are {', '.join(n for n, _ in cameras[:12])}."
        )
    return found


def _usd_views(path: Path, asked: Asked) -> FileViews:
    """The format library's own evaluation: Gf.Camera's frustum at every frame of the file."""
    from pxr import Usd, UsdGeom, UsdRender, Vt

    stage = Usd.Stage.Open(str(path))
    prim = chosen(
        path.name, [(p.GetName(), p) for p in stage.Traverse() if p.IsA(UsdGeom.Camera)], asked.camera
    )
    at, image = asked.at, asked.image
    camera = UsdGeom.Camera(prim)
    chain = [p for p in prim.GetPath().GetPrefixes() if UsdGeom.Xformable(stage.GetPrimAtPath(p))]
    # The samples as they lie in the file: a bake may be on half or on every second frame.
    samples = sorted({t for p in chain for t in UsdGeom.Xformable(stage.GetPrimAtPath(p)).GetTimeSamples()})
    own = np.array(samples or [stage.GetStartTimeCode()], dtype=np.float64)
    frames = own if at is None else at
    unit = UsdGeom.GetStageMetersPerUnit(stage)
    highest = UsdGeom.Xformable(stage.GetPrimAtPath(chain[0]))
    matrices, locals_, tops, windows, focal = [], [], [], np.empty((len(frames), 4)), np.empty(len(frames))
    near, far, focus, stop = (np.empty(len(frames)) for _ in range(4))
    for i, frame in enumerate(frames.tolist()):
        seen = camera.GetCamera(frame)
        frustum = seen.frustum
        window = frustum.GetWindow()
        low, high = window.GetMin(), window.GetMax()
        windows[i] = low[0], high[0], low[1], high[1]
        focal[i] = seen.focalLength * 100.0 * unit  # tenths of a unit, in mm
        near[i], far[i] = seen.clippingRange.min * unit, seen.clippingRange.max * unit
        focus[i], stop[i] = seen.focusDistance * unit, seen.fStop
        matrices.append(frustum.ComputeViewMatrix())
        locals_.append(UsdGeom.Xformable(prim).GetLocalTransformation(frame))
        tops.append(highest.GetLocalTransformation(frame))
    view = np.swapaxes(np.array(Vt.Matrix4dArray(matrices)), 1, 2)[:, :3].copy()
    view[:, 2] *= -1.0  # the library looks along -Z; ahead is counted positive here
    up = str(UsdGeom.GetStageUpAxis(stage))
    made_for = [
        s
        for p in stage.Traverse()
        if (s := UsdRender.Settings(p)) and prim.GetPath() in s.GetCameraRel().GetTargets()
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
        _TURN_Z if up == "Z" else _YUP, unit, image,
        np.swapaxes(np.array(Vt.Matrix4dArray(locals_)), 1, 2)[:, :3], np.swapaxes(np.array(Vt.Matrix4dArray(tops)), 1, 2),
        up, unit, own, frozenset({"rate", *(["image"] if image is not asked.image else [])}),
    )  # fmt: skip


def _posed(
    name: str, frames: Floats, rate: Fraction, locals_: list[Floats], lens: dict[str, Floats], world: Floats, unit: float,
    image: Image, file_up: str | None, file_unit_m: float | None,
) -> FileViews:  # fmt: skip
    """Views of a camera that looks along its local -Z, from the transforms above it, outermost first, (n, 4, 4) each."""
    n = len(frames)
    whole = np.tile(np.eye(4), (n, 1, 1))
    for local in locals_:
        whole = whole @ local
    return FileViews(
        name, frames, rate, _view_of(whole), _window(lens), lens["focal_mm"],
        {k: v for k, v in lens.items() if k in ("squeeze", "focus_m", "fstop", "near_m", "far_m")}, world, unit, image,
        np.broadcast_to(locals_[-1], (n, 4, 4))[:, :3].copy(), np.broadcast_to(locals_[0], (n, 4, 4)).copy(), file_up, file_unit_m,
    )  # fmt: skip


def _view_of(pose: Floats) -> Floats:
    """World points to (right, up, ahead) from camera-to-world matrices (n, 4, 4) that look along -Z."""
    rows = np.swapaxes(pose[:, :3, :3], 1, 2) * np.array([[1.0], [1.0], [-1.0]])
    return np.concatenate([rows, -np.einsum("nij,nj->ni", rows, pose[:, :3, 3])[:, :, None]], axis=2)


def _window(lens: dict[str, Floats]) -> Floats:
    half_w, half_h = lens["squeeze"] * lens["film_width_mm"] / 2, lens["film_height_mm"] / 2
    x, y = lens["offset_x_mm"], lens["offset_y_mm"]
    return np.stack([x - half_w, x + half_w, y - half_h, y + half_h], axis=1) / lens["focal_mm"][:, None]


def _alembic_views(path: Path, asked: Asked) -> FileViews:
    """Xform samples stacked by the library's own matrices, the lens from its camera samples. The archive has no
    unit and no axes: it is taken to be in the package's unit with the standard's axes of its up axis."""
    from alembic3d import Abc, AbcGeom

    archive = Abc.IArchive(str(path))
    chains: list[list[Any]] = []
    top = archive.getTop()
    waiting: list[tuple[Any, list[Any]]] = [(top.getChild(i), []) for i in range(top.getNumChildren())]
    while waiting:
        entry, above = waiting.pop(0)
        here = (
            [*above, AbcGeom.IXform(entry.getParent(), entry.getName())]
            if AbcGeom.IXform.matches(entry.getMetaData())
            else above
        )
        if AbcGeom.ICamera.matches(entry.getMetaData()):
            chains.append([*here, AbcGeom.ICamera(entry.getParent(), entry.getName())])
        waiting += [(entry.getChild(i), here) for i in range(entry.getNumChildren())]
    # A camera goes by the name of its transform: it has none of itself.
    chain = chosen(path.name, [(c[-2 if len(c) > 1 else -1].getName(), c) for c in chains], asked.camera)
    profile, image, at = asked.profile, asked.image, asked.at
    camera = chain[-1].getSchema()
    counts = [c.getSchema().getNumSamples() for c in chain]
    sampling = chain[int(np.argmax(counts))].getSchema().getTimeSampling()
    times = np.array([sampling.getSampleTime(i) for i in range(max(1, *counts))])
    guessed = nearest_rate(1 / float(np.min(np.diff(times)))) if len(times) > 1 else Fraction(24)
    rate = asked.rate or guessed  # the archive states none
    frames = np.round(times * float(rate), 6)
    pick = Abc.ISampleSelector
    near = pick.TimeIndexType.kNearIndex
    locals_ = [
        np.array(
            [
                np.array(x.getSchema().getValue(pick(t, near)).getMatrix()).reshape(4, 4).T
                for t in times.tolist()
            ]
        )
        for x in chain[:-1]
    ] or [np.tile(np.eye(4), (len(times), 1, 1))]
    samples = [camera.getValue(pick(t, near)) for t in times.tolist()]

    def channel(name: str, factor: float = 1.0) -> Floats:
        return np.array([getattr(s, name)() for s in samples]) * factor

    unit = profile.metres_per_unit
    lens = {
        "focal_mm": channel("getFocalLength"), "film_width_mm": channel("getHorizontalAperture", 10), "film_height_mm": channel("getVerticalAperture", 10),
        "offset_x_mm": channel("getHorizontalFilmOffset", 10), "offset_y_mm": channel("getVerticalFilmOffset", 10),
        "squeeze": channel("getLensSqueezeRatio"), "focus_m": channel("getFocusDistance", unit), "fstop": channel("getFStop"),
        "near_m": channel("getNearClippingPlane", unit), "far_m": channel("getFarClippingPlane", unit),
    }  # fmt: skip
    z_up = "Z" in profile.world.up
    # The last transform is the camera's own: an Alembic camera has none of itself.
    return _sampled_views(_posed(
        chain[-1].getName(), frames, rate, locals_, lens, _TURN_Z if z_up else _YUP, unit, image, "Z" if z_up else "Y", unit
    ), at)  # fmt: skip


def _sampled_views(views: FileViews, at: Floats | None) -> FileViews:
    """The same views where they are asked for at their own samples, else between them."""
    own = views.frames
    views = replace(views, own_frames=own)
    if at is None or (len(at) == len(own) and np.allclose(at, own, rtol=0, atol=1e-4)):
        return views
    return _between(views, at)


def _between(views: FileViews, at: Floats) -> FileViews:
    """Straight between samples, turns by the shortest arc."""
    own = views.frames
    rows = views.view[:, :, :3]
    pose = np.swapaxes(rows * np.array([[1.0], [1.0], [-1.0]]), 1, 2)
    place = -np.einsum("nij,nj->ni", np.swapaxes(rows, 1, 2), views.view[:, :, 3])
    where = np.clip(at, own[0], own[-1])
    turned = (
        Slerp(own, Rotation.from_matrix(pose))(where).as_matrix()
        if len(own) > 1
        else np.repeat(pose, len(at), axis=0)
    )
    moved = np.tile(np.eye(4), (len(at), 1, 1))
    moved[:, :3, :3] = turned
    moved[:, :3, 3] = np.stack([np.interp(where, own, v) for v in place.T], axis=1)
    # The lens runs in millimetres, not in tangents.
    focal = np.interp(where, own, views.focal_mm)
    edges_mm = np.stack([np.interp(where, own, v * views.focal_mm) for v in views.window.T], axis=1)
    return FileViews(
        views.name, at, views.rate, _view_of(moved), edges_mm / focal[:, None],
        focal, {k: np.interp(where, own, v) for k, v in views.others.items()}, views.world, views.unit,
        views.image, moved[:, :3], moved, views.file_up, views.file_unit_m, own,
    )  # fmt: skip


def _gltf_views(path: Path, asked: Asked) -> FileViews:
    """By the standard's words: node transforms outermost first, quaternions, yfov in radians, seconds."""
    from anaxis.standin.gltf import evaluate

    zooms = asked.profile.lens.reads_gltf_zoom
    found = evaluate(path, asked.at, asked.camera, asked.rate, asked.zero_frame, zooms)
    image = Image(*found.size, found.pixel_aspect) if found.size else asked.image
    views = _posed(found.name, found.frames, found.rate, found.locals, found.lens, _YUP, 1.0, image, "Y", 1.0)
    return replace(views, own_frames=found.own_frames, stated=frozenset({"image"} if found.size else ()))


def _collada_views(path: Path, asked: Asked) -> FileViews:
    from anaxis.standin.collada import evaluate

    found = evaluate(path, asked.at, asked.camera, asked.rate, asked.zero_frame or 0.0)
    world = _TURN_Z if found.up == "Z" else _YUP
    views = _posed(
        found.name, found.frames, found.rate, found.locals, found.lens, world, found.unit, asked.image, found.up, found.unit
    )  # fmt: skip
    return replace(views, own_frames=found.own_frames)


def _axes_rows(axes: Axes) -> Floats:
    """Columns: where right, up and back point, spelled out from their names."""
    unit = {"X": (1.0, 0.0, 0.0), "Y": (0.0, 1.0, 0.0), "Z": (0.0, 0.0, 1.0)}
    named = (axes.right, axes.up, axes.back)
    return np.stack([np.array(unit[n[1]]) * (1.0 if n[0] == "+" else -1.0) for n in named], axis=1)


def _own_views(
    name: str, frames: Floats, rate: Fraction, position: Floats, rotation: Floats, lens: dict[str, Floats], axes: Axes,
    world: Axes, unit: float, image: Image,
) -> FileViews:  # fmt: skip
    """Views from a package's own position and rotation: its camera's axes, as vectors in its world."""
    local = _axes_rows(axes)
    right, up, ahead = (rotation @ local[:, 0], rotation @ local[:, 1], rotation @ -local[:, 2])
    rows = np.stack([right, up, ahead], axis=1)
    view = np.concatenate([rows, -np.sum(rows * position[:, None, :], axis=2)[:, :, None]], axis=2)
    pose = np.tile(np.eye(4), (len(frames), 1, 1))
    pose[:, :3, :3] = np.stack([right, up, -ahead], axis=2)
    pose[:, :3, 3] = position
    spread = {k: np.broadcast_to(v, frames.shape) for k, v in lens.items()}
    others: dict[str, Floats] = {
        k: spread[k] for k in ("squeeze", "fstop", "focus_m", "near_m", "far_m") if k in spread
    }
    placed = _axes_rows(world)
    top = pose.copy()
    top[:, :3, :3] = rotation
    return FileViews(
        name,
        frames,
        rate,
        view,
        _window(spread),
        np.array(spread["focal_mm"]),
        others,
        placed,
        unit,
        image,
        pose[:, :3],
        top,
    )


def _column_views(path: Path, asked: Asked) -> FileViews:
    """A table by the package's own layout, or by the headings it has; what it does not hold is as it was typed."""
    profile, image, at = asked.profile, asked.image, asked.at
    column = _by_layout(path, profile.table) if profile.table is not None else _by_headings(path)
    numbers, seconds = column.get("frame"), column.get("seconds")
    if numbers is None:
        rate = asked.rate or parse_rate(profile.time.rate)
        numbers = np.round(column["seconds"] * float(rate), 4)
    elif seconds is not None and len(numbers) > 1 and seconds[-1] > seconds[0]:
        rate = nearest_rate(float((numbers[-1] - numbers[0]) / (seconds[-1] - seconds[0])))
    else:
        rate = asked.rate or parse_rate(profile.time.rate)
    own = numbers
    if at is not None and not np.array_equal(at, numbers):
        column = {k: np.interp(at, numbers, v) for k, v in column.items()}
        numbers = at
    position = np.stack([column[f"position_{a}"] for a in "xyz"], axis=1)
    if "quaternion_w" in column:
        turned = Rotation.from_quat(np.stack([column[f"quaternion_{a}"] for a in "xyzw"], axis=1)).as_matrix()
    else:
        angles = np.stack([column[f"rotation_{a}_deg"] for a in "xyz"], axis=1) * profile.rotation.signs
        turned = _turned(angles, profile.rotation.order)
    lens = _column_lens(column, asked, len(numbers))
    views = _own_views(
        path.stem, numbers, rate, position, turned, lens, profile.camera, profile.world, profile.metres_per_unit, image
    )  # fmt: skip
    return replace(views, own_frames=own, stated=frozenset({"rate"} if seconds is not None else ()))


def _by_headings(path: Path) -> dict[str, Floats]:
    with path.open(encoding="utf-8", newline="") as source:
        rows = list(csv.DictReader(source))
    return {k: np.array([float(r[k] or "nan") for r in rows]) for k in rows[0]}


# What one of a table's units is in the unit of the names used here.
_TABLE_UNITS = {"rad": np.degrees(1.0), "cm": 10.0, "m": 1000.0, "inch": 25.4, "ms": 0.001}
_IN_DEGREES, _IN_MM = ("rotation", "hfov", "vfov"), ("focal", "film", "offset")


def _by_layout(path: Path, rule: TableRule) -> dict[str, Floats]:
    """The columns of a table under their plain names. Raises BadInput for a row with more or fewer cells."""
    separator = {"comma": ",", "semicolon": ";", "tab": "\t", "blank": " "}[rule.separator]
    with path.open(encoding="utf-8", newline="") as source:
        lines = (x for x in source if x.strip() and not x.lstrip().startswith(("#", "//")))
        if separator == " ":  # those at the ends separate nothing
            lines = (x.strip() + "\n" for x in lines)
        rows = list(csv.reader(lines, delimiter=separator, skipinitialspace=separator == " "))
    rows = rows[1:] if rule.headings else rows
    for i, row in enumerate(rows, 1 + rule.headings):
        if len(row) != len(rule.columns):
            raise BadInput(
                f"{path.name}, row {i}, has {len(row)} cells and the package's layout has {len(rule.columns)} columns: "
                "export the table again, or change the layout."
            )
    out = {}
    for i, held in enumerate(rule.columns):
        kind = held.quantity.split("_")[0]
        name = held.quantity + (
            "_deg" if kind in _IN_DEGREES else "_mm" if kind in _IN_MM else "_px" if kind == "zoom" else ""
        )
        values = np.array([float(r[i] or "nan") for r in rows])
        out[name] = values * held.sign * _TABLE_UNITS.get(held.unit, 1.0)
    return out


def _column_lens(column: dict[str, Floats], asked: Asked, count: int) -> dict[str, Floats]:
    """The lens of a table: what it does not say is as a person typed it there, else a full frame without offsets."""
    otherwise = {
        "film_width_mm": 36.0,
        "film_height_mm": 24.0,
        "offset_x_mm": 0.0,
        "offset_y_mm": 0.0,
        "squeeze": 1.0,
    }
    lens = {k: column.get(k, np.full(count, (asked.typed or {}).get(k, v))) for k, v in otherwise.items()}
    wide = lens["squeeze"] * lens["film_width_mm"]
    shown_width, shown_height = inscribed(wide, lens["film_height_mm"], asked.image, asked.profile.lens.fit)
    if "focal_mm" in column:
        lens["focal_mm"] = column["focal_mm"]
    elif "hfov_deg" in column:
        lens["focal_mm"] = shown_width / 2 / np.tan(np.radians(column["hfov_deg"]) / 2)
    elif "vfov_deg" in column:
        lens["focal_mm"] = shown_height / 2 / np.tan(np.radians(column["vfov_deg"]) / 2)
    elif "zoom_px" in column:
        lens["focal_mm"] = column["zoom_px"] * shown_width / asked.image.width_px
    else:
        lens["focal_mm"] = np.full(count, (asked.typed or {}).get("focal_mm", 50.0))
    if "fstop" in column:
        lens["fstop"] = column["fstop"]
    if "focus" in column:
        lens["focus_m"] = column["focus"] * asked.profile.metres_per_unit
    return lens


def inscribed(width: Floats, height: Floats, image: Image, fit: str) -> tuple[Floats, Floats]:
    """The part of a film back (n,) that an image shows, in the film back's unit."""
    aspect = image.width_px * image.pixel_aspect / image.height_px
    film = width / height
    by_width = {
        "width": np.ones_like(film), "height": np.zeros_like(film), "stretch": np.full_like(film, np.nan),
        "inside": (aspect > film).astype(np.float64), "outside": (aspect <= film).astype(np.float64),
    }[fit]  # fmt: skip
    return np.where(by_width == 0, height * aspect, width), np.where(by_width == 1, width / aspect, height)


def _turned(angles_deg: Floats, order: str) -> Floats:
    """Rotations (n, 3, 3) from plain angles about x, y, z (n, 3), turned in ``order`` about fixed axes."""
    places = ["XYZ".index(a) for a in order]
    return np.asarray(Rotation.from_euler(order.lower(), angles_deg[:, places], degrees=True).as_matrix())


def _json_views(path: Path, asked: Asked) -> FileViews:
    at = asked.at
    document = json.loads(path.read_text(encoding="utf-8"))
    frames = np.array(document["frames"], dtype=np.float64)
    lens = {
        k: np.broadcast_to(np.array(v, dtype=np.float64), frames.shape) for k, v in document["lens"].items()
    }
    spoken = document["convention"]
    unit = spoken["metres_per_unit"]
    lens |= {f"{k}_m": lens.pop(k) * unit for k in ("focus", "near", "far") if k in lens}
    position, rotation = np.array(document["position"]), np.array(document["rotation"]).reshape(-1, 3, 3)
    own = frames
    if "keys" in document and (at is not None or len(frames) > 1):
        frames = frames if at is None else at
        curves = curves_of(document["keys"], frames)
        position = np.stack([curves[f"position_{a}"] for a in "xyz"], axis=1)
        turns = np.stack([curves[f"rotation_{a}"] for a in "xyz"], axis=1) * spoken["rotation"]["signs"]
        rotation = _turned(turns, spoken["rotation"]["order"])
        lens = {
            k: np.broadcast_to(v[:1], frames.shape) if k not in curves else curves[k] for k, v in lens.items()
        }
    views = _own_views(
        document["name"], frames, parse_rate(document["rate"]), position, rotation, lens, Axes(**spoken["camera"]), Axes(**spoken["world"]),
        unit, Image(**document["image"]),
    )  # fmt: skip
    return replace(views, own_frames=own, stated=frozenset({"rate", "image"}))


def curves_of(keys: dict[str, Any], at: Floats) -> dict[str, Floats]:
    """The channels of a track document's curves at frames ``at`` (n,), span by span by scipy."""
    known = np.array(keys["frames"], dtype=np.float64)
    span = np.clip(np.searchsorted(known, at, side="right") - 1, 0, max(0, len(known) - 2))
    out = {}
    for name, channel in keys["channels"].items():
        values = np.empty(len(at))
        for s in np.unique(span).tolist():
            inside, ends = span == s, slice(s, s + 2)
            slopes = [channel["slopes_out"][s], channel["slopes_in"][min(s + 1, len(known) - 1)]]
            values[inside] = (
                CubicHermiteSpline(known[ends], channel["values"][ends], slopes)(at[inside])
                if len(known) > 1
                else channel["values"][0]
            )
        out[name] = values
    return out
