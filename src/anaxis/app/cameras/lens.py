"""A lens tried at one frame before it is taken into the recipe, and a part of the plate."""

from __future__ import annotations

import json
from dataclasses import asdict, replace

import numpy as np
from pydantic import BaseModel, ConfigDict, ValidationError

from anaxis.app.cameras.edit import add_operations
from anaxis.app.context import Context
from anaxis.app.typed_numbers import number_or_none
from anaxis.core.camera.channels import CHANNELS
from anaxis.core.camera.lens import FITS, Image, parse_size_mm, same_used
from anaxis.core.camera.lens_edits import WAYS, Part, of_part
from anaxis.core.camera.lens_trial import DRIVERS, KEEPS, Trial, driven, pixels_between, trial_at, with_film, with_fit
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation
from anaxis.core.scene.picture import Picture
from anaxis.core.time.rates import format_frame, nearest_places
from anaxis.core.typing import Floats
from anaxis.store.models import Version
from anaxis.store.queries import picture_of_version, track_of

# What a curve of a lens can be told: see the operation of lens curves.
CURVE_WAYS = WAYS


class LensState(BaseModel):
    """A lens being tried, as the page hands it back and forth."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    film_width_mm: float
    film_height_mm: float
    focal_mm: float
    offset_x_mm: float
    offset_y_mm: float
    squeeze: float
    fit: str

    def trial(self, image: Image) -> Trial:
        return Trial(**self.model_dump(), image=image)

    @staticmethod
    def of(trial: Trial) -> LensState:
        return LensState(**{k: v for k, v in asdict(trial).items() if k != "image"})


def lens_tried(version: Version, frame: str, state: str) -> tuple[Trial, Trial]:
    """The camera's lens at the frame nearest to the one typed, and the one that is tried (the same where ``state`` is empty).
    Raises BadInput."""
    track, picture = track_of(version)[0], picture_of_version(version)
    before = trial_at(track, place_of(track, frame), picture.image, picture.fit)
    if not state:
        return before, before
    try:
        return before, LensState.model_validate(json.loads(state)).trial(picture.image)
    except (ValidationError, ValueError, RecursionError) as error:
        raise BadInput("The lens in this form cannot be read: reload the page.") from error


def take_lens(context: Context, version: Version, frame: str, state: str, way: str, span: dict[str, float]) -> Version:
    """The lens tried, taken on the frames of ``span`` (see :func:`operations_between`): as operations of the recipe, and a fit as
    the picture's own. Raises BadInput where nothing was changed."""
    before, after = lens_tried(version, frame, state)
    found = operations_between(before, after, way, span)
    picture, words = picture_of_version(version), [said for _, said in found]
    if after.fit != before.fit:
        picture = replace(picture, fit=after.fit, fit_guessed=False)
        words.append(f"fit {after.fit}")
    if not words:
        raise BadInput("The camera already has this lens: change a number first.")
    return add_operations(context, version, [o for o, _ in found], ", ".join(words) + _span_words(span), picture)


def take_part(context: Context, version: Version, x: str, y: str, width: str, height: str) -> Version:
    """A part of the plate becomes the whole image: film back, offsets and resolution change together. Raises BadInput."""
    part, _ = typed_part(track_of(version)[0], picture_of_version(version), x, y, width, height)
    words = f"part {part.width_px:g} × {part.height_px:g} px of the plate"
    return add_operations(context, version, [_part_operation(picture_of_version(version), part)], words)


def pixel_matrix(before: Trial, after: Trial) -> list[float]:
    """Where pixels of one lens lie in the other's picture, a 3x3 matrix row after row."""
    return [float(v) for v in pixels_between(before, after).ravel()]


def fits_of(before: Trial, trial: Trial) -> list[tuple[str, Trial, list[float], bool]]:
    """The lens tried with every fit: the fit, the lens, its pixel matrix, and whether the picture is the same as with its own."""
    others = [(fit, replace(trial, fit=fit)) for fit in FITS]
    return [(fit, other, pixel_matrix(before, other), same_used(trial.used, other.used)) for fit, other in others]


def place_of(track: Track, frame: str) -> int:
    """The place of the frame nearest to the one asked for; the first where none was."""
    asked = number_or_none(frame, "a frame")
    return 0 if asked is None else int(np.argmin(np.abs(track.frames - asked)))


def changed_lens(trial: Trial, changed: str, value: str, keep: str) -> Trial:
    if not changed:
        return trial
    if changed == "film":
        return with_film(trial, *parse_size_mm(value), keep)
    if changed == "fit":
        return with_fit(trial, value, keep)
    if changed == "offset":
        x, _, y = value.partition(",")
        return replace(trial, offset_x_mm=_number(x, "the offset"), offset_y_mm=_number(y, "the offset"))
    number = _number(value, changed.rsplit("_", 1)[0].replace("_", " "))
    if changed in DRIVERS:
        return driven(trial, changed, number)
    if changed in ("film_width_mm", "film_height_mm"):
        sizes = {"film_width_mm": trial.film_width_mm, "film_height_mm": trial.film_height_mm} | {changed: number}
        if not number > 0:
            raise BadInput(f"A film back of {number:g} mm is not possible: both sides must be above zero.")
        return with_film(trial, sizes["film_width_mm"], sizes["film_height_mm"], keep)
    if changed in ("offset_x_mm", "offset_y_mm", "squeeze"):
        moved = {k: getattr(trial, k) for k in ("offset_x_mm", "offset_y_mm", "squeeze")} | {changed: number}
        return replace(
            trial, offset_x_mm=moved["offset_x_mm"], offset_y_mm=moved["offset_y_mm"], squeeze=moved["squeeze"]
        )
    raise BadInput(f"'{changed}' is not a lens value: reload the page.")


def _number(text: str, what: str) -> float:
    found = number_or_none(text, what)
    if found is None:
        raise BadInput(f"The field {what} is empty: type a number.")
    return found


def focus_of_file(version: Version, track: Track) -> Floats | None:
    """The focus distance (n,) that the camera had when it was taken in, on a track's frames, not a number where it had none there;
    None where it is the camera's own still."""
    taken = next((v for v in version.camera.versions if v.take == version.take and v.edit == 0), None)
    if taken is None or taken.id == version.id:
        return None
    before = track_of(taken)[0]
    near = nearest_places(before.frames, track.frames)
    held = np.where(np.abs(before.frames[near] - track.frames) < 1e-6, before.lens.focus_m[near], np.nan)
    return None if not np.isfinite(held).any() or np.allclose(held, track.lens.focus_m, equal_nan=True) else held


def operations_between(before: Trial, after: Trial, way: str, span: dict[str, float]) -> list[tuple[Operation, str]]:
    """The operations that lead from one lens to another, each with a few words.

    ``way`` "scale" keeps a curve's shape: the focal length is multiplied and offsets are moved by what they
    differ at the frame tried; else each takes one value. ``span``: first and last frame, all where empty.
    """
    out: list[tuple[Operation, str]] = []
    size = (after.film_width_mm, after.film_height_mm)
    if _differ(size, (before.film_width_mm, before.film_height_mm)):
        said = f"film back {size[0]:.3f} × {size[1]:.3f} mm"
        if span:
            out += [
                (_curve(name, "set to", v, span), said if i == 0 else "")
                for i, (name, v) in enumerate(zip(("film_width_mm", "film_height_mm"), size, strict=True))
            ]
        else:
            out.append((Operation("film_back", {"width_mm": size[0], "height_mm": size[1], "keep": KEEPS[0]}), said))
    if _differ((after.focal_mm,), (before.focal_mm,)):
        one = way != "scale"
        value = after.focal_mm if one else after.focal_mm / before.focal_mm
        said = f"focal length {'' if one else '× '}{value:.6g}{' mm' if one else ''}"
        out.append((_curve("focal_mm", "set to" if one else "times", value, span), said))
    for name in ("offset_x_mm", "offset_y_mm"):
        was, now = getattr(before, name), getattr(after, name)
        if abs(now - was) > 1e-9:
            one = way != "scale"
            out.append(
                (
                    _curve(name, "set to" if one else "plus", now if one else now - was, span),
                    f"{CHANNELS[name].label} {now:.4g} mm",
                )
            )
    if _differ((after.squeeze,), (before.squeeze,)):
        out.append((_curve("squeeze", "set to", after.squeeze, span), f"squeeze {after.squeeze:g}"))
    return out


def _curve(channel: str, way: str, value: float, span: dict[str, float]) -> Operation:
    return Operation("lens_curve", {"channel": CHANNELS[channel].label, "way": way, "value": value, **span})


def _differ(a: tuple[float, ...], b: tuple[float, ...]) -> bool:
    return not np.allclose(a, b, rtol=1e-9, atol=0)


def _span_words(span: dict[str, float]) -> str:
    if not span:
        return ""
    if span.get("first") == span.get("last"):
        return f", frame {format_frame(span['first'])}"
    return ", frames " + " to ".join(format_frame(span[k]) if k in span else "…" for k in ("first", "last"))


def typed_part(track: Track, picture: Picture, x: str, y: str, width: str, height: str) -> tuple[Part, Track]:
    """The part typed, the whole plate where a field is empty, centred where its corner is; and its camera. Raises BadInput."""
    plate = picture.image
    wide = number_or_none(width, "the part's width")
    high = number_or_none(height, "the part's height")
    wide, high = (plate.width_px if wide is None else wide), (plate.height_px if high is None else high)
    left, top = number_or_none(x, "the part's left edge"), number_or_none(y, "the part's upper edge")
    part = Part(
        (plate.width_px - wide) / 2 if left is None else left,
        (plate.height_px - high) / 2 if top is None else top,
        wide,
        high,
    )
    return part, of_part(track, plate, picture.fit, part)


def _part_operation(picture: Picture, part: Part) -> Operation:
    plate = picture.image
    return Operation(
        "part",
        {
            "plate_width_px": plate.width_px, "plate_height_px": plate.height_px, "pixel_aspect": plate.pixel_aspect,
            "fit": picture.fit, "x_px": part.x_px, "y_px": part.y_px, "width_px": part.width_px, "height_px": part.height_px,
        },
    )  # fmt: skip
