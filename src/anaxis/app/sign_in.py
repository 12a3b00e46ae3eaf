"""Signing in: passwords (Argon2), browsers signed in, and how often may be guessed."""

from __future__ import annotations

import secrets
from datetime import UTC, datetime, timedelta
from functools import cache

from pwdlib import PasswordHash
from pwdlib.hashers.argon2 import Argon2Hasher
from sqlalchemy import Engine, delete, func, or_, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from anaxis.app.acting import use_case
from anaxis.app.people import digest_of, person_named
from anaxis.app.roles import Role
from anaxis.core.errors import BadInput
from anaxis.store.people import OneTimeLink, Person, ServerKey, SignIn, SignInTry

_HASH = PasswordHash((Argon2Hasher(),))
LEAST, MOST = 12, 200
# Failed tries within this time: of one name from one place, of one name, from one place.
_WITHIN = timedelta(minutes=15)
_OF_BOTH, _OF_NAME, _OF_CLIENT = 5, 40, 30
# A browser that was not heard of for so long is signed out, and every one after so long.
_IDLE, _WHOLE, _SEEN_EVERY = timedelta(days=14), timedelta(days=90), timedelta(minutes=1)


class NotSignedIn(BadInput):
    """Nobody is signed in, or no longer."""

    code = "not_signed_in"


class TooManyTries(BadInput):
    code = "too_many_tries"


def server_key(session: Session) -> bytes:
    """What this store's servers sign cookies with: made once, the same for all of them."""
    found = session.execute(select(ServerKey.key).where(ServerKey.id == 1)).scalar_one_or_none()
    if found is None:
        session.execute(insert(ServerKey).values(id=1, key=secrets.token_bytes(32)).on_conflict_do_nothing())
        found = session.execute(select(ServerKey.key).where(ServerKey.id == 1)).scalar_one()
    return found


def sign_in(engine: Engine, name: str, password: str, client: str, browser: str = "") -> str:
    """The secret of a browser signed in from now on. Raises NotSignedIn for a wrong name or password, which are not told
    apart, TooManyTries."""
    name = name.strip()[:200]
    # The try is counted before it is looked at, and by itself: a thousand at once are a thousand.
    with Session(engine) as session, session.begin():
        session.execute(delete(SignInTry).where(SignInTry.at < func.now() - 2 * _WITHIN))
        tried = SignInTry(name=name.lower(), client=client)
        session.add(tried)
        session.flush()
        number = tried.id
    with Session(engine) as session:
        _require_few(session, name.lower(), client)
        person = person_named(session, name)
        known = person.password if person is not None and person.disabled_at is None else None
        who = person.id if person is not None else None
    right, better = _HASH.verify_and_update(password[:MOST], known or _hash_of_nobody())
    if not right or known is None or who is None:
        raise NotSignedIn(
            "That name and password do not belong together: try again, or ask an administrator for a new link."
        )
    with Session(engine) as session, session.begin():
        session.execute(delete(SignInTry).where(SignInTry.id == number))
        if better is not None:
            session.execute(update(Person).where(Person.id == who).values(password=better))
        return signed_in_as(session, who, browser)


def signed_in_as(session: Session, person_id: int, browser: str = "") -> str:
    """A browser signed in: always by a new secret, never by one that it came with."""
    secret = secrets.token_urlsafe(32)
    session.add(SignIn(digest=digest_of(secret), person_id=person_id, browser=browser[:200]))
    session.execute(
        delete(SignIn).where(or_(SignIn.seen_at < func.now() - _IDLE, SignIn.created_at < func.now() - _WHOLE))
    )
    session.flush()
    return secret


def _require_few(session: Session, name: str, client: str) -> None:
    recent = SignInTry.at > func.now() - _WITHIN
    counts = select(
        func.count().filter(SignInTry.name == name, SignInTry.client == client),
        func.count().filter(SignInTry.name == name),
        func.count().filter(SignInTry.client == client),
    ).where(recent, or_(SignInTry.name == name, SignInTry.client == client))
    both, of_name, of_client = session.execute(counts).one()
    if both > _OF_BOTH or of_name > _OF_NAME or of_client > _OF_CLIENT:
        raise TooManyTries("That was tried too often: wait a quarter of an hour, then try again.")


def person_signed_in(session: Session, secret: str) -> Person | None:
    """Whose browser it is; None where it is signed out, was not heard of for too long, or nobody's."""
    held = session.execute(select(SignIn).where(SignIn.digest == digest_of(secret))).scalar_one_or_none()
    now = datetime.now(UTC)
    if (
        held is None
        or held.person.disabled_at is not None
        or held.seen_at < now - _IDLE
        or held.created_at < now - _WHOLE
    ):
        return None
    if held.seen_at < now - _SEEN_EVERY:
        session.execute(update(SignIn).where(SignIn.digest == held.digest).values(seen_at=now))
    return held.person


def sign_out(session: Session, secret: str) -> None:
    """This browser."""
    session.execute(delete(SignIn).where(SignIn.digest == digest_of(secret)))


@use_case("sign out everywhere", Role.NOBODY)
def sign_out_everywhere(session: Session, person: Person) -> Person:
    """Every browser of that person."""
    session.execute(delete(SignIn).where(SignIn.person_id == person.id))
    return person


def sign_ins(session: Session, person: Person) -> list[SignIn]:
    query = select(SignIn).where(SignIn.person_id == person.id).order_by(SignIn.seen_at.desc())
    return list(session.execute(query).scalars())


def link_held(session: Session, secret: str) -> OneTimeLink | None:
    """The link of that secret, where it still holds."""
    query = select(OneTimeLink).where(OneTimeLink.digest == digest_of(secret), OneTimeLink.expires_at > func.now())
    return session.execute(query.with_for_update(of=OneTimeLink)).scalar_one_or_none()


def accept(session: Session, secret: str, password: str) -> Person:
    """Set a password by a link, once; every browser of that person is signed out. Raises BadInput."""
    held = link_held(session, secret)
    if held is None or held.person.disabled_at is not None:
        raise BadInput("This link was used already, or is too old: ask an administrator for another one.", "link")
    _set_password(session, held.person, password)
    session.execute(delete(OneTimeLink).where(OneTimeLink.digest == held.digest))
    return held.person


@use_case("change the password", Role.NOBODY)
def change_password(session: Session, person: Person, old: str, new: str) -> Person:
    """Another password; every browser of that person is signed out. Raises BadInput."""
    if person.password is None or not _HASH.verify(old[:MOST], person.password):
        raise BadInput("The password there is was not that one: nothing was changed.")
    _set_password(session, person, new)
    return person


def _set_password(session: Session, person: Person, password: str) -> None:
    if not LEAST <= len(password) <= MOST:
        raise BadInput(f"A password has {LEAST} to {MOST} characters; several words are a good one.")
    if person.name.lower() in password.lower() and len(password) < len(person.name) + LEAST:
        raise BadInput("That password is little more than the name: choose another one.")
    if len(set(password)) < 5:
        raise BadInput("That password is the same few characters again and again: choose another one.")
    person.password = _HASH.hash(password)
    session.execute(delete(SignIn).where(SignIn.person_id == person.id))
    session.flush()


@cache
def _hash_of_nobody() -> str:
    """Compared where a name is nobody's, so that an answer takes as long as where it is somebody's."""
    return _HASH.hash(secrets.token_urlsafe(16))
