"""Signing in and out, one's own page, and the people that an administrator sees to."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse

from anaxis.app.context import Context
from anaxis.app.form_base import require_base
from anaxis.app.notices.mail_server import has_mail_server
from anaxis.app.people.people import (
    add_person,
    disable,
    enable,
    get_person,
    give_role,
    invite,
    link_for,
    own_person,
    people,
)
from anaxis.app.people.second_factor import is_required, new_secret
from anaxis.app.people.sign_in import (
    LEAST,
    CodeWanted,
    accept,
    change_password,
    sign_in,
    sign_ins,
    sign_out,
    sign_out_everywhere,
    signed_in_as,
)
from anaxis.app.people.tokens import SCOPES, new_token, revoke, tokens_of
from anaxis.app.people.views import choose_mail
from anaxis.app.plates.media_roots import close_root, open_root, opened_roots
from anaxis.app.roles import GIVEN, Role
from anaxis.app.shows.shots import shows_of
from anaxis.app.webhooks.hooks import paused_of_actor, resume_webhook
from anaxis.core.errors import BadInput
from anaxis.store.hooks import Webhook
from anaxis.store.people import Person, Token
from anaxis.store.queries import get_show
from anaxis.store.rows import NotFound, found
from anaxis.web.access import OPEN, needs
from anaxis.web.pages import OpenStore, Store, page, row_number, row_number_or_none
from anaxis.web.screens.people.after_sign_in import here, with_cookie, within
from anaxis.web.screens.people.second_factor import code_asked
from anaxis.web.screens.people.studio import has_studio, out_of_studio

entry = APIRouter(dependencies=[OPEN])
router = APIRouter(dependencies=[needs(Role.NOBODY, Role.NOBODY)])
managing = APIRouter(prefix="/people", dependencies=[needs(Role.ADMINISTRATOR, Role.ADMINISTRATOR)])
Typed = Annotated[str, Form()]
_ROLES = [Role.NOBODY, *GIVEN]


@entry.get("/sign-in")
def form(request: Request, next: str = "/") -> Any:
    return page(request, "people/sign_in/index.html", next=within(next), studio=has_studio())


@entry.post("/sign-in")
def signed_in(request: Request, name: Typed, password: Typed, next: Typed = "/") -> Any:
    client = request.client.host if request.client else ""
    try:
        secret = sign_in(request.app.state.engine, name, password, client, request.headers.get("user-agent", ""))
    except CodeWanted as wanted:
        return code_asked(request, wanted.person, within(next), new_secret() if wanted.set_up else "")
    except BadInput as error:
        status = 429 if error.code == "too_many_tries" else 403
        return page(
            request, "people/sign_in/index.html", status, next=within(next), typed=name[:200], wrong=error.sentence, studio=has_studio(),
        )  # fmt: skip
    return with_cookie(request, RedirectResponse(within(next), 303), secret)


@entry.get("/welcome")
def welcome(request: Request) -> Any:
    """Where a one-time link leads: its secret stands behind #, so that no log and no other server sees it."""
    return page(request, "people/welcome/index.html", least=LEAST)


@entry.post("/welcome")
def password_set(request: Request, store: OpenStore, secret: Typed, password: Typed, again: Typed) -> Any:
    try:
        if password != again:
            raise BadInput("The two passwords are not the same: type them again.")
        person = accept(store, secret, password)
    except BadInput as error:
        return page(request, "people/welcome/index.html", 422, least=LEAST, secret=secret, wrong=error.sentence)
    browser = signed_in_as(store, person.id, request.headers.get("user-agent", ""))
    return with_cookie(request, RedirectResponse("/", 303), browser)


@router.post("/sign-out")
def signed_out(request: Request, store: Store) -> Any:
    secret = request.app.state.signer.secret(request)
    if secret:
        sign_out(store, secret)
    answer = RedirectResponse(out_of_studio(request, own_person(store)) or "/sign-in", 303)
    request.app.state.signer.take(answer)
    return answer


@router.get("/account")
def account(request: Request, store: Store) -> Any:
    return _account(request, store)


@router.post("/account/password")
def other_password(request: Request, store: Store, old: Typed, password: Typed, again: Typed) -> Any:
    person = own_person(store)
    try:
        if password != again:
            raise BadInput("The two new passwords are not the same: type them again.")
        change_password(store, person, old, password)
    except BadInput as error:
        return _account(request, store, 422, wrong=error.sentence)
    secret = signed_in_as(store, person.id, request.headers.get("user-agent", ""))
    return with_cookie(request, RedirectResponse("/account", 303), secret)


@router.post("/account/mail")
def mail_chosen(request: Request, store: Store, email: Typed = "", mails: Typed = "") -> Any:
    try:
        choose_mail(store, own_person(store), email, bool(mails))
    except BadInput as error:
        return _account(request, store, 422, wrong=error.sentence)
    return RedirectResponse("/account", 303)


@router.post("/account/sign-out-everywhere")
def out_everywhere(request: Request, store: Store) -> Any:
    sign_out_everywhere(store, own_person(store))
    return RedirectResponse("/sign-in", 303)


@router.post("/account/tokens")
def token_made(
    request: Request, store: Store, name: Typed, scope: Typed = "read", days: Annotated[int, Form()] = 90, show: Typed = ""
) -> Any:  # fmt: skip
    try:
        role = next((r for r, word in SCOPES.items() if word == scope), Role.NOBODY)
        only = row_number_or_none(show, "show")
        within = None if only is None else get_show(store, only)
        secret, _ = new_token(store, own_person(store), name, role, days, within)
    except BadInput as error:
        return _account(request, store, 422, wrong=error.sentence)
    return _account(request, store, secret=secret)


@router.post("/account/tokens/{number}/revoke")
def token_revoked(store: Store, number: int) -> Any:
    token = found(store, Token, number, "token")
    if token.person_id != store.actor.person and store.actor.everywhere < Role.ADMINISTRATOR:
        raise NotFound(f"There is no token {number}: reload your account page.")
    revoke(store, token)
    return RedirectResponse("/account", 303)


@managing.get("")
def listed(request: Request, store: Store) -> Any:
    return _people(request, store)


@managing.post("")
def added(request: Request, store: Store, name: Typed, role: Annotated[int, Form()] = 0) -> Any:
    person = add_person(store, name, _role(role))
    return _people(request, store, person, link_for(store, person))


@managing.post("/{number}/role")
def role_given(store: Store, number: int, role: Annotated[int, Form()], base: Typed = "", show: Typed = "") -> Any:
    person = get_person(store, number)
    within = row_number_or_none(show, "show")
    require_base(store, person, base, "everywhere", "in_shows")
    give_role(store, person, _role(role), None if within is None else get_show(store, within))
    return RedirectResponse("/people", 303)


@managing.post("/{number}/link")
def link_made(request: Request, store: Store, number: int) -> Any:
    person = invite(store, get_person(store, number))
    return _people(request, store, person, link_for(store, person))


@managing.post("/{number}/disable")
def disabled(store: Store, number: int) -> Any:
    disable(store, get_person(store, number))
    return RedirectResponse("/people", 303)


@managing.post("/{number}/enable")
def enabled(store: Store, number: int) -> Any:
    enable(store, get_person(store, number))
    return RedirectResponse("/people", 303)


@managing.get("/media-roots")
def media_roots_listed(request: Request, store: Store) -> Any:
    return page(request, "people/media_roots/index.html", roots=opened_roots(store), shows=shows_of(store))


@managing.post("/media-roots")
def media_root_opened(store: Store, root: Typed, show: Typed, close: Typed = "") -> Any:
    (close_root if close else open_root)(store, root, get_show(store, row_number(show) or 0))
    return RedirectResponse("/people/media-roots", 303)


@router.post("/webhooks/{number}/resume", dependencies=[needs(Role.LEAD, Role.LEAD)])
def webhook_resumed(store: Store, number: int) -> Any:
    resume_webhook(store, found(store, Webhook, number, "webhook"))
    return RedirectResponse("/account", 303)


def _account(request: Request, store: Context, status: int = 200, **more: Any) -> Any:
    person = own_person(store)
    mine = request.app.state.signer.secret(request)
    return page(
        request, "people/account/index.html", status, person=person, sign_ins=sign_ins(store, person), tokens=tokens_of(store, person), scopes=SCOPES,
        shows=shows_of(store), least=LEAST, mine=mine, roles=Role, paused=paused_of_actor(store), required=is_required(), has_mail=has_mail_server(), **more,
    )  # fmt: skip


def _people(request: Request, store: Context, invited: Person | None = None, secret: str = "") -> Any:
    link = here(request, f"/welcome#{secret}") if secret else ""
    return page(
        request, "people/index.html", people=people(store), shows=shows_of(store), roles=_ROLES, all_roles=[*_ROLES, Role.ADMINISTRATOR], Role=Role,
        invited=invited, link=link,
    )  # fmt: skip


def _role(number: int) -> Role:
    try:
        return Role(number)
    except ValueError:
        raise BadInput(f"There is no role {number}: choose one from the list.") from None
