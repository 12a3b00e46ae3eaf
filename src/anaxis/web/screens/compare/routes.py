"""Two versions of a camera: what changed, from which frame, by how many pixels."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import Response

from anaxis.app.cameras.compare import arrived_track, compared, images_of, landmark_changes, version_before
from anaxis.core.errors import BadInput
from anaxis.store.queries import get_version, picture_of_version, track_of
from anaxis.web.access import needs
from anaxis.web.drawings.blocks import Drawing
from anaxis.web.drawings.camera import proof_drawing
from anaxis.web.pages import Store, drawing_answer, drawings_of, page

router = APIRouter(prefix="/cameras", dependencies=[needs()])


@router.get("/{camera_id}/compare")
def comparison(request: Request, store: Store, camera_id: int, a: int | None = None, b: int | None = None) -> Any:
    newer = get_version(store, camera_id, b)
    if a is None:
        a = version_before(newer)
    older = get_version(store, camera_id, a)
    found = compared(older, newer)
    same_picture = images_of(older, newer)[0] == images_of(older, newer)[1] and older.source_fit == newer.source_fit
    return page(
        request, "compare/index.html", older=older, newer=newer, camera=newer.camera, shot=newer.camera.shot,
        found=found, pictures=(picture_of_version(older), picture_of_version(newer)), same_picture=same_picture,
        mark_changes=landmark_changes(older, newer),
    )  # fmt: skip


@router.get("/{camera_id}/compare/drawing")
def drawing(request: Request, store: Store, camera_id: int, a: int, b: int, block: int | None = None) -> Response:
    older, newer = get_version(store, camera_id, a), get_version(store, camera_id, b)

    def make() -> Drawing:
        found = compared(older, newer)
        if found.proof is None:
            raise BadInput("These versions share no frame, so there is nothing to draw.")
        track, marks, lines = track_of(older)
        return proof_drawing(
            track.select_frames(found.in_a), marks.at_frames(found.in_a), lines, picture_of_version(older),
            found.proof.deviation_px, arrived_track(found, older, newer),
        )  # fmt: skip

    return drawing_answer(drawings_of(request).get(("versions", older.id, newer.id), make).part(block))
