"""The cut of a joined camera: from an edit, or laid by hand on a strip; checked, joined, and changed later."""

from __future__ import annotations

import json
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Annotated, Any

from fastapi import APIRouter, File, Form, Request, UploadFile
from fastapi.responses import RedirectResponse

from anaxis.app.cameras.take_in import disk_name
from anaxis.app.context import Context
from anaxis.app.derived.derive import Derive, derive, derive_anew, settings_of, used_version
from anaxis.app.derived.join import cameras_of, checked, laid_of, role_of
from anaxis.app.typed_numbers import number_or_none
from anaxis.core.derive import joined
from anaxis.core.derive.joined import Join
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.time.rates import kept_rate, parse_rate, rate_label, rate_text
from anaxis.formats import check_size
from anaxis.formats.editorial.write import render_range
from anaxis.library.derived import timecode_of_edit
from anaxis.sandbox.pictures import safe_cut_list
from anaxis.store.models import Show, Version
from anaxis.store.queries import get_show, get_version
from anaxis.web.access import needs
from anaxis.web.pages import Store, TypedForm, name_of_upload, page

router = APIRouter(dependencies=[needs()])
_MAX_EDIT_BYTES, _MAX_PIECES_BYTES = 20_000_000, 2_000_000


@router.get("/shows/{show_id}/join")
def lay(request: Request, store: Store, show_id: int) -> Any:
    """An empty strip to lay shots on, or to put an edit on."""
    return _page(request, store, get_show(store, show_id), [], {})


@router.post("/shows/{show_id}/join/edit")
def from_edit(
    request: Request, store: Store, show_id: int, file: Annotated[UploadFile, File()], rate: Annotated[str, Form()] = "24"
) -> Any:  # fmt: skip
    """The strip as an edit lays it: each clip the camera of the shot it is named like."""
    show = get_show(store, show_id)
    name = name_of_upload(file) or "the edit"
    check_size(name, file.size or 0, _MAX_EDIT_BYTES)
    with TemporaryDirectory(prefix="anaxis-edit-") as folder:
        path = Path(folder) / disk_name(name)
        path.write_bytes(file.file.read(_MAX_EDIT_BYTES + 1))
        edit = safe_cut_list(path, parse_rate(rate))
    laid = laid_of(store, show, edit)
    given = {"rate": rate_text(edit.rate), "edit": edit.name, "name": edit.name, "timecode": timecode_of_edit(edit)}
    return _page(request, store, show, [p.model_dump() for p in laid.pieces], given, laid.notes)


@router.post("/shows/{show_id}/join/check")
def check(request: Request, store: Store, show_id: int, typed: TypedForm) -> Any:
    """What is to be said of a cut before it is joined, and the range it makes."""
    show = get_show(store, show_id)
    try:
        settings = _settings(typed)
        findings = checked(store, show, settings)
        owed = render_range(settings)
    except BadInput as error:
        findings, owed = [Finding("join", "error", error.sentence, "")], None
    return page(request, "join/checked.html", findings=findings, owed=owed)


@router.post("/shows/{show_id}/join")
def make(store: Store, show_id: int, typed: TypedForm) -> Any:
    """Join the cut into a camera of its own shot."""
    show, settings = get_show(store, show_id), _settings(typed)
    shot = typed.get("shot", "").strip() or settings.name
    asked = Derive(
        kind=joined.KIND.code, show=show.name, shot=shot, name=settings.name, settings=settings.model_dump(mode="json"),
        inputs=_inputs(store, show, settings),
    )  # fmt: skip
    made = derive(store, asked)
    return RedirectResponse(f"/cameras/{made.camera_id}?station=take-in", status_code=303)


@router.get("/cameras/{camera_id}/cut")
def change(request: Request, store: Store, camera_id: int, version: int | None = None) -> Any:
    """The strip of a joined camera, to be changed."""
    kept, settings = _joined(store, camera_id, version)
    given = settings.model_dump() | {"shot": kept.camera.shot.name}
    return _page(request, store, kept.camera.shot.show, given.pop("pieces"), given, of=kept)


@router.post("/cameras/{camera_id}/cut")
def changed(store: Store, camera_id: int, typed: TypedForm, version: Annotated[int, Form()]) -> Any:
    """The camera joined anew over the changed cut, its recipe done again."""
    kept, _ = _joined(store, camera_id, version)
    settings = _settings(typed)
    newest = _inputs(store, kept.camera.shot.show, settings)
    # What was chosen before stays the version it was: bringing it up to date is a step of its own.
    before = {i.role: used_version(i).id for i in kept.made_of}
    inputs = {role: before.get(role, number) for role, number in newest.items()}
    made = derive_anew(store, kept, settings.model_dump(mode="json"), inputs)
    return RedirectResponse(f"/cameras/{camera_id}?version={made.number}&station=take-in", status_code=303)


def _joined(store: Context, camera_id: int, version: int | None) -> tuple[Version, Join]:
    kept = get_version(store, camera_id, version)
    settings = settings_of(kept)
    if not isinstance(settings, Join):
        raise BadInput(f"{kept.camera.name} is not a joined camera.")
    return kept, settings


def _page(
    request: Request, store: Context, show: Show, pieces: list[dict[str, Any]], given: dict[str, Any], notes: tuple[str, ...] = (),
    of: Version | None = None,
) -> Any:  # fmt: skip
    versions = cameras_of(store, show)
    first = next(
        (v for v in versions if any(p["role"] == role_of(v) for p in pieces)), versions[0] if versions else None
    )
    usual: dict[str, Any] = {
        "first": 1001,
        "name": "joined",
        "shot": "",
        "film_back": "stepped",
        "gaps": "hold",
        "missing": "refuse",
        "keep": "width",
        "edit": "",
        "timecode": "non-drop",
    }
    if first is not None:
        usual |= {
            "width_px": first.width_px, "height_px": first.height_px, "pixel_aspect": first.pixel_aspect, "fit": first.source_fit,
            "rate": str(first.facts["rate"]),
        }  # fmt: skip
    settings = usual | given
    settings["rate_label"] = rate_label(kept_rate(settings["rate"])) if "rate" in settings else ""
    listed = [
        {
            "role": role_of(v), "first": v.facts["first_frame"], "last": v.facts["last_frame"], "rate": rate_label(kept_rate(v.facts["rate"])),
            "href": f"/cameras/{v.camera_id}",
        }
        for v in versions
    ]  # fmt: skip
    return page(
        request, "join/index.html", show=show, cameras=listed, settings=settings, notes=notes, of=of,
        laid=json.dumps({"pieces": pieces, "cameras": listed}),
    )  # fmt: skip


def _settings(typed: dict[str, str]) -> Join:
    """The form's fields as settings. Raises BadInput that names the one at fault."""
    text = typed.get("pieces", "")
    if len(text) > _MAX_PIECES_BYTES:
        raise BadInput("The cut has too many pieces: join a part of it.")
    try:
        pieces = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise BadInput("The cut cannot be read: reload the page.") from error
    if not isinstance(pieces, list) or not pieces:
        raise BadInput("The cut has no shots yet: add one, or import an edit.")
    given: dict[str, Any] = {"pieces": pieces, "rate": rate_text(parse_rate(typed.get("rate", "")))}
    for key in ("fit", "keep", "film_back", "gaps", "missing", "name", "edit", "timecode"):
        if typed.get(key, "").strip():
            given[key] = typed[key].strip()
    for key in ("first", "pixel_aspect", "width_px", "height_px"):
        value = number_or_none(typed.get(key, ""), key.replace("_px", "").replace("_", " "))
        if value is not None:
            given[key] = int(value) if key.endswith("_px") else value
    before, after = (number_or_none(typed.get(f"extra_{k}", ""), "extra frames") or 0 for k in ("before", "after"))
    return joined.extended(joined.KIND.read(given), int(before), int(after))


def _inputs(store: Context, show: Show, settings: Join) -> dict[str, int]:
    wanted = dict.fromkeys(p.role for p in settings.pieces)
    by_role = {role_of(v): v.id for v in cameras_of(store, show)}
    gone = next((r for r in wanted if r not in by_role), None)
    if gone is not None:
        raise BadInput(f"There is no camera '{gone}' in {show.name} any more: choose another for its clips.")
    return {role: by_role[role] for role in wanted}
