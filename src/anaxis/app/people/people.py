"""People: who there is, what role they have everywhere and in which shows, and the links by which they set a password."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

from sqlalchemy import delete, func, select, text

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.app.roles import GIVEN, Actor, Role
from anaxis.core.errors import BadInput
from anaxis.core.names import looks_like, visible_name
from anaxis.store.models import Show
from anaxis.store.people import OneTimeLink, Person, RoleInShow, SignIn, Token
from anaxis.store.rows import found

_MAX_NAME = 60
_LINK_HOLDS = timedelta(days=3)
FIRST = "admin"
_ADMINISTRATORS = 7_204_116


def digest_of(secret: str) -> str:
    """What is kept of a secret of 256 random bits: its SHA-256, from which it cannot be found again."""
    return hashlib.sha256(secret.encode()).hexdigest()


def actor_for(person: Person, most: Role = Role.ADMINISTRATOR, only: int | None = None) -> Actor:
    """What a person may do, as ``most`` at most, in the show ``only`` or in all."""
    in_shows = {r.show_id: Role(r.role) for r in person.in_shows}
    if only is None:
        return Actor(person.name, Role(person.everywhere), in_shows, person.id, most)
    there = max(Role(person.everywhere), in_shows.get(only, Role.NOBODY))
    return Actor(person.name, Role.NOBODY, {only: there}, person.id, most)


def people(context: Context) -> list[Person]:
    return list(
        context.execute(select(Person).order_by(Person.disabled_at.is_not(None), func.lower(Person.name))).scalars()
    )


def get_person(context: Context, number: int) -> Person:
    return found(context, Person, number, "person")


def own_person(context: Context) -> Person:
    """The person who works here. Raises NotFound for whoever has the database and is not a person."""
    return get_person(context, context.actor.person or 0)


def person_named(context: Context, name: str) -> Person | None:
    query = select(Person).where(func.lower(Person.name) == name.strip().lower())
    return context.execute(query).scalar_one_or_none()


@use_case("add a person", Role.ADMINISTRATOR)
def add_person(context: Context, name: str, everywhere: Role = Role.NOBODY) -> Person:
    """Somebody new, with a role everywhere, who sets a password by a link (:func:`link_for`). Raises BadInput."""
    name = " ".join(name.split())
    if not 1 <= len(name) <= _MAX_NAME:
        raise BadInput(f"A name needs 1 to {_MAX_NAME} characters: type one.")
    name = visible_name(name)
    looks = looks_like(name)
    alike = next(
        (n for n in ("local", *context.execute(select(Person.name)).scalars()) if looks_like(n) == looks), None
    )
    if alike is not None:
        raise BadInput(f"There is already a person '{alike}', and '{name}' looks similar: choose another name.")
    person = Person(name=name, everywhere=int(everywhere))
    context.add(person)
    context.flush()
    return person


@use_case("give a role", Role.ADMINISTRATOR)
def give_role(context: Context, person: Person, role: Role, show: Show | None = None) -> Person:
    """A role everywhere or in a show; NOBODY takes it back. Raises BadInput where nobody would be left to give roles, and for
    somebody whose groups say it."""
    if person.subject is not None:
        raise BadInput(f"{person.name} signs in through the studio's service: their groups there set their roles.")
    if show is None:
        _require_another(context, person, role)
        person.everywhere = int(role)
    elif role not in (Role.NOBODY, *GIVEN):
        raise BadInput(f"A role in a show is {', '.join(r.called for r in GIVEN)}; administrators are site-wide.")
    else:
        person.in_shows = [r for r in person.in_shows if r.show_id != show.id]
        context.flush()
        if role:
            person.in_shows.append(RoleInShow(show_id=show.id, role=int(role)))
    context.flush()
    return person


@use_case("disable a person", Role.ADMINISTRATOR)
def disable(context: Context, person: Person) -> Person:
    """Nobody is signed in as that person any more, and none of that person's tokens works; what they did stays told."""
    _require_another(context, person, Role.NOBODY)
    person.disabled_at = datetime.now(UTC)
    context.execute(delete(SignIn).where(SignIn.person_id == person.id))
    context.execute(delete(OneTimeLink).where(OneTimeLink.person_id == person.id))
    for token in context.execute(select(Token).where(Token.person_id == person.id)).scalars():
        token.revoked_at = token.revoked_at or datetime.now(UTC)
    return person


@use_case("enable a person", Role.ADMINISTRATOR)
def enable(context: Context, person: Person) -> Person:
    """That person may sign in again; tokens stay revoked."""
    person.disabled_at = None
    return person


def _require_another(context: Context, person: Person, role: Role) -> None:
    """Two administrators who take each other's role away at once wait for each other."""
    context.execute(text("SELECT pg_advisory_xact_lock(:lock)"), {"lock": _ADMINISTRATORS})
    if person.everywhere < Role.ADMINISTRATOR or role >= Role.ADMINISTRATOR:
        return
    others = select(func.count()).where(
        Person.everywhere >= int(Role.ADMINISTRATOR), Person.disabled_at.is_(None), Person.id != person.id
    )
    if not context.execute(others).scalar_one():
        raise BadInput(f"{person.name} is the only administrator: give another person this role first.")


def link_for(context: Context, person: Person) -> str:
    """A secret by which that person sets a password, once, within three days; earlier ones no longer hold.

    Whoever calls it has the administrator's role, or the database.
    """
    if person.disabled_at is not None:
        raise BadInput(f"{person.name} is disabled: enable the account first.")
    if person.subject is not None:
        raise BadInput(f"{person.name} signs in through the studio's service and has no password.")
    context.execute(delete(OneTimeLink).where(OneTimeLink.person_id == person.id))
    secret = secrets.token_urlsafe(32)
    held = OneTimeLink(digest=digest_of(secret), person_id=person.id, expires_at=datetime.now(UTC) + _LINK_HOLDS)
    context.add(held)
    context.flush()
    return secret


@use_case("make a one-time link", Role.ADMINISTRATOR)
def invite(context: Context, person: Person) -> Person:
    """That a link is made for somebody, told in the history; the link itself is :func:`link_for`'s."""
    return person


def first_link(context: Context) -> str | None:
    """Where nobody can sign in yet, a link for the first administrator; None where somebody can."""
    if context.execute(select(Person.id).where(Person.password.is_not(None)).limit(1)).first() is not None:
        return None
    person = person_named(context, FIRST) or add_person(context, FIRST, Role.ADMINISTRATOR)
    return link_for(context, person)


def roles_called(person: Person) -> Sequence[tuple[str, str]]:
    """Where a person has which role, in words."""
    said = [("everywhere", Role(person.everywhere).called)] if person.everywhere else []
    return [*said, *((r.show.name, Role(r.role).called) for r in person.in_shows)]
