"""The recipe on the camera's page: add, change, reorder, switch off, undo, redo, save, apply, copy."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Form, Request
from fastapi.responses import JSONResponse, RedirectResponse, Response

from anaxis.app.cameras.edit import copy_camera, edit_version, step_back, step_on
from anaxis.app.cameras.recipe_change import changed_recipe, whole_number
from anaxis.app.saved import save_recipe
from anaxis.core.recipe.documents import recipe_document
from anaxis.core.recipe.operations import KINDS, kind_of
from anaxis.library.archive import scene_from_bytes
from anaxis.store.models import Version
from anaxis.store.queries import get_recipe, get_version, recipe_of
from anaxis.web.access import needs
from anaxis.web.pages import Store, TypedForm, attachment, page

router = APIRouter(prefix="/cameras", dependencies=[needs()])


def back_to(camera_id: int, station: str, to: str) -> RedirectResponse:
    """To the version now worked on, with the station open that was open before."""
    return RedirectResponse(f"/cameras/{camera_id}?station={station or 'clean'}&to={to}", status_code=303)


@router.post("/{camera_id}/recipe")
def change(store: Store, camera_id: int, form: TypedForm) -> Any:
    """One change of the recipe: ``action`` says which, ``index`` which operation."""
    kept = get_version(store, camera_id, whole_number(form.get("version", ""), "version"))
    recipe, words = changed_recipe(recipe_of(kept), form)
    edit_version(store, kept, recipe, words)
    return back_to(camera_id, form.get("station", ""), form.get("to", ""))


@router.post("/{camera_id}/undo")
def undo(store: Store, camera_id: int, form: TypedForm) -> Any:
    step_back(store, get_version(store, camera_id, whole_number(form.get("version", ""), "version")))
    return back_to(camera_id, form.get("station", ""), form.get("to", ""))


@router.post("/{camera_id}/redo")
def redo(store: Store, camera_id: int, form: TypedForm) -> Any:
    step_on(store, get_version(store, camera_id, whole_number(form.get("version", ""), "version")))
    return back_to(camera_id, form.get("station", ""), form.get("to", ""))


@router.post("/{camera_id}/recipe/save")
def save(
    store: Store,
    camera_id: int,
    version: Annotated[int, Form()],
    name: Annotated[str, Form()] = "",
    to: Annotated[str, Form()] = "",
) -> Any:
    kept = get_version(store, camera_id, version)
    save_recipe(store, kept, name)
    return back_to(camera_id, "clean", to)


@router.post("/{camera_id}/recipe/apply")
def apply(
    store: Store,
    camera_id: int,
    version: Annotated[int, Form()],
    name: Annotated[str, Form()] = "",
    to: Annotated[str, Form()] = "",
) -> Any:
    """A saved recipe in the place of this camera's own."""
    kept = get_version(store, camera_id, version)
    edit_version(store, kept, get_recipe(store, name), f"recipe '{name}' applied")
    return back_to(camera_id, "clean", to)


@router.post("/{camera_id}/copy")
def copy(store: Store, camera_id: int, version: Annotated[int, Form()], name: Annotated[str, Form()] = "") -> Any:
    made = copy_camera(store, get_version(store, camera_id, version), name)
    return RedirectResponse(f"/cameras/{made.camera_id}", status_code=303)


@router.get("/{camera_id}/recipe.json")
def recipe_file(store: Store, camera_id: int, version: int) -> Response:
    """The recipe as a file, for the command line's --recipe."""
    kept = get_version(store, camera_id, version)
    name = f"{kept.camera.name}.recipe.json"
    document = {"anaxis_recipe": 1, "operations": recipe_document(recipe_of(kept))}
    return JSONResponse(document, headers=attachment(name))


@router.get("/{camera_id}/operation")
def operation_form(
    request: Request, store: Store, camera_id: int, version: int, code: str = "", index: int | None = None, to: str = ""
) -> Any:
    """The fields of one operation, empty or with what stands in the recipe."""
    kept = get_version(store, camera_id, version)
    recipe = recipe_of(kept)
    old = recipe[index] if index is not None and 0 <= index < len(recipe) else None
    kind = kind_of(old.code if old else code)
    return page(
        request, "camera/operation.html", kind=kind, values=old.params if old else {}, index=index,
        nodes=node_choices(kept, kind.about_parents), version=kept, camera=kept.camera, to=to,
    )  # fmt: skip


def node_choices(version: Version, about_parents: bool) -> list[str]:
    """The nodes an operation can be about: those that move the camera, or all others."""
    scene = scene_from_bytes(version.source_file.scene)
    chain = [n.path for n in scene.chain(version.camera_path)]
    if about_parents:
        return chain
    return [n.path for n in scene.nodes if n.path != version.camera_path][:2000]


# What a form can ask for; the others come by findings, the landmarks' table or a new take.
ADDABLE = tuple(k for k in KINDS.values() if k.by_hand)
