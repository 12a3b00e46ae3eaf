"""The stand-in: opens a delivered file as a receiving package would, and says what it sees.

It is the other side of the proof, so it shares no conversion code with the writers: a USD file is
evaluated by the format library's own camera and frustum, columns and track JSON by scipy's
rotations and the profile's axes spelled out as vectors. Its fit is its own arithmetic, on the
tangents of the view rather than on millimetres.
"""

from __future__ import annotations

import csv
import json
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from scipy.interpolate import CubicHermiteSpline
from scipy.spatial.transform import Rotation

from anaxis.core.errors import BadInput
from anaxis.core.lens import Image
from anaxis.core.typing import Floats
from anaxis.profiles.model import Axes, Profile


@dataclass(frozen=True, eq=False)
class Seen:
    """What arrived: ``pixel_matrices`` (n, 3, 4) take canonical metres to (x_px d, y_px d, d)."""

    frames: Floats
    pixel_matrices: Floats
    image: Image


@dataclass(frozen=True, eq=False)
class _Views:
    """Cameras as the file gives them, in the file's world.

    ``view`` (n, 3, 4) takes a world point to (right, up, ahead); ``window`` (n, 4) holds left,
    right, bottom, top of the whole film back as tangents; ``world`` (3, 3) and ``unit`` place a
    canonical point in the file's world.
    """

    frames: Floats
    view: Floats
    window: Floats
    world: Floats
    unit: float
    image: Image


def open_as_package(path: Path, profile: Profile, image: Image, frames: Floats | None = None) -> Seen:
    """Open a delivered file by a profile, at the file's own samples or at ``frames`` (n,).

    Between samples the file's own rule holds: straight for USD and tables, the curves of track JSON.
    ``image`` is used where the file states no resolution. Raises BadInput for a file this
    package has no reader for.
    """
    readers: dict[str, Callable[[Path, Profile, Image, Floats | None], _Views]] = {
        ".usd": _usd_views, ".json": _json_views, ".csv": _column_views
    }  # fmt: skip
    if path.suffix not in readers:
        raise BadInput(f"The stand-in for '{profile.label}' has no reader for {path.name}.")
    views = readers[path.suffix](path, profile, image, frames)
    return Seen(views.frames, _to_pixels(views, profile.lens.fit), views.image)


def _to_pixels(views: _Views, fit: str) -> Floats:
    """Inscribe the image in the film back's window and scale it to pixels."""
    left, right, bottom, top = views.window.T
    width, height = right - left, top - bottom
    aspect = views.image.width_px * views.image.pixel_aspect / views.image.height_px
    film = width / height
    grow_height = {
        "width": np.ones_like(film), "height": np.zeros_like(film), "stretch": np.full_like(film, np.nan),
        "inside": (aspect > film).astype(np.float64), "outside": (aspect <= film).astype(np.float64),
    }[fit]  # fmt: skip
    shown_width = np.where(grow_height == 0, height * aspect, width)
    shown_height = np.where(grow_height == 1, width / aspect, height)
    n = len(film)
    lens = np.zeros((n, 3, 3))
    lens[:, 0, 0] = views.image.width_px / shown_width
    lens[:, 0, 2] = views.image.width_px * (0.5 - (left + right) / 2 / shown_width)
    lens[:, 1, 1] = -views.image.height_px / shown_height
    lens[:, 1, 2] = views.image.height_px * (0.5 + (bottom + top) / 2 / shown_height)
    lens[:, 2, 2] = 1.0
    placed = np.zeros((4, 4))
    placed[:3, :3], placed[3, 3] = views.world / views.unit, 1.0
    # Depth comes out in file units; back to metres so that all depths are of one kind.
    return lens @ (views.view @ placed) * views.unit


def _usd_views(path: Path, _profile: Profile, image: Image, at: Floats | None) -> _Views:
    """The format library's own evaluation: Gf.Camera's frustum at every frame of the file."""
    from pxr import Gf, Usd, UsdGeom, UsdRender, Vt

    stage = Usd.Stage.Open(str(path))
    prim = next(p for p in stage.Traverse() if p.IsA(UsdGeom.Camera))
    camera = UsdGeom.Camera(prim)
    # The samples as they lie in the file: a bake may be on half or on every second frame.
    samples = UsdGeom.Xformable(prim).GetTimeSamples()
    frames = np.array(samples or [stage.GetStartTimeCode()], dtype=np.float64) if at is None else at
    matrices, windows = [], np.empty((len(frames), 4))
    for i, frame in enumerate(frames.tolist()):
        frustum = camera.GetCamera(frame).frustum
        window = frustum.GetWindow()
        low, high = window.GetMin(), window.GetMax()
        windows[i] = low[0], high[0], low[1], high[1]
        matrices.append(frustum.ComputeViewMatrix())
    view = np.swapaxes(np.array(Vt.Matrix4dArray(matrices)), 1, 2)[:, :3].copy()
    view[:, 2] *= -1.0  # the library looks along -Z; ahead is counted positive here
    turn = np.eye(3)
    if UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.z:
        turn = np.array(Gf.Matrix3d(Gf.Rotation(Gf.Vec3d(1, 0, 0), 90.0))).T
    settings = UsdRender.Settings.GetStageRenderSettings(stage)
    if settings and settings.GetResolutionAttr().HasAuthoredValue():
        width, height = settings.GetResolutionAttr().Get()
        image = Image(width, height, float(settings.GetPixelAspectRatioAttr().Get()))
    return _Views(frames, view, windows, turn, UsdGeom.GetStageMetersPerUnit(stage), image)


def _axes_rows(axes: Axes) -> Floats:
    """Columns: where right, up and back point, spelled out from their names."""
    unit = {"X": (1.0, 0.0, 0.0), "Y": (0.0, 1.0, 0.0), "Z": (0.0, 0.0, 1.0)}
    named = (axes.right, axes.up, axes.back)
    return np.stack([np.array(unit[n[1]]) * (1.0 if n[0] == "+" else -1.0) for n in named], axis=1)


def _own_views(
    frames: Floats, position: Floats, rotation: Floats, lens: dict[str, Floats], axes: Axes,
    world: Axes, unit: float, image: Image,
) -> _Views:  # fmt: skip
    """Views from a package's own position and rotation: its camera's axes, as vectors in its world."""
    local = _axes_rows(axes)
    right, up, ahead = (rotation @ local[:, 0], rotation @ local[:, 1], rotation @ -local[:, 2])
    rows = np.stack([right, up, ahead], axis=1)
    view = np.concatenate([rows, -np.sum(rows * position[:, None, :], axis=2)[:, :, None]], axis=2)
    half_w = lens["squeeze"] * lens["film_width_mm"] / 2
    half_h = lens["film_height_mm"] / 2
    edges = [
        lens["offset_x_mm"] - half_w, lens["offset_x_mm"] + half_w,
        lens["offset_y_mm"] - half_h, lens["offset_y_mm"] + half_h,
    ]  # fmt: skip
    window = np.stack(edges, axis=1) / lens["focal_mm"][:, None]
    return _Views(frames, view, window, _axes_rows(world), unit, image)


def _turned(angles_deg: Floats, order: str) -> Floats:
    """Rotations (n, 3, 3) from plain angles about x, y, z (n, 3), turned in ``order`` about fixed axes."""
    places = ["XYZ".index(a) for a in order]
    return np.asarray(Rotation.from_euler(order.lower(), angles_deg[:, places], degrees=True).as_matrix())


def _curves(keys: dict[str, Any], at: Floats) -> dict[str, Floats]:
    """The channels of a track document's curves at frames ``at`` (n,), span by span by scipy."""
    known = np.array(keys["frames"], dtype=np.float64)
    span = np.clip(np.searchsorted(known, at, side="right") - 1, 0, max(0, len(known) - 2))
    out = {}
    for name, channel in keys["channels"].items():
        values = np.empty(len(at))
        for s in np.unique(span).tolist():
            inside, ends = span == s, slice(s, s + 2)
            slopes = [channel["slopes_out"][s], channel["slopes_in"][min(s + 1, len(known) - 1)]]
            drawn = (
                CubicHermiteSpline(known[ends], channel["values"][ends], slopes)(at[inside])
                if len(known) > 1
                else channel["values"][0]
            )
            values[inside] = drawn
        out[name] = values
    return out


def _column_views(path: Path, profile: Profile, image: Image, at: Floats | None) -> _Views:
    with path.open(encoding="utf-8", newline="") as source:
        rows = list(csv.DictReader(source))
    column = {k: np.array([float(r[k] or "nan") for r in rows]) for k in rows[0]}
    if at is not None and not np.array_equal(at, column["frame"]):
        column = {k: np.interp(at, column["frame"], v) for k, v in column.items()}
    position = np.stack([column[f"position_{a}"] for a in "xyz"], axis=1)
    angles = np.stack([column[f"rotation_{a}_deg"] for a in "xyz"], axis=1) * profile.rotation.signs
    return _own_views(
        column["frame"], position, _turned(angles, profile.rotation.order), column, profile.camera, profile.world,
        profile.metres_per_unit, image,
    )  # fmt: skip


def _json_views(path: Path, profile: Profile, image: Image, at: Floats | None) -> _Views:
    document = json.loads(path.read_text(encoding="utf-8"))
    frames = np.array(document["frames"], dtype=np.float64)
    lens = {
        k: np.broadcast_to(np.array(v, dtype=np.float64), frames.shape) for k, v in document["lens"].items()
    }
    spoken = document["convention"]
    position, rotation = np.array(document["position"]), np.array(document["rotation"]).reshape(-1, 3, 3)
    if "keys" in document:
        frames = frames if at is None else at
        curves = _curves(document["keys"], frames)
        position = np.stack([curves[f"position_{a}"] for a in "xyz"], axis=1)
        turns = np.stack([curves[f"rotation_{a}"] for a in "xyz"], axis=1) * spoken["rotation"]["signs"]
        rotation = _turned(turns, spoken["rotation"]["order"])
        lens |= {k: v for k, v in curves.items() if k in lens}
    return _own_views(
        frames,
        position,
        rotation,
        lens,
        Axes(**spoken["camera"]),
        Axes(**spoken["world"]),
        spoken["metres_per_unit"],
        Image(**document["image"]),
    )
