"""Many files on one page: each is read, told apart and kept by a request of its own, so that none waits for another."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, File, Form, Request, UploadFile
from sqlalchemy.orm import Session

from anaxis.app.file_names import FIELDS, named_if
from anaxis.app.many import Item, item_of, keep_item, named_in, same_again
from anaxis.app.take_in import take_in_bytes
from anaxis.core.errors import BadInput
from anaxis.formats import READABLE_SUFFIXES, check_size, require_readable
from anaxis.store.models import SourceFile
from anaxis.store.queries import find_show, newest_show_name, saved_recipes, staged_scene
from anaxis.web.pages import Store, name_of_upload, page

router = APIRouter(prefix="/take-in/many")
Typed = Annotated[str, Form()]
_MAX_NAME = 120


@router.get("")
def choose(request: Request, store: Store) -> Any:
    show = newest_show_name(store)
    known = find_show(store, show)
    return page(
        request, "intake/many/index.html", suffixes=READABLE_SUFFIXES, show=show, rule=known.rule if known else "", fields=FIELDS,
        recipes=saved_recipes(store), limit_mb=f"{request.app.state.limits.max_bytes / 1e6:g}",
    )  # fmt: skip


@router.post("/file")
def read(
    request: Request, store: Store, file: Annotated[UploadFile, File()], path: Typed = "", show: Typed = "", rule: Typed = ""
) -> Any:  # fmt: skip
    """One file read and put aside: its row of the table. What is wrong with it is said there."""
    name = name_of_upload(file, _MAX_NAME)
    path = path.strip()[-400:] or name
    limits = request.app.state.limits
    try:
        require_readable(name)
        check_size(name, file.size or 0, limits.max_bytes)
        names = named_in(path, rule, show)
        data = file.file.read(limits.max_bytes + 1)
        again = same_again(store, path, names, data)
        if again is not None:
            return _row(request, again)
        source = take_in_bytes(store, request.app.state.parsers, name, data)
    except BadInput as error:
        return _row(request, Item(path, "cannot be taken in", error.sentence, names=named_if(path, rule)))
    return _row(request, _item(store, source, path, rule, show))


@router.post("/{source_id}/row")
def look_again(request: Request, store: Store, source_id: int, path: Typed, show: Typed = "", rule: Typed = "") -> Any:
    """The row of a file that was read, by another rule or for another show."""
    source, _ = staged_scene(store, source_id)
    return _row(request, _item(store, source, path, rule, show))


@router.post("/{source_id}/keep")
def keep(
    request: Request, store: Store, source_id: int, path: Typed, show: Typed = "", rule: Typed = "", recipe: Typed = "",
    accept: Annotated[list[str] | None, Form()] = None,
) -> Any:  # fmt: skip
    """One file's cameras kept, or nothing of it; the rule is that of its show from then on."""
    source, _ = staged_scene(store, source_id)
    item = _item(store, source, path, rule, show)
    if item.source is not None:
        try:
            with store.begin_nested():
                versions = keep_item(store, item, recipe, accept or ())
                item.kept = [v.camera_id for v in versions]
                item.cameras = [v.camera.name for v in versions]
                if rule.strip():
                    versions[0].camera.shot.show.rule = rule.strip()
        except BadInput as error:
            item = Item(path, "cannot be taken in", error.sentence, item.source, item.names)
    return _row(request, item)


def _item(store: Session, source: SourceFile, path: str, rule: str, show: str) -> Item:
    try:
        return item_of(store, source, path, rule, show)
    except BadInput as error:
        return Item(path, "cannot be taken in", error.sentence, source.id, named_if(path, rule))


def _row(request: Request, item: Item) -> Any:
    return page(request, "intake/many/row.html", item=item)
