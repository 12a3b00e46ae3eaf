"""Plates of shots, and the folders they lie in."""

from __future__ import annotations

from typing import Annotated

from fastapi import File as Sent
from fastapi import Form, UploadFile
from pydantic import BaseModel, Field

from anaxis.app.plates.media_roots import require_root_for
from anaxis.app.plates.plates import attach_plate, change_plate, folder_of, hand_in_plate, plates_of
from anaxis.app.shows.remove import remove_plate_of_shot
from anaxis.store.models import Plate, Shot
from anaxis.store.rows import found
from anaxis.web.api.fields import Name, Number
from anaxis.web.api.interface import interface_router
from anaxis.web.pages import Store

router = interface_router("plates")


class PlateDocument(BaseModel):
    """A plate: its images by number, and their offset to the camera frames."""

    id: int
    shot: int
    name: str
    kind: str
    root: str = Field(description="The media root of the plate.")
    folder: str
    offset: int = Field(description="Offset from the image number to the camera frame.")
    view: str
    stops: float
    first: int
    last: int
    pictures: int

    @classmethod
    def of(cls, plate: Plate) -> PlateDocument:
        numbers = [int(n) for n in plate.files]
        return cls(
            id=plate.id, shot=plate.shot_id, name=plate.name, kind=plate.kind, root=plate.root, folder=plate.folder, offset=plate.frame_offset,
            view=plate.view, stops=plate.stops, first=min(numbers), last=max(numbers), pictures=len(numbers),
        )  # fmt: skip


class NewPlate(BaseModel):
    """A sequence below a media root that is open to the shot's show."""

    root: Name
    folder: Name = ""
    sequence: Name = Field(examples=["plate.####.exr"])
    kind: Name = "as shot"
    name: Name = ""


class PlateChange(BaseModel):
    kind: Name = "as shot"
    offset: int = Field(0, ge=-10_000_000, le=10_000_000)
    view: Name = "plain"
    stops: float = Field(0.0, ge=-100, le=100)


class FolderDocument(BaseModel):
    root: str
    folder: str
    folders: list[str]
    sequences: list[str]


@router.get("/shots/{shot_id}/plates")
def plates(store: Store, shot_id: Number) -> list[PlateDocument]:
    return [PlateDocument.of(p) for p in plates_of(store, found(store, Shot, shot_id, "shot"))]


@router.get("/shots/{shot_id}/media")
def media(store: Store, shot_id: Number, root: Name, folder: Name = "") -> FolderDocument:
    """List a folder below a media root that is open to the show."""
    require_root_for(store, root, found(store, Shot, shot_id, "shot").show)
    inside = folder_of(root, folder)
    return FolderDocument(
        root=inside.root, folder=inside.folder, folders=inside.folders, sequences=[f.name for f in inside.sequences]
    )


@router.post("/shots/{shot_id}/plates", status_code=201)
def attached(store: Store, shot_id: Number, asked: NewPlate) -> PlateDocument:
    shot = found(store, Shot, shot_id, "shot")
    return PlateDocument.of(attach_plate(store, shot, asked.root, asked.folder, asked.sequence, asked.kind, asked.name))


@router.post("/shots/{shot_id}/plates/files", status_code=201)
def handed_in(
    store: Store, shot_id: Number, files: Annotated[list[UploadFile], Sent(description="An image sequence or movie, or a zip of it.")],
    kind: Annotated[Name, Form()] = "as shot", name: Annotated[Name, Form()] = "",
) -> PlateDocument:  # fmt: skip
    given = [(f.filename or "", f.file) for f in files]
    return PlateDocument.of(hand_in_plate(store, found(store, Shot, shot_id, "shot"), given, kind, name))


@router.put("/plates/{plate_id}")
def plate_changed(store: Store, plate_id: Number, asked: PlateChange) -> PlateDocument:
    plate = found(store, Plate, plate_id, "plate")
    return PlateDocument.of(change_plate(store, plate, asked.kind, asked.offset, asked.view, asked.stops))


@router.delete("/plates/{plate_id}")
def plate_removed(store: Store, plate_id: Number, even_so: bool = False) -> PlateDocument:
    """Remove a plate from its shot. Needs ``even_so`` if cameras are framed in it. The images stay."""
    plate = found(store, Plate, plate_id, "plate")
    document = PlateDocument.of(plate)
    remove_plate_of_shot(store, plate, even_so)
    return document
