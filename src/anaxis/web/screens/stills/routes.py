"""Two pictures of one frame, one from each side, laid over each other with what lies between them."""

from __future__ import annotations

from dataclasses import fields
from typing import Annotated, Any

from fastapi import APIRouter, File, Form, Request, UploadFile
from fastapi.responses import RedirectResponse, Response

from anaxis.app.cameras.lens import place_of
from anaxis.app.context import Context
from anaxis.app.deliveries.marks import marks_in_still
from anaxis.app.deliveries.renders import check_render
from anaxis.app.deliveries.stills import compare_stills, require_picture
from anaxis.app.people.views import guides_of
from anaxis.app.plates.plates import get_plate
from anaxis.core.camera.guides import shapes_of
from anaxis.core.camera.lens import Image
from anaxis.diagnosis.stills import Between
from anaxis.formats import check_size
from anaxis.store.models import Still
from anaxis.store.queries import NotFound, found, get_version, track_of
from anaxis.web.access import needs
from anaxis.web.pages import Store, name_of_upload, page
from anaxis.web.stations import stations_of

router = APIRouter(dependencies=[needs()])


@router.post("/cameras/{camera_id}/stills")
def handed_in(
    request: Request,
    store: Store,
    camera_id: int,
    version: Annotated[int, Form()],
    ours: Annotated[UploadFile, File()],
    theirs: Annotated[UploadFile, File()],
    frame: Annotated[str, Form()] = "",
) -> Any:
    kept = get_version(store, camera_id, version)
    pictures = []
    for file in (ours, theirs):
        name = name_of_upload(file)
        require_picture(name)
        check_size(name, file.size or 0, request.app.state.limits.max_bytes)
        pictures.append((name, file.file.read()))
    row = compare_stills(store, kept, place_of(track_of(kept)[0], frame), pictures)
    return RedirectResponse(f"/stills/{row.id}", status_code=303)


@router.post("/cameras/{camera_id}/renders")
def render_back(
    request: Request,
    store: Store,
    camera_id: int,
    version: Annotated[int, Form()],
    plate: Annotated[int, Form()],
    file: Annotated[UploadFile, File()],
    frame: Annotated[str, Form()] = "",
) -> Any:
    """A render that came back, checked and laid on the plate as shot."""
    kept, name = get_version(store, camera_id, version), name_of_upload(file)
    check_size(name, file.size or 0, request.app.state.limits.max_bytes)
    at = place_of(track_of(kept)[0], frame)
    row = check_render(store, kept, get_plate(store, plate), at, name, file.file.read())
    return RedirectResponse(f"/stills/{row.id}", status_code=303)


@router.get("/stills/{number}")
def shown(request: Request, store: Store, number: int) -> Any:
    row = _still(store, number)
    version = get_version(store, row.version.camera_id, row.version.number)
    size = {k: row.measured[k] for k in ("width_px", "height_px")}
    found = Between(**{f.name: row.measured[f.name] for f in fields(Between)})
    return page(
        request, "stills/index.html", row=row, version=version, camera=version.camera, shot=version.camera.shot, found=found, size=size,
        stations=stations_of(store, version), open_station="prove", marks=marks_in_still(version, row.frame, size, row.measured.get("render", False)),
        guide_shapes=shapes_of(guides_of(store), Image(size["width_px"], size["height_px"])), checks=row.measured.get("checks", []), apart_px=found.apart_px(size["width_px"], size["height_px"]) if row.measured.get("render") else None,
    )  # fmt: skip


@router.get("/stills/{number}/{side}.png")
def picture(store: Store, number: int, side: str) -> Response:
    row = _still(store, number)
    if side not in ("ours", "theirs"):
        raise NotFound("This image does not exist.")
    return Response(getattr(row, side), media_type="image/png", headers={"Cache-Control": "no-store"})


def _still(session: Context, number: int) -> Still:
    return found(session, Still, number, "pair of stills")
