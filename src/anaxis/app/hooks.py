"""Webhooks: what happens in a show told to addresses by HTTP, signed, again and again until it is taken or given up.

What is to be told is put down in the transaction of what it is about, and sent by a worker. The body is signed with HMAC-SHA256 (RFC 2104)
over the time and the body, so that neither can be made up or sent again much later.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import os
import secrets
from datetime import UTC, datetime
from urllib.parse import urlsplit

import httpx
from sqlalchemy import Engine, select
from sqlalchemy.orm import Session

from anaxis.app.acting import use_case
from anaxis.app.roles import Role
from anaxis.app.telling import EVENTS
from anaxis.core.errors import BadInput
from anaxis.store.hooks import Webhook, WebhookCall
from anaxis.store.models import Show
from anaxis.work.queue import TryAgain, remove_entry

TRIES = 7
_TIMEOUT_S = 10
_MOST_URL, _MOST_HOOKS = 500, 20


def hosts_told() -> frozenset[str]:
    """The hosts that may be told, by ANAXIS_WEBHOOK_HOSTS: whoever runs the server says them, and without any none is."""
    return frozenset(h.strip().lower() for h in os.environ.get("ANAXIS_WEBHOOK_HOSTS", "").split(",") if h.strip())


@use_case("add a webhook", Role.LEAD)
def add_webhook(session: Session, show: Show, url: str, events: list[str]) -> Webhook:
    """An address that is told of a show's events from now on. Raises BadInput."""
    _require_told(url)
    unknown = [e for e in events if e not in EVENTS]
    if unknown or not events:
        raise BadInput(f"'{(unknown or [''])[0][:40]}' is no event: choose of {', '.join(EVENTS)}.")
    if len(webhooks(session, show)) >= _MOST_HOOKS:
        raise BadInput(f"A show has {_MOST_HOOKS} webhooks at most: take one away first.")
    hook = Webhook(show_id=show.id, url=url, events=sorted(set(events)), secret=secrets.token_urlsafe(32))
    session.add(hook)
    session.flush()
    return hook


@use_case("take a webhook away", Role.LEAD)
def remove_webhook(session: Session, hook: Webhook) -> Webhook:
    """It is told nothing more."""
    hook.removed_at = hook.removed_at or datetime.now(UTC)
    return hook


def webhooks(session: Session, show: Show) -> list[Webhook]:
    query = select(Webhook).where(Webhook.show_id == show.id, Webhook.removed_at.is_(None)).order_by(Webhook.id)
    return list(session.execute(query).scalars())


def calls_of(session: Session, hook: Webhook, most: int = 100) -> list[WebhookCall]:
    """What it was told last."""
    query = select(WebhookCall).where(WebhookCall.webhook_id == hook.id).order_by(WebhookCall.id.desc()).limit(most)
    return list(session.execute(query).scalars())


def signature(secret: str, at: int, body: bytes) -> str:
    """What the header Anaxis-Signature says: ``t`` is when it was sent, in seconds of Unix time, ``v1`` the HMAC of "t.body"."""
    mac = hmac.new(secret.encode(), f"{at}.".encode() + body, hashlib.sha256).hexdigest()
    return f"t={at},v1={mac}"


def send(engine: Engine, number: int, entry: int | None = None) -> None:
    """One try to make a webhook call; ``entry`` is its queue entry, removed with its result. Raises TryAgain where the
    address did not take it and tries are left: 4, 16, 64 s and so on, up to some five hours in all."""
    with Session(engine) as session:
        call = session.get(WebhookCall, number)
        waits = call is not None and call.state == "waiting"
        if call is not None and waits:
            hook, body = call.webhook, _body_of(call)
            said = "the webhook was removed" if hook.removed_at else ""
    if waits:
        said = said or _sent(hook, body)
    with Session(engine) as session, session.begin():
        call = session.get(WebhookCall, number, with_for_update={"of": WebhookCall})
        if call is None or call.state != "waiting":
            remove_entry(session, entry)
            return
        call.tries += 1
        call.said = said
        tries, over = call.tries, not said or call.tries >= TRIES or hook.removed_at is not None
        if over:
            _end_call(session, call, entry, "given up" if said else "sent")
    if not over:
        raise TryAgain(said, 4.0**tries)


def give_up(engine: Engine, number: int, entry: int, said: str) -> None:
    """Record that a call is not tried again, and remove its queue entry."""
    with Session(engine) as session, session.begin():
        call = session.get_one(WebhookCall, number)
        call.said = said
        _end_call(session, call, entry, "given up")


def _end_call(session: Session, call: WebhookCall, entry: int | None, state: str) -> None:
    call.state, call.ended_at = state, datetime.now(UTC)
    remove_entry(session, entry)


def _body_of(call: WebhookCall) -> bytes:
    document = {
        "id": call.id,
        "event": call.event,
        "show": call.webhook.show_id,
        "at": call.created_at.isoformat(),
        "about": call.about,
    }
    return json.dumps(document).encode()


def _sent(hook: Webhook, body: bytes) -> str:
    """Why it was not taken; "" where it was."""
    try:
        _require_told(hook.url)
        at = int(datetime.now(UTC).timestamp())
        headers = {"Content-Type": "application/json", "Anaxis-Signature": signature(hook.secret, at, body)}
        answer = httpx.post(hook.url, content=body, headers=headers, timeout=_TIMEOUT_S, follow_redirects=False)
    except BadInput as error:
        return error.sentence
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        return f"no answer ({type(error).__name__})"
    return "" if answer.is_success else f"answered {answer.status_code}"


def _require_told(url: str) -> None:
    split = urlsplit(url)
    if len(url) > _MOST_URL or split.scheme not in ("http", "https") or not split.hostname or not url.isprintable():
        raise BadInput(f"'{url[:80]}' is no address that can be told: write http:// or https://, a host and a path.")
    if split.hostname.lower() not in hosts_told():
        raise BadInput(
            f"The host {split.hostname[:80]} may not be told: whoever runs the server adds it to ANAXIS_WEBHOOK_HOSTS."
        )
