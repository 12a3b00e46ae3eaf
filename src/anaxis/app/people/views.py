"""What a person has chosen to see in views of a camera: guides over the picture, and the circle of confusion of what is sharp. It
goes with the person, from page to page and film to film."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import asdict
from typing import Any, Literal, NamedTuple

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.app.people.people import own_person
from anaxis.app.roles import Role
from anaxis.core.camera.depth_of_field import require_circle
from anaxis.core.camera.guides import GUIDES, Guides
from anaxis.core.errors import BadInput
from anaxis.store.people import Person
from anaxis.store.rows import NotFound

# One address, without a display name: what a header takes as it is.
_MAIL_ADDRESS = re.compile(r"[A-Za-z0-9.!#$%&'*+/=?^_`{|}~-]+@[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)*")


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


def tour_state(context: Context) -> str:
    """Whether who works here is on the tour: "on", "ended", or "" for whoever never was."""
    return str(_views(context).get("tour", ""))


def choose_tour(context: Context, state: Literal["on", "ended"]) -> None:
    """Raises NotFound for whoever is not a person."""
    _keep(context, own_person(context), {"tour": state})


class ShotsView(NamedTuple):
    """How a person sees the list of shots: with pictures and room, or as many rows as fit; and which columns."""

    dense: bool
    columns: tuple[str, ...]


def shots_view_of(context: Context, columns: Sequence[str], usual: Sequence[str]) -> ShotsView:
    """The view of who works here, of the ``columns`` that there are; the ``usual`` ones where nothing is chosen."""
    kept = _views(context).get("shots", {})
    chosen = kept.get("columns")
    return ShotsView(bool(kept.get("dense")), tuple(c for c in columns if c in (usual if chosen is None else chosen)))


def choose_shots_view(context: Context, view: ShotsView) -> None:
    """Save how who works here sees the list of shots. Raises NotFound for whoever is not a person."""
    _keep(context, own_person(context), {"shots": {"dense": view.dense, "columns": list(view.columns)}})


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


@use_case("choose mail", Role.VIEWER, own=True)
def choose_mail(context: Context, person: Person, email: str, mails: bool) -> Person:
    """Where mails to a person go, and whether notices come by mail. Raises BadInput."""
    email = email.strip()
    if len(email) > 254 or (email and not _MAIL_ADDRESS.fullmatch(email)):
        raise BadInput(f"'{email[:80]}' is not a mail address: write one like name@studio.example.")
    if mails and not email:
        raise BadInput("Type the mail address that notices go to.")
    person.email, person.mails = email or None, mails
    return person


@use_case("choose views", Role.VIEWER, own=True)
def _keep(context: Context, person: Person, views: dict[str, Any]) -> Person:
    person.views = {**person.views, **views}
    return person
