"""What happens in a show put down to be told to its webhooks (:mod:`anaxis.app.webhooks.hooks`), with what it is about."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select

from anaxis.app.context import Context
from anaxis.queue.jobs import call_in_queue
from anaxis.store.hooks import Webhook, WebhookCall
from anaxis.store.models import Delivery, Job, Version

EVENTS = ("delivered", "failed", "behind")


def emit_delivered(context: Context, delivery: Delivery) -> None:
    """A delivery was made, matching or not."""
    said = {
        "delivery": delivery.id, "to": delivery.profile["key"], "format": delivery.format, "matches": delivery.matches, "verdict": delivery.verdict,
        "warnings": [f.code for f in delivery.version.open_warnings],
        "max_px": delivery.max_px, "worst_frame": delivery.worst_frame,
    }  # fmt: skip
    _tell(context, delivery.version, "delivered", said)


def emit_failed(context: Context, job: Job) -> None:
    """Long work failed, and why."""
    _tell(context, job.version, "failed", {"job": job.id, "kind": job.kind, "said": job.said})


def emit_behind(context: Context, before: Version | None, now: Version) -> None:
    """What was delivered of a camera is no longer of the version worked on; nothing where none was."""
    if before is not None and before.id != now.id and before.deliveries and not now.deliveries:
        _tell(context, now, "behind", {"delivered_version": before.label})


def _tell(context: Context, version: Version, event: str, more: dict[str, Any]) -> None:
    shot = version.camera.shot
    query = select(Webhook).where(
        Webhook.show_id == shot.show_id, Webhook.removed_at.is_(None), Webhook.events.contains([event])
    )
    about = {
        "shot": shot.name,
        "camera": version.camera_id,
        "name": version.camera.name,
        "version": version.label,
        **more,
    }
    for hook in context.execute(query).scalars():
        call = WebhookCall(webhook_id=hook.id, event=event, about=about)
        context.add(call)
        context.flush()
        if hook.paused_at is None:
            call_in_queue(context, call.id)
