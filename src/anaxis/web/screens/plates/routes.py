"""Plates: found below a media root or handed in, shown behind the camera, their proxies made and watched."""

from __future__ import annotations

from pathlib import PurePosixPath
from typing import Annotated, Any

from fastapi import APIRouter, File, Form, Query, Request, UploadFile
from fastapi.responses import JSONResponse, RedirectResponse, Response

from anaxis.app.context import Context
from anaxis.app.form_base import require_base
from anaxis.app.plates.media_roots import require_root_for, roots_for
from anaxis.app.plates.plates import (
    BrowsedFolder,
    ask_for_proxies,
    attach_plate,
    change_plate,
    findings_of_plate,
    folder_of,
    get_plate,
    hand_in_plate,
    newest_proxy_work,
    plates_of,
    proxy_numbers,
    proxy_of,
    shown_of,
)
from anaxis.app.roles import Role
from anaxis.app.shows.remove import remove_plate_of_shot
from anaxis.core.checks.plates import PLATE_KINDS, ranges
from anaxis.core.errors import BadInput
from anaxis.formats import check_size
from anaxis.formats.plates.display import VIEWS, view_in_words
from anaxis.formats.plates.picture import facts_from_dict
from anaxis.queue.jobs import OPEN
from anaxis.store.models import Plate, Version
from anaxis.store.queries import NotFound, get_version
from anaxis.web.access import needs
from anaxis.web.forms import StationForm
from anaxis.web.own_worker import ensure_worker
from anaxis.web.pages import Store, name_of_upload, page

router = APIRouter(dependencies=[needs()])
_MOST_FILES = 500


@router.get("/cameras/{camera_id}/plates/browse", dependencies=[needs(Role.ARTIST)])
def browse(
    request: Request, store: Store, camera_id: int, version: int, root: str = "", folder: str = "", to: str = ""
) -> Any:
    """What a folder below a media root holds, to be chosen from."""
    kept = get_version(store, camera_id, version)
    return page(
        request, "plates/browsed.html", version=kept, camera=kept.camera, profile={"key": to}, **browse_context(store, kept, root, folder)
    )  # fmt: skip


class AttachForm(StationForm):
    """A sequence of a folder below a media root."""

    root: str
    sequence: str
    kind: str
    folder: str = ""


@router.post("/cameras/{camera_id}/plates")
def attach(request: Request, store: Store, camera_id: int, form: Annotated[AttachForm, Form()]) -> Any:
    kept = get_version(store, camera_id, form.version)
    plate = attach_plate(store, kept.camera.shot, form.root, form.folder, form.sequence, form.kind)
    return _begun(request, store, kept, plate, form.to)


@router.post("/cameras/{camera_id}/plates/files")
def handed_in(
    request: Request,
    store: Store,
    camera_id: int,
    version: Annotated[int, Form()],
    files: Annotated[list[UploadFile], File()],
    kind: Annotated[str, Form()],
    to: Annotated[str, Form()] = "",
) -> Any:
    kept = get_version(store, camera_id, version)
    if len(files) > _MOST_FILES:
        raise BadInput(
            f"{len(files)} files at once are too many: pack them into one zip, or choose the plate below a media root."
        )
    for file in files:
        check_size(name_of_upload(file), file.size or 0, request.app.state.limits.max_bytes)
    given = [(name_of_upload(f), f.file) for f in files]
    return _begun(request, store, kept, hand_in_plate(store, kept.camera.shot, given, kind), to)


def _begun(request: Request, store: Context, version: Version, plate: Plate, to: str) -> Response:
    """Its proxies are asked for at once."""
    ensure_worker(request, ask_for_proxies(store, version, plate) is not None)
    return _back(version.camera_id, version.number, to)


def _back(camera_id: int, version: int, to: str) -> Response:
    return RedirectResponse(f"/cameras/{camera_id}?version={version}&to={to}&station=plate", status_code=303)


class PlateForm(StationForm):
    """Which plate it is, its ``offset`` in frames, how it is shown (``stops`` brighter), and what the page showed of it (``base``)."""

    camera: int
    kind: str
    offset: int = 0
    view: str = "plain"
    stops: float = 0.0
    base: str = ""


@router.post("/plates/{number}")
def change(request: Request, store: Store, number: int, form: Annotated[PlateForm, Form()]) -> Any:
    plate, kept = get_plate(store, number), get_version(store, form.camera, form.version)
    require_base(store, plate, form.base, "kind", "frame_offset", "view", "stops")
    change_plate(store, plate, form.kind, form.offset, form.view, form.stops)
    return _begun(request, store, kept, plate, form.to)


@router.post("/plates/{number}/remove")
def removed(
    store: Store,
    number: int,
    camera: Annotated[int, Form()],
    version: Annotated[int, Form()],
    to: Annotated[str, Form()] = "",
    even_so: Annotated[str, Form()] = "",
) -> Any:
    remove_plate_of_shot(store, get_plate(store, number), bool(even_so))
    return _back(camera, version, to)


@router.post("/plates/{number}/proxies")
def make(
    request: Request, store: Store, number: int, camera: Annotated[int, Form()], version: Annotated[int, Form()]
) -> Any:
    plate, kept = get_plate(store, number), get_version(store, camera, version)
    ensure_worker(request, ask_for_proxies(store, kept, plate) is not None)
    store.flush()
    return page(request, "plates/work.html", p=_work_row(store, plate), camera=kept.camera, version=kept)


@router.get("/plates/{number}/work")
def work(request: Request, store: Store, number: int, camera: int, version: int) -> Any:
    """How far the proxies are; asked for again until they are there."""
    plate, kept = get_plate(store, number), get_version(store, camera, version)
    row = _work_row(store, plate)
    ensure_worker(request, row["open"])
    return page(request, "plates/work.html", p=row, camera=kept.camera, version=kept)


@router.get("/plates/{number}/shown")
def shown(store: Store, number: int, camera: int, version: int) -> Response:
    plate = get_plate(store, number)
    return JSONResponse(shown_of(store, plate, get_version(store, camera, version)))


@router.get("/plates/{number}/proxies/{picture}.jpg")
def proxy(store: Store, number: int, picture: int, look: Annotated[str, Query()] = "") -> Response:
    plate = get_plate(store, number)
    data = proxy_of(store, plate, picture)
    if data is None:
        raise NotFound("There is no proxy of that frame yet.")
    # The same look is the same picture, unless the files on disk were changed.
    kept = "private, max-age=3600" if look == plate.look else "no-store"
    return Response(data, media_type="image/jpeg", headers={"Cache-Control": kept})


def browse_context(store: Context, version: Version, root: str = "", folder: str = "") -> dict[str, Any]:
    """A folder below a media root that is open to the show, the first one where none was asked for; what is wrong is said in its place."""
    context: dict[str, Any] = {
        "kinds": PLATE_KINDS,
        "ranges": ranges,
        "said_here": "",
        "above": str(PurePosixPath(folder).parent),
    }
    context["above"] = "" if context["above"] == "." else context["above"]
    try:
        show = version.camera.shot.show
        context["roots"] = roots = roots_for(store, show)
        if root:
            require_root_for(store, root, show)
        at = root or (roots[0] if roots else "")
        context["at"] = folder_of(at, folder) if at else BrowsedFolder("", "", [], [])
    except BadInput as error:
        context |= {"said_here": error.sentence, "roots": [root] if root else [], "at": BrowsedFolder(root, "", [], [])}
    return context


def plate_context(store: Context, version: Version) -> dict[str, Any]:
    """The station as it opens."""
    plates = plates_of(store, version.camera.shot)
    return {"plate_rows": [_row(store, p, version) for p in plates], "views": VIEWS, **browse_context(store, version)}


def _row(store: Context, plate: Plate, version: Version) -> dict[str, Any]:
    numbers = plate.numbers
    return {
        **_work_row(store, plate), "facts": facts_from_dict(plate.facts), "findings": findings_of_plate(plate, version),
        "frames": ranges(numbers, 3), "frames_here": ranges([n + plate.frame_offset for n in numbers], 3),
    }  # fmt: skip


def _work_row(store: Context, plate: Plate) -> dict[str, Any]:
    """How far a plate's proxies are: asked for again and again, so nothing else is looked at."""
    job, count = newest_proxy_work(store, plate), len(plate.numbers)
    return {
        "plate": plate, "job": job, "open": job is not None and job.state in OPEN, "made": len(proxy_numbers(store, plate)),
        "all": count, "whole": count - len(plate.seen.get("broken", {})),
        "shown": view_in_words(facts_from_dict(plate.facts).linear, plate.view, plate.stops),
    }  # fmt: skip
