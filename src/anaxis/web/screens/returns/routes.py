"""A camera that came back: handed in, measured, explained, and made a habit of its package by one click."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, File, Form, Request, UploadFile
from fastapi.responses import RedirectResponse, Response

from anaxis.app.deliveries.learned import learn_and_deliver
from anaxis.app.deliveries.returned import get_return, return_arrays, take_back, take_back_typed
from anaxis.app.roles import Role
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import format_frame
from anaxis.formats import CAMERA_SUFFIXES, check_size, require_readable
from anaxis.packages.model import profile_from_dict
from anaxis.store.packages import get_package
from anaxis.store.queries import get_version, picture_of_version, track_of
from anaxis.web.access import needs
from anaxis.web.drawings.blocks import Drawing
from anaxis.web.drawings.camera import proof_drawing
from anaxis.web.pages import Store, drawing_answer, drawings_of, name_of_upload, page
from anaxis.web.screens.proof.routes import mark_rows
from anaxis.web.stations import stations_of

router = APIRouter(dependencies=[needs()])


@router.post("/cameras/{camera_id}/returns")
def handed_in(
    request: Request,
    store: Store,
    camera_id: int,
    version: Annotated[int, Form()],
    to: Annotated[str, Form()],
    file: Annotated[UploadFile | None, File()] = None,
    numbers: Annotated[str, Form()] = "",
) -> Any:
    """A file that the package exported, or its numbers typed or pasted."""
    kept, package = get_version(store, camera_id, version), get_package(store, to)
    limits = request.app.state.limits
    if file is not None and file.filename:
        name = name_of_upload(file)
        require_readable(name, CAMERA_SUFFIXES)
        check_size(name, file.size or 0, limits.max_bytes)
        data = file.file.read(limits.max_bytes + 1)
        row = take_back(store, request.app.state.parsers, kept, package, name, data)
    elif numbers.strip():
        row = take_back_typed(store, request.app.state.parsers, kept, package, numbers)
    else:
        raise BadInput("Choose the returned file, or type the numbers of three frames or more.")
    return RedirectResponse(f"/returns/{row.id}", status_code=303)


@router.get("/returns/{number}")
def shown(request: Request, store: Store, number: int) -> Any:
    row = get_return(store, number)
    version = get_version(store, row.version.camera_id, row.version.number)
    track, landmarks, _ = track_of(version)
    frames, _, arrived = return_arrays(row)
    both = np.flatnonzero(np.isin(np.round(track.frames, 4), np.round(frames, 4)))
    marks = []
    if len(both):
        at = int(np.flatnonzero(frames == row.worst_frame)[0])
        shown_marks = landmarks.shown().at_frames(both)
        marks = mark_rows(track.select_frames(both), shown_marks, picture_of_version(version), arrived, at)
    return page(
        request, "returns/index.html", row=row, version=version, camera=version.camera, shot=version.camera.shot,
        profile=profile_from_dict(row.profile, "the return's package"), stations=stations_of(store, version), open_station="prove",
        picture=picture_of_version(version), track=track, frames=frames, explanations=row.diagnosis.get("explanations", []),
        explained=row.diagnosis.get("explained", False), marks=marks,
        span=lambda pairs: ", ".join(f"{format_frame(a)} to {format_frame(b)}" for a, b in pairs[:4]) or "none",
    )  # fmt: skip


@router.get("/returns/{number}/drawing")
def drawing(request: Request, store: Store, number: int, block: int | None = None) -> Response:
    row = get_return(store, number)

    def make() -> Drawing:
        frames, deviation, arrived = return_arrays(row)
        if not len(frames):
            raise BadInput(
                "The returned camera has no frame in common with the one meant: there is nothing to lay over it."
            )
        track, landmarks, segments = track_of(row.version)
        at = np.flatnonzero(np.isin(np.round(track.frames, 4), np.round(frames, 4)))
        marks = landmarks.at_frames(at)
        return proof_drawing(
            track.select_frames(at), marks, segments, picture_of_version(row.version), deviation, arrived
        )

    return drawing_answer(drawings_of(request).get(("return", row.id), make).part(block))


@router.post("/returns/{number}/habit", dependencies=[needs(change=Role.LEAD)])
def made_a_habit(
    store: Store, number: int, which: Annotated[int, Form()] = 0, format_key: Annotated[str, Form()] = ""
) -> Any:
    """What explains the return, made habits of its package, and the camera delivered anew for them."""
    row = get_return(store, number)
    version = get_version(store, row.version.camera_id, row.version.number)
    explanations = row.diagnosis.get("explanations", [])
    if not 0 <= which < len(explanations):
        raise BadInput("There is nothing in this explanation to make a habit of.")
    delivery = learn_and_deliver(store, version, row.profile, explanations[which]["causes"], row.name, format_key)
    return RedirectResponse(f"/deliveries/{delivery.id}", status_code=303)
