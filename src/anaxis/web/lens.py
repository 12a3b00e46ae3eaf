"""The Lens station's drawing: a film back, focal length and fit tried before they are taken."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request

from anaxis.core.errors import BadInput
from anaxis.core.film_backs import FILM_BACKS
from anaxis.core.lens import equivalents, require_fit, used_rectangle
from anaxis.core.operations import FILM_KEEPS
from anaxis.core.track import Track
from anaxis.store.models import Version
from anaxis.store.queries import get_version, picture_of_version, track_of
from anaxis.web.lens_drawing import FilmView, film_svg, views_svg
from anaxis.web.pages import Store, page

router = APIRouter(prefix="/cameras")
KEEPS = FILM_KEEPS


@router.get("/{camera_id}/lens")
def tried(
    request: Request, store: Store, camera_id: int, version: int, param_width_mm: str = "", param_height_mm: str = "",
    param_keep: str = KEEPS[0], source_fit: str = "",
) -> Any:  # fmt: skip
    kept = get_version(store, camera_id, version)
    return page(
        request,
        "camera/lens.html",
        **lens_context(kept, track_of(kept)[0], param_width_mm, param_height_mm, param_keep, source_fit),
    )


def lens_context(
    version: Version,
    track: Track,
    width: str = "",
    height: str = "",
    keep: str = KEEPS[0],
    fit: str = "",
) -> dict[str, Any]:
    """Drawing and numbers of a version's first frame, with another film back or fit where they are given."""
    lens, picture = track.lens, picture_of_version(version)
    old_width, old_height = float(lens.film_width_mm[0]), float(lens.film_height_mm[0])
    film_width, film_height = _size(width, old_width, "width"), _size(height, old_height, "height")
    fit = fit or picture.fit
    require_fit(fit)
    focal, squeeze = float(lens.focal_mm[0]), float(lens.squeeze[0])
    if keep == KEEPS[1]:
        focal *= film_width / old_width
    used = used_rectangle(film_width, film_height, squeeze, picture.image, fit)
    found = equivalents(focal, used, picture.image)
    view = FilmView(
        squeeze * film_width,
        film_height,
        float(lens.offset_x_mm[0]),
        float(lens.offset_y_mm[0]),
        used,
        picture.image,
    )
    return {
        "film_drawing": film_svg(view), "views_drawing": views_svg(float(found.hfov_deg), float(found.vfov_deg)),
        "film_uses": view.uses, "equivalents": {k: float(v) for k, v in found._asdict().items()}, "tried_focal_mm": focal,
    }  # fmt: skip


def _size(text: str, old: float, what: str) -> float:
    try:
        value = float(text) if text.strip() else old
    except ValueError as error:
        raise BadInput(f"'{text}' is no {what} of a film back: write millimetres, such as 24.89.") from error
    if not 0.01 <= value <= 100_000:
        raise BadInput(f"A film back's {what} of {text} mm cannot be: it must be above zero.")
    return value


def lens_choices() -> dict[str, Any]:
    return {"film_backs": FILM_BACKS, "keeps": KEEPS}
