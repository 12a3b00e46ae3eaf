"""The Lens station: a lens tried at one frame, its numbers and drawings following, and taken into the recipe."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, Form, Request, UploadFile

from anaxis.app.cameras.lens import (
    CURVE_WAYS,
    LensState,
    changed_lens,
    fits_of,
    lens_tried,
    pixel_matrix,
    take_lens,
    take_part,
    typed_part,
)
from anaxis.app.cameras.lens_table import take_lens_table
from anaxis.app.saved import drop_film_back, save_film_back
from anaxis.app.typed_numbers import number_or_none
from anaxis.core.camera.channels import BY_LABEL, CHANNELS
from anaxis.core.camera.film_backs import FILM_BACKS, FilmBack
from anaxis.core.camera.lens import parse_size_mm
from anaxis.core.camera.lens_trial import KEEPS, Trial
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.formats import check_size
from anaxis.formats.tables.lens_data import UNITS, Align, LensTableOptions
from anaxis.store.models import Version
from anaxis.store.queries import get_version, picture_of_version, track_of
from anaxis.web.access import needs
from anaxis.web.drawings.lens import FilmView, film_svg, part_svg, views_svg
from anaxis.web.forms import StationForm
from anaxis.web.pages import Store, name_of_upload, page
from anaxis.web.screens.recipe.routes import back_to

_MAX_TABLE_BYTES = 5_000_000
router = APIRouter(prefix="/cameras", dependencies=[needs()])


@router.get("/{camera_id}/lens")
def tried(
    store: Store, camera_id: int, version: int, frame: str = "", state: str = "", changed: str = "",
    value: str = "", keep: str = KEEPS[0], scale: str = "",
) -> dict[str, Any]:  # fmt: skip
    """One change of the lens tried at a frame: every number, both drawings, and where its pixels go."""
    before, trial = lens_tried(get_version(store, camera_id, version), frame, state)
    return tried_document(before, changed_lens(trial, changed, value, keep), number_or_none(scale, "a scale"))


def tried_document(before: Trial, trial: Trial, scale: float | None = None) -> dict[str, Any]:
    """What the page shows of a lens: its state, equivalents, drawings, and every fit's picture."""
    found = trial.equivalents
    view = view_of(trial)
    fits = [
        {"fit": fit, "uses": view_of(other).size_words or "all of the film back", "to_pixels": pixels, "same": same}
        for fit, other, pixels, same in fits_of(before, trial)
    ]
    return {
        "state": LensState.of(trial).model_dump(),
        "same": trial == before,
        "equivalents": {k: float(v) for k, v in found._asdict().items()},
        "to_pixels": pixel_matrix(before, trial),
        "film": film_svg(view, scale),
        "views": views_svg(float(found.hfov_deg), float(found.vfov_deg)),
        "uses": view.uses,
        "fits": fits,
    }


def view_of(trial: Trial) -> FilmView:
    return FilmView(
        trial.squeeze * trial.film_width_mm,
        trial.film_height_mm,
        trial.offset_x_mm,
        trial.offset_y_mm,
        trial.used,
        trial.image,
    )


class LensForm(StationForm):
    """The lens that was tried (``state``) at a frame, taken on frames ``first`` to ``last``, all where they are left out."""

    state: str
    frame: str = ""
    way: str = ""
    first: float | None = None
    last: float | None = None


@router.post("/{camera_id}/lens")
def taken(store: Store, camera_id: int, form: Annotated[LensForm, Form()]) -> Any:
    """The lens tried, taken: as operations of the recipe, and a fit as the picture's own."""
    span = {k: v for k, v in (("first", form.first), ("last", form.last)) if v is not None}
    take_lens(store, get_version(store, camera_id, form.version), form.frame, form.state, form.way, span)
    return back_to(camera_id, "lens", form.to)


class LensTableForm(StationForm):
    """A table of lens data, with what it does not say."""

    file: UploadFile
    focal_unit: str = ""
    focus_unit: str = ""
    align: Align = "by number"
    timecode_of_first: str = ""


@router.post("/{camera_id}/lens-table")
def table_taken(store: Store, camera_id: int, form: Annotated[LensTableForm, Form()]) -> Any:
    """Lens data from a table over the camera's own, as an operation of the recipe."""
    name = name_of_upload(form.file)
    if not name:
        raise BadInput("No file was chosen: choose a table of lens data.")
    check_size(name, form.file.size or 0, _MAX_TABLE_BYTES)
    units = {k: v for k, v in (("focal_mm", form.focal_unit), ("focus_m", form.focus_unit)) if v}
    options = LensTableOptions(units, form.align, form.timecode_of_first.strip())
    take_lens_table(store, get_version(store, camera_id, form.version), name, form.file.file.read(), options)
    return back_to(camera_id, "lens", form.to)


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
    part, made = typed_part(track, picture, x, y, width, height)
    return {"part": part, "part_lens": made.lens, "part_drawing": part_svg(picture.image, part), "plate": picture.image}


@router.post("/{camera_id}/part")
def part_taken(
    store: Store, camera_id: int, version: Annotated[int, Form()], x_px: Annotated[str, Form()] = "", y_px: Annotated[str, Form()] = "",
    width_px: Annotated[str, Form()] = "", height_px: Annotated[str, Form()] = "", to: Annotated[str, Form()] = "",
) -> Any:  # fmt: skip
    """The part becomes the whole image: film back, offsets and resolution change together."""
    kept = get_version(store, camera_id, version)
    take_part(store, kept, x_px, y_px, width_px, height_px)
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
    """A film back kept under a name, or one removed of the list."""
    get_version(store, camera_id)
    if drop:
        drop_film_back(store, drop)
    else:
        save_film_back(store, name, *parse_size_mm(size))
    return back_to(camera_id, "lens", to)


def lens_context(version: Version, track: Track, saved: list[FilmBack]) -> dict[str, Any]:
    """The station as it opens: the lens of the first frame."""
    _, trial = lens_tried(version, "", "")
    animated = any(np.ptp(v) > 0 for v in (getattr(track.lens, k) for k in CHANNELS) if np.isfinite(v).all())
    return {
        "tried": tried_document(trial, trial), "film_backs": FILM_BACKS, "saved_film_backs": saved, "keeps": KEEPS,
        "lens_units": UNITS, "lens_channels": tuple(BY_LABEL), "curve_ways": CURVE_WAYS, "lens_moves": animated, **part_context(version, track),
    }  # fmt: skip
