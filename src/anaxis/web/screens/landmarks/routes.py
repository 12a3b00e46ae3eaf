"""Landmarks on the camera's page: typed, pasted, renamed, hidden, exported; set geometry from a file."""

from __future__ import annotations

import csv
import io
import re
from typing import Annotated, Any, NamedTuple

import numpy as np
from fastapi import APIRouter, File, Form, Request, UploadFile
from fastapi.responses import JSONResponse, Response

from anaxis.app.cameras.edit import edit_version
from anaxis.app.cameras.scenery import add_set as add_set_from
from anaxis.app.cameras.take_in import read_bytes
from anaxis.app.context import Context
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation
from anaxis.core.recipe.replay import inserted
from anaxis.core.scene.card import card_at
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import plain_frame
from anaxis.formats import SET_SUFFIXES, require_readable
from anaxis.formats.text_cells import text_cell
from anaxis.formats.track_json.document import convention_from_document
from anaxis.store.models import Version
from anaxis.store.packages import all_packages
from anaxis.store.queries import get_version, recipe_of, track_of
from anaxis.web.access import needs
from anaxis.web.forms import StationForm
from anaxis.web.pages import Store, attachment, name_of_upload, number_or_none, page
from anaxis.web.screens.recipe.routes import back_to

router = APIRouter(prefix="/cameras", dependencies=[needs()])
THE_FILE = "file"


@router.get("/{camera_id}/card")
def card(
    request: Request, store: Store, camera_id: int, version: int, name: str = "", frame: str = "", axes: str = THE_FILE
) -> Any:
    """A landmark's place and a card there that faces the camera, in a package's numbers, to copy."""
    kept = get_version(store, camera_id, version)
    track, marks, _ = track_of(kept)
    convention, unit = axes_of(store, kept, axes)
    asked = number_or_none(frame, "a frame")
    at = 0 if asked is None else int(np.argmin(np.abs(track.frames - asked)))
    place = marks.position_m[at if len(marks.position_m) > 1 else 0, marks.index(name)]
    found = card_at(track, at, place, convention)
    return page(request, "camera/card.html", card=found, mark=name, unit=unit, at_frame=float(track.frames[at]))


class LandmarkRow(NamedTuple):
    """One landmark as the table shows it: ``size`` is "" for a point."""

    name: str
    place: list[float]
    size: str
    hidden: bool
    moves: bool


def axes_of(store: Context, version: Version, key: str) -> tuple[Convention, str]:
    """The convention that landmarks are shown and typed in, and the name of its unit."""
    profile = all_packages(store).get(key)
    if profile is not None:
        return profile.convention, profile.unit_name
    convention = convention_from_document(version.facts["convention"])
    return convention, file_unit(convention)


def file_unit(convention: Convention) -> str:
    """The name of a file's unit where it has a usual one."""
    return {0.01: "cm", 1.0: "m", 0.001: "mm"}.get(convention.metres_per_unit, "units")


def rows_of(marks: Landmarks, convention: Convention) -> list[LandmarkRow]:
    """The table of landmarks at the first frame, in a package's axes and unit."""
    places = convention.position_from_canonical(marks.position_m)
    moves = np.ptp(marks.position_m, axis=0).max(axis=1, initial=0) > 1e-9
    sizes = np.abs(marks.size_m @ convention.world.T) / convention.metres_per_unit
    return [
        LandmarkRow(
            name,
            places[0, i].tolist(),
            " × ".join(f"{v:.4g}" for v in sizes[i]) if sizes[i].any() else "",
            name in marks.hidden,
            bool(moves[i]),
        )
        for i, name in enumerate(marks.names)
    ]


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
        raise BadInput("That is no change of a landmark: reload the page and try again.")
    edit_version(store, kept, inserted(recipe_of(kept), operation), words)
    return back_to(camera_id, "place", f"{form.to}&axes={form.axes}")


def parse_table(text: str, convention: Convention) -> list[dict[str, Any]]:
    """Landmarks from rows of a name and three numbers, in a package's axes and unit, as an operation's parameter.

    A row of headings is passed over. Raises BadInput that names the row.
    """
    marks = []
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip():
            continue
        cells = [c for c in re.split(r"[\t,;]+|\s+", line.strip()) if c]
        try:
            numbers = [float(c) for c in cells[-3:]]
            name = " ".join(cells[:-3]).strip('"')
            if len(numbers) != 3 or not name or not np.isfinite(numbers).all():
                raise ValueError
        except ValueError as error:
            if number == 1 and len(text.splitlines()) > 1 and not any(c.replace(".", "").isdigit() for c in cells):
                continue
            raise BadInput(
                f"Row {number}, '{line.strip()[:60]}', is no landmark: write a name and three numbers, such as "
                "tide_bell 600 340 -900."
            ) from error
        place = convention.position_to_canonical(np.array(numbers))
        marks.append({"name": name, "position_m": place.tolist()})
    if not marks:
        raise BadInput("There is no landmark in that table: write a name and three numbers a row.")
    return marks


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
        return Response(_csv(track, shown, convention, unit), media_type="text/csv", headers=headers)
    if kind == "json":
        places = convention.position_from_canonical(shown.position_m)
        document = {
            "unit": unit,
            "metres_per_unit": convention.metres_per_unit,
            "up_axis": convention.up_axis,
            "landmarks": [{"name": n, "position": places[:, i].tolist()} for i, n in enumerate(shown.names)],
        }
        return JSONResponse(document, headers=headers)
    raise BadInput(f"'{kind}' is no format for landmarks: choose csv or json.")


def _csv(track: Track, marks: Landmarks, convention: Convention, unit: str) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["name", "frame", f"x_{unit}", f"y_{unit}", f"z_{unit}"])
    places = convention.position_from_canonical(marks.position_m)
    for i, name in enumerate(marks.names):
        moves = len(places) > 1 and np.ptp(places[:, i], axis=0).max() > 0
        for f in range(len(places)) if moves else (0,):
            frame = plain_frame(track.frames[f]) if moves else ""
            writer.writerow([text_cell(name), frame, *(repr(float(v)) for v in places[f, i])])
    return out.getvalue()


@router.post("/{camera_id}/set")
def add_set(
    request: Request, store: Store, camera_id: int, version: Annotated[int, Form()], file: Annotated[UploadFile, File()],
    metres_per_unit: Annotated[str, Form()] = "", up_axis: Annotated[str, Form()] = "", to: Annotated[str, Form()] = "",
) -> Any:  # fmt: skip
    """Set geometry and landmarks from another file; the file is kept with the camera."""
    kept = get_version(store, camera_id, version)
    name = name_of_upload(file)
    if not name:
        raise BadInput("No file was chosen: choose a set, an OBJ for one.")
    require_readable(name, SET_SUFFIXES)
    data = file.file.read(request.app.state.limits.max_bytes + 1)
    store.release_connection()
    scene = read_bytes(request.app.state.parsers, name, data, suffixes=SET_SUFFIXES)
    typed = {"metres_per_unit": metres_per_unit.strip(), "up_axis": up_axis}
    add_set_from(store, kept, name, data, scene, {k: v for k, v in typed.items() if v})
    return back_to(camera_id, "place", to)
