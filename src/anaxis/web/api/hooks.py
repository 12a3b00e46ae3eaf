"""Webhooks of a show: added, listed with what they were told, taken away."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import BaseModel, Field

from anaxis.app.roles import Role
from anaxis.app.webhooks.hooks import add_webhook, calls_of, remove_webhook, resume_webhook, webhooks
from anaxis.store.hooks import Webhook, WebhookCall
from anaxis.store.queries import get_show
from anaxis.store.rows import found
from anaxis.web.api.fields import Name, Number
from anaxis.web.api.interface import interface_router
from anaxis.web.pages import Store

router = interface_router("webhooks", read=Role.LEAD, change=Role.LEAD)


class NewWebhook(BaseModel):
    url: Name = Field(examples=["https://pipeline.example/anaxis"])
    events: list[Literal["delivered", "failed", "outdated"]] = Field(min_length=1, max_length=3)


class WebhookDocument(BaseModel):
    id: int
    show: int
    url: str
    events: list[str]
    owner: str = Field(description="The person who added the webhook.")
    failures: int = Field(description="Failed calls in a row.")
    paused_at: datetime | None = Field(description="The time since when it is paused; null if active.")

    @classmethod
    def of(cls, hook: Webhook) -> WebhookDocument:
        return cls(
            id=hook.id, show=hook.show_id, url=hook.url, events=hook.events, owner=hook.owner, failures=hook.failures,
            paused_at=hook.paused_at,
        )  # fmt: skip


class MadeWebhook(WebhookDocument):
    """The webhook with its signing secret, which is shown only once."""

    secret: str


class CallDocument(BaseModel):
    """A call: waiting, sent or given up; ``said`` is the reason of the last failure."""

    id: int
    event: str
    about: dict[str, Any]
    state: str
    tries: int
    said: str
    at: datetime

    @classmethod
    def of(cls, call: WebhookCall) -> CallDocument:
        return cls(
            id=call.id,
            event=call.event,
            about=call.about,
            state=call.state,
            tries=call.tries,
            said=call.said,
            at=call.created_at,
        )


@router.get("/shows/{show_id}/webhooks")
def listed(store: Store, show_id: Number) -> list[WebhookDocument]:
    return [WebhookDocument.of(h) for h in webhooks(store, get_show(store, show_id))]


@router.post("/shows/{show_id}/webhooks", status_code=201)
def added(store: Store, show_id: Number, asked: NewWebhook) -> MadeWebhook:
    """Add a webhook: an address that receives events of a show by POST, signed with the secret in the answer."""
    hook = add_webhook(store, get_show(store, show_id), asked.url, list(asked.events))
    return MadeWebhook(**WebhookDocument.of(hook).model_dump(), secret=hook.secret)


@router.get("/webhooks/{number}/calls")
def calls(store: Store, number: Number) -> list[CallDocument]:
    """List the last hundred calls of a webhook."""
    return [CallDocument.of(c) for c in calls_of(store, found(store, Webhook, number, "webhook"))]


@router.post("/webhooks/{number}/resume")
def resumed(store: Store, number: Number) -> WebhookDocument:
    """Resume a paused webhook: it receives waiting and future calls."""
    return WebhookDocument.of(resume_webhook(store, found(store, Webhook, number, "webhook")))


@router.delete("/webhooks/{number}")
def removed(store: Store, number: Number) -> WebhookDocument:
    return WebhookDocument.of(remove_webhook(store, found(store, Webhook, number, "webhook")))
