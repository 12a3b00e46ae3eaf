"""The Lens station: a lens tried at one frame, its numbers and drawings following, and taken into the recipe."""

from __future__ import annotations

import json
from dataclasses import asdict, replace
from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, Form, Request
from pydantic import BaseModel, ConfigDict, ValidationError

from anaxis.app.cameras.edit import edit_version
from anaxis.app.saved import drop_film_back, save_film_back
from anaxis.core.camera.channels import BY_LABEL, CHANNELS
from anaxis.core.camera.film_backs import FILM_BACKS, FilmBack
from anaxis.core.camera.lens import FITS, Image, parse_size_mm, same_used
from anaxis.core.camera.lens_edits import WAYS
from anaxis.core.camera.lens_trial import DRIVERS, KEEPS, Trial, driven, pixels_between, trial_at, with_film, with_fit
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation, Recipe
from anaxis.core.recipe.replay import inserted
from anaxis.core.time.rates import format_frame
from anaxis.store.models import Version
from anaxis.store.queries import get_version, picture_of_version, recipe_of, track_of
from anaxis.web.access import needs
from anaxis.web.drawings.lens import FilmView, film_svg, part_svg, views_svg
from anaxis.web.forms import StationForm
from anaxis.web.pages import Store, number_or_none, page
from anaxis.web.screens.lens.part import part_of_form, part_operation
from anaxis.web.screens.recipe.routes import back_to

router = APIRouter(prefix="/cameras", dependencies=[needs()])


class State(BaseModel):
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


@router.get("/{camera_id}/lens")
def tried(
    store: Store, camera_id: int, version: int, frame: str = "", state: str = "", changed: str = "",
    value: str = "", keep: str = KEEPS[0], scale: str = "",
) -> dict[str, Any]:  # fmt: skip
    """One change of the lens tried at a frame: every number, both drawings, and where its pixels go."""
    kept = get_version(store, camera_id, version)
    track, picture = track_of(kept)[0], picture_of_version(kept)
    before = trial_at(track, place_of(track, frame), picture.image, picture.fit)
    trial = _state(state).trial(picture.image) if state else before
    return tried_document(before, _changed(trial, changed, value, keep), number_or_none(scale, "a scale"))


def tried_document(before: Trial, trial: Trial, scale: float | None = None) -> dict[str, Any]:
    """What the page shows of a lens: its state, equivalents, drawings, and every fit's picture."""
    found = trial.equivalents
    view = view_of(trial)
    fits = []
    for fit in FITS:
        other = replace(trial, fit=fit)
        fits.append(
            {
                "fit": fit,
                "uses": view_of(other).size_words or "all of the film back",
                "to_pixels": pixels_between(before, other).ravel().tolist(),
                "same": same_used(trial.used, other.used),
            }
        )
    return {
        "state": state_of(trial),
        "same": trial == before,
        "equivalents": {k: float(v) for k, v in found._asdict().items()},
        "to_pixels": pixels_between(before, trial).ravel().tolist(),
        "film": film_svg(view, scale),
        "views": views_svg(float(found.hfov_deg), float(found.vfov_deg)),
        "uses": view.uses,
        "fits": fits,
    }


def state_of(trial: Trial) -> dict[str, Any]:
    return {k: v for k, v in asdict(trial).items() if k != "image"}


def view_of(trial: Trial) -> FilmView:
    return FilmView(
        trial.squeeze * trial.film_width_mm,
        trial.film_height_mm,
        trial.offset_x_mm,
        trial.offset_y_mm,
        trial.used,
        trial.image,
    )


def place_of(track: Track, frame: str) -> int:
    """The place of the frame nearest to the one asked for; the first where none was."""
    asked = number_or_none(frame, "a frame")
    return 0 if asked is None else int(np.argmin(np.abs(track.frames - asked)))


def _state(text: str) -> State:
    try:
        return State.model_validate(json.loads(text))
    except (ValidationError, ValueError, RecursionError) as error:
        raise BadInput("The lens that is being tried cannot be read: reload the page.") from error


def _changed(trial: Trial, changed: str, value: str, keep: str) -> Trial:
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
            raise BadInput(f"A film back of {number:g} mm cannot be: both sides must be above zero.")
        return with_film(trial, sizes["film_width_mm"], sizes["film_height_mm"], keep)
    if changed in ("offset_x_mm", "offset_y_mm", "squeeze"):
        moved = {k: getattr(trial, k) for k in ("offset_x_mm", "offset_y_mm", "squeeze")} | {changed: number}
        return replace(
            trial, offset_x_mm=moved["offset_x_mm"], offset_y_mm=moved["offset_y_mm"], squeeze=moved["squeeze"]
        )
    raise BadInput(f"'{changed}' is nothing of a lens that can be tried: reload the page.")


def _number(text: str, what: str) -> float:
    found = number_or_none(text, what)
    if found is None:
        raise BadInput(f"The field of {what} is empty: type a number.")
    return found


class LensForm(StationForm):
    """The lens that was tried (``state``) at a frame, taken on frames ``first`` to ``last``, all where they are left out."""

    state: str
    frame: str = ""
    way: str = ""
    first: float | None = None
    last: float | None = None


@router.post("/{camera_id}/lens")
def take(store: Store, camera_id: int, form: Annotated[LensForm, Form()]) -> Any:
    """The lens tried, taken: as operations of the recipe, and a fit as the picture's own."""
    kept = get_version(store, camera_id, form.version)
    track, picture = track_of(kept)[0], picture_of_version(kept)
    before = trial_at(track, place_of(track, form.frame), picture.image, picture.fit)
    after = _state(form.state).trial(picture.image)
    span = {k: v for k, v in (("first", form.first), ("last", form.last)) if v is not None}
    recipe, words = recipe_of(kept), []
    for operation, said in operations_between(before, after, form.way, span):
        recipe = inserted(recipe, operation)
        words.append(said)
    if after.fit != before.fit:
        picture = replace(picture, fit=after.fit, fit_guessed=False)
        words.append(f"fit {after.fit}")
    if not words:
        raise BadInput("This lens is the one the camera has already: change a number first.")
    edit_version(store, kept, recipe, ", ".join(words) + _span_words(span), picture)
    return back_to(camera_id, "lens", form.to)


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
    return [(o, s) for o, s in out]


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


@router.get("/{camera_id}/part")
def part_tried(
    request: Request, store: Store, camera_id: int, version: int, x_px: str = "", y_px: str = "", width_px: str = "", height_px: str = ""
) -> Any:  # fmt: skip
    """A part of the plate drawn, with the film back and offsets it would have."""
    kept = get_version(store, camera_id, version)
    return page(request, "camera/part.html", **part_context(kept, track_of(kept)[0], x_px, y_px, width_px, height_px))


def part_context(
    version: Version, track: Track, x: str = "", y: str = "", width: str = "", height: str = ""
) -> dict[str, Any]:
    picture = picture_of_version(version)
    part, made = part_of_form(track, picture, x, y, width, height)
    return {"part": part, "part_lens": made.lens, "part_drawing": part_svg(picture.image, part), "plate": picture.image}


@router.post("/{camera_id}/part")
def part_taken(
    store: Store, camera_id: int, version: Annotated[int, Form()], x_px: Annotated[str, Form()] = "", y_px: Annotated[str, Form()] = "",
    width_px: Annotated[str, Form()] = "", height_px: Annotated[str, Form()] = "", to: Annotated[str, Form()] = "",
) -> Any:  # fmt: skip
    """The part becomes the whole image: film back, offsets and resolution change together."""
    kept = get_version(store, camera_id, version)
    part, _ = part_of_form(track_of(kept)[0], picture_of_version(kept), x_px, y_px, width_px, height_px)
    operation = part_operation(picture_of_version(kept), part)
    recipe: Recipe = inserted(recipe_of(kept), operation)
    edit_version(store, kept, recipe, f"part {part.width_px:g} × {part.height_px:g} px of the plate")
    return back_to(camera_id, "lens", to)


@router.post("/{camera_id}/film-backs")
def film_backs(
    store: Store,
    camera_id: int,
    name: Annotated[str, Form()] = "",
    size: Annotated[str, Form()] = "",
    drop: Annotated[str, Form()] = "",
    to: Annotated[str, Form()] = "",
) -> Any:
    """A film back kept under a name, or one taken out of the list."""
    get_version(store, camera_id)
    if drop:
        drop_film_back(store, drop)
    else:
        save_film_back(store, name, *parse_size_mm(size))
    return back_to(camera_id, "lens", to)


def lens_context(version: Version, track: Track, saved: list[FilmBack]) -> dict[str, Any]:
    """The station as it opens: the lens of the first frame."""
    picture = picture_of_version(version)
    trial = trial_at(track, 0, picture.image, picture.fit)
    animated = any(np.ptp(v) > 0 for v in (getattr(track.lens, k) for k in CHANNELS) if np.isfinite(v).all())
    return {
        "tried": tried_document(trial, trial), "film_backs": FILM_BACKS, "saved_film_backs": saved, "keeps": KEEPS,
        "lens_channels": tuple(BY_LABEL), "curve_ways": WAYS, "lens_moves": animated, **part_context(version, track),
    }  # fmt: skip
