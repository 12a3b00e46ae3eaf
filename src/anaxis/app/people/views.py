"""What a person has chosen to see in views of a camera: guides over the picture, and the circle of confusion of what is sharp. It
goes with the person, from page to page and film to film."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.app.people.people import own_person
from anaxis.app.roles import Role
from anaxis.core.camera.depth_of_field import require_circle
from anaxis.core.camera.guides import GUIDES, Guides
from anaxis.core.errors import BadInput
from anaxis.store.people import Person
from anaxis.store.rows import NotFound


def guides_of(context: Context) -> Guides:
    """The guides of who works here; none for whoever is not a person."""
    kept = _views(context).get("guides", {})
    try:
        names = tuple(
            g for g in kept.get("names", ()) if g in GUIDES
        )  # one that is gone from the program is passed over
        return Guides(names, kept.get("mask"))
    except BadInput:
        return Guides()


def circle_of(context: Context) -> float | None:
    """The circle of confusion of who works here, in mm; None for the usual one."""
    found = _views(context).get("circle_mm")
    return float(found) if found else None


def choose_guides(context: Context, guides: Guides) -> Guides:
    """Save the guides of who works here. Raises NotFound for whoever is not a person."""
    _keep(context, own_person(context), {"guides": asdict(guides)})
    return guides


def choose_circle(context: Context, circle_mm: float | None) -> None:
    """Save the circle of confusion of who works here, None for the usual one. Raises BadInput, NotFound."""
    if circle_mm is not None:
        require_circle(circle_mm)
    _keep(context, own_person(context), {"circle_mm": circle_mm})


def _views(context: Context) -> dict[str, Any]:
    try:
        return own_person(context).views
    except NotFound:
        return {}


@use_case("choose views", Role.VIEWER, own=True)
def _keep(context: Context, person: Person, views: dict[str, Any]) -> Person:
    person.views = {**person.views, **views}
    return person
