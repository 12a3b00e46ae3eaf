"""What the edit says: the ranges that its shots should have, and the cuts within a long camera."""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Annotated, Any, NamedTuple

from fastapi import APIRouter, File, Form, Request, UploadFile

from anaxis.app.edit import edit_version
from anaxis.app.take_in import disk_name
from anaxis.core.checks.times import OF_THE_SHOT
from anaxis.core.recipe.replay import inserted
from anaxis.core.time.rates import parse_rate, rate_text
from anaxis.formats import check_size
from anaxis.formats.editorial.cut_list import Clip, Edit, cut_operations, shots_in
from anaxis.store.models import Camera, Shot
from anaxis.store.queries import findings_of, get_show, get_version, recipe_of, track_of
from anaxis.web.pages import Store, name_of_upload, number_or_none, page
from anaxis.web.screens.recipe.routes import back_to
from anaxis.work.sandbox.apart import safe_edit

router = APIRouter()
_MAX_EDIT_BYTES = 20_000_000


class Told(NamedTuple):
    """A shot that is in the edit: its range as it was and as the edit has it, from which clips, and
    how each of its cameras is at odds with that ("" where it agrees)."""

    shot: Shot
    before: tuple[float | None, float | None, str | None]
    clips: list[Clip]
    cameras: list[tuple[Camera, str]]


@router.post("/shows/{show_id}/edit")
def ranges(
    request: Request,
    store: Store,
    show_id: int,
    file: Annotated[UploadFile, File()],
    rate: Annotated[str, Form()] = "24",
) -> Any:
    """The range and rate of every shot that the edit shows, taken from it; their cameras are held against it."""
    show, edit = get_show(store, show_id), _read(file, rate)
    found = shots_in(edit, [s.name for s in show.shots])
    told = []
    for shot in show.shots:
        clips = found.get(shot.name)
        if not clips:
            continue
        before = (shot.first_frame, shot.last_frame, shot.rate)
        shot.first_frame, shot.last_frame = min(c.first for c in clips), max(c.last for c in clips)
        # The frames of a source count at its own rate, whatever the edit runs at.
        shot.rate = clips[0].rate or rate_text(edit.rate)
        cameras = [(c, _at_odds(c)) for c in shot.cameras if c.head_id is not None]
        told.append(Told(shot, before, clips, cameras))
    named = {id(c) for t in told for c in t.clips}
    return page(
        request,
        "editorial/index.html",
        show=show,
        edit=edit,
        told=told,
        strangers=[c for c in edit.clips if id(c) not in named],
        without=[s for s in show.shots if s.name not in found],
    )


def _at_odds(camera: Camera) -> str:
    return next((f.message for f in findings_of(camera.head) if f.code in OF_THE_SHOT), "")


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
    recipe = recipe_of(kept)
    for mark in marks:
        recipe = inserted(recipe, mark)
    edit_version(store, kept, recipe, f"{len(marks)} cut{'s' * (len(marks) != 1)} from the edit {edit.name}"[:300])
    return back_to(camera_id, "time", to)


def _read(file: UploadFile, rate: str) -> Edit:
    name = name_of_upload(file) or "the edit"
    check_size(name, file.size or 0, _MAX_EDIT_BYTES)
    with TemporaryDirectory(prefix="anaxis-edit-") as folder:
        path = Path(folder) / disk_name(name)
        path.write_bytes(file.file.read(_MAX_EDIT_BYTES + 1))
        return safe_edit(path, parse_rate(rate))
