"""Who a request is from: the cookie of a browser signed in, the token of a program, or the person of the demonstration."""

from __future__ import annotations

import hashlib
from typing import Any

from fastapi import Request, Response
from fastapi.requests import HTTPConnection
from itsdangerous import BadData, BadSignature, URLSafeSerializer, URLSafeTimedSerializer

from anaxis.app.context import Context
from anaxis.app.people.people import actor_for, person_named
from anaxis.app.people.sign_in import NotSignedIn, person_signed_in
from anaxis.app.people.tokens import actor_by_token
from anaxis.app.roles import Actor
from anaxis.store.people import Person
from anaxis.web.security import LOOPBACK

API = "/api/"
_HOLDS_S = 90 * 24 * 3600
_PENDING_S = 600


class Signer:
    """Cookies of one store's servers: their name and signature are of its key, so that another server's are no cookies here."""

    def __init__(self, key: bytes) -> None:
        self.cookie = f"anaxis_{hashlib.sha256(b'name' + key).hexdigest()[:8]}"
        self._serializer = URLSafeSerializer(key, salt="signed in")
        self._timed = URLSafeTimedSerializer(key, salt="pending")

    def secret(self, request: HTTPConnection) -> str | None:
        """What the browser was given when it was signed in; None where it has none of ours."""
        try:
            return str(self._serializer.loads(request.cookies.get(self.cookie, "")))
        except BadSignature:
            return None

    def pending(self, kind: str, **said: object) -> str:
        """Something that a browser is to restore within a few minutes, signed, for one purpose."""
        return str(self._timed.dumps(said, salt=kind))

    def brought_back(self, kind: str, text: str) -> dict[str, Any] | None:
        """The same, where it is ours, of that purpose, and came in time."""
        try:
            found: dict[str, Any] = self._timed.loads(text, max_age=_PENDING_S, salt=kind)
        except BadData:
            return None
        return found

    def give(self, request: Request, answer: Response, secret: str) -> None:
        answer.set_cookie(
            self.cookie, str(self._serializer.dumps(secret)), max_age=_HOLDS_S, httponly=True, samesite="lax",
            secure=request.url.scheme == "https",
        )  # fmt: skip

    def take(self, answer: Response) -> None:
        answer.delete_cookie(self.cookie)


def is_api(request: HTTPConnection) -> bool:
    return request.url.path.startswith(API)


def actor_of_request(request: HTTPConnection, session: Context) -> Actor:
    """Raises NotSignedIn."""
    if is_api(request):
        return _by_token(request, session)
    secret = request.app.state.signer.secret(request)
    person = person_signed_in(session, secret) if secret else None
    if person is None:
        person = _visitor(request, session)
    if person is None:
        raise NotSignedIn("Sign in first.")
    return actor_for(person)


def signed_in_by_itself(request: HTTPConnection) -> bool:
    """Whether whoever comes is signed in without being asked: in a demonstration, from this machine."""
    return bool(request.app.state.visitor) and request.client is not None and request.client.host in LOOPBACK


def _visitor(request: HTTPConnection, session: Context) -> Person | None:
    return person_named(session, request.app.state.visitor) if signed_in_by_itself(request) else None


def _by_token(request: HTTPConnection, session: Context) -> Actor:
    kind, _, token = request.headers.get("authorization", "").partition(" ")
    actor = actor_by_token(session, token.strip()) if kind.lower() == "bearer" else None
    if actor is None:
        raise NotSignedIn(
            "This needs a token that holds, as 'Authorization: Bearer …': make one on your own page (it may be revoked or too old)."
        )
    return actor
