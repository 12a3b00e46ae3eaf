"""Signing in: passwords (Argon2), browsers signed in, and how often may be guessed."""

from __future__ import annotations

import secrets
from datetime import UTC, datetime, timedelta
from functools import cache

from pwdlib import PasswordHash
from pwdlib.hashers.argon2 import Argon2Hasher
from sqlalchemy import Engine, delete, func, or_, select, update
from sqlalchemy.dialects.postgresql import insert
from zxcvbn import zxcvbn

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.app.people.guessing import one_try, own_try
from anaxis.app.people.people import actor_for, digest_of, person_named
from anaxis.app.people.second_factor import is_required, require_code, set_up
from anaxis.app.roles import VISITOR, Role
from anaxis.core.errors import BadInput
from anaxis.store.people import KnownAddress, OneTimeLink, Person, ServerKey, SignIn

_HASH = PasswordHash((Argon2Hasher(),))
LEAST, MOST = 12, 200
# A password is guessed too easily below this, of zxcvbn's scores from 0 to 4; it looks at so many characters.
_HARD_TO_GUESS, _LOOKED_AT = 3, 72
# An address that somebody signs in from is known for so long after the last time.
_KNOWN_FOR = timedelta(days=90)
# A browser that was not heard of for so long is signed out, and every one after so long.
_IDLE, _WHOLE, _SEEN_EVERY = timedelta(days=14), timedelta(days=90), timedelta(minutes=1)


class NotSignedIn(BadInput):
    """Nobody is signed in, or no longer."""

    code = "not_signed_in"


def server_key(context: Context) -> bytes:
    """What this store's servers sign cookies with: made once, the same for all of them."""
    found = context.execute(select(ServerKey.key).where(ServerKey.id == 1)).scalar_one_or_none()
    if found is None:
        context.execute(insert(ServerKey).values(id=1, key=secrets.token_bytes(32)).on_conflict_do_nothing())
        found = context.execute(select(ServerKey.key).where(ServerKey.id == 1)).scalar_one()
    return found


class CodeWanted(BadInput):
    """Name and password are right, and the second factor is still to come; ``set_up``: to be set up first."""

    code = "code_wanted"

    def __init__(self, person: int, set_up: bool) -> None:
        super().__init__("Type the code that your device shows.")
        self.person, self.set_up = person, set_up


def sign_in(engine: Engine, name: str, password: str, client: str, browser: str = "") -> str:
    """The secret of a browser signed in from now on. Raises NotSignedIn for a wrong name or password, which are not told
    apart, TooManyTries, and CodeWanted where a second factor follows (:func:`sign_in_with_code`)."""
    name = name.strip()[:200]
    with Context(engine, VISITOR) as context:
        person = person_named(context, name)
        known = person.password if person is not None and person.disabled_at is None else None
        who, has_code = (person.id, person.code_secret is not None) if person is not None else (None, False)
        known_here = who is not None and _is_known(context, who, client)
    with one_try(str(engine.url), name.lower(), client, known_here) as tried:
        right, better = _HASH.verify_and_update(password[:MOST], known or _hash_of_nobody())
        if not right or known is None or who is None:
            tried.failed()
            raise NotSignedIn("Wrong name or password: try again, or ask an administrator for a new link.")
    if better is not None:
        with Context(engine, VISITOR) as context, context.begin():
            context.execute(update(Person).where(Person.id == who).values(password=better))
    if has_code or is_required():
        raise CodeWanted(who, not has_code)
    with Context(engine, VISITOR) as context, context.begin():
        _know(context, who, client)
        return signed_in_as(context, who, browser)


def sign_in_with_code(
    engine: Engine, person_id: int, code: str, client: str, browser: str = "", secret: str = ""
) -> str:
    """The same after :class:`CodeWanted`, by a code; ``secret`` is that of a second factor to be set up by it. Raises BadInput,
    TooManyTries."""
    with Context(engine, VISITOR) as context, context.begin():
        person = context.get_one(Person, person_id)
        if person.disabled_at is not None or person.password is None:
            raise NotSignedIn("You can no longer sign in: ask an administrator.")
        if person.code_secret is None and secret:
            with context.acting_as(actor_for(person)):  # the password was right
                set_up(context, person, secret, code)
        else:
            require_code(context, person, code)
        _know(context, person_id, client)
        return signed_in_as(context, person_id, browser)


def _is_known(context: Context, person_id: int, address: str) -> bool:
    held = context.get(KnownAddress, (person_id, address))
    return held is not None and held.seen_at > datetime.now(UTC) - _KNOWN_FOR


def _know(context: Context, person_id: int, address: str) -> None:
    context.execute(
        insert(KnownAddress)
        .values(person_id=person_id, address=address)
        .on_conflict_do_update(index_elements=["person_id", "address"], set_={"seen_at": func.now()})
    )
    context.execute(delete(KnownAddress).where(KnownAddress.seen_at < func.now() - _KNOWN_FOR))


def signed_in_as(context: Context, person_id: int, browser: str = "", ends_at: datetime | None = None) -> str:
    """A browser signed in, until ``ends_at`` at the latest: always by a new secret, never by one that it came with."""
    secret = secrets.token_urlsafe(32)
    context.add(SignIn(digest=digest_of(secret), person_id=person_id, browser=browser[:200], ends_at=ends_at))
    context.execute(
        delete(SignIn).where(
            or_(
                SignIn.seen_at < func.now() - _IDLE,
                SignIn.created_at < func.now() - _WHOLE,
                SignIn.ends_at < func.now(),
            )
        )
    )
    context.flush()
    return secret


def person_signed_in(context: Context, secret: str) -> Person | None:
    """Whose browser it is; None where it is signed out, was not heard of for too long, or nobody's."""
    held = context.execute(select(SignIn).where(SignIn.digest == digest_of(secret))).scalar_one_or_none()
    now = datetime.now(UTC)
    if (
        held is None
        or held.person.disabled_at is not None
        or held.seen_at < now - _IDLE
        or held.created_at < now - _WHOLE
        or (held.ends_at is not None and held.ends_at < now)
    ):
        return None
    if held.seen_at < now - _SEEN_EVERY:
        context.execute(update(SignIn).where(SignIn.digest == held.digest).values(seen_at=now))
    return held.person


def sign_out(context: Context, secret: str) -> None:
    """This browser."""
    context.execute(delete(SignIn).where(SignIn.digest == digest_of(secret)))


@use_case("sign out everywhere", Role.NOBODY, own=True)
def sign_out_everywhere(context: Context, person: Person) -> Person:
    """Every browser of that person."""
    context.execute(delete(SignIn).where(SignIn.person_id == person.id))
    return person


def sign_ins(context: Context, person: Person) -> list[SignIn]:
    query = select(SignIn).where(SignIn.person_id == person.id).order_by(SignIn.seen_at.desc())
    return list(context.execute(query).scalars())


def link_held(context: Context, secret: str) -> OneTimeLink | None:
    """The link of that secret, where it still holds."""
    query = select(OneTimeLink).where(OneTimeLink.digest == digest_of(secret), OneTimeLink.expires_at > func.now())
    return context.execute(query.with_for_update(of=OneTimeLink)).scalar_one_or_none()


def accept(context: Context, secret: str, password: str) -> Person:
    """Set a password by a link, once; every browser of that person is signed out. Raises BadInput."""
    held = link_held(context, secret)
    if held is None or held.person.disabled_at is not None:
        raise BadInput("This link was used already or has expired: ask an administrator for a new one.", "link")
    _set_password(context, held.person, password)
    context.execute(delete(OneTimeLink).where(OneTimeLink.digest == held.digest))
    return held.person


@use_case("change the password", Role.NOBODY, own=True)
def change_password(context: Context, person: Person, old: str, new: str) -> Person:
    """Another password; every browser of that person is signed out. Raises BadInput, TooManyTries."""
    with own_try(context, f"password of {person.id}") as tried:
        if person.password is None or not _HASH.verify(old[:MOST], person.password):
            tried.failed()
            raise BadInput("The current password is wrong. Nothing was changed.")
    _set_password(context, person, new)
    return person


def _set_password(context: Context, person: Person, password: str) -> None:
    if not LEAST <= len(password) <= MOST:
        raise BadInput(f"A password has {LEAST} to {MOST} characters; use several words.")
    if person.name.lower() in password.lower() and len(password) < len(person.name) + LEAST:
        raise BadInput("The password is too similar to the name: choose another one.")
    guessed = zxcvbn(password[:_LOOKED_AT], [person.name, "anaxis"])
    if guessed["score"] < _HARD_TO_GUESS:
        why = guessed["feedback"]["warning"] or "The password is too easy to guess."
        raise BadInput(f"Choose another password, such as several unrelated words. {why}")
    person.password = _HASH.hash(password)
    context.execute(delete(SignIn).where(SignIn.person_id == person.id))
    context.flush()


@cache
def _hash_of_nobody() -> str:
    """Compared where a name is nobody's, so that an answer takes as long as where it is somebody's."""
    return _HASH.hash(secrets.token_urlsafe(16))
