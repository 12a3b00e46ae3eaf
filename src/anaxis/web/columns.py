"""Column text on intake: what each column is, chosen by hand, saved as a layout, and read again at once."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Form, Request
from fastapi.responses import JSONResponse, RedirectResponse, Response

from anaxis.core.axes import ORDERS
from anaxis.core.errors import BadInput
from anaxis.core.timing import parse_rate
from anaxis.formats.track_json import convention_document
from anaxis.profiles import shipped_profiles
from anaxis.store.queries import get_layout, reread, save_layout, staged_scene
from anaxis.web.intake import read_bytes
from anaxis.web.pages import Store

router = APIRouter(prefix="/take-in")
GUESS = "guess"


@router.post("/{source_id}/layout")
def choose_layout(
    request: Request, store: Store, source_id: int,
    quantity: Annotated[list[str] | None, Form()] = None, unit: Annotated[list[str] | None, Form()] = None,
    sign: Annotated[list[str] | None, Form()] = None, axes: Annotated[str, Form()] = GUESS,
    order: Annotated[str, Form()] = "", rate: Annotated[str, Form()] = "", saved: Annotated[str, Form()] = "",
    save_as: Annotated[str, Form()] = "",
) -> Any:  # fmt: skip
    """Read the staged table again by the columns chosen; a saved layout, where one is named, goes first."""
    source, scene = staged_scene(store, source_id)
    if scene.columns is None:
        raise BadInput(f"{source.name} is no table: its columns cannot be chosen.")
    if source.kept:
        raise BadInput(
            f"A camera of {source.name} is kept already: take the file in again to read it another way."
        )
    if saved:
        layout: dict[str, Any] | None = None if saved == GUESS else get_layout(store, saved)
    else:
        layout = _typed(quantity or [], unit or [], sign or [], axes, order, rate)
    again = read_bytes(request.app.state.parsers, source.name, source.data, layout)
    reread(store, source, again, layout)
    if save_as.strip() and layout is not None:
        save_layout(store, save_as.strip()[:120], layout)
    return RedirectResponse(f"/take-in/{source_id}", status_code=303)


@router.get("/{source_id}/layout.json")
def layout_file(store: Store, source_id: int) -> Response:
    """The layout in force as a file, for the command line's --columns."""
    source, scene = staged_scene(store, source_id)
    if scene.columns is None:
        raise BadInput(f"{source.name} is no table: it has no column layout.")
    return JSONResponse(
        scene.columns["layout"], headers={"Content-Disposition": 'attachment; filename="columns.json"'}
    )


def _typed(
    quantity: list[str], unit: list[str], sign: list[str], axes: str, order: str, rate: str
) -> dict[str, Any]:
    if not len(quantity) == len(unit) == len(sign):
        raise BadInput("Some columns have no choice: reload the page and choose again.")
    convention = None
    if axes != GUESS:
        if axes not in shipped_profiles():
            raise BadInput(f"'{axes}' is no known set of axes: choose one of the list.")
        convention = convention_document(shipped_profiles()[axes].convention)
    if order and order not in ORDERS:
        raise BadInput(f"'{order}' is no order of turns: choose one of {', '.join(ORDERS)}.")
    if rate.strip():
        parse_rate(rate)
    columns = [
        {
            "quantity": q,
            "unit": u.partition(":")[2] if u.startswith(f"{q}:") else "",
            "sign": -1 if s == "-1" else 1,
        }
        for q, u, s in zip(quantity, unit, sign, strict=True)
    ]
    return {
        "columns": columns,
        "convention": convention,
        "axes": axes,
        "order": order or None,
        "rate": rate.strip() or None,
    }
