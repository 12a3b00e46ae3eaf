"""What is passed on: from one end of a link to the other, held against what the other side changed.

A change says as its base the highest number of the other way that its side held when it was made: cells that were sent
after it, and that it changes too, are a clash. Each side keeps its own there until the link's rule or a person chooses. All
of it happens under the locks of the clients concerned, taken in the order of their numbers.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
from sqlalchemy import event, func, insert, or_, select, text, update
from sqlalchemy.orm import undefer

from anaxis.app.context import Context
from anaxis.app.exchange.cells import EVERY, NOTHING, ROUNDING, CameraState, FramePatch, unpacked
from anaxis.app.exchange.sides import WireChange, side_of, side_to
from anaxis.app.webhooks.events import emit_conflict
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import kept_rate
from anaxis.core.typing import Bools, Floats
from anaxis.store.exchange import NOTIFIED, Clash, Client, ExchangeChange, Link, RemoteCamera

RULES = {
    "ask": "each side keeps its values until a person chooses",
    "first": "values of the first side win",
    "second": "values of the second side win",
}


def notify(context: Context, *events: str) -> None:
    """Tell every server, once this transaction is kept: ``p5`` something waits for client 5, ``c7`` camera 7 holds something
    else, ``s3`` something of show 3's page changed."""
    context.signals.update(dict.fromkeys(events))


_TELL = text("SELECT pg_notify(:channel, told) FROM unnest(cast(:events AS text[])) AS told")


@event.listens_for(Context, "before_commit")
def _send_notices(context: Context) -> None:
    if context.signals:
        told, context.signals = list(context.signals), {}
        context.execute(_TELL, {"channel": NOTIFIED, "events": told})


def locked(context: Context, numbers: Sequence[int]) -> dict[int, Client]:
    """The clients of these numbers, locked in order until the transaction ends."""
    query = select(Client).where(Client.id.in_(set(numbers))).order_by(Client.id).with_for_update(of=Client)
    return {p.id: p for p in context.execute(query.execution_options(populate_existing=True)).scalars()}


class Replaced(BadInput):
    """Another connection of the same package counts now."""

    code = "replaced"


def require_current(client: Client, connection: str | None) -> None:
    """Raises Replaced where a message came over a connection that no longer counts; None stands for no connection."""
    if connection is not None and client.connection != connection:
        raise Replaced(f"{client.name} connected again: the newer connection replaces this one.")


def links_of(context: Context, remote: RemoteCamera) -> list[Link]:
    """The links that a camera is an end of, and that are not stopped."""
    ends = or_(Link.first_id == remote.id, Link.second_id == remote.id)
    return list(context.execute(select(Link).where(ends, Link.stopped_at.is_(None)).order_by(Link.id)).scalars())


def other_end(link: Link, remote: RemoteCamera) -> RemoteCamera:
    return link.second if link.first_id == remote.id else link.first


def offset_from(link: Link, remote: RemoteCamera) -> float:
    """What is added to a frame of this end for the frame of the other."""
    return link.offset if link.first_id == remote.id else -link.offset


def lock_about(context: Context, remote: RemoteCamera) -> tuple[dict[int, Client], list[Link]]:
    """The client of a camera and those at the other ends of its links, locked, and the links."""
    links = links_of(context, remote)
    clients = locked(context, [remote.client_id, *(other_end(link, remote).client_id for link in links)])
    return clients, links


class PropagatedChange(NamedTuple):
    """What a camera has come to hold: the ``cells`` that are others, all it holds ``now``, behind which ``base`` of what it was sent,
    the ``cause``, a change's id, what the cameras it is linked to hold, by their numbers, and what it held ``before``."""

    remote: RemoteCamera
    cells: FramePatch
    now: CameraState
    base: int
    cause: int
    theirs: dict[int, CameraState]
    before: CameraState


Unseen = list[tuple[ExchangeChange, FramePatch]]


def propagate(context: Context, link: Link, told: PropagatedChange, clients: dict[int, Client], unseen: Unseen) -> None:
    """A change of one end of a link, for the other; where both changed the same, by the link's rule."""
    remote, to = told.remote, other_end(link, told.remote)
    cells = told.cells.only(link.groups)
    if not cells.groups or not len(cells) or not to.known:
        return
    from_first = link.first_id == remote.id
    of_link = [(sent, both.only(link.groups)) for sent, both in unseen if sent.link_id == link.id]
    if link.scale is not None:
        if from_first:
            send_in_time(context, clients, link, told.now, told.theirs[to.id], told.before, cause=told.cause)
        for sent, both in of_link if not from_first else ():
            send_in_time(context, clients, link, told.theirs[to.id], told.now, only=both, cause=sent.cause_id)
        return

    def send_theirs(sent: ExchangeChange, both: FramePatch) -> None:
        """What the other side holds is meant to be here too."""
        at = both.moved(offset_from(link, remote))
        send(context, clients, link, to, remote, told.theirs[to.id], told.now, at, cause=sent.cause_id)

    if not (link.both_ways or from_first):
        # One way: what the second changes is its own until the first changes it again.
        for sent, both in of_link:
            send_theirs(sent, both)
        return
    free = {g: np.ones(len(cells), dtype=np.bool_) for g in cells.groups}
    if link.both_ways and link.rule == "ask":
        for clash_groups, frames in open_cells(context, link, remote):
            for group in free.keys() & clash_groups:
                free[group] &= ~np.isin(np.round(cells.frames, 3), frames)
    for sent, both in of_link if link.both_ways else ():
        if link.rule == "ask":
            new = parts(both, {g: np.isin(both.frames, cells.frames[free[g]]) for g in both.groups})
            for part in new:
                _clash(context, link.show_id, remote, link, sent, part)
        elif (link.rule == "first") != from_first:
            send_theirs(sent, both)
        else:
            continue
        for group in both.groups:
            free[group] &= ~np.isin(cells.frames, both.frames)
    for part in parts(cells, free):
        send(context, clients, link, remote, to, told.now, told.theirs[to.id], part, cause=told.cause)


def parts(cells: FramePatch, masks: dict[str, Bools]) -> list[FramePatch]:
    """The cells for which the masks (k,) of their groups hold, as few blocks of frames by groups."""
    by_mask: dict[bytes, list[str]] = {}
    for group, mask in masks.items():
        if mask.any():
            by_mask.setdefault(mask.tobytes(), []).append(group)
    return [cells.where(masks[groups[0]]).only(groups) for groups in by_mask.values()]


def unseen_by(context: Context, told: PropagatedChange, client: Client) -> Unseen:
    """What a camera was sent behind its base on the same cells: each, the newest first, with the cells that both changed."""
    remote, cells = told.remote, told.cells
    if told.base >= client.last_sent or not len(cells):
        return []
    query = (
        select(ExchangeChange)
        .where(
            ExchangeChange.client_id == client.id, ExchangeChange.direction == "out", ExchangeChange.remote_id == remote.id, ExchangeChange.number > told.base,
        )
        .order_by(ExchangeChange.number.desc())
        .options(undefer(ExchangeChange.data))
    )  # fmt: skip
    out = []
    seen = {g: np.zeros(len(cells), dtype=np.bool_) for g in cells.groups}
    for sent in context.execute(query).scalars():
        theirs = unpacked(sent.data)
        hit = np.isin(np.round(cells.frames, 3), np.round(theirs.frames, 3))
        masks = {g: hit & ~seen[g] for g in cells.groups if g in theirs.groups}
        out += [(sent, part) for part in parts(cells, masks)]
        for group in masks:
            seen[group] |= hit
    return out


def against_pushed(context: Context, told: PropagatedChange, unseen: Unseen) -> None:
    """What a person had written there, and the package changed before it came: shown, and nothing is taken by itself."""
    for sent, both in unseen:
        if sent.link_id is None:
            _clash(context, told.remote.client.show_id, told.remote, None, sent, both)


def open_cells(context: Context, link: Link, remote: RemoteCamera) -> list[tuple[set[str], Floats]]:
    """The groups and frames of a link's open clashes, in the frames of one end."""
    out = []
    for clash in open_clashes(context, link):
        offset = 0.0 if clash.remote_id == remote.id else offset_from(link, clash.remote)
        out.append((set(clash.groups), np.round(np.array(clash.frames, dtype=np.float64) + offset, 3)))
    return out


def open_clashes(context: Context, link: Link) -> list[Clash]:
    query = select(Clash).where(Clash.link_id == link.id, Clash.closed_at.is_(None)).order_by(Clash.id)
    return list(context.execute(query).scalars())


def _clash(
    context: Context, show_id: int, remote: RemoteCamera, link: Link | None, sent: ExchangeChange, both: FramePatch
) -> None:
    known = select(Clash.id).where(
        Clash.remote_id == remote.id, Clash.out_id == sent.id, Clash.closed_at.is_(None), Clash.frames == both.frames.tolist(),
        Clash.groups == list(both.groups),
    )  # fmt: skip
    if context.execute(known).first() is not None:
        return
    clash = Clash(
        show_id=show_id, remote_id=remote.id, link_id=link.id if link else None, out_id=sent.id, groups=list(both.groups), frames=both.frames.tolist(),
    )  # fmt: skip
    context.add(clash)
    context.flush()
    emit_conflict(context, clash)
    notify(context, f"s{show_id}")


def send(
    context: Context, clients: dict[int, Client], link: Link, remote: RemoteCamera, to: RemoteCamera, now: CameraState, there: CameraState, cells: FramePatch,
    cause: int | None = None,
) -> None:  # fmt: skip
    """What a camera holds ``now`` on some cells, in transit to the other end, which holds ``there``."""
    held = now.on(cells.frames)
    if not len(held):
        return
    made = side_to(side_of(remote), held, side_of(to), there, cells.groups, offset_from(link, remote))
    enqueue(context, clients[to.client_id], to, made.meant, made.wire, link=link, cause=cause)


def send_in_time(
    context: Context, clients: dict[int, Client], link: Link, now: CameraState, there: CameraState, before: CameraState = NOTHING, only: FramePatch | None = None,
    cause: int | None = None,
) -> None:  # fmt: skip
    """What the first camera of a link by time holds ``now``, resampled for the second, which holds ``there``.

    Only the cells that have changed since ``before`` are sent, or those of ``only``: what else the second changed stays its own.
    """
    source, to = side_of(link.first), side_of(link.second)

    def cells_of(held: CameraState) -> WireChange:
        return side_to(source, held, to, there, offset=link.offset, anchor=link.anchor)

    sent, scale = cells_of(now), rate_ratio(link.first, link.second)
    known = there.places(sent.meant.frames)[1]
    masks = dict.fromkeys(link.groups, known)
    if only is not None:
        inside = np.isin(np.round(sent.meant.frames, 3), np.round(only.frames, 3))
        masks = dict.fromkeys(only.groups, known & inside)
        known = known | ~inside
    elif len(before) and link.scale == scale:
        old = cells_of(before).meant
        at, there_before = CameraState(old.frames, old.rows).places(sent.meant.frames)
        for group in masks:
            masks[group] = masks[group] & ~(there_before & sent.meant.only([group]).same_as(old.rows[at], ROUNDING))
    new = dict.fromkeys(EVERY, ~known)
    for mask in (new, masks):
        for meant, wire in zip(parts(sent.meant, mask), parts(sent.wire, mask), strict=True):
            enqueue(context, clients[link.second.client_id], link.second, meant, wire, link=link, cause=cause)
    link.scale = scale


def rate_ratio(first: RemoteCamera, second: RemoteCamera) -> float:
    """How many frames the second camera has for each frame of the first."""
    return float(kept_rate(second.rate) / kept_rate(first.rate))


def enqueue(
    context: Context, client: Client, to: RemoteCamera, meant: FramePatch, wire: FramePatch, link: Link | None = None, cause: int | None = None,
    replaces: bool = False, entry: dict[str, Any] | None = None,
) -> None:  # fmt: skip
    """A change for a client, whose row is locked: kept with its number, sent as soon as it is there."""
    client.last_sent += 1
    context.execute(
        insert(ExchangeChange).values(
            client_id=client.id, remote_id=to.id, direction="out", number=client.last_sent, base=client.last_received, replaces=replaces, entry=entry, data=meant.packed(),
            wire=None if wire is meant else wire.packed(), frames=len(meant), link_id=link.id if link else None, cause_id=cause, said="",
        )
    )  # fmt: skip
    notify(context, f"p{client.id}")


def stop_clashes(context: Context, link: Link) -> None:
    """With its link a clash is over: each side holds its own."""
    open_ones = update(Clash).where(Clash.link_id == link.id, Clash.closed_at.is_(None))
    context.execute(open_ones.values(closed_at=func.now(), chosen="the link was stopped"))
