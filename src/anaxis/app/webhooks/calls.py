"""Makes webhook calls: signed, and tried again until the address takes one or it is given up.

A call is put in the queue in the transaction of what it is about. The body is signed with HMAC-SHA256 (RFC 2104) over the
time and the body, so that neither can be forged or sent again much later.
"""

from __future__ import annotations

import asyncio
import hashlib
import hmac
import json
import random
import threading
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from datetime import UTC, datetime

import httpx
from sqlalchemy import Engine, update

from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from anaxis.app.webhooks.hooks import pause_webhook, require_told
from anaxis.core.errors import BadInput
from anaxis.queue.jobs import TryAgain, remove_entry
from anaxis.store.hooks import Webhook, WebhookCall

TRIES = 7
# All of a call, whatever the receiver does meanwhile; of its answer only the head is read.
_WHOLE_CALL_S = 10.0
# A worker calls a webhook once at a time; another call of it waits for so long in its thread, then for about so long in the queue.
_FOR_ITS_TURN_S, _COME_AGAIN_S = 0.5, 10.0
# Tries in a row that fail, after which a webhook is paused.
FAILURES = 20
_turns: dict[int, threading.Lock] = {}


def signature(secret: str, at: int, body: bytes) -> str:
    """What the header Anaxis-Signature says: ``t`` is when it was sent, in seconds of Unix time, ``v1`` the HMAC of "t.body"."""
    mac = hmac.new(secret.encode(), f"{at}.".encode() + body, hashlib.sha256).hexdigest()
    return f"t={at},v1={mac}"


def send(engine: Engine, number: int, entry: int | None = None) -> None:
    """One try to make a webhook call; ``entry`` is its queue entry, removed with its result. Raises TryAgain where the
    address did not take it and tries are left: 4, 16, 64 s and so on, up to some five hours in all."""
    with Context(engine, LOCAL) as context:
        call = context.get(WebhookCall, number)
        if call is None or call.state != "waiting" or call.webhook.paused_at is not None:
            # Of a webhook that is paused the call waits on, and is put in the queue again when it is resumed.
            remove_entry(context, entry)
            context.commit()
            return
        hook, body = call.webhook, _body_of(call)
    with _turn_of(hook.id):
        said = "the webhook was removed" if hook.removed_at else _sent(hook, body)
    with Context(engine, LOCAL) as context, context.begin():
        call = context.get(WebhookCall, number, with_for_update={"of": WebhookCall})
        if call is None or call.state != "waiting":
            remove_entry(context, entry)
            return
        call.tries += 1
        call.said = said
        # Not behind a call that another worker makes at the same moment: the count is the database's.
        count = Webhook.failures + 1 if said else 0
        counted = update(Webhook).where(Webhook.id == hook.id).values(failures=count).returning(Webhook.failures)
        if context.execute(counted).scalar_one() >= FAILURES:
            pause_webhook(context, context.get_one(Webhook, hook.id, populate_existing=True))
        tries, over = call.tries, not said or call.tries >= TRIES or hook.removed_at is not None
        if over:
            _end_call(context, call, entry, "given up" if said else "sent")
    if not over:
        raise TryAgain(said, 4.0**tries)


def give_up(engine: Engine, number: int, entry: int, said: str) -> None:
    """Record that a call is not tried again, and remove its queue entry."""
    with Context(engine, LOCAL) as context, context.begin():
        call = context.get_one(WebhookCall, number)
        call.said = said
        _end_call(context, call, entry, "given up")


@contextmanager
def _turn_of(hook: int) -> Iterator[None]:
    """Raises TryAgain where another call of a webhook is under way for long: a slow receiver keeps none of the others waiting."""
    turn = _turns.setdefault(hook, threading.Lock())
    if not turn.acquire(timeout=_FOR_ITS_TURN_S):
        raise TryAgain("another call is running", _COME_AGAIN_S * random.uniform(0.5, 1.5), counts=False)
    try:
        yield
    finally:
        turn.release()


def _end_call(context: Context, call: WebhookCall, entry: int | None, state: str) -> None:
    call.state, call.ended_at = state, datetime.now(UTC)
    remove_entry(context, entry)


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
        with ThreadPoolExecutor(1) as apart:  # whoever calls this may have a loop of their own running
            status = apart.submit(asyncio.run, _status_of_answer(hook.url, body, headers)).result()
    except BadInput as error:
        return error.sentence
    except TimeoutError:
        return f"no answer within {_WHOLE_CALL_S:.0f} s"
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        return f"no answer ({type(error).__name__})"
    return "" if 200 <= status < 300 else f"answered {status}"


async def _status_of_answer(url: str, body: bytes, headers: dict[str, str]) -> int:
    """Raises TimeoutError where the whole of it takes too long, also where each part of it comes in time."""
    async with (
        asyncio.timeout(_WHOLE_CALL_S),
        httpx.AsyncClient(timeout=_WHOLE_CALL_S, follow_redirects=False) as client,
        client.stream("POST", url, content=body, headers=headers) as answer,
    ):
        return answer.status_code
