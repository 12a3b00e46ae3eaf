"""Shows, shots, cameras and their versions: looked at, and their recipes changed."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from fastapi import Query
from pydantic import BaseModel, Field

from anaxis.app.cameras.allowed_warnings import allow_warnings, warn_again
from anaxis.app.cameras.edit import edit_version
from anaxis.app.documents import CameraDocument, Me, Paged, ShotDocument, ShowDocument, VersionDocument
from anaxis.app.shows.shots import PAGE, WITH_FILES, ShotFilter, listed, shows_of
from anaxis.core.recipe.documents import recipe_from_document
from anaxis.library.values import package_values
from anaxis.store.packages import get_package
from anaxis.store.queries import get_camera, get_show, get_version, picture_of_version, track_of
from anaxis.store.rows import NotFound
from anaxis.web.api.fields import Name, Number
from anaxis.web.api.interface import interface_router
from anaxis.web.pages import Store

router = interface_router("shows")
_MOST_FRAMES = 20_000


class RecipeChange(BaseModel):
    """A new recipe, based on the version ``base``. If another version is current, nothing is changed and the answer is 409."""

    base: Number
    operations: list[dict[str, Any]] = Field(examples=[[{"code": "unit", "params": {"factor": 0.01}}]])
    change: Name = "recipe, over the interface"


class Allowing(BaseModel):
    """Codes of warnings to allow."""

    codes: list[Name] = Field(examples=[["negative_frames"]], min_length=1, max_length=100)


class Values(BaseModel):
    camera: int
    version: str
    to: str
    rate: str
    resolution: list[int]
    notes: list[str]
    frames: list[dict[str, Any]]


@router.get("/me")
def me(store: Store) -> Me:
    """Show the person of the token."""
    actor = store.actor
    return Me(
        name=actor.name, everywhere=actor.everywhere.called, in_shows={s: r.called for s, r in actor.in_shows.items()}
    )


Sort = Literal["shot", "camera", "state", "worst", "frames", "rate", "findings", "newest", "-shot", "-camera", "-state", "-worst", "-frames", "-rate",
    "-findings", "-newest"]  # fmt: skip


@router.get("/shows")
def all_shows(store: Store) -> list[ShowDocument]:
    return [ShowDocument.of(s) for s in shows_of(store)]


@router.get("/shows/{show_id}/shots")
def shots(store: Store, show_id: Number) -> list[ShotDocument]:
    return [ShotDocument.of(s) for s in get_show(store, show_id).shots]


@router.get("/shows/{show_id}/cameras")
def cameras(
    store: Store, show_id: Number, q: Name = "", state: Literal["", "taken in", "delivered", "does not match"] = "",
    findings: bool = False, outdated: bool = False, package: Name = "", sort: Sort = "shot",
    at: Annotated[int, Query(ge=0, le=10**9)] = 0,
) -> Paged[CameraDocument]:  # fmt: skip
    """List cameras of a show, 50 at a time, filtered and sorted as on Shots."""
    found = listed(
        store,
        get_show(store, show_id),
        ShotFilter(q, state, findings, outdated, package, sort=sort, at=at // PAGE * PAGE),
        WITH_FILES,
    )
    return Paged.of((CameraDocument.of(r.camera) for r in found.rows), found.found, found.at)


@router.get("/cameras/{camera_id}")
def camera(store: Store, camera_id: Number) -> CameraDocument:
    held = get_camera(store, camera_id)
    if held.head_id is None:
        raise NotFound(f"There is no camera {camera_id}: choose one on Shots.")
    return CameraDocument.of(held)


@router.get("/cameras/{camera_id}/versions")
def versions(store: Store, camera_id: Number) -> list[VersionDocument]:
    return [VersionDocument.of(v) for v in get_camera(store, camera_id).versions]


@router.get("/cameras/{camera_id}/versions/{number}")
def version(store: Store, camera_id: Number, number: Number) -> VersionDocument:
    return VersionDocument.of(get_version(store, camera_id, number))


@router.post("/cameras/{camera_id}/versions/{number}/allowed", status_code=201)
def allow(store: Store, camera_id: Number, number: Number, asked: Allowing) -> VersionDocument:
    """Allow open warnings under your name. A warning that changes is open again."""
    held = get_version(store, camera_id, number)
    allow_warnings(store, held, asked.codes)
    return VersionDocument.of(held)


@router.delete("/cameras/{camera_id}/versions/{number}/allowed")
def warn_of_again(store: Store, camera_id: Number, number: Number, code: Name) -> VersionDocument:
    """Undo the allowance of a warning for this camera."""
    held = get_version(store, camera_id, number)
    warn_again(store, held, code)
    return VersionDocument.of(held)


@router.get("/cameras/{camera_id}/versions/{number}/values")
def values(
    store: Store, camera_id: Number, number: Number, to: Name, first: float | None = None, last: float | None = None
) -> Values:  # fmt: skip
    """Show a camera in the numbers of a package for each frame, or for ``first`` to ``last``."""
    held, profile = get_version(store, camera_id, number), get_package(store, to)
    track, landmarks, _ = track_of(held)
    found = package_values(track, landmarks, picture_of_version(held), profile, first, last, most=_MOST_FRAMES)
    return Values(
        camera=camera_id, version=held.label, to=profile.key, rate=found.rate, resolution=found.resolution, notes=found.notes,
        frames=found.frames,
    )  # fmt: skip


@router.get("/cameras/{camera_id}/recipe")
def recipe(store: Store, camera_id: Number) -> VersionDocument:
    """Show the current version, its recipe, and the number to base a change on."""
    return VersionDocument.of(get_version(store, camera_id))


@router.put("/cameras/{camera_id}/recipe")
def recipe_changed(store: Store, camera_id: Number, asked: RecipeChange) -> VersionDocument:
    """Change the recipe: Anaxis bakes the camera again as a new current version."""
    store.base_version = asked.base
    operations = recipe_from_document(asked.operations)
    return VersionDocument.of(edit_version(store, get_version(store, camera_id, asked.base), operations, asked.change))
