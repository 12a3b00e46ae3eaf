"""Webhooks of a show: added, removed, listed, and which hosts may be called. A worker makes the calls
(:mod:`anaxis.app.webhooks.calls`)."""

from __future__ import annotations

import os
import secrets
from datetime import UTC, datetime
from typing import NamedTuple
from urllib.parse import urlsplit

from sqlalchemy import func, select, update

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.app.roles import Role
from anaxis.app.webhooks.events import EVENTS
from anaxis.core.errors import BadInput
from anaxis.queue.jobs import call_in_queue, remove_calls
from anaxis.store.hooks import Webhook, WebhookCall
from anaxis.store.models import Show

_MOST_URL, _MOST_HOOKS = 500, 20


def hosts_told() -> frozenset[str]:
    """The hosts that may be told, by ANAXIS_WEBHOOK_HOSTS: whoever runs the server says them, and without any none is."""
    return frozenset(h.strip().lower() for h in os.environ.get("ANAXIS_WEBHOOK_HOSTS", "").split(",") if h.strip())


@use_case("add a webhook", Role.LEAD)
def add_webhook(context: Context, show: Show, url: str, events: list[str]) -> Webhook:
    """An address that is told of a show's events from now on. Raises BadInput."""
    require_told(url)
    unknown = [e for e in events if e not in EVENTS]
    if unknown or not events:
        raise BadInput(f"'{(unknown or [''])[0][:40]}' is not an event: choose from {', '.join(EVENTS)}.")
    if len(webhooks(context, show)) >= _MOST_HOOKS:
        raise BadInput(f"A show has {_MOST_HOOKS} webhooks at most: remove one first.")
    hook = Webhook(
        show_id=show.id, url=url, events=sorted(set(events)), secret=secrets.token_urlsafe(32), owner=context.actor.name
    )
    context.add(hook)
    context.flush()
    return hook


@use_case("remove a webhook", Role.LEAD)
def remove_webhook(context: Context, hook: Webhook) -> Webhook:
    """It is told nothing more, and what waits to be told is not."""
    hook.removed_at = hook.removed_at or datetime.now(UTC)
    context.flush()
    ended = (
        update(WebhookCall)
        .where(WebhookCall.webhook_id == hook.id, WebhookCall.state == "waiting")
        .values(state="given up", said="the webhook was removed", ended_at=func.now())
    )
    remove_calls(context, context.execute(ended.returning(WebhookCall.id)).scalars().all())
    return hook


@use_case("pause a webhook", Role.LEAD)
def pause_webhook(context: Context, hook: Webhook) -> Webhook:
    """What it would be told waits until it is resumed."""
    hook.paused_at = hook.paused_at or datetime.now(UTC)
    remove_calls(context, _waiting(context, hook))
    return hook


@use_case("resume a webhook", Role.LEAD)
def resume_webhook(context: Context, hook: Webhook) -> Webhook:
    """It is told what has waited, and all that comes. Raises BadInput where it is not paused."""
    if hook.paused_at is None or hook.removed_at is not None:
        raise BadInput(f"{hook.name} is not paused.", "nothing_to_do")
    hook.paused_at, hook.failures = None, 0
    for number in _waiting(context, hook):
        call_in_queue(context, number)
    return hook


def _waiting(context: Context, hook: Webhook) -> list[int]:
    query = select(WebhookCall.id).where(WebhookCall.webhook_id == hook.id, WebhookCall.state == "waiting")
    return list(context.execute(query.order_by(WebhookCall.id)).scalars())


class Paused(NamedTuple):
    """A paused webhook, how many calls wait for it, and why the last try failed."""

    hook: Webhook
    waiting: int
    said: str


def paused_of_actor(context: Context) -> list[Paused]:
    """The paused webhooks that whoever acts added, for a notice on their pages."""
    mine = (Webhook.owner == context.actor.name, Webhook.paused_at.is_not(None), Webhook.removed_at.is_(None))
    out = []
    for hook in context.execute(select(Webhook).where(*mine).order_by(Webhook.id)).scalars():
        said = next((c.said for c in calls_of(context, hook) if c.said), "")
        out.append(Paused(hook, len(_waiting(context, hook)), said))
    return out


def webhooks(context: Context, show: Show) -> list[Webhook]:
    query = select(Webhook).where(Webhook.show_id == show.id, Webhook.removed_at.is_(None)).order_by(Webhook.id)
    return list(context.execute(query).scalars())


def calls_of(context: Context, hook: Webhook, most: int = 100) -> list[WebhookCall]:
    """What it was told last."""
    query = select(WebhookCall).where(WebhookCall.webhook_id == hook.id).order_by(WebhookCall.id.desc()).limit(most)
    return list(context.execute(query).scalars())


def require_told(url: str) -> None:
    """Raise BadInput for an address that cannot be called, or whose host may not be."""
    split = urlsplit(url)
    if len(url) > _MOST_URL or split.scheme not in ("http", "https") or not split.hostname or not url.isprintable():
        raise BadInput(f"'{url[:80]}' is not a usable address: write http:// or https://, a host and a path.")
    if split.username is not None or split.password is not None:
        raise BadInput(
            "Remove user and password from the address: calls are signed, and the receiver checks the signature."
        )
    if split.hostname.lower() not in hosts_told():
        raise BadInput(f"The host {split.hostname[:80]} is not allowed: add it to ANAXIS_WEBHOOK_HOSTS on the server.")
