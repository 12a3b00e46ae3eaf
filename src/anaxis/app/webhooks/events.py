"""What happens in a show: its webhooks are called (:mod:`anaxis.app.webhooks.hooks`), and the people whom it concerns get a
notice (:mod:`anaxis.app.notices.notices`). Callers hold the transaction."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from sqlalchemy import select

from anaxis.app.context import Context
from anaxis.app.notices.notices import News, actors_of, give_notice
from anaxis.core.names import listed
from anaxis.queue.jobs import call_in_queue
from anaxis.store.exchange import Clash
from anaxis.store.hooks import Webhook, WebhookCall
from anaxis.store.models import Camera, Delivery, Job, Return, Run, Version

EVENTS = ("delivered", "failed", "outdated")


def emit_delivered(context: Context, delivery: Delivery) -> None:
    """A delivery was made, matching or not."""
    said = {
        "delivery": delivery.id, "to": delivery.profile["key"], "format": delivery.format, "matches": delivery.matches, "verdict": delivery.verdict,
        "warnings": [f.code for f in delivery.version.open_warnings],
        "max_px": delivery.max_px, "worst_frame": delivery.worst_frame,
    }  # fmt: skip
    _tell(context, delivery.version, "delivered", said)


def emit_failed(context: Context, job: Job) -> None:
    """Long work failed, and why. A run says so once, at its end (:func:`emit_run_ended`)."""
    _tell(context, job.version, "failed", {"job": job.id, "kind": job.kind, "said": job.said})
    if job.run_id is None:
        sentence = f"Job {job.id}, {job.kind} of {job.version.called}, failed: {job.said}"
        _notice(
            context, [job.actor], "failed", job.version, sentence, f"/jobs/{job.id}", f"job {job.id} {job.ended_at}"
        )


def emit_run_ended(context: Context, run: Run, states: Mapping[str, int]) -> None:
    """The last job of a run ended; ``states`` counts its jobs by state."""
    words = {"done": "delivered", "failed": "failed", "stopped": "stopped"}
    counts = ", ".join(f"{states[s]} {word}" for s, word in words.items() if states.get(s))
    news = News(
        "run",
        run.show_id,
        f"Run {run.id} of {run.show.name} ended: {counts}.",
        f"/runs/{run.id}",
        f"run {run.id}",
        True,
    )
    give_notice(context, [run.actor], news)


def emit_new_head(context: Context, before: Version | None, now: Version) -> None:
    """Another version of a camera is worked on: what was delivered before may be outdated, and it may have new findings."""
    if before is not None and before.id == now.id:
        return
    if before is not None and before.deliveries and not now.deliveries:
        _tell(context, now, "outdated", {"delivered_version": before.label})
        makers = actors_of(context, Delivery.__tablename__, [d.id for d in before.deliveries])
        packages = listed(sorted({d.profile["key"] for d in before.deliveries}))
        sentence = f"{now.called} is newer than the version that you delivered ({before.label}, for {packages}): deliver it again."
        _notice(context, makers, "outdated", now, sentence, f"{_page(now)}&station=deliver", f"outdated {before.id}")
    known = {f.code for f in before.open_warnings} if before is not None else set()
    new = [f for f in now.open_warnings if f.code not in known]
    if new:
        in_shot = select(Camera.id).where(Camera.shot_id == now.camera.shot_id)
        of_shot = select(Version.id).where(Version.camera_id.in_(in_shot), Version.id != now.id)
        artists = actors_of(context, Version.__tablename__, context.execute(of_shot).scalars().all())
        sentence = f"{now.called}, in a shot that you work on, has a new finding: {new[0].message}"
        _notice(context, artists, "finding", now, sentence, f"{_page(now)}&station=take-in", f"finding {now.id}")


def emit_returned(context: Context, row: Return) -> None:
    """A camera that came back differs from the one that went out."""
    if row.as_it_was:
        return
    made = actors_of(context, Version.__tablename__, [row.version_id])
    sent = [d.id for d in row.version.deliveries if d.profile["key"] == row.profile["key"]]
    names = made | actors_of(context, Delivery.__tablename__, sent)
    sentence = f"{row.version.called} returned from {row.profile['key']} and differs: see the cause."
    _notice(context, names, "returned", row.version, sentence, f"/returns/{row.id}", f"returned {row.id}")


def emit_conflict(context: Context, clash: Clash) -> None:
    """Both sides of a link changed the same values: whoever made the link chooses."""
    if clash.link is None:
        return
    sentence = f"The link {clash.link.name} has a conflict: both sides changed the same values. Choose which to keep."
    at = f"/shows/{clash.show_id}/live"
    news = News("conflict", clash.show_id, sentence, at, f"conflict {clash.link_id}", True)
    give_notice(context, [clash.link.actor], news)


def _page(version: Version) -> str:
    return f"/cameras/{version.camera_id}?version={version.number}"


def _notice(
    context: Context, names: Iterable[str], kind: str, version: Version, sentence: str, link: str, key: str
) -> None:
    give_notice(context, names, News(kind, version.camera.shot.show_id, sentence, link, key))


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
