"""How much of a shot its projection cameras cover: over the frames, and on the set at one of them."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request

from anaxis.app.derived.coverage import coverage_of, projections_of
from anaxis.app.derived.derive import settings_of, used_version
from anaxis.app.typed_numbers import number_or_none
from anaxis.core.derive.held import Hold
from anaxis.core.errors import BadInput
from anaxis.store.models import Version
from anaxis.store.queries import get_version
from anaxis.web.access import needs
from anaxis.web.drawings.coverage import coverage_svg, set_svg
from anaxis.web.pages import Store, page

router = APIRouter(prefix="/cameras", dependencies=[needs()])


@router.get("/{camera_id}/coverage")
def coverage(
    request: Request, store: Store, camera_id: int, version: int | None = None, at: str = "", only: str = ""
) -> Any:
    """How much of a shot its projection cameras cover: over the frames, and on the set at one of them."""
    kept = get_version(store, camera_id, version)
    shot_camera = _shot_camera(kept)
    held = projections_of(store, shot_camera.camera)
    chosen = [v for v in held if not only or str(v.camera_id) in only.split(",")]
    if not chosen:
        raise BadInput(f"{shot_camera.camera.name} has no projection camera yet: make one first.")
    document, arrays = coverage_of(store, shot_camera, chosen)
    rows = document["frames"]
    asked = number_or_none(at, "the frame")
    place = min(
        range(len(rows)), key=lambda i: abs(rows[i]["frame"] - (document["worst_frame"] if asked is None else asked))
    )
    return page(
        request, "coverage/index.html", camera=shot_camera.camera, shot=shot_camera.camera.shot, version=shot_camera, held=held, chosen=chosen,
        found=document, row=rows[place], curve=coverage_svg(document, place), seen=set_svg(arrays, place, shot_camera), place=place,
    )  # fmt: skip


def _shot_camera(kept: Version) -> Version:
    """The shot camera that a held one is made from; itself where it is made from none."""
    return used_version(kept.made_of[0]) if isinstance(settings_of(kept), Hold) else kept
