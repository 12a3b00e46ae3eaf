"""To the studio's own sign-in service, and back from there."""

from __future__ import annotations

import secrets
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse

from anaxis.app.people.sign_in import NotSignedIn
from anaxis.app.people.studio_sign_in import Pending, begin, finish, service, sign_out_address, signed_in_by
from anaxis.core.errors import BadInput
from anaxis.store.people import Person
from anaxis.store.rows import NotFound
from anaxis.web.access import OPEN
from anaxis.web.pages import OpenStore, page
from anaxis.web.screens.people.after_sign_in import here, with_cookie, within

entry = APIRouter(dependencies=[OPEN])
_COOKIE, _AT_SERVICE = "anaxis_at_service", "at the studio's service"
_BACK = "/sign-in/studio/back"


def has_studio() -> bool:
    return service() is not None


def out_of_studio(request: Request, person: Person) -> str | None:
    """Where somebody is sent who signs out, to be signed out of the studio's service too."""
    by = service()
    if by is None or person.subject is None:
        return None
    return sign_out_address(by, here(request, "/sign-in"))


@entry.get("/sign-in/studio")
def sent(request: Request, next: str = "/") -> Any:
    by = service()
    if by is None:
        raise NotFound("This server knows no sign-in service of the studio: sign in with a password.")
    pending = Pending(*(secrets.token_urlsafe(32) for _ in range(3)))
    try:
        address = begin(by, here(request, _BACK), pending)
    except BadInput as error:
        return page(request, "people/sign_in/index.html", 503, next=within(next), studio=True, wrong=error.sentence)
    answer = RedirectResponse(address, 303)
    kept = request.app.state.signer.pending(_AT_SERVICE, next=within(next), **vars(pending))
    # Lax: the service's page sends the browser back here.
    answer.set_cookie(_COOKIE, kept, max_age=600, httponly=True, samesite="lax", secure=request.url.scheme == "https")
    return answer


@entry.get(_BACK)
def back(request: Request, store: OpenStore, state: str = "", code: str = "", error: str = "") -> Any:
    by, said = service(), request.app.state.signer.brought_back(_AT_SERVICE, request.cookies.get(_COOKIE, ""))
    try:
        if by is None or said is None:
            raise NotSignedIn("That sign-in was not begun in this browser, or too long ago: begin again.")
        if error:
            raise NotSignedIn(f"The studio's sign-in service said no ({error[:60]}): begin again, or ask who runs it.")
        told = finish(by, here(request, _BACK), Pending(said["state"], said["nonce"], said["verifier"]), state, code)
        secret = signed_in_by(store, by, told, request.headers.get("user-agent", ""))
    except BadInput as failed:
        store.rollback()
        answer = page(
            request, "people/sign_in/index.html", 503 if failed.code == "service_away" else 403, next="/", studio=by is not None, wrong=failed.sentence
        )  # fmt: skip
    else:
        answer = with_cookie(request, RedirectResponse(within(said["next"]), 303), secret)
    answer.delete_cookie(_COOKIE)
    return answer
