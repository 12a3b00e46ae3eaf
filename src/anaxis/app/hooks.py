"""Webhooks of a show: added, removed, listed, and which hosts may be called. A worker makes the calls
(:mod:`anaxis.app.webhook_calls`)."""

from __future__ import annotations

import os
import secrets
from datetime import UTC, datetime
from urllib.parse import urlsplit

from sqlalchemy import select
from sqlalchemy.orm import Session

from anaxis.app.acting import use_case
from anaxis.app.roles import Role
from anaxis.app.telling import EVENTS
from anaxis.core.errors import BadInput
from anaxis.store.hooks import Webhook, WebhookCall
from anaxis.store.models import Show

_MOST_URL, _MOST_HOOKS = 500, 20


def hosts_told() -> frozenset[str]:
    """The hosts that may be told, by ANAXIS_WEBHOOK_HOSTS: whoever runs the server says them, and without any none is."""
    return frozenset(h.strip().lower() for h in os.environ.get("ANAXIS_WEBHOOK_HOSTS", "").split(",") if h.strip())


@use_case("add a webhook", Role.LEAD)
def add_webhook(session: Session, show: Show, url: str, events: list[str]) -> Webhook:
    """An address that is told of a show's events from now on. Raises BadInput."""
    require_told(url)
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


def require_told(url: str) -> None:
    """Raise BadInput for an address that cannot be called, or whose host may not be."""
    split = urlsplit(url)
    if len(url) > _MOST_URL or split.scheme not in ("http", "https") or not split.hostname or not url.isprintable():
        raise BadInput(f"'{url[:80]}' is no address that can be told: write http:// or https://, a host and a path.")
    if split.username is not None or split.password is not None:
        raise BadInput("Leave user and password out of the address: each call is signed, and the receiver checks that.")
    if split.hostname.lower() not in hosts_told():
        raise BadInput(
            f"The host {split.hostname[:80]} may not be told: whoever runs the server adds it to ANAXIS_WEBHOOK_HOSTS."
        )
