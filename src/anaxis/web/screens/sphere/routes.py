"""A framing camera in the whole of its plate: made, looked at, and what workers write of it."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse, Response

from anaxis.app.derived.derive import Derive, derive, derive_anew, used_version
from anaxis.app.derived.sphere import (
    ask_for_sphere_maps,
    ask_for_sphere_pictures,
    frame_settings,
    objects_px,
    plate_of_sphere,
    sphere_of,
)
from anaxis.app.plates.plates import get_plate, plates_of
from anaxis.app.typed_numbers import number_or_none
from anaxis.core.derive.framed import PLATE_CAMERA
from anaxis.core.derive.sphere_maps import carried_back_px
from anaxis.core.errors import BadInput
from anaxis.store.queries import get_version, track_of
from anaxis.web.access import needs
from anaxis.web.drawings.camera import sphere_drawing
from anaxis.web.own_worker import ensure_worker
from anaxis.web.pages import Store, TypedForm, drawing_answer, page
from anaxis.web.screens.derived.routes import to_its_page

router = APIRouter(prefix="/cameras", dependencies=[needs()])


@router.get("/{camera_id}/sphere")
def sphere(request: Request, store: Store, camera_id: int, version: int | None = None) -> Any:
    """A framing camera in the whole of its plate, what its maps are off by, and what is written of it."""
    kept = get_version(store, camera_id, version)
    whole, settings, plate = sphere_of(store, kept), frame_settings(kept), plate_of_sphere(store, kept)
    source = used_version(kept.made_of[0])
    plates = plates_of(store, kept.camera.shot)
    size = (whole.image.width_px, whole.image.height_px)
    return page(
        request, "sphere/index.html", version=kept, camera=kept.camera, shot=kept.camera.shot, sphere=whole, settings=settings, plate=plate,
        back_px=carried_back_px(whole), findings=[f for f in kept.noticed if f.severity != "note"], marks=track_of(source)[1],
        spheres=[p for p in plates if p.kind == "equirectangular"],
        renders=[p for p in plates if p.kind != "equirectangular" and (p.facts["width_px"], p.facts["height_px"]) == size],
    )  # fmt: skip


@router.get("/{camera_id}/sphere/drawing")
def sphere_data(store: Store, camera_id: int, version: int) -> Response:
    kept = get_version(store, camera_id, version)
    whole = sphere_of(store, kept)
    _, marks, lines = track_of(kept)
    return drawing_answer(sphere_drawing(whole, objects_px(store, kept, whole), marks, lines))


@router.post("/{camera_id}/sphere/maps")
def sphere_maps(request: Request, store: Store, camera_id: int, version: Annotated[int, Form()]) -> Any:
    job = ask_for_sphere_maps(store, get_version(store, camera_id, version))
    ensure_worker(request, True)
    return RedirectResponse(f"/jobs/{job.id}", status_code=303)


@router.post("/{camera_id}/sphere/pictures")
def sphere_pictures(
    request: Request, store: Store, camera_id: int, version: Annotated[int, Form()], plate: Annotated[int, Form()],
    direction: Annotated[str, Form()] = "out",
) -> Any:  # fmt: skip
    job = ask_for_sphere_pictures(store, get_version(store, camera_id, version), get_plate(store, plate), direction)
    ensure_worker(request, True)
    return RedirectResponse(f"/jobs/{job.id}", status_code=303)


@router.post("/{camera_id}/frame")
def frame(store: Store, camera_id: int, typed: TypedForm) -> Any:
    """A framing camera made, or made anew with other settings (``of`` names its version)."""
    kept = get_version(store, camera_id, _whole(typed, "version"))
    settings = _frame_settings(typed)
    if typed.get("of"):
        made = derive_anew(store, kept, settings)
        return to_its_page(camera_id, made, typed.get("to", ""))
    name = typed.get("name", "").strip() or "framing"
    asked = Derive(
        kind="framed",
        show=kept.camera.shot.show.name,
        shot=kept.camera.shot.name,
        name=name,
        settings=settings,
        inputs={PLATE_CAMERA: kept.id},
    )
    made = derive(store, asked)
    return RedirectResponse(f"/cameras/{made.camera_id}/sphere", status_code=303)


def _frame_settings(typed: dict[str, str]) -> dict[str, Any]:
    """A form's fields as settings; the objects chosen are fields of their own."""
    out: dict[str, Any] = {"objects": [k.removeprefix("object ") for k in typed if k.startswith("object ")]}
    for key in ("border_in", "view", "plate"):
        if typed.get(key):
            out[key] = typed[key]
    for key in ("border", "film_width_mm"):
        value = number_or_none(typed.get(key, ""), key.replace("_", " "))
        if value is not None:
            out[key] = value
    for key in ("width_px", "height_px", "plate_width_px", "plate_id"):
        if typed.get(key, "").strip():
            out[key] = _whole(typed, key)
    return out


def _whole(typed: dict[str, str], key: str) -> int:
    try:
        return int(typed.get(key, ""))
    except ValueError as error:
        raise BadInput(
            f"'{typed.get(key, '')[:40]}' is not a whole number of {key.replace('_px', '').replace('_', ' ')}: type one."
        ) from error
