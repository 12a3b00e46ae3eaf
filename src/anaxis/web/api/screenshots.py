"""Screenshots of a receiving package: the camera that took them, and the cause of a mismatch."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import File, Form, Request, Response, UploadFile
from pydantic import BaseModel, Field

from anaxis.app.deliveries.screenshots import (
    add_screenshot,
    explain_screenshots,
    find_landmarks,
    get_screenshot,
    place_landmarks,
    remove_screenshot,
    save_camera,
    screenshots_of,
)
from anaxis.app.deliveries.stills import require_picture
from anaxis.app.documents import ScreenshotDocument, VersionDocument
from anaxis.formats import check_size
from anaxis.store.packages import get_package
from anaxis.store.queries import get_version
from anaxis.web.api.description import download
from anaxis.web.api.fields import Name, Number
from anaxis.web.api.interface import interface_router
from anaxis.web.pages import Store, download_answer, name_of_upload

router = interface_router("screenshots")
Finite = Annotated[float, Field(allow_inf_nan=False, ge=-1e6, le=1e6)]


class Placed(BaseModel):
    """Landmarks as a screenshot shows them."""

    points: dict[Name, tuple[Finite, Finite] | None] = Field(
        description="Pixels from the upper left of the screenshot, by the name of the landmark; null for one that is not visible.", max_length=2000
    )  # fmt: skip
    frame: Finite | None = Field(None, description="The frame of the shot; null if it is unknown.")
    area: Name = Field("", description='The part that the camera made, as "x,y,width,height"; empty to keep it.')


class CameraName(BaseModel):
    name: Name = Field("", description="The name of the camera; chosen by Anaxis if left out.")


@router.post("/cameras/{camera_id}/screenshots", status_code=201)
def screenshot_added(
    request: Request, store: Store, camera_id: Number, file: Annotated[UploadFile, File(description="A PNG, JPEG or EXR.")],
    to: Annotated[Name, Form(description="The package that it shows.")], version: Annotated[Number | None, Form()] = None,
    frame: Annotated[Finite | None, Form(description="The frame of the shot, if it is known.")] = None,
) -> ScreenshotDocument:  # fmt: skip
    """Upload a screenshot of the receiving package."""
    kept, package, name = get_version(store, camera_id, version), get_package(store, to), name_of_upload(file)
    require_picture(name)
    check_size(name, file.size or 0, request.app.state.limits.max_bytes)
    return ScreenshotDocument.of(add_screenshot(store, kept, package, name, file.file.read(), frame))


@router.get("/cameras/{camera_id}/screenshots")
def screenshots(store: Store, camera_id: Number, version: Number | None = None) -> list[ScreenshotDocument]:
    return [ScreenshotDocument.of(row) for row in screenshots_of(store, get_version(store, camera_id, version))]


@router.get("/screenshots/{number}")
def screenshot(store: Store, number: Number) -> ScreenshotDocument:
    return ScreenshotDocument.of(get_screenshot(store, number))


@router.get("/screenshots/{number}/picture.png", response_class=Response, responses=download("image/png", "The screenshot."))  # fmt: skip
def screenshot_picture(store: Store, number: Number) -> Any:
    """Download a screenshot."""
    row = get_screenshot(store, number)
    return download_answer(f"screenshot_{number}.png", row.data, "image/png")


@router.put("/screenshots/{number}/landmarks")
def landmarks_placed(store: Store, number: Number, asked: Placed) -> ScreenshotDocument:
    """Place landmarks; an earlier explanation is withdrawn."""
    row = get_screenshot(store, number)
    return ScreenshotDocument.of(place_landmarks(store, row, asked.points, asked.frame, asked.area))


@router.post("/screenshots/{number}/find")
def landmarks_found(store: Store, number: Number) -> ScreenshotDocument:
    """Find the landmarks by the edges of the set. Check them before you use them."""
    return ScreenshotDocument.of(find_landmarks(store, get_screenshot(store, number)))


@router.post("/screenshots/{number}/explain")
def screenshot_explained(store: Store, number: Number) -> ScreenshotDocument:
    """Find the cause of a mismatch, together with the other screenshots of this package."""
    return ScreenshotDocument.of(explain_screenshots(store, get_screenshot(store, number)))


@router.post("/screenshots/{number}/camera", status_code=201)
def screenshot_camera(request: Request, store: Store, number: Number, asked: CameraName) -> VersionDocument:
    """Save the camera that took a screenshot as a camera of the shot."""
    return VersionDocument.of(save_camera(store, request.app.state.parsers, get_screenshot(store, number), asked.name))


@router.delete("/screenshots/{number}")
def screenshot_removed(store: Store, number: Number) -> ScreenshotDocument:
    return ScreenshotDocument.of(remove_screenshot(store, get_screenshot(store, number)))
