"""Column text on intake: what each column is, chosen by hand, saved as a layout, and read again at once."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, Form, Request
from fastapi.responses import JSONResponse, RedirectResponse, Response
from pydantic import Field

from anaxis.app.cameras.take_in import read_again, read_as, read_bytes, readings_of
from anaxis.app.packages import keep_package
from anaxis.app.roles import Role
from anaxis.app.saved import save_layout
from anaxis.core.errors import BadInput
from anaxis.core.space.axes import ORDERS, Convention
from anaxis.core.time.rates import parse_rate
from anaxis.formats.track_json.document import convention_document
from anaxis.library.archive import scene_to_bytes
from anaxis.library.scene_report import FileCamera, camera_after
from anaxis.packages.model import Profile, profile_from_dict
from anaxis.store.packages import all_packages, get_package
from anaxis.store.queries import get_layout, staged_scene
from anaxis.web.access import needs
from anaxis.web.drawings.place import PlacedPath, placed_svg, standing
from anaxis.web.forms import PageForm
from anaxis.web.pages import Store, page

router = APIRouter(prefix="/take-in", dependencies=[needs(Role.ARTIST)])
GUESS = "guess"


class LayoutForm(PageForm):
    """What each column of a table is, or a ``saved`` layout by its name; under which name, and with which package, it is saved."""

    quantity: list[str] = Field(default_factory=list)
    unit: list[str] = Field(default_factory=list)
    sign: list[str] = Field(default_factory=list)
    axes: str = GUESS
    order: str = ""
    rate: str = ""
    saved: str = ""
    save_as: str = ""
    save_with: str = ""


@router.post("/{source_id}/layout")
def choose_layout(request: Request, store: Store, source_id: int, form: Annotated[LayoutForm, Form()]) -> Any:
    """Read the staged table again by the columns chosen; a saved layout, where one is named, goes first."""
    source, scene = staged_scene(store, source_id)
    if scene.columns is None:
        raise BadInput(f"{source.name} is not a table: its columns cannot be chosen.")
    layout = _saved(store, form.saved) if form.saved else _typed(form, all_packages(store))
    again = read_again(store, request.app.state.parsers, source, layout)
    if form.save_as and layout is not None:
        save_layout(store, form.save_as, layout)
    if form.save_with and layout is not None and again.columns is not None:
        keep_package(
            store, with_table(get_package(store, form.save_with), layout, again.columns), f"columns of {source.name}"
        )
    return RedirectResponse(f"/take-in/{source_id}", status_code=303)


def _saved(store: Store, name: str) -> dict[str, Any] | None:
    """A layout under its name, or that of a package, as "package:key"; None to guess again."""
    if name == GUESS:
        return None
    kind, _, key = name.partition(":")
    if kind == "package" and key:
        layout = get_package(store, key).layout
        if layout is None:
            raise BadInput(f"The package '{key}' has no column layout: choose another package.")
        return layout
    return get_layout(store, name)


def with_table(package: Profile, layout: dict[str, Any], read: dict[str, Any]) -> Profile:
    """A package with the layout of a table that was read as its own. Raises BadInput where it holds no whole camera."""
    columns = [{k: c[k] for k in ("quantity", "unit", "sign")} for c in layout["columns"]]
    table = {"columns": columns, "headings": bool(read["headings"]), "separator": read["delimiter"].removesuffix("s")}
    return profile_from_dict(package.model_dump(mode="json") | {"table": table}, f"The package '{package.key}'")


@router.get("/{source_id}/readings")
def table_readings(request: Request, store: Store, source_id: int) -> Any:
    """The camera of each way in which the table may be read, drawn side by side."""
    source, scene = staged_scene(store, source_id)
    ways = readings_of(scene)
    store.release_connection()
    shown = []
    for way in ways:
        read = read_bytes(request.app.state.parsers, source.name, source.data, {"columns": way["columns"]})
        track, _, _ = store.calculators.run(
            source.name, camera_after, FileCamera(scene_to_bytes(read), read.cameras[0].path)
        )
        nothing = np.zeros((0, 3))
        first = standing(track, nothing)
        # The same path from its other end: the look at the last frame.
        last = PlacedPath(first.path_m[::-1], -track.rotation[-1, :, 2], nothing)
        alt = f"Where {way['words']}: the camera's path from above and from the side, with its look at the first and last frame"
        looks = -track.rotation[:, :, 2]
        shown.append({
            "words": way["words"], "drawing": placed_svg(first, last, nothing, nothing, Convention(), "m", alt),
            "metres": float(np.linalg.norm(np.diff(track.position_m, axis=0), axis=1).sum()),
            "turns_deg": float(np.degrees(np.arccos(np.clip(looks @ looks[0], -1, 1))).max()),
            "frames": track.frames, "rate": track.rate,
        })  # fmt: skip
    return page(request, "columns/readings.html", source=source, readings=shown)


@router.post("/{source_id}/reading")
def choose_reading(request: Request, store: Store, source_id: int, number: Annotated[int, Form()]) -> Any:
    """The staged table read again in one of the ways in which it may be."""
    source, scene = staged_scene(store, source_id)
    read_as(store, request.app.state.parsers, source, scene, number)
    return RedirectResponse(f"/take-in/{source_id}", status_code=303)


@router.get("/{source_id}/layout.json")
def layout_file(store: Store, source_id: int) -> Response:
    """The layout in force as a file, for the command line's --columns."""
    source, scene = staged_scene(store, source_id)
    if scene.columns is None:
        raise BadInput(f"{source.name} is not a table: it has no column layout.")
    return JSONResponse(scene.columns["layout"], headers={"Content-Disposition": 'attachment; filename="columns.json"'})


def _typed(form: LayoutForm, packages: dict[str, Profile]) -> dict[str, Any]:
    if not len(form.quantity) == len(form.unit) == len(form.sign):
        raise BadInput("Some columns have no choice: reload the page and choose again.")
    convention = None
    if form.axes != GUESS:
        if form.axes not in packages:
            raise BadInput(f"'{form.axes}' is not a known set of axes: choose one from the list.")
        convention = convention_document(packages[form.axes].convention)
    if form.order and form.order not in ORDERS:
        raise BadInput(f"'{form.order}' is not a rotation order: choose one of {', '.join(ORDERS)}.")
    if form.rate:
        parse_rate(form.rate)
    columns = [
        {"quantity": q, "unit": u.partition(":")[2] if u.startswith(f"{q}:") else "", "sign": -1 if s == "-1" else 1}
        for q, u, s in zip(form.quantity, form.unit, form.sign, strict=True)
    ]
    return {
        "columns": columns,
        "convention": convention,
        "axes": form.axes,
        "order": form.order or None,
        "rate": form.rate.strip() or None,
    }
