"""What is done to a camera, and what is made of it."""

from __future__ import annotations

from typing import Annotated, Any, Literal

import numpy as np
from fastapi import File as Sent
from fastapi import Response, UploadFile
from pydantic import BaseModel, Field

from anaxis.app.cameras.compare import compared, landmark_changes
from anaxis.app.cameras.edit import copy_camera, correct_picture, step_back, step_on
from anaxis.app.cameras.names import move_camera, rename
from anaxis.app.cameras.set_objects import set_of_version
from anaxis.app.deliveries.hand_over import bundles_of
from anaxis.app.deliveries.stills import compare_stills, require_picture
from anaxis.app.derived.derive import Derive, bring_up_to_date, derive, derive_anew
from anaxis.app.documents import CameraDocument, VersionDocument
from anaxis.app.saved import save_recipe
from anaxis.app.shows.remove import bring_back_camera, remove_camera
from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import format_frame
from anaxis.delivery.options import DeliveryOptions
from anaxis.formats import format_of
from anaxis.store.models import Camera, Shot
from anaxis.store.packages import get_package
from anaxis.store.queries import get_camera, get_show, get_version, track_of
from anaxis.store.rows import found
from anaxis.web.api.description import ZIP
from anaxis.web.api.fields import FormatKey, Name, Number, PackageKey
from anaxis.web.api.interface import interface_router
from anaxis.web.pages import Store, download_answer

router = interface_router("cameras")


Place = Annotated[list[float], Field(min_length=3, max_length=3)]


class Base(BaseModel):
    """The version that a change is based on. If another version is current, nothing is changed and the answer is 409."""

    base: Number


class PictureChange(Base):
    """Picture size and fit of the source."""

    width_px: Annotated[int, Field(ge=1, le=65536)]
    height_px: Annotated[int, Field(ge=1, le=65536)]
    pixel_aspect: Annotated[float, Field(gt=0, le=100)] = 1.0
    source_fit: Literal["width", "height", "inside", "outside", "stretch"] = "width"


class NameAndPlace(BaseModel):
    """A new name or shot; fields left out stay unchanged."""

    name: Name | None = None
    shot: Number | None = Field(None, description="The number of a shot.")


class Copy(Base):
    name: Name = Field("", description="The name of the copy; chosen by Anaxis if left out.")


class Marks(BaseModel):
    """Landmarks by name, in metres, Y up, right-handed: one position for a still landmark, one for each frame for a moving one."""

    version: str
    frames: list[float] = Field(description="The camera's frames.")
    landmarks: dict[str, list[Place]]


class SetObjectDocument(BaseModel):
    """An object of the set of a camera. The recipe operation ``set_objects`` chooses which objects are delivered."""

    path: str
    file: str = Field(description="The file that adds the object; empty for the camera file.")
    name: str
    group: str
    along: bool
    hidden: bool
    guide: bool
    faces: int
    points: int
    extent_m: Place
    state: str
    view: str
    share: float = Field(description="Share of the points of the set.")


class SetDocument(BaseModel):
    objects: list[SetObjectDocument]
    notes: list[str]


class ComparedVersions(BaseModel):
    """The deviation between two versions in pixels, and the changed landmarks."""

    older: int
    newer: int
    max_px: float
    worst_frame: float
    frames: list[float]
    deviation_px: list[float]
    landmarks: list[str]


class NewBundle(BaseModel):
    """A zip for each package: cameras, landmarks, set, axis check, sheet, manifest."""

    to: list[PackageKey] = Field(min_length=1, max_length=40, examples=[["zup-lh-cm"]])
    formats: list[FormatKey] = Field(min_length=1, max_length=10, examples=[["usd"]])
    version: Number | None = None
    options: DeliveryOptions = DeliveryOptions()


class InputOfDerived(BaseModel):
    camera: Number
    version: Number | None = Field(None, description="The current version if left out.")


class NewDerived(BaseModel):
    """A derived camera: its kind, its settings and a camera for each role."""

    kind: Name = Field(examples=["held"])
    shot: Name
    name: Name
    settings: dict[str, Any] = Field({}, examples=[{"at": 1040}])
    inputs: dict[str, InputOfDerived] = Field(examples=[{"shot camera": {"camera": 1}}], max_length=1000)


class OtherSettings(Base):
    settings: dict[str, Any]


class StillDocument(BaseModel):
    id: int
    frame: float
    measured: dict[str, Any]


@router.patch("/cameras/{camera_id}")
def put_in_order(store: Store, camera_id: Number, asked: NameAndPlace) -> CameraDocument:
    """Rename a camera or move it to another shot."""
    held = get_camera(store, camera_id)
    if asked.shot is not None:
        move_camera(store, held, found(store, Shot, asked.shot, "shot"))
    if asked.name is not None:
        rename(store, held, asked.name)
    store.flush()
    return CameraDocument.of(held)


@router.delete("/cameras/{camera_id}")
def taken_off(store: Store, camera_id: Number, even_so: bool = False) -> CameraDocument:
    """Archive a camera. Needs ``even_so`` if cameras are derived from it. Archiving can be undone."""
    return CameraDocument.of(remove_camera(store, get_camera(store, camera_id), even_so))


@router.post("/cameras/{camera_id}/restore")
def put_back(store: Store, camera_id: Number) -> CameraDocument:
    return CameraDocument.of(bring_back_camera(store, found(store, Camera, camera_id, "camera")))


@router.put("/cameras/{camera_id}/picture")
def picture_changed(store: Store, camera_id: Number, asked: PictureChange) -> VersionDocument:
    """Set resolution, pixel aspect and fit as a new version."""
    store.base_version = asked.base
    image = Image(asked.width_px, asked.height_px, asked.pixel_aspect)
    return VersionDocument.of(
        correct_picture(store, get_version(store, camera_id, asked.base), image, asked.source_fit)
    )


@router.post("/cameras/{camera_id}/undo")
def undone(store: Store, camera_id: Number, asked: Base) -> VersionDocument:
    store.base_version = asked.base
    return VersionDocument.of(step_back(store, get_version(store, camera_id, asked.base)))


@router.post("/cameras/{camera_id}/redo")
def redone(store: Store, camera_id: Number, asked: Base) -> VersionDocument:
    store.base_version = asked.base
    return VersionDocument.of(step_on(store, get_version(store, camera_id, asked.base)))


@router.post("/cameras/{camera_id}/copies", status_code=201)
def copied(store: Store, camera_id: Number, asked: Copy) -> CameraDocument:
    """Copy a version to a new camera in the same shot."""
    made = copy_camera(store, get_version(store, camera_id, asked.base), asked.name)
    return CameraDocument.of(get_camera(store, made.camera_id))


@router.get("/cameras/{camera_id}/landmarks")
def landmarks(store: Store, camera_id: Number, version: Number | None = None) -> Marks:
    held = get_version(store, camera_id, version)
    track, marks, _ = track_of(held)
    shown = marks.shown()
    places = shown.position_m
    rows = {
        name: (places[:, i] if moves else places[:1, i]).tolist()
        for i, (name, moves) in enumerate(zip(shown.names, shown.moving(), strict=True))
    }
    return Marks(version=held.label, frames=track.frames.tolist(), landmarks=rows)


@router.get("/cameras/{camera_id}/set")
def objects_of_set(store: Store, camera_id: Number, version: Number | None = None) -> SetDocument:
    """List the objects of the set of a camera and their choices."""
    listing = set_of_version(store, get_version(store, camera_id, version))
    return SetDocument(
        objects=[SetObjectDocument.model_validate(r._asdict() | {"extent_m": list(r.extent_m)}) for r in listing.rows],
        notes=list(listing.notes),
    )


@router.get("/cameras/{camera_id}/compare")
def two_versions(store: Store, camera_id: Number, older: Number, newer: Number) -> ComparedVersions:
    a, b = get_version(store, camera_id, older), get_version(store, camera_id, newer)
    proof = compared(a, b).proof
    if proof is None:
        raise BadInput(
            f"Versions {a.label} and {b.label} share no frame, so there is nothing to compare.", "no_common_frame"
        )
    return ComparedVersions(
        older=a.number, newer=b.number, max_px=proof.max_px, worst_frame=proof.worst_frame, frames=proof.frames.tolist(),
        deviation_px=proof.deviation_px.tolist(), landmarks=landmark_changes(a, b),
    )  # fmt: skip


@router.post("/cameras/{camera_id}/bundle", response_class=Response, responses=ZIP)
def bundle(store: Store, camera_id: Number, asked: NewBundle) -> Any:
    """Write everything for one package as a zip; for several packages, a zip with one zip for each."""
    for key in asked.formats:
        format_of(key)
    held = get_version(store, camera_id, asked.version)
    profiles = [get_package(store, key) for key in dict.fromkeys(asked.to)]
    name, data = bundles_of(store, [held], profiles, list(dict.fromkeys(asked.formats)), asked.options)
    return download_answer(name, data, "application/zip")


@router.post("/shows/{show_id}/derived", status_code=201)
def made_of_others(store: Store, show_id: Number, asked: NewDerived) -> CameraDocument:
    """A joined camera, a 360-degree framing or a projection camera."""
    inputs = {role: get_version(store, i.camera, i.version).id for role, i in asked.inputs.items()}
    show = get_show(store, show_id).name
    made = derive(
        store,
        Derive(kind=asked.kind, show=show, shot=asked.shot, name=asked.name, settings=asked.settings, inputs=inputs),
    )
    return CameraDocument.of(get_camera(store, made.camera_id))


@router.put("/cameras/{camera_id}/derivation")
def made_anew(store: Store, camera_id: Number, asked: OtherSettings) -> VersionDocument:
    """Derive a camera again with other settings, as its next take."""
    store.base_version = asked.base
    return VersionDocument.of(derive_anew(store, get_version(store, camera_id, asked.base), asked.settings))


@router.post("/cameras/{camera_id}/update")
def brought_up_to_date(store: Store, camera_id: Number, asked: Base) -> VersionDocument:
    """Update a derived camera to the newest versions of its inputs."""
    store.base_version = asked.base
    return VersionDocument.of(bring_up_to_date(store, get_version(store, camera_id, asked.base)))


@router.post("/cameras/{camera_id}/saved-recipe", status_code=201)
def recipe_saved(store: Store, camera_id: Number, name: Name, version: Number | None = None) -> dict[str, Any]:
    """Save the recipe of a version under a name, to apply it to other cameras."""
    saved = save_recipe(store, get_version(store, camera_id, version), name)
    return {"name": saved.name, "number": saved.number, "operations": saved.operations}


@router.post("/cameras/{camera_id}/stills", status_code=201)
def stills(
    store: Store, camera_id: Number, frame: float, ours: Annotated[UploadFile, Sent(description="The expected still.")],
    theirs: Annotated[UploadFile, Sent(description="The still from the package.")], version: Number | None = None,
) -> StillDocument:  # fmt: skip
    """Compare two stills of a frame: shift, scale and rotation."""
    held = get_version(store, camera_id, version)
    frames = track_of(held)[0].frames
    at = np.flatnonzero(np.abs(frames - frame) < 1e-6)
    if not len(at):
        raise BadInput(
            f"The camera has no frame {frame:g}: it runs from {format_frame(frames[0])} to {format_frame(frames[-1])}."
        )
    pictures = []
    for file in (ours, theirs):
        require_picture(file.filename or "")
        pictures.append((file.filename or "", file.file.read()))
    row = compare_stills(store, held, int(at[0]), pictures)
    return StillDocument(id=row.id, frame=row.frame, measured=row.measured)
