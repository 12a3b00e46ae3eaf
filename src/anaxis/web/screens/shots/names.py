"""A shot's own page: its cameras, names and places; shows, shots and cameras renamed, moved, archived, brought back."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse

from anaxis.app.cameras.names import archive, bring_back, move_camera, move_shot, rename, shot_for
from anaxis.app.form_base import require_base
from anaxis.app.history import Of, entries
from anaxis.app.roles import Role
from anaxis.app.shows.shots import shows_of
from anaxis.core.errors import BadInput
from anaxis.store.queries import get_camera, get_shot, get_show
from anaxis.web.access import needs
from anaxis.web.pages import Store, page

router = APIRouter(dependencies=[needs(change=Role.LEAD)])
Name = Annotated[str, Form()]


@router.get("/shots/{shot_id}")
def shot(request: Request, store: Store, shot_id: int) -> Any:
    shown = get_shot(store, shot_id)
    cameras = [c for c in shown.cameras if c.head_id is not None]
    return page(
        request, "shots/shot/index.html", shot=shown, show=shown.show, cameras=cameras, shows=shows_of(store),
        history=entries(store, Of(shot=shot_id), most=12).rows,
    )  # fmt: skip


@router.post("/shows/{show_id}/rename")
def rename_show(store: Store, show_id: int, name: Name, base: Name = "") -> Any:
    row = get_show(store, show_id)
    require_base(store, row, base, "name")
    rename(store, row, name)
    return RedirectResponse(f"/?show={show_id}", status_code=303)


@router.post("/shows/{show_id}/archive")
def archive_show(store: Store, show_id: int) -> Any:
    archive(store, get_show(store, show_id))
    return RedirectResponse(f"/?show={show_id}", status_code=303)


@router.post("/shows/{show_id}/bring-back")
def bring_show_back(store: Store, show_id: int) -> Any:
    bring_back(store, get_show(store, show_id))
    return RedirectResponse(f"/?show={show_id}", status_code=303)


@router.post("/shots/{shot_id}/rename")
def rename_shot(store: Store, shot_id: int, name: Name, base: Name = "") -> Any:
    row = get_shot(store, shot_id)
    require_base(store, row, base, "name")
    rename(store, row, name)
    return RedirectResponse(f"/shots/{shot_id}", status_code=303)


@router.post("/shots/{shot_id}/move")
def move_to_show(store: Store, shot_id: int, show: Annotated[int, Form()], base: Name = "") -> Any:
    row = get_shot(store, shot_id)
    require_base(store, row, base, "show_id")
    move_shot(store, row, get_show(store, show))
    return RedirectResponse(f"/shots/{shot_id}", status_code=303)


@router.post("/shots/{shot_id}/archive")
def archive_shot(store: Store, shot_id: int) -> Any:
    archive(store, get_shot(store, shot_id))
    return RedirectResponse(f"/shots/{shot_id}", status_code=303)


@router.post("/shots/{shot_id}/bring-back")
def bring_shot_back(store: Store, shot_id: int) -> Any:
    bring_back(store, get_shot(store, shot_id))
    return RedirectResponse(f"/shots/{shot_id}", status_code=303)


@router.post("/cameras/{camera_id}/rename")
def rename_camera(store: Store, camera_id: int, name: Name, base: Name = "") -> Any:
    camera = get_camera(store, camera_id)
    require_base(store, camera, base, "name")
    rename(store, camera, name)
    return RedirectResponse(f"/shots/{camera.shot_id}", status_code=303)


@router.post("/cameras/{camera_id}/move")
def move_to_shot(store: Store, camera_id: int, shot: Annotated[str, Form()], base: Name = "") -> Any:
    """Into another shot of its show, made where there is none of that name yet."""
    camera = get_camera(store, camera_id)
    require_base(store, camera, base, "shot_id")
    if not 1 <= len(shot.strip()) <= 120:
        raise BadInput("Name the shot that the camera goes to, with 1 to 120 characters.")
    move_camera(store, camera, shot_for(store, camera.shot.show.name, shot.strip()))
    return RedirectResponse(f"/shots/{camera.shot_id}", status_code=303)
