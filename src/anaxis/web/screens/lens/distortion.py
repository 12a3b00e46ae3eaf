"""The distortion at the Lens station: drawn, redrawn as a coefficient changes, read from files, fitted, estimated, taken."""

from __future__ import annotations

import json
from typing import Annotated, Any, Literal

from fastapi import APIRouter, File, Form, Request, UploadFile
from fastapi.responses import RedirectResponse

from anaxis.app.cameras.distortion import (
    bent_plate,
    drop_distortion,
    estimated_from_boards,
    fitted_to_maps,
    take_distortion,
)
from anaxis.app.cameras.lens import place_of
from anaxis.app.context import Context
from anaxis.app.plates.outputs import ask_for_maps, ask_for_warped
from anaxis.app.plates.plates import get_plate, plates_of
from anaxis.app.typed_numbers import number_or_none
from anaxis.core.camera.distortion import mapped
from anaxis.core.camera.distortion.models import MODELS, model_of, usual_of
from anaxis.core.camera.distortion.suggested import Suggested
from anaxis.core.camera.lens import parse_image
from anaxis.core.camera.track import Track, lens_moves
from anaxis.core.errors import BadInput
from anaxis.core.scene.picture import Picture
from anaxis.diagnosis.board import KINDS, Board
from anaxis.formats import check_size
from anaxis.formats.distortion.read import distortion_schema, read_distortion
from anaxis.formats.plates.warp import FILTERS
from anaxis.store.models import Version
from anaxis.store.queries import get_version, picture_of_version, track_of
from anaxis.web.access import OPEN, needs
from anaxis.web.drawings.distortion import distortion_svg, fold_radius, largest_displacement_px
from anaxis.web.forms import StationForm
from anaxis.web.own_worker import ensure_worker
from anaxis.web.pages import Store, TypedForm, name_of_upload, page

router = APIRouter(prefix="/cameras", dependencies=[needs()])
_MOST_FILES = 40
_UNITS = {"rotation_deg": "rotation, °", "scale_x": "scale across", "scale_y": "scale up", "centre_u": "centre right, tangent",
          "centre_v": "centre up, tangent", "squeeze": "squeeze, x"}  # fmt: skip


schemas = APIRouter(dependencies=[OPEN])


@schemas.get("/schema/distortion.json")
def schema() -> dict[str, Any]:
    return distortion_schema()


@router.get("/{camera_id}/distortion")
def form(request: Request, store: Store, camera_id: int, version: int) -> Any:
    """The form again, for the model chosen."""
    kept = get_version(store, camera_id, version)
    typed = dict(request.query_params)
    document = _typed_document(typed, strict=False)
    return _page(request, store, kept, typed, document)


@router.get("/{camera_id}/distortion/drawing")
def drawing(request: Request, store: Store, camera_id: int, version: int) -> Any:
    """What is typed, drawn; what is wrong with it is said in the drawing's place."""
    kept = get_version(store, camera_id, version)
    typed = dict(request.query_params)
    try:
        track = track_of(kept)[0]
        bent = _bent(track, picture_of_version(kept), _typed_document(typed), place_of(track, typed.get("at", "")))
    except BadInput as error:
        bent = {"bad": error.sentence}
    return page(request, "lens/distortion.html", shows="drawing", bent=bent)


@router.post("/{camera_id}/distortion")
def taken(store: Store, camera_id: int, typed: TypedForm) -> Any:
    kept = _version(store, camera_id, typed)
    document = _typed_document(typed)
    if not document:
        drop_distortion(store, kept)
    else:
        take_distortion(store, kept, document, typed.get("of", ""))
    return RedirectResponse(f"/cameras/{camera_id}?station=lens&to={typed.get('to', '')}", status_code=303)


@router.post("/{camera_id}/distortion/file")
def from_file(
    request: Request,
    store: Store,
    camera_id: int,
    version: Annotated[int, Form()],
    file: Annotated[UploadFile, File()],
    model: Annotated[str, Form()] = "",
    to: Annotated[str, Form()] = "",
) -> Any:
    """What a document or table holds, to be looked at before it is taken."""
    kept, name = get_version(store, camera_id, version), name_of_upload(file)
    document = read_distortion(file.file.read(), name, model)
    return _page(request, store, kept, {"to": to}, document, of=name)


class MapsForm(StationForm):
    """Maps of a lens, and the model that is fitted to them; an empty ``direction`` and ``origin`` are found out."""

    files: list[UploadFile]
    model: str
    direction: Literal["", "undistort", "distort"] = ""
    origin: Literal["", "lower left", "upper left"] = ""
    render: str = ""


@router.post("/{camera_id}/distortion/maps")
def from_maps(request: Request, store: Store, camera_id: int, form: Annotated[MapsForm, Form()]) -> Any:
    kept = get_version(store, camera_id, form.version)
    if form.model != mapped.CODE:
        model_of(form.model)
    render = parse_image(form.render) if form.render else None
    found = fitted_to_maps(store, kept, _read(request, form.files), [form.model], form.direction, form.origin, render)
    names = ", ".join(name_of_upload(f) for f in form.files)
    return _page(request, store, kept, {"to": form.to}, found.document, found, of=names)


class BoardForm(StationForm):
    """Pictures of a test board, and how many corners it has."""

    files: list[UploadFile]
    kind: str
    columns: int
    rows: int


@router.post("/{camera_id}/distortion/board")
def from_board(request: Request, store: Store, camera_id: int, form: Annotated[BoardForm, Form()]) -> Any:
    kept = get_version(store, camera_id, form.version)
    board = Board(form.kind, form.columns, form.rows)
    found = estimated_from_boards(store, kept, _read(request, form.files), board)
    return _page(request, store, kept, {"to": form.to}, found.document, found, of=f"a {form.kind}")


@router.post("/{camera_id}/distortion/maps/make")
def make_maps(
    request: Request,
    store: Store,
    camera_id: int,
    version: Annotated[int, Form()],
    size: Annotated[str, Form()],
    which: Annotated[str, Form()],
) -> Any:
    job = ask_for_maps(store, get_version(store, camera_id, version), size == "overscan", which == "all")
    ensure_worker(request, True)
    return RedirectResponse(f"/jobs/{job.id}", status_code=303)


@router.post("/{camera_id}/distortion/{kind}")
def write_pictures(
    request: Request,
    store: Store,
    camera_id: int,
    kind: str,
    version: Annotated[int, Form()],
    plate: Annotated[int, Form()],
    size: Annotated[str, Form()] = "overscan",
    filter: Annotated[str, Form()] = "cubic",
) -> Any:
    if kind not in ("undistorted", "distorted"):
        raise BadInput("A plate is undistorted, or a render distorted: choose one of both.")
    kept = get_version(store, camera_id, version)
    job = ask_for_warped(store, kept, get_plate(store, plate), kind.removesuffix("ed"), size == "overscan", filter)
    ensure_worker(request, True)
    return RedirectResponse(f"/jobs/{job.id}", status_code=303)


def distortion_context(store: Context, version: Version, track: Track, to: str) -> dict[str, Any]:
    """The part of the Lens station as it opens."""
    document = track.distortion.document() if track.distortion is not None else {}
    return _context(store, version, track, {"to": to}, document)


def _page(
    request: Request, store: Context, version: Version, typed: dict[str, str], document: dict[str, Any],
    suggested: Suggested | None = None, of: str = "",
) -> Any:  # fmt: skip
    context = _context(store, version, track_of(version)[0], typed, document, suggested, of)
    return page(request, "lens/distortion.html", version=version, camera=version.camera, **context)


def _context(
    store: Context, version: Version,
    track: Track, typed: dict[str, str], document: dict[str, Any], suggested: Suggested | None = None, of: str = ""
) -> dict[str, Any]:  # fmt: skip
    at = place_of(track, typed.get("at", ""))
    model = document.get("model", "")
    bent: dict[str, Any] = {}
    if model:
        try:
            bent = _bent(track, picture_of_version(version), document, at, suggested)
        except BadInput as error:
            bent = {"bad": error.sentence}
    is_map = model == mapped.CODE
    moving = {k: v for k, v in document.items() if isinstance(v, list)} if not is_map else {}
    return {
        "whole": json.dumps(document) if is_map else "", "map_code": mapped.CODE,
        "shows": "all", "models": list(MODELS.values()), "model": model, "coefficients": _fields(model, document) if model and not is_map else [],
        "moving": json.dumps(moving) if moving else "", "follows": lens_moves(track), "bent": bent, "suggested": suggested, "of": of, "profile_key": typed.get("to", ""),
        "at": f"{track.frames[at]:g}", "boards": KINDS, "filters": list(FILTERS),
        "plates": plates_of(store, version.camera.shot), "written": track.distortion is not None,
    }  # fmt: skip


def _fields(model: str, document: dict[str, Any]) -> list[dict[str, str]]:
    out = []
    for name, usual in usual_of(model_of(model)).items():
        value = document.get(name, usual)
        moving = f"{min(value):.5g} to {max(value):.5g}" if isinstance(value, list) else ""
        shown = "" if isinstance(value, list) else f"{value:.10g}"
        out.append({"name": name, "label": _UNITS.get(name, name), "value": shown, "moving": moving})
    return out


def _bent(
    track: Track, picture: Picture, document: dict[str, Any], at: int, suggested: Suggested | None = None
) -> dict[str, Any]:
    """The drawing of a distortion on one frame, and its figures. Raises BadInput where it cannot be."""
    if not document:
        return {"bad": "Choose a model."}
    bent = bent_plate(track, picture, document, at)
    residuals = None if suggested is None else (suggested.at_px, suggested.off_px)
    seen = (bent.distortion, bent.window, picture.image)
    return {
        "bad": "", "frame": float(track.frames[at]) if _moves(track, document) else None, "fold": fold_radius(*seen),
        "drawing": distortion_svg(*seen, bent.needed.overscan, residuals),
        "residual": float(suggested.off_px.max()) if suggested is not None else 0.0,
        "largest_px": largest_displacement_px(*seen), "render": bent.needed.image, "factor": bent.needed.factor,
        "film_mm": bent.film_mm, "view_deg": bent.render_view_deg, "own_deg": bent.own_view_deg, "empty_px": bent.empty_px,
    }  # fmt: skip


def _moves(track: Track, document: dict[str, Any]) -> bool:
    """Whether the plate is bent otherwise on other frames."""
    listed = document.get("model") != mapped.CODE and any(isinstance(v, list) for v in document.values())
    return lens_moves(track) or listed


def _typed_document(typed: dict[str, str], strict: bool = True) -> dict[str, Any]:
    """What a form says: coefficients typed, and those over the frames as they came. Raises BadInput."""
    model = typed.get("model", "")
    if not model:
        return {}
    if model == mapped.CODE:
        return _whole(typed)
    usual = usual_of(model_of(model))
    document: dict[str, Any] = {"model": model}
    for name, value in usual.items():
        try:
            given = number_or_none(typed.get(f"c_{name}", ""), name)
        except BadInput:
            if strict:
                raise
            given = None
        if given is not None and given != value:
            document[name] = given
    try:
        moving = json.loads(typed.get("moving") or "{}")
    except (ValueError, RecursionError) as error:
        raise BadInput("The coefficients over the frames cannot be read: upload the file again.") from error
    if isinstance(moving, dict):
        document |= {k: v for k, v in moving.items() if k in usual and isinstance(v, list)}
    return document


def _whole(typed: dict[str, str]) -> dict[str, Any]:
    """A map goes along whole: not typed. Raises BadInput where there is none."""
    try:
        document = json.loads(typed.get("whole") or "{}")
    except (ValueError, RecursionError) as error:
        raise BadInput("The map cannot be read any more: hand it in again.") from error
    if not isinstance(document, dict) or document.get("model") != mapped.CODE:
        raise BadInput("An ST map has no coefficients to type: upload the map and choose 'use the map itself'.")
    return document


def _version(store: Context, camera_id: int, typed: dict[str, str]) -> Version:
    number = number_or_none(typed.get("version", ""), "a version")
    return get_version(store, camera_id, None if number is None else int(number))


def _read(request: Request, files: list[UploadFile]) -> list[tuple[str, bytes]]:
    if len(files) > _MOST_FILES:
        raise BadInput(f"{len(files)} files at once are too many: use {_MOST_FILES} at most.")
    for file in files:
        check_size(name_of_upload(file), file.size or 0, request.app.state.limits.max_bytes)
    return [(name_of_upload(f), f.file.read()) for f in files]
