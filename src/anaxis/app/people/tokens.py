"""Tokens by which programs act for somebody: with a role at most, in one show or all, for a while; shown once."""

from __future__ import annotations

import secrets
from datetime import UTC, datetime, timedelta

from sqlalchemy import func, or_, select, update

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.app.people.people import actor_for, digest_of
from anaxis.app.roles import Actor, Role
from anaxis.core.errors import BadInput
from anaxis.store.models import Show
from anaxis.store.people import Person, Token

PREFIX = "anaxis_"
SCOPES = {Role.VIEWER: "read", Role.ARTIST: "work", Role.LEAD: "manage"}
_MAX_DAYS = 366
_USED_EVERY = timedelta(minutes=1)


def tokens_of(context: Context, person: Person) -> list[Token]:
    query = select(Token).where(Token.person_id == person.id).order_by(Token.id.desc())
    return list(context.execute(query).scalars())


def new_token(
    context: Context, person: Person, name: str, role: Role, days: int, show: Show | None = None
) -> tuple[str, Token]:
    """A token and its row; the token itself is shown this once. Raises BadInput."""
    name = " ".join(name.split())
    if not 1 <= len(name) <= 60:
        raise BadInput("A token needs a purpose of 1 to 60 characters.")
    if role not in SCOPES:
        raise BadInput(f"The scope of a token must be one of {', '.join(SCOPES.values())}.")
    if not 1 <= days <= _MAX_DAYS:
        raise BadInput(f"A token is valid for 1 to {_MAX_DAYS} days.")
    secret = PREFIX + secrets.token_urlsafe(32)
    return secret, _make(context, person, name, role, days, show, digest_of(secret))


@use_case("create a token", Role.VIEWER, own=True)
def _make(context: Context, person: Person, name: str, role: Role, days: int, show: Show | None, digest: str) -> Token:
    until = datetime.now(UTC) + timedelta(days=days)
    row = Token(
        person_id=person.id, name=name, digest=digest, role=int(role), show_id=show.id if show else None, expires_at=until
    )  # fmt: skip
    context.add(row)
    context.flush()
    return row


@use_case("revoke a token", Role.NOBODY, own=True)
def revoke(context: Context, token: Token) -> Token:
    """It never works again."""
    token.revoked_at = token.revoked_at or datetime.now(UTC)
    return token


def actor_by_token(context: Context, secret: str) -> Actor | None:
    """Who acts by a token; None for one that is not known, revoked or too old."""
    query = select(Token).where(
        Token.digest == digest_of(secret), Token.revoked_at.is_(None), Token.expires_at > func.now()
    )
    token = context.execute(query).scalar_one_or_none()
    if token is None or token.person.disabled_at is not None:
        return None
    used = update(Token).where(
        Token.id == token.id, or_(Token.used_at.is_(None), Token.used_at < func.now() - _USED_EVERY)
    )
    context.execute(used.values(used_at=func.now()))
    return actor_for(token.person, Role(token.role), token.show_id)
