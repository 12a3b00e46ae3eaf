"""Makes webhook calls: signed, and tried again until the address takes one or it is given up.

A call is put in the queue in the transaction of what it is about. The body is signed with HMAC-SHA256 (RFC 2104) over the
time and the body, so that neither can be forged or sent again much later.
"""

from __future__ import annotations

import hashlib
import hmac
import json
from datetime import UTC, datetime

import httpx
from sqlalchemy import Engine
from sqlalchemy.orm import Session

from anaxis.app.hooks import require_told
from anaxis.core.errors import BadInput
from anaxis.store.hooks import Webhook, WebhookCall
from anaxis.work.queue import TryAgain, remove_entry

TRIES = 7
_TIMEOUT_S = 10


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
        require_told(hook.url)
        at = int(datetime.now(UTC).timestamp())
        headers = {"Content-Type": "application/json", "Anaxis-Signature": signature(hook.secret, at, body)}
        answer = httpx.post(hook.url, content=body, headers=headers, timeout=_TIMEOUT_S, follow_redirects=False)
    except BadInput as error:
        return error.sentence
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        return f"no answer ({type(error).__name__})"
    return "" if answer.is_success else f"answered {answer.status_code}"
