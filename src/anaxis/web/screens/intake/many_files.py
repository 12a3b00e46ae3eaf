"""Many files on one page: each is read, told apart and kept by a request of its own, so that none waits for another."""

from __future__ import annotations

import json
import os
from collections.abc import AsyncIterator, Callable
from typing import Annotated, Any, BinaryIO

from fastapi import APIRouter, File, Form, Request, UploadFile
from fastapi.responses import JSONResponse
from pydantic import Field

from anaxis.app.cameras.file_names import FIELDS, named_if
from anaxis.app.cameras.take_in import take_in_bytes
from anaxis.app.context import Context
from anaxis.app.plates.media_folder import arriving, folder_of, open_file, watched
from anaxis.app.plates.media_roots import require_root_of_actor, roots_of_actor
from anaxis.app.roles import Role
from anaxis.app.shows.many_files import Item, item_of, keep_item, named_in, same_again
from anaxis.core.errors import BadInput
from anaxis.formats import READABLE_SUFFIXES, check_size, require_readable
from anaxis.store.models import SourceFile
from anaxis.store.queries import find_show, newest_show_name, saved_recipes, staged_scene
from anaxis.web.access import needs
from anaxis.web.forms import PageForm
from anaxis.web.pages import Store, name_of_upload, page
from anaxis.web.streams import events

router = APIRouter(prefix="/take-in/many", dependencies=[needs(Role.ARTIST)])
Typed = Annotated[str, Form()]
_MAX_NAME, _MAX_PATH = 120, 400


@router.get("")
def choose(request: Request, store: Store) -> Any:
    show = newest_show_name(store)
    known = find_show(store, show)
    return page(
        request, "intake/many/index.html", suffixes=READABLE_SUFFIXES, show=show, rule=known.rule if known else "", fields=FIELDS,
        recipes=saved_recipes(store), limit_mb=f"{request.app.state.limits.max_bytes / 1e6:g}", roots=roots_of_actor(store),
    )  # fmt: skip


@router.post("/file")
def read(
    request: Request, store: Store, file: Annotated[UploadFile, File()], path: Typed = "", show: Typed = "", rule: Typed = ""
) -> Any:  # fmt: skip
    """One file read and put aside: its row of the table. What is wrong with it is said there."""
    name = name_of_upload(file, _MAX_NAME)
    return _row(request, _read(request, store, name, lambda: file.file, path.strip()[-_MAX_PATH:] or name, show, rule))


@router.get("/below")
def below(store: Store, root: str, folder: str = "") -> Any:
    """The camera files in a folder below a media root, and the folders in it."""
    try:
        require_root_of_actor(store, root)
        found = folder_of(root, folder)
    except BadInput as error:
        return {"said": error.sentence, "files": [], "folders": []}
    return {"files": found.files, "folders": found.folders}


@router.post("/below/file")
def read_below(
    request: Request, store: Store, root: Typed, at: Typed, folder: Typed = "", show: Typed = "", rule: Typed = ""
) -> Any:
    """One of these files read and put aside, as one that is sent."""
    require_root_of_actor(store, root)
    path = "/".join(filter(None, (root, folder.strip("/"), at)))[-_MAX_PATH:]
    name = at.rsplit("/", 1)[-1][-_MAX_NAME:]
    return _row(request, _read(request, store, name, lambda: open_file(root, folder, at), path, show, rule))


@router.get("/below/arrivals")
def arrivals(request: Request, store: Store, root: str, folder: str = "") -> Any:
    """The files in a folder below a media root and those that come, as server-sent events, for as long as the page is open."""
    try:
        require_root_of_actor(store, root)
        where = watched(root, folder)
    except BadInput as error:
        return JSONResponse({"said": error.sentence}, 400)

    async def told() -> AsyncIterator[str]:
        async for some in arriving(where, READABLE_SUFFIXES):
            yield "".join(f"data: {json.dumps(one._asdict())}\n\n" for one in some) or ": nothing new\n\n"

    return events(request, told())


@router.post("/{source_id}/row")
def look_again(request: Request, store: Store, source_id: int, path: Typed, show: Typed = "", rule: Typed = "") -> Any:
    """The row of a file that was read, by another rule or for another show."""
    source, _ = staged_scene(store, source_id)
    return _row(request, _item(store, source, path, rule, show))


class KeepRowForm(PageForm):
    """A file of many: where it lay, by which rule it is named, the recipe that is done with it, what a person accepts."""

    path: str
    show: str = ""
    rule: str = ""
    recipe: str = ""
    accept: list[str] = Field(default_factory=list)
    new_show: bool = False


@router.post("/{source_id}/keep")
def keep(request: Request, store: Store, source_id: int, form: Annotated[KeepRowForm, Form()]) -> Any:
    """One file's cameras kept, or nothing of it; the rule is that of its show from then on."""
    source, _ = staged_scene(store, source_id)
    item = _item(store, source, form.path, form.rule, form.show)
    if item.source is not None:
        try:
            with store.begin_nested():
                keep_item(store, item, form.rule, form.recipe, form.accept, form.new_show)
        except BadInput as error:
            item = Item(form.path, "cannot be taken in", error.sentence, item.source, item.names)
    return _row(request, item)


def _read(
    request: Request, store: Context, name: str, opened: Callable[[], BinaryIO], path: str, show: str, rule: str
) -> Item:
    most = request.app.state.limits.max_bytes
    try:
        require_readable(name)
        names = named_in(store, path, rule, show)
        with opened() as source:
            check_size(name, source.seek(0, os.SEEK_END), most)
            source.seek(0)
            data = source.read(most + 1)
        again = same_again(store, path, names, data)
        if again is not None:
            return again
        staged = take_in_bytes(store, request.app.state.parsers, name, data)
    except BadInput as error:
        return Item(path, "cannot be taken in", error.sentence, names=named_if(path, rule))
    return _item(store, staged, path, rule, show)


def _item(store: Context, source: SourceFile, path: str, rule: str, show: str) -> Item:
    try:
        return item_of(store, source, path, rule, show)
    except BadInput as error:
        return Item(path, "cannot be taken in", error.sentence, source.id, named_if(path, rule))


def _row(request: Request, item: Item) -> Any:
    return page(request, "intake/many/row.html", item=item)
