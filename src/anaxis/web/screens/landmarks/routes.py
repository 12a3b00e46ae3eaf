"""Landmarks on the camera's page: typed, pasted, renamed, hidden, exported; set geometry from a file."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, File, Form, Request, UploadFile
from fastapi.responses import JSONResponse, Response

from anaxis.app.cameras.edit import add_operations
from anaxis.app.cameras.landmarks import THE_FILE, axes_of, card_of, landmark_table, parse_table
from anaxis.app.cameras.scenery import add_set as add_set_from
from anaxis.app.cameras.take_in import read_bytes
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation
from anaxis.formats import SET_SUFFIXES, require_readable
from anaxis.store.queries import get_version, track_of
from anaxis.web.access import needs
from anaxis.web.forms import StationForm
from anaxis.web.pages import Store, attachment, name_of_upload, page
from anaxis.web.screens.recipe.routes import back_to

router = APIRouter(prefix="/cameras", dependencies=[needs()])


@router.get("/{camera_id}/card")
def card(
    request: Request, store: Store, camera_id: int, version: int, name: str = "", frame: str = "", axes: str = THE_FILE
) -> Any:
    """A landmark's place and a card there that faces the camera, in a package's numbers, to copy."""
    kept = get_version(store, camera_id, version)
    convention, unit = axes_of(store, kept, axes)
    found, at_frame = card_of(kept, name, frame, convention)
    return page(request, "camera/card.html", card=found, mark=name, unit=unit, at_frame=at_frame)


class LandmarkForm(StationForm):
    """A change of landmarks: ``action`` says which, the other fields of what."""

    action: str
    name: str = ""
    place: str = ""
    table: str = ""
    new_name: str = ""
    axes: str = THE_FILE


@router.post("/{camera_id}/landmarks")
def change(store: Store, camera_id: int, form: Annotated[LandmarkForm, Form()]) -> Any:
    """One change of the landmarks, which becomes an operation of the recipe."""
    kept = get_version(store, camera_id, form.version)
    convention, _ = axes_of(store, kept, form.axes)
    if form.action == "type":
        marks = parse_table(f"{form.name.strip()}\t{form.place}", convention)
        operation, words = Operation("marks_add", {"marks": marks}), f"landmark {form.name.strip()} typed"
    elif form.action == "paste":
        marks = parse_table(form.table, convention)
        operation, words = Operation("marks_add", {"marks": marks}), f"{len(marks)} landmarks pasted"
    elif form.action == "rename":
        operation = Operation("mark_rename", {"name": form.name, "to": form.new_name})
        words = f"landmark {form.name} renamed"
    elif form.action in ("hide", "show"):
        operation = Operation("marks_hide", {"names": [form.name], "way": form.action})
        words = f"landmark {form.name} {'hidden' if form.action == 'hide' else 'shown'}"
    else:
        raise BadInput("The form cannot be read: reload the page and try again.")
    add_operations(store, kept, [operation], words)
    return back_to(camera_id, "place", f"{form.to}&axes={form.axes}")


@router.get("/{camera_id}/landmarks.{kind}")
def export(store: Store, camera_id: int, kind: str, version: int, axes: str = THE_FILE) -> Response:
    """The shown landmarks as a table (csv, one row a landmark, or a frame where it moves) or as JSON."""
    kept = get_version(store, camera_id, version)
    track, marks, _ = track_of(kept)
    convention, unit = axes_of(store, kept, axes)
    shown = marks.shown()
    name = f"{kept.camera.name}.landmarks.{kind}"
    headers = attachment(name)
    if kind == "csv":
        return Response(landmark_table(track, shown, convention, unit), media_type="text/csv", headers=headers)
    if kind == "json":
        places = convention.position_from_canonical(shown.position_m)
        document = {
            "unit": unit,
            "metres_per_unit": convention.metres_per_unit,
            "up_axis": convention.up_axis,
            "landmarks": [{"name": n, "position": places[:, i].tolist()} for i, n in enumerate(shown.names)],
        }
        return JSONResponse(document, headers=headers)
    raise BadInput(f"'{kind}' is not a format for landmarks: choose csv or json.")


@router.post("/{camera_id}/set")
def add_set(
    request: Request, store: Store, camera_id: int, version: Annotated[int, Form()], file: Annotated[UploadFile, File()],
    metres_per_unit: Annotated[str, Form()] = "", up_axis: Annotated[str, Form()] = "", to: Annotated[str, Form()] = "",
) -> Any:  # fmt: skip
    """Set geometry and landmarks from another file; the file is kept with the camera."""
    kept = get_version(store, camera_id, version)
    name = name_of_upload(file)
    if not name:
        raise BadInput("No file chosen: choose a set file, such as an OBJ.")
    require_readable(name, SET_SUFFIXES)
    data = file.file.read(request.app.state.limits.max_bytes + 1)
    store.release_connection()
    scene = read_bytes(request.app.state.parsers, name, data, suffixes=SET_SUFFIXES)
    typed = {"metres_per_unit": metres_per_unit.strip(), "up_axis": up_axis}
    add_set_from(store, kept, name, data, scene, {k: v for k, v in typed.items() if v})
    return back_to(camera_id, "place", to)
