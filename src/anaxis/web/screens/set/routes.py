"""The objects of a camera's set: which go along, under which name, and by how much each is off where it arrives."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse

from anaxis.app.cameras.landmarks import THE_FILE, axes_of
from anaxis.app.cameras.set_objects import TypedObjects, choose_objects, set_of_version
from anaxis.app.deliveries.hand_over import proof_of_set
from anaxis.formats import SET_WRITTEN
from anaxis.store.packages import all_packages, get_package
from anaxis.store.queries import get_version
from anaxis.web.access import needs
from anaxis.web.forms import StationForm
from anaxis.web.pages import Store, page

router = APIRouter(prefix="/cameras", dependencies=[needs()])


@router.get("/{camera_id}/set")
def objects(request: Request, store: Store, camera_id: int, version: int | None = None, to: str = "") -> Any:
    """Every object of the set with what was chosen for it."""
    kept = get_version(store, camera_id, version)
    convention, unit = axes_of(store, kept, THE_FILE)
    found = set_of_version(store, kept)
    turn = np.abs(convention.world) / convention.metres_per_unit
    rows = [(r, [_length(v) for v in (turn @ np.array(r.extent_m)).tolist()]) for r in found.rows]
    return page(
        request, "set/index.html", version=kept, camera=kept.camera, shot=kept.camera.shot, rows=rows, notes=found.notes, unit=unit, to=to,
        axes=convention.up_axis, packages=all_packages(store), formats=SET_WRITTEN, along=[r for r in found.rows if r.along],
    )  # fmt: skip


def _length(value: float) -> str:
    """A length with as many digits as a person reads."""
    return f"{value:.0f}" if value >= 100 else f"{value:.1f}" if value >= 10 else f"{value:.2f}"


class SetForm(StationForm, TypedObjects):
    """The list of objects as it was typed."""


@router.post("/{camera_id}/set/objects")
def choose(store: Store, camera_id: int, form: Annotated[SetForm, Form()]) -> Any:
    """The choice becomes an operation of the recipe, and a new version."""
    kept = get_version(store, camera_id, form.version)
    made = choose_objects(store, kept, form.choices())
    return RedirectResponse(f"/cameras/{camera_id}/set?version={made.number}&to={form.to}", status_code=303)


@router.get("/{camera_id}/set/proof")
def proof(request: Request, store: Store, camera_id: int, version: int, to: str, formats: str = "usd") -> Any:
    """Each object written for a package, read back, and measured in pixels over the shot."""
    kept = get_version(store, camera_id, version)
    profile = get_package(store, to)
    found = proof_of_set(store, kept, profile, formats)
    return page(request, "set/proof.html", found=found, profile=profile, version=kept)
