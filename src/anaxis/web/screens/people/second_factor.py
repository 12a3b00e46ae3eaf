"""The second factor: asked for behind a password, set up and taken away on one's own page."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse

from anaxis.app.context import Context
from anaxis.app.people.people import get_person, own_person
from anaxis.app.people.second_factor import address_of, new_secret, picture_of, reset, set_up, take_away
from anaxis.app.people.sign_in import NotSignedIn, sign_in_with_code
from anaxis.app.roles import VISITOR, Role
from anaxis.core.errors import BadInput
from anaxis.store.people import Person
from anaxis.web.access import OPEN, needs
from anaxis.web.pages import Store, page
from anaxis.web.screens.people.after_sign_in import with_cookie, within

entry = APIRouter(dependencies=[OPEN])
router = APIRouter(dependencies=[needs(Role.NOBODY, Role.NOBODY)])
managing = APIRouter(dependencies=[needs(Role.ADMINISTRATOR, Role.ADMINISTRATOR)])
Typed = Annotated[str, Form()]
_BEHIND_PASSWORD, _OWN = "code behind a password", "second factor of one's own"


def code_asked(request: Request, person_id: int, next: str, secret: str, status: int = 200, wrong: str = "") -> Any:
    """The page that asks for a code, behind the right password; with a ``secret`` to be set up first."""
    pending = request.app.state.signer.pending(_BEHIND_PASSWORD, person=person_id, secret=secret)
    with Context(request.app.state.engine, VISITOR) as store:
        address = address_of(secret, store.get_one(Person, person_id)) if secret else ""
    return page(
        request, "people/code/index.html", status, pending=pending, next=next, secret=secret, wrong=wrong, action="/sign-in/code",
        picture=picture_of(address) if secret else "",
    )  # fmt: skip


@entry.post("/sign-in/code")
def code_typed(request: Request, pending: Typed, code: Typed, next: Typed = "/") -> Any:
    said = request.app.state.signer.brought_back(_BEHIND_PASSWORD, pending)
    if said is None:
        raise NotSignedIn("That took too long: type your name and password again.")
    client = request.client.host if request.client else ""
    browser = request.headers.get("user-agent", "")
    try:
        secret = sign_in_with_code(request.app.state.engine, said["person"], code, client, browser, said["secret"])
    except NotSignedIn:
        raise
    except BadInput as error:
        status = 429 if error.code == "too_many_tries" else 403
        return code_asked(request, said["person"], within(next), said["secret"], status, error.sentence)
    return with_cookie(request, RedirectResponse(within(next), 303), secret)


@router.post("/account/second-factor")
def begun(request: Request, store: Store) -> Any:
    return _to_set_up(request, own_person(store), new_secret())


@router.post("/account/second-factor/confirm")
def confirmed(request: Request, store: Store, pending: Typed, code: Typed) -> Any:
    person = own_person(store)
    said = request.app.state.signer.brought_back(_OWN, pending)
    if said is None or said["person"] != person.id:
        raise BadInput("That took too long: begin again on your page.")
    try:
        set_up(store, person, said["secret"], code)
    except BadInput as error:
        store.rollback()
        return _to_set_up(request, person, said["secret"], 422, error.sentence)
    return RedirectResponse("/account", 303)


@router.post("/account/second-factor/remove")
def removed(store: Store, code: Typed) -> Any:
    take_away(store, own_person(store), code)
    return RedirectResponse("/account", 303)


@managing.post("/people/{number}/second-factor")
def anothers_removed(store: Store, number: int) -> Any:
    reset(store, get_person(store, number))
    return RedirectResponse("/people", 303)


def _to_set_up(request: Request, person: Person, secret: str, status: int = 200, wrong: str = "") -> Any:
    pending = request.app.state.signer.pending(_OWN, person=person.id, secret=secret)
    return page(
        request, "people/code/index.html", status, pending=pending, next="/account", secret=secret, wrong=wrong,
        action="/account/second-factor/confirm", picture=picture_of(address_of(secret, person)),
    )  # fmt: skip
