"""The guides that a person has chosen to see over pictures: they go with the person, from page to page and film to film."""

from __future__ import annotations

from dataclasses import asdict

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.app.people.people import own_person
from anaxis.app.roles import Role
from anaxis.core.camera.guides import GUIDES, Guides
from anaxis.core.errors import BadInput
from anaxis.store.people import Person
from anaxis.store.rows import NotFound


def guides_of(context: Context) -> Guides:
    """The guides of who works here; none for whoever is no person."""
    try:
        kept = own_person(context).guides
        names = tuple(
            g for g in kept.get("names", ()) if g in GUIDES
        )  # one that is gone from the program is passed over
        return Guides(names, kept.get("mask"))
    except (NotFound, BadInput):
        return Guides()


def choose_guides(context: Context, guides: Guides) -> Guides:
    """Save the guides of who works here. Raises NotFound for whoever is no person."""
    _keep(context, own_person(context), guides)
    return guides


@use_case("choose guides", Role.VIEWER, own=True)
def _keep(context: Context, person: Person, guides: Guides) -> Person:
    person.guides = asdict(guides)
    return person
