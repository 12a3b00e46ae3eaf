"""What the edit says: the ranges that its shots should have, and the cuts within a long camera."""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Annotated, Any

from fastapi import APIRouter, File, Form, Request, UploadFile

from anaxis.app.cameras.edit import add_operations
from anaxis.app.cameras.take_in import disk_name
from anaxis.app.shows.expected import expect_from_cut_list
from anaxis.app.typed_numbers import number_or_none
from anaxis.core.time.rates import parse_rate, rate_text
from anaxis.formats import check_size
from anaxis.formats.editorial.cut_list import CutList, cut_operations
from anaxis.sandbox.pictures import safe_cut_list
from anaxis.store.queries import get_show, get_version, track_of
from anaxis.web.access import needs
from anaxis.web.pages import Store, name_of_upload, page
from anaxis.web.screens.recipe.routes import back_to

router = APIRouter(dependencies=[needs()])
_MAX_EDIT_BYTES = 20_000_000


@router.post("/shows/{show_id}/edit")
def ranges(
    request: Request,
    store: Store,
    show_id: int,
    file: Annotated[UploadFile, File()],
    rate: Annotated[str, Form()] = "24",
) -> Any:
    """The range and rate of every shot that the edit shows, taken from it; their cameras are held against it."""
    show, cut_list = get_show(store, show_id), _read(file, rate)
    expected = expect_from_cut_list(store, show, cut_list)
    named = {id(c) for e in expected for c in e.clips}
    within = {e.shot.id for e in expected}
    return page(
        request,
        "editorial/index.html",
        show=show,
        cut_list=cut_list,
        expected=expected,
        strangers=[c for c in cut_list.clips if id(c) not in named],
        without=[s for s in show.shots if s.id not in within],
    )


@router.post("/cameras/{camera_id}/cuts")
def cuts(
    store: Store,
    camera_id: int,
    version: Annotated[int, Form()],
    file: Annotated[UploadFile, File()],
    first: Annotated[str, Form()] = "",
    to: Annotated[str, Form()] = "",
) -> Any:
    """The edit's cuts marked in a camera that runs through it; ``first`` is the frame here at which the edit begins."""
    kept = get_version(store, camera_id, version)
    track = track_of(kept)[0]
    edit = _read(file, rate_text(track.rate))
    begins = number_or_none(first, "the frame at which the edit begins")
    marks = cut_operations(edit, track, float(track.frames[0]) if begins is None else begins)
    add_operations(store, kept, marks, f"{len(marks)} cut{'s' * (len(marks) != 1)} from the edit {edit.name}")
    return back_to(camera_id, "time", to)


def _read(file: UploadFile, rate: str) -> CutList:
    name = name_of_upload(file) or "the edit"
    check_size(name, file.size or 0, _MAX_EDIT_BYTES)
    with TemporaryDirectory(prefix="anaxis-edit-") as folder:
        path = Path(folder) / disk_name(name)
        path.write_bytes(file.file.read(_MAX_EDIT_BYTES + 1))
        return safe_cut_list(path, parse_rate(rate))
