"""Links between two cameras of connected packages: made, stopped, what they do, and clashes that a person settles."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import numpy as np
from pydantic import BaseModel
from sqlalchemy import func, or_, select
from sqlalchemy.orm import undefer

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.app.exchange.cells import EVERY, CameraState, FramePatch, unpacked
from anaxis.app.exchange.passing import (
    RULES,
    enqueue,
    links_of,
    locked,
    notify,
    offset_from,
    other_end,
    rate_ratio,
    send,
    stop_clashes,
)
from anaxis.app.exchange.sides import differing, held_by, side_of, side_to
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import format_frame, kept_rate, rate_label
from anaxis.packages.package_values import chosen_groups
from anaxis.store.exchange import Clash, Client, ExchangeChange, Link, RemoteCamera
from anaxis.store.models import Show
from anaxis.store.rows import found as row_of

_MOST_EVERY_S = 3600


class LinkAsked(BaseModel):
    """A link to be made: from the first camera to the second, which holds what the first holds from then on.

    Where the rates differ: ``by_time`` resamples the first for the second, ``frame_for_frame`` keeps each frame's pose.
    """

    first: int
    second: int
    both_ways: bool = False
    rule: str = "ask"
    groups: list[str] = list(EVERY)
    every_s: int = 0
    follow: bool = False
    frame_for_frame: bool = False
    by_time: bool = False
    same_numbers: bool = False


@use_case("link")
def link(context: Context, asked: LinkAsked) -> Link:
    """Link two cameras. The second takes at once what the first holds and it does not.

    Raises BadInput where one of them is not known yet, receives changes already, or runs at another rate and the request does not
    say whether to link by time or frame for frame.
    """
    first, second = (row_of(context, RemoteCamera, n, "camera of a package") for n in (asked.first, asked.second))
    if asked.rule not in RULES:
        raise BadInput(f"'{asked.rule}' is not a rule: choose one of {', '.join(RULES)}.")
    groups = list(chosen_groups(asked.groups))
    if not 0 <= asked.every_s <= _MOST_EVERY_S:
        raise BadInput(f"Saving a version every {asked.every_s} s is not possible: 0 for none, up to {_MOST_EVERY_S}.")
    if first.client.show_id != second.client.show_id:
        raise BadInput("The packages are connected in different shows: connect both in one show.")
    clients = locked(context, [first.client_id, second.client_id])
    if first.id == second.id:
        raise BadInput("A camera cannot be linked with itself: choose another camera.")
    for remote in (first, second):
        require_known(remote)
    _require_free(context, first, second, asked.both_ways)
    require_timing(first, second, asked.frame_for_frame, asked.by_time)
    if asked.by_time and asked.both_ways:
        raise BadInput("A link by time goes one way: resampling back and forth would change the camera each time.")
    by_time = asked.by_time and rate_ratio(first, second) != 1.0
    row = Link(
        show_id=first.client.show_id, first_id=first.id, second_id=second.id, both_ways=asked.both_ways, rule=asked.rule, groups=groups,
        offset=0.0 if asked.same_numbers else second.first - first.first, follow=asked.follow, every_s=asked.every_s, actor=context.actor.name,
        moment_at=datetime.now(UTC), scale=rate_ratio(first, second) if by_time else None, anchor=first.first if by_time else None,
    )  # fmt: skip
    context.add(row)
    context.flush()
    context.refresh(row, ["first", "second", "show"])
    _even_out(context, row, clients)
    notify(context, f"s{row.show_id}", f"c{first.id}", f"c{second.id}")
    return row


def require_timing(source: RemoteCamera, to: RemoteCamera, frame_for_frame: bool, by_time: bool) -> None:
    """Raise BadInput where two cameras run at different rates and the request does not choose one way to time them."""
    rates = [kept_rate(s.rate) for s in (source, to)]
    if rates[0] != rates[1] and frame_for_frame == by_time:
        raise BadInput(
            f"{source.called} runs at {rate_label(rates[0])} frames/s and {to.called} at {rate_label(rates[1])} frames/s: choose by time "
            "(the camera is resampled) or frame for frame (the move takes another time there)."
        )


def _require_free(context: Context, first: RemoteCamera, second: RemoteCamera, both_ways: bool) -> None:
    """Links may form a chain. One link alone writes to a camera, and no chain leads back to where it begins."""
    for remote in (first, second) if both_ways else (second,):
        known = _writer(context, remote)
        if known is not None:
            raise BadInput(f"{remote.called} already receives changes ({known.name}): stop that link first.")
    at, seen = first, {first.id}
    while (known := _writer(context, at)) is not None:
        at = other_end(known, at)
        if at.id == second.id:
            raise BadInput(
                f"This link would close a loop: {first.called} already receives what {second.called} holds. Choose another camera."
            )
        if at.id in seen:
            return
        seen.add(at.id)


def _writer(context: Context, remote: RemoteCamera) -> Link | None:
    """The link that writes to a camera, if any."""
    return next((k for k in links_of(context, remote) if k.both_ways or k.second_id == remote.id), None)


def _even_out(context: Context, made: Link, clients: dict[int, Client]) -> None:
    """Send the second what the first holds and it does not."""
    first, second = made.first, made.second
    there = held_by(context, second)
    sent = side_to(
        side_of(first), held_by(context, first), side_of(second), there, offset=made.offset, anchor=made.anchor
    )
    for meant, wire in differing(sent, there, tuple(made.groups)):
        enqueue(context, clients[second.client_id], second, meant, wire, link=made)


@use_case("stop a link")
def stop(context: Context, row: Link) -> Link:
    """Nothing goes through any more; both sides keep what they hold."""
    locked(context, [row.first.client_id, row.second.client_id])
    if row.stopped_at is None:
        row.stopped_at = datetime.now(UTC)
        stop_clashes(context, row)
        notify(context, f"s{row.show_id}")
    return row


@use_case("resolve a conflict")
def settle(context: Context, clash: Clash, keep: str) -> Clash:
    """What both sides changed: ``keep`` "here" what the camera of the clash holds, "sent" what it was sent."""
    if keep not in ("here", "sent"):
        raise BadInput("Choose which values to keep.")
    remote = clash.remote
    ends = [remote.client_id]
    if clash.link is not None:
        ends.append(other_end(clash.link, remote).client_id)
    clients = locked(context, ends)
    context.refresh(clash, ["closed_at"])
    if clash.closed_at is not None:
        raise BadInput(f"This conflict is resolved already ({clash.chosen}).", "conflict")
    frames, groups = np.array(clash.frames, dtype=np.float64), tuple(clash.groups)
    if clash.link is None:
        clash.chosen = "values of the package kept"
        if keep == "sent":
            clash.chosen = "values written again"
            row = context.execute(
                select(ExchangeChange)
                .where(ExchangeChange.id == clash.out_id)
                .options(undefer(ExchangeChange.data), undefer(ExchangeChange.wire))
            ).scalar_one()
            meant, wire = unpacked(row.data), unpacked(row.wire or row.data)
            hit = np.isin(np.round(meant.frames, 3), np.round(frames, 3))
            enqueue(
                context, clients[remote.client_id], remote, meant.where(hit).only(groups), wire.where(hit).only(groups)
            )
    else:
        other = other_end(clash.link, remote)
        source, to = (remote, other) if keep == "here" else (other, remote)
        clash.chosen = f"{source.called}'s values kept"
        at = frames if source.id == remote.id else frames + offset_from(clash.link, remote)
        cells = held_by(context, source).cells(at, groups)
        if len(cells):
            send(context, clients, clash.link, source, to, held_by(context, source), held_by(context, to), cells)
    clash.closed_at = datetime.now(UTC)
    context.flush()
    notify(context, f"s{clash.show_id}")
    return clash


# What is to be said of a link


@dataclass(frozen=True)
class Passed:
    """What a link has done: changes that went through and are there, those on their way, and how long they took, in seconds, of
    the newest; ``oldest_s`` is how long the oldest of those on their way has waited."""

    through: int
    on_their_way: int
    delay_s: float | None
    slowest_s: float | None
    oldest_s: float | None


_NEWEST = 100


def passed(context: Context, row: Link) -> Passed:
    counts = select(
        func.count().filter(ExchangeChange.acknowledged_at.is_not(None)), func.count().filter(ExchangeChange.acknowledged_at.is_(None)),
        func.extract("epoch", func.clock_timestamp() - func.min(ExchangeChange.created_at).filter(ExchangeChange.acknowledged_at.is_(None))),
    ).where(ExchangeChange.link_id == row.id)  # fmt: skip
    through, waits, oldest = context.execute(counts).one()
    cause = ExchangeChange.__table__.alias("cause")
    took = (
        select(func.extract("epoch", ExchangeChange.acknowledged_at - cause.c.created_at))
        .join(cause, cause.c.id == ExchangeChange.cause_id)
        .where(ExchangeChange.link_id == row.id, ExchangeChange.acknowledged_at.is_not(None))
        .order_by(ExchangeChange.id.desc())
        .limit(_NEWEST)
    )
    delays = [float(d) for d in context.execute(took).scalars()]
    return Passed(
        through, waits, float(np.median(delays)) if delays else None, max(delays) if delays else None,
        float(oldest) if oldest is not None else None,
    )  # fmt: skip


def newest_changes(context: Context, row: Link, most: int = 12) -> list[dict[str, Any]]:
    """What went through a link last, the newest first, and what became of each."""
    query = (
        select(ExchangeChange)
        .where(ExchangeChange.link_id == row.id)
        .order_by(ExchangeChange.id.desc())
        .limit(most)
        .options(undefer(ExchangeChange.data), undefer(ExchangeChange.back))
    )
    changes = list(context.execute(query).scalars())
    clashed = select(Clash.out_id).where(Clash.out_id.in_([c.id for c in changes]))
    both = set(context.execute(clashed).scalars())
    out = []
    for change in changes:
        meant = unpacked(change.data)
        to = row.second if change.remote_id == row.second_id else row.first
        state = "there"
        if change.acknowledged_at is None:
            state = "in transit"
        elif change.id in both:
            state = "both changed"
        elif change.back is not None and not _as_meant(meant, unpacked(change.back)):
            state = "arrived with other values"
        out.append({"to": to.called, "frames": frames_words(meant.frames), "groups": list(meant.groups), "at": change.created_at, "state": state})  # fmt: skip
    return out


def _as_meant(meant: FramePatch, held: FramePatch) -> bool:
    """Whether a side says that it holds what it was meant to hold."""
    return (
        len(meant) == len(held)
        and bool(np.allclose(meant.frames, held.frames, rtol=0, atol=1e-3))
        and bool(meant.same_as(held.rows, 1e-7).all())
    )


def frames_words(frames: Any) -> str:
    """Frames as people say them: 1010, 1001–1120 (120 frames)."""
    first, last, count = float(frames[0]), float(frames[-1]), len(frames)
    return format_frame(first) if count == 1 else f"{format_frame(first)}–{format_frame(last)} ({count} frames)"


def clashes_in(context: Context, show: Show) -> list[Clash]:
    query = select(Clash).where(Clash.show_id == show.id, Clash.closed_at.is_(None)).order_by(Clash.id)
    return list(context.execute(query).scalars())


def link_between(context: Context, a: RemoteCamera, b: RemoteCamera) -> Link | None:
    ends = or_((Link.first_id == a.id) & (Link.second_id == b.id), (Link.first_id == b.id) & (Link.second_id == a.id))
    return context.execute(select(Link).where(ends, Link.stopped_at.is_(None))).scalars().first()


def require_known(remote: RemoteCamera) -> None:
    """Raise BadInput where nobody here knows what a camera holds."""
    if not remote.known:
        raise BadInput(
            f"What {remote.called} is not loaded yet: select it in its package and wait for its frames.", "not_known"
        )


def whole_of(context: Context, remote: RemoteCamera) -> CameraState:
    """What a camera holds. Raises BadInput where that is not known."""
    require_known(remote)
    return held_by(context, remote)


def followers(context: Context, client_id: int, frame: float) -> list[tuple[int, float]]:
    """Who follows the playhead of a client: the clients at the other ends of its links that say so, and the frame there."""
    query = select(Link).where(Link.stopped_at.is_(None), Link.follow)
    out = []
    for row in context.execute(query).scalars():
        for here, there in ((row.first, row.second), (row.second, row.first)):
            if here.client_id == client_id and here.client.selected in (None, here.key):
                out.append((there.client_id, row.frame_there(frame, from_first=here is row.first)))
    return out
