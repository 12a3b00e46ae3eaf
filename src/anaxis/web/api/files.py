"""Camera files sent, told apart, and kept."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Any, Literal

from fastapi import File, Form, Request, UploadFile
from pydantic import BaseModel, Field

from anaxis.app.cameras.draft import Draft
from anaxis.app.cameras.take_in import read_again, read_as, readings_of, reports_of, take_in_bytes
from anaxis.app.documents import FileDocument
from anaxis.app.roles import Role
from anaxis.app.shows.many_files import Item, item_of, keep_item, named_in, same_again
from anaxis.core.errors import BadInput
from anaxis.formats import check_size, require_readable
from anaxis.store.models import SourceFile
from anaxis.store.queries import staged_scene
from anaxis.web.api.fields import Name, Number
from anaxis.web.api.interface import interface_router
from anaxis.web.pages import Store, name_of_upload

router = interface_router("files", read=Role.ARTIST, change=Role.ARTIST)
Typed = Annotated[Name, Form()]


class Keep(BaseModel):
    """Options for saving a file: a saved recipe, and the codes of findings whose remedies to apply."""

    path: Name | None = Field(None, description="As uploaded if left out; show and rule likewise.")
    show: Name | None = None
    rule: Name | None = None
    recipe: Name = ""
    accept: list[Name] = []
    new_show: bool = Field(False, description="Create a new show, although its name is similar to another one.")
    resolution: Name = Field(
        "", description="The picture size, such as 2048x858, if the file states none or a wrong one."
    )
    source_fit: Literal["", "width", "height", "inside", "outside", "stretch"] = Field(
        "", description="The fit of the source; that of the file if left out."
    )


class Inspected(BaseModel):
    """A file with the facts and findings of each camera."""

    file: FileDocument
    cameras: list[dict[str, Any]]
    readings: list[str] = Field([], description="The possible readings of a table; choose one before saving.")


class Columns(BaseModel):
    """How to read a table: the number of one of its readings, from 0, or a column layout."""

    reading: int | None = Field(None, ge=0, le=10)
    layout: dict[str, Any] | None = None


@router.post("/files", status_code=201)
def send(
    request: Request, store: Store, file: Annotated[UploadFile, File(description="A camera file, or a zip with the files it refers to.")],
    path: Typed = "", show: Typed = "", rule: Typed = "",
) -> FileDocument:  # fmt: skip
    """Upload a camera file. The answer compares it with saved cameras by its name and a naming rule. Save it with ``POST /files/{id}/keep``; uploads that are not saved expire."""
    name, most = name_of_upload(file), request.app.state.limits.max_bytes
    path = path.strip() or name
    require_readable(name)
    check_size(name, file.size or 0, most)
    names = named_in(store, path, rule, show)
    data = file.file.read(most + 1)
    again = same_again(store, path, names, data)
    if again is not None:
        return FileDocument.of(again)
    source = take_in_bytes(store, request.app.state.parsers, name, data)
    replace(Draft.of(source), sent={"path": path, "show": show, "rule": rule}).kept_in(source)
    return FileDocument.of(item_of(store, source, path, rule, show))


def _item(store: Store, source: SourceFile, path: str | None, show: str | None, rule: str | None) -> Item:
    """An upload, read again with new options."""
    sent = Draft.of(source).sent
    path, show = (sent.get(n, "") if v is None else v for n, v in (("path", path), ("show", show)))
    return item_of(store, source, path or source.name, _rule_of(source, rule), show)


def _rule_of(source: SourceFile, rule: str | None) -> str:
    return Draft.of(source).sent.get("rule", "") if rule is None else rule


@router.get("/files/{source_id}")
def inspected(
    store: Store, source_id: Number, path: Name | None = None, show: Name | None = None, rule: Name | None = None
) -> Inspected:
    """Inspect an upload again, with the same or another naming rule, with all findings."""
    source, read = staged_scene(store, source_id)
    item = _item(store, source, path, show, rule)
    reports = reports_of(store, source, Draft.of(source), read, item.names.show, item.names.shot)
    cameras = [
        {"path": r.path, "name": r.name, "usable": r.usable, "facts": r.facts, "findings": [f.as_dict() for f in r.findings]} for r in reports
    ]  # fmt: skip
    return Inspected(file=FileDocument.of(item), cameras=cameras, readings=[w["words"] for w in readings_of(read)])


@router.post("/files/{source_id}/columns")
def read_columns(
    request: Request, store: Store, source_id: Number, asked: Columns, path: Name | None = None, show: Name | None = None,
    rule: Name | None = None,
) -> FileDocument:  # fmt: skip
    """Read an uploaded table with other columns."""
    source, read = staged_scene(store, source_id)
    if read.columns is None:
        raise BadInput(f"{source.name} is not a table: it has no columns to choose.")
    if asked.reading is not None:
        read_as(store, request.app.state.parsers, source, read, asked.reading)
    else:
        read_again(store, request.app.state.parsers, source, asked.layout)
    return FileDocument.of(_item(store, source, path, show, rule))


@router.post("/files/{source_id}/keep")
def keep(store: Store, source_id: Number, asked: Keep) -> FileDocument:
    """Save the cameras of an upload, all or none."""
    source, _ = staged_scene(store, source_id)
    item = _item(store, source, asked.path, asked.show, asked.rule)
    keep_item(
        store,
        item,
        _rule_of(source, asked.rule),
        asked.recipe,
        asked.accept,
        asked.new_show,
        asked.resolution,
        asked.source_fit,
    )
    return FileDocument.of(item)
