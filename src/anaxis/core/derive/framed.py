"""Framed in a sphere: an ordinary camera in the place of a 360-degree plate's, that follows an object."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track, make_lens
from anaxis.core.derive.derived import Derived, DerivedKind, Input, Inputs
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.names import listed
from anaxis.core.parameters import Number, Parameters, Positive, parameter
from anaxis.core.time.rates import format_frame
from anaxis.core.typing import Bools, Floats

PLATE_CAMERA = "plate camera"
# An object that reaches this close to a right angle beside the aim has no picture worth the name.
_WIDEST_TAN = np.tan(np.radians(80.0))
_WIDE_DEG, _POLE_DEG = 120.0, 10.0
_STEPS = 60


class Frame(Parameters):
    """Follow ``objects`` with a ``border`` on each side, a share of the picture in percent or pixels; ``stabilised`` says
    that the plate's picture does not turn with its camera."""

    objects: tuple[str, ...] = parameter("Objects")
    border: Number = parameter("Border", default=10.0)
    border_in: Literal["percent", "px"] = parameter("Border in", default="percent")
    view: Literal["changes", "constant"] = parameter("Field of view", default="changes")
    width_px: int = parameter("Width", "px", default=1920)
    height_px: int = parameter("Height", "px", default=1080)
    film_width_mm: Positive = parameter("Film back width", "mm", default=36.0)
    plate: Literal["as shot", "stabilised"] = parameter("Plate", default="as shot")
    plate_width_px: int = parameter("Plate's width", "px", default=4096)
    plate_id: int = parameter("Plate", default=0)
    name: str = parameter("Name", default="framing")

    @property
    def image(self) -> Image:
        return Image(self.width_px, self.height_px)

    @property
    def plate_image(self) -> Image:
        return Image(self.plate_width_px, self.plate_width_px // 2)


def make(inputs: Inputs, p: Frame) -> Derived:
    """Raises BadInput where the object is not there, stands in or around the camera, or leaves no room for its border."""
    source = inputs[PLATE_CAMERA]
    track, image = source.track, p.image
    points = object_points(source, p.objects)
    plate = plate_axes(track, p.plate == "stabilised")
    shares = _room(p, image)
    away = points - track.position_m[:, None, :]
    aim = aimed(away, plate[:, :, 1], plate[:, :, 0])
    half = _half_tangent(away, aim, track, shares, image)
    if p.view == "constant":
        half = np.full_like(half, half.max())
    middle = np.linalg.norm(away.mean(axis=1), axis=1)
    lens = make_lens(
        len(track), focal_mm=p.film_width_mm / (2 * half), film_width_mm=p.film_width_mm, film_height_mm=p.film_width_mm / image.aspect,
        focus_m=middle, fstop=track.lens.fstop,
    )  # fmt: skip
    made = Track(p.name, track.frames, track.rate, track.position_m, aim, lens, track.marked)
    findings = [*_limits(made, away, plate, half, image), _said(source, p)]
    return Derived(made, image, "width", source.landmarks, source.lines_m, source.triangles_m, tuple(findings))


def object_points(source: Input, names: tuple[str, ...]) -> Floats:
    """The points (1 or n, m, 3) of the objects: what they are given by, else a landmark alone. Raises BadInput."""
    found = []
    for name in names:
        if name in source.objects:
            found.append(source.objects[name])
        else:
            at = source.landmarks.index(name)
            found.append(source.landmarks.position_m[:, at : at + 1])
    if not found:
        raise BadInput("No object to frame: choose a landmark or an object of the set.")
    count = max(len(f) for f in found)
    return np.concatenate([np.broadcast_to(f, (count, *f.shape[1:])) for f in found], axis=1)


def plate_axes(track: Track, stabilised: bool) -> Floats:
    """How the plate's picture is on every frame, (n, 3, 3): as its camera, or as the world where it is stabilised."""
    return np.broadcast_to(np.eye(3), (len(track), 3, 3)) if stabilised else track.rotation


def _room(p: Frame, image: Image) -> tuple[float, float]:
    """The shares of the picture's half width and half height that the object may take. Raises BadInput."""
    by = (100.0, 100.0) if p.border_in == "percent" else (image.width_px, image.height_px)
    shares = 1 - 2 * p.border / by[0], 1 - 2 * p.border / by[1]
    if not (p.border >= 0 and min(shares) > 0.01):
        unit = "%" if p.border_in == "percent" else " px"
        raise BadInput(
            f"A border of {p.border:g}{unit} on each side leaves no picture in {image.width_px} x {image.height_px} px: use a smaller border."
        )
    return shares


def aimed(away_m: Floats, up: Floats, right: Floats) -> Floats:
    """Rotations (n, 3, 3) that hold the points ``away_m`` (n, m, 3) with the smallest window, level to ``up`` (n, 3).

    The middle of the points' window is aimed at, again and again until it lies in the middle, so that both sides reach
    as far; ``right`` (n, 3) is kept where the aim runs along ``up``.
    """
    with np.errstate(invalid="ignore", divide="ignore"):
        unit = away_m / np.linalg.norm(away_m, axis=2, keepdims=True)
        back = -unit.mean(axis=1)
        back /= np.linalg.norm(back, axis=1, keepdims=True)
        for _ in range(_STEPS):
            axes = _level(back, up, right)
            seen = np.einsum("nji,nmj->nmi", axes, away_m)
            tangents = seen[..., :2] / -seen[..., 2:]
            middle = (tangents.max(axis=1) + tangents.min(axis=1)) / 2
            behind = (seen[..., 2] >= 0).any(axis=1) | ~np.isfinite(middle).all(axis=1)
            middle[behind] = 0.0  # said afterwards
            if np.abs(middle).max() < 1e-13:
                break
            back = back - np.einsum("nij,nj->ni", axes[:, :, :2], middle)
            back /= np.linalg.norm(back, axis=1, keepdims=True)
    return _level(back, up, right)


def _level(back: Floats, up: Floats, spare: Floats) -> Floats:
    right = np.cross(up, back)
    length = np.linalg.norm(right, axis=1, keepdims=True)
    other = spare - np.sum(spare * back, axis=1, keepdims=True) * back
    right = np.where(length < 1e-6, other, right)
    right = right / np.linalg.norm(right, axis=1, keepdims=True)
    return np.stack([right, np.cross(back, right), back], axis=2)


def _half_tangent(away: Floats, aim: Floats, track: Track, shares: tuple[float, float], image: Image) -> Floats:
    """Half the picture's width as a tangent, (n,). Raises BadInput where the object is around or in the camera."""
    seen = np.einsum("nji,nmj->nmi", aim, away)
    with np.errstate(invalid="ignore", divide="ignore"):
        tangents = np.abs(seen[..., :2]) / -seen[..., 2:]
    bad = (
        ~np.isfinite(tangents).all(axis=(1, 2))
        | (seen[..., 2] >= 0).any(axis=1)
        | (tangents.max(axis=(1, 2)) > _WIDEST_TAN)
    )
    if bad.any():
        _refuse_around(bad, away, track)
    wide = np.maximum(tangents[..., 0].max(axis=1) / shares[0], tangents[..., 1].max(axis=1) * image.aspect / shares[1])
    return np.maximum(wide, 1e-6)  # a single point has no size


def _refuse_around(bad: Bools, away: Floats, track: Track) -> None:
    at = np.flatnonzero(bad)
    where = format_frame(track.frames[at[0]]) + (f" and on {len(at) - 1} more" if len(at) > 1 else "")
    if (np.linalg.norm(away[at], axis=2) < 1e-9).any():
        raise BadInput(
            f"The object is at the camera position on frame {where}: its direction is undefined. Choose another object, or trim these frames."
        )
    raise BadInput(
        f"The object surrounds the camera on frame {where}: no lens can show all of it. Choose a part of the object, or trim these frames."
    )


def _limits(made: Track, away: Floats, plate: Floats, half: Floats, image: Image) -> Iterator[Finding]:
    frames = made.frames
    size = np.linalg.norm(np.ptp(away, axis=1), axis=1)
    nearest = np.linalg.norm(away, axis=2).min(axis=1)
    near = nearest < size
    if near.any():
        at = int(np.argmax(size - nearest))
        yield Finding(
            "framed_near", "warning",
            f"The object is closer than its own size on {int(near.sum())} frames, at frame {format_frame(frames[at])} {nearest[at]:.3g} m away and "
            f"{size[at]:.3g} m large.", "Check these frames: the camera may see parts of the object from inside.",
            "At this distance the depth of the object no longer fits the single viewpoint of the sphere.", {"frames": int(near.sum())},
        )  # fmt: skip
    view = np.degrees(2 * np.arctan(np.maximum(half, half / image.aspect)))
    if view.max() > _WIDE_DEG:
        at = int(np.argmax(view))
        yield Finding(
            "framed_wide", "warning", f"The field of view reaches {view[at]:.1f} degrees at frame {format_frame(frames[at])}.",
            "Frame a part of the object on these frames.", "Such a wide picture stretches its corners: most pixels show little of the plate.",
            {"view_deg": float(view[at])},
        )  # fmt: skip
    up = np.degrees(np.arccos(np.clip(np.abs(np.sum(made.rotation[:, :, 2] * plate[:, :, 1], axis=1)), 0, 1)))
    over = up < _POLE_DEG
    if over.any():
        at = int(np.argmin(up))
        where = "above" if np.sum(-made.rotation[at, :, 2] * plate[at, :, 1]) > 0 else "below"
        yield Finding(
            "framed_over", "warning",
            f"The object stands {where} the camera on {int(over.sum())} frames, within {up[at]:.1f} degrees of straight {'up' if where == 'above' else 'down'} at "
            f"frame {format_frame(frames[at])}: the roll changes quickly there.", "Check the roll on these frames before you render.",
            "Straight up or down, the horizon has no direction.", {"frames": int(over.sum())},
        )  # fmt: skip


def _said(source: Input, p: Frame) -> Finding:
    return Finding(
        "framing_camera", "note",
        f"A framing camera at the position of '{source.track.name}', that follows {listed(p.objects, 4)}.",
        "Map its renders into the plate with its maps.", "It has no parallax to the plate: both cameras are at one point.",
    )  # fmt: skip


def with_plate(p: Frame, image: Image) -> Frame:
    """The settings for a plate of another size."""
    return p.model_copy(update={"plate_width_px": image.width_px})


KIND = DerivedKind(
    "framed", "360-degree framing", Frame, make,
    lambda p: f"{', '.join(p.objects[:3])}{' and more' if len(p.objects) > 3 else ''}, border {p.border:g}{' %' if p.border_in == 'percent' else ' px'}",
)  # fmt: skip
