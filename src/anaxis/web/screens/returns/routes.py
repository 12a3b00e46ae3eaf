"""A camera that came back: handed in, measured, explained, and made a habit of its package by one click."""

from __future__ import annotations

import re
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, File, Form, Request, UploadFile
from fastapi.responses import RedirectResponse, Response

from anaxis.app.came_back import camera_came_back, table_came_back
from anaxis.app.deliver import deliver_version, shot_camera_of
from anaxis.app.examined import Examiner
from anaxis.app.returned import TYPED, get_return, keep_return, return_arrays
from anaxis.app.take_in import disk_name
from anaxis.app.waiting import examiner_of, let_go
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import format_frame
from anaxis.delivery.options import Options
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.diagnosis.returned import as_own_table, is_own_table
from anaxis.formats import CAMERA_SUFFIXES, check_size, require_readable
from anaxis.formats.tables.write import SEPARATORS
from anaxis.packages import shipped_profiles
from anaxis.packages.model import Profile, profile_from_dict
from anaxis.store.archive import scene_to_bytes
from anaxis.store.packages import free_key, get_package, keep_package
from anaxis.store.queries import get_version, picture_of_version, track_of
from anaxis.web.drawings.camera import proof_bundle
from anaxis.web.pages import Store, drawing_answer, name_of_upload, page
from anaxis.web.screens.proof.routes import mark_rows
from anaxis.web.stations import stations_of
from anaxis.work.sandbox.guard import ParserPool

router = APIRouter()
_HEADINGS = "frame,seconds,position_x,position_y,position_z,rotation_x_deg,rotation_y_deg,rotation_z_deg,focal_mm,film_width_mm,film_height_mm"


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
    elif numbers.strip():
        pasted = package_table(numbers, package)
        if pasted is None:
            package = package.model_copy(update={"table": None})
            pasted = table_of_numbers(numbers, track_of(kept)[0])
        name, data = TYPED, pasted.encode()
    else:
        raise BadInput("Choose the file that came back, or type its numbers for three frames or more.")
    meant = shot_camera_of(kept)
    let_go(store)
    arrived = _read(request.app.state.parsers, examiner_of(store), name, data, package, meant)
    row = keep_return(store, kept, package, name, data, arrived)
    return RedirectResponse(f"/returns/{row.id}", status_code=303)


def _read(
    parsers: ParserPool, examiner: Examiner, name: str, data: bytes, package: Profile, meant: ShotCamera
) -> Track:
    with TemporaryDirectory(prefix="anaxis-return-") as folder:
        path = Path(folder) / disk_name(name)
        path.write_bytes(data)
        if is_own_table(path, package):
            return table_came_back(examiner, path.name, data, package, meant.picture, meant.track)
        scene = parsers.read(path)
        if scene.columns is not None:
            own = as_own_table(scene, package)
            return table_came_back(examiner, path.name, data, own, meant.picture, meant.track)
        return camera_came_back(examiner, name, scene_to_bytes(scene), package)


def package_table(text: str, package: Profile) -> str | None:
    """Pasted rows as a table of the package's own layout; None where it has none or they have other columns."""
    rule = package.table
    if rule is None:
        return None
    rows = [[p for p in re.split(r"[\s,;]+", line.strip()) if p] for line in text.strip().splitlines()]
    if rows and not re.match(r"^[-+.\d]", rows[0][0] if rows[0] else ""):
        rows = rows[1:]
    if len(rows) < 3 or any(len(r) != len(rule.columns) for r in rows):
        return None
    separator = SEPARATORS[rule.separator]
    head = [[c.quantity for c in rule.columns]] if rule.headings else []
    return "".join(separator.join(r) + "\n" for r in [*head, *rows])


def table_of_numbers(text: str, meant: Track) -> str:
    """Typed rows of frame, position and angles (and focal length, film back) as a table. Raises BadInput naming the row."""
    rows = [_HEADINGS + ",offset_x_mm,offset_y_mm,squeeze"]
    for number, line in enumerate(text.strip().splitlines(), 1):
        parts = [p for p in re.split(r"[\s,;]+", line.strip()) if p]
        if number == 1 and not re.match(r"^[-+.\d]", parts[0] if parts else ""):
            continue
        try:
            values = [float(p) for p in parts]
        except ValueError as error:
            raise BadInput(
                f"Row {number} of the numbers holds '{line.strip()[:40]}': type frame, x, y, z and the three angles."
            ) from error
        if len(values) not in (7, 8, 10):
            raise BadInput(
                f"Row {number} of the numbers has {len(values)} of them: type frame, x, y, z, the three angles, and if they are shown the "
                "focal length and the film back's width and height."
            )
        at = int(np.argmin(np.abs(meant.frames - values[0])))
        lens = meant.lens
        focal = values[7] if len(values) > 7 else float(lens.focal_mm[at])
        film = values[8:10] if len(values) == 10 else [float(lens.film_width_mm[at]), float(lens.film_height_mm[at])]
        seconds = values[0] * meant.rate.denominator / meant.rate.numerator
        row = [
            values[0],
            seconds,
            *values[1:7],
            focal,
            *film,
            float(lens.offset_x_mm[at]),
            float(lens.offset_y_mm[at]),
            float(lens.squeeze[at]),
        ]
        rows.append(",".join(repr(v) for v in row))
    if len(rows) < 4:
        raise BadInput("Three frames or more are needed to tell what happened: type a row for each.")
    return "\n".join(rows) + "\n"


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
        marks = mark_rows(track.take(both), shown_marks, picture_of_version(version), arrived, at)
    return page(
        request, "returns/index.html", row=row, version=version, camera=version.camera, shot=version.camera.shot,
        profile=profile_from_dict(row.profile, "the return's package"), stations=stations_of(version), open_station="prove",
        picture=picture_of_version(version), track=track, frames=frames, explanations=row.diagnosis.get("explanations", []),
        explained=row.diagnosis.get("explained", False), marks=marks,
        span=lambda pairs: ", ".join(f"{format_frame(a)} to {format_frame(b)}" for a, b in pairs[:4]) or "none",
    )  # fmt: skip


@router.get("/returns/{number}/drawing")
def drawing(store: Store, number: int) -> Response:
    row = get_return(store, number)
    track, landmarks, segments = track_of(row.version)
    frames, deviation, arrived = return_arrays(row)
    if not len(frames):
        raise BadInput(
            "The camera that came back has no frame in common with the one meant: there is nothing to lay over it."
        )
    at = np.flatnonzero(np.isin(np.round(track.frames, 4), np.round(frames, 4)))
    marks = landmarks.at_frames(at)
    return drawing_answer(
        proof_bundle(track.take(at), marks, segments, picture_of_version(row.version), deviation, arrived)
    )


@router.post("/returns/{number}/habit")
def made_a_habit(
    store: Store, number: int, which: Annotated[int, Form()] = 0, format_key: Annotated[str, Form()] = ""
) -> Any:
    """What explains the return, made habits of its package, and the camera delivered anew for them."""
    row = get_return(store, number)
    version = get_version(store, row.version.camera_id, row.version.number)
    explanations = row.diagnosis.get("explanations", [])
    if not 0 <= which < len(explanations) or not explanations[which]["causes"]:
        raise BadInput("There is nothing in this explanation to make a habit of.")
    package = (
        get_package(store, row.profile["key"]) if row.profile["key"] else profile_from_dict(row.profile, "the package")
    )
    document = package.model_dump(mode="json")
    document["habits"] = [*document["habits"], *explanations[which]["causes"]]
    if package.key in shipped_profiles():
        document |= {"key": free_key(store, f"{package.key}-here"), "label": f"{package.label}, as it is here"}
    learned = profile_from_dict(document, "the package")
    keep_package(store, learned, f"learned from {row.name}")
    last = next((d.format for d in version.deliveries if d.profile["key"] == package.key), "")
    delivery = deliver_version(store, version, learned, format_key or last or "usd", Options())
    return RedirectResponse(f"/deliveries/{delivery.id}", status_code=303)
