"""Placing a camera: typed, on a point and heading, from landmark pairs, or near the origin; in a package's axes and unit."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, Form, Request

from anaxis.app.cameras.landmarks import THE_FILE, axes_of
from anaxis.app.cameras.placement import PlacementFields, TypedPlacement, place_camera, placement_typed
from anaxis.core.errors import BadInput
from anaxis.store.models import Version
from anaxis.store.queries import get_version, track_of
from anaxis.web.access import needs
from anaxis.web.drawings.place import placed_svg, standing
from anaxis.web.forms import StationForm
from anaxis.web.pages import Store, page
from anaxis.web.screens.recipe.routes import back_to

router = APIRouter(prefix="/cameras", dependencies=[needs()])


class PlaceForm(StationForm, PlacementFields):
    """The Place station, in the axes of a package or of the file."""

    axes: str = THE_FILE


def _placement(store: Store, kept: Version, form: PlaceForm) -> TypedPlacement:
    return placement_typed(kept, *axes_of(store, kept, form.axes), form)


@router.post("/{camera_id}/place")
def placed(store: Store, camera_id: int, form: Annotated[PlaceForm, Form()]) -> Any:
    kept = get_version(store, camera_id, form.version)
    place_camera(store, kept, _placement(store, kept, form))
    return back_to(camera_id, "place", form.to)


@router.post("/{camera_id}/place/look")
def looked_at(request: Request, store: Store, camera_id: int, form: Annotated[PlaceForm, Form()]) -> Any:
    """The path and landmarks as they would stand, before that is taken; what is still missing is said in its place."""
    kept = get_version(store, camera_id, form.version)
    try:
        found = _placement(store, kept, form)
    except BadInput as error:
        return page(request, "camera/place_look.html", missing=error.sentence)
    convention, unit = axes_of(store, kept, form.axes)
    track, landmarks, _ = track_of(kept)
    marks = landmarks.shown().position_m[0]
    none = np.zeros((0, 3))
    drawing = placed_svg(
        standing(track, marks),
        standing(found.similarity.track(track), found.similarity.points(marks)),
        np.array([p.moved_m for p in found.pairs]) if found.pairs else none,
        np.array([p.goal_m for p in found.pairs]) if found.pairs else none,
        convention,
        unit,
    )
    first = convention.position_from_canonical(found.similarity.points(track.position_m[0]))
    worst = max(found.pairs, key=lambda p: p.off_m, default=None)
    return page(
        request, "camera/place_look.html", missing="", drawing=drawing, wanted=found, first=first, unit=unit, worst=worst,
        first_frame=float(track.frames[0]),
    )  # fmt: skip
