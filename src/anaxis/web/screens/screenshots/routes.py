"""Screenshots of a receiving package: landmarks placed in them, the camera that took them, and the cause of a mismatch."""

from __future__ import annotations

import json
from typing import Annotated, Any

from fastapi import APIRouter, File, Form, Request, UploadFile
from fastapi.responses import JSONResponse, RedirectResponse, Response

from anaxis.app.deliveries.learned import learn_and_deliver
from anaxis.app.deliveries.screenshots import (
    add_screenshot,
    beside,
    corners,
    explain_screenshots,
    find_landmarks,
    get_screenshot,
    marks_expected,
    place_landmarks,
    remove_screenshot,
    save_camera,
)
from anaxis.app.deliveries.stills import require_picture
from anaxis.app.roles import Role
from anaxis.app.typed_numbers import number_or_none
from anaxis.core.errors import BadInput
from anaxis.formats import check_size
from anaxis.store.packages import get_package
from anaxis.store.queries import get_version, picture_of_version
from anaxis.store.screenshots import Screenshot
from anaxis.web.access import needs
from anaxis.web.pages import Store, drawing_answer, name_of_upload, page, say_next
from anaxis.web.stations import stations_of

router = APIRouter(dependencies=[needs()])
_MOST_AT_ONCE = 12
Text = Annotated[str, Form()]


@router.post("/cameras/{camera_id}/screenshots")
def added(
    request: Request, store: Store, camera_id: int, version: Annotated[int, Form()], files: Annotated[list[UploadFile], File(alias="file")],
    to: Text = "", frame: Text = "",
) -> Any:  # fmt: skip
    """One screenshot or several; where several are sent, their frames stand with commas between."""
    kept, package = get_version(store, camera_id, version), get_package(store, to)
    if len(files) > _MOST_AT_ONCE:
        raise BadInput(f"{len(files)} screenshots: at most {_MOST_AT_ONCE} go at once.")
    frames = [number_or_none(f, "a frame") for f in frame.split(",")] if frame.strip() else [None] * len(files)
    if len(frames) != len(files):
        raise BadInput(
            f"{len(files)} screenshots and {len(frames)} frames: type a frame for each, with commas between, or none."
        )
    rows = []
    for file, at in zip(files, frames, strict=True):
        name = name_of_upload(file)
        require_picture(name)
        check_size(name, file.size or 0, request.app.state.limits.max_bytes)
        rows.append(add_screenshot(store, kept, package, name, file.file.read(), at))
    return RedirectResponse(f"/screenshots/{rows[0].id}", status_code=303)


@router.get("/screenshots/{number}")
def shown(request: Request, store: Store, number: int) -> Any:
    row = get_screenshot(store, number)
    version = get_version(store, row.version.camera_id, row.version.number)
    expected = marks_expected(row)
    marks = [{"name": n, "expected": expected.get(n), "at": row.points.get(n), "hidden": n in row.points and row.points[n] is None} for n in expected]  # fmt: skip
    return page(
        request, "screenshots/index.html", row=row, version=version, camera=version.camera, shot=version.camera.shot, marks=marks,
        others=beside(store, row), found=row.diagnosis, stations=stations_of(store, version), picture=picture_of_version(version),
        own=_own(row),
    )  # fmt: skip


def _own(row: Screenshot) -> dict[str, Any] | None:
    """What the explanation holds of the camera of this picture."""
    cameras = row.diagnosis.get("cameras", [])
    return cameras[0] if cameras and cameras[0]["found"] else None


@router.get("/screenshots/{number}/picture.png")
def picture(store: Store, number: int) -> Response:
    answer = drawing_answer(get_screenshot(store, number).data)
    answer.headers["Content-Type"] = "image/png"
    return answer


@router.get("/screenshots/{number}/corners.json")
def snapped_to(store: Store, number: int) -> Response:
    return JSONResponse(corners(get_screenshot(store, number)))


@router.post("/screenshots/{number}/landmarks")
def placed(store: Store, number: int, points: Text, frame: Text = "", area: Text = "", action: Text = "explain") -> Any:
    """The landmarks as they are placed; then they are explained, or only saved."""
    row = get_screenshot(store, number)
    place_landmarks(store, row, _points(points), number_or_none(frame, "a frame"), area.strip())
    if action == "explain":
        explain_screenshots(store, row)
    return _back(number)


@router.post("/screenshots/{number}/find")
def proposed(store: Store, number: int) -> Any:
    row = find_landmarks(store, get_screenshot(store, number))
    answer = _back(number)
    say_next(answer, f"Anaxis proposes {row.placed} landmarks. Check each before you explain the picture.")
    return answer


@router.post("/screenshots/{number}/habit", dependencies=[needs(change=Role.LEAD)])
def made_a_habit(store: Store, number: int, which: Annotated[int, Form()] = 0) -> Any:
    """An explanation made habits of its package, and the camera delivered again."""
    row = get_screenshot(store, number)
    explanations = row.diagnosis.get("explanations", [])
    if not 0 <= which < len(explanations):
        raise BadInput("This explanation is no longer there: explain the picture again.")
    version = get_version(store, row.version.camera_id, row.version.number)
    delivery = learn_and_deliver(store, version, row.profile, explanations[which]["causes"], row.name)
    return RedirectResponse(f"/deliveries/{delivery.id}", status_code=303)


@router.post("/screenshots/{number}/camera")
def camera_saved(request: Request, store: Store, number: int, name: Text = "") -> Any:
    made = save_camera(store, request.app.state.parsers, get_screenshot(store, number), name)
    return RedirectResponse(f"/cameras/{made.camera_id}", status_code=303)


@router.post("/screenshots/{number}/remove")
def removed(store: Store, number: int) -> Any:
    row = remove_screenshot(store, get_screenshot(store, number))
    version = row.version
    return RedirectResponse(f"/cameras/{version.camera_id}?version={version.number}&station=prove", status_code=303)


def _points(text: str) -> dict[str, Any]:
    try:
        points = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise BadInput("The placed landmarks cannot be read: reload the page.") from error
    if not isinstance(points, dict) or not all(p is None or isinstance(p, list) for p in points.values()):
        raise BadInput("The placed landmarks cannot be read: reload the page.")
    return points


def _back(number: int) -> RedirectResponse:
    return RedirectResponse(f"/screenshots/{number}", status_code=303)
