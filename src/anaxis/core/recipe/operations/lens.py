"""Operations on the lens and on the part of the picture that it sees."""

from __future__ import annotations

import itertools
from dataclasses import replace
from typing import Any, Literal

import numpy as np
from pydantic import field_validator

from anaxis.core.camera.channels import BY_LABEL, CHANNELS
from anaxis.core.camera.lens import Image
from anaxis.core.camera.lens_edits import Part, changed_curve, from_table, of_part
from anaxis.core.camera.track import Lens
from anaxis.core.errors import BadInput
from anaxis.core.motion.edits import with_lens, with_near
from anaxis.core.motion.focus import distances_m, nearest_depths_m, pulled, shares
from anaxis.core.motion.set_objects import objects_of
from anaxis.core.parameters import Number, Parameters, parameter
from anaxis.core.recipe.model import Kind, Work
from anaxis.core.recipe.node_lens import with_node_lens
from anaxis.core.recipe.spans import FIRST, LAST, ends, only_over
from anaxis.core.time.rates import format_frame
from anaxis.core.typing import Floats

_SCALED = {
    "lens": ("focal_mm", "film_width_mm", "film_height_mm", "offset_x_mm", "offset_y_mm"),
    "film back": ("film_width_mm", "film_height_mm", "offset_x_mm", "offset_y_mm"),
    "focal length": ("focal_mm",),
}


class LensFactor(Parameters):
    """A lens that is a factor too large or too small: a unit mistaken on export."""

    what: Literal["lens", "film back", "focal length"] = parameter("What")
    factor: Number = parameter("Times")


def _lens_factor(work: Work, p: LensFactor) -> Work:
    if p.factor <= 0:
        raise BadInput(f"A factor of {p.factor:g} is not possible: it must be above zero.")
    return with_node_lens(work, lambda lens: {k: getattr(lens, k) * p.factor for k in _SCALED[p.what]})


LENS_FACTOR = Kind(
    "lens_factor", "Scale the lens", "tree", LensFactor, _lens_factor, lambda p: f"{p.what} × {p.factor:g}"
)


Keep = Literal["focal length", "field of view"]
# From a phone's sensor to a sheet of film, with room for mistakes in a unit.
_FILM_MM = (0.01, 100_000.0)


class SetFilmBack(Parameters):
    """The film back set to a size, keeping the focal length or the field of view."""

    width_mm: Number = parameter("Width", "mm")
    height_mm: Number = parameter("Height", "mm")
    keep: Keep | None = parameter("Keep the", default=None)


def _film_back(work: Work, p: SetFilmBack) -> Work:
    sides = (p.width_mm, p.height_mm)
    if not (_FILM_MM[0] <= min(sides) and max(sides) <= _FILM_MM[1]):
        raise BadInput(
            f"A film back needs a width and a height above zero, from {_FILM_MM[0]:g} to {_FILM_MM[1]:g} mm, not "
            f"{p.width_mm:g} x {p.height_mm:g} mm."
        )
    # A file that holds a field of view and no film back: the view is what is known of its lens.
    only_view = f"lens:{work.path}" in work.scene.guesses
    keep: Keep = p.keep or ("field of view" if only_view else "focal length")

    def sizes(lens: Lens) -> dict[str, Floats]:
        ratio = np.ones_like(lens.focal_mm)
        if keep == "field of view":
            by_height = work.scene.source_fit == "height"
            ratio = p.height_mm / lens.film_height_mm if by_height else p.width_mm / lens.film_width_mm
        return {
            "focal_mm": lens.focal_mm * ratio,
            "film_width_mm": np.full_like(lens.focal_mm, p.width_mm),
            "film_height_mm": np.full_like(lens.focal_mm, p.height_mm),
        }

    return with_node_lens(work, sizes)


FILM_BACK = Kind(
    "film_back",
    "Set the film back",
    "tree",
    SetFilmBack,
    _film_back,
    lambda p: f"{p.width_mm:.3f} × {p.height_mm:.3f} mm",
)


class Focal(Parameters):
    """One focal length, over a frame range or all of it."""

    focal_mm: Number = parameter("Focal length", "mm")
    first: Number | None = FIRST
    last: Number | None = LAST


def _focal(work: Work, p: Focal) -> Work:
    if p.focal_mm <= 0:
        raise BadInput(f"A focal length of {p.focal_mm:g} mm is not possible: it must be above zero.")
    track = work.done
    first, last = ends(p.first, p.last)
    inside = (track.frames >= first) & (track.frames <= last)
    if not inside.any():
        track.between(first, last)  # raises the sentence for it
    focal = np.where(inside, p.focal_mm, track.lens.focal_mm)
    return work.with_track(replace(track, lens=replace(track.lens, focal_mm=focal)))


FOCAL = Kind(
    "focal", "Set the focal length", "track", Focal, _focal, lambda p: f"{p.focal_mm:g} mm{only_over(p.first, p.last)}"
)


class LensCurve(Parameters):
    """One channel of the lens changed over a frame range: set, multiplied, offset, held outside."""

    channel: Literal[
        "focal length",
        "focus distance",
        "stop",
        "offset right",
        "offset up",
        "squeeze",
        "near clip",
        "far clip",
        "film back width",
        "film back height",
    ] = parameter("What")
    way: Literal["set to", "times", "plus", "hold outside"] = parameter("How")
    value: Number | None = parameter("Value", default=None)
    first: Number | None = FIRST
    last: Number | None = LAST

    @field_validator("channel", mode="before")
    @classmethod
    def _as_it_was_called(cls, channel: Any) -> Any:
        """Recipes kept before the clips had the trade's name."""
        return channel.replace(" plane", " clip") if isinstance(channel, str) else channel


def _lens_curve(work: Work, p: LensCurve) -> Work:
    return work.with_track(changed_curve(work.done, BY_LABEL[p.channel], p.way, p.value, *ends(p.first, p.last)))


def _lens_curve_words(p: LensCurve) -> str:
    what = f"{p.channel} {p.way}"
    if p.value is not None and p.way != "hold outside":
        what += f" {p.value:.6g}"
    return what + only_over(p.first, p.last)


LENS_CURVE = Kind("lens_curve", "Lens curve", "track", LensCurve, _lens_curve, _lens_curve_words, station="lens")


class LensTable(Parameters):
    """Lens data from a table: values on its frames, drawn straight between them; outside of them the camera's own stay."""

    of: str = parameter("Table", default="")
    frames: list[Number] = parameter("Frames")
    focal_mm: list[Number] | None = parameter("Focal length", "mm", default=None)
    focus_m: list[Number] | None = parameter("Focus distance", "m", default=None)
    fstop: list[Number] | None = parameter("Stop", default=None)

    @property
    def channels(self) -> dict[str, list[float]]:
        """The values of each channel that the table has."""
        held = {k: getattr(self, k) for k in ("focal_mm", "focus_m", "fstop")}
        return {k: v for k, v in held.items() if v is not None}


def _lens_table(work: Work, p: LensTable) -> Work:
    track = work.done
    if not p.frames or any(b <= a for a, b in itertools.pairwise(p.frames)):
        raise BadInput("The frames of the table must increase from row to row: sort the rows.")
    for channel, values in p.channels.items():
        if len(values) != len(p.frames):
            raise BadInput(
                f"The table has {len(p.frames)} frames and {len(values)} values of the {CHANNELS[channel].label}."
            )
        track = from_table(track, channel, np.array(p.frames), np.array(values))
    return work.with_track(track)


def _lens_table_words(p: LensTable) -> str:
    labels = ", ".join(CHANNELS[c].label for c in p.channels)
    return f"{labels}{f' from {p.of}' if p.of else ''}, frames {format_frame(min(p.frames))} to {format_frame(max(p.frames))}"


LENS_TABLE = Kind(
    "lens_table", "Lens data from a table", "track", LensTable, _lens_table, _lens_table_words, station="lens", by_hand=False, moves_camera=False,
)  # fmt: skip


class FocusOn(Parameters):
    """The focus distance measured to a landmark or an object of the set, from a frame on, or pulled to it between two frames."""

    name: str = parameter("Landmark or object")
    where: Literal["middle", "nearest surface", "point in it"] = parameter("At its", default="middle")
    x: Number | None = parameter("Point X, in the object's own space", default=None)
    y: Number | None = parameter("Point Y", default=None)
    z: Number | None = parameter("Point Z", default=None)
    measured: Literal["along the view axis", "straight"] = parameter("Measured", default="along the view axis")
    offset_m: Number = parameter("Further away", "m", default=0.0)
    first: Number | None = parameter("Pull begins at frame", default=None)
    last: Number | None = parameter("Pull ends at frame", default=None)
    easing: Literal["linear", "eased"] = parameter("Pull", default="eased")


def _focus_on(work: Work, p: FocusOn) -> Work:
    track = work.done
    if p.last is not None and (p.first is None or p.last < p.first):
        raise BadInput("A focus pull needs a first frame before its last frame: type both.")
    wanted = _distance_m(work, p) + p.offset_m
    share = shares(track.frames, p.first, p.last, p.easing == "eased")
    return work.with_track(replace(track, lens=replace(track.lens, focus_m=pulled(track, p.name, wanted, share))))


def _distance_m(work: Work, p: FocusOn) -> Floats:
    """How far what is focused on is from the camera on every frame, (n,)."""
    track, straight = work.done, p.measured == "straight"
    if p.where == "middle":
        marks = work.landmarks
        return distances_m(track, marks.position_m[:, marks.index(p.name)], straight)
    found = next((o for o in objects_of(work.around) if p.name in (o.name, o.path)), None)
    if found is None:
        raise BadInput(
            f"The set has no object '{p.name[:60]}': its {p.where.removesuffix(' in it')} cannot be focused on."
        )
    if p.where == "point in it":
        if p.x is None or p.y is None or p.z is None:
            raise BadInput("A point in an object needs X, Y and Z in the object's own space: type all three.")
        point = np.array([p.x, p.y, p.z])
        return distances_m(track, found.matrix_m[:, :3, :3] @ point + found.matrix_m[:, :3, 3], straight)
    if straight:
        raise BadInput(
            "The nearest surface is measured along the view axis: choose 'along the view axis', or the middle."
        )
    return nearest_depths_m(track, found)


def _focus_on_words(p: FocusOn) -> str:
    what = (
        p.name
        + ("" if p.where == "middle" else f", {p.where}")
        + (f", {p.offset_m:+g} m" if p.offset_m else "")
        + (", straight" if p.measured == "straight" else "")
    )
    if p.first is None:
        return what
    if p.last is None or p.last <= p.first:
        return f"{what}, from frame {format_frame(p.first)}"
    return f"{what}, pulled over frames {format_frame(p.first)} to {format_frame(p.last)}, {p.easing}"


FOCUS_ON = Kind(
    "focus_on", "Focus on an object", "track", FocusOn, _focus_on, _focus_on_words, station="lens", moves_camera=False
)


class PartOfPlate(Parameters):
    """A part of the plate becomes the image; the picture's own size is kept beside the recipe."""

    plate_width_px: Number = parameter("plate width", "px")
    plate_height_px: Number = parameter("plate height", "px")
    x_px: Number = parameter("x", "px")
    y_px: Number = parameter("y", "px")
    width_px: Number = parameter("width", "px")
    height_px: Number = parameter("height", "px")
    pixel_aspect: Number = parameter("Pixel aspect")
    fit: Literal["width", "height", "inside", "outside", "stretch"] = parameter("Fit of the plate")


def _part_picture(p: PartOfPlate) -> tuple[Image, Image]:
    plate = Image(int(p.plate_width_px), int(p.plate_height_px), p.pixel_aspect)
    return plate, Image(int(p.width_px), int(p.height_px), p.pixel_aspect)


def _part(work: Work, p: PartOfPlate) -> Work:
    part = Part(p.x_px, p.y_px, p.width_px, p.height_px)
    return work.with_track(of_part(work.done, _part_picture(p)[0], p.fit, part))


def _part_words(p: PartOfPlate) -> str:
    return (
        f"{p.width_px:g} × {p.height_px:g} px at {p.x_px:g}, {p.y_px:g} of {p.plate_width_px:g} × {p.plate_height_px:g}"
    )


PART = Kind(
    "part",
    "Part of the plate",
    "track",
    PartOfPlate,
    _part,
    _part_words,
    station="lens",
    by_hand=False,
    picture=_part_picture,
)


class NearPlane(Parameters):
    """The near clip, on every frame."""

    near_m: Number = parameter("Near", "m")


def _near_plane(work: Work, p: NearPlane) -> Work:
    return work.with_track(with_near(work.done, p.near_m))


NEAR_PLANE = Kind("near_plane", "Set the near clip", "track", NearPlane, _near_plane, lambda p: f"{p.near_m:g} m")


class KeepLens(Parameters):
    """The lens of an earlier version kept over a newer motion."""

    lens: dict[str, Any] = parameter("Lens")
    of: str | None = parameter("Of", default=None)


def _keep_lens(work: Work, p: KeepLens) -> Work:
    return work.with_track(with_lens(work.done, p.lens))


KEEP_LENS = Kind(
    "keep_lens",
    "Restore an earlier lens",
    "track",
    KeepLens,
    _keep_lens,
    lambda p: f"that of {p.of or 'an earlier version'}",
    by_hand=False,
    once=True,
)
